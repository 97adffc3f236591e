"""What the wearer's own screen shows: what to do, which way, when to breathe, how long. No names, no numbers."""

from __future__ import annotations

from dataclasses import dataclass, replace

from moorfog.core.rules.protocols import Cue
from moorfog.core.views.runs import TryView
from moorfog.core.views.telling import MEANS_TO_THE_WEARER, SAID
from moorfog.core.views.visit_view import VisitView


@dataclass(frozen=True)
class WearerExercise:
    """An exercise as the wearer sees it, in ms from t0; ``id`` says how the shape moves."""

    id: str
    words: str
    pace: str
    start_ms: int
    end_ms: int


@dataclass(frozen=True)
class ToSign:
    """What the wearer signs, as it is shown to them: each try in words, what it is good for, the terms, and what it was
    judged by. ``seq``: the entry up to which they have seen it."""

    seq: int
    tries: tuple[str, ...]
    limits: tuple[str, ...]
    terms: str
    under: tuple[str, ...]


@dataclass(frozen=True)
class WearerView:
    """A wearer's screen at a moment. ``button`` is empty where nothing can be sensed; ``about`` is what it is for."""

    seq: int
    at: str
    phase: str
    words: str
    button: str
    about: str
    t0: str | None
    speed: int
    exercises: tuple[WearerExercise, ...]
    cues: tuple[Cue, ...]
    reading: str
    eyes_shut: bool
    is_practice: bool
    to_sign: ToSign | None = None


WAITING = {
    "arrive": "Welcome. Your tester begins with a few questions.",
    "may": "A few questions first.",
    "size": "We choose your mask.",
    "don": "Wear it for a while. Breathe as you always do.",
    "seal": "Check the seal with your own hands.",
    "test": "It starts soon. Hands off the mask.",
    "result": "Done. Wait for your tester.",
    "back": "Nearly there. Everything is put back.",
}
NOT_ON_YET = "Have your gear ready. You put the mask on yourself."


def wearer_view(shown: VisitView) -> WearerView:
    """Return what the wearer sees of a visit."""
    run, screening = shown.run, shown.screening
    if shown.closed:
        return _view(shown, "over", "Thank you. You are done here.")
    if run is None and screening is not None and screening.id:
        words = "Two jars. Which one smells?" if screening.by == "jars" else "Say when you notice it."
        button = "" if screening.by == "jars" else screening.wearer
        return _view(shown, "screening", words, button, screening.id, screening.by == "whiff")
    if run is None and shown.tries and any(one.closes_senses for one in shown.queue):
        words = "Did you notice anything, even just now?"
        return _view(shown, "after", words, "Yes, I noticed it", shown.tries[-1].run_id)
    if run is None and shown.verdict in MEANS_TO_THE_WEARER and not shown.distress and shown.step == "result":
        senses = shown.tries[-1].senses
        said = senses is not None and senses.detected_by == "wearer"
        return _view(shown, "result", SAID if said else MEANS_TO_THE_WEARER[shown.verdict])
    if run is None and shown.queue and shown.queue[0].act == "sign_wearer":
        return replace(
            _view(shown, "sign", "Read it through. If it is right, type your name."), to_sign=_to_sign(shown)
        )
    if run is None:
        is_bare = shown.step == "don" and shown.worn_since is None
        return _view(shown, "wait", NOT_ON_YET if is_bare else WAITING.get(shown.step, "Wait for your tester."))
    sensing = run.sensing
    exercises = tuple(
        WearerExercise(id=one.id, words=one.wearer, pace=one.pace, start_ms=one.start_ms, end_ms=one.end_ms)
        for one in run.exercises
    )
    return WearerView(
        seq=shown.seq,
        at=shown.at,
        phase="run",
        words=exercises[0].words if exercises else "",
        button=sensing.wearer if sensing is not None else "",
        about=run.run_id if sensing is not None else "",
        t0=run.t0,
        speed=shown.speed,
        exercises=exercises,
        cues=run.cues,
        reading=sensing.reading if sensing is not None else "",
        eyes_shut=sensing.eyes_shut if sensing is not None else False,
        is_practice=shown.is_practice,
    )


def _to_sign(shown: VisitView) -> ToSign:
    return ToSign(
        seq=shown.seq,
        tries=tuple(_try_words(one) for one in shown.tries),
        limits=shown.limits_of_use,
        terms=shown.terms,
        under=shown.signed_under,
    )


def _try_words(one: TryView) -> str:
    number = f", overall {one.overall}, level {one.level}" if one.overall else ""
    return f"Try {one.no}, {one.facepiece} {one.size}: {one.outcome}{number}{', marginal' if one.is_marginal else ''}"


def _view(
    shown: VisitView, phase: str, words: str, button: str = "", about: str = "", eyes_shut: bool = False
) -> WearerView:
    return WearerView(
        seq=shown.seq,
        at=shown.at,
        phase=phase,
        words=words,
        button=button,
        about=about,
        t0=None,
        speed=shown.speed,
        exercises=(),
        cues=(),
        reading="",
        eyes_shut=eyes_shut,
        is_practice=shown.is_practice,
    )
