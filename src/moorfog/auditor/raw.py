"""What is amiss with the readings of a run, found in the readings themselves, whatever was noted of them.

docs/quantitative.md and docs/formats/counter-figures.md: no gap, nothing twice, no clock that jumps, no flag, the valve
where it belongs, volumes that flow and time give, no window read in part, no figure that never scatters.
"""

from __future__ import annotations

import math
from fractions import Fraction

from moorfog.auditor.log import Json, Log, exercises, number

SLACK_MS = 5
"""Between two readings there may be so much without anybody having missed anything: docs/formats/readings-file.md."""


class Raw(Log):
    """The readings of a record, looked at one by one."""

    def amiss(self, payload: Json, protocol: Json, rows: list[Json]) -> set[str]:
        """Everything that is wrong with the readings of a run that reached its end, by a word each."""
        parts = self.parts(protocol)
        end = parts[-1][2]
        return {
            *self.in_order(rows, end),
            *self.each(payload, protocol, rows, end),
            *self.placed(protocol, parts, rows),
            *self.alike(protocol, rows, end),
        }

    def parts(self, protocol: Json) -> list[tuple[Json, int, int, Json]]:
        """Each stretch of a protocol with its begin and end in ms, and the exercise it is of."""
        clock, out = 0, []
        for one in exercises(protocol):
            for part in one.get("segment", []):
                out.append((part, clock, clock + part["seconds"] * 1000, one))
                clock += part["seconds"] * 1000
        return [(part, first, last, one) for part, first, last, one in out]

    def in_order(self, rows: list[Json], end: int) -> set[str]:
        """Gaps, repeats, jumps."""
        out, missing, last = set[str](), 0, None
        for one in rows:
            begins = one["t"] - one["dt"]
            if last is not None and last > 0:
                if one["t"] == last:
                    out.add("twice")
                    continue
                if begins < last - SLACK_MS:
                    out.add("jump")
                    continue
                missing += begins - last if begins - last > SLACK_MS and begins < end else 0
            elif begins > SLACK_MS:
                missing += begins
            last = one["t"]
        missing += max(0, end - (last or 0)) if end - (last or 0) > SLACK_MS else 0
        return out | ({"gap"} if missing > (self.figure("missing.maximum") or 0) else set())

    def each(self, payload: Json, protocol: Json, rows: list[Json], end: int) -> set[str]:
        """Flags, intervals and volumes of single readings."""
        out, counts = set[str](), protocol["family"] in ("fast_count", "full_count")
        flow, longest = number(payload["instrument"]["counted_flow"]), self.figure("readings.interval") or 0
        room = self.figure("readings.volume") or Fraction(0)
        for one in rows:
            if one["t"] <= 0 or one["t"] - one["dt"] >= end:
                continue
            out |= {"flag"} if one.get("flags") else set()
            out |= {"interval"} if one["dt"] > longest else set()
            if counts:
                wanted = (flow or 0) * one["dt"] * Fraction(1000, 60)
                out |= {"volume"} if not flow or abs(one["volume_nl"] - wanted) > room * wanted else set()
        return out

    def placed(self, protocol: Json, parts: list[tuple[Json, int, int, Json]], rows: list[Json]) -> set[str]:
        """The valve where the protocol has it, and no stretch that counts read in part."""
        out, most = set[str](), self.figure("readings.lost") or 0
        for part, first, last, _ in parts:
            if part["use"] == "purge":
                continue
            here = [one for one in rows if one["t"] - one["dt"] >= first and one["t"] <= last]
            good = [one for one in here if one["valve"] == part["valve"][0]]
            out |= {"valve"} if len(good) < len(here) else set()
            out |= {"part"} if last - first - sum(one["dt"] for one in good) > most else set()
        return out

    def alike(self, protocol: Json, rows: list[Json], end: int) -> set[str]:
        """A counter that gives one and the same count for longer than chance would, a signal that never moves."""
        chance = self.figure("readings.stuck")
        if chance is None:
            return set()
        counts = protocol["family"] in ("fast_count", "full_count")
        run, before = 0, None
        for one in rows:
            if one["t"] <= 0 or one["t"] - one["dt"] >= end:
                continue
            names = ("counts", "dt", "volume_nl", "valve") if counts else ("signal", "chamber", "pressure")
            here = tuple(one.get(name) for name in names)
            run = run + 1 if here == before else 1
            before = here
            if not here[0]:
                run = 0
                before = None
                continue
            if not counts and run > 10:
                return {"stuck"}
            if counts:
                mode = min(0.4, (2 * math.pi * one["counts"]) ** -0.5)
                if (run - 1) * math.log(mode) < math.log(chance) - 1e-9:
                    return {"stuck"}
        return set()
