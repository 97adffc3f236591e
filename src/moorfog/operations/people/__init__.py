"""People: entered, changed, left, back, made one; what is on file about them, and what they may wear.

Medical detail is never stored.
"""
