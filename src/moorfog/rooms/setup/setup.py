"""Setting up an installation: the one-time code, the first administrator, and what is missing before the first test."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import DomainError, Forbidden
from moorfog.platform.web.fields import Line
from moorfog.rooms.accounts.sessions import Attempt, SignedIn, create_account, one_too_many, open_session, weak_password
from moorfog.rooms.accounts.tables import Account, Grant
from moorfog.rooms.bench.choices import kit_at_hand
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.tables import InstrumentRow
from moorfog.rooms.people.tables import Person
from moorfog.rooms.setup.tables import SetupCode
from moorfog.rooms.sites.tables import Employer, Organisation, Site, SiteTask
from moorfog.same import is_same

LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
"""Of a code that is typed from a terminal: none that looks like another."""


@dataclass(frozen=True)
class SetupState:
    """Whether the set-up waits for its code, and whose installation it is (empty before that is said)."""

    is_open: bool
    organisation: str


@dataclass(frozen=True)
class SetupEntry:
    """What is said first: the code from the terminal, whose installation it is, and its first administrator, who may
    be a tester as well."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    code: Line
    organisation: Line
    login: Line
    name: Line
    password: Line
    tests_too: bool


@dataclass(frozen=True)
class Step:
    """Something that a first test needs: whether it is there, what to do, and on which page."""

    code: str
    title: str
    is_done: bool
    words: str
    place: str


@dataclass(frozen=True)
class Missing:
    """What a first test needs, in order; ``is_ready`` once nothing of it is missing."""

    organisation: str
    by_senses_only: bool
    is_ready: bool
    steps: tuple[Step, ...]


def has_accounts(db: Session) -> bool:
    """Tell whether anybody has an account here."""
    return db.scalar(select(Account.id).limit(1)) is not None


def new_code(db: Session) -> str:
    """Make the code that opens the set-up; one that was made before ends. Raises :class:`DomainError` once an account
    exists: then an administrator invites everybody else."""
    if has_accounts(db):
        raise DomainError("set_up_already", "This installation is set up. Its administrator invites everybody else.")
    text = "-".join("".join(secrets.choice(LETTERS) for _ in range(4)) for _ in range(3))
    db.merge(SetupCode(id=1, digest=digest_of(text)))
    db.flush()
    return text


def setup_state(db: Session) -> SetupState:
    """Return whether the set-up is open."""
    organisation = db.get(Organisation, 1)
    return SetupState(not has_accounts(db), organisation.name if organisation is not None else "")


def set_up(db: Session, clock: Clock, one: SetupEntry, tried: Attempt) -> SignedIn | DomainError:
    """Make the first administrator, sign them in and let the code end; or return why not.

    A wrong code is counted like a wrong password.
    """
    if one_too_many(db, "set-up", tried.address[:64], clock.now(db)):
        return DomainError(
            "too_many_attempts", "Too many tries. Wait a quarter of an hour, then try again.", status=429
        )
    row = db.get(SetupCode, 1, with_for_update=True)
    if row is None or has_accounts(db):
        return DomainError(
            "set_up_already", "This installation is set up. Sign in, or ask for an invitation.", status=409
        )
    if not is_same(digest_of(one.code.strip().lower()), row.digest):
        return DomainError(
            "wrong_code", "This is not the code that the terminal shows. Type it as it stands there.", status=401
        )
    account_id = first_administrator(db, clock, one)
    return open_session(db, clock, db.get_one(Account, account_id), tried)


def first_administrator(db: Session, clock: Clock, one: SetupEntry) -> str:
    """Make the first account and say whose installation it is; every fault is named at once.

    Returns the account's id.
    """
    login, name, organisation = (
        one.login.strip().lower(),
        " ".join(one.name.split()),
        " ".join(one.organisation.split()),
    )
    problems = []
    if not organisation:
        problems.append("whose installation it is")
    if not name:
        problems.append("your name")
    if not login or any(sign.isspace() for sign in login):
        problems.append("a name to sign in with, without spaces")
    wrong = weak_password(one.password, login, *name.split(), *organisation.split())
    if problems or wrong:
        words = f"Still needed: {', '.join(problems)}. " if problems else ""
        raise DomainError(
            "set_up_wrong", f"{words}{'Password: ' + wrong if wrong else ''}".strip(), {"missing": problems}
        )
    roles = ("administrator", "supervisor", *(("tester",) if one.tests_too else ()))
    account_id = create_account(db, login, name, one.password, [(role, None) for role in roles])
    db.merge(Organisation(id=1, name=organisation, by_senses_only=False, made_at=clock.now(db)))
    code = db.get(SetupCode, 1)
    if code is not None:
        db.delete(code)
    db.flush()
    note(db, Note("organisation", "1", changes={"name": ["", organisation], "administrator": ["", account_id]}))
    return account_id


def change_organisation(db: Session, clock: Clock, actor: Actor, name: str, *, by_senses_only: bool) -> None:
    """Say whose installation it is, and whether there is no instrument here."""
    if actor.require("administrator").employers is not None:
        raise Forbidden("all_employers", "An administrator of all employers says whose installation it is.")
    row = db.get(Organisation, 1)
    before = {"name": row.name, "by senses only": row.by_senses_only} if row is not None else {}
    words = " ".join(name.split())
    if not words:
        raise DomainError("name_missing", "An installation needs a name: that of whoever runs it.")
    after = {"name": words, "by senses only": by_senses_only}
    if row is None:
        db.add(Organisation(id=1, name=words, by_senses_only=by_senses_only, made_at=clock.now(db)))
    else:
        row.name, row.by_senses_only = words, by_senses_only
    note(db, Note("organisation", "1", changes={key: [before.get(key), value] for key, value in after.items()}))


def _has(db: Session, query: Any) -> bool:
    return db.execute(query.limit(1)).first() is not None


def missing(db: Session, clock: Clock, actor: Actor) -> Missing:
    """Return what a first test still needs, within the administrator's employers."""
    scope = actor.require("administrator")
    row = db.get(Organisation, 1)
    senses = row is not None and row.by_senses_only
    in_use = select(Employer.id).where(scope.condition(Employer.id), Employer.archived_at.is_(None))
    sites = within(select(Site.id), scope, Site.employer_id).where(Site.archived_at.is_(None))
    testers = (
        select(Grant.id)
        .join(Account, Account.id == Grant.account_id)
        .where(Grant.role == "tester", Account.off_at.is_(None), Account.password_hash != "")
        .where(or_(Grant.employer_id.is_(None), scope.condition(Grant.employer_id)))
    )
    people = within(select(Person.id), scope, Person.employer_id).where(Person.left_on.is_(None))
    facepieces = db.scalar(
        select(func.count()).select_from(FacepieceVersion).where(FacepieceVersion.withdrawn_at.is_(None))
    )
    instruments = within(select(InstrumentRow.id), scope, InstrumentRow.employer_id, kit=InstrumentRow.id)
    tasks = select(SiteTask.id).join(Site, Site.id == SiteTask.site_id)
    kit = kit_at_hand(db, clock, actor).methods
    senses_kit = (
        "Enter lots and nebulisers, fill and check them."
        if senses
        else "Do the checks of the day, or fill what is smelt and tasted."
    )
    steps = (
        Step(
            code="employer",
            title="An employer",
            is_done=_has(db, in_use),
            words="Whose workers are tested.",
            place="/admin/places",
        ),
        Step(
            code="site",
            title="A site with a bench",
            is_done=_has(db, sites),
            words="Where tests are made, in which time zone, by which rule book.",
            place="/admin/places",
        ),
        Step(
            code="tester",
            title="A tester",
            is_done=_has(db, testers),
            words="Somebody with the role of a tester, who has chosen a password.",
            place="/admin/accounts",
        ),
        Step(
            code="facepieces",
            title="Facepieces",
            is_done=bool(facepieces),
            words="What is worn here, with the maker's sizes: a file, or one by one.",
            place="/admin/facepieces",
        ),
        Step(
            code="kit",
            title="An instrument, or by the senses only",
            is_done=senses or _has(db, instruments.where(InstrumentRow.retired_at.is_(None))),
            words="Enter the instrument with its figures, or say that there is none.",
            place="/admin/instruments",
        ),
        Step(
            code="people",
            title="People",
            is_done=_has(db, people),
            words="A roster as a file, or one by one at the bench.",
            place="/import",
        ),
        Step(
            code="task",
            title="A task",
            is_done=_has(db, within(tasks, scope, Site.employer_id)),
            words="What they work with: it decides which facepiece is enough.",
            place="/rules",
        ),
        Step(code="ready", title="Kit that is ready today", is_done=bool(kit), words=senses_kit, place="/kit"),
    )
    return Missing(row.name if row is not None else "", senses, all(one.is_done for one in steps), steps)
