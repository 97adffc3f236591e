"""Strict reading of plain data (from TOML or JSON) into frozen dataclasses, and back.

Nothing is coerced and nothing is guessed: an unknown key, a missing key or a wrong type is an error that names
the file and the key. Used for rule books, protocols, procedures and stored events alike.
"""

from __future__ import annotations

import dataclasses
import reprlib
import types
import typing
from collections.abc import Callable, Mapping
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
    shape: Any = kind
    try:
        return typing.cast(T, reader_of(shape)(data))
    except _Unfit:
        return typing.cast(T, _decode(kind, data, where))  # once more, slowly, to say where and why


class _Unfit(Exception):
    """Data that does not fit; where and why is found out afterwards."""


Reader = Callable[[Any], Any]


@cache
def reader_of(kind: Any) -> Reader:
    """Return a function that reads data as ``kind`` or raises, without keeping track of where it is."""
    origin = typing.get_origin(kind)
    if dataclasses.is_dataclass(kind) and isinstance(kind, type):
        return _dataclass_reader(kind)
    if origin is typing.Literal:
        return _literal_reader(typing.get_args(kind))
    if origin in (typing.Union, types.UnionType):
        return _union_reader(typing.get_args(kind))
    if origin is tuple:
        return _tuple_reader(typing.get_args(kind)[0])
    if origin in (dict, Mapping):
        return _mapping_reader(typing.get_args(kind)[1])
    if kind is Any:
        return lambda data: data
    exact = type(None) if kind is None else kind

    def read(data: Any) -> Any:
        if type(data) is not exact:
            raise _Unfit
        return data

    return read


def _literal_reader(options: tuple[Any, ...]) -> Reader:
    allowed = frozenset((type(one), one) for one in options)

    def read(data: Any) -> Any:
        if not isinstance(data, (str, int)) or (type(data), data) not in allowed:
            raise _Unfit
        return data

    return read


def _union_reader(options: tuple[Any, ...]) -> Reader:
    readers = tuple(reader_of(one) for one in options)

    def read(data: Any) -> Any:
        for each in readers:
            try:
                return each(data)
            except _Unfit:
                continue
        raise _Unfit

    return read


def _tuple_reader(inner: Any) -> Reader:
    each = reader_of(inner)
    is_plain = inner in (int, str)

    def read(data: Any) -> Any:
        if not isinstance(data, (list, tuple)):
            raise _Unfit
        if not is_plain:
            return tuple(map(each, data))
        if not set(map(type, data)) <= {inner}:
            raise _Unfit
        return tuple(data)

    return read


def _mapping_reader(inner: Any) -> Reader:
    each = reader_of(inner)
    is_open = inner is Any

    def read(data: Any) -> Any:
        if type(data) is not dict and not isinstance(data, Mapping):
            raise _Unfit
        return dict(data) if is_open else {key: each(one) for key, one in data.items()}

    return read


def _dataclass_reader(cls: type) -> Reader:
    readers = {name: reader_of(hint) for name, hint in _hints(cls).items()}
    required = _required(cls)

    def read(data: Any) -> Any:
        if not isinstance(data, Mapping) or not required <= data.keys() <= readers.keys():
            raise _Unfit
        return cls(**{name: readers[name](value) for name, value in data.items()})

    return read


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


@cache
def _names(cls: type) -> tuple[str, ...]:
    return tuple(one.name for one in dataclasses.fields(cls)) if dataclasses.is_dataclass(cls) else ()


def encode(value: Any) -> Any:
    """Turn a dataclass into plain data (dicts, lists, text, whole numbers), ready for canonical JSON."""
    if value is None or isinstance(value, (str, int)):
        return value
    if isinstance(value, (list, tuple)):
        return [encode(one) for one in value]
    shape: Any = type(value)
    names = _names(shape)
    if names:
        return {name: encode(getattr(value, name)) for name in names}
    if isinstance(value, Mapping):
        return {key: encode(one) for key, one in value.items()}
    return value
