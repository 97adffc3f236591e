"""E-mail by one's own server: what is to be sent stands in an outbox, and a worker sends it beside everything else."""

from __future__ import annotations

import smtplib
import ssl
from dataclasses import dataclass
from datetime import datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime
from functools import partial
from typing import Literal

from sqlalchemy import Engine, func, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.mail import MailServer
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.mail.tables import Mail
from moorfog.rooms.papers.papers import pass_holds
from moorfog.rooms.people.tables import Person

TRIES = 8
FIRST_WAIT = timedelta(minutes=1)
"""After a try that failed; twice as long after each that follows."""
PATIENCE_S = 20.0
NOT_ANY_MORE = "What it says did not hold any more when it was to be sent. The person’s page says why."


def message_of(one: Mail, server: MailServer, now: datetime) -> EmailMessage:
    """Return a letter as it is sent. Its id is that of the outbox's line: sent twice, it is seen to be the same."""
    out = EmailMessage()
    out["From"], out["To"], out["Subject"] = server.sender, one.to_address, one.subject
    out["Date"] = format_datetime(now)
    out["Message-ID"] = f"<{one.id}@{server.sender.rpartition('@')[2].strip('> ')}>"
    out["Auto-Submitted"] = "auto-generated"
    out.set_content(one.body)
    if one.file:
        out.add_attachment(one.file, maintype="application", subtype="pdf", filename=one.file_name)
    return out


def send(server: MailServer, message: EmailMessage) -> None:
    """Hand a letter to the server. Raises what :mod:`smtplib` and sockets raise."""
    context = ssl.create_default_context()
    opened: smtplib.SMTP
    if server.tls == "tls":
        opened = smtplib.SMTP_SSL(server.host, server.port, timeout=PATIENCE_S, context=context)
    else:
        opened = smtplib.SMTP(server.host, server.port, timeout=PATIENCE_S)
    with opened as smtp:
        if server.tls == "starttls":
            smtp.starttls(context=context)
        if server.user:
            smtp.login(server.user, server.password)
        smtp.send_message(message)


def send_next(engine: Engine, clock: Clock, server: MailServer) -> bool:
    """Send the letter that has waited longest; return whether there was one.

    It is claimed first, for so long as its next try is away: a worker that dies over it leaves it to be sent later,
    perhaps twice, never lost.
    """
    while (claimed := run_in_transaction(engine, lambda db: _claim(db, clock))) is not None:
        told_of = claimed.visit_id
        if told_of is None or run_in_transaction(engine, partial(pass_holds, clock=clock, visit_id=told_of)):
            break
        void = partial(_settle, clock=clock, mail_id=claimed.id, problem=NOT_ANY_MORE, is_final=True)
        run_in_transaction(engine, void)
    if claimed is None:
        return False
    problem, is_final = "", False
    try:
        send(server, message_of(claimed, server, claimed.made_at))
    except smtplib.SMTPRecipientsRefused as error:
        code, words = next(iter(error.recipients.values()))
        problem, is_final = f"{code} {words.decode(errors='replace')}", code >= 500
    except smtplib.SMTPResponseException as error:
        problem, is_final = f"{error.smtp_code} {error.smtp_error!r}", False
    except (OSError, smtplib.SMTPException) as error:
        problem = f"{type(error).__name__}: {error}"
    except ValueError as error:  # no letter can be made of it, now or later
        problem, is_final = f"It cannot be written to: {error}", True
    run_in_transaction(engine, lambda db: _settle(db, clock, claimed.id, problem, is_final))
    return True


def _claim(db: Session, clock: Clock) -> Mail | None:
    now = clock.now(db)
    waiting = select(Mail).where(Mail.state == "waiting", Mail.next_at <= now).order_by(Mail.next_at)
    one = db.scalar(waiting.limit(1).with_for_update(skip_locked=True))
    if one is not None:
        one.attempts += 1
        one.next_at = now + FIRST_WAIT * 2 ** (one.attempts - 1)
    return one


def _settle(db: Session, clock: Clock, mail_id: str, problem: str, is_final: bool) -> None:
    one = db.get(Mail, mail_id, with_for_update=True)
    if one is None:
        return  # erased with its person meanwhile
    if not problem:
        one.state, one.sent_at, one.problem, one.body, one.file = "sent", clock.now(db), "", "", b""
    else:
        one.problem = problem[:400]
        one.state = "failed" if is_final or one.attempts >= TRIES else "waiting"


@dataclass(frozen=True)
class Letter:
    """What is to be sent: to whom, about whom (none: to a colleague), with which file. ``visit_id``: of whose pass it
    tells; it is only sent while that holds."""

    kind: Literal["paper", "invitation", "notice"]
    employer_id: str
    person_id: str | None
    to_address: str
    subject: str
    body: str
    file_name: str = ""
    file: bytes = b""
    visit_id: str | None = None


def put_out(db: Session, clock: Clock, account_id: str, letter: Letter) -> None:
    """Put a letter into the outbox, for the account that wants it sent."""
    now = clock.now(db)
    waiting = {"state": "waiting", "attempts": 0, "problem": "", "made_at": now, "next_at": now}
    db.add(Mail(id=new_id(), account_id=account_id, **vars(letter), **waiting))
    db.flush()
    about = ("person", letter.person_id) if letter.person_id is not None else ("account", account_id)
    note(db, Note(*about, letter.employer_id, {"letter": ["", letter.subject]}))


@dataclass(frozen=True)
class MailLine:
    """A letter in the outbox: to whom, what, how it went. ``person_id`` is empty where it is to a colleague, whose name
    ``person`` is then."""

    id: str
    person_id: str
    person: str
    to_address: str
    subject: str
    state: str
    problem: str
    made_at: str
    sent_at: str


@dataclass(frozen=True)
class MailPage:
    """A page of the outbox, the latest first; ``is_on``: whether a mail server is set."""

    is_on: bool
    rows: tuple[MailLine, ...]
    total: int
    page: int
    pages: int


def list_mails(db: Session, actor: Actor, page: int, is_on: bool) -> MailPage:
    """Return a page of the outbox within the actor's scope."""
    mails = within(select(Mail), actor.require(*READERS), Mail.employer_id)
    named = mails.add_columns(func.coalesce(Person.name, Account.name))
    query = named.outerjoin(Person, Person.id == Mail.person_id).outerjoin(Account, Account.id == Mail.account_id)
    shown = cut_to_page(db, query, page, Mail.made_at.desc(), Mail.id, counted=mails)
    rows = tuple(
        MailLine(
            id=one.id,
            person_id=one.person_id or "",
            person=name,
            to_address=one.to_address,
            subject=one.subject,
            state=one.state,
            problem=one.problem,
            made_at=instant(one.made_at),
            sent_at=instant(one.sent_at) if one.sent_at is not None else "",
        )
        for one, name in shown.rows
    )
    return MailPage(is_on=is_on, rows=rows, total=shown.total, page=shown.page, pages=shown.pages)


def send_again(db: Session, clock: Clock, actor: Actor, mail_id: str) -> None:
    """Try a letter again that could not be sent. Raises :class:`NotFound`, :class:`DomainError` for one that was."""
    one = db.get(Mail, mail_id, with_for_update=True)
    if one is None or not actor.require(*READERS).allows(one.employer_id):
        raise NotFound("letter")
    if one.state == "sent":
        raise DomainError("sent", "It was sent already. Make a new one from the person's page.")
    one.state, one.attempts, one.next_at, one.problem = "waiting", 0, clock.now(db), ""
    about = ("person", one.person_id) if one.person_id is not None else ("account", one.account_id)
    note(db, Note(*about, one.employer_id, {"letter": [one.subject, "to be sent again"]}))
