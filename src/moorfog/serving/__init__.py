"""How the parts of the program are started, watched and stopped, how what it holds is backed up and brought back.

`demo`, `dev`, `run` and `serve` use it.
"""
