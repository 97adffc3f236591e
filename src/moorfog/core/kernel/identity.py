"""Asking a pure function the same thing again about the same rules: a key that stands for one very object."""

from __future__ import annotations

from typing import Generic, TypeVar

T = TypeVar("T")


class Identity(Generic[T]):
    """Stands for one object as a key of a cache: equal only to another key for the very same object, which it keeps."""

    __slots__ = ("one",)

    def __init__(self, one: T) -> None:
        self.one = one

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Identity) and other.one is self.one

    def __hash__(self) -> int:
        return id(self.one)
