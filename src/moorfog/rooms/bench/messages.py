"""What a stream of events tells a bench besides whole states: numbers of a run, and of a proof."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog.platform.web.routing import MESSAGES

Point = tuple[int, float, str]
"""A reading: ms from t0, what it shows, where the valve stood."""


@dataclass(frozen=True)
class LiveMessage:
    """The numbers of a running run, with the readings since the message before. Geometry and words, no judgement.

    ``wall`` is what the inside must stay under on average; ``unlikely`` and ``lost`` come from the leak budget;
    ``heading`` is the deciding fit factor by what has been read so far, ``heading_bound`` its lower bound.
    """

    run_id: str
    t: int | None
    outside: str | None
    inside: str | None
    inside_live: bool
    wall: float | None
    wall_words: str | None
    shares: tuple[float, ...]
    factors: tuple[str | None, ...]
    bounds: tuple[str | None, ...]
    heading: str | None
    heading_bound: str | None
    unlikely: bool
    lost: bool
    ended_by: str
    points: tuple[Point, ...]


@dataclass(frozen=True)
class ProofMessage:
    """What the instrument reads inside while the seal is broken on purpose."""

    inside: str | None
    still: bool
    risen: bool


MESSAGES += [LiveMessage, ProofMessage]
