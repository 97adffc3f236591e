"""The proof after a held verdict: a measurement, on the same donning, soon after the end. A tick proves nothing.

Where the instrument is linked, its link goes on reading inside after the run, and the stream itself must show the rise:
first as little as before, then as much as is needed, without a gap. Where a run was typed, the figure on the display is
typed too.

Source: common practice; the figures stand in the rule book.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction

from moorfog.core.events.payloads import ProofMeasured
from moorfog.core.kernel.arithmetic import concentration, cut, decimal_or_none, whole_or_cut
from moorfog.core.measuring.live import value_of
from moorfog.core.measuring.readings import Reading
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol
from moorfog.core.visit.state import Try, Visit

WITHIN, RISE, STILL, MEAN = "proof.within", "proof.rise", "proof.still", "proof.mean"


def inside_of(one: Try) -> Fraction | None:
    """Return the highest mean inside figure of a run's exercises, None where it has none."""
    found = [row.inside for row in one.numbers.exercises if row.inside is not None]
    return max(found) if found else None


def least_risen(visit: Visit, one: Try) -> Fraction | None:
    """Return what the inside must rise to, in the unit of the display; None where the book asks for no figure.

    So many times what was read inside; where nothing was, so many times half a step of the display.
    """
    times, counted = visit.rules.book.ratio(RISE), one.counted
    if times is None or counted is None:
        return None
    step = decimal_or_none(one.typed.resolution if one.typed is not None else counted.instrument.resolution)
    return times * max(inside_of(one) or Fraction(0), (step or Fraction(1)) / 2)


def too_late(visit: Visit, one: Try, at: datetime, on_face: bool) -> str:
    """Return why a proof at ``at`` shows nothing of this run any more, or nothing.

    ``on_face``: it must be the same donning still, as where the seal is broken on purpose.
    """
    within = visit.rules.book.ratio(WITHIN)
    if within is None:
        return ""
    if on_face and (visit.worn_since is None or visit.donning != one.donning or visit.worn_since != one.worn_since):
        return "It was taken off since: the proof belongs to another donning."
    if one.ended_at is None or at > visit.after(one.ended_at, float(within)):
        return f"The proof came later than {whole_or_cut(within)} s after the end of the run."
    return ""


def is_read_by_link(one: Try) -> bool:
    """Whether a try's instrument is linked, so that its proof is a stream of readings and no typed figure."""
    return one.counted is not None and one.counted.source == "counter"


def awaits_stream(visit: Visit, at: datetime) -> Try | None:
    """Return the try whose proof the link is to read now; None where none is held, or it can no longer be proved."""
    one = visit.current_try
    if one is None or one.numbers.state != "held" or one.proof is not None or not is_read_by_link(one):
        return None
    return None if visit.closed or one.is_running or too_late(visit, one, at, on_face=True) else one


def judge_proof(visit: Visit, one: Try, at: datetime, rose: bool, seen: str) -> tuple[bool, str]:
    """Return whether the typed figure of a seal-break proof holds, and why not; what it rose to where it holds."""
    if not rose:
        return False, ""
    late, least = too_late(visit, one, at, on_face=True), least_risen(visit, one)
    if late or least is None:
        return not late, late
    figure = decimal_or_none(seen)
    if figure is None:
        return False, "What the display showed was not read."
    if figure < least:
        return False, f"It rose to {cut(figure, 3)} only; {cut(least, 3)} is needed."
    return True, f"it rose to {cut(figure, 3)}, {cut(least, 3)} is needed"


@dataclass
class ProofStream:
    """Follows the readings of a proof. Figures in the unit of the display, means over ``mean_ms`` of inside air.

    Nothing counts until as little as before has been read for ``still_ms`` on end: outside air leaves the tube first. A
    gap, a flag or the valve turned away begins it anew. ``low`` is the last mean before the rise, ``high`` the first
    that is enough.
    """

    protocol: Protocol
    least: Fraction
    still_ms: int
    mean_ms: int
    low: Fraction | None = None
    high: Fraction | None = None
    risen: bool = False
    latest: Fraction | None = None
    _still: int = 0
    _last: int | None = None
    _block: list[Reading] = field(default_factory=list)

    @property
    def is_still(self) -> bool:
        """Whether as little as before has been read for long enough: the seal may be broken now."""
        return self._still >= self.still_ms

    def feed(self, one: Reading) -> None:
        """Take the next reading."""
        if self.risen:
            return
        is_apart = self._last is not None and abs(one.t - one.dt - self._last) * 2 > one.dt
        if one.valve != "I" or one.flags or is_apart:
            self._block, self._still, self.low, self.high = [], 0, None, None
        self._last = one.t
        if one.valve != "I" or one.flags:
            return
        self._block.append(one)
        if self._length() >= self.mean_ms:
            self._take(self._mean())
            self._block = []

    def _length(self) -> int:
        return sum(each.dt for each in self._block)

    def _mean(self) -> Fraction:
        if self.protocol.is_counted:
            volume = sum(each.volume_nl for each in self._block)
            return concentration(sum(each.counts for each in self._block), volume) if volume > 0 else Fraction(0)
        weighted = (value_of(self.protocol, each) * each.dt for each in self._block)
        return sum(weighted, Fraction(0)) / self._length()

    def _take(self, mean: Fraction) -> None:
        self.latest = mean
        if mean < self.least:
            self._still += self._length()
            self.low = mean
            return
        if not self.is_still:
            self._still, self.low = 0, None
            return
        self.high, self.risen = mean, True


def proof_stream(protocol: Protocol | None, book: Book, least: Fraction | None) -> ProofStream | None:
    """Return the stream of a proof that must rise to ``least``, by the seconds of a book; None where any is unknown."""
    still, mean = book.ratio(STILL), book.ratio(MEAN)
    if protocol is None or least is None or still is None or mean is None:
        return None
    return ProofStream(protocol, least, int(still * 1000), int(mean * 1000))


def followed(stream: ProofStream, readings: Iterable[Reading]) -> ProofStream:
    """Return a stream after it has been fed readings."""
    for one in readings:
        stream.feed(one)
    return stream


def text_of(value: Fraction | None) -> str:
    """Return a figure of a stream as exact text, such as "2515000/1667"; empty for none."""
    return str(value) if value is not None else ""


def _figure(text: str) -> Fraction | None:
    try:
        return Fraction(text)
    except (ValueError, ZeroDivisionError):
        return None


def judge_stream(visit: Visit, one: Try, at: datetime, payload: ProofMeasured) -> tuple[bool, str]:
    """Return whether the stream of readings proves a held verdict, and why not; what it rose to where it does."""
    late, least = too_late(visit, one, at, on_face=True), least_risen(visit, one)
    if late or least is None:
        return False, late or "The rule book does not say how far it must rise."
    if payload.end == "lost":
        return False, "The instrument's readings never came."
    low, high = _figure(payload.low), _figure(payload.high)
    if low is None:
        return False, "The stream never showed as little as in the run: nothing is proved by a rise."
    if high is None or high < least or low >= least:
        return False, f"It did not rise to {cut(least, 3)} within one stream of readings."
    return True, f"read inside, it rose from {cut(low, 3)} to {cut(high, 3)}, {cut(least, 3)} is needed"
