"""A visit at a moment: its state, its tries, what "not fine" does to them, the proof of a held verdict, the screens
it waits for, and the judgement of all of it with its reasons.

A try only gets worse: nothing in here makes an outcome better from the start of its run on. No event is applied
here.
"""
