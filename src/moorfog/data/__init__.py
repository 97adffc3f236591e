"""Reads the package's rule books, protocols and procedures, and hands their text to the core."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from typing import Any

from moorfog.core.advice.faces import FaceRules, read_face_rules
from moorfog.core.events.facts import Kind
from moorfog.core.kernel.codec import DataError
from moorfog.core.permission.from_before import MethodNames, read_method_names
from moorfog.core.rules.book import Book, Procedure, Protocol, Rules, pin, read_book, read_procedure, read_protocol
from moorfog.core.rules.instruments import KindRule, read_kinds
from moorfog.core.rules.kinds import read_facepiece_kinds
from moorfog.core.rules.overlay import Overlay, apply
from moorfog.core.rules.shapes import Shapes, read_shapes


def _load(folder: str, name: str) -> dict[str, Any]:
    path = files(__package__).joinpath(folder, name)
    try:
        return tomllib.loads(path.read_text("utf-8"))
    except tomllib.TOMLDecodeError as error:
        raise DataError(f"{folder}/{name}", f"not readable as TOML: {error}") from error


def _names(folder: str) -> list[str]:
    return sorted(one.name for one in files(__package__).joinpath(folder).iterdir() if one.name.endswith(".toml"))


PROCEDURE = "bench-2026.toml"
US = "us-29cfr1910-134"


@cache
def shipped_books() -> dict[str, Book]:
    """Return every shipped rule book by id: common practice first, the book's own values over it.

    Raises ``DataError`` naming file and key.
    """
    common = _load("rulebooks", "common.toml")["values"]
    books = {}
    for name in _names("rulebooks"):
        if name == "common.toml":
            continue
        data = _load("rulebooks", name)
        book = read_book({**data, "values": {**common, **data["values"]}}, name)
        _check_shapes(book, name)
        books[book.id] = book
    return books


def _check_shapes(book: Book, where: str) -> None:
    shapes = value_shapes()
    stated = [(key, one.value) for key, one in book.values.items()]
    for key, value in (*stated, *((one.key, one.value) for one in book.history)):
        if problem := shapes.problem(key, value):
            raise DataError(f"{where}.values.{key}", problem)


@cache
def value_shapes() -> Shapes:
    """Return what each value of a rule book may be. Raises ``DataError`` naming file and key."""
    path = files(__package__).joinpath("value-shapes.toml")
    return read_shapes(tomllib.loads(path.read_text("utf-8")), "value-shapes.toml")


@cache
def shipped_protocols(country: str = "US") -> tuple[Protocol, ...]:
    """Return every shipped protocol with the sources that hold in a country. Raises ``DataError`` naming file and
    key."""
    return tuple(read_protocol(cited(_load("protocols", name), country), name) for name in _names("protocols"))


def cited(part: Any, country: str) -> Any:
    """Return a part of procedure or protocol with the source that a country's readers may cite: its own law, if any."""
    if isinstance(part, list):
        return [cited(one, country) for one in part]
    if not isinstance(part, dict):
        return part
    out = {key: cited(one, country) for key, one in part.items() if key != "law"}
    return {**out, "source": part["law"].get(country, part["source"])} if "law" in part else out


@cache
def shipped_procedure(country: str = "US") -> Procedure:
    """Return the shipped procedure with the sources that hold in a country; elsewhere its questions are common
    practice. Raises ``DataError`` naming file and key."""
    return read_procedure(cited(_load("procedures", PROCEDURE), country), PROCEDURE)


@cache
def instrument_kinds() -> dict[str, KindRule]:
    """Return the kinds of instrument by id. Raises ``DataError`` naming file and key."""
    return read_kinds(tomllib.loads(files(__package__).joinpath("instruments.toml").read_text("utf-8")), "instruments")


@cache
def facepiece_kinds() -> dict[str, Kind]:
    """Return the kinds of facepiece by id. Raises ``DataError`` naming file and key."""
    return read_facepiece_kinds(tomllib.loads(files(__package__).joinpath("kinds.toml").read_text("utf-8")), "kinds")


@cache
def method_names() -> MethodNames:
    """Return how tables of before name each method. Raises ``DataError`` naming file and key."""
    path = files(__package__).joinpath("method-names.toml")
    return read_method_names(tomllib.loads(path.read_text("utf-8")), "method-names.toml")


@cache
def facepiece_forms() -> dict[str, dict[str, Any]]:
    """Return what the form for a new facepiece begins with, by family."""
    return tomllib.loads(files(__package__).joinpath("facepiece-forms.toml").read_text("utf-8"))


@cache
def face_rules() -> FaceRules:
    """Return how faces are measured, and the panel. Raises ``DataError`` naming file and key."""
    return read_face_rules(tomllib.loads(files(__package__).joinpath("faces.toml").read_text("utf-8")), "faces")


def lay_over(book: Book, entries: Sequence[Overlay]) -> Book:
    """Return a book with what a site lays over it, each entry held to what its value may be."""
    return apply(book, entries, value_shapes())


def rules_for(book: Book) -> Rules:
    """Bind a book, as shipped or with a site's overlay, to the shipped procedure and protocols."""
    return pin(book, shipped_procedure(book.country), shipped_protocols(book.country))


@cache
def shipped_rules(book_id: str = US) -> Rules:
    """Return a shipped rule book with the procedure and protocols. Raises ``DataError`` naming file and key."""
    return rules_for(shipped_books()[book_id])
