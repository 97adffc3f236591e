"""Answers that many routes give."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response


@dataclass(frozen=True)
class Made:
    """The id of what was made."""

    id: str


def no_content() -> Response:
    """Return the answer to what was done and has nothing to say."""
    return Response(status=204)
