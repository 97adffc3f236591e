"""The outbox: letters that are to be sent, were sent, or could not be.

May use crews and the rooms before it.
"""
