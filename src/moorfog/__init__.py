"""Moorfog: respiratory fit testing, from arrival to signed result."""

__version__ = "0.1.0"
