"""Blocks: everything that forbids a run, or stands between this person and a pass, in words."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Literal

from moorfog.core.advice.protection import suffices
from moorfog.core.events.facts import Clearance, Facepiece
from moorfog.core.rules.book import Book, Gravity
from moorfog.core.rules.validity import valid_until
from moorfog.core.visit.seals import seal_fails, seal_rule, seals_allowed
from moorfog.core.visit.state import Visit
from moorfog.core.visit.steps import StepState, method_blocked_by, step_states

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


@dataclass(frozen=True)
class Block:
    """One thing between this person and a pass, in words; ``keys``: the values of the rule book it rests on; ``rule``:
    what it rests on where it is no value of a book."""

    code: str
    sentence: str
    detail: str
    gravity: Gravity | Literal["unanswered", "waiting"]
    until: datetime | None = None
    keys: tuple[str, ...] = ()
    rule: str = ""


def run_blocks(visit: Visit, now: datetime) -> list[Block]:
    """Return what forbids starting a run at ``now``: stops, things to put right, unanswered questions, clocks."""
    out = visit_blocks(visit)
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
    words = {one.id: one for one in visit.rules.procedure.alteration}
    for alteration in visit.alterations:
        if visit.current_try is None and alteration.rule in words and words[alteration.rule].before == "run":
            out.append(
                Block(
                    f"altered_{alteration.rule}",
                    words[alteration.rule].opened,
                    words[alteration.rule].put_back,
                    "put_right",
                )
            )
    return out


PINNED = "a visit is judged by the rules pinned when it was opened"
UNSETTLED_REMEDY = "an administrator enters it anew under Rule books; then a new visit"


def visit_blocks(visit: Visit) -> list[Block]:
    """Return what keeps the whole visit from a pass: rules, person, file, task, distress, turned away."""
    out: list[Block] = []
    if visit.opened is None:
        out.append(Block("not_opened", "This visit was never opened", "", "stop", rule=PINNED))
    elif not visit.rules_match:
        out.append(
            Block(
                "rules_differ",
                "The rules at hand are not those pinned to this visit",
                "restore the pinned set",
                "stop",
                rule=PINNED,
            )
        )
    if visit.rules.book.unsettled:
        sentence = f"The site’s own entry for {', '.join(visit.rules.book.unsettled)} cannot be read"
        out.append(Block("unsettled", sentence, UNSETTLED_REMEDY, "stop", keys=visit.rules.book.unsettled))
    if visit.wrong_person:
        sentence = "Opened for the wrong person"
        out.append(Block("wrong_person", sentence, "end it, open the right one", "stop", rule="one visit, one person"))
    out += file_blocks(visit) + work_blocks(visit)
    if visit.distress:
        out.append(DISTRESS)
    if visit.turned_away:
        out.append(
            Block("turned_away", "Turned away today", visit.turned_away, "stop", rule="the tester's own decision")
        )
    return out


def known_before_worn(visit: Visit) -> list[Block]:
    """Return the stops that file, task and facepiece alone make: whatever is asked besides, no run starts with them."""
    if visit.facepiece is None or visit.current_try is not None:
        return []
    return [one for one in (*file_blocks(visit), *work_blocks(visit), *_piece_blocks(visit)) if one.gravity == "stop"]


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
    if piece.traits.outline == "full" and SPECTACLES in piece.ppe:
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


DISTRESS = Block(
    "distress",
    "Distress: no more testing today",
    "wearer out first, then the clinician decides",
    "stop",
    rule="the wearer comes before the test, common practice",
)
