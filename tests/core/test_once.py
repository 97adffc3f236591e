"""Answers remembered on an object that never changes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

from moorfog.core.kernel.cached import cached
from moorfog.core.kernel.replacing import replace as copy_with

ASKED: list[tuple[int, int]] = []


@dataclass(frozen=True)
class Length:
    """A length in mm."""

    mm: int

    @cached
    def times(self, by: int = 1) -> int:
        """Return the length so many times over."""
        ASKED.append((self.mm, by))
        return self.mm * by


def test_it_is_worked_out_once_for_each_object_and_argument() -> None:
    ASKED.clear()
    one, other = Length(3), Length(4)
    assert [one.times(), one.times(), one.times(2), one.times(by=2), one.times(by=2), other.times()] == [
        3,
        3,
        6,
        6,
        6,
        4,
    ]
    assert ASKED == [(3, 1), (3, 2), (3, 2), (4, 1)]


def test_a_changed_copy_remembers_nothing_and_equality_ignores_it() -> None:
    one = Length(3)
    assert one.times(5) == 15
    for change in (replace, copy_with):
        assert partial(change, one, mm=7)().times(5) == 35
    assert one == Length(3) and hash(one) == hash(Length(3))
