"""Solutions, jars and tubes: recipes, lots, and what is at hand."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from typing import Any, ClassVar, Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.advice.solutions import keeps_until, scaled
from moorfog.core.events.facts import STRICT, Agent
from moorfog.core.events.payloads import Lot
from moorfog.core.kernel.arithmetic import NotANumber, cut, parse_decimal
from moorfog.core.rules.protocols import Recipe
from moorfog.data import shipped_protocols
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Id, Label, Line, day_of
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.kit.found_wrong import Found, open_recall
from moorfog.rooms.kit.instruments import owner_of_kit
from moorfog.rooms.kit.lending import lend_unowned
from moorfog.rooms.kit.tables import LotRow

TEST = ("tester", "administrator")
NebuliserRole = Literal["threshold", "fit"]


@dataclass(frozen=True)
class LotEntry:
    """A lot to enter. Dates as YYYY-MM-DD; ``employer_id`` null: the only one, or nobody's."""

    __pydantic_config__: ClassVar[Any] = STRICT
    employer_id: Id | None
    agent: Agent
    role: str
    number: Label
    made_on: str
    use_by: str
    made_by: Line


@dataclass(frozen=True)
class RecipeView:
    """A recipe as the calculator shows it: what goes into ``ml`` of it, cut for display."""

    agent: str
    protocol_id: str
    role: str
    title: str
    ml: str
    ingredients: tuple[str, ...]
    how: str
    keeps: str
    source: str
    standing: str


@dataclass(frozen=True)
class LotView:
    """A lot on the kit page."""

    id: str
    agent: str
    role: str
    number: str
    made_on: str
    use_by: str
    made_by: str
    is_expired: bool


@dataclass(frozen=True)
class LotsPage:
    """One page of lots, the freshest first."""

    rows: tuple[LotView, ...]
    total: int
    page: int
    pages: int


def recipes() -> dict[tuple[str, str], tuple[str, Recipe]]:
    """Return every recipe by agent and role, with the protocol it stands in."""
    return {(one.method, recipe.role): (one.id, recipe) for one in shipped_protocols() for recipe in one.recipe}


def list_recipes(ml: str = "") -> tuple[RecipeView, ...]:
    """Return every recipe for ``ml`` millilitres, or for the amount it is written for.

    Raises :class:`DomainError` for an amount that is no number above zero.
    """
    try:
        wanted = parse_decimal(ml, "Amount in ml") if ml else None
        return tuple(_recipe(agent, protocol, one, wanted) for (agent, _), (protocol, one) in recipes().items())
    except (NotANumber, ValueError) as error:
        raise DomainError("amount", f"{error}. Type millilitres, such as 50.") from error


def _recipe(agent: str, protocol: str, one: Recipe, wanted: Fraction | None) -> RecipeView:
    ml = wanted if wanted is not None else Fraction(one.per_ml)
    parts = tuple(f"{_short(part.amount)} {part.unit} {part.what}" for part in scaled(one, ml))
    keeps = f"{one.good_for_h} h" if one.good_for_h else "until the use-by date its maker gives it"
    return RecipeView(
        agent=agent,
        protocol_id=protocol,
        role=one.role,
        title=one.title,
        ml=_short(ml),
        ingredients=parts,
        how=one.how,
        keeps=keeps,
        source=one.source,
        standing=one.standing,
    )


def _short(amount: Fraction) -> str:
    text = cut(amount, 3)
    return text.rstrip("0").rstrip(".") if "." in text else text


def enter_lot(db: Session, clock: Clock, actor: Actor, entry: LotEntry) -> LotView:
    """Enter a lot. Raises :class:`DomainError` for an unknown role, a missing number, or dates that make no sense."""
    owner = owner_of_kit(actor, entry.employer_id)
    known = recipes().get((entry.agent, entry.role))
    if known is None:
        roles = ", ".join(role for agent, role in recipes() if agent == entry.agent)
        raise DomainError("role", f"{entry.role!r} is no role of this agent; it has {roles}.")
    made, use_by = day_of(entry.made_on, "Made on"), day_of(entry.use_by, "Use by")
    if use_by < made:
        raise DomainError("use_by", f"Use by {use_by} comes before made on {made}. Correct one of them.")
    latest = keeps_until(known[1], datetime(made.year, made.month, made.day, tzinfo=UTC))
    if latest is not None and use_by > latest.date():
        raise DomainError("use_by", f"{known[1].title} keeps until {latest.date()}, not until {use_by}.")
    if not entry.number.strip():
        raise DomainError("number_missing", "A lot needs a number that stands on its label.")
    row = LotRow(
        id=new_id(),
        employer_id=owner,
        agent=entry.agent,
        role=entry.role,
        number=entry.number.strip(),
        made_on=made,
        use_by=use_by,
        made_by=entry.made_by.strip() or actor.name,
        entered_at=clock.now(db),
        withdrawn_at=None,
    )
    db.add(row)
    db.flush()
    lend_unowned(db, actor.name, row.id, owner)
    return lot_view(row, clock.now(db))


def lot_view(row: LotRow, now: datetime) -> LotView:
    """Return a lot for a screen."""
    return LotView(
        id=row.id,
        agent=row.agent,
        role=row.role,
        number=row.number,
        made_on=row.made_on.isoformat(),
        use_by=row.use_by.isoformat(),
        made_by=row.made_by,
        is_expired=row.use_by < now.date() - timedelta(days=1),
    )


def find_lot(db: Session, scope: Scope, lot_id: str) -> LotRow:
    """Return a lot within the scope. Raises :class:`NotFound`."""
    query = within(select(LotRow).where(LotRow.id == lot_id), scope, LotRow.employer_id, kit=LotRow.id)
    row = db.scalar(query)
    if row is None:
        raise NotFound("lot")
    return row


def list_lots(
    db: Session, clock: Clock, actor: Actor, page: int, agent: str = "", *, only_good: bool = False
) -> LotsPage:
    """Return the lots within the actor's scope, the freshest first; withdrawn ones are left out.

    ``only_good``: those out of date are left out as well.
    """
    scope, now = actor.require(*READERS), clock.now(db)
    query = within(select(LotRow).where(LotRow.withdrawn_at.is_(None)), scope, LotRow.employer_id, kit=LotRow.id)
    if agent:
        query = query.where(LotRow.agent == agent)
    if only_good:
        query = query.where(LotRow.use_by >= now.date())
    shown = cut_to_page(db, query, page, LotRow.made_on.desc(), LotRow.id)
    return LotsPage(tuple(lot_view(one, now) for (one,) in shown.rows), shown.total, shown.page, shown.pages)


def lots_at_hand(db: Session, clock: Clock, actor: Actor) -> set[tuple[str, str]]:
    """Return agent and role of every lot in date within the actor's scope."""
    scope, today = actor.require(*READERS), clock.now(db).date()
    query = select(LotRow.agent, LotRow.role).where(LotRow.withdrawn_at.is_(None), LotRow.use_by >= today)
    return {(agent, role) for agent, role in db.execute(within(query, scope, LotRow.employer_id, kit=LotRow.id))}


def withdraw_lot(db: Session, clock: Clock, actor: Actor, lot_id: str, reason: str) -> LotRow:
    """Withdraw a lot: it is used no more, and every test with it is suspended until somebody settles it.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` without a reason.
    """
    row, now = find_lot(db, actor.require(*TEST), lot_id), clock.now(db)
    if not reason.strip():
        raise DomainError("reason_missing", "Say what is wrong with the lot, in a few words.")
    if row.withdrawn_at is None:
        row.withdrawn_at = now
    what = f"Lot {row.number} was withdrawn: {reason.strip()}."
    open_recall(
        db,
        Found(
            kit_kind="lot",
            kit_id=row.id,
            kit_name=f"lot {row.number}",
            check_name="withdrawn",
            what=what,
            employer_id=row.employer_id,
            since=None,
            until=now,
        ),
        actor.id,
    )
    return row


def lot_by_value(row: LotRow) -> Lot:
    """Return a lot as an event carries it."""
    return Lot(
        id=row.id,
        agent=row.agent,  # type: ignore[arg-type]
        role=row.role,
        number=row.number,
        made_on=row.made_on.isoformat(),
        use_by=row.use_by.isoformat(),
        made_by=row.made_by,
    )


def lots_by_value(db: Session, scope: Scope, lot_ids: tuple[str, ...]) -> tuple[Lot, ...]:
    """Return lots as an event carries them. Raises :class:`NotFound`, :class:`DomainError` for a withdrawn one."""
    rows = [find_lot(db, scope, one) for one in lot_ids]
    for row in rows:
        if row.withdrawn_at is not None:
            raise DomainError("lot_withdrawn", f"Lot {row.number} was withdrawn. Take another.")
    return tuple(lot_by_value(row) for row in rows)
