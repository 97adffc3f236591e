"""Moorfog: respiratory fit testing, from arrival to signed result."""

__version__ = "0.2.0"
