"""Strict reading of plain data (from TOML or JSON) into frozen dataclasses, and back.

Nothing is coerced and nothing is guessed: an unknown key, a missing key or a wrong type is an error that names
the file and the key. Used for rule books, protocols, procedures and stored events alike.
"""

from __future__ import annotations

import dataclasses
import reprlib
import types
import typing
from collections.abc import Mapping
from functools import cache
from typing import Any, TypeVar

T = TypeVar("T")


class DataError(ValueError):
    """Data that does not have the shape it must have. Keeps where it was found and what was expected."""

    def __init__(self, where: str, problem: str) -> None:
        super().__init__(f"{where}: {problem}")
        self.where = where
        self.problem = problem


@cache
def _hints(cls: type) -> dict[str, Any]:
    hints = typing.get_type_hints(cls)
    return {f.name: hints[f.name] for f in dataclasses.fields(cls)}


@cache
def _required(cls: type) -> frozenset[str]:
    missing = dataclasses.MISSING
    return frozenset(f.name for f in dataclasses.fields(cls) if f.default is missing and f.default_factory is missing)


def decode(kind: type[T], data: Any, where: str) -> T:
    """Read ``data`` (as parsed from TOML or JSON) as the dataclass ``kind``.

    ``where`` names the source ("us.toml") and prefixes every error. Raises :class:`DataError` for an unknown or
    missing key and for a value of another type; whole numbers are not taken for truth values nor the reverse.
    """
    return typing.cast(T, _decode(kind, data, where))


def _decode(kind: Any, data: Any, where: str) -> Any:
    origin = typing.get_origin(kind)
    if dataclasses.is_dataclass(kind) and isinstance(kind, type):
        return _decode_dataclass(kind, data, where)
    if origin is typing.Literal:
        allowed = typing.get_args(kind)
        if not any(type(data) is type(one) and data == one for one in allowed):
            raise DataError(where, f"{data!r} is not one of {', '.join(map(repr, allowed))}")
        return data
    if origin in (typing.Union, types.UnionType):
        return _decode_union(kind, data, where)
    if origin is tuple:
        if not isinstance(data, (list, tuple)):
            raise DataError(where, f"a list is expected, {type(data).__name__} was given")
        inner = typing.get_args(kind)[0]
        if inner in (int, str) and all(type(one) is inner for one in data):
            return tuple(data)  # columns of readings: nothing to look into
        return tuple(_decode(inner, one, f"{where}[{index}]") for index, one in enumerate(data))
    if origin in (dict, Mapping):
        if not isinstance(data, Mapping):
            raise DataError(where, f"a table is expected, {type(data).__name__} was given")
        inner = typing.get_args(kind)[1]
        return {key: _decode(inner, one, f"{where}.{key}") for key, one in data.items()}
    if kind is Any:
        return data
    if kind is type(None):
        if data is not None:
            raise DataError(where, f"nothing is expected here, {data!r} was given")
        return None
    if type(data) is not kind:
        raise DataError(where, f"{kind.__name__} is expected, {type(data).__name__} {reprlib.repr(data)} was given")
    return data


def _decode_union(kind: Any, data: Any, where: str) -> Any:
    problems: list[DataError] = []
    for option in typing.get_args(kind):
        try:
            return _decode(option, data, where)
        except DataError as error:
            problems.append(error)
    deepest = max(problems, key=lambda one: len(one.where))
    raise deepest


def _decode_dataclass(kind: type, data: Any, where: str) -> Any:
    if not isinstance(data, Mapping):
        raise DataError(where, f"a table is expected, {type(data).__name__} was given")
    hints = _hints(kind)
    unknown = sorted(set(data) - set(hints))
    if unknown:
        raise DataError(f"{where}.{unknown[0]}", f"unknown key; known are {', '.join(sorted(hints))}")
    missing = sorted(_required(kind) - set(data))
    if missing:
        raise DataError(f"{where}.{missing[0]}", "this key is missing")
    values = {name: _decode(hints[name], value, f"{where}.{name}") for name, value in data.items()}
    return kind(**values)


def encode(value: Any) -> Any:
    """Turn a dataclass into plain data (dicts, lists, text, whole numbers), ready for canonical JSON."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: encode(getattr(value, f.name)) for f in dataclasses.fields(value)}
    if isinstance(value, Mapping):
        return {key: encode(one) for key, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [encode(one) for one in value]
    return value
