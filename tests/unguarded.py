"""Somebody with the schema's account who takes guards down, changes what was written, and puts them up again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Engine, text
from sqlalchemy.orm import Session

from moorfog.store.accounts import SCHEMA, WRITTEN_ONCE
from moorfog.store.base import make_engine
from moorfog.store.guards import guards, no_guards


def schema_engine(engine: Engine) -> Engine:
    """The same database by the account that may change its schema; tests give both accounts one password."""
    return make_engine(engine.url.set(username=SCHEMA).render_as_string(hide_password=False))


@contextmanager
def as_schema(engine: Engine) -> Iterator[Engine]:
    """An engine of that account, thrown away afterwards."""
    made = schema_engine(engine)
    yield made
    made.dispose()


@contextmanager
def unguarded(engine: Engine) -> Iterator[Session]:
    """A session in which the log can be changed; committed at its end."""
    with as_schema(engine) as schema:
        _tell(schema, no_guards(WRITTEN_ONCE))
        try:
            with Session(schema) as db, db.begin():
                yield db
        finally:
            _tell(schema, guards(WRITTEN_ONCE))


def _tell(schema: Engine, statements: list[str]) -> None:
    with schema.begin() as connection:
        for one in statements:
            connection.execute(text(one))
