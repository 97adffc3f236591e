"""Alembic's environment: the address comes from whoever calls."""

from alembic import context
from sqlalchemy import create_engine

from moorfog.platform.db.base import Base
from moorfog.tables import ALL

assert ALL  # importing them fills the metadata
engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata, compare_type=False)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
