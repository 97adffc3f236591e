"""Entering an instrument: every figure it needs, and everything that is missing named at once."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.codec import DataError
from moorfog.core.kernel.days import day_in, day_or_none
from moorfog.core.rules.instruments import strictest_limit
from moorfog.data import instrument_kinds
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.log.tables import Lease
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.platform.web.fields import Label, Line, day_of
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.kit.lending import lend_unowned
from moorfog.rooms.kit.plugging import chosen_line
from moorfog.rooms.kit.tables import Calibration, InstrumentRow
from moorfog.rooms.sites.tables import Employer


def create_instrument(
    db: Session, *, name: str, employer_id: str | None, content: dict[str, str], is_simulated: bool, token: str
) -> str:
    """Enter an instrument; ``token`` is what its link signs in with. Returns its id.

    Raises :class:`DomainError` naming every figure that is missing or cannot be read.
    """
    problems = figure_problems(content)
    if problems:
        raise DomainError("figures", f"{name} was not entered: {'; '.join(problems)}.", {"problems": list(problems)})
    row = InstrumentRow(
        id=new_id(),
        employer_id=employer_id,
        name=name,
        content=content,
        is_simulated=is_simulated,
        link_token_digest=digest_of(token),
        seen_at=None,
        live=None,
    )
    db.add(row)
    db.flush()
    lend_unowned(db, "who entered it", row.id, employer_id)
    return row.id


def figure_problems(content: Mapping[str, Any]) -> tuple[str, ...]:
    """Return everything that is missing or wrong about the figures of an instrument, in words; empty where nothing."""
    kinds = instrument_kinds()
    rule = kinds.get(str(content.get("kind", "counter")))
    if rule is None:
        return (f"kind {content.get('kind')!r} is not known; known are {', '.join(kinds)}",)
    out = []
    for name in ("serial_number", "zone", "calibrated_until", *rule.figures):
        text = content.get(name)
        if not isinstance(text, str) or not text.strip():
            out.append(f"{name} is missing")
        elif name in rule.figures:
            out += _bad_figure(name, text, rule.bounds.get(name, ()))
    for check in rule.check:
        limit = content.get(f"limit_{check.name}")
        if limit is not None:
            try:
                if strictest_limit(check, str(limit)) != str(limit):
                    out.append(f"limit_{check.name}: {limit} is looser than {check.limit}, which {rule.title} needs")
            except DataError as error:
                out.append(str(error))
    out += _bad_places(content)
    return tuple(out)


def _bad_figure(name: str, text: str, bounds: tuple[str, ...]) -> list[str]:
    try:
        value = parse_decimal(text, name)
        if bounds and not parse_decimal(bounds[0], name) <= value <= parse_decimal(bounds[1], name):
            return [f"{name} is {text}; {bounds[0]} to {bounds[1]} is expected of such an instrument"]
        return [] if value > 0 else [f"{name} is {text}; above zero is expected"]
    except NotANumber as error:
        return [str(error)]


def _bad_places(content: Mapping[str, Any]) -> list[str]:
    out = []
    zone, until = content.get("zone"), content.get("calibrated_until")
    if isinstance(zone, str) and zone.strip():
        try:
            ZoneInfo(zone)
        except (KeyError, ValueError, OSError):
            out.append(f"zone {zone!r} is none; write one such as Europe/London")
    if isinstance(until, str) and until.strip() and day_or_none(until) is None:
        out.append(f"calibrated_until {until!r} is not a date as 2026-01-31")
    return out


@dataclass(frozen=True)
class InstrumentEntry:
    """An instrument as entered: whose (empty: nobody's in particular), its figures, and where it is plugged in here
    (``line``, empty where its link runs on another machine)."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: Label
    employer_id: str
    figures: dict[Label, Line]
    line: Line


@dataclass(frozen=True)
class CalibrationEntry:
    """A calibration as its certificate has it."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    done_on: str
    good_until: str
    certificate: Line
    by_whom: Line


@dataclass(frozen=True)
class FigureRule:
    """A figure that an instrument is entered with; ``limit``: what it is where the site has none of its own."""

    name: str
    title: str
    unit: str
    is_needed: bool
    limit: str


@dataclass(frozen=True)
class InstrumentForm:
    """What is asked of an instrument of a kind."""

    kind: str
    title: str
    figures: tuple[FigureRule, ...]


@dataclass(frozen=True)
class Linkage:
    """A token for an instrument's link, shown only now."""

    instrument_id: str
    token: str


@dataclass(frozen=True)
class CalibrationView:
    """A calibration on file."""

    done_on: str
    good_until: str
    certificate: str
    by_whom: str


@dataclass(frozen=True)
class InstrumentFile:
    """What is on file about an instrument for whoever looks after it."""

    id: str
    name: str
    employer_id: str
    figures: dict[str, str]
    line: str
    is_simulated: bool
    retired_at: str
    calibrations: tuple[CalibrationView, ...]


PLACES = ("serial_number", "zone", "calibrated_until")
FIGURE_WORDS = {
    "serial_number": ("Serial number", ""),
    "zone": ("Time zone where it is used", ""),
    "calibrated_until": ("Calibrated until", "date"),
    "counted_flow": ("Counted flow", "cm³/min"),
    "resolution": ("Smallest step it shows", ""),
    "ambient_minimum_ordinary": ("Least room air, ordinary", "particles/cm³"),
    "ambient_minimum_classified": ("Least room air, size-classified", "particles/cm³"),
    "ambient_maximum": ("Most room air", "particles/cm³"),
    "ambient_minimum_photometer": ("Least outside reading", ""),
}
"""What a figure of an instrument is called where somebody types it, and its unit."""


def instrument_forms() -> tuple[InstrumentForm, ...]:
    """Return what is asked of each kind of instrument."""
    out = []
    for rule in instrument_kinds().values():
        figures = [FigureRule(name, *_words(name), True, "") for name in (*PLACES, *rule.figures)]
        figures += [
            FigureRule(
                name=f"limit_{one.name}",
                title=f"Own limit of {one.title.lower()}",
                unit="",
                is_needed=False,
                limit=one.limit,
            )
            for one in rule.check
        ]
        out.append(InstrumentForm(rule.id, rule.title, tuple(figures)))
    return tuple(out)


def _words(name: str) -> tuple[str, str]:
    return FIGURE_WORDS.get(name, (name.replace("_", " ").capitalize(), ""))


def _may_keep(actor: Actor, employer_id: str | None) -> None:
    scope = actor.require("administrator")
    if not (scope.employers is None or scope.allows(employer_id)):
        raise NotFound("instrument")


def _find(db: Session, actor: Actor, instrument_id: str) -> InstrumentRow:
    row = db.get(InstrumentRow, instrument_id, with_for_update=True)
    if row is None:
        raise NotFound("instrument")
    _may_keep(actor, row.employer_id)
    return row


def _figures(one: InstrumentEntry) -> dict[str, str]:
    return {key: text.strip() for key, text in one.figures.items() if text.strip()}


def _name(db: Session, one: InstrumentEntry, own: str = "") -> str:
    name = " ".join(one.name.split())
    if not name:
        raise DomainError("name_missing", "An instrument needs a name, such as the one on its label.")
    if db.scalar(select(InstrumentRow.id).where(InstrumentRow.name == name, InstrumentRow.id != own)) is not None:
        raise Conflict("name_taken", f"{name} is entered already. Each instrument needs a name of its own.")
    return name


def enter_instrument(db: Session, actor: Actor, one: InstrumentEntry) -> Linkage:
    """Enter an instrument. Raises :class:`DomainError` naming every figure that is missing or cannot be read."""
    owner = one.employer_id or None
    _may_keep(actor, owner)
    token, name, line = secrets.token_urlsafe(24), _name(db, one), chosen_line(actor, one.line, "")
    made = create_instrument(db, name=name, employer_id=owner, content=_figures(one), is_simulated=False, token=token)
    db.get_one(InstrumentRow, made).line = line
    note(db, Note("instrument", made, one.employer_id, changed({}, {"name": name, "line": line, **_figures(one)})))
    return Linkage(made, token)


def change_instrument(db: Session, actor: Actor, instrument_id: str, one: InstrumentEntry) -> None:
    """Change an instrument's name, figures or where it is plugged in; tests of before keep what they were made with."""
    row, figures = _find(db, actor, instrument_id), _figures(one)
    problems = figure_problems(figures)
    if problems:
        raise DomainError("figures", f"Nothing was changed: {'; '.join(problems)}.", {"problems": list(problems)})
    if figures.get("kind", "counter") != row.content.get("kind", "counter"):
        raise DomainError("other_kind", "An instrument stays of its kind. Retire this one and enter the other.")
    before = {"name": row.name, "line": row.line, **row.content}
    row.name, row.line, row.content = _name(db, one, row.id), chosen_line(actor, one.line, row.line), figures
    after = {"name": row.name, "line": row.line, **figures}
    changes = {key: [before.get(key, ""), after.get(key, "")] for key in sorted(before | after)}
    kept = {key: pair for key, pair in changes.items() if pair[0] != pair[1]}
    note(db, Note("instrument", row.id, row.employer_id or "", kept))


def enter_calibration(db: Session, clock: Clock, actor: Actor, instrument_id: str, one: CalibrationEntry) -> None:
    """Put a calibration on file; it counts from now on until its own end."""
    row = _find(db, actor, instrument_id)
    done, until = day_of(one.done_on, "calibrated on"), day_of(one.good_until, "good until")
    today = day_in(str(row.content.get("zone") or "UTC"), clock.now(db))
    problems = []
    if done > today:
        problems.append(f"{done} has not come yet")
    if until <= done:
        problems.append(f"it would end on {until}, not after {done}")
    if not one.certificate.strip() or not one.by_whom.strip():
        problems.append("the number of the certificate and who calibrated it are needed")
    if problems:
        raise DomainError("calibration", f"Not entered: {'; '.join(problems)}.", {"problems": problems})
    db.add(
        Calibration(
            id=new_id(),
            instrument_id=row.id,
            done_on=done,
            good_until=until,
            certificate=one.certificate.strip(),
            by_whom=one.by_whom.strip(),
            account_id=actor.id,
            entered_at=clock.now(db),
        )
    )
    changes = changed({"calibrated_until": row.content.get("calibrated_until")}, {"calibrated_until": str(until)})
    row.content = {**row.content, "calibrated_until": until.isoformat()}
    note(
        db,
        Note(
            kind="instrument",
            id=row.id,
            employer=row.employer_id or "",
            changes=changes,
            why=f"certificate {one.certificate.strip()}",
        ),
    )


def retire_instrument(db: Session, clock: Clock, actor: Actor, instrument_id: str, *, retired: bool) -> None:
    """Take an instrument out of use, or into use again. Raises :class:`DomainError` while a run is made with it."""
    row = _find(db, actor, instrument_id)
    if db.get(Lease, row.id) is not None:
        raise DomainError("in_a_run", f"A run is made with {row.name} just now. Wait for its end.")
    before = row.retired_at is not None
    row.retired_at = clock.now(db) if retired else None
    note(db, Note("instrument", row.id, row.employer_id or "", changed({"retired": before}, {"retired": retired})))


def renew_token(db: Session, actor: Actor, instrument_id: str) -> Linkage:
    """Make a new token for an instrument's link; the old one ends at once."""
    row = _find(db, actor, instrument_id)
    token = secrets.token_urlsafe(24)
    row.link_token_digest = digest_of(token)
    note(db, Note("instrument", row.id, row.employer_id or "", {"token": ["", "renewed"]}))
    return Linkage(row.id, token)


def instrument_file(db: Session, actor: Actor, instrument_id: str) -> InstrumentFile:
    """Return what is on file about an instrument. Raises :class:`NotFound`."""
    row = _find(db, actor, instrument_id)
    rows = db.scalars(
        select(Calibration).where(Calibration.instrument_id == row.id).order_by(Calibration.entered_at.desc()).limit(20)
    )
    return InstrumentFile(
        id=row.id,
        name=row.name,
        employer_id=row.employer_id or "",
        figures={key: str(value) for key, value in row.content.items()},
        line=row.line,
        is_simulated=row.is_simulated,
        retired_at=instant(row.retired_at) if row.retired_at else "",
        calibrations=tuple(
            CalibrationView(one.done_on.isoformat(), one.good_until.isoformat(), one.certificate, one.by_whom)
            for one in rows
        ),
    )


@dataclass(frozen=True)
class InstrumentLine:
    """An instrument in a list."""

    id: str
    name: str
    kind: str
    serial_number: str
    calibrated_until: str
    owner: str
    line: str
    is_retired: bool


@dataclass(frozen=True)
class InstrumentFiles:
    """A page of instruments."""

    rows: tuple[InstrumentLine, ...]
    total: int
    page: int
    pages: int


def list_files(db: Session, actor: Actor, page: int) -> InstrumentFiles:
    """Return the instruments of the administrator's employers, those in use first."""
    query = select(InstrumentRow, Employer.name).outerjoin(Employer, Employer.id == InstrumentRow.employer_id)
    mine = within(query, actor.require("administrator"), InstrumentRow.employer_id)
    rows, *rest = cut_to_page(db, mine, page, InstrumentRow.retired_at.is_not(None), InstrumentRow.name)
    lines = tuple(
        InstrumentLine(
            id=row.id,
            name=row.name,
            kind=str(row.content.get("kind", "counter")),
            serial_number=str(row.content.get("serial_number", "")),
            calibrated_until=str(row.content.get("calibrated_until", "")),
            owner=owner or "",
            line=row.line,
            is_retired=row.retired_at is not None,
        )
        for row, owner in rows
    )
    return InstrumentFiles(lines, *rest)
