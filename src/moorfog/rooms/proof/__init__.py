"""The journal, the anchors, and whether what is stored is what was stored.

May use today and the rooms before it.
"""
