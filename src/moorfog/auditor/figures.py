"""What the second judge makes of readings and of figures typed from a display, with what counting can show."""

from __future__ import annotations

from datetime import datetime, timedelta
from fractions import Fraction
from itertools import pairwise

from moorfog.auditor.chance import overall_bound, upper_limit
from moorfog.auditor.log import Json, Judged, exercises, moment, number
from moorfog.auditor.raw import Raw


class Figures(Raw):
    """The numbers of runs."""

    def counted(self, out: Judged, payload: Json, piece: Json, protocol: Json) -> None:
        level = number(payload["level"]) or Fraction(10**9)
        self.inside: list[Fraction] = []
        self.sampled: list[tuple[int, float]] = []
        closed, typed = self.first_of("run_closed", out.run_id), self.first_of("numbers_typed", out.run_id)
        if closed is not None and not self.is_whole(out, payload, protocol, closed):
            return
        if self.was_stopped(out.run_id):
            out.add("open", "stopped early")
            out.is_stopped = True
            return
        if closed is not None:
            factors, low = self.from_readings(out, payload, piece, protocol, level)
        elif typed is not None:
            factors, low = self.from_display(out, payload, protocol, typed)
        else:
            out.add("open", "no numbers")
            return
        if not factors:
            return
        overall = len(factors) / sum((1 / one for one in factors), Fraction(0))
        out.factors, out.overall = factors, overall
        if self.sampled:
            out.bounds = [1 / (weight * upper_limit(counts)) for counts, weight in self.sampled]
            out.bound = overall_bound([weight for _, weight in self.sampled], [counts for counts, _ in self.sampled])
        if min(factors) < (self.figure("ff.suspect") or 0):
            out.add("spoilt", "it leaks as if it were not on")
            return
        each = self.value("judged_by") == "every_exercise"
        if (min(factors) if each else overall) < level:
            out.add("low", "below the level")
            return
        least = [one for one in (out.bound, *(out.bounds if each else ())) if one is not None]
        out.is_marginal = bool(least) and min(least) < level
        if low and payload["source"] == "counter":
            self.proved_by_stream(out, payload, protocol)
        elif low:
            self.typed_proof(out, typed or {})

    def was_stopped(self, run_id: str) -> bool:
        """Whether a linked run was stopped before its readings came to their end: its numbers are not gone into."""
        start, closed = next(self.about("run_started", run_id), None), next(self.about("run_closed", run_id), None)
        if start is None or closed is None:
            return False
        stops = [one for one in self.of("stopped", "distress") if start["seq"] < one["seq"] < closed["seq"]]
        return any(moment(one["occurred_at"]) >= moment(start["occurred_at"]) for one in stops)

    def is_whole(self, out: Judged, payload: Json, protocol: Json, closed: Json) -> bool:
        """Whether readings came from the first exercise to the last, with nothing amiss: by what they are, whatever was
        noted of them. What was noted is all that is known of a run from before readings were looked at, and of one
        that ended early."""
        amiss: object = closed["deviations"]
        if closed["end"] == "complete" and self.value("readings.strict") is True:
            amiss = self.amiss(payload, protocol, self.rows(payload["run_id"]))
        if closed["end"] == "lost" or amiss:
            out.add("spoilt", "not whole")
        elif closed["end"] != "complete":
            out.add("open", "stopped early")
            out.is_stopped = True
        return closed["end"] == "complete" and not amiss

    def least_risen(self, payload: Json, step: Fraction) -> Fraction:
        """How high the inside must go when the seal is broken: so many times the highest of the run."""
        return (self.figure("proof.rise") or 0) * max(*self.inside, step / 2)

    def in_time(self, entry: Json, start_seq: int, ended: datetime | None) -> bool:
        """Whether a proof came soon after the end of its run, and on the same donning."""
        within = self.figure("proof.within")
        if within is None:
            return True
        moved = self.last_before(entry["seq"], "donned", "doffed")
        latest = timedelta(seconds=float(within) / self.speed)
        is_same = moved is None or moved["seq"] < start_seq
        return is_same and ended is not None and moment(entry["occurred_at"]) - ended <= latest

    def typed_proof(self, out: Judged, typed: Json) -> None:
        """Whether the display rose high enough when the seal was broken, and nobody ever said that it did not."""
        start = next(self.about("run_started", out.run_id))
        proofs = list(self.about("proof_given", out.run_id))
        least = self.least_risen(start["payload"], number(typed["resolution"]) or Fraction(1))
        ended = self.moment_of("numbers_typed", out.run_id)
        if not proofs:
            out.add("open", "held")
        elif not all(
            one["payload"]["rose"]
            and (number(one["payload"]["seen"]) or 0) >= least
            and self.in_time(one, start["seq"], ended)
            for one in proofs
        ):
            out.add("denied", "it did not rise")

    def proved_by_stream(self, out: Judged, payload: Json, protocol: Json) -> None:
        """Whether the instrument itself read the rise: still for so long, then so many times the inside, in one piece.

        docs/quantitative.md, The proof. The means are of so many seconds of readings, one after the other.
        """
        start = next(self.about("run_started", out.run_id))
        said = [one["payload"] for one in self.about("proof_given", out.run_id)]
        given = list(self.about("proof_measured", out.run_id))
        is_denied = not all(one["rose"] for one in said)
        if not is_denied and not given:
            out.add("open", "held")
            return
        least = self.least_risen(payload, number(payload["instrument"]["resolution"]) or Fraction(1))
        ended = self.moment_of("run_closed", out.run_id)
        for one in given:
            rows = self.rows(one["payload"]["stream_id"]) if one["payload"]["end"] != "lost" else []
            if not self.in_time(one, start["seq"], ended) or not self.rises(rows, protocol, least):
                is_denied = True
        if is_denied:
            out.add("denied", "held and not proved")

    def rises(self, rows: list[Json], protocol: Json, least: Fraction) -> bool:
        still = mean_of = 0
        part: list[Json] = []
        wanted, length = (self.figure("proof.still") or 0) * 1000, (self.figure("proof.mean") or 0) * 1000
        before = None
        for one in rows:
            if before is not None and abs(one["t"] - one["dt"] - before) * 2 > one["dt"]:
                part, still = [], 0
            before = one["t"]
            if one["valve"] != "I":
                part, still = [], 0
                continue
            part.append(one)
            mean_of = sum(each["dt"] for each in part)
            if mean_of < length:
                continue
            if protocol["family"] in ("photometer", "pressure"):
                mean = Fraction(sum(max(each["signal"], 0) * each["dt"] for each in part), mean_of * 1000)
            else:
                volume = sum(each["volume_nl"] for each in part)
                mean = Fraction(sum(each["counts"] for each in part) * 10**6, volume) if volume else Fraction(0)
            part = []
            if mean >= least and still >= wanted:
                return True
            still = still + mean_of if mean < least else 0
        return False

    def windows(self, protocol: Json) -> list[tuple[int, Json, int, int]]:
        out, clock = [], 0
        for index, one in enumerate(exercises(protocol)):
            for part in one.get("segment", []):
                out.append((index, part, clock, clock + part["seconds"] * 1000))
                clock += part["seconds"] * 1000
            if not one.get("segment"):
                clock += one["seconds"] * 1000
        return out

    def summed(self, protocol: Json) -> list[int]:
        """The places of the exercises that count in the sum."""
        return [n for n, one in enumerate(exercises(protocol)) if one.get("in_sum", True)]

    def rows(self, run_id: str) -> list[Json]:
        out = []
        for chunk in self.record["readings"].get(run_id, []):
            for n in range(len(chunk["t"])):
                row = {key: chunk[key][n] for key in ("t", "dt", "counts", "volume_nl", "valve", "flags")}
                row |= {key: chunk[key][n] for key in ("signal", "chamber", "pressure") if chunk.get(key)}
                out.append(row)
        return out

    def from_readings(
        self, out: Judged, payload: Json, piece: Json, protocol: Json, level: Fraction
    ) -> tuple[list[Fraction], bool]:
        rows = self.rows(payload["run_id"])
        if protocol["family"] == "pressure":
            return self.holds(out, protocol, payload, rows, level)
        if protocol["family"] == "photometer":
            return self.signals(out, protocol, payload, piece, rows)
        ambient: list[tuple[int, Fraction]] = []
        inside: dict[int, list[int]] = {}
        for index, part, first, last in self.windows(protocol):
            used = [one for one in rows if one["t"] - one["dt"] >= first and one["t"] <= last]
            if part["use"] == "outside" and used:
                mean = Fraction(sum(one["counts"] for one in used) * 10**6, sum(one["volume_nl"] for one in used))
                ambient.append((index, mean))
            if part["use"] == "inside":
                sums = inside.setdefault(index, [0, 0])
                sums[0] += sum(one["counts"] for one in used)
                sums[1] += sum(one["volume_nl"] for one in used)
        means = [mean for _, mean in ambient]
        summed = self.summed(protocol)
        if protocol["outside"] == "mean_of_neighbours":
            pairs = list(pairwise(means))
        else:
            pairs = [(means[0], means[-1])] * len(summed) if len(means) > 1 else []
        if len(pairs) != len(summed) or any(inside.get(one, [0, 0])[1] <= 0 for one in summed):
            out.add("spoilt", "something was not read")
            return [], False
        least = number(payload["instrument"]["ambient_minimum"]) or Fraction(0)
        drift = self.figure("drift.maximum") or Fraction(0)
        if min(means) < least or any(abs(a - b) * 2 / (a + b) > drift for a, b in pairs):
            out.add("spoilt", "outside")
        if self.is_beyond(payload, max(means)):
            out.add("spoilt", "more outside than it counts right")
            return [], False
        cap = self.figure("mode.classified.cap") if payload["mode"] == "classified" else None
        factors = []
        for one, (a, b) in zip(summed, pairs, strict=True):
            counts, volume = inside[one]
            self.sampled.append((counts, 2e6 / float((a + b) * volume)))
            self.inside.append(Fraction(counts * 10**6, volume))
            factor = (a + b) / 2 / Fraction(max(counts, 1) * 10**6, volume)
            factors.append(min(factor, cap) if cap is not None else factor)
        total, volume = sum(inside[one][0] for one in summed), sum(inside[one][1] for one in summed)
        if self.fell(out, self.low(payload)):
            return [], False
        whole = total == 0 or Fraction(total * 10**6, volume) <= self.low(payload)
        return factors, whole or self.one_is_near(self.low(payload))

    def is_beyond(self, payload: Json, highest: Fraction) -> bool:
        """Whether there was more outside than the instrument tells apart: docs/quantitative.md."""
        most = number(payload["instrument"]["ambient_maximum"])
        return self.value("readings.by_instrument") is True and most is not None and highest > most

    def fell(self, out: Judged, near: Fraction) -> bool:
        """Whether one exercise reads next to nothing and another far more than any seal could close: a blocked line."""
        times = self.figure("near_zero.drop")
        if times is None or near <= 0 or not self.inside:
            return False
        if min(self.inside) <= near and max(self.inside) >= times * near:
            out.add("spoilt", "the inside fell as no seal makes it fall")
            return True
        return False

    def one_is_near(self, near: Fraction) -> bool:
        """Whether any exercise by itself read next to nothing, where the book has each looked at."""
        return self.figure("near_zero.drop") is not None and min(self.inside) <= max(near, Fraction(0))

    def low(self, payload: Json) -> Fraction:
        """The inside figure up to which a HEPA filter may have been left on the line."""
        zero = [one for one in payload["instrument"]["checks"] if one["name"] in ("clean_air", "zero")]
        times = self.figure("near_zero.clean_air")
        least = self.figure("near_zero.concentration") or Fraction(0)
        if not zero or times is None or payload["mode"] == "pressure":
            return least
        return max(least, times * (number(zero[-1]["value"]) or 0), number(zero[-1]["limit"]) or Fraction(0))

    def holds(
        self, out: Judged, protocol: Json, payload: Json, rows: list[Json], level: Fraction
    ) -> tuple[list[Fraction], bool]:
        drawn = protocol["negative_pressure"]
        flow, factors, by = Fraction(drawn["flow"]) * 1000, list[Fraction](), dict[int, list[Fraction]]()
        step, least = (number(payload["instrument"]["resolution"]) or Fraction(0)) * 1000, 0
        wanted, room = Fraction(drawn["pressure"]), Fraction(drawn["tolerance"])
        for index, part, first, last in self.windows(protocol):
            if part["use"] != "hold":
                continue
            used = [one for one in rows if one["t"] - one["dt"] >= first and one["t"] <= last]
            if not used or any(abs(Fraction(one["pressure"], 1000) - wanted) > room for one in used):
                out.add("spoilt", "a breath was not held")
                return [], False
            leak = Fraction(sum(one["signal"] * one["dt"] for one in used), sum(one["dt"] for one in used)) / 1000
            least += leak <= step
            self.inside.append(leak)
            factors.append(flow / max(leak, step))
            by.setdefault(index, []).append(factors[-1])
        pairs = [len(one) / sum(1 / each for each in one) for one in by.values()]
        if drawn["pairs"] and len(pairs) / sum(1 / one for one in pairs) < level:
            out.add("low", "pairs below the level")
        if self.fell(out, step):
            return [], False
        return factors, least > 0 if self.figure("near_zero.drop") is not None else least == len(factors)

    def signals(
        self, out: Judged, protocol: Json, payload: Json, piece: Json, rows: list[Json]
    ) -> tuple[list[Fraction], bool]:
        breath = protocol["aerosol"]["breath_s"] * 1000
        inside: dict[int, list[list[Json]]] = {}
        beside: dict[int, list[Json]] = {}
        ambient: list[list[Json]] = []
        for index, part, first, last in self.windows(protocol):
            used = [one for one in rows if one["t"] - one["dt"] >= first and one["t"] <= last]
            if part["use"] == "outside":
                ambient.append(used)
            if part["use"] == "inside":
                breaths: dict[int, list[Json]] = {}
                for one in used:
                    breaths.setdefault((one["t"] - one["dt"] - first) // breath, []).append(one)
                inside.setdefault(index, []).extend(breaths[key] for key in sorted(breaths))
                beside.setdefault(index, []).extend(used)

        def mean(part: list[Json], key: str) -> Fraction:
            return Fraction(sum(one[key] * one["dt"] for one in part), sum(one["dt"] for one in part))

        summed = self.summed(protocol)
        if protocol["outside"] == "continuous":
            outside = [mean(beside[one], "chamber") for one in summed if beside.get(one)]
        else:
            means = [mean(one, "signal") for one in ambient if one]
            outside = [(a + b) / 2 for a, b in pairwise(means)]
        if len(outside) != len(summed):
            out.add("spoilt", "something was not read")
            return [], False
        if self.is_beyond(payload, max(outside) / 1000):
            out.add("spoilt", "more outside than it shows")
            return [], False
        how, factors, figures = self.value("aerosol.inside"), list[Fraction](), list[Fraction]()
        peak_key = "single_peak_half" if piece["traits"]["level"] == "level.half" else "single_peak_full"
        for exercise, challenge in zip(summed, outside, strict=True):
            peaks = [max(0, *(each["signal"] for each in part)) for part in inside[exercise]]
            if Fraction(max(peaks)) / challenge > Fraction(protocol["aerosol"][peak_key]):
                out.add("low", "a single peak")
                return [], False
            every = [each for part in inside[exercise] for each in part]
            found = Fraction(sum(peaks), len(peaks)) if how == "average of peaks" else Fraction(max(peaks))
            if how == "integrated area":
                found = max(mean(every, "signal"), Fraction(0))
            least = (number(payload["instrument"]["resolution"]) or Fraction(0)) * 500
            factors.append(challenge / max(found, least))
            figures.append(found / 1000)
            self.inside.append(found / 1000)
        low, half = self.low(payload), (number(payload["instrument"]["resolution"]) or Fraction(0)) / 2
        is_strict = self.figure("near_zero.drop") is not None
        if self.fell(out, self.clean(payload) or Fraction(0)):
            return [], False
        near = max(self.clean(payload) or Fraction(0), half)
        return factors, sum(figures) / len(figures) <= low or (is_strict and min(figures) <= near)

    def clean(self, payload: Json) -> Fraction | None:
        """What the day's clean air makes of next to nothing, None where it was not read."""
        zero = [one for one in payload["instrument"]["checks"] if one["name"] in ("clean_air", "zero")]
        times = self.figure("near_zero.clean_air")
        if not zero or times is None:
            return None
        return max(times * (number(zero[-1]["value"]) or 0), number(zero[-1]["limit"]) or Fraction(0))

    def from_display(self, out: Judged, payload: Json, protocol: Json, typed: Json) -> tuple[list[Fraction], bool]:
        if protocol["family"] not in ("fast_count", "full_count"):
            out.add("open", "a display shows neither peaks nor pressures")
            return [], False
        factors, outside, low = [], [], []
        least = number(payload["instrument"]["ambient_minimum"]) or Fraction(0)
        cap = self.figure("mode.classified.cap") if payload["mode"] == "classified" else None
        for row in typed["exercises"]:
            a, b = number(row["outside"]), number(row["inside"])
            if a is None or b is None:
                out.add("open", "what was typed does not show it")
                return [], False
            if a < least or a <= 0:
                out.add("spoilt", "outside")
                return [], False
            if self.is_beyond(payload, a):
                out.add("spoilt", "more outside than it counts right")
                return [], False
            outside.append(a)
            low.append(b)
            self.inside.append(b)
            half = (number(typed["resolution"]) or Fraction(1)) / 2
            if self.value("readings.by_instrument") is True:
                half = (number(payload["instrument"]["resolution"]) or Fraction(1)) / 2
            factor = a / (max(b, half) if self.value("readings.by_instrument") is True else b or half)
            factors.append(min(factor, cap) if cap is not None else factor)
        a, b = min(outside), max(outside)
        if (b - a) * 2 / (a + b) > (self.figure("drift.maximum") or 0):
            out.add("spoilt", "outside")
        at = self.moment_of("numbers_typed", out.run_id)
        seconds = sum(one["seconds"] for one in exercises(protocol))
        whole = timedelta(milliseconds=payload["count_in_ms"], seconds=seconds / self.speed)
        if at is None or at < (self.moment_of("run_started", out.run_id) or at) + whole:
            out.add("spoilt", "typed before the protocol was over")
        near = max(self.clean(payload) or Fraction(0), half)
        if self.fell(out, near):
            return [], False
        return factors, self.one_is_near(near) or sum(low) / len(low) <= self.low(payload)
