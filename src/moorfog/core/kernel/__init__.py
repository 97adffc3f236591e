"""What everything else stands on: exact arithmetic, canonical JSON, the codec of frozen dataclasses, and small
helpers that keep the fold fast.

Nothing here knows of masks, rules or people. Nothing here may import another room.
"""
