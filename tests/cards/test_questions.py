"""Every question of the procedure as a card: its remedy and source at once, its drawing, on every width."""

from __future__ import annotations

from typing import Any

import pytest

from moorfog.core.rules.book import Rules
from tests.cards.table import Make
from tests.core.bench import Bench, facepiece

PIECES: dict[str, dict[str, Any]] = {
    "half": {"suspension": "drop-down"},
    "full": {"kind": "full", "suspension": "five straps"},
    "clip": {"kind": "disposable_clip", "cover": "front", "filter_kind": "media", "filter_class": "99-type"},
    "fold": {"kind": "disposable_fold", "cover": "front", "filter_kind": "media", "filter_class": "99-type"},
}
for _name in ("clip", "fold"):
    PIECES[_name] |= {"probe": "through", "suspension": "two bands"}
ASKED = {"half": "loose_dropdown", "full": "loose_full", "clip": "clip_ready", "fold": "panels"}


@pytest.mark.parametrize("name", PIECES)
def test_every_question_shows_its_remedy_and_its_source_at_once(table: Make, rules: Rules, name: str) -> None:
    bench, piece, seen = Bench(rules), facepiece(**PIECES[name]), set[str]()
    shown = table(bench)
    while bench.view.queue[0].act != "seal_check":
        card = bench.view.queue[0]
        question = rules.procedure.find(card.id)
        assert question is not None
        if question.act:
            bench.do(question.act, piece)
            continue
        shown.card()
        seen.add(card.id)
        if question.mistake or question.unwell:
            bench.answer(card)
            continue
        shown.page.keyboard.press("n")
        if question.wait:
            shown.page.get_by_text(question.remedy).first.wait_for()
        elif question.gravity != "note":
            alert = shown.page.get_by_role("alert")
            alert.wait_for()
            words = alert.inner_text()
            assert question.remedy in words and question.source in words, card.id
            assert ("Stop" if question.gravity == "stop" else "Put right first") in words, card.id
            assert shown.proposed[-1]["answer"] == "not_fine" and shown.proposed[-1]["question"] == card.id
        else:
            shown.page.locator(f"[data-item='{card.id}']").wait_for(state="detached")
            continue
        bench.answer(bench.view.queue[0] if question.wait else card)
    assert len(seen) >= 25 and {"shave", "medical", "smoking", "chin", ASKED[name]} <= seen


@pytest.mark.parametrize("name", PIECES)
def test_every_card_that_has_a_drawing_shows_it(table: Make, rules: Rules, name: str) -> None:
    bench, piece, seen = Bench(rules), facepiece(**PIECES[name]), set[str]()
    wanted = {one.id for one in rules.procedure.item if one.drawing}
    shown = table(bench, width=820, height=1180)
    while bench.view.queue[0].act != "seal_check":
        card = bench.view.queue[0]
        if card.act:
            bench.do(card.act, piece)
            continue
        shown.card()
        if card.id in wanted:
            drawing = shown.page.locator(".card svg[role='img']").first
            drawing.wait_for()
            width = (drawing.bounding_box() or {"width": 0})["width"]
            assert drawing.get_attribute("aria-label") and width > 140, card.id
            seen.add(card.id)
        assert shown.page.evaluate("document.documentElement.scrollWidth") <= 820, card.id
        bench.answer(card)
    shown.card()
    assert shown.page.locator(".card svg[role='img']").count() == 1
    assert ASKED[name] in seen and len(seen) >= 8 and shown.axe() == []


@pytest.mark.parametrize("status", [401, 429, 500, 502, 504])
def test_a_press_is_kept_until_it_is_stored_or_refused(table: Make, rules: Rules, status: int) -> None:
    """Answered by anybody but the program it is sent again, the same entry with the same time, and stored once."""
    bench = Bench(rules)
    shown = table(bench)
    first = shown.card()
    shown.failures = [status, status]
    shown.page.locator("[data-gate='open']").wait_for()
    shown.page.keyboard.press("y")
    shown.page.get_by_text("The server is away").first.wait_for()
    shown.page.wait_for_function("one => document.querySelector('[data-item]').dataset.item !== one", arg=first)
    assert shown.failures == [] and len(shown.proposed) == 1 and shown.proposed[0]["kind"] == "answered"
