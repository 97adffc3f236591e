"""The auditor's program in one file: it needs nothing of ours, and whatever is changed in an archive it says."""

from __future__ import annotations

import ast
import copy
import csv
import hashlib
import io
import json
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from scipy.stats import gamma, poisson

from moorfog.auditor.archive import fingerprint
from moorfog.auditor.chance import gamma_quantile, gamma_share, upper_limit
from moorfog.platform.auditor_file import ORDER, one_file
from moorfog.platform.keys import public_hex
from moorfog.platform.printing.archive import archived
from moorfog.platform.printing.plain import table
from moorfog.recompute import DIFFERENT, SAME, run
from moorfog.rooms.records.inspecting import COLUMNS, PAPERS
from tests.core.all_ways import Way
from tests.independent.records import EACH, generated

Files = dict[str, bytes]
PAPER = b"%PDF-1.7 a paper"
OURS, THEIRS = Ed25519PrivateKey.from_private_bytes(b"o" * 32), Ed25519PrivateKey.from_private_bytes(b"t" * 32)


def sealed_with(key: Ed25519PrivateKey) -> Callable[[str], str]:
    public = public_hex(key.public_key())
    return lambda root: f"root {root}\nsignature {key.sign(root.encode()).hex()}\npublic {public}\n"


def archive_of(files: Files, key: Ed25519PrivateKey, place: Path) -> Path:
    file = place / "records.zip"
    file.write_bytes(b"".join(archived(files.items(), sealed_with(key))))
    return file


@pytest.fixture(scope="module")
def files() -> Files:
    """Two records that pass, one by counting and one by taste, with a paper of the first."""
    out: Files = {"read-me.txt": b"", "asked.json": b"{}", "verify.py": one_file().encode()}
    index, papers = [], []
    for number, protocol in enumerate(("fast-count-elastomeric", "taste-sweet")):
        records = generated(Way("us-29cfr1910-134", protocol), EACH)
        record = next(one for one in records if [each["outcome"] for each in one["verdict"]["tries"]] == ["pass"])
        visit = record["visit_id"]
        record = json.loads(mended(of_its_own_visit(record)))
        out[f"records/{visit}.json"] = canonical(record)
        out[f"rules/{record['rules_digest']}.json"] = canonical(record["rules"])
        index.append(row_of(record))
        if number == 0:
            out[f"papers/{visit}-1-A4.pdf"] = PAPER
            papers.append((visit, "1", "A4", hashlib.sha256(PAPER).hexdigest(), "2026-05-04T09:00:00Z", "False"))
    out["index.csv"] = table(COLUMNS, index).encode()
    out["papers.csv"] = table(PAPERS, papers).encode()
    return out


def of_its_own_visit(record: dict[str, Any]) -> dict[str, Any]:
    """A generated record whose log says which visit it is of, chained anew."""
    record = copy.deepcopy(record)
    record["events"][0]["payload"]["visit_id"], before = record["visit_id"], ""
    for one in record["events"]:
        link = {
            "previous": before,
            **{key: one[key] for key in ("id", "seq", "version", "occurred_at", "actor", "payload")},
        }
        before = one["chain"] = hashlib.sha256(canonical(link)).hexdigest()
    return record


def mended(record: dict[str, Any]) -> bytes:
    """A record with its own digest made anew."""
    rest = {key: value for key, value in record.items() if key not in ("digest", "rules")}
    return canonical({**record, "digest": hashlib.sha256(canonical(rest)).hexdigest()})


def canonical(value: Any) -> bytes:
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()


def row_of(record: dict[str, Any]) -> tuple[str, ...]:
    from moorfog.auditor.archive import said_of

    (one,) = record["verdict"]["tries"]
    said = {**said_of(record, one), "visit_id": record["visit_id"], "no": "1", "person": "Åsa Tarn"}
    if said["overall"]:
        said["overall"] = str(int(eval(said["overall"].replace("/", "//"))))
    return tuple(said.get(name, "") for name in COLUMNS)


def told(file: Path, *more: str) -> tuple[int, str]:
    """What the one file says, run by itself: without our folders on its path."""
    program = file.parent / "verify.py"
    program.write_text(one_file(), encoding="utf-8")
    done = subprocess.run(
        [sys.executable, "-I", str(program), str(file), *more], capture_output=True, text=True, timeout=120, check=False
    )
    assert not done.stderr, done.stderr
    return done.returncode, done.stdout


def test_it_is_one_file_of_the_standard_library_and_one_package() -> None:
    tree = ast.parse(one_file())
    names = {node.module or "" for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}
    names |= {one.name for node in ast.walk(tree) if isinstance(node, ast.Import) for one in node.names}
    first = {one.partition(".")[0] for one in names}
    assert first - sys.stdlib_module_names == {"cryptography"}
    tops = [one.name for one in tree.body if isinstance(one, (ast.FunctionDef, ast.ClassDef))]
    assert len(tops) == len(set(tops)), "no module's name hides another's"
    assert {"differences", "faults_of", "main", "upper_limit"} <= set(tops) and len(ORDER) == 8


def test_what_was_made_here_holds_and_its_key_is_shown_large(files: Files, tmp_path: Path) -> None:
    file = archive_of(files, OURS, tmp_path)
    public = public_hex(OURS.public_key())
    code, words = told(file)
    assert code == 0 and f"SIGNED WITH   {fingerprint(public)}" in words and "Compare it" in words, words
    assert "2 records judged again, nothing wrong" in words
    for key in (public, fingerprint(public), fingerprint(public).replace(" ", "").upper()):
        code, words = told(file, "--key", key)
        assert code == 0 and "the key you gave" in words


def index_with(files: Files, column: str, value: str, row: int = 0) -> bytes:
    rows = list(csv.DictReader(io.StringIO(files["index.csv"].decode("utf-8-sig"))))
    rows[row][column] = value
    return table(COLUMNS, [tuple(one[name] for name in COLUMNS) for one in rows]).encode()


def first(files: Files, folder: str) -> str:
    return next(name for name in files if name.startswith(folder))


def record_with(files: Files, change: Callable[[dict[str, Any]], object], is_mended: bool = True) -> Files:
    """The first record changed, with its own digest made anew where ``is_mended``."""
    name = first(files, "records/")
    record = json.loads(files[name])
    change(record)
    return {**files, name: mended(record) if is_mended else canonical(record)}


def without(files: Files, *names: str) -> Files:
    return {name: content for name, content in files.items() if name not in names}


def reading_changed(record: dict[str, Any]) -> None:
    columns = next(iter(record["readings"].values()))[0]
    columns["counts"][3] += 1


def verdict_changed(record: dict[str, Any]) -> None:
    record["verdict"]["tries"][0]["outcome"] = "fail"


def rules_changed(record: dict[str, Any]) -> None:
    record["rules"]["book"]["title"] = "Another book"


def event_changed(record: dict[str, Any]) -> None:
    record["events"][2]["occurred_at"] = record["events"][1]["occurred_at"]


def words_added(record: dict[str, Any]) -> None:
    salt = "0" * 32
    sign = "words:" + hashlib.sha256(f"{salt}Shaven.".encode()).hexdigest()
    record["words"] = [*record["words"], {"sign": sign, "salt": salt, "text": "Shaven."}]


def statement_added(record: dict[str, Any]) -> None:
    record["statements"] = [*record.get("statements", []), '{"signer":{"name":"Nobody","role":"wearer"}}']


CHANGES: dict[str, tuple[Callable[[Files], Files], str]] = {
    "a factor in the index": (lambda f: {**f, "index.csv": index_with(f, "overall", "99999")}, "overall"),
    "an outcome in the index": (lambda f: {**f, "index.csv": index_with(f, "outcome", "fail")}, "outcome"),
    "another person's id": (lambda f: {**f, "index.csv": index_with(f, "person_id", "x")}, "person_id"),
    "another model": (lambda f: {**f, "index.csv": index_with(f, "model", "Other")}, "model"),
    "a row of a try that is not": (lambda f: {**f, "index.csv": index_with(f, "no", "7")}, "try 7"),
    "a row of another visit": (lambda f: {**f, "index.csv": index_with(f, "visit_id", "v")}, "is no record"),
    "an empty index": (lambda f: {**f, "index.csv": table(COLUMNS, []).encode()}, "not in index.csv"),
    "a record taken out": (lambda f: without(f, first(f, "records/")), "there is no record"),
    "a record under another name": (
        lambda f: {**without(f, first(f, "records/")), "records/x.json": f[first(f, "records/")]},
        "of another visit",
    ),
    "a record that is none": (lambda f: {**f, first(f, "records/"): b"[]"}, "cannot be read"),
    "a record of nothing": (lambda f: {**f, first(f, "records/"): b"{}"}, "no record"),
    "a reading": (lambda f: record_with(f, reading_changed), "not those that were sealed"),
    "a verdict": (lambda f: record_with(f, verdict_changed), "and here pass"),
    "rules": (lambda f: record_with(f, rules_changed), "rules"),
    "an entry of the log": (lambda f: record_with(f, event_changed), "the chain breaks"),
    "words that nobody typed": (lambda f: record_with(f, words_added), "not those that its log stands for"),
    "a statement that nobody signed": (lambda f: record_with(f, statement_added), "signed by nobody"),
    "the record's own digest": (lambda f: record_with(f, verdict_changed, is_mended=False), "digest"),
    "the rules beside it": (lambda f: {**f, first(f, "rules/"): b"{}"}, "rules beside it"),
    "no rules beside it": (lambda f: without(f, first(f, "rules/")), "rules beside it"),
    "a paper": (lambda f: {**f, first(f, "papers/"): b"%PDF another"}, "not the paper that was issued"),
    "a paper taken out": (lambda f: without(f, first(f, "papers/")), "is gone"),
    "a paper put in": (lambda f: {**f, "papers/x-1-A4.pdf": PAPER}, "issued by nobody"),
    "a file that belongs nowhere": (lambda f: {**f, "notes.txt": b"trust me"}, "belongs into no archive"),
}


@pytest.mark.parametrize("what", CHANGES)
def test_what_was_changed_and_signed_anew_is_said(
    files: Files, what: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Signed by the forger's own key: the key is named where ours is known, and what does not agree in any case."""
    change, words = CHANGES[what]
    file = archive_of(change(dict(files)), THEIRS, tmp_path)
    code, said = told(file)
    assert code == 3 and any(words in line for line in said.splitlines() if "DIFFERS" in line), said
    code, said = told(file, "--key", fingerprint(public_hex(OURS.public_key())))
    assert code == 3 and "another key than the one you gave" in said
    assert run([str(file)], as_json=False, key=public_hex(OURS.public_key())) != SAME
    assert "another key" in capsys.readouterr().err


def test_a_name_changed_and_signed_anew_shows_in_the_key_alone(files: Files, tmp_path: Path) -> None:
    """No record holds names: only the key tells, so it is shown, and asked for."""
    file = archive_of({**files, "index.csv": index_with(files, "person", "Somebody Else")}, THEIRS, tmp_path)
    code, said = told(file)
    assert code == 0 and fingerprint(public_hex(THEIRS.public_key())) in said and "Compare it" in said
    assert told(file, "--key", public_hex(OURS.public_key()))[0] == 3


def rewritten(file: Path, change: Callable[[str, bytes], bytes | None], more: Files | None = None) -> Path:
    other = file.with_name("other.zip")
    with zipfile.ZipFile(file) as one, zipfile.ZipFile(other, "w") as made:
        for name in one.namelist():
            content = change(name, one.read(name))
            if content is not None:
                made.writestr(name, content)
        for name, content in (more or {}).items():
            made.writestr(name, content)
    return other


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda n, c: c.replace(b"signature ", b"signature 00") if n == "root.txt" else c, "does not hold"),
        (lambda n, c: b"root 00\nsignature 00\npublic 00\n" if n == "root.txt" else c, "names no key"),
        (lambda n, c: None if n == "root.txt" else c, "nothing that signs it"),
        (lambda n, c: None if n == "manifest.txt" else c, "no manifest"),
        (lambda n, c: c[:-5] if n == "papers.csv" else c, "papers.csv is not what was written"),
        (lambda n, c: c.replace(b"0", b"1", 1) if n == "manifest.txt" else c, "not the one that was signed"),
    ],
)
def test_what_was_changed_and_not_signed_anew_is_said(
    files: Files, tmp_path: Path, change: Callable[[str, bytes], bytes | None], words: str
) -> None:
    code, said = told(rewritten(archive_of(files, OURS, tmp_path), change))
    assert code == 3 and words in said


def test_a_name_that_is_there_twice_is_said(files: Files, tmp_path: Path) -> None:
    """Programs differ in which of the two they read."""
    other = rewritten(archive_of(files, OURS, tmp_path), lambda name, content: content, {"index.csv": b"visit_id,no\n"})
    assert "twice" in told(other)[1] and run([str(other)], as_json=False) == DIFFERENT


def test_a_single_record_is_judged_too(files: Files, tmp_path: Path) -> None:
    file = tmp_path / "record.json"
    file.write_bytes(files[first(files, "records/")])
    assert told(file)[0] == 0
    file.write_bytes(record_with(files, reading_changed)[first(files, "records/")])
    assert told(file)[0] == 3
    file.write_bytes(b"not a record")
    assert told(file)[0] == 2 and "cannot be read" in told(file)[1]


@pytest.mark.parametrize("counts", [0, 1, 2, 7, 30, 400, 20_000])
def test_its_own_statistics_are_those_of_scipy(counts: int) -> None:
    """Reference library: scipy.stats."""
    assert poisson.cdf(counts, upper_limit(counts)) == pytest.approx(0.05, rel=1e-8)
    for share in (0.05, 0.5, 0.95):
        found = gamma_quantile(share, counts + 0.7, 2.5)
        assert found == pytest.approx(float(gamma.ppf(share, counts + 0.7, scale=2.5)), rel=1e-9)
        assert gamma_share(counts + 0.7, found / 2.5) == pytest.approx(share, rel=1e-9)
