"""The job itself: rules, events, admit, fold, arithmetic, judgement, simulation.

What may enter here: the standard library, NumPy and ``scipy.special``. What may not: a framework, a file, a
socket, a clock, a source of randomness that was not handed in. An import contract checks it.
"""
