"""People for the second judge of permission: made-up facts, as the program has them and as plain ones."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date, timedelta
from fractions import Fraction
from typing import Any

from moorfog.auditor.log import Json
from moorfog.core.events.facts import Clearance, Contaminant, Task, WorkFilter
from moorfog.core.kernel.codec import encode
from moorfog.core.permission.may_wear import End, Held, NoTask, PersonFacts, Report, may_wear
from moorfog.core.rules.in_force import Books, SiteBooks
from moorfog.core.rules.kinds import clearance_limits
from moorfog.core.rules.overlay import Overlay
from moorfog.data import facepiece_kinds, shipped_books, value_shapes
from tests.core.bench import facepiece
from tests.independent.wearing import until

START = date(2026, 1, 1)
KINDS = facepiece_kinds()
LIMITS = clearance_limits(KINDS)
DUST = Contaminant("dust", "particles", "10", "5", "mg/m³")
GAS = Contaminant("vapour", "gas or vapour", "40", "10", "ppm", cartridge="organic vapour")
RULES: list[tuple[str, Any]] = [
    ("level.half", "400"),
    ("level.full", "3000"),
    ("judged_by", "every_exercise"),
    ("interval", 5),
    ("training.interval", 4),
    ("qlft.full", "never"),
    ("qlft.full_up_to", "3"),
    ("smoke.allowed", False),
    ("apf.half", "3"),
    ("oxygen.minimum", "20"),
]


@dataclass(frozen=True)
class Somebody:
    """One question of permission: everything the program is handed, and the day."""

    held: Held
    facts: PersonFacts
    task: Task | NoTask
    overlays: tuple[Overlay, ...]
    day: str

    @property
    def books(self) -> Books:
        return SiteBooks(shipped_books()["us-29cfr1910-134"], self.overlays, value_shapes())

    def answered(self) -> str:
        """Until when it may be worn by the program, empty where it may not."""
        found = may_wear(self.held, self.facts, self.task, self.books, self.day)
        return found.until if found.may else ""

    def plain(self) -> Json:
        """The same facts for the second judge."""
        held, facts = self.held, self.facts
        begins = sorted({"", *(one.begins for one in self.overlays)})
        return {
            "pass": {
                "no": held.no,
                "piece": encode(held.piece),
                "set_up": held.piece.configuration,
                "at": held.tested_at,
                "tested": held.valid_from,
                "until": held.valid_until,
                "up_to": held.up_to,
                "method": held.method,
                "protocol": held.protocol,
                "overall": held.overall,
                "lowest": held.lowest,
            },
            "task": encode(self.task) if isinstance(self.task, Task) else None,
            "books": [{"begins": one, "book": encode(self.books.on(one or "2025-12-31"))} for one in begins],
            "ends": [{"no": one.no, "set_up": one.configuration, "at": one.at} for one in facts.ends],
            "reports": [
                {"kind": one.kind, "at": one.at, "on": one.on, "set_up": one.configuration} for one in facts.reports
            ],
            "words": [list(one) for one in facts.cleared],
            "clearances": [
                {"status": one.status, "from": one.valid_from, "until": one.valid_until, "limits": list(one.limits)}
                for one in facts.clearances
            ],
            "trained": list(facts.trained),
        }


def somebody(seed: int) -> Somebody:
    """Make somebody up; the same seed is the same person."""
    dice = random.Random(seed)

    def day(low: int = 0, high: int = 700) -> str:
        return (START + timedelta(days=dice.randint(low, high))).isoformat()

    kind = dice.choice([one for one in KINDS if one != "quarter"])
    piece = facepiece(kind=kind, has_escape_cylinder=dice.random() < 0.3)
    takes = dice.choice(
        [(), (WorkFilter("both", "100-type", ("organic vapour",)),), (WorkFilter("particles", "99-type"),)]
    )
    piece = replace(piece, work=takes)
    method = dice.choice(["ambient_count", "ambient_count", "sweet", "smoke"])
    is_number, tested = method == "ambient_count", day(0, 300)
    lowest = Fraction(dice.choice([60, 150, 700, 2500, 9000]))
    disposable = piece.family == "disposable"
    protocol = {"sweet": "taste-sweet", "smoke": "smoke"}.get(
        method, f"fast-count-{'disposable' if disposable else 'elastomeric'}"
    )
    is_capped = not is_number and piece.traits.outline == "full" and piece.traits.is_negative
    held = Held(
        visit_id="v",
        no=1,
        piece=piece,
        tested_at=f"{tested}T09:00:00.000Z",
        valid_from=tested,
        valid_until=(date.fromisoformat(tested) + timedelta(days=365)).isoformat(),
        up_to=Fraction(10) if is_capped else None,
        method=method,
        protocol=protocol if dice.random() < 0.97 else "home-made",
        overall=lowest * dice.choice([1, 2]) if is_number else None,
        lowest=lowest if is_number else None,
    )
    facts = PersonFacts(
        clearances=tuple(
            Clearance(
                dice.choice(["cleared"] * 5 + ["not cleared", "pending"]),  # type: ignore[arg-type]
                tuple(dice.sample(LIMITS, dice.choice([0, 0, 0, 1, 2]))),
                day(-200, 500),
                dice.choice(["", "", day(100, 900)]),
                "Harbour Row",
            )
            for _ in range(dice.choice([0, 1, 1, 1, 2, 3]))
        ),
        trained=tuple(day(-100, 500) for _ in range(dice.choice([0, 1, 1, 2]))),
        ends=tuple(
            dice.choice(
                [
                    End(dice.choice([piece.configuration, "another"]), f"{day()}T10:00:00.000Z", "failed", "tester"),
                    End("", "", "recalled", "administrator", True, "v", dice.choice([1, 2])),
                ]
            )
            for _ in range(dice.choice([0, 0, 0, 1]))
        ),
        passes=(held,),
        reports=tuple(
            Report(
                dice.choice(["face", "health", "facepiece", "workplace", "fit"]),  # type: ignore[arg-type]
                f"{(when := day())}T11:00:00.000Z",
                when,
                "the wearer",
                dice.choice(["", piece.configuration, "another"]),
            )
            for _ in range(dice.choice([0, 0, 0, 1]))
        ),
        cleared=tuple((f"{(when := day())}T12:00:00.000Z", when) for _ in range(dice.choice([0, 1]))),
    )
    overlays = tuple(
        Overlay(key, value, "", "", "2026-01-01", "A", dice.choice(["", day()]))
        for key, value in dice.sample(RULES, dice.choice([0, 0, 1, 2]))
    )
    made = Somebody(held, facts, made_task(dice), overlays, day(0, 500))
    return mostly_well(made, dice) if dice.random() < 0.6 else made


def mostly_well(one: Somebody, dice: random.Random) -> Somebody:
    """The same, with most of it in order, so that small things decide."""
    tested = date.fromisoformat(one.held.valid_from)
    near = (tested + timedelta(days=dice.randint(0, 200))).isoformat()
    cleared = Clearance("cleared", (), "2025-06-01", "", "Harbour Row")
    held = replace(one.held, piece=replace(one.held.piece, work=(WorkFilter("both", "100-type", ("organic vapour",)),)))
    facts = replace(one.facts, trained=(*one.facts.trained, (tested - timedelta(days=20)).isoformat()))
    if dice.random() < 0.8:
        facts = replace(facts, clearances=(cleared, *one.facts.clearances[: dice.choice([0, 0, 0, 1])]))
    task = Task("t", "hull sanding", (DUST,), oxygen_percent="20.9", work_filter="95-type")
    return replace(one, held=held, facts=facts, day=near, task=task if dice.random() < 0.8 else one.task)


def made_task(dice: random.Random) -> Task | NoTask:
    """A task, or what is none."""
    if dice.random() < 0.06:
        return NoTask(dice.choice(["", "hull sandng"]))
    air = dice.choice(
        [
            (DUST,),
            (DUST,),
            (replace(DUST, concentration="260"),),
            (GAS,),
            (DUST, GAS),
            (replace(DUST, form="both", cartridge="organic vapour"),),
        ]
    )
    return Task(
        id="t",
        name="hull sanding",
        contaminants=air,
        oxygen_percent=dice.choice(["20.9"] * 6 + ["", "18", "20.5"]),
        is_idlh=dice.random() < 0.08,
        work_filter=dice.choice(["95-type", "99-type", "100-type"]),
        work_cartridge="",
    )


def unlike(count: int, first: int = 0) -> Iterator[tuple[int, str, str]]:
    """Yield whoever the two judges do not agree about: the seed, the program's answer, the second judge's."""
    for seed in range(first, first + count):
        one = somebody(seed)
        ours, theirs = one.answered(), until(one.plain(), one.day)
        if ours != theirs:
            yield seed, ours, theirs
