"""The wearer's card in the size of a bank card, and the letter in plain words: out of what the report says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from moorfog.platform.printing.fonts import STACK
from moorfog.platform.printing.qr import qr_svg
from moorfog.rooms.papers.report import ReportView, templates

Layout = Literal["card", "sheet"]
ON_A_SHEET = 10
"""Cards on an A4 sheet, two beside each other, with marks to cut along."""


@dataclass(frozen=True)
class CardView:
    """Everything a card says, as text. ``check``: the address that a phone opens, with the signed statement;
    ``limits``: up to where its test lets it be worn."""

    name: str
    number: str
    employer: str
    facepiece: str
    size: str
    setup: str
    method: str
    result: str
    tested_on: str
    valid_until: str
    tester: str
    limits: tuple[str, ...]
    code: str
    check: str


def cards_html(cards: Sequence[CardView], layout: Layout) -> str:
    """Return cards as a page of HTML, one to a page or ten on a sheet."""
    pages = [cards[first : first + ON_A_SHEET] for first in range(0, len(cards), ON_A_SHEET)]
    return templates.get_template("card.html").render(
        pages=pages if layout == "sheet" else [[one] for one in cards],
        layout=layout,
        qr=qr_svg,
        stack=STACK,
    )


def letter_html(view: ReportView) -> str:
    """Return the worker's letter as a page of HTML."""
    return templates.get_template("letter.html").render(v=view, qr=qr_svg, stack=STACK)
