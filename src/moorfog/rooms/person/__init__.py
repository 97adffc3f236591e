"""One person's page, their whole file, and erasing them.

May use proof and the rooms before it.
"""
