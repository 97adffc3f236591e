"""Card and letter of a signed visit, each rendered once and stored; the code on them, and what a stranger is told."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any, ClassVar, Literal

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import method_words
from moorfog.core.events.facts import STRICT
from moorfog.core.permission.may_wear import ReportKind
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.keys import installation_key
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import WearPermission
from moorfog.platform.printing.pdf import pdf_of
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Number
from moorfog.rooms.bench.filing import file_report_by_card
from moorfog.rooms.papers.card import CardView, cards_html, letter_html
from moorfog.rooms.papers.code import ALPHABET, LENGTH, Statement, as_typed, initials, is_code, packed, readable
from moorfog.rooms.papers.report import PageSize, render_pdf
from moorfog.rooms.papers.reports import CARD, check_printed, draw, kept_paper, store_paper
from moorfog.rooms.papers.tables import CardCode, CodeTry, DocumentRow
from moorfog.rooms.people.holding import hold_person
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site
from moorfog.rooms.wear.permissions import judge_permissions, task_tested_for, today_at
from moorfog.rooms.wear.reporting import ReportEntry

Paper = Literal["report", "card", "letter"]
Status = Literal["valid", "ended", "withdrawn", "superseded"]
GUESSES, WITHIN = 20, timedelta(minutes=10)
"""So many codes that do not exist are asked for from one address in so long, and then nothing more is told."""
NOT_HELD = "It does not hold now, so nothing is given to them that says so. Their page says why, and who settles it."
NO_PASS = "A card is for a signed pass. This visit has none that counts."


@dataclass(frozen=True)
class CodeView:
    """What a stranger is told of a card's code, and nothing more. ``checked_on``: the day at the site."""

    code: str
    status: Status
    initials: str
    facepiece: str
    until: str
    checked_on: str
    limits: tuple[str, ...]
    """Up to where the test lets it be worn."""


def code_of(db: Session, clock: Clock, visit_id: str) -> str:
    """Return the code of a visit's card, made at its first use."""
    known = db.scalar(select(CardCode.code).where(CardCode.visit_id == visit_id))
    if known is not None:
        return known
    code = "".join(secrets.choice(ALPHABET) for _ in range(LENGTH))
    db.add(CardCode(code=code, visit_id=visit_id, made_at=clock.now(db)))
    db.flush()
    return code


def _check(where: str, code: str, name: str, passed: WearPermission) -> str:
    """Return the address of a code with the signed statement behind it. Raises :class:`DomainError` without a key."""
    said = Statement(
        code=code,
        initials=initials(name),
        facepiece=f"{passed.model} {passed.size}",
        until=passed.valid_until.isoformat(),
    )
    signature = installation_key().sign(said.written())
    return f"{where.rstrip('/')}/c/{code}#{packed(said, signature)}"


def card_view(db: Session, clock: Clock, passed: WearPermission, tester: str, where: str) -> CardView:
    """Return what the card of a pass says. ``where``: the address this installation is reached by."""
    person, employer = _whose(db, passed)[0], db.get(Employer, passed.employer_id)
    if employer is None:
        raise NotFound("employer")
    code = code_of(db, clock, passed.visit_id)
    return CardView(
        name=person.name,
        number=person.number,
        employer=employer.name,
        facepiece=passed.model,
        size=passed.size,
        setup=passed.setup,
        method=method_words(passed.method),
        result=f"fit factor {passed.overall}" if passed.overall else "pass, by the senses",
        tested_on=passed.valid_from.isoformat(),
        valid_until=passed.valid_until.isoformat(),
        tester=tester,
        limits=tuple(passed.limits),
        code=readable(code),
        check=_check(where, code, person.name, passed),
    )


def pass_of_visit(db: Session, visit_id: str) -> WearPermission | None:
    """Return the pass of a visit, None where it has none that counts."""
    mine = select(WearPermission).where(WearPermission.visit_id == visit_id)
    return db.scalar(mine.order_by(WearPermission.no.desc(), WearPermission.configuration).limit(1))


def _whose(db: Session, passed: WearPermission) -> tuple[Person, Site]:
    """Return who passed, with their site; of an entry that was made part of another, the one that stands.

    Raises :class:`NotFound` where there is nobody.
    """
    person = db.get(Person, passed.person_id)
    if person is not None and person.merged_into is not None:
        person = db.get(Person, person.merged_into)
    site = db.get(Site, person.site_id) if person is not None else None
    if person is None or site is None:
        raise NotFound("person")
    return person, site


@dataclass(frozen=True)
class Printed:
    """Which paper of a visit is wanted, in which size, and the address by which this installation is reached."""

    paper: Paper
    page_size: PageSize
    where: str

    @property
    def name(self) -> str:
        """What it is called among the papers of a revision."""
        return {"report": self.page_size, "card": CARD, "letter": f"words-{self.page_size[:4]}"}[self.paper]


def issue_to_print(db: Session, clock: Clock, actor: Actor, visit_id: str, one: Printed) -> DocumentRow:
    """Issue a paper for somebody who will read it. Raises as :func:`issue` and :func:`check_printed`."""
    check_printed(db, actor, visit_id, one.name)
    return issue(db, clock, actor, visit_id, one)


def issue(db: Session, clock: Clock, actor: Actor, visit_id: str, one: Printed) -> DocumentRow:
    """Return a paper of a visit's present revision, rendered and stored the first time.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` before both have signed, and for the card of a
    visit without a pass.
    """
    drawn, passed = draw(db, actor, visit_id, one.page_size), pass_of_visit(db, visit_id)
    kept = kept_paper(db, visit_id, one.name, drawn.revision)
    if kept is not None:
        return kept
    view = drawn.view
    if one.paper == "card" and passed is None:
        raise DomainError("no_pass", NO_PASS)
    if one.paper == "letter" and view.is_practice:
        raise DomainError("practice", "A practice is no result; no letter is made of it.")
    if one.paper != "report" and view.verdict == "pass" and not _holds(db, clock, passed):
        raise DomainError("not_held", NOT_HELD)
    if passed is not None:
        card = card_view(db, clock, passed, view.names.tester, one.where)
        view = replace(view, check=card.check, card=card.code)
        if one.paper == "card":
            return store_paper(db, clock, drawn, one.name, pdf_of(cards_html([card], "card")))
    content = render_pdf(view) if one.paper == "report" else pdf_of(letter_html(view))
    return store_paper(db, clock, drawn, one.name, content)


def _holds(db: Session, clock: Clock, passed: WearPermission | None) -> bool:
    """Whether a pass may be worn today: what says so is only handed out while it does."""
    if passed is None:
        return False
    person, _ = _whose(db, passed)
    return _status(db, passed, person, today_at(db, person, clock.now(db))).status == "valid"


def pass_holds(db: Session, clock: Clock, visit_id: str) -> bool:
    """Whether the pass of a visit may be worn today, if it has one."""
    return _holds(db, clock, pass_of_visit(db, visit_id))


def not_held_words(db: Session, clock: Clock, visit_id: str) -> str:
    """Return what is said across a paper of a visit whose pass does not hold today, never why; nothing where it holds,
    or where there never was one."""
    passed = pass_of_visit(db, visit_id)
    if passed is None:
        return ""
    person, _ = _whose(db, passed)
    today = today_at(db, person, clock.now(db))
    status = _status(db, passed, person, today).status
    if status == "valid":
        return ""
    return f"Asked for on {today}: this pass is {status}. The code on the card says how it stands."


def look_up(db: Session, clock: Clock, address: str, text: str) -> CodeView:
    """Return how a card stands now, for anybody. Guessing is slow: too many wrong codes from one address are refused.

    Raises :class:`NotFound` for a code there is not, :class:`DomainError` (429) for too many of them.
    """
    now, row = clock.now(db), _known_code(db, clock, address, text)
    code = row.code
    passed = pass_of_visit(db, row.visit_id)
    if passed is None:
        return CodeView(
            code=readable(code),
            status="withdrawn",
            initials="",
            facepiece="",
            until="",
            checked_on=now.date().isoformat(),
            limits=(),
        )
    person, _ = _whose(db, passed)
    day = today_at(db, person, now)
    stands = _status(db, passed, person, day)
    return CodeView(
        code=readable(code),
        status=stands.status,
        initials=initials(person.name),
        facepiece=f"{passed.model} {passed.size}",
        until=stands.until,
        checked_on=day,
        limits=tuple(passed.limits),
    )


def _known_code(db: Session, clock: Clock, address: str, text: str) -> CardCode:
    """Return the code that somebody typed or scanned; as :func:`look_up`."""
    since = clock.now(db) - WITHIN
    wrong = select(func.count()).select_from(CodeTry).where(CodeTry.address == address, CodeTry.at > since)
    if (db.scalar(wrong) or 0) >= GUESSES:
        minutes = int(WITHIN.total_seconds() // 60)
        raise DomainError("too_many", f"Too many wrong codes. Wait {minutes} minutes and try again.", status=429)
    code = as_typed(text)
    row = db.get(CardCode, code) if is_code(code) else None
    if row is None:
        raise NotFound("code")
    return row


@dataclass(frozen=True)
class CardReport:
    """What the holder of a card says has changed, and the number that stands on it."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    kind: ReportKind
    number: Number


def report_by_card(db: Session, clock: Clock, address: str, text: str, one: CardReport) -> None:
    """Put on file what the holder of a card says has changed: what they passed ends at once, until it is settled.

    Raises :class:`NotFound` for a code there is not and for a number that is not on that card, which tells nothing
    apart, :class:`DomainError` (429) for too many of them.
    """
    row = _known_code(db, clock, address, text)
    passed = pass_of_visit(db, row.visit_id)
    person = _whose(db, passed)[0] if passed is not None else None
    if person is None or person.number.casefold() != one.number.strip().casefold():
        raise NotFound("code")
    hold_person(db, Scope(None), person.id)
    on = today_at(db, person, clock.now(db))
    said = ReportEntry(kind=one.kind, on=on, said_by="wearer", words="said by the code of their card")
    file_report_by_card(db, clock, person, said)


@dataclass(frozen=True)
class _Stands:
    """How a pass stands, and until when it may be worn."""

    status: Status
    until: str


def _status(db: Session, passed: WearPermission, person: Person, day: str) -> _Stands:
    """Return how a pass stands on a day and until when it may be worn, by the one function that answers it; never why,
    which is nobody's business. A clearance or a training may end before the test does."""
    until = passed.valid_until.isoformat()
    newer = select(WearPermission.visit_id).where(
        WearPermission.person_id.in_(same_person(db, person.id)),
        WearPermission.configuration == passed.configuration,
        WearPermission.tested_at > passed.tested_at,
    )
    if db.scalar(newer.limit(1)) is not None:
        return _Stands("superseded", until)
    if person.left_on is not None:
        return _Stands("withdrawn", until)
    rows = judge_permissions(db, person, day, task_tested_for(db, person, passed)).rows
    found = next(
        (one for one in rows if (one.visit_id, one.configuration) == (passed.visit_id, passed.configuration)),
        None,
    )
    if found is None:
        return _Stands("withdrawn", until)
    if found.may:
        return _Stands("valid", found.until)
    return _Stands("ended" if {one.code for one in found.reasons} == {"ended"} else "withdrawn", until)


def note_wrong_code(db: Session, clock: Clock, address: str) -> None:
    """Write down that a code which does not exist was asked for from an address."""
    db.add(CodeTry(address=address[:64], at=clock.now(db)))


def forget_wrong_codes(db: Session, clock: Clock) -> None:
    """Forget wrong codes that count no more."""
    db.execute(delete(CodeTry).where(CodeTry.at < clock.now(db) - WITHIN))
