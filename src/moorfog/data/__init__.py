"""Reads the package's rule books, protocols and procedures, and hands their text to the core."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files
from typing import Any

from moorfog.core.codec import DataError
from moorfog.core.rules import Rules, pin, read_book, read_procedure, read_protocol


def _load(folder: str, name: str) -> dict[str, Any]:
    path = files(__package__).joinpath(folder, name)
    try:
        return tomllib.loads(path.read_text("utf-8"))
    except tomllib.TOMLDecodeError as error:
        raise DataError(f"{folder}/{name}", f"not readable as TOML: {error}") from error


def _names(folder: str) -> list[str]:
    return sorted(one.name for one in files(__package__).joinpath(folder).iterdir() if one.name.endswith(".toml"))


@cache
def shipped_rules(book_name: str = "us-29cfr1910-134.toml", procedure_name: str = "bench-2026.toml") -> Rules:
    """Return the shipped rule book with its procedure and protocols. Raises ``DataError`` naming file and key."""
    protocols = tuple(read_protocol(_load("protocols", name), name) for name in _names("protocols"))
    return pin(
        read_book(_load("rulebooks", book_name), book_name),
        read_procedure(_load("procedures", procedure_name), procedure_name),
        protocols,
    )
