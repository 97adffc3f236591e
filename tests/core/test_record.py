"""The open record: what is exported computes again to the same, and any edit in the file is found."""

from __future__ import annotations

import copy
import gzip
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from moorfog import recompute as command
from moorfog.core.events import payloads as ev
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import DataError
from moorfog.core.measuring.readings import Chunk, Reading, seal_digest
from moorfog.core.measuring.reduction import Reduction
from moorfog.core.record.record import Record, make_record, own_digest, recompute, recompute_text, record_bytes
from moorfog.core.visit.outcomes import outcome
from moorfog.data import shipped_rules
from tests.core.bench import BAD_FACTORS, GOOD, Bench, facepiece, simulate

ROOT = Path(__file__).parents[2]
OLD_RECORDS = ROOT / "tests" / "data" / "records"
SCHEMA = ROOT / "docs" / "formats" / "record.schema.json"


def chunks_of(readings: list[Reading], size: int = 4) -> list[Chunk]:
    """Readings in chunks of about a second."""
    out = []
    for first in range(0, len(readings), size):
        part = readings[first : first + size]
        columns = [tuple(getattr(one, name) for one in part) for name in ("t", "dt", "counts", "volume_nl")]
        out.append(Chunk(first, *columns, "".join(one.valve for one in part), tuple(one.flags for one in part)))
    return out


def counted(*attempts: tuple[int, ...]) -> dict[str, Any]:
    """The record of a visit with counter runs, one after the other, signed and released."""
    bench, kept = Bench(shipped_rules(), opened_on="2026-03-02"), {}
    for number, factors in enumerate(attempts):
        bench.until("run", facepiece())
        readings = simulate(shipped_rules().protocol("fast-count-elastomeric"), factors, seed=number + 1)
        bench.run(readings=readings)
        kept[f"run-{number + 1}"] = chunks_of(readings)
        if number + 1 < len(attempts):
            bench.say(ev.Decided("same_again"))
    if outcome(bench.visit, bench.visit.tries[-1])[0] == "fail":
        bench.say(ev.Decided("end"))
    bench.until("release")
    bench.say(ev.Released())
    return json.loads(json.dumps(make_record("v", bench.rules, bench.log, kept)))


WRITTEN_BEFORE = {
    "fast-count-elastomeric-0": "pass",
    "fast-count-disposable-1": "void",
    "pressure-full-0": "pass",
    "smoke-1": "pass",
}


@pytest.mark.parametrize(("name", "verdict"), WRITTEN_BEFORE.items())
def test_records_of_an_earlier_program_compute_again_to_the_same(name: str, verdict: str) -> None:
    """Written before alterations, policies and applications had these names; they stay for good."""
    done = recompute_text(gzip.decompress((OLD_RECORDS / f"{name}.json.gz").read_bytes()), name)
    assert not done.differences and done.verdict.outcome == verdict


@pytest.fixture(scope="module")
def record() -> dict[str, Any]:
    """A fail, then a pass."""
    return counted(BAD_FACTORS, GOOD)


def test_what_is_exported_computes_again_to_the_same(record: dict[str, Any]) -> None:
    done = recompute(record)
    assert done.differences == ()
    assert [one.outcome for one in done.verdict.tries] == ["fail", "pass"] and done.verdict.outcome == "pass"
    assert done.verdict.is_sealed and len(record["signatures"]) == 2
    assert all(len(one.exercises) == 4 for one in done.verdict.tries)


def test_a_qualitative_visit_and_one_without_a_test_compute_again_too() -> None:
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    empty = make_record("v", bench.rules, bench.log, {})
    assert recompute(json.loads(json.dumps(empty))).verdict.outcome == ""
    bench.until("run", facepiece())
    bench.smell()
    bench.until("release")
    done = recompute(json.loads(json.dumps(make_record("v", bench.rules, bench.log, {}))))
    assert done.differences == () and done.verdict.outcome == "pass"
    assert done.verdict.tries[0].overall is None, "never a number"


def test_a_record_under_another_visits_id_is_found() -> None:
    """Its log says whose it is; that a file was sealed anew with another name does not help."""
    made = copy.deepcopy(RECORDS.setdefault("one", counted(GOOD)))
    made["visit_id"] = "another"
    made["digest"] = own_digest(made)
    found = recompute(made).differences
    assert ("visit_id", "another", "v") in [(one.where, one.stored, one.found) for one in found]
    made["events"][0]["payload"]["visit_id"] = ""
    assert "visit_id" not in [one.where for one in recompute(made).differences], "a log of before does not say it"


def places(node: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Every leaf of a record."""
    if isinstance(node, dict):
        return [found for key, one in node.items() for found in places(one, (*path, key))]
    if isinstance(node, list):
        return [found for index, one in enumerate(node) for found in places(one, (*path, index))]
    return [path]


def edited(record: dict[str, Any], path: tuple[Any, ...]) -> dict[str, Any]:
    """The record with one leaf changed to something of the same kind."""
    made = copy.deepcopy(record)
    node = made
    for key in path[:-1]:
        node = node[key]
    old = node[path[-1]]
    node[path[-1]] = (
        not old if isinstance(old, bool) else old + 1 if isinstance(old, int) else "x" if old is None else f"{old}x"
    )
    return made


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_any_edit_of_any_leaf_is_found(data: st.DataObject) -> None:
    """Event, reading, rule, verdict, signature: an edit is a difference, or the file is unreadable; never silence."""
    record = RECORDS.setdefault("one", counted(GOOD))
    part = data.draw(st.sampled_from(["events", "readings", "rules", "verdict", "signatures", "fold_version"]))
    inside = places(record[part], (part,))
    path = inside[data.draw(st.integers(0, len(inside) - 1))]
    made = edited(record, path)
    try:
        found = recompute(made).differences
    except DataError as error:
        assert str(error)
        return
    assert found, path


RECORDS: dict[str, dict[str, Any]] = {}


def resealed(record: dict[str, Any]) -> dict[str, Any]:
    """The record with its own digest made right again, as a careful forger would."""
    return {**record, "digest": own_digest(record)}


@pytest.mark.parametrize(
    ("path", "value", "where"),
    [
        (("readings", "run-2", 0, "counts", 4), 0, "sha256"),
        (("rules", "book", "values", "level.half", "value"), "10", "rules_digest"),
        (("verdict", "tries", 0, "outcome"), "pass", "verdict.tries[0].outcome"),
        (("verdict", "tries", 1, "overall"), "100000", "verdict.tries[1].overall"),
        (("events", 7, "occurred_at"), "2026-03-02T09:00:30.000Z", "chain"),
    ],
)
def test_an_edit_is_named_also_where_the_files_own_digest_was_made_right(
    record: dict[str, Any], path: tuple[Any, ...], value: object, where: str
) -> None:
    made = copy.deepcopy(record)
    node = made
    for key in path[:-1]:
        node = node[key]
    node[path[-1]] = value
    found = recompute(resealed(made)).differences
    assert any(where in one.where for one in found), [one.where for one in found]


def test_a_window_sum_that_the_readings_do_not_give_is_found() -> None:
    """A forger who writes another window sum and repairs chain and digest is found by the readings."""
    bench = Bench(shipped_rules(), opened_on="2026-03-02")
    bench.until("run", facepiece())
    readings = simulate(shipped_rules().protocol("fast-count-elastomeric"), BAD_FACTORS)
    run_id = bench.start()
    protocol = shipped_rules().protocol("fast-count-elastomeric")
    assert protocol is not None
    reduction = Reduction(protocol, 1000)
    for one in readings:
        reduction.feed(one)
    windows = reduction.sealed("complete").windows
    forged = tuple(
        ev.MeasuredWindow(one.exercise, one.use, one.counts if one.use == "outside" else 5, one.volume_nl, one.ms)
        for one in windows
    )
    closed = ev.RunClosed(run_id, "complete", 0, len(readings) - 1, len(readings), seal_digest(readings), forged, ())
    bench.note(closed, 149_000)
    made = make_record("v", bench.rules, bench.log, {run_id: chunks_of(readings)})
    found = recompute(json.loads(json.dumps(made))).differences
    assert found and all("windows" in one.where for one in found)


def test_a_record_of_version_1_computes_again_and_its_digest_is_over_the_rules_too(record: dict[str, Any]) -> None:
    old = resealed({**copy.deepcopy(record), "version": 1})
    assert old["digest"] == digest({key: value for key, value in old.items() if key != "digest"}) != record["digest"]
    for text in (json.dumps(old, indent=1), json.dumps(old)):
        assert recompute_text(text.encode()).differences == ()
    old["rules"]["book"]["title"] += "x"
    assert {"digest", "rules_digest"} <= {one.where for one in recompute(old).differences}


@settings(max_examples=80, deadline=None)
@given(st.data())
def test_any_byte_of_an_exported_file_matters_and_is_read_alike_however_often_it_was_read(data: st.DataObject) -> None:
    """A byte changed, left out or put in is a difference or unreadable, by the quick way as by the slow one."""
    content = record_bytes(RECORDS.setdefault("one", counted(GOOD)))
    assert recompute_text(content).differences == () and json.loads(content) == RECORDS["one"]
    rules = content.index(b'"rules":')
    behind = content.index(b',"rules_digest"')
    at = data.draw(st.integers(0, rules) | st.integers(behind, len(content) - 2))
    other = data.draw(st.sampled_from([b"", b"0", b"7", b"x", b" ", b",", b'"', b"-", b".5", b'"a":1,']))
    cut = data.draw(st.integers(0, 1))
    made = content[:at] + other + content[at + cut :]
    quick, slow = said(made), said(b" " + made)
    assert quick == slow
    if made != content and json_or_none(made) != RECORDS["one"]:
        assert quick, made[max(0, at - 30) : at + 30]


def test_what_would_not_be_exact_is_never_exported(record: dict[str, Any]) -> None:
    with pytest.raises(ValueError, match="revision"):
        record_bytes({**record, "verdict": {**record["verdict"], "revision": 1.5}})


def json_or_none(content: bytes) -> Any:
    """What a lenient reader makes of it."""
    try:
        return json.loads(content)
    except ValueError:
        return None


def said(content: bytes) -> Any:
    """What is said of a file: its differences, or that it is unreadable."""
    try:
        return recompute_text(content).differences
    except DataError:
        return "unreadable"


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        (b'"seq":1,', b'"seq":1.0,', "seq|the number 1.0"),
        (b'"revision":1,', b'"revision":1e0,', "the number 1e0"),
        (b'"version":1}', b'"version":"1"}', "version"),
        (b'"seq":1,', b'"more":2,"seq":1,', "more"),
        (b'"recorded_at":"2026-03-02T09', b'"recorded_at":"2026-03-02 at 9', "not a moment"),
    ],
)
def test_what_fits_no_field_is_unreadable_and_named(record: dict[str, Any], old: bytes, new: bytes, words: str) -> None:
    content = record_bytes(record)
    assert old in content
    for made in (content.replace(old, new, 1), b" " + content.replace(old, new, 1)):
        with pytest.raises(DataError, match=words):
            recompute_text(made)


def test_other_formats_and_versions_are_unreadable_with_what_is_expected(record: dict[str, Any]) -> None:
    for wrong, words in (
        ([], "no record"),
        ({"format": "something"}, "no record"),
        ({**record, "version": 5}, "reads 1 and 2 and 3 and 4"),
        ({**record, "more": 1}, "more"),
        ({key: value for key, value in record.items() if key != "verdict"}, "verdict"),
    ):
        with pytest.raises(DataError, match=words):
            recompute(wrong, "file.json")


def test_the_published_schema_is_the_codes_own() -> None:
    made = TypeAdapter(Record).json_schema()
    assert json.loads(SCHEMA.read_text()) == json.loads(json.dumps(made)), "write it anew, see docs/formats/record.md"


def test_the_command_says_same_different_and_unreadable(
    record: dict[str, Any], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    good, bad, ugly = (tmp_path / name for name in ("good.json", "bad.json", "ugly.json"))
    good.write_bytes(record_bytes(record))
    bad.write_text(json.dumps(edited(record, ("verdict", "tries", 0, "outcome"))))
    ugly.write_text("{")
    assert command.run([str(good)], as_json=False) == 0
    shown = capsys.readouterr().out
    assert "try 1: fail, overall" in shown and "try 2: pass, overall" in shown and "DIFFERS" not in shown
    assert command.run([str(good), str(bad)], as_json=False) == 3
    assert "DIFFERS verdict.tries[0].outcome" in capsys.readouterr().out
    assert command.run([str(bad), str(ugly), str(tmp_path / "none.json")], as_json=True) == 2
    shown = capsys.readouterr()
    assert [one["equal"] for one in json.loads(shown.out)] == [False]
    assert "is no JSON" in shown.err and "cannot be read" in shown.err


def test_it_needs_no_server_and_no_database(record: dict[str, Any]) -> None:
    """From standard input, in a process in which neither can even be imported."""
    code = (
        "import sys\n"
        "for name in ('flask', 'sqlalchemy', 'pydantic', 'pymysql'): sys.modules[name] = None\n"
        "from moorfog.recompute import run\n"
        "sys.exit(run(['-'], False))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], input=json.dumps(record), text=True, capture_output=True, cwd=ROOT, check=False
    )
    assert done.returncode == 0, done.stderr
    assert "pass" in done.stdout
