"""A second judge of an exported record, written from the documents and the published texts.

It imports nothing of the program, shares no code with it, and goes about it in another way: it looks at the log from
the side of each run instead of carrying a state along. What it holds a pass to: the chain, the file of the person, the
kit of the day, wear and seal check, the gates, nothing that happened in the run, the numbers, the doses, what was
sensed, the questions at the end, both signatures. Sources: docs/formats, docs/rules.md, 29 CFR 1910.134 App. A
(recalled).
"""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from fractions import Fraction

from moorfog.auditor.figures import Figures
from moorfog.auditor.log import Json, Judged, exercises, later, moment, number
from moorfog.auditor.worked_at import is_enough


class Second(Figures):
    """One record, judged for itself."""

    # ---- runs

    def runs(self) -> list[Judged]:
        return [self.judge(one) for one in self.of("run_started", "qualitative_started")]

    def judge(self, start: Json) -> Judged:
        payload = start["payload"]
        out = Judged(payload["run_id"], is_counted=payload["kind"] == "run_started")
        chosen = self.last_before(start["seq"], "facepiece_chosen")
        protocol = self.protocols.get(payload["protocol_id"])
        if chosen is None or protocol is None or protocol["id"] not in self.book["protocols"]:
            out.add("gate", "no facepiece or no protocol")
            return out
        piece = chosen["payload"]["facepiece"]
        if piece["kind"] not in protocol["kinds"]:
            out.add("gate", "not for this kind")
        begin, end = self.span(start, protocol)
        self.file(out, start, piece)
        out.add("gate", *self.fitted(start, piece, begin), *self.gates(start, piece, protocol))
        out.add("gate", *self.kit(payload, protocol, moment(start["occurred_at"]), piece))
        out.add("gate", *self.work(start, piece))
        self.happened(out, start, protocol, begin, end)
        if out.is_counted:
            self.counted(out, payload, piece, protocol)
        else:
            self.sensed(out, payload, protocol, begin, end)
        self.afterwards(out, start)
        return out

    def span(self, start: Json, protocol: Json) -> tuple[datetime | None, datetime | None]:
        """When the first exercise begins and when the run is over."""
        at, payload = moment(start["occurred_at"]), start["payload"]
        seconds = sum(one["seconds"] for one in exercises(protocol))
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

    def file(self, out: Judged, start: Json, piece: Json) -> None:
        """Clearance and training as last read; after the start too: what was filed later keeps it from a pass."""
        reads = [self.opened, *(one["payload"] for one in self.of("file_read"))]
        before = [self.opened, *(one["payload"] for one in self.of("file_read") if one["seq"] < start["seq"])]
        for makes, one in (("gate", before[-1]), *(("open", each) for each in reads[len(before) :])):
            day = one.get("on") or one.get("opened_on")
            out.add(makes, *self.file_against(one["clearance"], one["trained_on"], day, piece))

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

    def work(self, start: Json, piece: Json) -> list[str]:
        """The set-up is enough for the task it was chosen for, as it is worn there."""
        chosen = self.last_before(start["seq"], "task_chosen")
        if chosen is None or self.value("protection.stated") is not True:
            return []
        return [] if is_enough(self.book, chosen["payload"]["task"], piece) else ["not enough for the task"]

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
        policy = self.value("seal_check.policy")
        wanted = set(rule["checks"][:1]) if policy == "the filter decides" else set(rule["checks"])
        if not (good & set(rule["checks"]) if policy == "either" else wanted <= good):
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

    def applies(self, item: Json, piece: Json, method: str, before: int = 0) -> bool | None:
        """Whether an item applies, None where that hangs on more than facepiece, method and book; ``before``: the entry
        by which a run starts, where it is worn and the file is known."""
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
        wore = any(one["payload"].get("wore") for one in self.of("visit_opened"))
        if when.get("wore") and wore not in when["wore"]:
            return False
        file = [self.opened, *(one["payload"] for one in self.of("file_read") if one["seq"] < before)][-1]
        at_start = {
            "worn": True,
            "donned": True,
            "cleared": file["clearance"] is not None,
            "on_file": "trained" if file["trained_on"] else "untrained",
        }
        if before and any(when.get(key) and value not in when[key] for key, value in at_start.items()):
            return False
        unknown = ("altered", "acknowledged", *(() if before else tuple(at_start)))
        return None if any(when.get(key) for key in unknown) else True

    def gates(self, start: Json, piece: Json, protocol: Json) -> list[str]:
        """Every question before the run has been asked, and what was last said of it before the start was fine."""
        out = []
        for item in self.items:
            if item["before"] != "run" or item.get("act"):
                continue
            if self.applies(item, piece, protocol.get("method", "ambient_count"), start["seq"]) is not True:
                continue
            said = [
                one
                for one in self.of("answered")
                if one["payload"]["question"] == item["id"] and one["seq"] < start["seq"]
            ]
            is_note = item.get("gravity", "put_right") == "note"  # it must be asked, and blocks nothing
            if not said or (said[-1]["payload"]["answer"] != "fine" and not item.get("wait") and not is_note):
                out.append(f"gate {item['id']}")
        return out

    def kit(self, payload: Json, protocol: Json, at: datetime, piece: Json) -> list[str]:
        out = []
        if payload["kind"] == "run_started":
            one = payload["instrument"]
            last = {each["name"]: each for each in one["checks"] if each["checked_on"] == one["used_on"]}
            out += [f"check {name}" for name in one["required"] if name not in last or not last[name]["passed"]]
            until = one["calibrated_until"]
            if not re.fullmatch(r"\d{4}-\d{2}-\d{2}", until) or until < one["used_on"]:
                out.append("calibration")
            heard = one.get("said_serial", "")
            if heard and "".join(heard.lower().split()) != "".join(one["serial_number"].lower().split()):
                out.append("another instrument")
            if one["charge_h"]:
                charged = moment(one["charged_at"]) if one["charged_at"] else None
                if charged is None or not timedelta() <= at - charged <= timedelta(hours=one["charge_h"]):
                    out.append("alcohol")
            kind = {"photometer": "photometer", "pressure": "pressure"}.get(protocol["family"], "counter")
            modes = ("ordinary", "classified") if kind == "counter" else (kind,)
            fits = self.value(f"mode.{payload['mode']}.filters") or ()
            if one["kind"] != kind or payload["mode"] not in modes:
                out.append("instrument or mode")
            elif kind != "pressure" and piece["filter_class"] not in fits:
                out.append("mode")
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

    def happened(self, out: Judged, start: Json, protocol: Json, begin: datetime | None, end: datetime | None) -> None:
        """Anything that happened from the start to the end, whenever it was written down."""
        started, run_id = moment(start["occurred_at"]), out.run_id
        off = [moment(one["occurred_at"]) for one in self.of("stopped", "distress") if one["seq"] > start["seq"]]
        end = min([end, *off] if end is not None else off, default=None)  # one that was broken off is over then
        for one in self.of("touched", "doffed", "adjusted", "stopped", "distress", "eyes_opened"):
            at, what = moment(one["occurred_at"]), one["payload"]
            if at < started or (end is not None and at > end) or (what["kind"] == "touched" and not what["moved"]):
                continue
            if what["kind"] in ("touched", "doffed", "adjusted") and begin and self.is_redonning(protocol, begin, at):
                continue
            out.add("open" if what["kind"] in ("stopped", "distress") else "spoilt", what["kind"])
        out.add("open", *(one["payload"]["kind"] for one in self.of("distress")))
        for makes, kind, key in (
            ("voided", "run_voided", "run_id"),
            ("voided", "detection_mistaken", "run_id"),
            ("voided", "corrected", "void_run"),
            ("refused", "withheld", "run_id"),
        ):
            out.add(makes, *(kind for one in self.of(kind) if one["payload"][key] == run_id))

    def is_redonning(self, protocol: Json, begin: datetime, at: datetime) -> bool:
        seconds, clock = (at - begin).total_seconds() * self.speed, 0.0
        for one in exercises(protocol):
            hold = clock
            for part in one.get("segment", []):
                if part["use"] == "hold":
                    break
                hold += part["seconds"]
            if one.get("redon") and clock <= seconds < hold:
                return True
            clock += one["seconds"]
        return False

    # ---- what the wearer sensed

    def sensed(self, out: Judged, payload: Json, protocol: Json, begin: datetime | None, end: datetime | None) -> None:
        run_id, plan = payload["run_id"], protocol["dosing"]
        closing = [one["id"] for one in self.items if one.get("closes_senses")]
        asked = [moment(one["occurred_at"]) for one in self.of("answered") if one["payload"]["question"] in closing]
        until = min((one for one in asked if end and one >= end), default=None) if closing else end
        for one in self.of("detected"):
            if one["payload"]["about"] == run_id and (until is None or moment(one["occurred_at"]) <= until):
                out.add("low", "sensed")
        if begin is None or end is None:
            out.add("open", "never ended")
            return
        ended = next(one for one in self.of("qualitative_ended") if one["payload"]["run_id"] == run_id)
        off = [moment(one["occurred_at"]) for one in self.of("stopped", "distress") if one["seq"] < ended["seq"]]
        off = [one for one in off if one >= begin]
        seconds = sum(one["seconds"] for one in exercises(protocol))
        if not off and (end - begin).total_seconds() * self.speed < seconds:
            out.add("spoilt", "ended early")
        if not off and ended["payload"]["longest_gap_ms"] > plan["unwatched_max_s"] * 1000:
            out.add("spoilt", "nobody watched")
        out.add("spoilt", *self.doses(run_id, plan, begin, min([end, *off])))
        if plan["proof"] != "none":
            self.whiff(out, run_id, end)

    def whiff(self, out: Judged, run_id: str, end: datetime) -> None:
        """The seal broken on purpose, or the second whiff: sensed, soon, and never once denied."""
        proofs = [one for one in self.of("proof_sensed") if one["payload"]["run_id"] == run_id]
        within = timedelta(seconds=float(self.figure("proof.within") or 10**6) / self.speed)
        if not proofs:
            out.add("open", "no proof")
        elif not all(one["payload"]["sensed"] for one in proofs):
            out.add("denied", "not sensed in the proof")
        elif any(moment(one["occurred_at"]) - end > within for one in proofs):
            out.add("denied", "late proof")

    def doses(self, run_id: str, plan: Json, begin: datetime, end: datetime) -> list[str]:
        given = sorted(
            (moment(one["occurred_at"]) - begin).total_seconds() * self.speed
            for one in self.of("dose_given")
            if one["payload"]["run_id"] == run_id
        )
        due = [plan["every_s"] * n for n in range(1, plan.get("count", 0) + 1)]
        due += [one["at_s"] for one in plan.get("applications", [])[1:]]
        last, left, until = 0.0, given[1:], (end - begin).total_seconds() * self.speed
        for slot in due:
            if slot + plan["late_s"] > until:
                break  # the run was over by then: a run that ended early is void or stopped for that
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

    def afterwards(self, out: Judged, start: Json) -> None:
        """The questions at the end; "not fine" from the start on stands, but for a slip taken back at once."""
        items = {one["id"]: one for one in self.items}
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
                out.add("refused" if item.get("refuses") else "denied", f"not fine: {item['id']}")
        if stop != 10**9:
            out.add("open", "another try was decided on")
        out.add("open", *self.screens(start))
        for item in self.items:
            if item["before"] == "pass" and not item.get("act") and not item.get("when", {}).get("methods"):
                asked = [one for one in mine if one["payload"].get("question") == item["id"]]
                if not asked or asked[-1]["payload"]["answer"] != "fine":
                    out.add("open", f"not asked: {item['id']}")

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
        out += [f"{one.run_id}: {what}" for what in (*unlike_outcome(one, theirs), *unlike_numbers(one, theirs))]
    if record["verdict"]["is_sealed"] and second.signed() != {"wearer", "tester"}:
        out.append("said to be signed by both")
    return out


def unlike_outcome(mine: Judged, theirs: Json) -> list[str]:
    """Where the two outcomes differ, with what each of them rests on."""
    if theirs["outcome"] == mine.outcome:
        return []
    if mine.is_stopped and {theirs["outcome"], mine.outcome} == {"fail", "unfinished"}:
        return []  # whether what was left could still have reached the level is not gone into here: it is no pass
    found = ", ".join(sorted({words for _, words in mine.found})) or "nothing against it"
    return [f"{theirs['outcome']} for {', '.join(theirs['reasons'])}, and here {mine.outcome} for {found}"]


def unlike_numbers(mine: Judged, theirs: Json) -> list[str]:
    """Where fit factors, exactly, or what counting can show, to five digits, differ."""
    if mine.overall is None or theirs["overall"] is None:
        return []
    out = []
    if Fraction(theirs["overall"]) != mine.overall:
        out.append(f"overall {theirs['overall']}, and here {mine.overall}")
    if [Fraction(one["factor"]) for one in theirs["exercises"]] != mine.factors:
        out.append(f"exercises {[one['factor'] for one in theirs['exercises']]}, and here {mine.factors}")
    bounds = [theirs["bound"], *(one["bound"] for one in theirs["exercises"] if mine.bounds)]
    here = [mine.bound, *mine.bounds]
    if not all(is_near(a, b) for a, b in zip(bounds, here, strict=True)):
        out.append(f"lower bounds {bounds}, and here {here}")
    if mine.is_marginal != theirs["is_marginal"]:
        out.append(f"marginal {theirs['is_marginal']}, and here {mine.is_marginal}")
    return out


def is_near(text: str | None, here: float | None) -> bool:
    """Whether a bound written with six digits is the one found here."""
    if text is None or here is None:
        return text is None and here is None
    return abs(float(text) - here) <= 1e-5 * here
