"""Somebody at the database who takes its guards down, changes what was written, and puts them up again."""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Engine, text
from sqlalchemy.orm import Session

GUARDS = importlib.import_module("moorfog.store.migrations.versions.20261126_0021_guards")


@contextmanager
def unguarded(engine: Engine) -> Iterator[Session]:
    """A session in which the log can be changed; committed at its end."""
    with engine.begin() as connection:
        for one in GUARDS.no_guards():
            connection.execute(text(one))
    try:
        with Session(engine) as db, db.begin():
            yield db
    finally:
        with engine.begin() as connection:
            for one in GUARDS.guards():
                connection.execute(text(one))
