"""A second answer to *may this person wear this set-up at this task on this day*, out of plain facts.

Written from 29 CFR 1910.134 (d) to (f), (k) (recalled) and docs/supervisor.md. It shares no code with the program and
goes the other way about: it strikes out what stands against wearing, day by day, until nothing is left or something is.
"""

from __future__ import annotations

from datetime import date, timedelta
from fractions import Fraction

from moorfog.auditor.log import Json, later
from moorfog.auditor.worked_at import is_enough, stated

SENSED = ("sweet", "bitter", "odour", "smoke")


def value_on(books: list[Json], key: str, day: str) -> Json | None:
    """What a rule is on a day: ``books`` begin on days of their own, the shipped one on none."""
    found = None
    for one in sorted((one for one in books if one["begins"] <= day), key=lambda one: str(one["begins"])):
        found = stated(one["book"], key) or found
    return found


def book_on(books: list[Json], day: str) -> Json:
    """The book that is in force on a day."""
    begun = sorted((one for one in books if one["begins"] <= day), key=lambda one: str(one["begins"]))
    book: Json = begun[-1]["book"]
    return book


def may_on(case: Json, day: str) -> bool:
    """Whether nothing stands against wearing it on a day."""
    book, held, task = book_on(case["books"], day), case["pass"], case["task"]
    if task is None or not is_enough(book, task, held["piece"]):
        return False
    return all(
        (
            held["tested"] <= day <= held["until"],
            in_its_time(book, held, day),
            reaches(book, held),
            within_the_cap(book, held, task),
            not any(ends_it(one, held) for one in case["ends"]),
            not any(doubts_it(one, case, day) for one in case["reports"]),
            is_cleared(case, book, day),
            is_trained(case, book, day),
        )
    )


def in_its_time(book: Json, held: Json, day: str) -> bool:
    months = stated(book, "interval")
    return months is not None and day <= later(date.fromisoformat(held["tested"]), int(months["value"])).isoformat()


def reaches(book: Json, held: Json) -> bool:
    """Level and method of the day: a number reaches the level of the kind, a sense is allowed for it."""
    level, traits = stated(book, held["piece"]["traits"]["level"]), held["piece"]["traits"]
    if level is None or held["protocol"] not in book["protocols"]:
        return False
    is_full, is_negative = traits["level"] == "level.full", traits["pressure"] in ("negative", "demand")
    if held["method"] in SENSED:
        smoke = stated(book, "smoke.allowed")
        if held["method"] == "smoke" and (smoke is None or smoke["value"] is not True):
            return False
        full = stated(book, "qlft.full")
        if is_full and (full is None or full["value"] != "limited"):
            return False
        most = stated(book, "qlft.maximum_factor")
        if is_negative and not is_full:
            return most is not None and Fraction(level["value"]) <= Fraction(most["value"])
        return True
    each = stated(book, "judged_by")
    if each is None or held["overall"] is None or held["lowest"] is None:
        return False
    figure = held["overall"] if each["value"] == "overall" else min(held["overall"], held["lowest"])
    return bool(figure >= Fraction(level["value"]))


def within_the_cap(book: Json, held: Json, task: Json) -> bool:
    """Ten times the limit, or what the book has instead, for a negative-pressure full facepiece by the senses."""
    traits = held["piece"]["traits"]
    caps = [held["up_to"]] if held["up_to"] is not None else []
    if held["method"] in SENSED and traits["level"] == "level.full" and traits["pressure"] in ("negative", "demand"):
        now = stated(book, "qlft.full_up_to")
        caps.append(Fraction(now["value"]) if now is not None else Fraction(10))
    ratio = max(Fraction(one["concentration"]) / Fraction(one["limit"]) for one in task["contaminants"])
    return not caps or ratio <= min(caps)


def ends_it(one: Json, held: Json) -> bool:
    if one["no"]:
        return bool(one["no"] == held["no"])
    return bool(one["set_up"] == held["set_up"] and one["at"] > held["at"])


def doubts_it(one: Json, case: Json, day: str) -> bool:
    held = case["pass"]
    if one["set_up"] not in ("", held["set_up"]):
        return False
    if one["kind"] != "health":
        return bool(one["at"] >= held["at"])
    return not any(filed > one["at"] and one["on"] <= begins <= day for filed, begins in case["words"])


def is_cleared(case: Json, book: Json, day: str) -> bool:
    """The newest decision by its own day, of one day the one filed last; one that begins later says nothing yet."""
    begun = [(one["from"], n, one) for n, one in enumerate(case["clearances"]) if one["from"] <= day]
    if not begun:
        return not case["clearances"] and stated(book, "medical.required")["value"] is not True  # type: ignore[index]
    one = max(begun, key=lambda each: each[:2])[2]
    if one["status"] != "cleared" or (one["until"] and one["until"] < day):
        return False
    traits = case["pass"]["piece"]["traits"]
    is_full = traits["level"] == "level.full"
    against = {
        "no full facepiece": is_full,
        "no half facepiece": not is_full and traits["family"] != "disposable",
        "no disposable": traits["family"] == "disposable",
        "powered only": traits["air"] != "purifying" or traits["pressure"] != "continuous",
        "no self-contained": traits["air"] == "self-contained",
        "nothing heavy": traits["air"] == "self-contained",
        "no breathing resistance": traits["pressure"] in ("negative", "demand"),
    }
    return not any(against[limit] for limit in one["limits"])


def is_trained(case: Json, book: Json, day: str) -> bool:
    months, needed = stated(book, "training.interval"), stated(book, "training.required")
    if needed is None or needed["value"] is not True:
        return True
    had = [one for one in case["trained"] if one <= day]
    if not had or months is None:
        return bool(had)
    return day <= later(date.fromisoformat(max(had)), int(months["value"])).isoformat()


def until(case: Json, day: str) -> str:
    """The last day in a row on which it may be worn, by asking for each; empty where it may not be worn now."""
    if not may_on(case, day):
        return ""
    here = date.fromisoformat(day)
    while may_on(case, (here + timedelta(days=1)).isoformat()):
        here += timedelta(days=1)
    return here.isoformat()
