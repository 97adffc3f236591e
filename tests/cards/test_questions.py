"""Every question of the procedure as a card: its remedy and source at once, its drawing, on every width."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from moorfog.core.rules.book import Rules
from tests.cards.table import ORIGIN, Make
from tests.core.bench import Bench, facepiece

PIECES: dict[str, dict[str, Any]] = {
    "half": {"suspension": "drop-down"},
    "full": {"kind": "full", "suspension": "five straps"},
    "clip": {"kind": "disposable_clip", "cover": "front", "filter_kind": "media", "filter_class": "99-type"},
    "fold": {"kind": "disposable_fold", "cover": "front", "filter_kind": "media", "filter_class": "99-type"},
}
for _name in ("clip", "fold"):
    PIECES[_name] |= {"probe": "through", "suspension": "two bands"}
PRESSED_WHILE_SHUT = """() => {
  const isShut = document.querySelector('[data-look]')?.dataset.look === 'shut';
  if (isShut) window.dispatchEvent(new KeyboardEvent('keydown', { key: ' ' }));
  return isShut;
}"""
"""Press Space in the very moment in which a look cannot be settled yet; whether it was so."""
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
        assert shown.cut() == [], card.id
        seen.add(card.id)
        if question.mistake or question.unwell:
            bench.answer(card)
            continue
        if shown.page.locator("[data-look]").count():
            shown.alone()
        else:
            shown.page.keyboard.press("n")
        if question.wait:
            shown.page.get_by_text(question.remedy).first.wait_for()
        elif question.gravity != "note":
            shown.page.locator(f"[data-item='{card.id}']").wait_for()
            alert = shown.page.get_by_role("alert")
            alert.wait_for()
            words = alert.inner_text()
            assert question.remedy in words and question.source in words, card.id
            assert ("Stop" if question.gravity == "stop" else "Put right first") in words, card.id
            assert shown.proposed[-1]["answer"] == "not_fine" and shown.proposed[-1]["question"] == card.id
        else:
            shown.sent()
            assert shown.proposed[-1]["question"] == card.id and shown.proposed[-1]["answer"] == "not_fine"
            continue
        bench.answer(bench.view.queue[0] if question.wait else card)
    assert len(seen) >= 24 and {"shave", "medical", "smoking", "chin", ASKED[name]} <= seen


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
        assert shown.cut() == [], card.id
        if card.id in wanted:
            shown.alone()
            shown.page.locator(f"[data-item='{card.id}']").wait_for()
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


def test_what_lets_no_run_start_is_named_and_no_card_is_cut_under_its_band(table: Make, rules: Rules) -> None:
    """Nobody is trained: a band says so from the beginning on, and takes its room from every card."""
    bench = Bench(rules, trained_on="")
    shown = table(bench)
    band = "No training on file"
    while bench.view.queue or bench.view.changes_at:
        if not bench.view.queue:
            bench.at += timedelta(minutes=1)  # a clock runs
            continue
        card = bench.view.queue[0]
        if card.act:
            bench.do(card.act, facepiece())
            continue
        shown.card()
        shown.page.locator(".away-band", has_text=band).wait_for()
        assert shown.cut() == [], card.id
        bench.answer(card)
    shown.tell()
    stops = shown.page.locator("[data-item='wait'] .stops")
    stops.get_by_text(band).wait_for()
    assert shown.cut() == [] and shown.axe() == []


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


def test_presses_not_sent_are_told_of_at_sign_out_and_go_out_as_whose_they_are(table: Make, rules: Rules) -> None:
    """They outlive the page, are counted on every other one, and nobody sends them for somebody else."""
    shown = table(Bench(rules))
    page = shown.page
    shown.card()
    shown.failures = [502] * 1000
    page.locator("[data-gate='open']").wait_for()
    page.keyboard.press("y")
    page.get_by_text("The server is away").first.wait_for()
    page.goto(f"{ORIGIN}/people")
    page.get_by_text("1 answer has not reached the server").wait_for()
    assert page.title() == "People · Moorfog"
    page.get_by_role("button", name="Sign out").click()
    asked = page.get_by_role("dialog")
    asked.get_by_text("It stays on this device").wait_for()
    assert shown.axe() == []
    asked.get_by_role("button", name="Stay signed in").click()
    asked.wait_for(state="detached")
    shown.session = {**shown.session, "account_id": "h", "name": "Hollis Grey"}
    shown.failures = []
    page.goto(f"{ORIGIN}/visit/v")
    page.get_by_text("Maren Oake pressed keys here").wait_for()
    shown.tell()
    page.locator("[data-item]").wait_for()
    assert shown.proposed == [], "Hollis says nothing in Maren's name"
    shown.session = {**shown.session, "account_id": "t", "name": "Maren Oake"}
    page.goto(f"{ORIGIN}/visit/v")
    shown.sent()
    assert [one["kind"] for one in shown.proposed] == ["answered"]


def test_what_is_looked_at_together_is_settled_with_one_key(table: Make, rules: Rules) -> None:
    """Space says that all of it is as it should be, once it has been there to be read; N asks which one is not."""
    bench = Bench(rules)
    bench.until("hair")
    shown = table(bench)
    shown.card()
    lines = shown.page.locator(".look-lines li")
    assert lines.count() == 5 and shown.axe() == []
    shown.page.reload()
    shown.page.wait_for_selector("[data-look='shut']")
    assert shown.page.evaluate(PRESSED_WHILE_SHUT), "it opened before it could be read"
    shown.page.locator("[data-look='open']").wait_for()
    assert shown.proposed == [], "nobody had read it yet"
    shown.page.keyboard.press("n")
    shown.page.get_by_text("Which one is not?").wait_for()
    shown.page.keyboard.press("5")
    shown.page.get_by_text("How long ago?").wait_for()
    shown.page.keyboard.press("2")
    shown.sent()
    shown.card()
    shown.page.locator("[data-look='open']").wait_for()
    shown.page.keyboard.press(" ")
    shown.sent()
    assert [one["kind"] for one in shown.proposed] == ["answered", "answer_together"]
    assert shown.proposed[0]["question"] == "smoking" and shown.proposed[0]["minutes_ago"] > 0
    assert [one["question"] for one in shown.proposed[1]["answers"]] == [
        "hair",
        "jewellery",
        "face_marks",
        "face_change",
    ]
    asked = {one.question: one.answer for one in bench.visit.asked}
    assert asked["hair"] == "fine" and asked["smoking"] == "not_fine"


@pytest.mark.parametrize("opened_by", ["t", "u"])
def test_turning_away_from_a_colleagues_visit_asks_once_more(table: Make, rules: Rules, opened_by: str) -> None:
    bare = Bench(rules, clearance=None)
    bare.until("choose_facepiece")
    bare.do("choose_facepiece", facepiece(**PIECES["full"], ppe=("spectacles",)))
    shown = table(bare)
    shown.opened_by = opened_by
    shown.tell()
    shown.page.locator("[data-item='stopped']").wait_for()
    shown.page.keyboard.press("t")
    shown.page.get_by_label("Reason, short").fill("Comes back tomorrow")
    shown.page.keyboard.press("Enter")
    if opened_by == "u":
        shown.page.get_by_text("Bo Reed opened this visit. Ask them first.").wait_for()
        assert [one["kind"] for one in shown.proposed] == []
        assert shown.axe() == [] and shown.cut() == []
        shown.page.get_by_role("button", name="They know: turn away").click()
    shown.page.wait_for_timeout(300)
    assert [one["kind"] for one in shown.proposed] == ["turned_away"]


@pytest.mark.parametrize("width", [1280, 820])
def test_what_lets_no_run_start_has_a_card_before_it_is_worn(table: Make, rules: Rules, width: int) -> None:
    bare = Bench(rules, clearance=None)
    bare.until("choose_facepiece")
    bare.do("choose_facepiece", facepiece(**PIECES["full"], ppe=("spectacles",)))
    shown = table(bare, width=width, height=1180 if width == 820 else 800)
    shown.page.locator("[data-item='stopped']").wait_for()
    words = shown.page.locator(".card").inner_text()
    assert "No clearance on file" in words and "Spectacle bars" in words
    assert shown.page.locator(".foot .key", has_text="filed meanwhile").count() == 0, "bars are on no file"
    assert shown.axe() == [] and shown.cut() == []
    shown.page.keyboard.press("t")
    shown.page.get_by_text("Turn Åsa away today").wait_for()
    shown.page.get_by_role("button", name="back").click()
    shown.page.keyboard.press(" ")
    shown.page.locator("[data-item='choose']").wait_for()
    bare.do("choose_facepiece", facepiece(**PIECES["full"], ppe=("spectacles", "helmet")))
    shown.tell()
    shown.page.locator("[data-item='stopped']", has_text="Spectacle bars").wait_for()
    bare.do("choose_facepiece", facepiece(**PIECES["full"]))
    shown.tell()
    shown.page.locator("[data-item='stopped']", has_not_text="Spectacle bars").wait_for()
    shown.page.keyboard.press("l")
    shown.page.locator("[data-item='stopped']").wait_for(state="detached")
