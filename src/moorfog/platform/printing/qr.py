"""QR codes for papers."""

from __future__ import annotations

import io

import segno
from markupsafe import Markup


def qr_svg(text: str) -> Markup:
    """Return a QR code of a text as SVG, black on white with its quiet zone; nothing for an empty text."""
    if not text:
        return Markup("")
    out = io.BytesIO()
    segno.make(text, error="m", micro=False).save(out, kind="svg", xmldecl=False, svgns=True, omitsize=True, border=2)
    return Markup(out.getvalue().decode())
