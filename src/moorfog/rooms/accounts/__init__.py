"""Who may come in, by what, what they may do, and what they have shown that they can do.

May use sites.
"""
