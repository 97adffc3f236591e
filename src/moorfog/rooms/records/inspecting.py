"""What an inspector takes away: the records that are meant, with papers, rules, an index and one digest of all."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import fields

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.codec import encode
from moorfog.core.rules.book import rules_to_json
from moorfog.platform.auditor_file import one_file
from moorfog.platform.keys import installation_key, public_hex
from moorfog.platform.log.log import load_rules
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.printing.archive import Entry
from moorfog.platform.printing.plain import table
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.records.exports import export_record
from moorfog.rooms.records.searching import RecordRow, RecordsAsked, every_record

MOST = 5000
"""Visits in one archive."""
PAPERS = ("visit_id", "revision", "page_size", "sha256", "issued_at", "is_erased")
READ_ME = """Records of respirator fit tests, as they stood when this archive was made.

index.csv      a line for each test: whose, in what, how it went, by whom, under which rule
records/       every visit as an open record; docs/formats/record.md says how it is read
papers/        every report, card and letter that was issued for them, as it was issued
papers.csv     a line for each of them, with its SHA-256, and for those that were erased with their person
rules/         the rules each visit was judged under, by the digest that its record names
asked.json     what was asked for
manifest.txt   SHA-256 of every file here
root.txt       SHA-256 of the manifest, signed with the key of the installation (Ed25519), and its public key
verify.py      a program in one file that checks all of this by itself, and judges every record again

    python3 verify.py ARCHIVE.zip --key FINGERPRINT

The fingerprint of the key stands on every report and on the page where this archive was made. Take it, and verify.py,
from there: whoever changes an archive can change what lies in it. docs/formats/archive.md has the rest.
"""
COLUMNS = tuple(one.name for one in fields(RecordRow))


def line_of(row: RecordRow) -> tuple[str | int, ...]:
    """Return a test as a line of a table, in the order of :data:`COLUMNS`."""
    return tuple(str(value) if isinstance(value, bool) else value for value in (getattr(row, one) for one in COLUMNS))


def inspected(db: Session, actor: Actor, asked: RecordsAsked) -> Iterator[Entry]:
    """Yield the files of an archive. Raises :class:`DomainError` where nothing is meant, or more than it holds."""
    rows = list(every_record(db, actor, asked))
    visits = list(dict.fromkeys(one.visit_id for one in rows))
    if not visits:
        raise DomainError("nothing_meant", "No test is meant by this. Ask for more, and take it away then.")
    if len(visits) > MOST:
        raise DomainError("too_many", f"{len(visits)} visits; an archive holds {MOST}. Ask for fewer days at a time.")
    yield "read-me.txt", READ_ME.encode()
    yield "asked.json", json.dumps(encode(asked), indent=1, sort_keys=True).encode()
    yield "index.csv", table(COLUMNS, map(line_of, rows)).encode()
    yield "verify.py", one_file().encode()
    papers: list[tuple[str | int, ...]] = []
    digests: set[str] = set()
    for visit in visits:
        yield f"records/{visit}.json", export_record(db, actor, visit)
        digests.add(db.get_one(VisitHead, visit).rules_digest)
        issued = select(DocumentRow).where(DocumentRow.visit_id == visit)
        for paper in db.scalars(issued.order_by(DocumentRow.revision, DocumentRow.page_size)):
            said = (visit, paper.revision, paper.page_size, paper.sha256, instant(paper.issued_at))
            papers.append((*said, str(not paper.content)))
            if paper.content:
                yield f"papers/{visit}-{paper.revision}-{paper.page_size}.pdf", paper.content
        db.expunge_all()
    yield "papers.csv", table(PAPERS, papers).encode()
    for digest in sorted(digests):
        content = json.dumps(rules_to_json(load_rules(db, digest)), ensure_ascii=False, sort_keys=True)
        yield f"rules/{digest}.json", content.encode()


def sealed(root: str) -> str:
    """Return the digest of a manifest with its signature by the installation's key, a line each."""
    key = installation_key()
    return f"root {root}\nsignature {key.sign(root.encode()).hex()}\npublic {public_hex(key.public_key())}\n"
