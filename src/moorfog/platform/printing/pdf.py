"""Pages of HTML as PDF, in the fonts of all papers."""

from __future__ import annotations

import atexit
from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path
from threading import Lock
from typing import Any

from moorfog.platform.printing.fonts import FACES

HERE = Path(__file__).parent
"""What pages name files relative to."""
_one_at_a_time = Lock()
"""The fonts are unpacked once and shared; whoever sets a page has them to itself."""


@cache
def _fonts() -> tuple[Any, Any]:
    """The fonts with the style sheet that names them: unpacking them takes longer than setting a page."""
    from weasyprint import CSS
    from weasyprint.text.fonts import FontConfiguration

    config = FontConfiguration()
    atexit.register(_fonts.cache_clear)  # its files are thrown away while there is still somebody to do it
    return config, CSS(string=FACES, base_url=str(HERE), font_config=config)


def _set(html: str) -> Any:
    from weasyprint import HTML

    config, faces = _fonts()
    return HTML(string=html, base_url=str(HERE)).render(font_config=config, stylesheets=[faces])


def pdf_of(html: str) -> bytes:
    """Return a page of HTML as PDF bytes; nothing is fetched from outside the package."""
    with _one_at_a_time:
        pdf: bytes = _set(html).write_pdf()
    return pdf


def pdf_of_all(pages: Sequence[str], drawn: Callable[[int], None]) -> bytes:
    """Return pages of HTML as one PDF; ``drawn`` hears after each how many there are."""
    whole, sheets = None, []
    for number, html in enumerate(pages, start=1):
        with _one_at_a_time:
            one = _set(html)
        whole = whole or one
        sheets += one.pages
        drawn(number)
    with _one_at_a_time:
        pdf: bytes = whole.copy(sheets).write_pdf() if whole is not None else b""
    return pdf
