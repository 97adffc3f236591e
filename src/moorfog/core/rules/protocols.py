"""Fit-test protocols as dated data: exercises and their seconds, and what a family of test needs besides.

Read strictly; this module parses what is handed to it and opens no file.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, fields, is_dataclass
from datetime import date
from fractions import Fraction
from typing import Any, Literal

from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.cached import cached
from moorfog.core.kernel.codec import DataError, decode

Standing = Literal["published", "recalled", "common practice", "contested"]
Use = Literal["purge", "outside", "inside", "hold"]
Valve = Literal["OUT", "IN"]
Sense = Literal["taste", "odour", "smoke"]


def instrument_of(family: str) -> str:
    """Return the kind of instrument a family of protocol needs: its own, or a counter."""
    return family if family in ("photometer", "pressure") else "counter"


@dataclass(frozen=True)
class Segment:
    """A stretch of an exercise: where the valve stands and whether what is read there is used. Unit: s.

    ``place`` tells two breath holds of one exercise apart, such as left and right; ``say`` is what is said in it where
    that differs from the exercise.
    """

    use: Use
    valve: Valve
    seconds: int
    place: str = ""
    say: str = ""


@dataclass(frozen=True)
class Exercise:
    """One exercise of a protocol: its seconds, the words to say, how to pace it, where a leak in it points."""

    id: str
    name: str
    say: str
    wearer: str
    pace: str
    look_at: str
    seconds: int
    segment: tuple[Segment, ...] = ()
    in_sum: bool = True
    """Whether it counts in the sum: false for the grimace, which is done and never sampled."""
    stands_for: str = ""
    """The exercise this one takes the place of where the hood does not allow that one; empty for an ordinary one."""
    short: str = ""
    """Its name where there is little room; the whole name where it has none."""
    redon: bool = False
    """The facepiece is taken off and put on again in it, by the wearer alone; only there may it be adjusted."""


@dataclass(frozen=True)
class Window:
    """A stretch of the run, in milliseconds from t0, in which readings have one use."""

    exercise: int
    use: Use
    valve: Valve
    start_ms: int
    end_ms: int
    place: str = ""


@dataclass(frozen=True)
class Cue:
    """A stretch of the run with words of its own, in milliseconds from t0. ``hold``: the breath is held in it, at
    ``place`` (left, right, up, down, or straight ahead where empty)."""

    start_ms: int
    end_ms: int
    say: str
    hold: bool = False
    place: str = ""


@dataclass(frozen=True)
class Measurement:
    """One value that goes into the sum: which exercise, and where in it, if it has more than one."""

    exercise: int
    place: str
    name: str


@dataclass(frozen=True)
class Aerosol:
    """Generated aerosol: how peaks are found, how steady the challenge is, which single peak ends the run.

    ``breath_s`` seconds hold about one breath and give one peak. Shares are decimal text: ``steady`` of the mean over
    the test, ``single_peak_half`` and ``single_peak_full`` of the challenge, by the facepiece.
    """

    breath_s: int
    steady: str
    single_peak_half: str
    single_peak_full: str
    source: str
    standing: Standing


@dataclass(frozen=True)
class NegativePressure:
    """Controlled negative pressure: the flow it models (l/min), the pressure it holds (mm of water) and how exactly.

    ``pairs``: the overall figure is also worked out with the holds of one exercise averaged, and both must reach the
    level.
    """

    flow: str
    pressure: str
    tolerance: str
    pairs: bool
    source: str
    standing: Standing


@dataclass(frozen=True)
class Screening:
    """Whether a person senses the agent at all, facepiece off, before each try.

    ``sets`` are the squeezes after which a set is over; ``clear_s`` is how long it takes to clear before the test;
    after a failed screening of somebody who had passed one before, ``again_after_s`` until the next (0: none, out).
    """

    by: Literal["squeezes", "jars", "whiff"]
    role: str
    lots: tuple[str, ...]
    clear_s: int
    say: str
    source: str
    standing: Standing
    sets: tuple[int, ...] = ()
    again_after_s: int = 0
    beat_ms: int = 1000


@dataclass(frozen=True)
class Application:
    """One application of smoke: when, in seconds from t0, and the words for how near."""

    at_s: int
    what: str


@dataclass(frozen=True)
class Dosing:
    """What is given during the test, when, and how exact it must be. Times in seconds.

    Taste: the threshold number of squeezes, then half of it every ``every_s``, ``count`` times; t0 is the end of the
    first dose. Smoke: ``applications``; t0 is the first whiff. Odour: the chamber fills for ``fill_s``; t0 is its end.
    A dose counts for its slot from ``early_s`` before it to ``late_s`` after it; starts further apart than
    ``gap_max_s`` void the run, and so does a tester's screen left unwatched for longer than ``unwatched_max_s``.
    """

    role: str
    lots: tuple[str, ...]
    begins: Literal["first_dose", "filled"]
    proof: Literal["none", "seal_break", "second_whiff"]
    unwatched_max_s: int
    source: str
    standing: Standing
    every_s: int = 0
    count: int = 0
    gap_max_s: int = 0
    early_s: int = 0
    late_s: int = 0
    announce_s: int = 5
    fill_s: int = 0
    applications: tuple[Application, ...] = ()


@dataclass(frozen=True)
class Ingredient:
    """A part of a recipe; ``amount`` as decimal text in ``unit``, for ``per_ml`` of it."""

    what: str
    amount: str
    unit: str


@dataclass(frozen=True)
class Recipe:
    """How a solution, jar or piece is made. ``good_for_h`` 0: until the use-by date that whoever made it enters."""

    role: str
    title: str
    per_ml: int
    ingredient: tuple[Ingredient, ...]
    how: str
    good_for_h: int
    source: str
    standing: Standing


@dataclass(frozen=True)
class Slot:
    """A dose that is due: in milliseconds from t0, how many squeezes (0 where none are counted), and the words."""

    at_ms: int
    squeezes: int
    what: str


@dataclass(frozen=True)
class Words:
    """The words of a qualitative test: what sensing is called, what is said to start and to end it, and what is written
    down where there was none (empty: that nothing was sensed)."""

    sensed: str
    wearer: str
    begin: str
    begin_say: str
    end: str
    end_say: str
    reading: str = ""
    nothing: str = ""


@dataclass(frozen=True)
class Protocol:
    """A fit-test protocol. ``kinds`` are the facepiece kinds it may be used for."""

    id: str
    title: str
    family: Literal["fast_count", "full_count", "photometer", "pressure", "taste", "odour", "smoke"]
    edition: str
    in_force: str
    source: str
    standing: Standing
    kinds: tuple[str, ...]
    count_in_s: int
    exercise: tuple[Exercise, ...]
    outside: Literal["", "mean_of_first_and_last", "mean_of_neighbours", "continuous"] = ""
    method: str = "ambient_count"
    aerosol: Aerosol | None = None
    negative_pressure: NegativePressure | None = None
    screening: Screening | None = None
    dosing: Dosing | None = None
    recipe: tuple[Recipe, ...] = ()
    words: Words | None = None
    cautions: tuple[str, ...] = ()

    @property
    def is_qualitative(self) -> bool:
        """True for a test by taste, smell or irritation: pass or fail, never a number."""
        return self.family in ("taste", "odour", "smoke")

    @cached
    def exercises(self, bends: bool = True) -> tuple[Exercise, ...]:
        """Return the exercises in order; where the hood does not allow one, what stands for it."""
        plain = [one for one in self.exercise if not one.stands_for]
        if bends:
            return tuple(plain)
        other = {one.stands_for: one for one in self.exercise if one.stands_for}
        return tuple(other.get(one.id, one) for one in plain)

    @property
    def is_counted(self) -> bool:
        """True where particles are counted, so that counting noise can be bounded."""
        return self.family in ("fast_count", "full_count")

    @property
    def n(self) -> int:
        """Number of values in the sum; fixed before the start, never smaller."""
        return len(self.measurements())

    @cached
    def measurements(self) -> tuple[Measurement, ...]:
        """Return the values that go into the sum, in order: one an exercise, or one a breath hold."""
        out: list[Measurement] = []
        for index, one in enumerate(self.exercises()):
            places = [each.place for each in one.segment if each.use == "hold"]
            if self.family != "pressure" and one.in_sum:
                places = [""]
            out += [Measurement(index, place, f"{one.name}, {place}" if place else one.name) for place in places]
        return tuple(out)

    @cached
    def summed(self) -> tuple[int, ...]:
        """Return the places of the exercises in the sum, among all of them: all but the grimace."""
        return tuple(index for index, one in enumerate(self.exercises()) if one.in_sum)

    @property
    @cached
    def total_s(self) -> int:
        """Length of the whole protocol in seconds, from t0."""
        return sum(one.seconds for one in self.exercises())

    @cached
    def windows(self) -> tuple[Window, ...]:
        """Return all windows of the run in order, in milliseconds from t0 (the start of exercise 1)."""
        out: list[Window] = []
        clock = 0
        for index, exercise in enumerate(self.exercises()):
            for segment in exercise.segment:
                end = clock + segment.seconds * 1000
                out.append(
                    Window(
                        exercise=index,
                        use=segment.use,
                        valve=segment.valve,
                        start_ms=clock,
                        end_ms=end,
                        place=segment.place,
                    )
                )
                clock = end
        return tuple(out)

    @cached
    def cues(self) -> tuple[Cue, ...]:
        """Return the stretches with words of their own, such as breath holds, in milliseconds from t0."""
        out: list[Cue] = []
        clock = 0
        for exercise in self.exercises():
            for segment in exercise.segment:
                end = clock + segment.seconds * 1000
                hold = segment.use == "hold"
                if segment.say and out and out[-1].end_ms == clock and out[-1].say == segment.say:
                    last = out[-1]
                    place = last.place or segment.place
                    out[-1] = Cue(last.start_ms, end, segment.say, hold=last.hold or hold, place=place)
                elif segment.say:
                    out.append(Cue(clock, end, segment.say, hold=hold, place=segment.place))
                clock = end
        return tuple(out)

    @cached
    def starts_ms(self) -> tuple[int, ...]:
        """Return the start of each exercise in milliseconds from t0."""
        out, clock = [], 0
        for exercise in self.exercises():
            out.append(clock)
            clock += exercise.seconds * 1000
        return tuple(out)

    def slots(self, threshold: int) -> tuple[Slot, ...]:
        """Return the doses due after the first one, by the threshold: half of it every so often, or applications."""
        if self.dosing is None:
            return ()
        half = threshold // 2
        repeats = tuple(
            Slot(self.dosing.every_s * number * 1000, half, f"{half} squeezes")
            for number in range(1, self.dosing.count + 1)
        )
        return repeats or tuple(Slot(one.at_s * 1000, 0, one.what) for one in self.dosing.applications[1:])

    def first_dose(self, threshold: int) -> str:
        """Return the words for the first dose, empty where there is none."""
        if self.dosing is None or self.dosing.begins != "first_dose":
            return ""
        return self.dosing.applications[0].what if self.dosing.applications else f"{threshold} squeezes"


LONGEST_S, MOST_PARTS, MOST_SIGNS = 7200, 40, 4000
"""Out of all sense: a longer stretch, more parts of one sort, a text of more signs. No rule of any book."""
_ID = re.compile(r"[a-z0-9]([a-z0-9_-]{0,58}[a-z0-9])?")


def _check_sense(item: Any, where: str) -> None:
    """Refuse what no protocol can mean, whichever part says it: ids of odd signs, times below zero or of days."""
    for one in fields(item):
        spot, value = f"{where}.{one.name}", getattr(item, one.name)
        if one.name == "id" and not _ID.fullmatch(value):
            raise DataError(spot, f"{value!r}: small letters, digits and hyphens are expected, at most 60")
        is_time = one.name.endswith(("_s", "_ms")) or one.name in ("seconds", "good_for_h")
        most = LONGEST_S * (1000 if one.name.endswith("_ms") else 1)
        if is_time and not 0 <= value <= most:
            raise DataError(spot, f"{value}; from 0 to {most} is expected")
        if isinstance(value, str) and len(value) > MOST_SIGNS:
            raise DataError(spot, f"{len(value)} signs; at most {MOST_SIGNS} are expected")
        if isinstance(value, int) and not is_time and not 0 <= value <= LONGEST_S:
            raise DataError(spot, f"{value}; from 0 to {LONGEST_S} is expected")
        if isinstance(value, tuple):
            if len(value) > MOST_PARTS:
                raise DataError(spot, f"{len(value)} of them; at most {MOST_PARTS} are expected")
            for number, part in enumerate(value):
                if is_dataclass(part):
                    _check_sense(part, f"{spot}[{number}]")
        elif is_dataclass(value):
            _check_sense(value, spot)


def _check_protocol(protocol: Protocol, where: str) -> None:
    _check_sense(protocol, where)
    if protocol.total_s > LONGEST_S:
        raise DataError(f"{where}.exercise", f"they last {protocol.total_s} s; at most {LONGEST_S} are expected")
    if protocol.is_qualitative:
        _check_qualitative(protocol, where)
        return
    for index, exercise in enumerate(protocol.exercise):
        spot = f"{where}.exercise[{index}]"
        total = sum(segment.seconds for segment in exercise.segment)
        if total != exercise.seconds:
            raise DataError(spot, f"its segments last {total} s, the exercise {exercise.seconds} s; make them equal")
        if any(segment.seconds <= 0 for segment in exercise.segment):
            raise DataError(spot, "every segment lasts a second or more")
        wanted = "hold" if protocol.family == "pressure" else "inside"
        is_sampled = any(segment.use == wanted for segment in exercise.segment)
        if exercise.in_sum and not is_sampled:
            raise DataError(spot, f"no segment of it is {wanted!r}; an exercise of the sum needs one")
        if not exercise.in_sum and any(segment.use != "purge" for segment in exercise.segment):
            raise DataError(spot, "it is not in the sum, so nothing of it is used: every segment must be a purge")
    if protocol.family == "pressure":
        _check_negative_pressure(protocol, where)
        return
    if any(window.use == "hold" for window in protocol.windows()):
        raise DataError(where, "a breath hold belongs to a pressure protocol only")
    if (protocol.family == "photometer") != (protocol.aerosol is not None):
        raise DataError(f"{where}.aerosol", "a photometer protocol needs [aerosol], and no other has it")
    if protocol.aerosol is not None:
        _check_shares(protocol.aerosol, f"{where}.aerosol")
    _check_outside(protocol, where)


def _check_shares(aerosol: Aerosol, where: str) -> None:
    for name in ("steady", "single_peak_half", "single_peak_full"):
        value = _decimal(getattr(aerosol, name), f"{where}.{name}")
        if not 0 < value < 1:
            raise DataError(f"{where}.{name}", f"{value} is no share; write one between 0 and 1, such as 0.05")
    if aerosol.breath_s <= 0:
        raise DataError(f"{where}.breath_s", "about one breath, in whole seconds above 0")


def _decimal(text: str, where: str) -> Fraction:
    try:
        return parse_decimal(text, where)
    except NotANumber as error:
        raise DataError(where, str(error)) from error


def _check_negative_pressure(protocol: Protocol, where: str) -> None:
    if protocol.negative_pressure is None:
        raise DataError(f"{where}.negative_pressure", "a pressure protocol needs [negative_pressure]")
    for name in ("flow", "pressure", "tolerance"):
        if _decimal(getattr(protocol.negative_pressure, name), f"{where}.negative_pressure.{name}") <= 0:
            raise DataError(f"{where}.negative_pressure.{name}", "a number above 0 is expected")
    seen: set[tuple[int, str]] = set()
    for window in protocol.windows():
        if window.use in ("outside", "inside"):
            raise DataError(f"{where}.exercise[{window.exercise}]", "only breath holds are measured in such a protocol")
        if window.use == "hold" and window.valve != "IN":
            raise DataError(f"{where}.exercise[{window.exercise}]", "a breath hold is measured with the valve IN")
        if window.use == "hold" and (window.exercise, window.place) in seen:
            raise DataError(f"{where}.exercise[{window.exercise}]", f"two breath holds are called {window.place!r}")
        if window.use == "hold":
            seen.add((window.exercise, window.place))


def _check_outside(protocol: Protocol, where: str) -> None:
    if protocol.outside == "continuous":
        if protocol.family != "photometer":
            raise DataError(f"{where}.outside", "only a photometer reads the chamber all the time")
        if any(window.use == "outside" for window in protocol.windows()):
            raise DataError(where, "the chamber is read all the time: no segment may be outside")
        return
    if not protocol.outside:
        raise DataError(f"{where}.outside", "say how the outside figure is found")
    if protocol.outside == "mean_of_neighbours":
        _check_neighbours(protocol, where)
    uses = [window.use for window in protocol.windows() if window.use != "purge"]
    if not uses or uses[0] != "outside" or uses[-1] != "outside":
        raise DataError(where, "the first and the last sampled segment must be outside")


def _check_neighbours(protocol: Protocol, where: str) -> None:
    """Every exercise of the sum needs an outside sample before it and one after it."""
    windows = [one for one in protocol.windows() if one.use != "purge"]
    runs = [one.use for number, one in enumerate(windows) if number == 0 or windows[number - 1].use != one.use]
    expected = ["outside", *(["inside", "outside"] * protocol.n)]
    if runs != expected:
        raise DataError(
            where, f"outside and inside must take turns, {protocol.n + 1} times outside around {protocol.n} exercises"
        )


def _check_qualitative(protocol: Protocol, where: str) -> None:
    screening, dosing = protocol.screening, protocol.dosing
    if screening is None or dosing is None or protocol.words is None:
        raise DataError(where, "a qualitative protocol needs [screening], [dosing] and [words]")
    if (screening.by == "squeezes") != bool(screening.sets):
        raise DataError(f"{where}.screening.sets", "squeezes are counted in sets; other screenings have none")
    ids = {one.id for one in protocol.exercise}
    for index, exercise in enumerate(protocol.exercise):
        if exercise.segment:
            raise DataError(f"{where}.exercise[{index}].segment", "nothing is sampled in a qualitative test")
        if exercise.stands_for and exercise.stands_for not in ids:
            raise DataError(f"{where}.exercise[{index}].stands_for", f"{exercise.stands_for!r} is no exercise here")
    if dosing.begins == "first_dose" and not dosing.count and not dosing.applications:
        raise DataError(f"{where}.dosing", "it begins with a dose and has none: count and every_s, or applications")
    if dosing.begins == "filled" and dosing.fill_s <= 0:
        raise DataError(f"{where}.dosing.fill_s", "how long does the chamber fill before exercise 1?")
    last = max((one.at_ms for one in protocol.slots(2)), default=0)
    if last >= protocol.total_s * 1000:
        raise DataError(f"{where}.dosing", f"the last dose comes at {last // 1000} s, after the end of the exercises")


def check_dates(where: str, *days: str, may_lack: bool = False) -> None:
    for day in days:
        if may_lack and not day:
            continue  # common practice has no date, and a text whose day nobody here knows has none either
        try:
            date.fromisoformat(day)
        except ValueError:
            raise DataError(f"{where}.in_force", f"{day!r} is not a date as YYYY-MM-DD") from None


def read_protocol(data: Mapping[str, Any], where: str) -> Protocol:
    """Read a protocol from parsed TOML and check that its seconds add up. Raises :class:`DataError`."""
    protocol = decode(Protocol, data, where)
    check_dates(where, protocol.in_force, may_lack=True)
    _check_protocol(protocol, where)
    return protocol
