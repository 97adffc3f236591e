"""Somebody with the schema's account who takes guards down, changes what was written, and puts them up again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Engine, text
from sqlalchemy.orm import Session

from moorfog.platform.db.accounts import SCHEMA
from moorfog.platform.db.base import make_engine


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
def no_guards(engine: Engine) -> Iterator[None]:
    """All guards down, and afterwards the very same ones up again."""
    with as_schema(engine) as schema, schema.begin() as connection:
        there = [one[0] for one in connection.execute(text("SHOW TRIGGERS"))]
        names = [one for one in there if one.endswith(("_no_update", "_no_delete"))]
        made = [str(connection.execute(text(f"SHOW CREATE TRIGGER {name}")).one()[2]) for name in names]
        for name in names:
            connection.execute(text(f"DROP TRIGGER {name}"))
    try:
        yield
    finally:
        with as_schema(engine) as schema, schema.begin() as connection:
            for statement in made:
                connection.exec_driver_sql(statement.replace("%", "%%"))


@contextmanager
def unguarded(engine: Engine) -> Iterator[Session]:
    """A session in which what is written once can be changed; committed at its end."""
    with no_guards(engine), as_schema(engine) as schema, Session(schema) as db, db.begin():
        yield db
