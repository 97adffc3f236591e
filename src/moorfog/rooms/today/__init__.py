"""Who is here now, what is open and what was finished today.

May use due and the rooms before it.
"""
