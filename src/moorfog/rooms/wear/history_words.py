"""What a site says in writing of results of before: which of them count as passes, in which set-up, and why."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Annotated, Any, ClassVar

from pydantic import Field
from sqlalchemy import Date, case, func, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT, Facepiece
from moorfog.core.kernel.codec import decode, encode
from moorfog.core.kernel.days import day_in
from moorfog.core.permission.from_before import same_words
from moorfog.core.rules.validity import INTERVAL, valid_until
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.text import resembles
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Id, Label, Line, Why
from moorfog.platform.web.paging import PAGE, pages_of
from moorfog.rooms.facepieces.facepieces import offered
from moorfog.rooms.facepieces.pieces import piece_of
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import find_site, site_book
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.history import alone_at
from moorfog.rooms.wear.tables import HistoryRow, HistoryWord

MOST_WORDS = 200
Size = Annotated[str, Field(max_length=40)]


@dataclass(frozen=True)
class EarlierLine:
    """Results of before in one facepiece and size, as the tables had them: how many, of how many people, the last of
    them, and of how many people a pass would still be within its time. ``said``: whether a word of the site stands."""

    model: str
    size: str
    results: int
    people: int
    last_on: str
    in_time: int
    said: bool


@dataclass(frozen=True)
class WordLine:
    """What was said in writing: of which results, in which set-up they count, why, by whom, when. ``withdrawn``: by
    whom and why it was taken back, empty while it stands."""

    id: str
    model: str
    size: str
    counts_as: str
    why: str
    said_by: str
    said_on: str
    withdrawn: str


@dataclass(frozen=True)
class EarlierPage:
    """A site's results of before by facepiece and size, the most frequent first, and everything it said of them."""

    site_id: str
    site: str
    rows: tuple[EarlierLine, ...]
    total: int
    page: int
    pages: int
    words: tuple[WordLine, ...]


@dataclass(frozen=True)
class WordEntry:
    """What a site says in writing: results in ``model`` and ``size``, as the table has them, count as passes in this
    facepiece as it is worn; why; and the name of whoever says so, typed as a signature."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    model: Line
    size: Size
    version_id: Id
    piece_size: Size
    why: Why
    typed_name: Line
    suspension: Label = ""
    clip: Label = ""
    filter_class: Label = ""


def earlier_at(db: Session, clock: Clock, actor: Actor, site_id: str, page: int) -> EarlierPage:
    """Return a page of a site's results of before, with what it said of them. Raises :class:`NotFound`."""
    site = find_site(db, actor.require(*READERS), site_id)
    groups = (
        select(HistoryRow.model, HistoryRow.size)
        .join(Person, Person.id == HistoryRow.person_id)
        .where(Person.site_id == site.id, Person.left_on.is_(None))
        .group_by(HistoryRow.model, HistoryRow.size)
    )
    total = db.scalar(select(func.count()).select_from(groups.subquery())) or 0
    pages = pages_of(total)
    page = min(max(page, 1), pages)
    counts = (HistoryRow.result == "pass") & (HistoryRow.tested_on >= _first_in_time(db, clock, site))
    asked = groups.add_columns(
        func.count(),
        func.count(func.distinct(HistoryRow.person_id)),
        func.max(HistoryRow.tested_on, type_=Date),
        func.count(func.distinct(case((counts, HistoryRow.person_id)))),
    ).order_by(func.count().desc(), HistoryRow.model, HistoryRow.size)
    words = list(db.scalars(_words_of(site)))
    standing = [one for one in words if one.withdrawn_at is None]
    return EarlierPage(
        site_id=site.id,
        site=site.name,
        rows=tuple(
            EarlierLine(
                model=model,
                size=size,
                results=results,
                people=people,
                last_on=last.isoformat(),
                in_time=in_time,
                said=_standing(standing, model, size) is not None,
            )
            for model, size, results, people, last, in_time in db.execute(asked.limit(PAGE).offset((page - 1) * PAGE))
        ),
        total=total,
        page=page,
        pages=pages,
        words=tuple(_line(one) for one in words),
    )


def _first_in_time(db: Session, clock: Clock, site: Site) -> date:
    """Return the earliest day of a test that still counts today, by the site's book."""
    today, months = _today(db, clock, site), site_book(db, site, site.rule_book).ratio(INTERVAL)
    return valid_until(today, -int(months)) if months is not None else date.max


def _today(db: Session, clock: Clock, site: Site) -> date:
    return day_in(site.zone, clock.now(db))


def _words_of(site: Site) -> Any:
    """Return the words of a site, those that stand before all others: nothing counts that nobody can see."""
    mine = select(HistoryWord).where(HistoryWord.site_id == site.id)
    order = (HistoryWord.withdrawn_at.is_not(None), HistoryWord.said_at.desc(), HistoryWord.id)
    return mine.order_by(*order).limit(MOST_WORDS)


def _standing(words: list[HistoryWord], model: str, size: str) -> HistoryWord | None:
    return next((one for one in words if same_words(one.model, model) and same_words(one.size, size)), None)


def _line(row: HistoryWord) -> WordLine:
    piece = decode(Facepiece, row.piece, "history_word.piece")
    worn = f", {row.setup}" if row.setup else ""
    return WordLine(
        id=row.id,
        model=row.model,
        size=row.size,
        counts_as=f"{piece.maker} {piece.model} {piece.size}{worn}",
        why=row.why,
        said_by=row.said_by,
        said_on=row.said_on.isoformat(),
        withdrawn=f"taken back by {row.withdrawn_by}: {row.withdrawn_why}" if row.withdrawn_at else "",
    )


def say_in_writing(db: Session, clock: Clock, actor: Actor, site_id: str, one: WordEntry) -> str:
    """Let results of before count at a site, those that are on file by now. Returns the id of what was said.

    Raises :class:`DomainError` naming everything that is missing, :class:`NotFound` outside the scope.
    """
    site = find_site(db, actor.require("administrator"), site_id)
    alone_at(db, site)  # two who say it at once, a table that is taken over meanwhile: one after the other
    option = next((each for each in offered(db) if each.version_id == one.version_id), None)
    standing = [each for each in db.scalars(_words_of(site)) if each.withdrawn_at is None]
    is_known = select(HistoryRow.id).join(Person, Person.id == HistoryRow.person_id)
    is_known = is_known.where(Person.site_id == site.id, HistoryRow.model == one.model, HistoryRow.size == one.size)
    wrong = [
        (db.scalar(is_known.limit(1)) is None, "no result of before at this site has that facepiece and size"),
        (not one.size.strip(), "the table does not say which size it was, so it cannot count as any"),
        (
            _standing(standing, one.model, one.size) is not None,
            "something is said of these already; take it back first",
        ),
        (len(standing) >= MOST_WORDS, f"{MOST_WORDS} words stand here, and no more are kept; take some back first"),
        (option is None, "choose the facepiece as the catalogue has it"),
        (len(one.why.split()) < 3, "say why they count: which papers were seen, and who kept them"),
        (not resembles(one.typed_name, actor.name), f"type your own name, {actor.name}, to put it in writing"),
    ]
    if option is not None:
        wrong += [
            (
                one.piece_size not in [each.name for each in option.sizes],
                f"{option.model} has no size {one.piece_size!r}",
            ),
            (_is_none_of(one.suspension, option.suspensions), "choose its harness"),
            (_is_none_of(one.clip, option.clips), "choose its clip"),
            (_is_none_of(one.filter_class, option.filter_classes), "choose the class of its filters"),
        ]
    said = [words for is_wrong, words in wrong if is_wrong]
    if said or option is None:
        sentence = "; ".join(said)
        raise DomainError("not_in_writing", f"{sentence[:1].upper()}{sentence[1:]}.")
    piece = piece_of(option, one.piece_size, one.suspension, one.clip, one.filter_class)
    now = clock.now(db)
    row = HistoryWord(
        id=new_id(),
        site_id=site.id,
        model=one.model,
        size=one.size,
        piece=encode(piece),
        setup=piece.worn_as,
        why=" ".join(one.why.split()),
        said_by=actor.name,
        said_on=day_in(site.zone, now),
        said_at=now,
        account_id=actor.id,
    )
    db.add(row)
    db.flush()
    changes = {f"results of before in {one.model} {one.size}": ["history", f"count as {_line(row).counts_as}"]}
    note(db, Note(kind="site", id=site.id, employer=site.employer_id, changes=changes, why=row.why))
    return row.id


def _is_none_of(one: str, offered_here: tuple[str, ...]) -> bool:
    return one not in offered_here if offered_here else bool(one)


def take_word_back(db: Session, clock: Clock, actor: Actor, word_id: str, why: str) -> None:
    """Take back what was said in writing, with the reason: nobody wears anything on the strength of it any more.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` without a reason or where it was taken back.
    """
    scope = actor.require("administrator")
    row = db.get(HistoryWord, word_id, with_for_update=True)
    site = db.get(Site, row.site_id) if row is not None else None
    if row is None or site is None or not scope.allows(site.employer_id):
        raise NotFound("word")
    if row.withdrawn_at is not None:
        raise DomainError("withdrawn", "It is taken back already.")
    if not why.strip():
        raise DomainError("reason_missing", "Say why it no longer counts; it stands beside what was said.")
    row.withdrawn_at, row.withdrawn_by, row.withdrawn_why = clock.now(db), actor.name, why.strip()
    changes = {f"results of before in {row.model} {row.size}": ["count", "history only"]}
    note(db, Note(kind="site", id=site.id, employer=site.employer_id, changes=changes, why=row.withdrawn_why))
