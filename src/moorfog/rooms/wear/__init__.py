"""Whether somebody may wear a facepiece at a task on a day; reports of change, results of before, changes of rules.

May use people and the rooms before it.
"""
