"""One person's visit, from arrival to release: presses, runs, readings, screens, signatures, and the live view.

May use wear and the rooms before it.
"""
