"""A try only gets worse: "not fine" from the start of its run on stands, whatever is answered later."""

from __future__ import annotations

from datetime import timedelta

from moorfog.core.kernel.replacing import replace
from moorfog.core.rules.book import Item
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.state import Answer, Denial, Try, Visit
from moorfog.core.visit.tries import worsen

SLIP = "slip.maximum"
"""The book's seconds within which a slip of the finger can be taken back."""


def is_slip(visit: Visit, before: Answer | None, answer: Answer) -> bool:
    """True if ``answer`` takes back a slip of the finger: the same question, account and screen, within the book's
    seconds. ``before`` is the entry just before it, None where that was no answer. A book that states no seconds, and a
    screen that is not known, allow none."""
    seconds = visit.rules.book.ratio(SLIP)
    if before is None or seconds is None or not answer.screen:
        return False
    is_same = (before.question, before.actor, before.screen) == (answer.question, answer.actor, answer.screen)
    return is_same and timedelta() <= answer.at - before.at <= timedelta(seconds=float(seconds))


def denied(visit: Visit, item: Item, answer: Answer, before: Answer | None) -> Visit:
    """Return the visit with what an answer does for good: to the try of the present attempt, and to every try where
    it says something of the person that ends all testing."""
    if before is not None and before.answer == "not_fine" and is_slip(visit, before, answer):
        visit = _taken_back(visit, item, before)
    if answer.answer != "not_fine":
        return visit
    if item.mistake:
        visit = replace(visit, wrong_person=True)
    if item.unwell:
        visit = replace(visit, distress=True)
    if item.before == "release" or item.gravity == "note":
        return visit
    is_of_person = item.before == "run" and item.gravity == "stop" and not item.depends_on
    current = visit.current_try
    tries = tuple(
        _deny(visit, item, one, answer) if is_of_person or (current is not None and one.no == current.no) else one
        for one in visit.tries
    )
    return replace(visit, tries=tries)


def _taken_back(visit: Visit, item: Item, slip: Answer) -> Visit:
    tries = tuple(
        replace(one, denials=tuple(each for each in one.denials if each.seq != slip.seq)) for one in visit.tries
    )
    return replace(visit, tries=tries, wrong_person=visit.wrong_person and not item.mistake)


def _deny(visit: Visit, item: Item, one: Try, answer: Answer) -> Try:
    if item.wait and answer.minutes_ago is not None:
        waited = timedelta(minutes=float(visit.rules.book.number(item.wait)) - answer.minutes_ago)
        if answer.at + waited / visit.speed <= one.started_at:
            return one  # long enough ago when the run began
    denial = Denial(answer.question, answer.at, answer.seq)
    why = denial_reason(visit, item)
    return worsen(replace(one, denials=(*one.denials, denial)), "fail" if item.refuses else "void", why)


def denial_reason(visit: Visit, item: Item) -> Reason:
    """Return the words for a question that was answered "not fine" once the run had begun."""
    return Reason(
        code=item.id,
        sentence=f"{item.title} Not fine, said after the run had begun.",
        rule=item.source,
        gravity="stop" if item.refuses or item.gravity == "stop" else "put_right",
        remedy=item.remedy,
        keys=item.keys,
    )
