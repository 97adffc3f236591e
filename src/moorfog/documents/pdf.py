"""Pages of HTML as PDF."""

from __future__ import annotations

from pathlib import Path

HERE = Path(__file__).parent
"""What pages name fonts relative to."""


def pdf_of(html: str) -> bytes:
    """Return a page of HTML as PDF bytes; nothing is fetched from outside the package."""
    from weasyprint import HTML

    pdf: bytes = HTML(string=html, base_url=str(HERE)).write_pdf()
    return pdf
