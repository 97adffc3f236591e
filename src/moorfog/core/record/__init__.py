"""The open record of a visit, and its recomputation from itself alone.

It may use every other room. Nothing imports it but operations and the command line.
"""
