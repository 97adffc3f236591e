"""Engine, transactions and ids."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime
from functools import cache
from typing import Any, TypeVar

from sqlalchemy import URL, Engine, Uuid, create_engine, make_url
from sqlalchemy.dialects.mysql import DATETIME
from sqlalchemy.engine import Dialect
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import DeclarativeBase, Session
from sqlalchemy.types import TypeDecorator
from uuid6 import uuid7

T = TypeVar("T")
RETRY_CODES = frozenset({1205, 1213, 1047, 2006, 2013, 2003})
"""Lock wait, deadlock, cluster not ready, server gone, connection lost, connection refused."""
DUPLICATE_KEY = 1062
"""Somebody else was first. The second attempt sees what they stored and answers to that."""


class Base(DeclarativeBase):
    """Base of all tables. Names of keys are fixed so that migrations can name them."""


class UtcDateTime(TypeDecorator[datetime]):
    """A moment in UTC with milliseconds; naive moments are refused."""

    impl = DATETIME(fsp=3)
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        """Write UTC without offset."""
        if value is None:
            return None
        if value.tzinfo is None:
            raise ValueError("a moment without time zone cannot be stored")
        value = value.astimezone(UTC).replace(tzinfo=None)
        return value.replace(microsecond=value.microsecond // 1000 * 1000)

    def process_result_value(self, value: Any | None, dialect: Dialect) -> datetime | None:
        """Read back as UTC."""
        return value.replace(tzinfo=UTC) if value is not None else None


def new_id() -> str:
    """Return a new UUIDv7 as text."""
    return str(uuid7())


PATIENCE_S = 20.0
"""So long somebody at a screen waits for the database before they are told that it is away."""


def make_engine(url: str, patience_s: float | None = None) -> Engine:
    """Return an engine for ``url`` (mariadb+pymysql://…), reading committed rows.

    ``patience_s``: a question that is not answered for so long is given up, and not asked again once it has passed;
    None for work that may take its time.

    Errors show no values: names are values.

    Connections are not tried before each use: :func:`run_in_transaction` repeats on one that was lost.
    """
    return create_engine(
        url,
        isolation_level="READ COMMITTED",
        connect_args=_connecting(make_url(url), patience_s),
        hide_parameters=True,
        execution_options={"patience_s": patience_s},
        **_POOL,
    )


_POOL: dict[str, Any] = {"pool_size": 20, "max_overflow": 40, "pool_recycle": 1800}


def _connecting(url: URL, patience_s: float | None) -> dict[str, Any]:
    """Return how to connect. On loopback without TLS: its context alone takes a megabyte a connection."""
    given: dict[str, Any] = {"connect_timeout": min(5.0, patience_s or 5.0), "charset": "utf8mb4"}
    if patience_s is not None:
        given |= {"read_timeout": patience_s, "write_timeout": patience_s}
    is_here = url.host in ("127.0.0.1", "localhost", "::1")
    return {**given, "ssl_disabled": True} if is_here and not any(key.startswith("ssl") for key in url.query) else given


@cache
def _quick_engine(url: URL) -> Engine:
    given = {**_connecting(url, PATIENCE_S), "init_command": "SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED"}
    return create_engine(
        url,
        isolation_level="AUTOCOMMIT",
        hide_parameters=True,
        skip_autocommit_rollback=True,
        pool_reset_on_return=None,
        connect_args=given,
        **_POOL,
    )


def quick_engine(engine: Engine) -> Engine:
    """Return this process's engine for the same database on which each statement is a transaction of its own.

    For what is asked hundreds of times a second: no question is spent on beginning, committing and cleaning up.
    """
    return _quick_engine(engine.url)


def error_code(error: DBAPIError) -> int:
    """Return the server's or driver's error number, 0 if there is none."""
    args = getattr(error.orig, "args", ())
    return args[0] if args and isinstance(args[0], int) else 0


def run_in_transaction(engine: Engine, fn: Callable[[Session], T], attempts: int = 8) -> T:
    """Run ``fn`` in a transaction, repeating it on deadlock or lost connection; ``fn`` must have no outside effects.

    Raises what ``fn`` raises, and the database's error after the last attempt.
    """
    patience_s, began = engine.get_execution_options().get("patience_s"), time.monotonic()
    for attempt in range(attempts):
        try:
            with Session(engine, expire_on_commit=False) as db, db.begin():
                return fn(db)
        except DBAPIError as error:
            code = error_code(error)
            waited = patience_s is not None and time.monotonic() - began >= patience_s
            last = attempt == attempts - 1 or waited or (code == DUPLICATE_KEY and attempt >= 1)
            if last or (code not in RETRY_CODES and code != DUPLICATE_KEY):
                raise
            time.sleep(min(0.05 * 2**attempt, 1.0))
    raise AssertionError("unreachable")


Id = Uuid(as_uuid=False)
