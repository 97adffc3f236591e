"""``moorfog recompute``: records computed again from their files alone. No server, no database."""

from __future__ import annotations

import io
import json
import sys
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from zipfile import BadZipFile, ZipFile, is_zipfile

from moorfog.auditor.archive import faults_of, fingerprint, key_of
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.record.record import Recomputed, recompute_text

SAME, UNREADABLE, DIFFERENT = 0, 2, 3


def read(name: str) -> bytes:
    """Return the bytes of a file, or of standard input for ``-``. Raises :class:`DataError` saying why not."""
    try:
        return sys.stdin.buffer.read() if name == "-" else Path(name).read_bytes()
    except OSError as error:
        raise DataError(name, f"cannot be read: {error.strerror}") from error


def lines_of(name: str, done: Recomputed) -> list[str]:
    """Return what is printed of a record: tries with their exercises, the verdict, and what differs."""
    verdict = done.verdict
    practice = ", PRACTICE" if verdict.is_practice else ""
    sealed = "signed" if verdict.is_sealed else "not signed"
    out = [f"{name}: visit {done.visit_id}, {verdict.outcome or 'no test'}, {sealed}{practice}"]
    for one in verdict.tries:
        total = f", overall {_number(one.overall, one.at_least)}" if one.overall is not None else ""
        bound = f", 95 % bound {one.bound}" if one.bound is not None else ""
        out.append(f"  try {one.no}: {one.outcome}{total}{bound}  [{', '.join(one.reasons)}]")
        out += [
            f"    exercise {row.exercise + 1}: {_number(row.factor, row.at_least)}"
            + (f", bound {row.bound}" if row.bound is not None else "")
            for row in one.exercises
        ]
    out += [f"  log entry {seq}, chain {chain}" for seq, chain in done.entries]
    out += [f"  record digest {done.digest}"] if done.digest else []
    out += [f"  DIFFERS {one.where}: stored {one.stored}, computed {one.found}" for one in done.differences]
    return out


def _number(exact: str, at_least: bool) -> str:
    return ("≥ " if at_least else "") + cut(Fraction(exact))


def records_in(name: str) -> Iterator[tuple[str, bytes]]:
    """Yield the records of a file: itself, or those in an archive. Raises :class:`DataError` where none is read."""
    content = read(name)
    if not is_zipfile(io.BytesIO(content)):
        yield name, content
        return
    with ZipFile(io.BytesIO(content)) as archive:
        for one in archive.namelist():
            if one.startswith("records/"):
                yield f"{name}, {one}", archive.read(one)


def around(name: str, key: str) -> tuple[list[str], str]:
    """Return what of an archive is not so, and the fingerprint of the key that signed it; nothing of a file that is
    none. ``key``: the key, or its fingerprint, that the maker told by another way."""
    content = read(name)
    if not is_zipfile(io.BytesIO(content)):
        return [], ""
    with ZipFile(io.BytesIO(content)) as archive:
        public = key_of(archive)
        return faults_of(archive, key), fingerprint(public) if public else "no key"


def run(names: list[str], as_json: bool, key: str = "") -> int:
    """Compute records again and print them; return 0 where all hold, 3 where one differs, 2 where one is unreadable.

    Of an archive manifest, signature and key are held to what was given, and what stands in it to each other.
    """
    found, answers = {SAME}, []
    for given in names:
        try:
            faults, signed = around(given, key) if given != "-" else ([], "")
            for fault in faults:
                found.add(DIFFERENT)
                print(f"{given}: DIFFERS {fault}", file=sys.stderr)
            if signed:
                told = "" if key else "\n    Compare it with the one on a paper, or on the maker's screen."
                print(f"\n    SIGNED WITH   {signed}{told}\n", file=sys.stderr)
            records = list(records_in(given))
        except (DataError, BadZipFile) as error:
            print(f"moorfog recompute: {error}", file=sys.stderr)
            found.add(UNREADABLE)
            continue
        for name, content in records:
            try:
                done = recompute_text(content, name)
            except DataError as error:
                print(f"moorfog recompute: {error}", file=sys.stderr)
                found.add(UNREADABLE)
                continue
            found.add(DIFFERENT if done.differences else SAME)
            answers.append({"file": name, "equal": not done.differences, **encode(done)})
            if not as_json:
                print("\n".join(lines_of(name, done)))
    if as_json:
        print(json.dumps(answers, ensure_ascii=False, indent=1))
    return next(one for one in (UNREADABLE, DIFFERENT, SAME) if one in found)
