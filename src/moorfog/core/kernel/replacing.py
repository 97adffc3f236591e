"""Frozen dataclasses and changed copies of them, made quickly: a fold makes hundreds of them for one visit."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from functools import cache
from typing import TYPE_CHECKING, Any, ParamSpec, TypeVar

T = TypeVar("T")
P = ParamSpec("P")


def made(cls: Callable[P, T], *none: P.args, **values: P.kwargs) -> T:
    """Return a dataclass without ``__post_init__`` or slots, made of every one of its fields by name.

    Raises ``TypeError`` unless as many are given as it has; the type checker knows their names.
    """
    shape: Any = cls
    if none or len(values) != len(_shape(shape)[0]):
        raise TypeError(f"{shape.__name__} is made of all of its fields, by name")
    new: T = object.__new__(shape)
    new.__dict__.update(values)
    return new


@cache
def _shape(cls: Any) -> tuple[frozenset[str], tuple[tuple[str, Callable[[], Any]], ...]]:
    """Return the fields a class is made with, and those it begins anew, with how."""
    fields = dataclasses.fields(cls)
    anew = [(one.name, one.default_factory) for one in fields if not one.init]
    return frozenset(one.name for one in fields if one.init), tuple(
        (name, factory) for name, factory in anew if factory is not dataclasses.MISSING
    )


def _replace(one: T, /, **changes: Any) -> T:
    """Return a copy of a dataclass without ``__post_init__`` or slots, with fields changed.

    What was computed from the old fields and remembered on it is left behind. Raises ``TypeError`` for what is no
    field.
    """
    cls: Any = type(one)
    names, anew = _shape(cls)
    if not changes.keys() <= names:
        raise TypeError(f"{cls.__name__} has no field {sorted(changes.keys() - names)[0]!r} to change")
    new: T = object.__new__(cls)
    state = new.__dict__
    state.update(one.__dict__)
    if len(state) != len(names):
        for name in state.keys() - names:
            del state[name]
    state.update(changes)
    for name, factory in anew:
        state[name] = factory()
    return new


if TYPE_CHECKING:  # the type checker knows the fields of dataclasses.replace, and holds ours to the same
    from dataclasses import replace
else:
    replace = _replace

__all__ = ["made", "replace"]
