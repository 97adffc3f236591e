"""Protocols as a site may write them: the first value that is refused, the last that is taken, and what is said when.

The bounds are choices of ours, out of all sense on their far side; what is refused is common practice.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from typing import Any

import pytest

from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.rules.book import read_procedure
from moorfog.core.rules.protocols import LONGEST_S, MOST_PARTS, MOST_SIGNS, Cue, Slot, read_protocol
from moorfog.data import shipped_procedure, shipped_protocols, shipped_rules

BY_ID = {one.id: one for one in shipped_protocols()}
COUNTED, AEROSOL, PRESSURE, SWEET = "fast-count-elastomeric", "aerosol-us", "pressure-short", "taste-sweet"


def put(*path: str | int, value: object) -> Callable[[Any], None]:
    """Return a change that puts a value into a place of a protocol."""

    def change(data: Any) -> None:
        for name in path[:-1]:
            data = data[name]
        data[path[-1]] = value

    return change


def segments(*uses: tuple[str, str, int]) -> list[dict[str, Any]]:
    return [{"use": use, "valve": valve, "seconds": seconds, "place": "", "say": ""} for use, valve, seconds in uses]


def both(*changes: Callable[[Any], None]) -> Callable[[Any], None]:
    def change(data: Any) -> None:
        for one in changes:
            one(data)

    return change


def stretched(seconds: int) -> Callable[[Any], None]:
    """Return a change by which all exercises together last so long: the first one takes up what there is."""

    def change(data: Any) -> None:
        more = seconds - sum(one["seconds"] for one in data["exercise"])
        data["exercise"][0]["seconds"] += more
        data["exercise"][0]["segment"][0]["seconds"] += more

    return change


TAKEN = ""
CASES: list[tuple[str, Callable[[Any], None], str]] = [
    (COUNTED, put("id", value="a" * 60), TAKEN),
    (COUNTED, put("id", value="a" * 61), r"mine\.id"),
    (COUNTED, put("in_force", value=""), TAKEN),
    (COUNTED, put("in_force", value="soon"), r"mine\.in_force"),
    (COUNTED, put("count_in_s", value=0), TAKEN),
    (COUNTED, put("count_in_s", value=LONGEST_S), TAKEN),
    (COUNTED, put("count_in_s", value=LONGEST_S + 1), rf"count_in_s.*from 0 to {LONGEST_S} is"),
    (COUNTED, put("exercise", 0, "say", value="a" * MOST_SIGNS), TAKEN),
    (COUNTED, put("exercise", 0, "say", value="a" * (MOST_SIGNS + 1)), r"exercise\[0\]\.say"),
    (COUNTED, put("cautions", value=["Slow."] * MOST_PARTS), TAKEN),
    (COUNTED, put("cautions", value=["Slow."] * (MOST_PARTS + 1)), r"mine\.cautions"),
    (COUNTED, stretched(LONGEST_S), TAKEN),
    (COUNTED, stretched(LONGEST_S + 1), r"mine\.exercise: they last 7201 s"),
    (
        COUNTED,
        put("exercise", 1, "segment", value=segments(("inside", "IN", 30), ("purge", "IN", 0))),
        "a second or more",
    ),
    (COUNTED, put("exercise", 1, "segment", value=segments(("inside", "IN", 29), ("purge", "IN", 1))), TAKEN),
    (COUNTED, put("exercise", 1, "segment", value=segments(("purge", "IN", 30))), r"exercise\[1\].*'inside'"),
    (COUNTED, put("exercise", 1, "segment", value=segments(("hold", "IN", 1), ("inside", "IN", 29))), "breath hold"),
    (COUNTED, put("exercise", 1, "in_sum", value=False), r"exercise\[1\].*must be a purge"),
    (COUNTED, put("aerosol", value=encode(BY_ID[AEROSOL].aerosol)), r"mine\.aerosol"),
    (COUNTED, put("outside", value=""), r"mine\.outside: say how"),
    (COUNTED, put("outside", value="continuous"), r"mine\.outside: only a photometer"),
    (COUNTED, put("outside", value="mean_of_neighbours"), "must take turns"),
    (COUNTED, put("exercise", 0, "segment", value=segments(("inside", "IN", 50))), "first and the last"),
    (COUNTED, put("exercise", 3, "segment", value=segments(("inside", "IN", 39))), "first and the last"),
    (AEROSOL, put("aerosol", value=None), r"mine\.aerosol"),
    (AEROSOL, put("outside", value="continuous"), "no segment may be outside"),
    (AEROSOL, put("exercise", 1, "segment", value=segments(("inside", "IN", 60))), "must take turns"),
    *(
        (AEROSOL, put("aerosol", name, value=value), rf"aerosol\.{name}.* no share")
        for name in ("steady", "single_peak_half", "single_peak_full")
        for value in ("0", "1", "1.5")
    ),
    *((AEROSOL, put("aerosol", name, value="0.999"), TAKEN) for name in ("steady", "single_peak_half")),
    (AEROSOL, put("aerosol", "steady", value="much"), r"aerosol\.steady"),
    (AEROSOL, put("aerosol", "breath_s", value=0), r"aerosol\.breath_s"),
    (AEROSOL, put("aerosol", "breath_s", value=1), TAKEN),
    (PRESSURE, put("negative_pressure", value=None), r"mine\.negative_pressure: a pressure"),
    *(
        (PRESSURE, put("negative_pressure", name, value="0"), rf"pressure\.{name}: a number above 0")
        for name in ("flow", "pressure", "tolerance")
    ),
    *((PRESSURE, put("negative_pressure", name, value="0.01"), TAKEN) for name in ("flow", "pressure", "tolerance")),
    (
        PRESSURE,
        put("exercise", 1, "segment", value=segments(("inside", "IN", 30), ("hold", "IN", 10))),
        "only breath holds",
    ),
    (
        PRESSURE,
        put("exercise", 1, "segment", value=segments(("outside", "OUT", 30), ("hold", "IN", 10))),
        "only breath holds",
    ),
    (PRESSURE, put("exercise", 1, "segment", value=segments(("purge", "IN", 30), ("hold", "OUT", 10))), "valve IN"),
    (
        PRESSURE,
        put("exercise", 1, "segment", value=segments(("hold", "IN", 30), ("hold", "IN", 10))),
        "two breath holds",
    ),
    (PRESSURE, put("exercise", 1, "segment", value=segments(("purge", "IN", 40))), r"exercise\[1\].*'hold'"),
    (SWEET, put("screening", value=None), "needs .screening."),
    (SWEET, put("dosing", value=None), "needs .screening."),
    (SWEET, put("words", value=None), "needs .screening."),
    (SWEET, put("screening", "by", value="jars"), "other screenings have none"),
    (SWEET, put("exercise", 0, "segment", value=segments(("inside", "IN", 60))), "nothing is sampled"),
    (SWEET, put("dosing", "count", value=0), r"mine\.dosing: it begins with a dose"),
    (SWEET, both(put("dosing", "begins", value="filled"), put("dosing", "fill_s", value=1)), TAKEN),
    (SWEET, put("dosing", "every_s", value=32), TAKEN),
    (SWEET, both(put("dosing", "every_s", value=30), put("dosing", "count", value=14)), "the last dose comes at 420 s"),
]


@pytest.mark.parametrize(("protocol", "change", "where"), CASES, ids=lambda one: one if isinstance(one, str) else "")
def test_what_a_protocol_cannot_mean_is_refused_and_the_last_that_it_can_is_taken(
    protocol: str, change: Callable[[Any], None], where: str
) -> None:
    data = copy.deepcopy(encode(BY_ID[protocol]))
    change(data)
    if where == TAKEN:
        assert encode(read_protocol(data, "mine")) == data
        return
    with pytest.raises(DataError, match=where):
        read_protocol(data, "mine")


def test_words_of_neighbouring_stretches_are_one_cue() -> None:
    """Seconds of the file: 30 of breathing, two of settling and eight of holding with the same words."""
    protocol = BY_ID[PRESSURE]
    first, second, third = protocol.exercise[:3]
    said = [first.segment[1].say, second.segment[1].say, third.segment[1].say]
    assert protocol.cues()[:3] == (
        Cue(30_000, 40_000, said[0], hold=True),
        Cue(70_000, 80_000, said[1], hold=True),
        Cue(83_000, 93_000, said[2], hold=True),
    )
    assert BY_ID[COUNTED].cues() == ()


def cues_of(*parts: Mapping[str, Any]) -> tuple[Cue, ...]:
    data = copy.deepcopy(encode(BY_ID[PRESSURE]))
    rest = {"use": "purge", "valve": "IN", "place": "", "say": ""}
    data["exercise"][0]["segment"] = [{**rest, **one} for one in parts]
    data["exercise"][0]["seconds"] = sum(one["seconds"] for one in parts)
    return read_protocol(data, "mine").cues()


def test_other_words_or_a_pause_between_them_make_another_cue() -> None:
    hold = {"use": "hold", "seconds": 8, "place": "left", "say": "Hold."}
    found = cues_of({"seconds": 2, "say": "Turn."}, hold, {"seconds": 3}, {"seconds": 4, "say": "Hold."})
    assert found[:3] == (
        Cue(0, 2_000, "Turn."),
        Cue(2_000, 10_000, "Hold.", hold=True, place="left"),
        Cue(13_000, 17_000, "Hold."),
    )
    found = cues_of({"seconds": 2, "say": "Hold."}, hold, {"seconds": 3, "say": "Hold.", "place": "right"})
    assert found[0] == Cue(0, 13_000, "Hold.", hold=True, place="left"), "a hold stays one, at its first place"


def test_smoke_is_due_after_its_first_whiff() -> None:
    dosing = BY_ID["smoke"].dosing
    assert dosing is not None and len(dosing.applications) > 2
    rest = dosing.applications[1:]
    assert BY_ID["smoke"].slots(0) == tuple(Slot(one.at_s * 1000, 0, one.what) for one in rest)
    assert BY_ID["smoke"].first_dose(0) == dosing.applications[0].what
    assert BY_ID["odour"].first_dose(0) == "" and BY_ID[COUNTED].first_dose(10) == ""
    assert BY_ID[COUNTED].slots(10) == ()


def test_the_questions_say_what_the_protocols_of_the_book_say() -> None:
    """How long a breath is held, and the exercises by the senses: the longest of those that the book allows."""
    procedure = shipped_rules().procedure
    lines = " ".join(f"{one.title} {one.line} {one.say} {one.remedy}" for one in procedure.item)
    held = {
        part.seconds for one in BY_ID.values() for each in one.exercise for part in each.segment if part.use == "hold"
    }
    senses = [one.exercises() for one in BY_ID.values() if one.is_qualitative]
    assert f"hold your breath and keep still for {max(held)} seconds" in lines
    assert f"The {max(sum(each.in_sum for each in one) for one in senses)} exercises explained" in lines
    assert f"exercises, {max(each.seconds for one in senses for each in one)} seconds each" in lines
    assert "{" not in lines


def test_a_question_that_rests_on_no_fact_is_refused() -> None:
    data = copy.deepcopy(encode(shipped_procedure()))
    data["item"][2]["depends_on"] = ["moon"]
    with pytest.raises(DataError, match=r"item\[2\]\.depends_on: 'moon' is no fact"):
        read_procedure(data, "p")
