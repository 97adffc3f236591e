"""What is written to a worker by e-mail: their papers, and the invitation to the next test."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.kernel.arithmetic import whole_or_cut
from moorfog.core.rules.book import Book
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import is_address
from moorfog.rooms.due.due import DueLine, due_at, due_lines
from moorfog.rooms.mail.outbox import Letter, put_out
from moorfog.rooms.mail.tables import Mail
from moorfog.rooms.papers.papers import Printed, issue, pass_of_visit
from moorfog.rooms.people.people import find_person
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import site_book

MOST = 500
"""Invitations in one go."""
NOT_AGAIN = timedelta(days=14)
"""So long nobody is invited a second time."""
PAPER_WORDS = {"card": "Your fit test card", "letter": "Your fit test", "report": "The report of your fit test"}
PAPER = """Hello {name},

with this comes what was found at your fit test: {what}.

It is for the facepiece and the size named there only, clean-shaven, after a seal check each time. If it no longer fits,
or your face, your health, your facepiece or your work has changed, say so before you wear it again.
"""
INVITATION = """Hello {name},

{when} Please come for a new fit test before that; your supervisor has the appointments.

For the test:
- Come clean-shaven that morning, everywhere the seal touches.
- Do not smoke or vape in the last {smoking} minutes before.
- Eat and drink nothing but water in the last {eating} minutes before.
- Bring your own facepiece, your glasses and all you wear with it.
- Read the maker's instructions for it once more.
"""


def mail_paper(db: Session, clock: Clock, actor: Actor, visit_id: str, one: Printed) -> str:
    """Put a paper of a visit into the outbox, to the worker's own address; the words of who it goes to are returned.

    Raises as :func:`issue`, and :class:`DomainError` where their contact is no address.
    """
    paper = issue(db, clock, actor, visit_id, one)
    visit = db.get_one(VisitSummary, visit_id)
    person = find_person(db, actor.require(*READERS), visit.person_id)
    if not is_address(person.contact):
        raise DomainError("no_address", f"{person.name} has no e-mail address on file. Enter it as their contact.")
    subject = PAPER_WORDS[one.paper]
    body = PAPER.format(name=person.name, what=subject[0].lower() + subject[1:])
    says_pass = one.paper != "report" and pass_of_visit(db, visit_id) is not None
    letter = replace(
        _to(person, "paper", subject, body),
        file_name=f"{one.paper}.pdf",
        file=paper.content,
        visit_id=visit_id if says_pass else None,
    )
    put_out(db, clock, actor.id, letter)
    return person.contact.strip()


@dataclass(frozen=True)
class DueInvited:
    """How an invitation of everybody who is due went: how many letters wait, who has no address, and how many had one
    in the last days already."""

    invited: int
    no_address: tuple[str, ...]
    again: int


def invite_due(db: Session, clock: Clock, actor: Actor, site_id: str, within: int) -> DueInvited:
    """Put an invitation into the outbox for everybody who is due at a site. Raises :class:`NotFound`,
    :class:`DomainError` for more than can be invited in one go."""
    due = due_at(db, clock, actor, site_id, within, whole=True)
    lines = list(due_lines(db, due))
    if len(lines) > MOST:
        raise DomainError("too_many", f"{len(lines)} are due; {MOST} are invited in one go. Ask for fewer days.")
    since = clock.now(db) - NOT_AGAIN
    asked = select(Mail.person_id).where(
        Mail.person_id.in_([one.person_id for one in lines]),
        Mail.kind == "invitation",
        Mail.made_at > since,
        Mail.state != "failed",
    )
    lately = set(db.scalars(asked))
    book = site_book(db, due.site, due.site.rule_book)
    invited, nowhere = 0, list[str]()
    for one in lines:
        if one.person_id in lately:
            continue
        if not is_address(one.contact):
            nowhere.append(f"{one.name} {one.number}")
            continue
        person = db.get_one(Person, one.person_id)
        body = INVITATION.format(
            name=one.name,
            when=_when(one),
            smoking=_minutes(book, "smoking.wait"),
            eating=_minutes(book, "eating.wait"),
        )
        put_out(db, clock, actor.id, _to(person, "invitation", "Your next fit test", body))
        invited += 1
    again = len(lately)
    note(db, Note("site", due.site.id, due.site.employer_id, {"invited": ["", f"{invited} people"]}))
    return DueInvited(invited, tuple(nowhere), again)


def _minutes(book: Book, key: str) -> str:
    value = book.ratio(key)
    return whole_or_cut(value) if value is not None else "some"


def _when(one: DueLine) -> str:
    if not one.until:
        return "You may not wear a tight-fitting facepiece at present."
    return f"You may wear your facepiece, {one.set_up}, until {one.until}; then {one.ends_by} runs out."


def _to(person: Person, kind: Literal["paper", "invitation"], subject: str, body: str) -> Letter:
    return Letter(
        kind=kind,
        employer_id=person.employer_id,
        person_id=person.id,
        to_address=person.contact.strip(),
        subject=subject,
        body=body,
    )
