"""A second judge of an exported record, written from the documents and the published texts.

It imports nothing of the program, shares no code with it, and goes about it in another way: it looks at the log from
the side of each run instead of carrying a state along. What it holds a pass to: the chain, the file of the person, the
kit of the day, wear and seal check, the gates, nothing that happened in the run, the numbers, the doses, what was
sensed, the questions at the end, both signatures. Sources: docs/formats, docs/rules.md, 29 CFR 1910.134 App. A
(recalled).
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from fractions import Fraction
from itertools import pairwise
from typing import Any

Json = dict[str, Any]
SENSES = ("sweet", "bitter", "odour", "smoke")


@dataclass
class Judged:
    """What a run came to: whether it is a pass, why not, and the overall fit factor if it has one."""

    run_id: str
    against: list[str] = field(default_factory=list)
    overall: Fraction | None = None
    reaches: bool | None = None

    @property
    def is_pass(self) -> bool:
        return not self.against


def number(text: Any) -> Fraction | None:
    """A decimal as exact fraction, None where it is none or below zero."""
    try:
        value = Fraction(str(text))
    except (ValueError, ZeroDivisionError):
        return None
    return value if value >= 0 and "/" not in str(text) and "e" not in str(text).lower() else None


def moment(text: str) -> datetime:
    return datetime.fromisoformat(text)


class Second:
    """One record, read for itself."""

    def __init__(self, record: Json) -> None:
        self.record = record
        self.inside: list[Fraction] = []
        self.book: Json = record["rules"]["book"]
        self.items: list[Json] = record["rules"]["procedure"]["item"]
        self.protocols: dict[str, Json] = {one["id"]: one for one in record["rules"]["protocols"]}
        self.events: list[Json] = record["events"]
        self.opened: Json = self.events[0]["payload"]
        self.speed = self.opened["speed"] if self.opened["is_practice"] else 1

    # ---- rules

    def value(self, key: str) -> Any:
        found = self.book["values"].get(key)
        if found is None or (found.get("off") and not (found.get("checked") or found.get("changed"))):
            return None
        return found["value"]

    def figure(self, key: str) -> Fraction | None:
        found = self.value(key)
        return (
            Fraction(found) if isinstance(found, (str, int)) and not isinstance(found, bool) and found != "" else None
        )

    # ---- the log

    def chain_holds(self) -> bool:
        """Each entry is bound to all before it: SHA-256 over canonical JSON, see docs/formats/log.md."""
        previous = ""
        for one in self.events:
            link = {
                "previous": previous,
                "id": one["id"],
                "seq": one["seq"],
                "version": one["version"],
                "occurred_at": one["occurred_at"],
                "actor": one["actor"],
                "payload": one["payload"],
            }
            text = json.dumps(link, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
            if hashlib.sha256(text.encode()).hexdigest() != one["chain"]:
                return False
            previous = one["chain"]
        return True

    def of(self, *kinds: str) -> list[Json]:
        return [one for one in self.events if one["payload"]["kind"] in kinds]

    def first_of(self, kind: str, run_id: str) -> Json | None:
        return next((one["payload"] for one in self.of(kind) if one["payload"]["run_id"] == run_id), None)

    def last_before(self, seq: int, *kinds: str) -> Json | None:
        found = [one for one in self.of(*kinds) if one["seq"] < seq]
        return found[-1] if found else None

    # ---- runs

    def runs(self) -> list[Judged]:
        return [self.judge(one) for one in self.of("run_started", "qualitative_started")]

    def judge(self, start: Json) -> Judged:
        payload = start["payload"]
        out = Judged(payload["run_id"])
        chosen = self.last_before(start["seq"], "facepiece_chosen")
        protocol = self.protocols.get(payload["protocol_id"])
        if chosen is None or protocol is None or protocol["id"] not in self.book["protocols"]:
            out.against.append("no facepiece or no protocol")
            return out
        piece = chosen["payload"]["facepiece"]
        if piece["kind"] not in protocol["kinds"]:
            out.against.append("not for this kind")
        begin, end = self.span(start, protocol)
        out.against += self.file(start, piece) + self.fitted(start, piece, begin) + self.gates(start, piece, protocol)
        out.against += self.kit(payload, protocol, moment(start["occurred_at"]), piece)
        out.against += self.happened(start, protocol, begin, end)
        if payload["kind"] == "run_started":
            self.counted(out, payload, piece, protocol)
        else:
            out.against += self.sensed(payload, protocol, begin, end)
        out.against += self.afterwards(start, payload)
        return out

    def span(self, start: Json, protocol: Json) -> tuple[datetime | None, datetime | None]:
        """When the first exercise begins and when the run is over."""
        at, payload = moment(start["occurred_at"]), start["payload"]
        seconds = sum(one["seconds"] for one in protocol["exercise"] if not one.get("stands_for"))
        if payload["kind"] == "run_started":
            begin = at + timedelta(milliseconds=payload["count_in_ms"])
            return begin, begin + timedelta(seconds=seconds / self.speed)
        if protocol["dosing"]["begins"] == "filled":
            first: datetime | None = at + timedelta(seconds=protocol["dosing"].get("fill_s", 0) / self.speed)
        else:
            doses = [one for one in self.of("dose_given") if one["payload"]["run_id"] == payload["run_id"]]
            first = min((moment(one["occurred_at"]) for one in doses), default=None)
        ended = [one for one in self.of("qualitative_ended") if one["payload"]["run_id"] == payload["run_id"]]
        return first, moment(ended[0]["occurred_at"]) if ended else None

    def file(self, start: Json, piece: Json) -> list[str]:
        """Clearance and training as last read; after the start too, for what was filed later ends it."""
        reads = [self.opened, *(one["payload"] for one in self.of("file_read"))]
        before = [self.opened, *(one["payload"] for one in self.of("file_read") if one["seq"] < start["seq"])]
        out = []
        for one in [before[-1], *reads[len(before) :]]:
            day = one.get("on") or one.get("opened_on")
            out += self.file_against(one["clearance"], one["trained_on"], day, piece)
        return out

    def file_against(self, clearance: Json | None, trained: str, day: str, piece: Json) -> list[str]:
        out = []
        if clearance is None:
            if self.value("medical.kept_at") == "" and self.value("medical.required") is True:
                out.append("no clearance on file")
        elif (
            clearance["status"] != "cleared"
            or (clearance["valid_until"] and clearance["valid_until"] < day)
            or clearance["valid_from"] > day
            or set(clearance["limits"]) & set(piece["traits"]["ruled_out_by"])
        ):
            out.append("clearance")
        if self.value("training.kept_at") == "" and self.value("training.required") is True:
            months = self.figure("training.interval")
            if (
                not trained
                or trained > day
                or (months and day > later(date.fromisoformat(trained), int(months)).isoformat())
            ):
                out.append("training")
        return out

    def fitted(self, start: Json, piece: Json, begin: datetime | None) -> list[str]:
        """Donned unaided, worn long enough, and checked by hand after the last thing that moved it."""
        out = []
        donned = self.last_before(start["seq"], "donned")
        doffed = self.last_before(start["seq"], "doffed")
        if donned is None or not donned["payload"]["unaided"] or (doffed and doffed["seq"] > donned["seq"]):
            return ["not donned by the wearer's own hands"]
        worn = (moment(start["occurred_at"]) - moment(donned["occurred_at"])).total_seconds() * self.speed
        if worn < (self.figure("wear.minimum") or 0):
            out.append("worn too short")
        moved = [
            one["seq"]
            for one in self.of("donned", "adjusted", "touched")
            if one["seq"] < start["seq"] and one["payload"].get("moved", True)
        ]
        checks = [one for one in self.of("seal_checked") if moved[-1] < one["seq"] < start["seq"]]
        if any("leaks" in (one["payload"]["wearer"], one["payload"]["tester"]) for one in checks):
            out.append("the seal check leaked")
        rule = next(
            (one for one in self.record["rules"]["procedure"]["seal_check"] if self.applies(one, piece, "")), None
        )
        if rule is None:
            return [*out, "no seal check known"]
        good = {one["payload"]["check"] for one in checks if self.was_held(one, rule)}
        school = self.value("seal_check.school")
        wanted = set(rule["checks"][:1]) if school == "the filter decides" else set(rule["checks"])
        if not (good & set(rule["checks"]) if school == "either" else wanted <= good):
            out.append("the seal was not checked")
        return out

    def was_held(self, check: Json, rule: Json) -> bool:
        name = check["payload"]["check"]
        if name not in rule.get("held", []):
            return True
        begun = self.last_before(check["seq"], "seal_hold_begun")
        if begun is None or begun["payload"]["check"] != name:
            return False
        seconds = (moment(check["occurred_at"]) - moment(begun["occurred_at"])).total_seconds() * self.speed
        return seconds >= (self.figure("seal_check.hold") or 0)

    def applies(self, item: Json, piece: Json, method: str) -> bool | None:
        """Whether an item applies, None where that hangs on more than facepiece, method and book."""
        when = item.get("when", {})
        facts = {
            "kinds": piece["kind"],
            "families": piece["traits"]["family"],
            "valve": piece["valve"],
            "cover": piece["cover"],
            "probe": piece["probe"],
            "suspensions": piece["suspension"],
        }
        if any(when.get(key) and value not in when[key] for key, value in facts.items()):
            return False
        if when.get("methods") and method not in when["methods"]:
            return False
        if method and method in when.get("unless_methods", []):
            return False
        if any(self.value(key) != text for key, text in when.get("rule", [])):
            return False
        return None if any(when.get(key) for key in ("altered", "acknowledged", "worn", "donned", "on_file")) else True

    def gates(self, start: Json, piece: Json, protocol: Json) -> list[str]:
        """Every question before the run has been asked, and what was last said of it before the start was fine."""
        out = []
        for item in self.items:
            if item["before"] != "run" or item.get("act") or item.get("gravity", "put_right") == "note":
                continue
            if self.applies(item, piece, protocol.get("method", "ambient_count")) is not True:
                continue
            said = [
                one
                for one in self.of("answered")
                if one["payload"]["question"] == item["id"] and one["seq"] < start["seq"]
            ]
            if not said or (said[-1]["payload"]["answer"] != "fine" and not item.get("wait")):
                out.append(f"gate {item['id']}")
        return out

    def kit(self, payload: Json, protocol: Json, at: datetime, piece: Json) -> list[str]:
        out = []
        if payload["kind"] == "run_started":
            one = payload["instrument"]
            last = {each["name"]: each for each in one["checks"] if each["checked_on"] == one["used_on"]}
            out += [f"check {name}" for name in one["required"] if name not in last or not last[name]["passed"]]
            if not one["calibrated_until"] or one["calibrated_until"] < one["used_on"]:
                out.append("calibration")
            level = self.figure(piece["traits"]["level"]) if piece["traits"]["level"] else None
            if level is None or level != number(payload["level"]):
                out.append("level")
            return out
        plans = [(protocol["dosing"], payload)]
        screenings = [one["payload"] for one in self.of("screening_started")]
        plans += [(protocol["screening"], screenings[-1])] if screenings else []
        if not screenings:
            out.append("not screened")
        for plan, used in plans:
            held = [*used["lots"], *([used["nebuliser"]["lot"]] if used["nebuliser"] else [])]
            if any(
                not one["use_by"] or one["use_by"] < used["used_on"] or one["agent"] != protocol["method"]
                for one in held
            ):
                out.append("lot")
            if plan["role"]:
                one = used["nebuliser"]
                refill = timedelta(minutes=float(self.figure("nebuliser.refill") or 0))
                if (
                    one is None
                    or one["role"] != plan["role"]
                    or one["lot"]["role"] != plan["role"]
                    or at - moment(one["filled_at"]) > refill
                    or not one["checked_at"]
                    or one["checked_at"] < one["filled_at"]
                ):
                    out.append("nebuliser")
        return out

    def happened(self, start: Json, protocol: Json, begin: datetime | None, end: datetime | None) -> list[str]:
        """Anything that happened from the start to the end, whenever it was written down."""
        out, started = [], moment(start["occurred_at"])
        for one in self.of("touched", "doffed", "adjusted", "stopped", "distress", "eyes_opened"):
            at, what = moment(one["occurred_at"]), one["payload"]
            if at < started or (end is not None and at > end) or (what["kind"] == "touched" and not what["moved"]):
                continue
            if what["kind"] in ("touched", "doffed", "adjusted") and begin and self.is_redonning(protocol, begin, at):
                continue
            out.append(what["kind"])
        out += [one["payload"]["kind"] for one in self.of("distress")]
        run_id = start["payload"]["run_id"]
        out += ["voided" for one in self.of("run_voided") if one["payload"]["run_id"] == run_id]
        out += ["voided" for one in self.of("corrected") if one["payload"]["void_run"] == run_id]
        out += ["withheld" for one in self.of("withheld") if one["payload"]["run_id"] == run_id]
        return out

    def is_redonning(self, protocol: Json, begin: datetime, at: datetime) -> bool:
        seconds, clock = (at - begin).total_seconds() * self.speed, 0.0
        for one in protocol["exercise"]:
            if one.get("stands_for"):
                continue
            hold = clock
            for part in one.get("segment", []):
                if part["use"] == "hold":
                    break
                hold += part["seconds"]
            if one.get("redon") and clock <= seconds < hold:
                return True
            clock += one["seconds"]
        return False

    # ---- what an instrument read

    def counted(self, out: Judged, payload: Json, piece: Json, protocol: Json) -> None:
        level = number(payload["level"]) or Fraction(10**9)
        self.inside = []
        closed = next(
            (one["payload"] for one in self.of("run_closed") if one["payload"]["run_id"] == payload["run_id"]), None
        )
        typed = next(
            (one["payload"] for one in self.of("numbers_typed") if one["payload"]["run_id"] == payload["run_id"]), None
        )
        if closed is not None and (closed["end"] != "complete" or closed["deviations"]):
            out.against.append("not whole")
            return
        if closed is not None:
            factors, low = self.from_readings(out, payload, piece, protocol, level)
        elif typed is not None:
            factors, low = self.from_display(out, payload, protocol, typed)
        else:
            out.against.append("no numbers")
            return
        if not factors or out.overall is not None:
            return
        out.overall = len(factors) / sum(1 / one for one in factors)
        each = self.value("judged_by") == "every_exercise"
        out.reaches = min(factors) >= level if each else out.overall >= level
        if not out.reaches:
            out.against.append("below the level")
        if low and not (
            self.proved_by_stream(payload, protocol) if payload["source"] == "counter" else self.typed_proof(payload)
        ):
            out.against.append("held and not proved")

    def typed_proof(self, payload: Json) -> bool:
        """Whether the display rose when the seal was broken, and nobody ever said that it did not."""
        proofs = [one for one in self.of("proof_given") if one["payload"]["run_id"] == payload["run_id"]]
        return bool(proofs) and all(one["payload"]["rose"] for one in proofs)

    def proved_by_stream(self, payload: Json, protocol: Json) -> bool:
        """Whether the instrument itself read the rise: still for so long, then so many times the inside, in one piece.

        docs/quantitative.md, The proof. The means are of so many seconds of readings, one after the other.
        """
        run = payload["run_id"]
        denied = any(not one["payload"]["rose"] for one in self.of("proof_given") if one["payload"]["run_id"] == run)
        given = [one["payload"] for one in self.of("proof_measured") if one["payload"]["run_id"] == run]
        if denied or not given or any(one["end"] == "lost" for one in given):
            return False
        step = number(payload["instrument"]["resolution"]) or Fraction(1)
        least = (self.figure("proof.rise") or 0) * max(*self.inside, step / 2)
        return all(self.rises(self.rows(one["stream_id"]), protocol, least) for one in given)

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
        for index, one in enumerate(each for each in protocol["exercise"] if not each.get("stands_for")):
            for part in one.get("segment", []):
                out.append((index, part, clock, clock + part["seconds"] * 1000))
                clock += part["seconds"] * 1000
            if not one.get("segment"):
                clock += one["seconds"] * 1000
        return out

    def summed(self, protocol: Json) -> list[int]:
        """The places of the exercises that count in the sum."""
        plain = [one for one in protocol["exercise"] if not one.get("stands_for")]
        return [n for n, one in enumerate(plain) if one.get("in_sum", True)]

    def rows(self, run_id: str) -> list[Json]:
        out = []
        for chunk in self.record["readings"].get(run_id, []):
            for n in range(len(chunk["t"])):
                row = {key: chunk[key][n] for key in ("t", "dt", "counts", "volume_nl", "valve")}
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
        summed = [
            n
            for n, one in enumerate(each for each in protocol["exercise"] if not each.get("stands_for"))
            if one.get("in_sum", True)
        ]
        if protocol["outside"] == "mean_of_neighbours":
            pairs = list(pairwise(means))
        else:
            pairs = [(means[0], means[-1])] * len(summed) if len(means) > 1 else []
        if len(pairs) != len(summed) or any(inside.get(one, [0, 0])[1] <= 0 for one in summed):
            out.against.append("something was not read")
            return [], False
        least = number(payload["instrument"]["ambient_minimum"]) or Fraction(0)
        drift = self.figure("drift.maximum") or Fraction(0)
        if min(means) < least or any(abs(a - b) * 2 / (a + b) > drift for a, b in pairs):
            out.against.append("outside")
        cap = self.figure("mode.classified.cap") if payload["mode"] == "classified" else None
        factors = []
        for one, (a, b) in zip(summed, pairs, strict=True):
            counts, volume = inside[one]
            self.inside.append(Fraction(counts * 10**6, volume))
            factor = (a + b) / 2 / Fraction(max(counts, 1) * 10**6, volume)
            factors.append(min(factor, cap) if cap is not None else factor)
        total, volume = sum(inside[one][0] for one in summed), sum(inside[one][1] for one in summed)
        return factors, total == 0 or Fraction(total * 10**6, volume) <= self.low(payload)

    def low(self, payload: Json) -> Fraction:
        """The inside figure up to which a HEPA filter may have been left on the line."""
        zero = [one for one in payload["instrument"]["checks"] if one["name"] == "zero"]
        times = self.figure("near_zero.clean_air")
        least = self.figure("near_zero.concentration") or Fraction(0)
        if not zero or times is None or payload["mode"] == "pressure":
            return least
        return max(least, times * (number(zero[-1]["value"]) or 0), number(zero[-1]["limit"]) or Fraction(0))

    def holds(
        self, out: Judged, protocol: Json, payload: Json, rows: list[Json], level: Fraction
    ) -> tuple[list[Fraction], bool]:
        flow, factors, by = Fraction(protocol["suction"]["flow"]) * 1000, list[Fraction](), dict[int, list[Fraction]]()
        step, least = (number(payload["instrument"]["resolution"]) or Fraction(0)) * 1000, 0
        wanted, room = Fraction(protocol["suction"]["pressure"]), Fraction(protocol["suction"]["tolerance"])
        for index, part, first, last in self.windows(protocol):
            if part["use"] != "hold":
                continue
            used = [one for one in rows if one["t"] - one["dt"] >= first and one["t"] <= last]
            if not used or any(abs(Fraction(one["pressure"], 1000) - wanted) > room for one in used):
                out.against.append("a breath was not held")
                return [], False
            leak = Fraction(sum(one["signal"] * one["dt"] for one in used), sum(one["dt"] for one in used)) / 1000
            least += leak <= step
            self.inside.append(leak)
            factors.append(flow / max(leak, step))
            by.setdefault(index, []).append(factors[-1])
        pairs = [len(one) / sum(1 / each for each in one) for one in by.values()]
        if protocol["suction"]["pairs"] and len(pairs) / sum(1 / one for one in pairs) < level:
            out.against.append("pairs below the level")
        return factors, least == len(factors)

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

        summed = [
            n
            for n, one in enumerate(each for each in protocol["exercise"] if not each.get("stands_for"))
            if one.get("in_sum", True)
        ]
        if protocol["outside"] == "continuous":
            outside = [mean(beside[one], "chamber") for one in summed if beside.get(one)]
        else:
            means = [mean(one, "signal") for one in ambient if one]
            outside = [(a + b) / 2 for a, b in pairwise(means)]
        if len(outside) != len(summed):
            out.against.append("something was not read")
            return [], False
        how, factors, figures = self.value("aerosol.inside"), list[Fraction](), list[Fraction]()
        peak_key = "single_peak_half" if piece["traits"]["level"] == "level.half" else "single_peak_full"
        for one, challenge in zip(summed, outside, strict=True):
            peaks = [max(0, *(each["signal"] for each in part)) for part in inside[one]]
            if Fraction(max(peaks)) / challenge > Fraction(protocol["aerosol"][peak_key]):
                out.against.append("a single peak")
                return [], False
            every = [each for part in inside[one] for each in part]
            found = Fraction(sum(peaks), len(peaks)) if how == "average of peaks" else Fraction(max(peaks))
            if how == "integrated area":
                found = max(mean(every, "signal"), Fraction(0))
            least = (number(payload["instrument"]["resolution"]) or Fraction(0)) * 500
            factors.append(challenge / max(found, least))
            figures.append(found / 1000)
            self.inside.append(found / 1000)
        return factors, sum(figures) / len(figures) <= self.low(payload)

    def from_display(self, out: Judged, payload: Json, protocol: Json, typed: Json) -> tuple[list[Fraction], bool]:
        factors, outside, low = [], [], []
        for row in typed["exercises"]:
            a, b = number(row["outside"]), number(row["inside"])
            if a is None or b is None or a <= 0:
                out.against.append("what was typed does not show it")
                return [], False
            outside.append(a)
            low.append(b)
            self.inside.append(b)
            factors.append(a / (b or (number(typed["resolution"]) or Fraction(1)) / 2))
        least, drift = number(payload["instrument"]["ambient_minimum"]) or Fraction(0), self.figure("drift.maximum")
        a, b = min(outside), max(outside)
        if a < least or (b - a) * 2 / (a + b) > (drift or 0) or protocol["family"] not in ("fast_count", "full_count"):
            out.against.append("outside")
        return factors, sum(low) / len(low) <= self.low(payload)

    # ---- what the wearer sensed

    def sensed(self, payload: Json, protocol: Json, begin: datetime | None, end: datetime | None) -> list[str]:
        if begin is None or end is None:
            return ["never ended"]
        out, run_id, plan = [], payload["run_id"], protocol["dosing"]
        seconds = sum(one["seconds"] for one in protocol["exercise"] if not one.get("stands_for"))
        if (end - begin).total_seconds() * self.speed < seconds:
            out.append("ended early")
        out += self.doses(run_id, plan, begin, end)
        closing = [one["id"] for one in self.items if one.get("closes_senses")]
        asked = [moment(one["occurred_at"]) for one in self.of("answered") if one["payload"]["question"] in closing]
        asked = [one for one in asked if one >= end]
        until = min(asked, default=None) if closing else end
        for one in self.of("detected"):
            at = moment(one["occurred_at"])
            if one["payload"]["about"] == run_id and (until is None or at <= until):
                out.append("sensed")
        if plan["proof"] != "none":
            proofs = [one for one in self.of("proof_sensed") if one["payload"]["run_id"] == run_id]
            within = timedelta(seconds=float(self.figure("proof.within") or 10**6) / self.speed)
            if not proofs or not all(one["payload"]["sensed"] for one in proofs):
                out.append("no proof")
            elif any(moment(one["occurred_at"]) - end > within for one in proofs):
                out.append("late proof")
        return out

    def doses(self, run_id: str, plan: Json, begin: datetime, end: datetime) -> list[str]:
        given = sorted(
            (moment(one["occurred_at"]) - begin).total_seconds() * self.speed
            for one in self.of("dose_given")
            if one["payload"]["run_id"] == run_id
        )
        due = [plan["every_s"] * n for n in range(1, plan.get("count", 0) + 1)]
        due += [one["at_s"] for one in plan.get("passes", [])[1:]]
        last, left = 0.0, given[1:]
        for slot in due:
            found = next(
                (one for one in left if slot - plan["early_s"] <= round(one, 3) <= slot + plan["late_s"]), None
            )
            if found is None:
                return ["a dose was missed"]
            left.remove(found)
            if plan.get("gap_max_s") and found - last > plan["gap_max_s"] + 0.0005:
                return ["doses too far apart"]
            last = found
        return []

    # ---- afterwards

    def afterwards(self, start: Json, payload: Json) -> list[str]:
        """The questions at the end; "not fine" from the start on stands, but for a slip taken back at once."""
        out, items = [], {one["id"]: one for one in self.items}
        before = self.events[start["seq"] :]
        stop = next(
            (one["seq"] for one in before if one["payload"]["kind"] == "decided" and one["payload"]["next"] != "end"),
            10**9,
        )
        mine = [one for one in before if one["seq"] < stop]
        for one in mine:
            said = one["payload"]
            item = items.get(said.get("question", "")) if said["kind"] == "answered" else None
            if item is None or item["before"] == "release" or item.get("gravity", "put_right") == "note":
                continue
            if said["answer"] == "not_fine" and not item.get("wait") and not self.is_taken_back(one):
                out.append(f"not fine: {item['id']}")
        if stop != 10**9:
            out.append("another try was decided on")
        out += self.screens(start)
        for item in self.items:
            if item["before"] == "pass" and not item.get("act") and not item.get("when", {}).get("methods"):
                said = [one for one in mine if one["payload"].get("question") == item["id"]]
                if not said or said[-1]["payload"]["answer"] != "fine":
                    out.append(f"not asked: {item['id']}")
        return out

    def screens(self, start: Json) -> list[str]:
        """A run counts once every screen that was there has said, after its end, that it holds nothing more."""
        run = start["payload"]["run_id"]
        mine = {
            kind: [one for one in self.of(kind) if one["payload"]["run_id"] == run]
            for kind in ("screen_took_part", "screen_cleared", "screen_lost")
        }
        clear = {one["payload"]["screen"]: one["seq"] for one in reversed(mine["screen_cleared"])}
        lost = {one["payload"]["screen"]: one["seq"] for one in reversed(mine["screen_lost"])}
        out = []
        for one in mine["screen_took_part"]:
            name = one["payload"]["screen"]
            if lost.get(name, 10**9) < clear.get(name, 10**9):
                out.append("a screen never came back")
            elif name not in clear:
                out.append("a screen may hold presses")
        return out

    def is_taken_back(self, one: Json) -> bool:
        beside = ("screen_took_part", "screen_cleared")
        after = next((each for each in self.events[one["seq"] :] if each["payload"]["kind"] not in beside), None)
        seconds, said = self.figure("slip.maximum"), one["payload"]
        if after is None or seconds is None or after["payload"]["kind"] != "answered":
            return False
        again, passed = after["payload"], (moment(after["occurred_at"]) - moment(one["occurred_at"])).total_seconds()
        is_same = again["question"] == said["question"] and again["screen"] == said["screen"] != ""
        return is_same and after["actor"] == one["actor"] and again["answer"] == "fine" and 0 <= passed <= seconds

    def signed(self) -> set[str]:
        """Who has signed since the last thing that opened the record again."""
        opened = [one["seq"] for one in self.of("corrected")]
        return {one["payload"]["role"] for one in self.of("signed") if one["seq"] > max(opened, default=0)}


def later(day: date, months: int) -> date:
    """The same day so many months later, or the last one before it that there is."""
    total = day.month - 1 + months
    for back in range(4):
        try:
            return date(day.year + total // 12, total % 12 + 1, day.day - back)
        except ValueError:
            continue
    raise ValueError(day)


def differences(record: Json) -> list[str]:
    """Return where this judge and what a record says of itself do not agree."""
    second, out = Second(record), []
    if not second.chain_holds():
        out.append("the chain breaks")
    said = {one["run_id"]: one for one in record["verdict"]["tries"]}
    for one in second.runs():
        theirs = said.get(one.run_id)
        if theirs is None:
            out.append(f"{one.run_id}: a run that the record does not know")
            continue
        if theirs["outcome"] == "pass" and not one.is_pass:
            out.append(f"{one.run_id}: a pass against {', '.join(sorted(set(one.against)))}")
        if theirs["overall"] is not None and one.overall is not None and Fraction(theirs["overall"]) != one.overall:
            out.append(f"{one.run_id}: overall {theirs['overall']} against {one.overall}")
        if theirs["outcome"] == "fail" and one.reaches and theirs["reasons"] == ["below_level"]:
            out.append(f"{one.run_id}: below the level, and here it reaches it")
        if one.is_pass and theirs["outcome"] != "pass":
            out.append(f"{one.run_id}: {theirs['outcome']} for {', '.join(theirs['reasons'])}, and a pass here")
    if record["verdict"]["is_sealed"] and second.signed() != {"wearer", "tester"}:
        out.append("said to be signed by both")
    return out
