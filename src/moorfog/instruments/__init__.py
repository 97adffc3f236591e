"""Processes of their own beside an instrument: the line protocol, the link that drives it, simulated instruments.

They know the core and speak HTTP with the rest.
"""
