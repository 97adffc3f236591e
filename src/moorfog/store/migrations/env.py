"""Alembic's environment: the address comes from whoever calls."""

from alembic import context
from sqlalchemy import create_engine

from moorfog.store import (  # noqa: F401  (fills the metadata)
    models,
    models_counts,
    models_house,
    models_ledger,
    models_mail,
    models_programme,
)
from moorfog.store.base import Base

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata, compare_type=False)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
