"""The components of the look, each in the states it has, on their own page: drawn, readable, light and dark."""

from __future__ import annotations

import mimetypes
import re
from pathlib import Path
from typing import Literal

import pytest
from playwright.sync_api import Browser, Route

from moorfog.bootstrap import ensure_web
from tests.browser.desk import AXE

DESIGN = Path(__file__).parents[2] / "web/src/design"
OF_A_WHOLE_PAGE = {
    "landmark-no-duplicate-main",
    "landmark-main-is-top-level",
    "landmark-unique",
    "region",
    "heading-order",
}
"""What axe says of a page on which several states of one page stand side by side."""


def components() -> set[str]:
    """What the files of the look export to be drawn."""
    found: set[str] = set()
    for path in DESIGN.glob("*.tsx"):
        found |= set(re.findall(r"export function ([A-Z]\w+)", path.read_text("utf-8")))
    return found


@pytest.mark.parametrize(("width", "scheme"), [(1280, "light"), (820, "dark")])
def test_every_component_is_drawn_in_its_states(browser: Browser, width: int, scheme: Literal["light", "dark"]) -> None:
    web = ensure_web()

    def answer(route: Route) -> None:
        file = web / route.request.url.removeprefix("http://stories.test/").split("?")[0]
        kind = mimetypes.guess_type(file.name)[0] or "application/octet-stream"
        route.fulfill(body=file.read_bytes(), content_type=kind)

    context = browser.new_context(viewport={"width": width, "height": 900}, color_scheme=scheme)
    context.route("**/*", answer)
    page, problems = context.new_page(), list[str]()
    page.on("pageerror", lambda error: problems.append(str(error)))
    page.goto("http://stories.test/stories.html")
    page.locator("[data-story]").last.wait_for()
    drawn = set(page.eval_on_selector_all("[data-story]", "all => all.map(one => one.dataset.story)"))
    assert drawn == components()
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    page.evaluate(AXE.read_text())
    found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")["violations"]
    lacking = [
        f"{one['id']}: {node['target']}" for one in found if one["id"] not in OF_A_WHOLE_PAGE for node in one["nodes"]
    ]
    assert lacking == [] and problems == []
    context.close()
