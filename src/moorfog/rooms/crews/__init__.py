"""Tomorrow's crew: who may wear what, saved crews, the board, the gate, and their papers.

May use results and the rooms before it.
"""
