"""The open record of a visit: everything it was judged from, and what it was judged to be, in one file.

A record needs no database and no list: it is folded again, its readings are reduced again, and what comes out is laid
beside what it says. Only the standard library, NumPy, scipy.special and orjson are used.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import check_chain, event_from_json, event_to_json
from moorfog.core.events.words import Words, holds, signs_in
from moorfog.core.kernel.canonical import Written, canonical_bytes, digest_of_json, written_once
from moorfog.core.kernel.codec import DataError, decode, encode
from moorfog.core.measuring.columns import reduce_chunks, seal_of
from moorfog.core.measuring.readings import Chunk, merged
from moorfog.core.record.text import read_record_text
from moorfog.core.rules.book import Rules, rules_from_json, rules_to_json
from moorfog.core.transitions.fold import fold
from moorfog.core.views.statement import statement_differences
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.proof import followed, least_risen, proof_stream, text_of
from moorfog.core.visit.state import FOLD_VERSION, Try, Visit
from moorfog.core.visit.steps import is_signed
from moorfog.core.visit.tries import find_try

FORMAT = "moorfog-record"
VERSION = 4
READABLE = (1, 2, 3, 4)
"""Versions this program reads: 1 had the rules in its digest too, 2 has them there by ``rules_digest``, 3 carries the
bytes that were signed, 4 the words for which signs stand in the log."""


@dataclass(frozen=True)
class ExerciseVerdict:
    """An exercise of a judged run: its fit factor exactly, as a whole number or a fraction such as 875/2."""

    exercise: int
    factor: str
    at_least: bool
    counts: int | None
    bound: str | None
    place: str = ""


@dataclass(frozen=True)
class TryVerdict:
    """What a try came to. ``overall`` exact, None where nothing is measured; ``bound`` with six significant digits."""

    no: int
    run_id: str
    outcome: str
    reasons: tuple[str, ...]
    overall: str | None
    at_least: bool
    bound: str | None
    is_marginal: bool
    exercises: tuple[ExerciseVerdict, ...]


@dataclass(frozen=True)
class Verdict:
    """What a visit came to: that of its last try, and of every try before it."""

    outcome: str
    is_sealed: bool
    is_practice: bool
    revision: int
    tries: tuple[TryVerdict, ...]


@dataclass(frozen=True)
class Signed:
    """A signature as the log has it: whose, over which bytes."""

    role: str
    digest: str
    at: str


@dataclass(frozen=True)
class Record:
    """The open record: the pinned ``rules``, ``readings`` as chunks by run.

    ``digest`` is over all the rest but the rules, which ``rules_digest`` is over.
    """

    format: Literal["moorfog-record"]
    version: Literal[1, 2, 3, 4]
    fold_version: int
    visit_id: str
    rules_digest: str
    rules: dict[str, Any]
    events: tuple[dict[str, Any], ...]
    readings: dict[str, tuple[Chunk, ...]]
    verdict: Verdict
    signatures: tuple[Signed, ...]
    digest: str
    statements: tuple[str, ...] = ()
    """The bytes that were signed on the present revision, as text, where they have not been erased."""
    words: tuple[Words, ...] = ()
    """What the signs in the log stand for, where that has not been erased."""


@dataclass(frozen=True)
class Difference:
    """A place where a record does not hold: where, what it says, what comes out."""

    where: str
    stored: str
    found: str


@dataclass(frozen=True)
class Recomputed:
    """A record computed again: the verdict that comes out, and every difference from what the record says."""

    visit_id: str
    verdict: Verdict
    differences: tuple[Difference, ...]
    digest: str = ""
    """The record's own digest, as it comes out."""
    entries: tuple[tuple[int, str], ...] = ()
    """The entries of its log from the first signature on, with the chain at each: papers name the one they are of."""


NOT_JUDGED = Verdict(outcome="", is_sealed=False, is_practice=False, revision=0, tries=())
"""What comes out where the rules at hand are not those pinned to the visit."""


def signatures_of(visit: Visit) -> tuple[Signed, ...]:
    """Return the signatures on the present revision."""
    found = [one for one in visit.signatures if one.revision == visit.revision]
    return tuple(Signed(one.role, one.digest, ev.instant(one.at)) for one in found)


def verdict_of(visit: Visit) -> Verdict:
    """Return the verdict of a visit, exactly."""
    tries = tuple(_try(visit, one) for one in visit.tries)
    last = tries[-1].outcome if tries else ""
    return Verdict(
        outcome=last, is_sealed=is_signed(visit), is_practice=visit.is_practice, revision=visit.revision, tries=tries
    )


def _try(visit: Visit, one: Try) -> TryVerdict:
    result, reasons = outcome(visit, one)
    numbers = one.numbers
    return TryVerdict(
        no=one.no,
        run_id=one.started.run_id,
        outcome=result,
        reasons=tuple(reason.code for reason in reasons),
        overall=str(numbers.overall) if numbers.overall is not None else None,
        at_least=numbers.at_least,
        bound=_short(numbers.bound),
        is_marginal=numbers.is_marginal,
        exercises=tuple(
            ExerciseVerdict(
                exercise=row.exercise,
                factor=str(row.factor),
                at_least=row.at_least,
                counts=row.counts,
                bound=_short(row.bound),
                place=row.place,
            )
            for row in numbers.exercises
        ),
    )


def _wrong_words(record: Record) -> list[Difference]:
    """Return the words that are not those which a sign in the log stands for."""
    signs = {sign for event in record.events for sign in signs_in(event["payload"])}
    out: list[Difference] = []
    for at, words in enumerate(record.words):
        if words.sign not in signs:
            out.append(Difference(f"words[{at}].sign", "a sign of the log", "no entry has it"))
        elif not holds(words):
            out.append(Difference(f"words[{at}]", "what was typed", "other words, or another salt"))
    return out


def _short(bound: float | None) -> str | None:
    return f"{bound:.6g}" if bound is not None else None


def make_record(
    visit_id: str,
    rules: Rules,
    events: list[ev.Event],
    readings: Mapping[str, list[Chunk]],
    statements: Sequence[str] = (),
    words: Sequence[Words] = (),
) -> dict[str, Any]:
    """Return the open record of a visit as plain data, sealed by its digest. ``statements``: the bytes signed;
    ``words``: what the signs in its log stand for."""
    visit = fold(events, rules)
    body: dict[str, Any] = {
        "format": FORMAT,
        "version": VERSION,
        "fold_version": FOLD_VERSION,
        "visit_id": visit_id,
        "rules_digest": rules.digest,
        "rules": rules_to_json(rules),
        "events": [event_to_json(one) for one in events],
        "readings": {run: [encode(chunk) for chunk in merged(chunks)] for run, chunks in sorted(readings.items())},
        "verdict": encode(verdict_of(visit)),
        "signatures": encode(signatures_of(visit)),
        "statements": list(statements),
        "words": encode(tuple(words)),
    }
    return {**body, "digest": own_digest(body)}


def own_digest(data: Mapping[str, Any]) -> str:
    """Return the digest a record carries: over its canonical JSON without ``digest`` and, from version 2, ``rules``."""
    left_out = ("digest",) if data.get("version") == 1 else ("digest", "rules")
    return digest_of_json({key: value for key, value in data.items() if key not in left_out})


def record_bytes(record: Mapping[str, Any]) -> bytes:
    """Return a record as it is exported: its canonical JSON, one line. Raises ``ValueError`` as that does."""
    return canonical_bytes(record) + b"\n"


def read_record(data: Any, where: str = "record") -> Record:
    """Read a record from parsed JSON. Raises :class:`DataError` naming the key, for another format or version too."""
    if not isinstance(data, Mapping) or data.get("format") != FORMAT:
        raise DataError(where, f"this is no record: a JSON object with format {FORMAT!r} is expected")
    if data.get("version") not in READABLE:
        known = " and ".join(map(str, READABLE))
        raise DataError(f"{where}.version", f"{data.get('version')!r} is not known; this program reads {known}")
    return decode(Record, data, where)


def recompute_text(content: bytes, where: str = "record") -> Recomputed:
    """Compute a record again from its bytes; as :func:`recompute`, and strict in how they are written."""
    found = read_record_text(content, where)
    own = found.own_digest if found.data.get("version") != 1 else None
    return recompute(found.data, where, found.rules, own)


def recompute(
    data: Any, where: str = "record", rules_written: Written | None = None, own: str | None = None
) -> Recomputed:
    """Compute a record again and lay the result beside what it says.

    ``rules_written``: its rules as canonical bytes, ``own``: its :func:`own_digest`, where they are at hand.

    Raises :class:`DataError` where it cannot be read at all. Everything else is a difference: the file's own digest,
    the rules' digest, the hash chain, readings against their seal, windows and deviations, and the verdict, field by
    field.
    """
    record = read_record(data, where)
    known = rules_written or written_once(record.rules)
    rules = rules_from_json(record.rules, f"{where}.rules", known.digest)
    texts = {words.sign: words.text for words in record.words}
    events = [event_from_json(one, f"{where}.events[{i}]", texts) for i, one in enumerate(record.events)]
    out = _wrong_words(record)
    own = own or own_digest(data)
    _differ(out, "digest", record.digest, own)
    _differ(out, "rules_digest", record.rules_digest, rules.digest)
    broken = check_chain(events)
    if broken is not None:
        out.append(Difference(f"events[{broken - 1}].chain", "the chain holds", f"it breaks at entry {broken}"))
    first = events[0].payload if events else None
    pinned = first.rules_digest if isinstance(first, ev.VisitOpened) else ""
    if isinstance(first, ev.VisitOpened) and first.visit_id:  # a log of before says nothing of whose it is
        _differ(out, "visit_id", record.visit_id, first.visit_id)
    _differ(out, "events[0].payload.rules_digest", pinned, rules.digest)
    if pinned != rules.digest:
        out.append(Difference("verdict", "judged by the rules pinned to it", "not judged: these are other rules"))
        return Recomputed(record.visit_id, NOT_JUDGED, tuple(out))
    visit = fold(events, rules)
    for event in events:
        if isinstance(event.payload, ev.RunClosed):
            _check_readings(out, record, visit, event.payload, f"events[{event.seq - 1}].payload")
        if isinstance(event.payload, ev.ProofMeasured):
            _check_proof(out, record, visit, event.payload, f"events[{event.seq - 1}].payload")
    verdict = verdict_of(visit)
    _compare(out, "verdict", record.verdict, verdict)
    _compare(out, "signatures", record.signatures, signatures_of(visit))
    _check_statements(out, record, visit, events)
    if out and record.fold_version != FOLD_VERSION:
        _differ(out, "fold_version", str(record.fold_version), str(FOLD_VERSION))
    signed = next((event.seq for event in events if isinstance(event.payload, ev.Signed)), len(events) + 1)
    entries = tuple((event.seq, event.chain) for event in events if event.seq >= signed)
    return Recomputed(visit_id=record.visit_id, verdict=verdict, differences=tuple(out), digest=own, entries=entries)


def _check_statements(out: list[Difference], record: Record, visit: Visit, events: list[ev.Event]) -> None:
    """Hold the bytes that were signed against the signatures in the log and against what was shown then."""
    given = [one for one in visit.signatures if one.revision == visit.revision]
    digests = [one.digest for one in given]
    for number, text in enumerate(record.statements):
        digest = hashlib.sha256(text.encode()).hexdigest()
        covers = next((one.covers_seq for one in given if one.digest == digest), visit.seq)
        shown = fold(events[:covers], visit.rules)
        for key, stored, found in statement_differences(text, shown, record.visit_id, digests):
            out.append(Difference(f"statements[{number}].{key}", stored, found))


def _differ(out: list[Difference], where: str, stored: str, found: str) -> None:
    if stored != found:
        out.append(Difference(where, stored, found))


def _bound_readings(
    out: list[Difference], record: Record, key: str, sealed: ev.RunClosed | ev.ProofMeasured, where: str
) -> tuple[Chunk, ...] | None:
    """Return the readings kept under a key, held against the count and the digest that bind them; None for bad ones."""
    chunks = tuple(record.readings.get(key, ()))
    for number, chunk in enumerate(chunks):
        problem = chunk.problem()
        if problem is not None:
            out.append(Difference(f"readings.{key}[{number}]", "columns of readings", problem))
            return None
    _differ(out, f"{where}.count", str(sealed.count), str(sum(len(chunk.t) for chunk in chunks)))
    _differ(out, f"{where}.sha256", sealed.sha256, seal_of(chunks))
    return chunks


def _check_proof(out: list[Difference], record: Record, visit: Visit, given: ev.ProofMeasured, where: str) -> None:
    one = find_try(visit, given.run_id)
    protocol = visit.rules.protocol(one.started.protocol_id) if one is not None else None
    least = least_risen(visit, one) if one is not None else None
    chunks = _bound_readings(out, record, given.stream_id, given, where)
    stream = proof_stream(protocol, visit.rules.book, least)
    if stream is None or chunks is None:
        return
    followed(stream, (each for one in chunks for each in one.readings()))
    _differ(out, f"{where}.low", given.low, text_of(stream.low))
    _differ(out, f"{where}.high", given.high, text_of(stream.high))


def _check_readings(out: list[Difference], record: Record, visit: Visit, closed: ev.RunClosed, where: str) -> None:
    one = find_try(visit, closed.run_id)
    protocol = visit.rules.protocol(one.started.protocol_id) if one is not None else None
    chunks = _bound_readings(out, record, closed.run_id, closed, where)
    if protocol is None or chunks is None:
        return
    counted = one.counted if one is not None else None
    instrument = counted.instrument if counted is not None else None
    sealed = reduce_chunks(protocol, visit.rules.book, chunks, closed.end, instrument)
    for name in ("windows", "signals", "holds"):
        _compare(out, f"{where}.{name}", getattr(closed, name), getattr(sealed, name))
    told = tuple(each for each in closed.deviations if each.code not in ("digest", "lost"))
    _compare(out, f"{where}.deviations", told, tuple(each for each in sealed.deviations if each.code != "lost"))


def _compare(out: list[Difference], where: str, stored: object, found: object) -> None:
    if stored != found:
        _compare_plain(out, where, encode(stored), encode(found))


def _compare_plain(out: list[Difference], where: str, stored: Any, found: Any) -> None:
    if isinstance(stored, Mapping) and isinstance(found, Mapping):
        for key in sorted({*stored, *found}):
            _compare_plain(out, f"{where}.{key}", stored.get(key), found.get(key))
        return
    if isinstance(stored, (list, tuple)) and isinstance(found, (list, tuple)):
        for index in range(max(len(stored), len(found))):
            left = stored[index] if index < len(stored) else None
            right = found[index] if index < len(found) else None
            _compare_plain(out, f"{where}[{index}]", left, right)
        return
    if stored != found:
        out.append(Difference(where, _words(stored), _words(found)))


def _words(value: Any) -> str:
    return "nothing" if value is None else canonical_bytes(value).decode()
