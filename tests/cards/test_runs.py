"""Runs as cards: every counted protocol under way, with the numbers a stream would tell, and what comes after it."""

from __future__ import annotations

from datetime import timedelta
from fractions import Fraction

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.reduction import reduction_for
from moorfog.rooms.bench.live import RunWatch, live_message
from tests.cards.table import Make
from tests.core.all_ways import Way, at_the_start, piece_for, rules_of
from tests.core.bench import simulate

UNDER_THE_BAND = 800 - 27
"""What the band of a practice leaves of a screen."""
US = "us-29cfr1910-134"
COUNTED = [one.id for one in rules_of(US).protocols if not one.is_qualitative]
SENSED = [one.id for one in rules_of(US).protocols if one.is_qualitative]


@pytest.mark.parametrize("protocol_id", COUNTED)
def test_a_run_shows_what_to_do_and_what_is_read_and_ends_in_a_signed_pass(table: Make, protocol_id: str) -> None:
    bench = at_the_start(Way(US, protocol_id))
    protocol = bench.rules.protocol(protocol_id)
    assert protocol is not None
    run_id = bench.start(protocol_id=protocol_id)
    one = bench.visit.tries[-1]
    assert one.t0 is not None and one.counted is not None
    middle = 30 if protocol.total_s < 400 else 100
    bench.at = one.t0 + timedelta(seconds=middle)
    shown = table(bench, height=UNDER_THE_BAND)
    page, rows = shown.page, simulate(protocol, (4000,) * len(protocol.exercises()), 1)
    watch = RunWatch(
        run_id=run_id,
        reduction=reduction_for(protocol, 10**9),
        book=bench.rules.book,
        level=Fraction(one.counted.level),
        kind=one.facepiece.level_key,
    )
    fresh = [each for each in rows if each.t <= middle * 1000]
    for each in fresh:
        watch.reduction.feed(each)
    page.evaluate("said => window.tell('live', said)", encode(live_message(watch, fresh)))
    current = next(
        each
        for start, each in zip(reversed(protocol.starts_ms()), reversed(protocol.exercises()), strict=True)
        if start <= middle * 1000
    )
    page.locator(".run h1", has_text=current.name).wait_for()
    page.locator(".ladder text.outside").first.wait_for()
    assert shown.axe() == []
    page.keyboard.press("x")
    page.get_by_text("did it move?").wait_for()
    page.keyboard.press("1")
    page.get_by_text("did it move?").wait_for(state="detached")
    shown.sent()
    assert shown.proposed == [{"kind": "touched", "moved": False}], "noted, and nothing moved"
    bench.seal(run_id, rows)
    bench.until("limits_told", piece_for(Way(US, protocol_id)))
    shown.card()
    assert shown.cut() == [], "the result, whole"
    bench.until("sign_wearer", piece_for(Way(US, protocol_id)))
    shown.card()
    assert shown.cut() == []
    assert shown.axe() == []
    bench.until("release")
    bench.do("release")
    shown.tell()
    page.locator("h1", has_text="Pass").first.wait_for()
    assert bench.view.verdict == "pass" and bench.visit.is_practice is False


@pytest.mark.parametrize("size", [(1280, 800), (820, 1180)], ids=str)
@pytest.mark.parametrize("protocol_id", SENSED)
def test_a_run_by_the_senses_shows_all_of_its_keys(table: Make, protocol_id: str, size: tuple[int, int]) -> None:
    bench = at_the_start(Way(US, protocol_id))
    bench.sense()
    shown = table(bench, width=size[0], height=size[1])
    shown.page.locator("[data-run]").wait_for()
    assert shown.cut() == []
    if bench.visit.tries[-1].t0 is None:
        shown.page.keyboard.press(" ")
        shown.sent()
    guide = shown.page.locator(".head-guide")
    guide.wait_for(state="visible" if size == (820, 1180) else "hidden")
    assert shown.cut() == [], "once it has begun"


def test_a_proof_that_fails_is_void_and_says_what_may_come_next(table: Make) -> None:
    """Nothing smelt in seven minutes, and nothing smelt when the seal is broken either: the run shows nothing."""
    bench = at_the_start(Way(US, "odour"))
    bench.smell()
    bench.until("proof")
    shown = table(bench)
    assert shown.card() == "proof_break"
    shown.page.keyboard.press("n")
    shown.page.locator("[data-item='decide']").wait_for()
    assert shown.page.locator(".verdict .outcome").inner_text().strip().lower() == "void"
    assert shown.page.locator(".verdict-number").count() == 0, "a void run has no number to go by"
    assert shown.page.locator(".note h2").first.inner_text().startswith("The proof failed")
    assert isinstance(bench.log[-1].payload, ev.ProofSensed) and shown.axe() == []


@pytest.mark.parametrize(("key", "kind"), [(" ", "dose_given"), ("d", "detected"), ("s", "stopped"), ("e", "distress")])
def test_words_shown_large_in_a_run_take_no_key_of_it(table: Make, key: str, kind: str) -> None:
    """What is read out stays on the screen for a minute: dose, detection, stop and distress go on meanwhile."""
    bench = at_the_start(Way(US, "taste-bitter"))
    bench.sense()
    shown = table(bench)
    shown.page.locator("[data-run]").wait_for()
    shown.page.keyboard.press("w")
    words = shown.page.locator(".say-overlay")
    words.wait_for()
    shown.page.keyboard.press(key)
    shown.sent()
    assert [one["kind"] for one in shown.proposed] == [kind]
    if kind == "dose_given":
        assert words.is_visible(), "only W, Escape or a touch closes it in a run"
        shown.page.keyboard.press("w")
        words.wait_for(state="detached")


@pytest.mark.parametrize(("key", "kind"), [("s", "stopped"), ("e", "distress")])
def test_words_shown_large_leave_the_keys_of_a_counted_run(table: Make, key: str, kind: str) -> None:
    bench = at_the_start(Way(US, "full-count-us"))
    bench.start(protocol_id="full-count-us")
    shown = table(bench)
    shown.page.locator("[data-run]").wait_for()
    shown.page.keyboard.press("w")
    shown.page.locator(".say-overlay").wait_for()
    shown.page.keyboard.press(key)
    shown.sent()
    assert [one["kind"] for one in shown.proposed] == [kind]


@pytest.mark.parametrize("size", [(1280, 800), (820, 1180)], ids=str)
@pytest.mark.parametrize("protocol_id", ["fast-count-disposable", "full-count-us", "pressure-full-settled"])
def test_a_fail_shows_whole_what_may_come_next(table: Make, protocol_id: str, size: tuple[int, int]) -> None:
    """Of however many exercises, and the one that let in most is marked alone, whatever the others are called."""
    bench = at_the_start(Way(US, protocol_id))
    protocol = bench.rules.protocol(protocol_id)
    assert protocol is not None
    run_id = bench.start(protocol_id=protocol_id)
    factors = [60] * len(protocol.exercises())
    factors[-1] = 20
    bench.seal(run_id, simulate(protocol, tuple(factors), 1))
    shown = table(bench, width=size[0], height=size[1])
    shown.page.locator("[data-item='decide']").wait_for()
    marked = shown.page.locator(".verdict-rows tbody tr", has_text="lowest")
    assert marked.count() == 1 and shown.cut() == [] and shown.axe() == []
    last = len(bench.view.tries[-1].exercises) - 1
    assert bench.view.tries[-1].worst == last and shown.page.locator(".verdict-rows tbody tr").nth(last).inner_text()
