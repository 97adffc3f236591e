"""Pages of HTML as PDF."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

HERE = Path(__file__).parent
"""What pages name fonts relative to."""


def pdf_of(html: str) -> bytes:
    """Return a page of HTML as PDF bytes; nothing is fetched from outside the package."""
    from weasyprint import HTML

    pdf: bytes = HTML(string=html, base_url=str(HERE)).write_pdf()
    return pdf


def pdf_of_all(pages: Sequence[str], drawn: Callable[[int], None]) -> bytes:
    """Return pages of HTML as one PDF; ``drawn`` hears after each how many there are."""
    from weasyprint import HTML

    whole, sheets = None, []
    for number, html in enumerate(pages, start=1):
        one = HTML(string=html, base_url=str(HERE)).render()
        whole = whole or one
        sheets += one.pages
        drawn(number)
    pdf: bytes = whole.copy(sheets).write_pdf() if whole is not None else b""
    return pdf
