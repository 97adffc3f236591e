"""What kinds of facepieces are called."""

from __future__ import annotations

from moorfog.data import facepiece_kinds


def kind_words(kind: str) -> str:
    """Return what a kind of facepiece is called."""
    found = facepiece_kinds().get(kind)
    return found.title if found is not None else kind
