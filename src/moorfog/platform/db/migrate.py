"""Migrations, run from the package."""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from functools import cache
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine

from moorfog.platform.db.base import make_engine
from moorfog.platform.log.take_over import begin_ledgers


def config_for(url: str) -> Config:
    """Return Alembic's configuration for a database address."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config


def migrate(url: str, revision: str = "head", taken: Callable[[int], None] = lambda rows: None) -> None:
    """Bring the database up to this program's schema, or to one that it had before; at its own the ledgers begin.

    ``taken`` hears how many rows the ledgers have taken over.
    """
    command.upgrade(config_for(url), revision)
    if revision == "head":
        engine = make_engine(url)
        try:
            begin_ledgers(engine, taken)
        finally:
            engine.dispose()


def is_known(revision: str) -> bool:
    """Tell whether a revision is one of this program's own."""
    return revision in {one.revision for one in ScriptDirectory.from_config(config_for("")).walk_revisions()}


@cache
def wanted_revision() -> str:
    """Return the revision of the schema that this program needs."""
    return ScriptDirectory.from_config(config_for("")).get_current_head() or ""


def is_current(engine: Engine) -> bool:
    """Tell whether the schema is the one this program needs."""
    with engine.connect() as connection:
        return is_current_on(connection)


def is_current_on(connection: Connection) -> bool:
    """Tell the same on a connection that is there."""
    return MigrationContext.configure(connection).get_current_revision() == wanted_revision()


class Schema(Enum):
    """How a database's schema stands to this program's."""

    EMPTY = "empty"
    OLDER = "older"
    CURRENT = "current"
    NEWER = "newer"


def schema_of(engine: Engine) -> Schema:
    """Tell how the database's schema stands to this program's; one that it does not know is a newer one."""
    found = revision_of(engine)
    if not found:
        return Schema.EMPTY
    if found == wanted_revision():
        return Schema.CURRENT
    return Schema.OLDER if is_known(found) else Schema.NEWER


def revision_of(engine: Engine) -> str:
    """Return the schema's revision, empty for a database without one."""
    with engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() or ""
