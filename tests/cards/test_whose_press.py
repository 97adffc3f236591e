"""No press ever changes its visit: two visits in one browser, with outages, reloads and links between them."""

from __future__ import annotations

import random
from typing import Any

import pytest

from moorfog.core.rules.book import Rules
from tests.cards.table import ORIGIN, Make, Table
from tests.core.bench import Bench, facepiece

FOLLOW = "path => { history.pushState({}, '', path); dispatchEvent(new PopStateEvent('popstate', { state: {} })); }"
"""Go to another page as a link of the application does, without loading it anew."""
KEYS = (" ", "y", "n", "e", "u", "1", "l")


def go(shown: Table, visit_id: str) -> None:
    shown.page.evaluate(FOLLOW, f"/visit/{visit_id}")
    shown.page.wait_for_function("id => location.pathname.endsWith('/' + id)", arg=visit_id)


def two(table: Make, rules: Rules) -> Table:
    return table(Bench(rules), others={"w": Bench(rules, person_id="p-w", visit_id="w", ids="w")})


def test_unwell_pressed_in_one_visit_while_the_server_is_away_stays_in_it(table: Make, rules: Rules) -> None:
    shown = two(table, rules)
    shown.is_away = True
    shown.page.keyboard.press("e")
    shown.page.get_by_text("1 entry is kept here").wait_for()
    go(shown, "w")
    shown.is_away = False
    shown.page.get_by_text("Nils Ridge w").first.wait_for()
    shown.page.wait_for_timeout(1500)
    assert shown.posted == [] and not shown.benches["w"].visit.distress
    go(shown, "v")
    shown.sent()
    assert [(where, one["visit_id"], one["person_id"]) for where, one in shown.posted] == [("v", "v", "p")]
    assert shown.benches["v"].visit.distress and not shown.benches["w"].visit.distress


def test_y_on_the_identity_gate_waits_for_its_own_visit(table: Make, rules: Rules) -> None:
    shown = two(table, rules)
    shown.page.get_by_role("heading", name="Åsa Tarn").or_(shown.page.get_by_text("Åsa Tarn")).first.wait_for()
    shown.is_away = True
    shown.page.wait_for_timeout(3000)  # a gate takes its key no sooner than it can be read
    shown.page.keyboard.press("y")
    shown.page.get_by_text("1 entry is kept here").wait_for()
    go(shown, "w")
    shown.is_away = False
    shown.page.get_by_text("Nils Ridge w").first.wait_for()
    shown.page.wait_for_timeout(1500)
    assert shown.benches["w"].visit.answers == {}
    go(shown, "v")
    shown.sent()
    assert set(shown.benches["v"].visit.answers) == {"identity"} and shown.benches["w"].visit.answers == {}


def test_going_on_at_one_stop_card_hides_no_other(table: Make, rules: Rules) -> None:
    """L at the stop card of somebody without a clearance says nothing of the next one's."""
    benches: list[Bench] = []
    for more in ({}, {"person_id": "p-w", "visit_id": "w", "ids": "w"}):
        bench: Bench = Bench(rules, clearance=None, **more)  # type: ignore[arg-type]
        bench.until("choose_method", facepiece())
        benches.append(bench)
    shown = table(benches[0], others={"w": benches[1]})
    shown.page.get_by_text("No clearance on file").first.wait_for()
    stop: Any = shown.page.locator("[data-item='stopped']")
    stop.wait_for()
    for visit_id in ("w", "v"):  # both are known to the page by now
        go(shown, visit_id)
        stop.wait_for()
    shown.page.keyboard.press("l")
    stop.wait_for(state="detached")
    go(shown, "w")
    shown.page.get_by_text("Nils Ridge w").first.wait_for()
    stop.wait_for()


@pytest.mark.parametrize("seed", range(6))
def test_no_press_ever_changes_its_visit(table: Make, rules: Rules, seed: int) -> None:
    """Any interleaving: what reaches a visit was pressed while that visit, and nothing else, was on the screen."""
    chance, shown, here = random.Random(seed), two(table, rules), "v"
    kept = {"v": set[str](), "w": set[str]()}
    for _ in range(24):
        act = chance.choices(("press", "go", "away", "reload"), (6, 3, 2, 1))[0]
        if act == "press":
            before = known(shown)
            shown.page.keyboard.press(chance.choice(KEYS))
            shown.page.wait_for_timeout(chance.choice((0, 60, 400)))
            kept[here] |= known(shown) - before
        elif act == "go":
            here = "w" if here == "v" else "v"
            go(shown, here)
        elif act == "away":
            shown.is_away = not shown.is_away
        elif not shown.is_away:
            shown.page.goto(f"{ORIGIN}/visit/{here}")
            shown.page.locator(".bench").wait_for()
    shown.is_away = False
    for visit_id in ("v", "w"):
        go(shown, visit_id)
        shown.page.wait_for_timeout(1200)
    shown.sent()
    persons = {"v": "p", "w": "p-w"}
    for where, one in shown.posted:
        assert (one["visit_id"], one["person_id"]) == (where, persons[where])
        assert one["id"] not in kept["w" if where == "v" else "v"], one["body"]


KEPT_IDS = """
() => new Promise((done, failed) => {
  const open = indexedDB.open("moorfog", 1);
  open.onerror = () => failed(open.error);
  open.onsuccess = () => {
    const all = open.result.transaction("presses").objectStore("presses").getAll();
    all.onsuccess = () => { open.result.close(); done(all.result.map((one) => one.id)); };
  };
})
"""


def known(shown: Table) -> set[str]:
    """Ids of every press made so far: kept on the disk, or heard by the server."""
    return {*shown.page.evaluate(KEPT_IDS), *(one["id"] for _, one in shown.posted)}
