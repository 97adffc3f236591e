"""A paper that counts no more: its pages as they were issued, marked across so that nobody takes them for the last."""

from __future__ import annotations

from io import BytesIO
from typing import Literal

from pypdf import PdfReader, PdfWriter

from moorfog.platform.printing.fonts import STACK
from moorfog.platform.printing.pdf import pdf_of

PAGE = """<html><head><style>
@page {{ size: {width}pt {height}pt; margin: 0 }}
body {{ margin: 0; font-family: {stack}; color: #8c2f24 }}
.across {{ position: absolute; left: 0; top: {middle}pt; width: {width}pt; text-align: center; font-size: {large}pt;
  font-weight: 700; letter-spacing: .08em; opacity: .22; transform: rotate(-28deg) }}
.below {{ position: absolute; left: 0; bottom: {edge}pt; width: {width}pt; text-align: center; font-size: {small}pt;
  font-weight: 700 }}
</style></head><body><div class="across">{across}</div><div class="below">{words}</div></body></html>"""


def marked_replaced(content: bytes, words: str, across: Literal["REPLACED", "NOT VALID"] = "REPLACED") -> bytes:
    """Return a PDF with every page marked across, with ``words`` at its foot. What is stored is not touched."""
    writer = PdfWriter(clone_from=BytesIO(content))
    for page in writer.pages:
        width, height = float(page.mediabox.width), float(page.mediabox.height)
        mark = PAGE.format(
            stack=STACK,
            width=width,
            height=height,
            middle=height * 0.42,
            large=width / 7,
            small=max(4.5, min(10.0, width / 52)),
            edge=height * 0.012,
            words=words,
            across=across,
        )
        (over,) = PdfReader(BytesIO(pdf_of(mark))).pages
        page.merge_page(over)
    out = BytesIO()
    writer.write(out)
    return out.getvalue()
