"""The catalogue of facepieces: versions that never change, import and export.

May use kit, accounts and sites.
"""
