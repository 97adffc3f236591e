"""Rule books, protocols and procedures: dated data, read strictly, pinned to a visit by digest.

A number never stands in a formula: it stands in a data file with its unit, the day it came into force, where it
was taken from and how sure that is. This module parses what is handed to it; it opens no file.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any, Literal

from moorfog.core.kernel.arithmetic import whole_or_cut
from moorfog.core.kernel.cached import cached
from moorfog.core.kernel.canonical import digest, digest_of_json
from moorfog.core.kernel.codec import DataError, decode, encode
from moorfog.core.rules.former import present
from moorfog.core.rules.protocols import Protocol as Protocol
from moorfog.core.rules.protocols import Standing, check_dates
from moorfog.core.rules.protocols import read_protocol as read_protocol

StrictDirection = Literal["higher", "lower", "subset", "none"]
Gravity = Literal["stop", "put_right", "note"]


FACTS = ("kind", "configuration", "donning", "adjustment", "try", "task", "method", "screening")
"""What an answer may depend on."""


@dataclass(frozen=True)
class Value:
    """One value of a rule book. ``strict`` says in which direction a site may change it without giving a reason."""

    value: str | int | bool | tuple[str, ...]
    unit: str
    source: str
    standing: Standing
    strict: StrictDirection
    in_force: str
    note: str = ""
    changed: str = ""
    """What a site put in the place of the shipped value, and why; empty where it stands as shipped."""
    checked: str = ""
    """Which copy a site has checked it against, on which day, by whom; empty where nobody has."""
    law: bool = False
    """Fixed by a law: what a site makes looser than this is its own rule and no longer goes by the book's name."""
    off: bool = False
    """Shipped switched off: remembered too vaguely to be used before a site has checked or changed it."""

    @property
    def is_on(self) -> bool:
        """True unless it waits for a site to confirm it."""
        return not self.off or bool(self.checked or self.changed)


@dataclass(frozen=True)
class Dated:
    """A value of a book on other days than those of its own entry: what it was before, or will be from a day on."""

    key: str
    value: str | int | bool | tuple[str, ...]
    in_force: str
    source: str
    standing: Standing


@dataclass(frozen=True)
class Blank:
    """A value the book does not state here. It stays blank until a site enters it from its own copy."""

    key: str
    unit: str
    why: str


@dataclass(frozen=True)
class Book:
    """A rule book: levels, intervals, tolerances and the protocols it allows.

    ``protocols_on_confirmation`` may be run under it once the site has confirmed that its copy allows them. A value
    counts from the day on which it is in force; ``history`` has what it is on other days, see :meth:`on`.
    """

    id: str
    title: str
    edition: str
    in_force: str
    seal_check_word: str
    protocols: tuple[str, ...]
    values: dict[str, Value]
    country: str = ""
    protocols_on_confirmation: tuple[str, ...] = ()
    blank: tuple[Blank, ...] = ()
    history: tuple[Dated, ...] = ()
    unsettled: tuple[str, ...] = ()
    """Keys for which a site has an entry that nobody can read: until it is settled, nothing passes under this book."""

    @property
    def changes(self) -> tuple[str, ...]:
        """Return the days, YYYY-MM-DD, on which a value of the book becomes another one."""
        return self._changes()

    @cached
    def _changes(self) -> tuple[str, ...]:
        days = {one.in_force for one in self.values.values()} | {one.in_force for one in self.history}
        return tuple(sorted(days - {""}))

    def on(self, day: str) -> Book:
        """Return the book as it is in force on a day: what begins later is not in it, and where nothing has begun yet
        the book is silent."""
        return self._since(max((one for one in self.changes if one <= day), default=""))

    @cached
    def _since(self, since: str) -> Book:
        found: dict[str, Value] = {}
        for key, value in self.values.items():
            others = (one for one in self.history if one.key == key)
            dated = [value, *(replace(value, **{n: getattr(one, n) for n in _DATED}) for one in others)]
            begun = [one for one in dated if one.in_force <= since]
            if begun:
                found[key] = max(begun, key=lambda one: one.in_force)
        return replace(self, values=found, history=())

    def find(self, key: str) -> Value | None:
        """Return the value called ``key``, or None where the book is silent (unknown is never a pass)."""
        found = self.values.get(key)
        return found if found is not None and found.is_on else None

    def minutes(self, key: str) -> str:
        """Return a value in seconds as minutes, for a sentence; "some" where the book is silent."""
        seconds = self.ratio(key)
        return whole_or_cut(seconds / 60) if seconds is not None else "some"

    @cached
    def ratio(self, key: str) -> Fraction | None:
        """Return a number of the book exactly, or None where the book is silent."""
        found = self.find(key)
        if found is None or isinstance(found.value, (bool, tuple)):
            return None
        return Fraction(found.value)

    def number(self, key: str) -> Fraction:
        """Return a number the program cannot do without. Raises :class:`DataError` naming the book and the key."""
        found = self.ratio(key)
        if found is None:
            raise DataError(f"{self.id}.values.{key}", "this rule book must state a number here")
        return found

    def words(self, key: str) -> tuple[str, ...]:
        """Return a list value, empty where the book is silent."""
        found = self.find(key)
        return found.value if found is not None and isinstance(found.value, tuple) else ()

    def text(self, key: str) -> str:
        """Return a text value, empty where the book is silent."""
        found = self.find(key)
        return found.value if found is not None and isinstance(found.value, str) else ""

    def yes(self, key: str) -> bool | None:
        """Return a truth value, or None where the book is silent."""
        found = self.find(key)
        return found.value if found is not None and isinstance(found.value, bool) else None


@dataclass(frozen=True)
class When:
    """On which facts an item applies; an empty list puts no condition."""

    kinds: tuple[str, ...] = ()
    families: tuple[str, ...] = ()
    valve: tuple[bool, ...] = ()
    filters: tuple[bool, ...] = ()
    cover: tuple[str, ...] = ()
    probe: tuple[str, ...] = ()
    methods: tuple[str, ...] = ()
    unless_methods: tuple[str, ...] = ()
    altered: tuple[bool, ...] = ()
    acknowledged: tuple[bool, ...] = ()
    numbers: tuple[str, ...] = ()
    suspensions: tuple[str, ...] = ()
    worn: tuple[bool, ...] = ()
    donned: tuple[bool, ...] = ()
    tried: tuple[bool, ...] = ()
    on_file: tuple[Literal["trained", "untrained"], ...] = ()
    cleared: tuple[bool, ...] = ()
    wore: tuple[bool, ...] = ()
    distress: tuple[bool, ...] = ()
    mistaken: tuple[bool, ...] = ()
    rule: tuple[tuple[str, ...], ...] = ()
    """Texts of the book that must read so, as pairs of key and text: which of two policies is followed."""


@dataclass(frozen=True)
class Item:
    """One item of the procedure: a question to ask or observe, or an act to do.

    ``depends_on`` names the facts an answer holds for: another value of one makes the answer stale (= unanswered).
    ``before`` says what it must be settled for: the run, the pass, or the release of the wearer. ``wait`` names the
    book's value (minutes) that must have gone by since; ``voids`` and ``refuses`` say what "not fine" does to a try.
    ``policy`` names the book's value that says which policy is followed, where there are several. ``after_wear`` and
    ``after_clear`` wait for the clock of wear and of clearing; ``check`` says of what kit the answer is a check;
    ``shows_cautions`` puts the method's cautions on the card. "Not fine" to ``mistake`` ends the visit as opened for
    the wrong person, to ``unwell`` it is distress. Until ``closes_senses`` is answered a detection still counts.
    ``note`` names the act of an instrument that "fine" says was done to the one that was read.

    ``look`` names what the item is looked at together with, on one card, and ``line`` is what is so when it is fine;
    an item that stops the test has none. ``fine`` and ``not_fine`` are its answers in words where they are its own.
    """

    id: str
    step: str
    before: Literal["run", "pass", "release"]
    title: str
    say: str
    source: str
    standing: Standing
    act: str = ""
    mode: Literal["observe", "ask", "do"] = "ask"
    gravity: Gravity = "put_right"
    depends_on: tuple[str, ...] = ()
    remedy: str = ""
    consequence: str = ""
    drawing: str = ""
    drawn_as: str = ""
    policy: str = ""
    wait: str = ""
    after_wear: bool = False
    after_clear: bool = False
    check: Literal["", "nebuliser"] = ""
    shows_cautions: bool = False
    voids: bool = False
    refuses: bool = False
    mistake: bool = False
    closes_senses: bool = False
    unwell: bool = False
    note: str = ""
    look: str = ""
    line: str = ""
    fine: str = ""
    not_fine: str = ""
    when: When = When()

    @property
    def keys(self) -> tuple[str, ...]:
        """Values of the book that the question rests on: what it waits for, and the policy that is followed."""
        waits = ("wear.minimum",) if self.after_wear else ()
        return (*waits, *(one for one in (self.wait, self.policy) if one))


@dataclass(frozen=True)
class Step:
    """A waymark of the visit."""

    id: str
    name: str


@dataclass(frozen=True)
class Look:
    """What is looked at or asked together: one card, one key for "all as it should be", a digit for what is not."""

    id: str
    title: str
    say: str


@dataclass(frozen=True)
class Alteration:
    """Something altered for the test that must be put back: words for opening, for closing, and by when it closes.

    ``airs``: only for facepieces whose air is cleaned, supplied or carried so; empty for any.
    """

    id: str
    opened: str
    put_back: str
    say: str
    before: Literal["run", "release"]
    probe: tuple[str, ...] = ()
    families: tuple[str, ...] = ()
    airs: tuple[str, ...] = ()
    test_filters: bool = False
    by_hand: bool = False
    covers: tuple[str, ...] = ()
    methods: tuple[str, ...] = ()


@dataclass(frozen=True)
class SealRule:
    """Which user seal checks a kind of facepiece allows, and how each is done. All that can be done are done."""

    checks: tuple[Literal["positive", "negative"], ...]
    positive: str
    negative: str
    source: str
    standing: Standing
    when: When
    held: tuple[Literal["positive", "negative"], ...] = ()
    """Those of its checks that are held for the book's seconds, timed from key to key."""


@dataclass(frozen=True)
class LeakRemedy:
    """What to do about a leak at a place of the seal, for some families of facepiece; the first that fits counts."""

    places: tuple[str, ...]
    remedy: str
    families: tuple[str, ...] = ()


@dataclass(frozen=True)
class NoTest:
    """Something people do in the place of a fit test: why it is none, and what there is instead."""

    name: str
    why: str
    instead: str


@dataclass(frozen=True)
class Procedure:
    """Which questions, in which order, how grave, depending on what."""

    id: str
    title: str
    edition: str
    in_force: str
    step: tuple[Step, ...]
    alteration: tuple[Alteration, ...]
    seal_check: tuple[SealRule, ...]
    item: tuple[Item, ...]
    limits_of_use: tuple[str, ...]
    terms: str
    leak_remedy: tuple[LeakRemedy, ...] = ()
    no_test: tuple[NoTest, ...] = ()
    look: tuple[Look, ...] = ()

    def find(self, item_id: str) -> Item | None:
        """Return the item with this id, or None."""
        return self._by_id().get(item_id)

    @cached
    def _by_id(self) -> dict[str, Item]:
        return {one.id: one for one in self.item}


@dataclass(frozen=True)
class Rules:
    """Everything a visit is judged by, pinned when it opens. ``digest`` names the set.

    ``stored``: the plain data it was read from, where it was: a set of before may lack keys that came later, and goes
    out again as it came in.
    """

    book: Book
    procedure: Procedure
    protocols: tuple[Protocol, ...]
    digest: str
    stored: Mapping[str, Any] | None = field(default=None, compare=False, repr=False)

    def protocol(self, protocol_id: str) -> Protocol | None:
        """Return the protocol if this set holds it and the book allows it."""
        return self._allowed().get(protocol_id)

    @cached
    def _allowed(self) -> dict[str, Protocol]:
        return {one.id: one for one in reversed(self.protocols) if one.id in self.book.protocols}

    def protocols_for(self, method: str, kind: str) -> tuple[Protocol, ...]:
        """Return the protocols of a method that this set allows for a facepiece kind, in the book's own order."""
        allowed = (self.protocol(one) for one in self.book.protocols)
        return tuple(one for one in allowed if one is not None and one.method == method and kind in one.kinds)

    def protocol_for(self, method: str, kind: str) -> Protocol | None:
        """Return the first protocol of a method that this set allows for a facepiece kind, or None."""
        return next(iter(self.protocols_for(method, kind)), None)


_DATED = ("value", "in_force", "source", "standing")


def read_book(data: Mapping[str, Any], where: str) -> Book:
    """Read a rule book from parsed TOML. Raises :class:`DataError` naming file and key."""
    book = decode(Book, data, where)
    for index, one in enumerate(book.history):
        check_dates(f"{where}.history[{index}]", one.in_force)
        if one.key not in book.values:
            raise DataError(f"{where}.history[{index}].key", f"{one.key!r} is no value of this book")
    check_dates(where, book.in_force, may_lack=True)
    for key, value in book.values.items():
        check_dates(f"{where}.values.{key}", value.in_force, may_lack=True)
        if not value.source.strip():
            raise DataError(f"{where}.values.{key}.source", "every value needs a source")
    return book


def read_procedure(data: Mapping[str, Any], where: str) -> Procedure:
    """Read a procedure from parsed TOML; ids must be unique and steps known. Raises :class:`DataError`."""
    procedure = decode(Procedure, data, where)
    check_dates(where, procedure.in_force)
    steps = {step.id for step in procedure.step}
    seen: set[str] = set()
    for index, item in enumerate(procedure.item):
        spot = f"{where}.item[{index}]"
        if item.id in seen:
            raise DataError(f"{spot}.id", f"{item.id!r} is used twice")
        if item.step not in steps:
            raise DataError(f"{spot}.step", f"{item.step!r} is not a step of this procedure")
        for name in item.depends_on:
            if name not in FACTS:
                raise DataError(f"{spot}.depends_on", f"{name!r} is no fact; {', '.join(FACTS)} are")
        if item.look:
            _check_look(procedure, item, spot)
        seen.add(item.id)
    return procedure


def _check_look(procedure: Procedure, item: Item, spot: str) -> None:
    """Refuse what may not be settled together with others: an act, what stops the test, what has no line of its own."""
    if item.look not in {one.id for one in procedure.look}:
        raise DataError(f"{spot}.look", f"{item.look!r} is not a look of this procedure")
    if item.act or item.gravity == "stop":
        raise DataError(f"{spot}.look", "an act, and what stops the test, has a card of its own")
    if not item.line:
        raise DataError(f"{spot}.line", "an item of a look needs the line that says what is so when it is fine")


def pin(book: Book, procedure: Procedure, protocols: tuple[Protocol, ...]) -> Rules:
    """Bind book, procedure and the protocols the book allows into one set with its digest; the procedure's questions
    then say the book's own values.

    Raises :class:`DataError` if the book allows a protocol that was not handed over.
    """
    allowed = tuple(one for one in protocols if one.id in book.protocols)
    missing = set(book.protocols) - {one.id for one in allowed}
    if missing:
        raise DataError(f"{book.id}.protocols", f"{sorted(missing)[0]!r} is allowed but not known")
    values = {key: str(one.value) for key, one in book.values.items()} | _of_protocols(allowed)
    items = tuple(
        replace(
            one,
            title=_with_values(one.title, values),
            say=_with_values(one.say, values),
            line=_with_values(one.line, values),
            remedy=_with_values(one.remedy, values),
        )
        for one in procedure.item
    )
    procedure = replace(procedure, item=items)
    content = {"book": encode(book), "procedure": encode(procedure), "protocols": encode(allowed)}
    return Rules(book, procedure, allowed, digest(content))


_KEY = re.compile(r"\{([a-z_.]+)\}")


def _with_values(text: str, values: Mapping[str, str]) -> str:
    """Return a text of the procedure with values in the place of their keys, such as {smoking.wait}."""
    return _KEY.sub(lambda found: values.get(found[1], found[0]), text)


def _of_protocols(protocols: Sequence[Protocol]) -> dict[str, str]:
    """Return what the questions say of the protocols a book allows: how long a breath is held, how many exercises by
    the senses and how long each."""
    holds = [
        part.seconds for one in protocols for each in one.exercises() for part in each.segment if part.use == "hold"
    ]
    senses = [one.exercises() for one in protocols if one.is_qualitative]
    return {
        "hold.seconds": str(max(holds, default=0)),
        "senses.exercises": str(max((sum(each.in_sum for each in one) for one in senses), default=0)),
        "senses.seconds": str(max((each.seconds for one in senses for each in one), default=0)),
    }


def rules_to_json(rules: Rules) -> dict[str, Any]:
    """Return the set as plain data, the content its digest is taken over."""
    if rules.stored is not None:
        return dict(rules.stored)
    return {
        "book": encode(rules.book),
        "procedure": encode(rules.procedure),
        "protocols": encode(rules.protocols),
    }


def rules_from_json(data: Mapping[str, Any], where: str = "rules", name: str = "") -> Rules:
    """Read a stored set back. Raises :class:`DataError` if it does not have the shape of one.

    ``name``: the digest of ``data`` where it was made already.
    """
    for key in ("book", "procedure", "protocols"):
        if key not in data:
            raise DataError(f"{where}.{key}", "this key is missing")
    name = name or digest_of_json(data)
    known = _known.get(name)
    if known is None:
        today = {key: present(data[key]) for key in ("book", "procedure", "protocols")}
        known = Rules(
            read_book(today["book"], f"{where}.book"),
            read_procedure(today["procedure"], f"{where}.procedure"),
            tuple(read_protocol(one, f"{where}.protocols[{i}]") for i, one in enumerate(today["protocols"])),
            name,
            stored={key: data[key] for key in ("book", "procedure", "protocols")},
        )
        if len(_known) >= MOST_KNOWN:
            _known.clear()
        _known[name] = known
    return known


MOST_KNOWN = 64
_known: dict[str, Rules] = {}
"""Sets read before, by the digest of their content: the same digest is the same set."""
