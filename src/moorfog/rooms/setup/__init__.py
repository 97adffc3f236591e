"""Setting up an installation: the first administrator, and what is missing before the first test.

May use every other room.
"""
