"""What a link is told to do: the plan of a run, or of the proof of one."""

from __future__ import annotations

from typing import Any, Required

from typing_extensions import TypedDict


class RunPlan(TypedDict, total=False):
    """A run as its link carries it out. Windows as [start ms, end ms, valve] from t0.

    Of a run whose plan the link has, only ``run_id`` and ``stop`` are said. ``proof_of``: the run whose proof this
    reads; ``proof``: how it is
    judged; ``simulated``: what a simulated instrument is to show.
    """

    run_id: Required[str]
    stop: bool
    t0: str
    speed: int
    mode: str
    windows: list[list[int | str]]
    total_ms: int
    may_end_early: bool
    level_key: str
    protocol: dict[str, Any]
    simulated: dict[str, Any]
    proof_of: str
    proof: dict[str, Any]
