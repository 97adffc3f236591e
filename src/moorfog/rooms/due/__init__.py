"""Who is due, as a list, a calendar, invitations and notices.

May use mail and the rooms before it.
"""
