"""What a screen, a paper or a signature shows of a visit at a moment, in words, with nothing left to judge.

No room below may import this one: what is shown decides nothing.
"""
