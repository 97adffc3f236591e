"""Tables. Persons' names stand in erasable tables; the log holds ids and digests only."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, Literal

from sqlalchemy import BigInteger, Date, ForeignKey, Index, Integer, LargeBinary, String, UniqueConstraint, Uuid, text
from sqlalchemy.dialects.mysql import LONGBLOB, LONGTEXT, MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.store.base import Base, UtcDateTime

Id = Uuid(as_uuid=False)


class Account(Base):
    """Someone who signs in."""

    __tablename__ = "account"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    login: Mapped[str] = mapped_column(String(190), unique=True)
    name: Mapped[str] = mapped_column(String(190))
    password_hash: Mapped[str] = mapped_column(String(255))
    """Empty where they have not chosen one yet."""
    off_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """Since when it is switched off: nobody signs in with it."""
    totp_secret: Mapped[str | None] = mapped_column(String(64), default=None)
    totp_on: Mapped[bool] = mapped_column(default=False)
    """Whether a code of the second factor is asked for; its secret may be there before it was tried."""
    totp_step: Mapped[int] = mapped_column(BigInteger, default=0)
    """The last step of time a code was used of: no code is used twice."""
    address: Mapped[str] = mapped_column(String(190), default="")
    """Where they are written to by e-mail; empty: nowhere."""
    due_notice: Mapped[Literal["", "daily", "weekly"]] = mapped_column(String(8), default="")
    """How often they are told who is due: daily, weekly; empty: never."""
    noticed_on: Mapped[date | None] = mapped_column(Date, default=None)
    """When they were told last."""


class Grant(Base):
    """A role at one employer, or at all where ``employer_id`` is null."""

    __tablename__ = "account_grant"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), index=True)
    role: Mapped[str] = mapped_column(String(20))
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))


class SignInSession(Base):
    """A signed-in browser. Only the digest of its secret is stored."""

    __tablename__ = "sign_in_session"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), index=True)
    csrf: Mapped[str] = mapped_column(String(64))
    created_at: Mapped[datetime] = mapped_column(UtcDateTime)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    password_at: Mapped[datetime] = mapped_column(UtcDateTime)
    active_at: Mapped[datetime] = mapped_column(UtcDateTime)
    """When somebody last pressed or touched something; what a page asks on its own does not count."""
    address: Mapped[str] = mapped_column(String(64), default="")
    agent: Mapped[str] = mapped_column(String(160), default="")
    """Where from and with which browser, for whoever looks whether all of these are theirs."""


class KnownAddress(Base):
    """A place from which an account has signed in, an address or a browser: a stranger's tries elsewhere do not lock
    its owner out here."""

    __tablename__ = "known_address"
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), primary_key=True)
    address: Mapped[str] = mapped_column(String(64), primary_key=True, index=True)
    at: Mapped[datetime] = mapped_column(UtcDateTime)


class SignInAttempt(Base):
    """A try of a password, written before it is looked at and taken out when it was right."""

    __tablename__ = "sign_in_attempt"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    login: Mapped[str] = mapped_column(String(190))
    address: Mapped[str] = mapped_column(String(64))
    at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_attempt_login", "login", "at"), Index("ix_attempt_address", "address", "at"))


class Employer(Base):
    """An employer; the border of what an account may see."""

    __tablename__ = "employer"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    name: Mapped[str] = mapped_column(String(190))
    archived_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    day_order: Mapped[Literal["", "dmy", "mdy", "ymd"]] = mapped_column(String(3), default="")
    """In which order the days of their tables are written (dmy, mdy, ymd); empty where nobody has chosen it yet."""


class Site(Base):
    """A site of an employer, with its IANA time zone: "valid until" is a date in it."""

    __tablename__ = "site"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), index=True)
    name: Mapped[str] = mapped_column(String(190))
    zone: Mapped[str] = mapped_column(String(64))
    benches: Mapped[list[str]] = mapped_column(JSON)
    rule_book: Mapped[str] = mapped_column(String(60), default="us-29cfr1910-134")
    archived_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    notice_days: Mapped[int | None] = mapped_column(Integer, default=None)
    """How long before a test runs out it is due; null: as the rule book has it."""
    keep_months: Mapped[int | None] = mapped_column(Integer, default=None)
    """How long after somebody has left their personal data are kept; null: until somebody erases them."""


class SiteRule(Base):
    """An entry of a site over its rule book; append-only, the latest of a key counts. Value null: only checked."""

    __tablename__ = "site_rule"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    book: Mapped[str] = mapped_column(String(60))
    key: Mapped[str] = mapped_column(String(80))
    value: Mapped[Any | None] = mapped_column(JSON(none_as_null=True))
    reason: Mapped[str] = mapped_column(String(400))
    edition: Mapped[str] = mapped_column(String(190))
    by_name: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    begins_on: Mapped[date | None] = mapped_column(Date, default=None)
    """From which day on it counts; null: from the moment it was entered."""
    __table_args__ = (Index("ix_site_rule", "site_id", "book", "entered_at"),)


class SiteTask(Base):
    """A task of a site. A changed or renamed task is a new row with the same ``task_id``, by which people have it; the
    old row stays for the records that name it."""

    __tablename__ = "site_task"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    name: Mapped[str] = mapped_column(String(190))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    is_current: Mapped[bool]
    task_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (
        Index("ix_site_task", "site_id", "is_current", "name"),
        Index("ix_site_task_id", "task_id"),
    )


class Person(Base):
    """A wearer. Face length and width in tenths of a millimetre, null where not measured.

    ``task`` is the name of their task as it was written; ``task_id`` the task of their site that it is, null where it
    is none of them: then they may wear nothing until one is chosen.
    """

    __tablename__ = "person"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"))
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    name: Mapped[str] = mapped_column(String(190))
    number: Mapped[str] = mapped_column(String(40))
    job: Mapped[str] = mapped_column(String(190))
    task: Mapped[str] = mapped_column(String(190))
    task_id: Mapped[str | None] = mapped_column(Id, default=None)
    contact: Mapped[str] = mapped_column(String(190), default="")
    face_length: Mapped[int | None] = mapped_column(Integer)
    face_width: Mapped[int | None] = mapped_column(Integer)
    left_on: Mapped[date | None] = mapped_column(Date, default=None)
    """The day they left; nobody is tested after it until they come back."""
    merged_into: Mapped[str | None] = mapped_column(Id, default=None)
    """The entry that this one turned out to be another of: both histories are that person's."""
    erased_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """When name, contact, papers and signatures were erased; the log's ids and digests stay."""
    __table_args__ = (
        Index("ix_person_merged", "merged_into"),
        UniqueConstraint("employer_id", "number", name="uq_person_number"),
        Index("ix_person_name", "employer_id", "name"),
        Index("ix_person_all", "name", "id"),
    )


class PersonWord(Base):
    """A folded word of a name, or the number: what people are found by."""

    __tablename__ = "person_word"
    employer_id: Mapped[str] = mapped_column(Id, primary_key=True)
    word: Mapped[str] = mapped_column(String(60, collation="utf8mb4_bin"), primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, ForeignKey("person.id", ondelete="CASCADE"), primary_key=True)
    __table_args__ = (Index("ix_person_word", "person_id"), Index("ix_word", "word"))


class OnFile:
    """Columns of what is entered about a person; append-only, the latest counts."""

    id: Mapped[str] = mapped_column(Id, primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, ForeignKey("person.id"))
    account_id: Mapped[str] = mapped_column(Id)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)


class ClearanceRow(OnFile, Base):
    """Medical clearance: status and limits, never a diagnosis. An empty ``valid_until`` is not expired."""

    __tablename__ = "clearance"
    status: Mapped[str] = mapped_column(String(20))
    limits: Mapped[list[str]] = mapped_column(JSON)
    valid_from: Mapped[date] = mapped_column(Date)
    valid_until: Mapped[date | None] = mapped_column(Date)
    by_whom: Mapped[str] = mapped_column(String(190))
    __table_args__ = (Index("ix_clearance_person", "person_id", "entered_at"),)


class TrainingRow(OnFile, Base):
    """A training that was given; withdrawn with a reason where it was another person's, or none."""

    __tablename__ = "training"
    trained_on: Mapped[date] = mapped_column(Date)
    what: Mapped[str] = mapped_column(String(190))
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    withdrawn_by: Mapped[str] = mapped_column(String(190), default="")
    withdrawn_why: Mapped[str] = mapped_column(String(400), default="")
    __table_args__ = (Index("ix_training_person", "person_id", "entered_at"),)


class MeasurementRow(OnFile, Base):
    """A measuring of a face: the readings as taken, and what they come to in tenths of a millimetre."""

    __tablename__ = "measurement"
    readings: Mapped[dict[str, list[str]]] = mapped_column(JSON)
    face_length: Mapped[int | None] = mapped_column(Integer)
    face_width: Mapped[int | None] = mapped_column(Integer)
    lip_length: Mapped[int | None] = mapped_column(Integer)
    __table_args__ = (Index("ix_measurement_person", "person_id", "entered_at"),)


class Job(Base):
    """A long job: waiting, running, done, failed or cancelled, with its progress."""

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    kind: Mapped[str] = mapped_column(String(30))
    state: Mapped[str] = mapped_column(String(12))
    done: Mapped[int] = mapped_column(Integer)
    total: Mapped[int] = mapped_column(Integer)
    wants_cancel: Mapped[bool]
    message: Mapped[str] = mapped_column(String(400))
    employer_id: Mapped[str | None] = mapped_column(Id)
    account_id: Mapped[str] = mapped_column(Id)
    content: Mapped[str] = mapped_column(LONGTEXT)
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)
    heartbeat_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    attempts: Mapped[int] = mapped_column(Integer, default=0)
    """How often a worker has taken it up."""
    __table_args__ = (Index("ix_job_state", "state", "made_at"),)


class ClockRow(Base):
    """By how much times here are behind the database's clock; one row, 0 but after a jump."""

    __tablename__ = "clock"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    behind_ms: Mapped[int] = mapped_column(BigInteger)


class WorkerRound(Base):
    """When a worker went its last round; one row."""

    __tablename__ = "worker_round"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    at: Mapped[datetime] = mapped_column(UtcDateTime)


class ClockJump(Base):
    """A jump of the database's clock: when, how far ahead (below zero: back), when the new time was taken."""

    __tablename__ = "clock_jump"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcDateTime)
    by_ms: Mapped[int] = mapped_column(BigInteger)
    taken_at: Mapped[datetime | None] = mapped_column(UtcDateTime)


class SealNotice(Base):
    """A supervisor has acknowledged the failed seal checks of a visit, so many of them."""

    __tablename__ = "seal_notice"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    account_id: Mapped[str] = mapped_column(Id)
    acknowledged_at: Mapped[datetime] = mapped_column(UtcDateTime)
    fails: Mapped[int] = mapped_column(Integer)


class FacepieceVersion(Base):
    """An immutable version of a facepiece model; results group by ``model_id`` and size."""

    __tablename__ = "facepiece_version"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    model_id: Mapped[str] = mapped_column(Id, index=True)
    version: Mapped[int] = mapped_column(Integer)
    maker: Mapped[str] = mapped_column(String(120))
    model: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(40))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """When its approval was withdrawn: it is not chosen any more, and what was passed in it is recalled."""
    __table_args__ = (UniqueConstraint("model_id", "version", name="uq_model_version"),)


class InstrumentRow(Base):
    """A counter. ``content`` holds its figures; ``live`` what its link said last."""

    __tablename__ = "instrument"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    name: Mapped[str] = mapped_column(String(80))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    is_simulated: Mapped[bool]
    link_token_digest: Mapped[str] = mapped_column(String(64), index=True)
    seen_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    live: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    retired_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """Since when nobody tests with it any more."""
    line: Mapped[str] = mapped_column(String(190), default="")
    """Where it is plugged into the machine the program runs on; empty where its link runs elsewhere."""
    local_token_digest: Mapped[str] = mapped_column(String(64), default="", index=True)


class KitLent(Base):
    """An instrument, lot, nebuliser or sampling part lent to an employer: its people use it as if it were theirs."""

    __tablename__ = "kit_lent"
    kit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), primary_key=True)
    lent_by: Mapped[str] = mapped_column(String(190))
    lent_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_lent_to", "employer_id"),)


class InstrumentCheckRow(Base):
    """One daily check as a value against its limit; append-only."""

    __tablename__ = "instrument_check"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"))
    name: Mapped[str] = mapped_column(String(30))
    value: Mapped[str] = mapped_column(String(30))
    limit: Mapped[str] = mapped_column(String(30))
    passed: Mapped[bool]
    checked_at: Mapped[datetime] = mapped_column(UtcDateTime)
    actor: Mapped[str] = mapped_column(String(80))
    __table_args__ = (Index("ix_check_latest", "instrument_id", "checked_at"),)


class InstrumentActRow(Base):
    """Something done to an instrument, such as charging its alcohol; append-only, the latest of a name counts."""

    __tablename__ = "instrument_act"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"))
    name: Mapped[str] = mapped_column(String(30))
    done_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (Index("ix_act_latest", "instrument_id", "name", "done_at"),)


class KitRecall(Base):
    """Kit found wrong afterwards: which, by which check, since when it may have been. Open or confirmed it suspends
    what rests on it; cleared it does not. Never deleted."""

    __tablename__ = "kit_recall"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    kit_kind: Mapped[str] = mapped_column(String(20))
    kit_id: Mapped[str] = mapped_column(Id)
    kit_name: Mapped[str] = mapped_column(String(190))
    check_name: Mapped[str] = mapped_column(String(30))
    what: Mapped[str] = mapped_column(String(400))
    employer_id: Mapped[str | None] = mapped_column(Id)
    since: Mapped[datetime | None] = mapped_column(UtcDateTime)
    until: Mapped[datetime] = mapped_column(UtcDateTime)
    state: Mapped[str] = mapped_column(String(12))
    opened_by: Mapped[str] = mapped_column(String(80))
    settled_by: Mapped[str] = mapped_column(String(190), default="")
    settled_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    reason: Mapped[str] = mapped_column(String(400), default="")
    job_id: Mapped[str | None] = mapped_column(Id, default=None)
    __table_args__ = (Index("ix_recall_kit", "kit_id", "state"), Index("ix_recall_state", "state", "until"))


class RecallSettled(Base):
    """What one employer's people said of shared kit found wrong: it holds for that employer's tests and no others."""

    __tablename__ = "recall_settled"
    recall_id: Mapped[str] = mapped_column(Id, ForeignKey("kit_recall.id"), primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), primary_key=True)
    state: Mapped[str] = mapped_column(String(12))
    settled_by: Mapped[str] = mapped_column(String(190))
    settled_at: Mapped[datetime] = mapped_column(UtcDateTime)
    reason: Mapped[str] = mapped_column(String(400))
    job_id: Mapped[str | None] = mapped_column(Id)


class SamplingPart(Base):
    """A probe, adapter, probed cartridge or manifold. Never changed; put away where it is done for."""

    __tablename__ = "sampling_part"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    name: Mapped[str] = mapped_column(String(80))
    kind: Mapped[str] = mapped_column(String(20))
    fits: Mapped[str] = mapped_column(String(190))
    once_only: Mapped[bool]


class SamplingPartAct(Base):
    """A sampling part used, cleaned or put away; append-only, the latest of a name counts."""

    __tablename__ = "sampling_part_act"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    part_id: Mapped[str] = mapped_column(Id, ForeignKey("sampling_part.id"))
    name: Mapped[str] = mapped_column(String(12))
    done_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    visit_id: Mapped[str | None] = mapped_column(Id, ForeignKey("visit.id"))
    __table_args__ = (Index("ix_part_act", "part_id", "name", "done_at"),)


class SiteProtocol(Base):
    """A protocol that a site has added; append-only, the latest of an id counts, a withdrawn one is off."""

    __tablename__ = "site_protocol"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    protocol_id: Mapped[str] = mapped_column(String(60))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    is_withdrawn: Mapped[bool]
    by_name: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_site_protocol", "site_id", "protocol_id", "entered_at"),)


class LotRow(Base):
    """A lot of a solution, a jar or a tube. Never changed; withdrawn where it turns out wrong."""

    __tablename__ = "lot"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    agent: Mapped[str] = mapped_column(String(20))
    role: Mapped[str] = mapped_column(String(20))
    number: Mapped[str] = mapped_column(String(60))
    made_on: Mapped[date] = mapped_column(Date)
    use_by: Mapped[date] = mapped_column(Date)
    made_by: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_lot", "employer_id", "agent", "use_by"),)


class NebuliserRow(Base):
    """A nebuliser: for the threshold solution (1) or for the fit-test solution (2), for good."""

    __tablename__ = "nebuliser"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    name: Mapped[str] = mapped_column(String(80))
    role: Mapped[str] = mapped_column(String(20))


class FillingRow(Base):
    """A nebuliser rinsed and filled with a lot; append-only, the latest counts."""

    __tablename__ = "nebuliser_filling"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    nebuliser_id: Mapped[str] = mapped_column(Id, ForeignKey("nebuliser.id"))
    lot_id: Mapped[str] = mapped_column(Id, ForeignKey("lot.id"))
    filled_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (Index("ix_filling", "nebuliser_id", "filled_at"),)


class SprayCheckRow(Base):
    """A nebuliser seen to spray, or not; append-only."""

    __tablename__ = "nebuliser_check"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    nebuliser_id: Mapped[str] = mapped_column(Id, ForeignKey("nebuliser.id"))
    checked_at: Mapped[datetime] = mapped_column(UtcDateTime)
    sprays: Mapped[bool]
    account_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (Index("ix_spray", "nebuliser_id", "checked_at"),)


class CautionRow(Base):
    """A tester has acknowledged the cautions of a method on a day at the site."""

    __tablename__ = "caution"
    account_id: Mapped[str] = mapped_column(Id, primary_key=True)
    method: Mapped[str] = mapped_column(String(20), primary_key=True)
    day: Mapped[date] = mapped_column(Date, primary_key=True)


class WearerLink(Base):
    """The short-lived address of a wearer's screen. Only the digest of its secret is stored, and that of the secret of
    the screen which opened it first."""

    __tablename__ = "wearer_link"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), index=True)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    screen: Mapped[str | None] = mapped_column(String(64), default=None)


class RuleSet(Base):
    """A pinned rule set, by digest."""

    __tablename__ = "rule_set"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    content: Mapped[dict[str, Any]] = mapped_column(JSON)


class VisitHead(Base):
    """The head of a visit's log: the row that is locked to append."""

    __tablename__ = "visit"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), index=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    rules_digest: Mapped[str] = mapped_column(String(64), ForeignKey("rule_set.digest"))
    origin: Mapped[str] = mapped_column(String(10))
    seq: Mapped[int] = mapped_column(Integer)
    chain: Mapped[str] = mapped_column(String(64))


class EventRow(Base):
    """One event, clustered on (visit, seq). ``proposal_digest`` makes a repeated proposal harmless."""

    __tablename__ = "event"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    seq: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    id: Mapped[str] = mapped_column(Id, unique=True)
    kind: Mapped[str] = mapped_column(String(40))
    version: Mapped[int] = mapped_column(Integer)
    occurred_at: Mapped[datetime] = mapped_column(UtcDateTime)
    recorded_at: Mapped[datetime] = mapped_column(UtcDateTime)
    actor: Mapped[str] = mapped_column(String(80))
    payload: Mapped[str] = mapped_column(MEDIUMTEXT)
    proposal_digest: Mapped[str] = mapped_column(String(64))
    chain: Mapped[str] = mapped_column(String(64))


class Lease(Base):
    """A run's hold on one counter; the primary key is what keeps two benches apart.

    ``stop``: the bench has ended the run; its link is to read no further.
    """

    __tablename__ = "instrument_lease"
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"), primary_key=True)
    run_id: Mapped[str] = mapped_column(Id, unique=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"))
    plan: Mapped[dict[str, Any]] = mapped_column(JSON)
    ends_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    stop: Mapped[bool] = mapped_column(default=False)


class VisitScreen(Base):
    """A screen on which presses for a visit are made. ``awaited_run``: the run whose verdict waits for it, if any."""

    __tablename__ = "visit_screen"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    screen: Mapped[str] = mapped_column(Id, primary_key=True)
    role: Mapped[Literal["bench", "wearer"]] = mapped_column(String(10))
    seen_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    awaited_run: Mapped[str | None] = mapped_column(Id, nullable=True, index=True)


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


class ReadingChunk(Base):
    """About a second of readings, in columns; the instrument's own append-only stream."""

    __tablename__ = "reading_chunk"
    run_id: Mapped[str] = mapped_column(Id, primary_key=True)
    first: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    n: Mapped[int] = mapped_column(Integer)
    instrument_id: Mapped[str] = mapped_column(Id)
    columns: Mapped[str] = mapped_column(MEDIUMTEXT)
    received_at: Mapped[datetime] = mapped_column(UtcDateTime)


class SignatureRow(Base):
    """What was signed, by whom: erasable name, canonical bytes, salted digest in the log."""

    __tablename__ = "signature"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), index=True)
    revision: Mapped[int] = mapped_column(Integer)
    role: Mapped[str] = mapped_column(String(10))
    typed_name: Mapped[str] = mapped_column(String(190))
    canonical: Mapped[str] = mapped_column(MEDIUMTEXT)
    signed_at: Mapped[datetime] = mapped_column(UtcDateTime)


class DocumentRow(Base):
    """An issued document; a reprint is the same file."""

    __tablename__ = "document"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"))
    revision: Mapped[int] = mapped_column(Integer)
    page_size: Mapped[str] = mapped_column(String(10))
    sha256: Mapped[str] = mapped_column(String(64))
    content: Mapped[bytes] = mapped_column(LargeBinary().with_variant(LONGBLOB(), "mariadb", "mysql"))
    issued_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (UniqueConstraint("visit_id", "revision", "page_size", name="uq_document"),)


class ReadModel:
    """Columns that every read model carries."""

    source_seq: Mapped[int] = mapped_column(Integer)
    fold_version: Mapped[int] = mapped_column(Integer)


class VisitSummary(ReadModel, Base):
    """A visit in a line."""

    __tablename__ = "visit_summary"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    site_id: Mapped[str] = mapped_column(Id)
    person_id: Mapped[str] = mapped_column(Id, index=True)
    bench: Mapped[str] = mapped_column(String(80))
    step: Mapped[str] = mapped_column(String(20))
    doing: Mapped[str] = mapped_column(String(190))
    verdict: Mapped[str] = mapped_column(String(12))
    tries: Mapped[int] = mapped_column(Integer)
    facepiece: Mapped[str] = mapped_column(String(190))
    alterations_open: Mapped[int] = mapped_column(Integer)
    seal_fails: Mapped[int] = mapped_column(Integer)
    ready_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    is_practice: Mapped[bool]
    is_signed: Mapped[bool]
    closed: Mapped[str] = mapped_column(String(12))
    under_question: Mapped[bool] = mapped_column(default=False)
    opened_at: Mapped[datetime] = mapped_column(UtcDateTime)
    last_at: Mapped[datetime] = mapped_column(UtcDateTime)
    seal_open: Mapped[bool] = mapped_column(default=False)
    """Whether seal checks failed that no supervisor has acknowledged."""
    changed_at: Mapped[datetime] = mapped_column(UtcDateTime, server_default=text("CURRENT_TIMESTAMP(3)"))
    """When the database last wrote this line: by it a page of the day hears that something has changed."""
    __table_args__ = (
        Index("ix_summary_open", "closed", "is_practice", "opened_at"),
        Index("ix_summary_last", "last_at"),
        Index("ix_summary_question", "under_question", "last_at"),
        Index("ix_summary_notice", "seal_open", "last_at"),
        Index("ix_summary_changed", "changed_at"),
    )


class TryResult(ReadModel, Base):
    """A try with its outcome."""

    __tablename__ = "try_result"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    run_id: Mapped[str] = mapped_column(Id)
    employer_id: Mapped[str] = mapped_column(Id)
    site_id: Mapped[str | None] = mapped_column(Id)
    tester_id: Mapped[str] = mapped_column(String(80), default="")
    """Who started it."""
    protocol_id: Mapped[str] = mapped_column(String(60), default="")
    book: Mapped[str] = mapped_column(String(60), default="")
    """The rule book it was judged under."""
    person_id: Mapped[str] = mapped_column(Id)
    model_id: Mapped[str] = mapped_column(Id)
    model: Mapped[str] = mapped_column(String(250))
    size: Mapped[str] = mapped_column(String(40))
    configuration: Mapped[str] = mapped_column(String(64))
    method: Mapped[str] = mapped_column(String(20))
    outcome: Mapped[str] = mapped_column(String(12))
    overall: Mapped[str] = mapped_column(String(30))
    level: Mapped[str] = mapped_column(String(30))
    is_practice: Mapped[bool]
    is_signed: Mapped[bool]
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (
        Index("ix_try_all", "tested_at", "visit_id", "no"),
        Index("ix_try_employer", "employer_id", "tested_at", "visit_id", "no"),
        Index("ix_try_site", "site_id", "tested_at", "visit_id", "no"),
        Index("ix_try_model", "model_id", "size", "tested_at", "visit_id", "no"),
        Index("ix_try_tester", "tester_id", "tested_at", "visit_id", "no"),
        Index("ix_try_person", "person_id", "configuration", "tested_at"),
    )


class TryKit(ReadModel, Base):
    """A counter or a nebuliser a try was made with, so that its tests are found when it turns out to be wrong."""

    __tablename__ = "try_kit"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    kit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_try_kit", "kit_id", "tested_at"),)


class PermissionEnd(ReadModel, Base):
    """A fail that ends every earlier pass of the same person in the same set-up, whatever it is called later."""

    __tablename__ = "permission_end"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    configuration: Mapped[str] = mapped_column(String(64), primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    why: Mapped[str] = mapped_column(String(250))
    ended_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_end_person", "person_id", "configuration", "ended_at"),)


class WearPermission(ReadModel, Base):
    """A signed pass: from and until as dates at the site, and the facts that decide who may wear it. Today is never
    stored; it is compared."""

    __tablename__ = "wear_permission"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    configuration: Mapped[str] = mapped_column(String(64), primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    person_id: Mapped[str] = mapped_column(Id, index=True)
    no: Mapped[int] = mapped_column(Integer, default=0)
    facts: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    model_id: Mapped[str] = mapped_column(Id)
    model: Mapped[str] = mapped_column(String(250))
    size: Mapped[str] = mapped_column(String(40))
    setup: Mapped[str] = mapped_column(String(500))
    method: Mapped[str] = mapped_column(String(20))
    limits: Mapped[list[str]] = mapped_column(JSON)
    overall: Mapped[str] = mapped_column(String(30))
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    valid_from: Mapped[date] = mapped_column(Date)
    valid_until: Mapped[date] = mapped_column(Date)
    __table_args__ = (Index("ix_permission_model", "model_id", "size", "valid_until"),)
