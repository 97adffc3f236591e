"""What an item of the procedure applies to, and what an answer holds for: the facts of the moment."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.identity import Identity
from moorfog.core.rules.book import FACTS, Item, Rules, When
from moorfog.core.visit.state import Visit, alterations_needed


def fact(visit: Visit, name: str) -> str | int | tuple[str | int, ...]:
    """Return one fact an answer may depend on. Raises ``KeyError`` for a name the fold does not know.

    Before donning, "donning" is the one to come, so that what is settled for it stays settled; once the run of an
    attempt has started, donning and adjustment are those it started with.
    """
    facepiece = visit.facepiece
    if name == "kind":
        return facepiece.kind if facepiece else ""
    if name == "configuration":
        return (visit.chosen, facepiece.configuration if facepiece else "")
    current = visit.current_try
    if name == "donning":
        if current is not None:
            return current.donning
        return visit.donning if visit.worn_since is not None else visit.donning + 1
    if name == "adjustment":
        return current.adjustment if current is not None else visit.adjustment
    if name == "try":
        return visit.attempt
    if name == "task":
        return visit.task.id if visit.task else ""
    if name == "method":
        return visit.method
    if name == "screening":
        return len(visit.screenings)
    raise KeyError(f"no fact is called {name!r}; {', '.join(FACTS)} are")


def facts_digest(visit: Visit, item: Item) -> str:
    """Return the digest of the facts an answer to ``item`` would hold for now: of this visit and this person alone.

    A log from before the visit was written down in it has digests without either, and keeps them.
    """
    found: str | None = visit.memo.get(item.depends_on)
    if found is None:
        here = visit.opened
        whose = (("visit", here.visit_id), ("person", here.person_id)) if here is not None and here.visit_id else ()
        facts = tuple((name, fact(visit, name)) for name in item.depends_on)
        found = visit.memo[item.depends_on] = _digest_of((*whose, *facts))
    return found


@lru_cache(maxsize=4096)
def _digest_of(facts: tuple[tuple[str, str | int | tuple[str | int, ...]], ...]) -> str:
    return digest(dict(facts))


class Circumstances(NamedTuple):
    """What decides which items of the procedure apply; None for everything of a facepiece while there is none."""

    kinds: str | None
    families: str | None
    valve: bool | None
    cover: str | None
    probe: str | None
    suspensions: str | None
    methods: str
    altered: bool
    acknowledged: bool
    on_file: str
    worn: bool
    donned: bool
    tried: bool
    numbers: str
    distress: bool
    mistaken: bool
    cleared: bool
    wore: bool


def circumstances(visit: Visit) -> Circumstances:
    """Return what decides which items apply to the visit as it stands."""
    found: Circumstances | None = visit.memo.get("circumstances")
    if found is None:
        piece, current = visit.facepiece, visit.current_try
        found = visit.memo["circumstances"] = Circumstances(
            kinds=piece.kind if piece else None,
            families=piece.family if piece else None,
            valve=piece.valve if piece else None,
            cover=piece.cover if piece else None,
            probe=piece.probe if piece else None,
            suspensions=piece.suspension if piece else None,
            methods=visit.method,
            altered=bool(alterations_needed(visit)),
            acknowledged=_is_acknowledged(visit),
            on_file=_on_file(visit),
            worn=visit.worn_since is not None,
            donned=visit.donning > 0,
            tried=bool(visit.tries),
            numbers=current.numbers.state if current else "none",
            distress=visit.distress,
            mistaken=visit.wrong_person,
            cleared=visit.file is not None and visit.file.clearance is not None,
            wore=visit.opened is not None and visit.opened.wore != "",
        )
    return found


def applies(when: When, here: Circumstances) -> bool:
    """Tell whether an item applies. A condition on a facepiece waits for one."""
    if here.methods in when.unless_methods:
        return False
    wanted = ((getattr(when, name), value) for name, value in zip(Circumstances._fields, here, strict=True))
    return all(not allowed or value in allowed for allowed, value in wanted)


def items_that_apply(visit: Visit) -> tuple[Item, ...]:
    """Return the items of the procedure that apply to the visit as it stands, in order."""
    return _items(Identity(visit.rules), circumstances(visit))


@lru_cache(maxsize=512)
def _items(rules: Identity[Rules], here: Circumstances) -> tuple[Item, ...]:
    book = rules.one.book
    return tuple(
        item
        for item in rules.one.procedure.item
        if applies(item.when, here) and all(book.text(key) == value for key, value in item.when.rule)
    )


def _is_acknowledged(visit: Visit) -> bool:
    return bool(visit.cautions_on) and visit.opened is not None and visit.cautions_on == visit.opened.opened_on


def _on_file(visit: Visit) -> str:
    return "trained" if visit.file is not None and visit.file.trained_on else "untrained"
