"""The command of the one file: an archive, or single records, checked and judged again."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from zipfile import BadZipFile, ZipFile, is_zipfile

from moorfog.auditor.archive import faults_of, fingerprint, key_of, records_of, within
from moorfog.auditor.log import Json
from moorfog.auditor.second import differences

HOLDS, UNREADABLE, DIFFERS = 0, 2, 3


def judged(name: str, record: Json) -> list[str]:
    """Where the second judge does not agree with a record, by its name."""
    try:
        return [f"{name}: {one}" for one in differences(record)]
    except (KeyError, ValueError, TypeError, AttributeError, IndexError, StopIteration) as error:
        return [f"{name}: it is no record as the format has it ({type(error).__name__} {error})"]


def shown_key(public: str, given: str) -> str:
    """What is said of the key that an archive is signed with."""
    if not public:
        return "SIGNED WITH NO KEY"
    words = "It is the key you gave." if given else "Compare it with the one on a paper, or on the maker's screen."
    return f"\n    SIGNED WITH   {fingerprint(public)}\n    {words}\n"


def check(file: Path, key: str) -> tuple[int, list[str], str]:
    """Check an archive or a record. Returns how many records were judged, what is wrong, and what there is to say."""
    if not is_zipfile(file):
        record = json.loads(file.read_text(encoding="utf-8"))
        return 1, [f"{file.name}: {one}" for one in within(record)] + judged(file.name, record), ""
    with ZipFile(file) as archive:
        found, count = faults_of(archive, key), 0
        for name, record in records_of(archive):
            count += 1
            found += judged(name, record) if record is not None else []
        public = key_of(archive)
    is_given = bool(key) and not any("another key" in one for one in found)
    return count, found, shown_key(public, key if is_given else "")


def main(arguments: list[str] | None = None) -> int:
    """Check the files that are named. Returns 0 where all holds, 3 where something does not, 2 where one is no file."""
    parser = argparse.ArgumentParser(description="Check archives and records of fit tests, and judge them again.")
    parser.add_argument("files", nargs="+", type=Path)
    parser.add_argument("--key", default="", help="the key or fingerprint that its maker told you by another way")
    given = parser.parse_args(arguments)
    ends = {HOLDS}
    for file in given.files:
        try:
            count, found, words = check(file, given.key)
        except (OSError, ValueError, BadZipFile, KeyError) as error:
            sys.stdout.write(f"{file}: cannot be read: {error}\n")
            ends.add(UNREADABLE)
            continue
        sys.stdout.write(words)
        for one in found:
            sys.stdout.write(f"{file.name}: DIFFERS {one}\n")
        ends.add(DIFFERS if found else HOLDS)
        sys.stdout.write(f"{file.name}: {count} records judged again, {len(found) or 'nothing'} wrong\n")
    return max(ends, key=(HOLDS, DIFFERS, UNREADABLE).index)
