"""Somebody at a bench of the demo's world, for what is measured there."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo import seed
from moorfog.demo.walk import Walk
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.people.tables import Person


def seated(engine: Engine, rules: Rules) -> Walk:
    """Seed the places, and walk a visit of somebody there to where a facepiece is chosen."""
    run_in_transaction(engine, lambda db: seed.seed_places(db, rules, "only-for-the-bench", "token"))
    db = Session(engine)
    account = db.scalar(select(Account).where(Account.login == "maren"))
    person, counter = db.scalar(select(Person).order_by(Person.id.desc()).limit(1)), seed.counter_id(db)
    assert account and person and counter
    actor = load_actor(db, account, datetime.now(UTC) + timedelta(days=1))
    seed.check_counter(db, actor, counter, DatabaseClock().now(db) - timedelta(minutes=30))
    walk = Walk(db, actor, rules, person.id, "Bench", DatabaseClock().now(db) - timedelta(minutes=28), counter)
    walk.until("choose_facepiece")
    db.commit()
    return walk
