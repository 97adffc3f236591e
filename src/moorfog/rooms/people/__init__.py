"""People: found, entered, changed, taken over from a roster; and what is on file about them.

May use facepieces and the rooms before it.
"""
