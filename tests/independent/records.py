"""Records for the second judge: of every protocol under every book, good and bad, the same ones at every call."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime, timedelta
from functools import cache
from typing import Any

import orjson

from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import VERSIONS, link_of_chain
from moorfog.core.measuring.readings import Chunk, Reading, chunk_of
from moorfog.core.record.record import make_record
from moorfog.core.rules.book import Rules, rules_from_json, rules_to_json
from moorfog.core.simulation.wearer import wearer_factors
from moorfog.core.transitions.fold import fold, step
from moorfog.core.visit.judgement import needs_decision, queue
from tests.core.all_ways import Way, at_the_start, inserted, rules_of, seconds, ways
from tests.core.bench import Bench, Refused, simulate

WAYS = ways()
EACH = -(-2000 // len(WAYS))
"""Records of every way, two thousand in all; a fixed seed each, so that the same ones come every time."""


def generated(way: Way, count: int) -> Iterator[dict[str, Any]]:
    """Records of runs with seals good and bad, disturbed, answered this way and that, some heard of late."""
    begun = at_the_start(way)
    protocol = begun.rules.protocol(way.protocol)
    assert protocol is not None
    for number in range(count):
        dice = random.Random(f"{way}{number}")
        bench = begun.copied()
        readings: dict[str, list[Chunk]] = {}
        if protocol.is_qualitative:
            bench.smell(skip=dice.choice([None, None, None, 2]))
        else:
            n = len(protocol.exercises())
            factors = wearer_factors(number, dice.choice([150, 600, 4000, 40_000, 900_000]), dice.choice([None, 1]), n)
            rows = spoilt(simulate(protocol, factors, number, 30_000.0 if dice.random() < 0.1 else None), dice)
            bench.run(readings=rows, protocol_id=protocol.id)
            readings = {bench.visit.tries[-1].started.run_id: [chunk_of(0, rows)]}
        here = dice.choice([(), ("bench",), ("bench", "wearer")])
        run_id = bench.visit.tries[-1].started.run_id
        bench.log = list(with_screens(bench, run_id, here))
        bench.visit = fold(bench.log, rules_of(way.book))
        for role in here:
            if dice.random() < 0.95:
                heard = ev.ScreenCleared if dice.random() < 0.95 else ev.ScreenLost
                bench.visit = step(bench.visit, bench.event(heard(run_id, role)))
        finish(bench, dice)
        readings |= bench.streams
        log = tuple(bench.log)
        if dice.random() < 0.3:
            one = bench.visit.tries[-1]
            what = dice.choice([ev.Touched(True), ev.Touched(False), ev.Doffed("lifted"), ev.Stopped()])
            log = tuple(
                inserted(log, dice.randint(one.seq, len(log)), what, one.started_at + seconds(dice.uniform(6, 90)))
            )
        if dice.random() < 0.2:
            log = tuple(before_the_start(list(log), dice))
        record = make_record(f"{way}-{number}", as_stored(way.book), list(log), readings)
        yield orjson.loads(orjson.dumps(record))


def spoilt(rows: list[Reading], dice: random.Random) -> list[Reading]:
    """Readings as they come, or with one thing wrong with them that an instrument or its line can do."""
    ways, at = ("gap", "flag", "valve", "volume", "stuck", "blocked", "twice"), len(rows) // 2
    way = dice.choice(ways) if dice.random() < 0.3 else ""
    if way == "gap":
        return rows[:at] + rows[at + dice.choice([2, 5, 9, 30]) :]
    if way == "flag":
        rows[at] = rows[at]._replace(flags=dice.choice("FAXQ"))
    if way == "valve":
        rows[at] = rows[at]._replace(valve="O" if rows[at].valve == "I" else "I")
    if way == "volume":
        rows[at] = rows[at]._replace(volume_nl=rows[at].volume_nl * 2)
    if way == "twice":
        return [*rows[:at], rows[at], *rows[at:]]
    if way == "stuck":
        alike = dice.choice([5, 12, 40])
        rows = [*rows[:at], *(rows[at]._replace(t=one.t) for one in rows[at : at + alike]), *rows[at + alike :]]
    if way == "blocked":
        rows = [one._replace(counts=0) if n > at and one.valve == "I" else one for n, one in enumerate(rows)]
    return rows


DANGEROUS = (
    {"is_idlh": True},
    {"oxygen_percent": ""},
    {"oxygen_percent": "18"},
    {"work_filter": "P9"},
    {"contaminants": ()},
)


def before_the_start(log: list[ev.Event], dice: random.Random) -> list[ev.Event]:
    """A log nobody would have been let write: a gate left out, a check failed, another task, too little wear."""
    places = [n for n, one in enumerate(log) if one.payload.kind in ("run_started", "qualitative_started")]
    start = places[0]
    rows = [(one.payload, one.occurred_at, one.actor) for one in log]
    way = dice.choice(["gate", "kit", "task", "seal", "file"])
    if way == "gate":
        asked = [n for n, one in enumerate(log[:start]) if one.payload.kind == "answered"]
        del rows[dice.choice(asked)]
    if way == "seal":
        rows = [row for n, row in enumerate(rows) if n > start or row[0].kind != "seal_checked"]
    if way == "task":
        n = next(n for n, one in enumerate(log) if one.payload.kind == "task_chosen")
        chosen = rows[n][0]
        assert isinstance(chosen, ev.TaskChosen)
        rows[n] = (ev.TaskChosen(replace(chosen.task, **dice.choice(DANGEROUS))), *rows[n][1:])
    payload = rows[start][0] if way == "kit" else None
    if isinstance(payload, ev.RunStarted):
        one = payload.instrument
        bad: list[dict[str, Any]] = [
            {"calibrated_until": "2020-01-01"},
            {"calibrated_until": "2026-W05-1"},
            {"said_serial": "SIM-9999"},
            {"said_serial": f" {one.serial_number} "},
            {"checks": one.checks[:-1]},
            {"checks": tuple(replace(each, passed=False) for each in one.checks)},
            {"charge_h": 8, "charged_at": ""},
            {"charge_h": 8, "charged_at": ev.instant(rows[start][1] - timedelta(hours=9))},
            {"charge_h": 8, "charged_at": ev.instant(rows[start][1] - timedelta(hours=7))},
        ]
        mode = dice.choice([payload.mode, payload.mode, "classified"])
        started = replace(payload, instrument=replace(one, **dice.choice(bad)), mode=mode)  # type: ignore[arg-type]
        rows[start] = (started, *rows[start][1:])
    if way == "file":
        opened = rows[0][0]
        assert isinstance(opened, ev.VisitOpened)
        files: list[dict[str, Any]] = [{"clearance": None}, {"trained_on": ""}, {"trained_on": "2020-01-01"}]
        rows[0] = (replace(opened, **dice.choice(files)), *rows[0][1:])
    return chained(rows)


def chained(rows: list[tuple[ev.Payload, datetime, str]]) -> list[ev.Event]:
    """Entries in a row, with numbers and chain of their own."""
    out: list[ev.Event] = []
    for seq, (what, when, actor) in enumerate(rows, start=1):
        version, name = VERSIONS[what.kind], f"id-{seq}"
        chain = link_of_chain(out[-1].chain if out else "", name, seq, version, when, actor, ev.encode(what))
        out.append(ev.Event(name, seq, version, when, when, actor, what, chain))
    return out


@cache
def as_stored(book: str) -> Rules:
    """The rules of a book as a visit pins them: they go out as they came in."""
    return rules_from_json(rules_to_json(rules_of(book)))


def with_screens(bench: Bench, run_id: str, here: tuple[str, ...]) -> tuple[ev.Event, ...]:
    """The log with screens that were there from the start of the last run on."""
    log, one = tuple(bench.log), bench.visit.tries[-1]
    for role in here:
        payload = ev.ScreenTookPart(run_id, role, role)  # type: ignore[arg-type]
        log = tuple(inserted(log, one.seq, payload, one.started_at))
    return log


def finish(bench: Bench, dice: random.Random) -> None:
    """Answer what is left, now and then not fine, and sign."""
    for _ in range(60):
        if needs_decision(bench.visit):
            bench.say(ev.Decided("end"))
            continue
        ahead = queue(bench.visit, bench.at)
        if not ahead:
            return
        item = ahead[0].item
        try:
            if item.act:
                bench.do(item.act)
            else:
                bench.answer(item.id, "not_fine" if item.id.startswith("after") and dice.random() < 0.1 else "fine")
        except Refused:
            return
