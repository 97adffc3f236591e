"""Visits walked at random by a seed: what testers press, in order and out of it, and all that the core says to it.

Every step says what was proposed, what the core answered to it, and a digest of the visit as it is shown afterwards, of
the numbers of a running run, and of what the core would say to a press of every kind. So a walk holds the
behaviour of the core still, far beyond what is written down about it elsewhere.
"""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import replace
from datetime import timedelta
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.canonical import digest_of_json
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.live import live_numbers
from moorfog.core.measuring.readings import Reading
from moorfog.core.measuring.reduction import reduction_for
from moorfog.core.permission.may_wear import may_wear
from moorfog.core.rules.protocols import Protocol
from moorfog.core.simulation.wearer import wearer_factors
from moorfog.core.transitions.admit import admit
from moorfog.core.views.statement import statement_of
from moorfog.core.visit.judgement import needs_decision, queue
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import alterations_needed
from tests.core.all_ways import Way, at_the_start, rules_of, ways
from tests.core.bench import CLEARED, Bench, Refused, facepiece, simulate, task
from tests.independent.people import somebody
from tests.independent.records import spoilt

STEPS = 36
LEAKS = (150, 600, 4000, 40_000, 900_000)
"""Factors about which a seal is made up, from one that fails everywhere to one beyond what can be counted."""
LIVE_EVERY = 90
"""Readings after which the numbers of a running run are looked at."""


@cache
def begun(way: Way) -> Bench:
    """A visit at the start of its run; walks begin with a copy of it, or from the very beginning."""
    return at_the_start(way)


class Walk:
    """One visit, walked by dice."""

    def __init__(self, way: Way, dice: random.Random) -> None:
        self.dice = dice
        rules = rules_of(way.book)
        protocol = rules.protocol(way.protocol)
        assert protocol is not None
        self.protocol = protocol
        if dice.random() < 0.3:
            self.bench = Bench(rules, method=protocol.method, is_practice=dice.random() < 0.2)
        else:
            self.bench = begun(way).copied()
        self.facts: list[str] = []

    def steps(self) -> Iterator[str]:
        """Take one step after the other, and yield what each came to."""
        for _ in range(STEPS):
            self.bench.at += timedelta(seconds=self.dice.choice((0, 1, 3, 20, 70, 400, 4000)))
            ways = (self._on, self._aside, self._at_random, self._put_right)
            did = self.dice.choices(ways, (60, 15, 25, 60 if self.bench.visit.closed else 4))[0]()
            yield f"{did}:{self._shown()}"
            if self.bench.visit.closed and self.dice.random() < 0.3:
                return

    def _try(self, name: str, press: Any) -> str:
        try:
            press()
        except Refused as error:
            return f"{name}:{error.refusal.code}"
        except AssertionError:  # the bench has no plain way to do it as things are
            return f"{name}:cannot"
        return f"{name}:"

    def _say(self, payload: ev.Payload) -> str:
        return self._try(payload.kind, lambda: self.bench.say(payload, 0))

    def _on(self) -> str:
        """What comes next, done the plain way; runs with good seals and bad ones."""
        bench, dice = self.bench, self.dice
        if bench.visit.running is not None:
            return self._say(dice.choice((ev.Stopped(), ev.Touched(True), ev.RunVoided(self._run(), "lost"))))
        if needs_decision(bench.visit):
            offered = [one.next for one in bench.view.offers] or ["end"]
            return self._say(ev.Decided(dice.choice(offered)))  # type: ignore[arg-type]
        ahead = queue(bench.visit, bench.at)
        if not ahead:
            return self._at_random()
        item = ahead[0].item
        if item.act == "run":
            return self._try("run", self._ran)
        if item.act:
            return self._try(item.act, lambda: bench.do(item.act))
        return self._try(item.id, lambda: bench.answer(item.id))

    def _ran(self) -> None:
        bench, dice, protocol = self.bench, self.dice, self.protocol
        method = bench.visit.method or protocol.method
        mine = bench.visit.protocol_for(method) if method != protocol.method else protocol
        assert mine is not None
        bench.method = method
        if mine.is_qualitative:
            bench.smell(skip=dice.choice((None, None, 2)), late_ms=dice.choice((400, 2600)))
            return
        count = len(mine.exercises())
        factors = wearer_factors(dice.randrange(999), dice.choice(LEAKS), dice.choice((None, 1)), count)
        ambient = 30_000.0 if dice.random() < 0.1 else None
        rows = spoilt(simulate(mine, factors, dice.randrange(99), ambient), dice)
        end = dice.choice(("complete", "complete", "complete", "stopped", "lost"))
        if end != "complete":
            rows = rows[: dice.randrange(1, len(rows))]
        self._follow(rows, mine)
        bench.run(readings=rows, end=end, protocol_id=mine.id)

    def _follow(self, rows: list[Reading], protocol: Protocol) -> None:
        """Keep what is shown while a run goes on."""
        piece = self.bench.visit.facepiece
        assert piece is not None
        book = self.bench.rules.book
        reduction = reduction_for(protocol, int(book.number("missing.maximum")))
        for number, row in enumerate(rows):
            reduction.feed(row)
            if number % LIVE_EVERY == LIVE_EVERY - 1:
                level = book.ratio(piece.level_key) or Fraction(100)
                self.facts.append(repr(live_numbers(reduction, book, level, piece.level_key)))

    def _aside(self) -> str:
        """The first question answered not fine, or one that was answered already answered again."""
        bench, dice = self.bench, self.dice
        asked = [one.item.id for one in queue(bench.visit, bench.at) if not one.item.act]
        asked += [one.id for one in bench.view.behind if not one.act]
        if not asked:
            return self._at_random()
        item, ago = dice.choice(asked), dice.choice((None, None, 5, 90, 1440))
        return self._try(item, lambda: bench.answer(item, dice.choice(("not_fine", "fine")), minutes_ago=ago))

    def _at_random(self) -> str:
        return self._say(self.dice.choice(self._presses()))

    def _put_right(self) -> str:
        """A correction of what was chosen, of whom it was or of a run; signed again, or not."""
        dice, visit = self.dice, self.bench.visit
        if dice.random() < 0.3:
            return self._say(ev.Signed(dice.choice(("wearer", "tester")), "0" * 64, visit.seq))
        chosen = [one.chosen_seq for one in visit.tries] or [visit.seq]
        told = ev.Corrected(dice.choice(chosen), dice.choice(("", "misread", "misread")))
        failed = dice.random() < 0.2
        file = ev.FileRead(CLEARED, dice.choice(("2026-02-01", "")), self.bench.at.date().isoformat())
        return self._say(
            dice.choice(
                (
                    replace(told, size=dice.choice("SML"), failed_before=failed),
                    replace(told, void_run=self._run()),
                    replace(told, person_id="q", file=dice.choice((file, None)), failed_before=failed),
                )
            )
        )

    def _run(self) -> str:
        tries = self.bench.visit.tries
        return tries[-1].started.run_id if tries else "run-0"

    def _presses(self) -> list[ev.Payload]:
        """A press of every kind, some of them right by chance."""
        bench, dice, run = self.bench, self.dice, self._run()
        other = facepiece(size=dice.choice("SML"), kind=dice.choice(("half", "full", "disposable_cup")))
        place = dice.choice(("", "nose", "chin"))
        row = ev.TypedExercise(str(dice.choice((0, 900, 5300))), str(dice.choice((0, 4, 200))), None)
        typed = ev.NumbersTyped(run, "1", (row,) * len(self.protocol.exercises()))
        corrected = ev.Corrected(dice.randrange(0, bench.visit.seq + 2), dice.choice(("", "misread")))
        held = replace(CLEARED, valid_until=dice.choice(("", "2026-01-31")))
        return [
            ev.TaskChosen(task(**dice.choice(({}, {"oxygen_percent": "18"}, {"is_idlh": True})))),
            ev.FileRead(held, dice.choice(("2026-02-01", "")), bench.at.date().isoformat()),
            ev.FacepieceChosen(other),
            ev.MethodChosen(dice.choice(("ambient_count", "sweet", "bitter", "pressure"))),
            ev.ProbeFitted(alterations_needed(bench.visit), ()),
            ev.AlterationMade(dice.choice(("probe_on_seat", "valve_taped", "nothing"))),
            ev.AlterationUndone(dice.choice((*alterations_needed(bench.visit), "nothing"))),
            ev.Donned(dice.random() < 0.7),
            ev.Doffed(dice.choice(("done", "lifted", "refit"))),
            ev.Adjusted(dice.choice(("strap", "nose_piece", "reseat"))),
            ev.SealHoldBegun("positive"),
            ev.SealChecked("negative", dice.choice(("holds", "leaks")), "holds", place),  # type: ignore[arg-type]
            typed,
            ev.RunVoided(run, "the counter was lost"),
            ev.Touched(dice.random() < 0.5),
            ev.Distress(),
            ev.Stopped(),
            ev.ProofGiven(run, dice.random() < 0.7, dice.choice(("", "5000", "3"))),
            ev.ProofSensed(run, dice.random() < 0.7),
            ev.ScreenTookPart(run, "bench", "bench"),
            ev.ScreenCleared(run, "bench"),
            ev.ScreenLost(run, "bench"),
            ev.Decided(dice.choice(("same_again", "other_size", "other_facepiece", "other_method", "end"))),
            ev.Withheld(run, dice.choice(("", "looked wrong"))),
            ev.Signed("wearer", "0" * 64, bench.visit.seq),
            ev.TurnedAway(dice.choice(("", "a cold")), None),
            ev.Released(),
            ev.OpenedByMistake(),
            replace(corrected, size="L"),
            replace(corrected, void_run=run),
            replace(corrected, person_id="q", file=ev.FileRead(CLEARED, "2026-02-01", "2026-03-02")),
            ev.Detected(run, "wearer"),
            ev.Squeezed(run),
            ev.EyesOpened(),
        ]

    def _shown(self) -> str:
        """A digest of all that can be seen of the visit now."""
        bench = self.bench
        said = [admit(bench.visit, one, bench.at, bench.at) for one in self._presses()]
        visit = bench.visit
        seen = {
            "tries": [
                (one.facepiece.configuration, one.has_failed, outcome(visit, one)[0], str(one.started_at))
                for one in visit.tries
            ],
            "kept": encode((visit.ended, visit.signatures, visit.questions, visit.revision, visit.attempt)),
            "view": encode(bench.view),
            "signed": statement_of(bench.visit, "v"),
            "said": [f"{one.code} {one.sentence} {one.remedy}" if one else "" for one in said],
            "live": self.facts,
        }
        self.facts = []
        return digest_of_json(seen)[:8]


KEPT = Path(__file__).parents[1] / "data" / "walks.json"
EACH, PEOPLE = 4, 800
"""Walks of every way to test, and people who are asked for."""


def walks_of(way: Way) -> list[list[str]]:
    """Return the walks of a way, each by a seed of its own."""
    return [[*Walk(way, random.Random(f"{way}{number}")).steps()] for number in range(EACH)]


def permissions() -> list[str]:
    """Return digests of all that is answered to whether made-up people may wear what they passed in."""
    out = []
    for seed in range(PEOPLE):
        one = somebody(seed)
        answers = [may_wear(one.held, one.facts, one.task, one.books, day) for day in (one.day, "2026-03-02")]
        out.append(digest_of_json([encode(answer) for answer in answers])[:8])
    return out


def write() -> None:
    """Write down what all walks come to: after a change of behaviour that was meant, and only then."""
    rows: dict[str, object] = {"people": permissions()} | {str(way): walks_of(way) for way in ways()}
    lines = [f"{json.dumps(name)}: {json.dumps(kept)}" for name, kept in rows.items()]
    KEPT.write_text("{\n" + ",\n".join(lines) + "\n}\n")


if __name__ == "__main__":
    write()
