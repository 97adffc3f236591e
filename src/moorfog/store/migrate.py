"""Migrations, run from the package."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine


def config_for(url: str) -> Config:
    """Return Alembic's configuration for a database address."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config


def migrate(url: str) -> None:
    """Bring the database up to this program's schema."""
    command.upgrade(config_for(url), "head")


def is_current(engine: Engine) -> bool:
    """Tell whether the schema is the one this program needs."""
    script = ScriptDirectory.from_config(config_for(str(engine.url)))
    with engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() == script.get_current_head()
