"""The real front end at a bench whose server is the core alone: states are shown as they come, presses are judged.

No database and no process: the pages come from the built front end, what they ask is answered from a visit that a test
walks in the core, and every proposal they make goes through ``admit`` and ``step`` as on a server.
"""

from __future__ import annotations

import json
import mimetypes
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlparse

from playwright.sync_api import Browser, Page, Route

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.codec import encode
from moorfog.core.transitions.bound import PressedOn, mark_of, not_of_this
from moorfog.rooms.bench.views import BenchView
from tests.browser.desk import AXE
from tests.core.bench import Bench

ORIGIN = "http://bench.test"
SESSION = {"account_id": "t", "name": "Maren Oake", "login": "maren", "roles": ["tester"], "token": "t"}
NOTHING = {"rows": [], "total": 0, "page": 1, "pages": 1}
TOLD = """
window.EventSource = class extends EventTarget {
  constructor() { super(); window.told = this; setTimeout(() => this.onopen && this.onopen(), 0); }
  close() {}
};
window.tell = (kind, data) => window.told.dispatchEvent(new MessageEvent(kind, { data: JSON.stringify(data) }));
"""


KEPT = """
() => new Promise((done, failed) => {
  const open = indexedDB.open("moorfog", 1);
  open.onerror = () => failed(open.error);
  open.onsuccess = () => {
    const count = open.result.transaction("presses").objectStore("presses").count();
    count.onsuccess = () => { open.result.close(); done(count.result); };
  };
})
"""
"""How many presses the browser keeps on its disk."""


class Table:
    """A window at a bench, and the visit behind it: "v" of the person "p". ``others``: further visits by their id,
    each of a person of its own, "p-" and that id."""

    def __init__(
        self,
        browser: Browser,
        web: Path,
        bench: Bench,
        width: int = 1280,
        height: int = 800,
        others: Mapping[str, Bench] | None = None,
    ) -> None:
        self.web, self.bench, self.benches = web, bench, {"v": bench, **(others or {})}
        self.context = browser.new_context(viewport={"width": width, "height": height})
        self.context.add_init_script(TOLD)
        self.context.route("**/*", self._answer)
        self.page: Page = self.context.new_page()
        self.problems: list[str] = []
        self.page.on("pageerror", lambda error: self.problems.append(str(error)))
        self.proposed: list[dict[str, Any]] = []
        self.posted: list[tuple[str, dict[str, Any]]] = []  # every proposal with the visit it was sent to
        self.is_away, self.opened_by = False, "t"
        self.session = dict(SESSION)
        self.failures: list[int] = []  # what the next proposals are answered with instead of being heard
        self.page.goto(f"{ORIGIN}/visit/v")
        self.page.locator(".bench").wait_for()

    def shown(self, visit_id: str = "v") -> dict[str, Any]:
        """A visit as a server would show it."""
        bench = self.benches[visit_id]
        view = BenchView(
            visit_id=visit_id,
            person_id=bench.visit.person_id,
            mark=mark_of(visit_id, bench.visit),
            person="Åsa Tarn" if visit_id == "v" else f"Nils Ridge {visit_id}",
            first_name="Åsa" if visit_id == "v" else "Nils",
            number="1001",
            job="sander",
            task="hull sanding",
            face_length="118.0",
            last_result="no earlier test on record",
            employer="Cold Haven Boatyard",
            site="Slip 2",
            bench="A",
            opened_by=self.opened_by,
            opener="Maren Oake" if self.opened_by == "t" else "Bo Reed",
            has_report=False,
            zone="America/New_York",
            late_entries=0,
            meanwhile=(),
            visit=bench.view,
        )
        out: dict[str, Any] = encode(view)
        return out

    def tell(self) -> None:
        """Show the visit as it stands now."""
        self.page.evaluate("view => window.tell('state', view)", self.shown())

    def card(self) -> str:
        """Show the visit and wait for its first card; return that card's id."""
        self.tell()
        card = self.bench.view.queue[0]
        self.page.locator(f"[data-item='{card.id}'],[data-item='{card.look or card.id}']").first.wait_for()
        return card.id

    def alone(self) -> None:
        """Bring the first card out of what is looked at together with it, by its digit: it is not as it should be."""
        if self.page.locator("[data-look]").count():
            self.page.keyboard.press("1")

    def sent(self) -> None:
        """Wait until the browser keeps no press on its disk."""
        for _ in range(100):
            if self.page.evaluate(KEPT) == 0:
                return
            self.page.wait_for_timeout(50)
        raise AssertionError("presses are kept that should have been sent")

    def cut(self) -> list[str]:
        """What of a card is not to be seen: keys beyond its edge, and how much lies below it."""
        found: list[str] = self.page.evaluate(CUT)
        return found

    def axe(self) -> list[str]:
        """What axe finds on the page, a line each."""
        self.page.evaluate(AXE.read_text())
        found = self.page.evaluate("axe.run(document, {resultTypes: ['violations']})")
        return [f"{one['id']}: {node['target']}" for one in found["violations"] for node in one["nodes"]]

    def close(self) -> None:
        """Close the window; nothing may have thrown in it."""
        self.context.close()
        assert self.problems == []

    def _answer(self, route: Route) -> None:
        path = urlparse(route.request.url).path
        visit_id = path.split("/")[3] if path.startswith("/api/visits/") else ""
        if not path.startswith("/api/"):
            self._file(route, path)
        elif self.is_away:
            route.fulfill(status=502, body="<html>some page of a proxy</html>")
        elif path == "/api/session":
            route.fulfill(json=self.session)
        elif path == "/api/time":
            route.fulfill(json={"now": ev.instant(self.bench.at)})
        elif path.endswith("/events") and self.failures:
            route.fulfill(status=self.failures.pop(0), body="<html>some page of a proxy</html>")
        elif path.endswith("/events"):
            self._propose(visit_id, json.loads(route.request.post_data or "{}"))
            route.fulfill(json=self.shown(visit_id))
        elif path == f"/api/visits/{visit_id}":
            route.fulfill(json=self.shown(visit_id))
        elif path == "/api/counters":
            route.fulfill(json=NOTHING)
        elif route.request.method == "POST":
            route.fulfill(json={})
        else:
            route.fulfill(status=404, json={"code": "not_found", "message": "Not here.", "detail": {}})

    def _propose(self, visit_id: str, proposal: dict[str, Any]) -> None:
        """Take a proposal of the page into its visit, as a server does; the core refuses what it must."""
        body, bench = proposal["body"], self.benches[visit_id]
        self.proposed.append(body)
        self.posted.append((visit_id, proposal))
        pressed = PressedOn(proposal["visit_id"], proposal["person_id"], proposal["mark"])
        assert not_of_this(visit_id, bench.visit, pressed) is None, body
        if body["kind"] == "answer_together":
            for one in body["answers"]:
                bench.say(ev.Answered(one["question"], "fine", one["facts"], screen=body["screen"]))
            return
        kind = ev.KINDS[body["kind"]]
        bench.say(kind(**{key: value for key, value in body.items() if key != "kind"}))

    def _file(self, route: Route, path: str) -> None:
        file = self.web / path.lstrip("/")
        if not file.is_file():
            file = self.web / "index.html"
        route.fulfill(body=file.read_bytes(), content_type=mimetypes.guess_type(file.name)[0] or "text/html")


Make = Callable[..., Table]

CUT = """() => {
  const stage = document.querySelector('.stage'), edge = stage.getBoundingClientRect().right;
  const keys = [...document.querySelectorAll('.stage .key')].filter(one => {
    const box = one.getBoundingClientRect();
    return box.width && (box.right > edge + 1 || box.bottom > innerHeight + 1);
  });
  const below = stage.scrollHeight - stage.clientHeight;
  return [...keys.map(one => one.innerText), ...(below > 2 ? [`${below} px below`] : [])];
}"""
