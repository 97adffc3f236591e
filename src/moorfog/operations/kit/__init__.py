"""Facepieces, instruments, solutions and parts: entered, checked, found wrong."""
