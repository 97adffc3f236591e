"""Judgement: what stands between this person and a pass, what comes next, and the outcome of each try."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Literal, NamedTuple

from moorfog.core.advice.methods import method_stands
from moorfog.core.advice.protection import protection, suffices
from moorfog.core.events.facts import Clearance, Facepiece
from moorfog.core.rules.book import Book, Gravity, Item
from moorfog.core.rules.reason import Reason
from moorfog.core.rules.validity import valid_until
from moorfog.core.visit.denials import denial_reason
from moorfog.core.visit.screens import AWAITED, screen_reasons
from moorfog.core.visit.state import (
    Outcome,
    Try,
    Visit,
    facts_digest,
    items_that_apply,
    seal_fails,
    seal_holds,
    seal_rule,
    seals_allowed,
)
from moorfog.core.visit.tries import withheld_reason

Status = Literal["done", "open", "waiting", "not_fine"]
ACT_WORDS = {
    "choose_task": "The task is not chosen",
    "choose_facepiece": "Facepiece and size not chosen",
    "choose_method": "How it is tested is not chosen",
    "screen": "Not screened: threshold, jars or weak whiff",
    "fit_probe": "Probe not fitted",
    "don": "Not donned by the wearer",
    "seal_check": "User seal check not done",
    "run": "The fit test itself",
    "proof": "Seal-break proof",
    "doff": "Still wearing it",
    "put_back": "Not everything is put back",
    "sign_wearer": "The wearer has not signed",
    "sign_tester": "The tester has not signed",
    "release": "Not released",
    "mistaken": "Opened for the wrong person: not ended yet",
}


class StepState(NamedTuple):
    """Where one item of the procedure stands. ``until`` is set while it only waits for time to pass."""

    item: Item
    status: Status
    until: datetime | None = None


@dataclass(frozen=True)
class Block:
    """One thing between this person and a pass, in words; ``keys``: the values of the rule book it rests on."""

    code: str
    sentence: str
    detail: str
    gravity: Gravity | Literal["unanswered", "waiting"]
    until: datetime | None = None
    keys: tuple[str, ...] = ()


def _waited_until(visit: Visit, item: Item) -> datetime | None:
    answer = visit.answers.get(item.id)
    if answer is None or not item.wait or answer.answer == "fine" or answer.minutes_ago is None:
        return None
    minutes = visit.rules.book.number(item.wait)
    return visit.after(answer.at, float(minutes - answer.minutes_ago) * 60)


def _ran_or(done: Callable[[Visit], bool]) -> Callable[[Visit], bool]:
    """Return a check of an act that counts as done once the run of the attempt has started."""
    return lambda visit: visit.current_try is not None or done(visit)


SIGNATURES = ("sign_wearer", "sign_tester")
_ACT_DONE: dict[str, Callable[[Visit], bool]] = {
    "choose_task": lambda visit: visit.task is not None,
    "choose_facepiece": lambda visit: visit.facepiece is not None,
    "choose_method": _ran_or(lambda visit: visit.method != "" and not method_blocked_by(visit)),
    "screen": _ran_or(lambda visit: visit.screening is not None and visit.screening.is_passed),
    "fit_probe": _ran_or(lambda visit: visit.chosen > 0 and visit.probe_fitted_for == visit.chosen),
    "don": _ran_or(lambda visit: visit.worn_since is not None and visit.unaided),
    "seal_check": _ran_or(lambda visit: visit.worn_since is not None and seal_holds(visit)),
    "run": lambda visit: visit.current_try is not None and not visit.current_try.is_running,
    "proof": lambda visit: visit.current_try is not None and visit.current_try.proof is not None,
    "doff": lambda visit: visit.worn_since is None,
    "put_back": lambda visit: not visit.loops,
    "sign_wearer": lambda visit: is_signed_by(visit, "wearer"),
    "sign_tester": lambda visit: is_signed_by(visit, "tester"),
    "release": lambda visit: bool(visit.closed),
    "mistaken": lambda visit: bool(visit.closed),
}


def method_blocked_by(visit: Visit) -> str:
    """Return why the method chosen does not suit facepiece, task, book or person any more, or nothing."""
    if visit.facepiece is None or not visit.method:
        return ""
    found: str | None = visit.memo.get("method_blocked_by")
    if found is None:
        task, book = visit.task, visit.rules.book
        required = protection(task, book).required if task is not None else None
        found = visit.memo["method_blocked_by"] = method_stands(
            visit.method, visit.facepiece, visit.rules, required, visit.out
        )
    return found


def is_signed_by(visit: Visit, role: str) -> bool:
    """True if ``role`` has signed the present revision."""
    return any(one.role == role and one.revision == visit.revision for one in visit.signatures)


def is_signed(visit: Visit) -> bool:
    """True if wearer and tester have both signed the present revision; only then is a result usable."""
    return is_signed_by(visit, "wearer") and is_signed_by(visit, "tester")


def is_under_question(visit: Visit) -> bool:
    """True once something was heard after the record was closed that made a try worse, until a tester has settled it
    in a correction that both have signed."""
    return bool(visit.questions) and not (visit.revision > visit.questioned_in and is_signed(visit))


def step_state(visit: Visit, item: Item, now: datetime) -> StepState:
    """Return where ``item`` stands at ``now``. A stale answer is an open question."""
    if item.act:
        done = _ACT_DONE[item.act](visit)
        clear = visit.clear_at() if item.act == "screen" and not done else None
        if clear is not None and now < clear:
            return StepState(item, "waiting", clear)
        return StepState(item, "done" if done else "open")
    answer = visit.answers.get(item.id)
    if answer is None or answer.facts != facts_digest(visit, item):
        return StepState(item, *_unanswered(visit, item, now))
    if answer.answer == "fine" or item.gravity == "note":
        return StepState(item, "done")
    waited = _waited_until(visit, item)
    if waited is not None:
        return StepState(item, "done") if now >= waited else StepState(item, "waiting", waited)
    return StepState(item, "not_fine")


def _unanswered(visit: Visit, item: Item, now: datetime) -> tuple[Status, datetime | None]:
    """Return whether an open question can be asked at ``now``, or waits for a clock and until when."""
    if visit.current_try is None:
        for waits, ready in ((item.after_wear, visit.wear_ready_at), (item.after_clear, visit.clear_at)):
            until = ready() if waits else None
            if waits and (until is None or now < until):
                return "waiting", until
    return "open", None


def step_states(visit: Visit, now: datetime) -> tuple[StepState, ...]:
    """Return every item that applies, in the procedure's order, with where it stands at ``now``."""
    kept: tuple[datetime, tuple[StepState, ...]] | None = visit.memo.get("standings")
    if kept is not None and kept[0] == now:
        return kept[1]
    found = tuple(step_state(visit, item, now) for item in items_that_apply(visit))
    visit.memo["standings"] = (now, found)  # of the last moment only: a state may be asked for hours
    return found


def run_blocks(visit: Visit, now: datetime) -> list[Block]:
    """Return what forbids starting a run at ``now``: stops, things to put right, unanswered questions, clocks."""
    out = _visit_blocks(visit)
    if visit.closed:
        out.append(Block("closed", "This visit is closed", "start a new one", "stop"))
    for one in step_states(visit, now):
        if one.item.before == "run" and one.item.act != "run" and one.status != "done":
            out.append(_block(visit, one))
    ready = visit.wear_ready_at()
    if visit.worn_since is not None and ready is not None and now < ready:
        worn = f"Worn less than {visit.rules.book.minutes('wear.minimum')} minutes"
        out.append(
            Block(
                code="wear",
                sentence=worn,
                detail="the clock runs",
                gravity="waiting",
                until=ready,
                keys=("wear.minimum",),
            )
        )
    out += _piece_blocks(visit)
    words = {one.id: one for one in visit.rules.procedure.loop}
    for loop in visit.loops:
        if visit.current_try is None and loop.rule in words and words[loop.rule].before == "run":
            out.append(Block(f"loop_{loop.rule}", words[loop.rule].opened, words[loop.rule].put_back, "put_right"))
    return out


def _visit_blocks(visit: Visit) -> list[Block]:
    out: list[Block] = []
    if visit.opened is None:
        out.append(Block("not_opened", "This visit was never opened", "", "stop"))
    elif not visit.rules_match:
        out.append(
            Block(
                "rules_differ", "The rules at hand are not those pinned to this visit", "restore the pinned set", "stop"
            )
        )
    if visit.wrong_person:
        out.append(Block("wrong_person", "Opened for the wrong person", "end it, open the right one", "stop"))
    out += file_blocks(visit) + work_blocks(visit)
    if visit.distress:
        out.append(DISTRESS)
    if visit.turned_away:
        out.append(Block("turned_away", "Turned away today", visit.turned_away, "stop"))
    return out


MEDICAL = ("medical.required", "medical.kept_at")
TRAINING = ("training.required", "training.interval", "training.kept_at")
"""What the book says of the person's file."""


def file_blocks(visit: Visit) -> list[Block]:
    """Return what the person's file rules out: clearance and training; medical detail is never known here.

    A book from before the file was asked for (no ``medical.kept_at``) lets a file that is not there pass, as it did.
    """
    out: list[Block] = []
    file, piece, book = visit.file, visit.facepiece, visit.rules.book
    clearance, day = (file.clearance, file.on) if file is not None else (None, "")
    if clearance is None:
        if is_file_missing(book, "medical"):
            sentence = "No clearance on file, and this rule book asks for one before any fit test"
            remedy = "put it on file; or the site states in writing where it keeps it"
            out.append(Block("no_clearance", sentence, remedy, "stop", keys=MEDICAL))
    else:
        out += [Block(*why, "stop", keys=("medical.required",)) for why in clearance_blocks(clearance, day, piece)]
    trained = trained_until(book, file.trained_on if file is not None else "", day)
    if trained == "" and is_file_missing(book, "training"):
        sentence = "No training on file that still counts, and this rule book asks for it"
        remedy = "train now and put it on file; or the site states in writing where it keeps it"
        out.append(Block("no_training", sentence, remedy, "put_right", keys=TRAINING))
    return out


def clearance_blocks(clearance: Clearance, day: str, piece: Facepiece | None) -> list[tuple[str, str, str]]:
    """Return why a clearance does not allow a facepiece on a day: code, sentence, what to do; nothing where it does."""
    if clearance.status != "cleared":
        return [("clearance", f"On file: {clearance.status} for a respirator", "refer to the clinician")]
    if clearance.valid_until and clearance.valid_until < day:
        return [("clearance", f"Clearance ran out on {clearance.valid_until}", "refer to the clinician")]
    if clearance.valid_from > day:
        return [("clearance", f"Cleared only from {clearance.valid_from}", "come back then")]
    limit = clearance.rules_out(piece) if piece is not None else ""
    return [("clearance_limit", f"The clearance says: {limit}", "choose another kind, or refer")] if limit else []


def is_file_missing(book: Book, what: str) -> bool:
    """True where a book requires a file (``medical`` or ``training``) and the site has not said where else it is."""
    kept = book.find(f"{what}.kept_at")
    return kept is not None and book.yes(f"{what}.required") is True and not book.text(f"{what}.kept_at").strip()


def trained_until(book: Book, trained_on: str, day: str) -> str:
    """Return until when a training counts, YYYY-MM-DD, or nothing where there is none, it lies ahead of ``day``, or it
    no longer counts on it. A book without ``training.interval`` has it count for good (9999)."""
    if not trained_on or trained_on > day:
        return ""
    months = book.ratio("training.interval")
    try:
        until = valid_until(date.fromisoformat(trained_on), int(months)).isoformat() if months else "9999-12-31"
    except ValueError:
        return ""
    return until if day <= until else ""


def work_blocks(visit: Visit) -> list[Block]:
    """Return why the set-up, as it is worn at work, is not enough for the task; nothing before both are chosen."""
    task, piece = visit.task, visit.facepiece
    if task is None or piece is None:
        return []
    verdict = suffices(task, visit.rules.book, piece)
    if verdict.suffices == "yes":
        return []
    return [
        Block(
            "protection",
            f"Not enough for {task.name}: {verdict.why}",
            "choose one that suffices",
            "stop",
            keys=(piece.traits.apf,),
        )
    ]


SPECTACLES = "spectacles"
"""Gear whose bars go under the seal of a full facepiece. 29 CFR 1910.134 (g)(1)(ii) (recalled)."""


def _piece_blocks(visit: Visit) -> list[Block]:
    piece = visit.facepiece
    if piece is None:
        return []
    out: list[Block] = []
    if visit.rules.book.ratio(piece.level_key) is None:
        sentence = f"{visit.rules.book.title} states no pass level for this kind here"
        out.append(
            Block(
                "level_blank",
                sentence,
                "enter it under Rule books, from your own copy",
                "stop",
                keys=(piece.level_key,),
            )
        )
    if piece.level_key == "level.full" and SPECTACLES in piece.ppe:
        sentence = "Spectacle bars under the seal of a full facepiece"
        out.append(Block("temple_bars", sentence, "an insert or contact lenses; choose it again without", "stop"))
    if visit.current_try is None and seal_fails(visit) >= seals_allowed(visit):
        out.append(
            Block(
                "seal_limit",
                f"The seal check leaked {seal_fails(visit)} times",
                "another facepiece",
                "stop",
                keys=("seal_check.repeats",),
            )
        )
    limit = visit.rules.book.number("tries.per_facepiece")
    made = visit.tries_with(piece)
    if made >= limit and visit.current_try is None:
        out.append(
            Block(
                "tries",
                f"{made} tries on this facepiece",
                "choose another facepiece or size",
                "stop",
                keys=("tries.per_facepiece",),
            )
        )
    return out


def _block(visit: Visit, one: StepState) -> Block:
    item = one.item
    if item.act and one.status == "waiting":
        return Block(code=item.id, sentence=item.title, detail="the clock runs", gravity="waiting", until=one.until)
    if item.act:
        if item.act == "choose_method" and method_blocked_by(visit):
            return Block(item.id, f"Not by this method: {method_blocked_by(visit)}", "choose another", "put_right")
        if item.act == "seal_check" and seal_rule(visit) is None and visit.facepiece is not None:
            return Block("no_seal_rule", "No seal check is known for this facepiece", "choose another", "stop")
        if item.act == "seal_check" and seal_fails(visit):
            return Block(
                item.id,
                f"Seal check leaked, {seal_fails(visit)} so far",
                "refit and check again, or another facepiece",
                "put_right",
            )
        if item.act == "don" and visit.worn_since is not None and not visit.unaided:
            return Block(
                item.id, "The wearer had help putting it on", "take it off; the wearer dons it alone", "put_right"
            )
        return Block(item.id, ACT_WORDS[item.act], "", "unanswered")
    if one.status == "waiting" and one.until is not None and not item.after_wear:
        return Block(code=item.id, sentence=item.title, detail="the clock runs", gravity="waiting", until=one.until)
    if one.status == "not_fine":
        return Block(item.id, item.title, item.remedy, item.gravity)
    return Block(item.id, item.title, "not asked yet" if item.mode == "ask" else "not looked at yet", "unanswered")


DISTRESS = Block("distress", "Distress: no more testing today", "wearer out first, then the clinician decides", "stop")


def pass_blocks(visit: Visit, now: datetime) -> list[Block]:
    """Return everything between this person and a pass at ``now``; empty only when nothing is."""
    current = visit.current_try
    if visit.distress:
        return [DISTRESS]
    if current is None or current.is_running:
        out = run_blocks(visit, now) if current is None else _visit_blocks(visit)
        out.append(Block("run", ACT_WORDS["run"], "" if current is None else "running", "unanswered"))
        later = [one for one in visit.rules.procedure.item if one.id == "after_comfort"]
        return out + [Block(one.id, "Comfort, asked again at the end", "", "unanswered") for one in later]
    result, reasons = outcome(visit, current)
    if result == "pass":
        return []
    if awaits_readings(visit, current):
        return [Block(one.code, one.sentence, "a moment", "waiting") for one in reasons]
    return [
        Block(one.code, one.sentence, one.remedy, "waiting" if one.code == AWAITED else one.gravity)
        for one in reasons
        if one.gravity != "note"
    ] + _visit_blocks(visit)


def awaits_readings(visit: Visit, one: Try) -> bool:
    """True while a stopped run's last readings are still to come and nothing else has decided it."""
    return one.is_sealing and outcome(visit, one)[0] == "unfinished"


def waits_for_screens(visit: Visit) -> bool:
    """True while nothing but presses that a screen may still hold keeps the last try from its verdict."""
    current = visit.current_try
    if current is None or current.is_running or not any(one.state == "awaited" for one in current.screens):
        return False
    return outcome(visit, current)[0] == "unfinished"


def outcome(visit: Visit, one: Try) -> tuple[Outcome, tuple[Reason, ...]]:
    """Return the outcome of a try with its reasons. Anything unknown leaves it unfinished, never passed."""
    if one.voided:
        return "void", (
            Reason(code="voided", sentence=one.voided, rule="", gravity="put_right", remedy="Repeat the run."),
        )
    if one.final is not None:
        return one.final
    if one.blocking:
        return "void", (
            Reason(
                code="started_against_gates",
                sentence="Started while something stood against it: " + ", ".join(one.blocking) + ".",
                rule="gates come before the run",
                gravity="stop",
                remedy="Settle it, then run again.",
            ),
        )
    numbers, denials = one.numbers, _denials(visit, one)
    if numbers.state == "below" and (one.sensed is not None or not one.broken):
        return "fail", numbers.reasons
    refused = tuple(why for item, why in denials if item.refuses)
    if refused:
        return "fail", refused + one.remarks
    if one.withheld and not one.is_running:
        return "fail", (withheld_reason(one.withheld),)
    if one.broken:
        return "void", one.broken + one.remarks
    if denials:
        return "void", tuple(why for _, why in denials) + one.remarks
    if numbers.state == "void":
        return "void", numbers.reasons
    if one.is_running:
        return "unfinished", (Reason("running", "The run is going on.", "", "put_right"),)
    if one.is_sealing:
        return "unfinished", (Reason("sealing", "Stopped. The last readings are coming in.", "", "put_right"),)
    if numbers.state not in ("reached", "held") or one.stopped or one.distress:
        why = "Stopped in distress." if one.distress else "Stopped before the end."
        remedy = "Nothing more today: the clinician decides." if visit.distress else "Start a new try."
        return "unfinished", (
            Reason(
                code="stopped",
                sentence=why,
                rule="no verdict without all exercises",
                gravity="put_right",
                remedy=remedy,
            ),
        )
    return _after_numbers(visit, one)


def _denials(visit: Visit, one: Try) -> tuple[tuple[Item, Reason], ...]:
    """Return what was answered "not fine" from the start of the run on, with the words for it."""
    found = ((each, visit.rules.procedure.find(each.question)) for each in one.denials)
    return tuple((item, denial_reason(visit, item)) for _, item in found if item is not None)


PROVED = ("proof.rise", "proof.within", "proof.still", "proof.mean")
"""What a proof of a held verdict rests on."""


def _after_numbers(visit: Visit, one: Try) -> tuple[Outcome, tuple[Reason, ...]]:
    notes = one.numbers.reasons + one.remarks
    if one.numbers.state == "held":
        if one.proof is None:
            return "unfinished", notes
        if not one.proof and one.sensed is not None:
            return "void", (
                Reason(
                    code="not_sensed",
                    sentence=one.proof_reason
                    or "The proof failed: the agent was there and was not sensed: the run shows nothing.",
                    rule="seal break or second whiff after a run without detection",
                    gravity="put_right",
                    remedy="Screen again before the next try, or test by another method.",
                    keys=("proof.within",),
                ),
            )
        if not one.proof:
            return "void", (
                Reason(
                    code="blocked_line",
                    sentence=one.proof_reason
                    or "Seal broken on purpose and the number did not rise: the line is blocked.",
                    rule="held verdict, common practice",
                    gravity="put_right",
                    remedy="Clear the line, then repeat.",
                    keys=("proof.rise", "proof.within"),
                ),
            )
        proved = f"Held, then proved by breaking the seal on purpose: {one.proof_reason}."
        shown = (
            (Reason("proved", proved, "held verdict, common practice", "note", keys=PROVED),)
            if one.proof_reason
            else ()
        )
        notes = (*(note for note in notes if note.code != "near_zero"), *shown)
    if visit.attempt != one.attempt:
        return "unfinished", (
            *notes,
            Reason(
                "left_open", "The questions at the end were never answered.", "unknown is never a pass", "put_right"
            ),
        )
    open_ones = list(screen_reasons(visit, one))
    moment = visit.last_at or one.started_at
    for item in items_that_apply(visit):
        if item.act or item.before == "release":
            continue
        here = step_state(visit, item, moment)
        if here.status == "done":
            continue
        sentence = f"{item.title} Not fine." if here.status == "not_fine" else f"{item.title} Not asked yet."
        open_ones.append(
            Reason(
                code=item.id,
                sentence=sentence,
                rule=item.source,
                gravity="stop" if here.status == "not_fine" and item.gravity == "stop" else "put_right",
                remedy=item.remedy,
                keys=item.keys,
            )
        )
    for block in _visit_blocks(visit):
        open_ones.append(
            Reason(
                code=block.code, sentence=block.sentence, rule="", gravity="stop", remedy=block.detail, keys=block.keys
            )
        )
    if open_ones:
        return "unfinished", tuple(open_ones) + notes
    return "pass", notes


def needs_decision(visit: Visit) -> bool:
    """True when the attempt's run is over without a pass and the tester has not said what comes next.

    After distress, and for the wrong person, there is nothing to decide: they are looked after, and the visit ends.
    """
    current = visit.current_try
    if current is None or current.is_running or visit.ending or visit.closed or visit.distress or visit.wrong_person:
        return False
    result, reasons = outcome(visit, current)
    if result == "unfinished":
        return current.numbers.state not in ("reached", "held") or any(reason.gravity == "stop" for reason in reasons)
    return result != "pass"


def queue(visit: Visit, now: datetime) -> list[StepState]:
    """Return the items that can be dealt with now, in order: everything open up to the next undone act.

    Items that only wait for time do not hold up what follows, except the run itself, a screening while something
    eaten is in the mouth, and donning before what was sensed has cleared.
    """
    if visit.closed:
        return []
    out: list[StepState] = []
    only_back = visit.ending or bool(visit.turned_away) or visit.distress or visit.wrong_person
    every = [one for one in step_states(visit, now) if not only_back or one.item.before == "release"]
    if visit.wrong_person:
        every = [one for one in every if one.item.act in ("doff", "put_back", "mistaken")]
    if not only_back:
        stops = [one for one in every if one.status == "not_fine" and one.item.gravity == "stop"]
        if stops:
            return stops
    waiting: list[Item] = []
    for one in every:
        if one.status == "waiting":
            waiting.append(one.item)
        if one.status in ("done", "waiting"):
            continue
        if one.item.act == "run" and run_blocks(visit, now):
            break
        if _is_held_up(one.item, waiting) or (one.item.act in SIGNATURES and waits_for_screens(visit)):
            break
        out.append(one)
        if one.item.act:
            break
    return out


def _is_held_up(item: Item, waiting: list[Item]) -> bool:
    if item.act == "screen":
        return any(one.wait for one in waiting)
    return item.act == "don" and any(one.after_clear for one in waiting)


def changes_at(visit: Visit, now: datetime) -> datetime | None:
    """Return the next moment after ``now`` at which the view changes by time alone."""
    moments = [one.until for one in step_states(visit, now) if one.until is not None and one.until > now]
    ready = visit.wear_ready_at()
    if ready is not None and ready > now:
        moments.append(ready)
    if visit.running is not None:
        moments += [one for one in _run_moments(visit, visit.running) if one > now]
    return min(moments, default=None)


def _run_moments(visit: Visit, one: Try) -> list[datetime]:
    """Return when a running run changes by time alone: its start, its end, each dose that is missed by then."""
    protocol, end = visit.rules.protocol(one.started.protocol_id), visit.run_ends_at(one)
    if protocol is None or one.t0 is None or end is None:
        return []
    soon = timedelta(milliseconds=50)
    late = protocol.dosing.late_s if protocol.dosing is not None else 0
    slots = protocol.slots(one.sensed.threshold) if one.sensed is not None else ()
    return [one.t0, end + soon, *(visit.after(one.t0, slot.at_ms / 1000 + late) + soon for slot in slots)]


def step_of(visit: Visit, now: datetime) -> str:
    """Return the waymark the visit stands at."""
    if visit.closed:
        return "back"
    if visit.running is not None:
        return "test"
    if visit.screening_running is not None:
        return "size"
    if needs_decision(visit):
        return "result"
    if waits_for_screens(visit) and not queue(visit, now):
        return "back"
    ahead = queue(visit, now)
    if ahead:
        return ahead[0].item.step
    waiting = [one for one in step_states(visit, now) if one.status == "waiting"]
    return waiting[0].item.step if waiting else "test"
