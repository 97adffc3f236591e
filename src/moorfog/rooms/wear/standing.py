"""How people stand, worked out beforehand: what is stale is asked of the one permission anew before it is shown."""

from __future__ import annotations

import hashlib
import json
import logging
import time
from collections.abc import Iterator, Sequence
from datetime import date, timedelta

from sqlalchemy import Engine, false, func, or_, select, true, update
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from moorfog import __version__
from moorfog.core.kernel.codec import encode
from moorfog.core.kernel.days import day_in
from moorfog.core.permission.standing import standing_of
from moorfog.data import facepiece_kinds, method_names, shipped_books, value_shapes
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.summaries import Standing, StandingBy
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.permissions import answers_for, at_work
from moorfog.steps import Apart

MOST_SITES = 200
"""Sites that are looked at before it is asked anew which are stale."""
log = logging.getLogger("moorfog.worker")

AT_ONCE = 250
"""People that are asked about in one go."""
WHILE_WAITING = 500
"""People that are asked about while somebody waits for a page."""
WORKED_OUT = ("has_passed", "until", "is_only", "look_again", "is_stale")


def made_by() -> str:
    """Return a digest of what an answer rests on besides facts: the program's version and the shipped rule books."""
    data = {
        "books": {key: encode(one) for key, one in shipped_books().items()},
        "kinds": {key: encode(one) for key, one in facepiece_kinds().items()},
        "methods": dict(method_names()),
        "shapes": encode(value_shapes()),
    }
    return hashlib.sha256(f"{__version__} {json.dumps(data, sort_keys=True, default=str)}".encode()).hexdigest()


def distrust_foreign(db: Session) -> bool:
    """Mark everybody stale where another program, or other rule books, worked out how they stand; return whether."""
    row = db.get(StandingBy, 1, with_for_update=True)
    if row is not None and row.made_by == made_by():
        return False
    if row is None:
        db.add(StandingBy(id=1, made_by=made_by()))
    else:
        row.made_by = made_by()
    stale = update(Standing).values(rev=Standing.rev + 1, is_stale=True)
    db.execute(stale.execution_options(synchronize_session=False))
    return True


def freshen(db: Session, site: Site, today: date, most: int) -> None:
    """Work out anew how people of a site stand on a day, ``most`` of them at the most."""
    for _ in range(0, most, AT_ONCE):
        found = _stale(db, site.id, today)
        if not found:
            return
        _work_out(db, site, today, found)


def pending(db: Session, site: Site, today: date) -> int:
    """Return how many people of a site are still to be worked out."""
    here = select(func.count()).where(Standing.site_id == site.id, Standing.is_here == true())
    return db.scalar(here.where(or_(Standing.is_stale == true(), Standing.look_again <= today))) or 0


def _stale(db: Session, site_id: str, today: date) -> list[tuple[str, int]]:
    """Return whom to work out, each with the change that was heard last. Asked apart: each has an index of its own."""
    here = select(Standing.person_id, Standing.rev).where(Standing.is_here == true(), Standing.site_id == site_id)
    found = db.execute(here.where(Standing.is_stale == true()).limit(AT_ONCE)).all()
    if len(found) < AT_ONCE:
        again = here.where(Standing.look_again <= today, Standing.is_stale == false())
        found = [*found, *db.execute(again.limit(AT_ONCE - len(found)))]
    return [(one, rev) for one, rev in found]


def _work_out(db: Session, site: Site, today: date, found: Sequence[tuple[str, int]]) -> None:
    revs = dict(found)
    people = db.scalars(select(Person).where(Person.id.in_(revs)).order_by(Person.id)).all()
    answers = answers_for(db, people, today.isoformat(), at_work(db))
    rows = []
    for one in people:
        answer = answers[one.id]
        stands = standing_of(answer.found, answer.known.facts, answer.books, today.isoformat())
        rows.append(
            {
                "person_id": one.id,
                "site_id": one.site_id,
                "is_here": True,
                "rev": revs[one.id],
                "is_stale": False,
                "has_passed": bool(answer.found),
                "until": date.fromisoformat(stands.until) if stands.until else None,
                "is_only": stands.is_only,
                "look_again": date.fromisoformat(stands.look_again) if stands.look_again else None,
            }
        )
    if not rows:
        return
    added = insert(Standing).values(rows)
    own = Standing.__table__.c
    heard_nothing_since = own.rev == added.inserted.rev
    kept = {name: func.if_(heard_nothing_since, added.inserted[name], own[name]) for name in WORKED_OUT}
    db.execute(added.on_duplicate_key_update(kept))


def freshen_everywhere(engine: Engine, clock: Clock, apart: Apart | None = None) -> Iterator[int]:
    """Work out anew whoever is stale at any site, some at a time, each in a transaction of its own; yields how many
    after each, so that the caller can stop. A site of which something cannot be read keeps no other waiting."""
    alone = apart or Apart(log, time.monotonic, "working out who may wear what, site")
    while sites := [
        one for one in run_in_transaction(engine, lambda db: _stale_sites(db, clock)) if not alone.is_resting(one)
    ]:
        for site_id in sites:
            done = list[int]()

            def some(site_id: str = site_id, done: list[int] = done) -> None:
                done.append(run_in_transaction(engine, lambda db: _some_of(db, clock, site_id)))

            alone.do(site_id, some)
            yield sum(done)


def _stale_sites(db: Session, clock: Clock) -> list[str]:
    """Return the sites at which somebody is stale. What comes due by the day alone is taken up once it is that day
    everywhere: whoever looks earlier works it out while they wait."""
    everywhere = clock.now(db).date() - timedelta(days=1)
    here = select(Standing.site_id).where(Standing.is_here == true()).distinct().limit(MOST_SITES)
    stale = list(db.scalars(here.where(Standing.is_stale == true())))
    again = here.where(Standing.look_again <= everywhere, Standing.is_stale == false())
    return list(dict.fromkeys([*stale, *db.scalars(again)]))


def _some_of(db: Session, clock: Clock, site_id: str) -> int:
    """Work out some of one site; return how many."""
    now, site = clock.now(db), db.get(Site, site_id)
    if site is None:
        return 0
    today = day_in(site.zone, now)
    found = _stale(db, site.id, today)
    _work_out(db, site, today, found)
    return len(found)
