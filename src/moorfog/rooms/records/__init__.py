"""Every test: found, taken away as a table or an archive, and what rests on kit that was found wrong.

May use papers and the rooms before it.
"""
