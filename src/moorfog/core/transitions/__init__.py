"""How a visit moves: the fold that turns a log into a state, the gate that admits a proposal or refuses it with a
reason, and what may be done next.

The fold is total and never raises. Only here is an event applied to a visit.
"""
