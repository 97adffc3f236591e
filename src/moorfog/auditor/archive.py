"""An inspector's archive, checked whole: manifest, signature, key, and index, records, rules and papers against each
other. docs/formats/archive.md says what stands in it."""

from __future__ import annotations

import csv
import hashlib
import io
import json
from collections.abc import Iterable, Iterator
from fractions import Fraction
from typing import Any
from zipfile import ZipFile

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from moorfog.auditor.log import Json

MANIFEST, ROOT, INDEX, PAPERS = "manifest.txt", "root.txt", "index.csv", "papers.csv"
PLAIN = frozenset({"read-me.txt", "asked.json", "verify.py", INDEX, PAPERS, MANIFEST, ROOT})
FOLDERS = ("records/", "papers/", "rules/")


def sha256(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def canonical(value: Any) -> bytes:
    """RFC 8785 for what stands here: keys sorted, no blanks; there are no numbers but whole ones."""
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()


def fingerprint(public: str) -> str:
    """What people compare of a key: the first half of the SHA-256 of its bytes, in eight groups of four digits."""
    digits = sha256(bytes.fromhex(public))[:32]
    return " ".join(digits[at : at + 4] for at in range(0, 32, 4))


def is_key(public: str, given: str) -> bool:
    """Whether a key is the one that was given: as its 64 digits, or as its fingerprint, with or without blanks."""
    plain = "".join(given.split()).lower()
    return plain in (public.lower(), fingerprint(public).replace(" ", ""))


def key_of(archive: ZipFile) -> str:
    """The key that an archive says it is signed with, empty where it says none."""
    said = _root(archive).get("public", "")
    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(said))
    except ValueError:
        return ""
    return said.lower()


def _root(archive: ZipFile) -> dict[str, str]:
    if ROOT not in archive.namelist():
        return {}
    lines = archive.read(ROOT).decode(errors="replace").splitlines()
    return {word: rest for word, _, rest in (line.partition(" ") for line in lines)}


def faults_of(archive: ZipFile, key: str = "") -> list[str]:
    """What of an archive is not so, in words. ``key``: the key or fingerprint that its maker told by another way."""
    return [*_signed(archive, key), *_listed(archive), *_held_together(archive)]


def _signed(archive: ZipFile, key: str) -> Iterator[str]:
    names, said = archive.namelist(), _root(archive)
    if len(set(names)) != len(names):
        yield "a name is there twice"
    if MANIFEST not in names or not said:
        yield "it has no manifest, or nothing that signs it"
        return
    root = sha256(archive.read(MANIFEST))
    if said.get("root") != root:
        yield "the manifest is not the one that was signed"
    public = key_of(archive)
    if not public:
        yield "it names no key"
        return
    try:
        signature = bytes.fromhex(said.get("signature", ""))
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(public)).verify(signature, root.encode())
    except (InvalidSignature, ValueError):
        yield "its signature does not hold"
    if key and not is_key(public, key):
        yield f"it is signed with another key than the one you gave: {fingerprint(public)}"


def _listed(archive: ZipFile) -> Iterator[str]:
    names = set(archive.namelist())
    lines = archive.read(MANIFEST).decode(errors="replace").splitlines() if MANIFEST in names else []
    listed = {one[66:]: one[:64] for one in lines}
    for name in sorted(names - listed.keys() - {MANIFEST, ROOT}):
        yield f"{name} is not in the manifest"
    for name in sorted(names):
        if name not in PLAIN and not name.startswith(FOLDERS):
            yield f"{name} belongs into no archive"
    for name, digest in listed.items():
        if name not in names:
            yield f"{name} is gone"
        elif sha256(archive.read(name)) != digest:
            yield f"{name} is not what was written"


def records_of(archive: ZipFile) -> Iterator[tuple[str, Json | None]]:
    """The records of an archive by the name of each; None where one cannot be read."""
    for name in archive.namelist():
        if name.startswith("records/"):
            try:
                found = json.loads(archive.read(name))
                yield name, found if isinstance(found, dict) else None
            except ValueError:
                yield name, None


def rows_of(archive: ZipFile, name: str) -> list[dict[str, str]]:
    """The rows of a table in the archive; none where there is none."""
    if name not in archive.namelist():
        return []
    text = archive.read(name).decode("utf-8-sig", errors="replace")
    return list(csv.DictReader(io.StringIO(text)))


def _held_together(archive: ZipFile) -> Iterator[str]:
    names, index = set(archive.namelist()), rows_of(archive, INDEX)
    by_visit: dict[str, list[dict[str, str]]] = {}
    for row in index:
        by_visit.setdefault(row.get("visit_id", ""), []).append(row)
    visits: dict[str, Json] = {}
    for name, record in records_of(archive):
        if record is None:
            yield f"{name} cannot be read"
            continue
        visit = str(record.get("visit_id"))
        visits[visit] = record
        if name != f"records/{visit}.json":
            yield f"{name} is the record of another visit"
        try:
            yield from (f"{name}: {one}" for one in within(record))
            yield from _indexed(name, record, by_visit.get(visit, []))
            rules = f"rules/{record['rules_digest']}.json"
            if rules not in names or canonical(json.loads(archive.read(rules))) != canonical(record["rules"]):
                yield f"{name}: the rules beside it are not those it was judged under"
        except (KeyError, ValueError, TypeError, AttributeError, IndexError) as error:
            yield f"{name}: it is no record as the format has it ({type(error).__name__} {error})"
    for visit in sorted(by_visit.keys() - visits.keys()):
        yield f"{INDEX} names visit {visit}, of which there is no record"
    yield from _papers(archive, visits)


def within(record: Json) -> Iterator[str]:
    """What of a record is not bound as the format says: its digest, its rules, its readings, what was signed."""
    rest = {key: value for key, value in record.items() if key not in ("digest", "rules")}
    if record["version"] >= 2 and sha256(canonical(rest)) != record["digest"]:
        yield "its digest is not that of what stands in it"
    if sha256(canonical(record["rules"])) != record["rules_digest"]:
        yield "its rules are not those that its digest names"
    payloads = [one["payload"] for one in record["events"]]
    if payloads[0]["rules_digest"] != record["rules_digest"]:
        yield "its log was opened under other rules"
    if payloads[0].get("visit_id", "") not in ("", record["visit_id"]):
        yield "its log is that of another visit"
    for one in payloads:
        if one["kind"] in ("run_closed", "proof_measured") and one["count"] > 0:
            stream = one.get("run_id") if one["kind"] == "run_closed" else one["stream_id"]
            yield from _sealed(record, str(stream), one)
    signed = {(one["role"], one["digest"]) for one in payloads if one["kind"] == "signed"}
    for one in record["signatures"]:
        if (one["role"], one["digest"]) not in signed:
            yield f"the log does not know what the {one['role']} is said to have signed"
    written = {sign for one in payloads for sign in _signs(one)}
    for one in record.get("words", []):
        if one["sign"] != "words:" + sha256((one["salt"] + one["text"]).encode()) or one["sign"] not in written:
            yield f"the words {one['text']!r} are not those that its log stands for"
    for text in record.get("statements", []):
        if sha256(text.encode()) not in {digest for _, digest in signed}:
            yield "a statement in it was signed by nobody"


def _signs(value: Any) -> Iterator[str]:
    """The signs in an entry, wherever: they stand for words that somebody typed."""
    if isinstance(value, str):
        yield from [value] if value.startswith("words:") else []
    for one in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
        yield from _signs(one)


def _sealed(record: Json, stream: str, closed: Json) -> Iterator[str]:
    lines = [line for columns in record["readings"].get(stream, []) for line in lines_of(columns)]
    if len(lines) != closed["count"] or sha256("".join(lines).encode()) != closed["sha256"]:
        yield f"the readings of {stream} are not those that were sealed"


def lines_of(columns: Json) -> Iterator[str]:
    """The lines that a seal is made of: t,dt,counts,volume,valve,flags and, of a signal, signal,chamber,pressure."""
    count = len(columns["t"])
    flags = columns.get("flags") or [""] * count
    more = [columns.get(name) or [""] * count for name in ("signal", "chamber", "pressure")]
    for n in range(count):
        values = [columns[name][n] for name in ("t", "dt", "counts", "volume_nl", "valve")] + [flags[n]]
        if columns.get("signal"):
            values += ["" if one[n] is None else one[n] for one in more]
        yield ",".join(str(one) for one in values) + "\n"


def _indexed(name: str, record: Json, rows: list[dict[str, str]]) -> Iterator[str]:
    """Where the index says something else of a record than the record itself."""
    if not rows:
        yield f"{name} is not in {INDEX}"
    tries = {str(one["no"]): one for one in record["verdict"]["tries"]}
    for row in rows:
        mine = tries.get(row["no"])
        if mine is None:
            yield f"{INDEX} has try {row['no']} of visit {record['visit_id']}, and its record has none"
            continue
        for what, said in said_of(record, mine).items():
            if not is_said(what, row.get(what, ""), said):
                yield f"{INDEX} says {row.get(what, '')!r} for {what} of {record['visit_id']}, try {row['no']}: {said}"


def said_of(record: Json, mine: Json) -> dict[str, str]:
    """What a record says of a try, by the columns of the index that can be held to it."""
    events = record["events"]
    start = next(one for one in events if one["payload"].get("run_id") == mine["run_id"])
    before = [one["payload"] for one in events if one["seq"] < start["seq"]]
    piece = [one["facepiece"] for one in before if one["kind"] == "facepiece_chosen"][-1]
    protocols = {one["id"]: one["title"] for one in record["rules"]["protocols"]}
    return {
        "person_id": events[0]["payload"]["person_id"],
        "model": f"{piece['maker']} {piece['model']}",
        "size": piece["size"],
        "protocol": protocols.get(start["payload"]["protocol_id"], ""),
        "rule_book": record["rules"]["book"]["title"],
        "level": str(start["payload"].get("level", "")),
        "overall": str(mine["overall"] or ""),
        "outcome": mine["outcome"],
        "is_signed": str(record["verdict"]["is_sealed"]),
        "tested_at": start["occurred_at"],
    }


def is_said(what: str, row: str, said: str) -> bool:
    """Whether a cell of the index says what the record says; a factor stands there cut, never rounded up."""
    if what != "overall" or not said or not row:
        return row == said or (what == "level" and not said)
    shown = row.replace("≥", "").replace(",", "").strip()
    places = len(shown.partition(".")[2])
    try:
        return Fraction(shown) <= Fraction(said) < Fraction(shown) + Fraction(1, 10**places)
    except ValueError:
        return False


def _papers(archive: ZipFile, visits: Iterable[str]) -> Iterator[str]:
    """Papers that nobody issued, that are gone, or that are not what was issued."""
    known, wanted = set(visits), dict[str, dict[str, str]]()
    for row in rows_of(archive, PAPERS):
        name = f"papers/{row['visit_id']}-{row['revision']}-{row['page_size']}.pdf"
        if row["visit_id"] not in known:
            yield f"{PAPERS} names a paper of visit {row['visit_id']}, of which there is no record"
        if row["is_erased"] != "True":
            wanted[name] = row
    there = {one for one in archive.namelist() if one.startswith("papers/")}
    for name in sorted(there - wanted.keys()):
        yield f"{name} was issued by nobody"
    for name, row in wanted.items():
        if name not in there:
            yield f"{name} is gone"
        elif sha256(archive.read(name)) != row["sha256"]:
            yield f"{name} is not the paper that was issued"
