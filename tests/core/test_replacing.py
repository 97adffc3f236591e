"""Changed copies: as dataclasses.replace makes them, without what was remembered on the original."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.kernel.replacing import made, replace


@dataclass(frozen=True)
class Pair:
    left: int
    right: int = 2
    memo: dict[str, int] = field(default_factory=dict, init=False, compare=False)

    @cached_property
    def total(self) -> int:
        return self.left + self.right


@given(st.integers(), st.integers(), st.dictionaries(st.sampled_from(["left", "right"]), st.integers()))
def test_it_is_what_the_standard_library_makes(left: int, right: int, changes: dict[str, Any]) -> None:
    one = Pair(left, right)
    assert one.total == left + right
    one.memo["seen"] = 1
    changed = replace(one, **changes)
    assert changed == dataclasses.replace(one, **changes)
    assert changed.total == changed.left + changed.right, "what was computed from the old fields is computed anew"
    assert changed.memo == {} and one.memo == {"seen": 1} and one == Pair(left, right)


@pytest.mark.parametrize("name", ["middle", "memo", "total"])
def test_what_is_no_field_to_change_is_refused(name: str) -> None:
    with pytest.raises(TypeError, match=f"Pair has no field '{name}' to change"):
        replace(Pair(1), **{name: 3})


@dataclass(frozen=True)
class Plain:
    left: int
    right: int = 2


def test_one_made_of_all_its_fields_is_as_its_class_makes_it() -> None:
    assert made(Plain, left=1, right=3) == Plain(1, 3) and hash(made(Plain, left=1, right=3)) == hash(Plain(1, 3))
    for given_fields in ({"left": 1}, {"left": 1, "right": 2, "more": 3}):
        with pytest.raises(TypeError, match="all of its fields"):
            made(Plain, **given_fields)  # type: ignore[call-arg,arg-type]
