"""Instruments, sampling parts, nebulisers and lots: entered, checked, lent, found wrong.

May use accounts and sites.
"""
