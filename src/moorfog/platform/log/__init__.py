"""Logs of visits, ledgers of everything else, and the read models that follow in the same transaction.

It knows the tables of the rooms, as it holds their rows; it knows no operation of theirs.
"""
