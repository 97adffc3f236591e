"""The log: samples of every shipped kind, the chain, strict reading, valid-until dates."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path

import pytest
from dateutil.relativedelta import relativedelta
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.events import chain
from moorfog.core.events import payloads as ev
from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.rules.book import Rules
from moorfog.core.rules.validity import valid_until
from tests.core.bench import Bench

ALTERATIONS = {"loop": "alteration", "loops": "alterations"}
RENAMED = {
    ("loop_opened", 1): ("alteration_made", ALTERATIONS),
    ("loop_closed", 1): ("alteration_undone", ALTERATIONS),
    ("probe_fitted", 1): ("probe_fitted", ALTERATIONS),
    ("probe_fitted", 2): ("probe_fitted", ALTERATIONS),
}
SAMPLES = Path(__file__).parents[1] / "data" / "events"


def test_every_kind_and_version_has_a_sample_that_can_still_be_read() -> None:
    """Samples stay for good: a payload once shipped must be readable by every later program."""
    seen = set()
    for path in sorted(SAMPLES.glob("*.json")):
        kind, version = path.stem.rsplit("-v", 1)
        data = json.loads(path.read_text())
        payload = chain.read_payload(kind, int(version), data, path.name)
        if int(version) == chain.VERSIONS.get(kind):
            assert encode(payload) == data, path.name
        kind, keys = RENAMED.get((kind, int(version)), (kind, {}))
        then = {keys.get(key, key): kind if key == "kind" else value for key, value in data.items()}
        if kind == "run_started":
            then["instrument"] = _with_checks_of_now(then["instrument"])
        assert _contains(encode(payload), then), path.name
        seen.add((kind, int(version)))
    assert {(kind, version) for kind, version in chain.VERSIONS.items()} <= seen


def _with_checks_of_now(instrument: dict) -> dict:
    """The daily checks have had other names; what they say is as it was."""
    names = chain.CHECKS_THEN
    checks = [{**one, "name": names.get(one["name"], one["name"])} for one in instrument["checks"]]
    required = [names.get(one, one) for one in instrument.get("required", [])]
    return {**instrument, "checks": checks, **({"required": required} if required else {})}


def _contains(whole: object, part: object) -> bool:
    """True if everything in ``part`` stands in ``whole``: an upcaster adds or renames, and takes nothing away."""
    if isinstance(whole, dict) and isinstance(part, dict):
        return all(key in whole and _contains(whole[key], value) for key, value in part.items())
    if isinstance(whole, list) and isinstance(part, list):
        return len(whole) == len(part) and all(map(_contains, whole, part))
    return whole == part


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"kind": "donned"}, "donned.unaided: this key is missing"),
        ({"kind": "donned", "unaided": 1}, "bool is expected"),
        ({"kind": "donned", "unaided": True, "x": 1}, "unknown key"),
        ({"kind": "donned", "unaided": "yes"}, "bool is expected"),
    ],
)
def test_a_stored_payload_is_read_strictly(data: dict, words: str) -> None:
    with pytest.raises(DataError, match=words):
        chain.read_payload("donned", 1, data, "donned")


def test_a_newer_or_unknown_kind_is_said_so() -> None:
    with pytest.raises(DataError, match="newer program"):
        chain.read_payload("donned", 9, {"unaided": True})
    with pytest.raises(DataError, match="no kind of event"):
        chain.read_payload("teleported", 1, {})


@pytest.mark.parametrize("version", [0, -1])
def test_a_version_that_never_was_is_said_so(version: int) -> None:
    with pytest.raises(DataError, match="never had a version"):
        chain.read_payload("visit_opened", version, {})


def test_editing_anything_in_a_log_breaks_the_chain_there(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("choose_facepiece")
    assert chain.check_chain(bench.log) is None
    for index in (0, 3, len(bench.log) - 1):
        event = bench.log[index]
        for changed in (
            replace(event, actor="someone"),
            replace(event, occurred_at=datetime(2020, 1, 1, tzinfo=UTC)),
            replace(event, payload=ev.Distress()),
        ):
            edited = [*bench.log[:index], changed, *bench.log[index + 1 :]]
            assert chain.check_chain(edited) == event.seq
    assert chain.check_chain([*bench.log[:2], *bench.log[3:]]) == bench.log[3].seq
    assert [chain.event_from_json(chain.event_to_json(one)) for one in bench.log] == bench.log


def test_moments_need_a_zone_and_are_kept_in_utc() -> None:
    assert ev.instant(datetime.fromisoformat("2026-01-01T00:30:00.1234+02:00")) == "2025-12-31T22:30:00.123Z"
    with pytest.raises(ValueError, match="time zone"):
        ev.instant(datetime(2026, 1, 1))  # noqa: DTZ001
    with pytest.raises(DataError, match="offset"):
        ev.parse_instant("2026-01-01T00:00:00", "x")
    for week in ("2026-W05-1T09:30:00Z", "2026W051T093000Z", "2026-032T09:30:00Z", "20260201T093000Z"):
        with pytest.raises(DataError, match="is not a moment"):  # ISO 8601 has them; as text they sort anywhere
            ev.parse_instant(week, "x")


@given(st.dates(date(1990, 1, 1), date(2100, 1, 1)), st.integers(1, 60))
def test_valid_until_is_the_anniversary_as_dateutil_has_it(tested: date, months: int) -> None:
    assert valid_until(tested, months) == tested + relativedelta(months=months)


def test_a_leap_day_runs_out_on_the_28th() -> None:
    assert valid_until(date(2028, 2, 29), 12) == date(2029, 2, 28)


def test_an_upcast_event_keeps_the_chain_of_what_was_stored(monkeypatch: pytest.MonkeyPatch, rules: Rules) -> None:
    """A payload of an older version is read as the present one; chain and export keep what was written then."""
    bench = Bench(rules)
    bench.until("choose_facepiece")
    old = [chain.event_to_json(one) for one in bench.log]
    for one in old:
        if one["payload"]["kind"] == "answered":
            one["version"] = 1
            one["payload"] = {key: value for key, value in one["payload"].items() if key not in ("note", "screen")}
    previous = ""
    for one in old:
        at = ev.parse_instant(one["occurred_at"], "x")
        one["chain"] = previous = chain.link_of_chain(
            previous, one["id"], one["seq"], one["version"], at, one["actor"], one["payload"]
        )
    more = {"note": "from version 1", "screen": ""}
    monkeypatch.setitem(chain.UPCASTERS, ("answered", 1), lambda payload: {**payload, **more})
    chain._payloads.clear()
    events = [chain.event_from_json(one) for one in old]
    answers = [one.payload for one in events if isinstance(one.payload, ev.Answered)]
    assert answers and all(one.note == "from version 1" for one in answers)
    assert chain.check_chain(events) is None and [chain.event_to_json(one) for one in events] == old


def test_the_page_knows_the_same_observations() -> None:
    """An observation is sent without the entry it was made on; the page must not send another kind so."""
    page = (Path(__file__).parents[2] / "web" / "src" / "rooms" / "bench" / "useVisit.ts").read_text()
    listed = page.split('OBSERVATIONS = new Set<Body["kind"]>([')[1].split("]")[0]
    assert {one.strip(' "\n') for one in listed.split(",") if one.strip()} == ev.OBSERVATIONS
