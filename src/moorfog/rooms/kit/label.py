"""The label of a lot: what it is, for which nebuliser, made when and by whom, use by when."""

from __future__ import annotations

from html import escape

from moorfog.core.events.payloads import Lot
from moorfog.platform.printing.fonts import STACK
from moorfog.platform.printing.pdf import pdf_of

NUMBERS = {"threshold": "1", "fit": "2"}


def label_html(title: str, lot: Lot) -> str:
    """Return a label of 70 by 37 mm as HTML."""
    number = NUMBERS.get(lot.role, "")
    big = f"<b class='n'>{number}</b>" if number else ""
    lines = (f"Lot {lot.number}", f"Made {lot.made_on} by {lot.made_by}", f"USE BY {lot.use_by}")
    body = "".join(f"<p>{escape(one)}</p>" for one in lines)
    return f"""<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Label</title><style>
@page {{ size: 70mm 37mm; margin: 3mm }}
body {{ font: 9pt/1.3 {STACK}; margin: 0; color: #000 }} h1 {{ font-size: 11pt; margin: 0 0 1mm }}
p {{ margin: 0 }} p:last-child {{ font-weight: 700 }} .n {{ float: right; font-size: 34pt; line-height: 1 }}
</style></head><body>{big}<h1>{escape(title)}</h1>{body}</body></html>"""


def label_pdf(title: str, lot: Lot) -> bytes:
    """Return a label as PDF bytes."""
    return pdf_of(label_html(title, lot))
