"""The papers of a crew: everybody's cards on sheets as one job, and the list of who may wear what."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import decode, encode
from moorfog.core.kernel.days import day_in
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.jobs.jobs import new_job
from moorfog.platform.jobs.tables import Job, JobFile
from moorfog.platform.log.log import BrokenLog, whole_log
from moorfog.platform.log.summaries import WearPermission
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.printing.pdf import pdf_of, pdf_of_all
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.crews.crew_list import CrewPaper, CrewPaperLine, list_html
from moorfog.rooms.crews.crews import CrewAsked, CrewView, crew_on, people_meant
from moorfog.rooms.papers.card import ON_A_SHEET, CardView, Layout, cards_html
from moorfog.rooms.papers.papers import card_view
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.wear.permissions import at_work, judge_people

Progress = Callable[[int, int], None]
SHEETS_AT_ONCE = 3
"""Sheets that are drawn between two looks at whether to go on."""


@dataclass(frozen=True)
class CardsWanted:
    """Whose cards: as the crew is asked for; ten on a sheet with marks to cut along, or one to a page."""

    crew: CrewAsked
    layout: Layout = "sheet"


def start_cards(db: Session, clock: Clock, actor: Actor, wanted: CardsWanted, where: str) -> Job:
    """Make the job that draws a crew's cards. ``where``: the address this installation is reached by.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` where nobody of them may wear anything.
    """
    site = find_site(db, actor.require(*READERS), wanted.crew.site)
    if next(_held(db, clock, actor, wanted.crew), None) is None:
        raise DomainError(
            "nobody_may", "Nobody of them may wear anything on that day and now, so there is no card to draw."
        )
    return new_job(db, clock, actor, "cards", site.employer_id, {"wanted": encode(wanted), "where": where})


def run_cards(db: Session, actor: Actor, content: str, tell: Progress, job_id: str) -> str:
    """Draw the cards of a crew; return the message of the finished job."""
    given, clock = json.loads(content), DatabaseClock()
    wanted = decode(CardsWanted, given["wanted"], "wanted")
    cards = list(_cards(db, clock, actor, wanted.crew, given["where"]))
    step = SHEETS_AT_ONCE * ON_A_SHEET
    pages = []
    for first in range(0, len(cards), step):
        tell(first, len(cards))
        pages.append(cards_html(cards[first : first + step], wanted.layout))
    pdf = pdf_of_all(pages, lambda drawn: tell(min(drawn * step, len(cards)), len(cards)))
    db.add(JobFile(job_id=job_id, name="cards.pdf", media="application/pdf", content=pdf, made_at=clock.now(db)))
    people = len({(one.name, one.number) for one in cards})
    return f"{len(cards)} cards of {people} people are ready."


def _cards(db: Session, clock: Clock, actor: Actor, asked: CrewAsked, where: str) -> Iterator[CardView]:
    """Yield a card for each visit by which somebody of a crew may wear something, by name."""
    for passed in _held(db, clock, actor, asked):
        _must_hold(db, passed.visit_id)
        yield card_view(db, clock, passed, _tester(db, passed.visit_id), where)


def _held(db: Session, clock: Clock, actor: Actor, asked: CrewAsked) -> Iterator[WearPermission]:
    """Yield a pass of each visit that holds on the day that is asked for and today, by whom it is of: what says so is
    only handed out while it does. A pass of before has no visit, and so no card: nobody here tested it."""
    site, day, task, people = people_meant(db, clock, actor, asked)
    work, today = at_work(db, task), day_in(site.zone, clock.now(db)).isoformat()
    judged = [judge_people(db, people, on, work) for on in (day, today)]
    for person in people:
        may = [
            {(one.visit_id, one.configuration) for one in on[person.id].rows if one.may and not one.is_before}
            for on in judged
        ]
        done: set[str] = set()
        for visit_id, configuration in sorted(may[0] & may[1]):
            if visit_id not in done:
                done.add(visit_id)
                yield db.get_one(WearPermission, (visit_id, configuration))


def _must_hold(db: Session, visit_id: str) -> None:
    """Refuse to draw a card of a visit whose log is not what was written."""
    try:
        whole_log(db, db.get_one(VisitHead, visit_id))
    except BrokenLog as error:
        raise DomainError("log_broken", f"No card is made of this: {error} Tell your administrator.") from error


def _tester(db: Session, visit_id: str) -> str:
    """Return who signed a visit as its tester."""
    signed = select(SignatureRow.typed_name).where(SignatureRow.visit_id == visit_id, SignatureRow.role == "tester")
    return db.scalar(signed.order_by(SignatureRow.revision.desc(), SignatureRow.signed_at.desc()).limit(1)) or ""


def start_list(db: Session, clock: Clock, actor: Actor, asked: CrewAsked) -> Job:
    """Make the job that draws who of a crew may wear what. Raises as :func:`crew_on`."""
    site, _, _, _ = people_meant(db, clock, actor, asked)
    return new_job(db, clock, actor, "crew_list", site.employer_id, encode(asked))


def run_list(db: Session, actor: Actor, content: str, tell: Progress, job_id: str) -> str:
    """Draw who of a crew may wear what, as it is now; return the message of the finished job."""
    clock = DatabaseClock()
    view = crew_on(db, clock, actor, decode(CrewAsked, json.loads(content), "wanted"))
    tell(0, len(view.rows))
    made = {"name": f"crew-{view.day}.pdf", "media": "application/pdf", "made_at": clock.now(db)}
    db.add(JobFile(job_id=job_id, content=crew_list(view), **made))
    return f"The list of {len(view.rows)} people is ready."


def crew_list(view: CrewView) -> bytes:
    """Return who may wear what as a PDF to hang up or to hand to an employer."""
    lines = []
    for one in view.rows:
        wears = tuple((each.words, each.until, each.limits) for each in one.set_ups)
        why = tuple((reason.sentence, reason.settled_by) for reason in one.reasons)
        lines.append(CrewPaperLine(name=one.name, number=one.number, task=one.task, may=one.may, wears=wears, why=why))
    paper = CrewPaper(site=view.site, day=view.day, task=view.task, may=view.may, lines=tuple(lines))
    return pdf_of(list_html(paper))


def table_lines(view: CrewView) -> Iterator[tuple[str, ...]]:
    """Yield a line for each set-up that may be worn, or each reason against it."""
    for one in view.rows:
        who: Any = (one.name, one.number, one.task)
        for each in one.set_ups:
            yield (*who, "yes", each.words, each.until, "; ".join(each.limits), "", "")
        for why in one.reasons:
            yield (*who, "no", one.nearest, "", "", why.sentence, why.settled_by)
