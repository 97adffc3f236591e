"""Pass results by mask model and size.

May use records and the rooms before it.
"""
