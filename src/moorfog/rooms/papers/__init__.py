"""Papers of a visit: report, card and letter, each made once and kept, and the codes on them.

May use bench and the rooms before it.
"""
