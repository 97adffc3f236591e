"""Records for the second judge: of every protocol under every book, good and bad, the same ones at every call."""

from __future__ import annotations

import copy
import random
from collections.abc import Iterator
from functools import cache
from typing import Any

import orjson

from moorfog.core.events import payloads as ev
from moorfog.core.measuring.readings import Chunk, chunk_of
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
        bench = copy.copy(begun)
        bench.log, bench.streams = list(begun.log), {}
        readings: dict[str, list[Chunk]] = {}
        if protocol.is_qualitative:
            bench.smell(skip=dice.choice([None, None, None, 2]))
        else:
            n = len(protocol.exercises())
            factors = wearer_factors(number, dice.choice([150, 600, 4000, 40_000]), dice.choice([None, 1]), n)
            rows = simulate(protocol, factors, number)
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
        record = make_record(f"{way}-{number}", as_stored(way.book), list(log), readings)
        yield orjson.loads(orjson.dumps(record))


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
