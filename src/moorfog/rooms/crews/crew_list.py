"""The list of who may wear what on a day, on paper."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog.platform.printing.fonts import STACK
from moorfog.platform.printing.templates import templates_beside

templates = templates_beside(__file__)


@dataclass(frozen=True)
class CrewPaperLine:
    """A person: what they may wear as (set-up, until, limits), or the reasons why not as (sentence, who settles it)."""

    name: str
    number: str
    task: str
    may: bool
    wears: tuple[tuple[str, str, tuple[str, ...]], ...]
    why: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class CrewPaper:
    """Where, on which day, at which task (empty: each at the work they do), how many may, and everybody."""

    site: str
    day: str
    task: str
    may: int
    lines: tuple[CrewPaperLine, ...]


def list_html(paper: CrewPaper) -> str:
    """Return the list as a page of HTML: who may not stands first, so that nobody overlooks it."""
    return templates.get_template("list.html").render(v=paper, stack=STACK)
