"""Tables of the proof: anchors, and visits that were looked at in full and held."""

from __future__ import annotations

from sqlalchemy import JSON, BigInteger, Integer, String
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id


class Anchor(Base):
    """The heads of all logs on a day, signed. ``content`` is what was signed, as canonical JSON."""

    __tablename__ = "anchor"
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    day: Mapped[str] = mapped_column(String(10))
    content: Mapped[str] = mapped_column(String(600))
    signature: Mapped[str] = mapped_column(String(128))
    public_key: Mapped[str] = mapped_column(String(64))


class Anchored(Base):
    """A head that an anchor signed: how many entries a visit's log had, and the chain at the last of them."""

    __tablename__ = "anchored"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    seq: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    no: Mapped[int] = mapped_column(Integer, index=True)
    chain: Mapped[str] = mapped_column(String(64))


class VisitSeen(Base):
    """A visit that was looked at in full and held. ``runs``: those whose readings were held to their seals; ``seal``:
    over the digests of all its rows, made with a key that is not in the database. Worth nothing but time."""

    __tablename__ = "visit_seen"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    runs: Mapped[list[str]] = mapped_column(JSON)
    seal: Mapped[str] = mapped_column(String(64))


class AnchoredLedger(Base):
    """The head of a ledger that an anchor signed."""

    __tablename__ = "anchored_ledger"
    ledger: Mapped[str] = mapped_column(String(36), primary_key=True)
    seq: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    no: Mapped[int] = mapped_column(Integer, index=True)
    chain: Mapped[str] = mapped_column(String(64))
