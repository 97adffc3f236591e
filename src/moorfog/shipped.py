"""What ships with the program, for whoever has a right to it: its own source, and the licences of others in it."""

from __future__ import annotations

import io
from functools import cache
from importlib.metadata import PackageNotFoundError, distribution
from pathlib import Path
from threading import Lock
from zipfile import ZIP_DEFLATED, ZipFile, ZipInfo

from moorfog.bom import python_packages

FOLDERS = ("src", "web", "deploy", "docs", "tests")
LEFT_OUT = frozenset({"node_modules", "dist", "__pycache__", ".venv", "screenshots"})
LICENCE = ("licen", "copying", "notice", "authors")
_guard = Lock()
STAMP = (2000, 1, 1, 0, 0, 0)
"""The date of every entry of the archive: the same source comes out the same."""


def source_files(root: Path) -> list[Path]:
    """Return the files that the program is made and checked from, in order; nothing built, nothing hidden."""
    out = [one for one in root.iterdir() if one.is_file() and not one.name.startswith(".")]
    for folder in FOLDERS:
        for one in (root / folder).rglob("*"):
            parts = one.relative_to(root).parts
            if one.is_file() and not LEFT_OUT & set(parts) and not any(part.startswith(".") for part in parts):
                out.append(one)
    return sorted(out)


def source_archive(root: Path) -> bytes:
    """Return the program's own source as a ZIP archive, made once by whoever asks first."""
    with _guard:
        return _source_archive(root)


@cache
def _source_archive(root: Path) -> bytes:
    buffer = io.BytesIO()
    with ZipFile(buffer, "w", ZIP_DEFLATED) as archive:
        for one in source_files(root):
            archive.writestr(ZipInfo(f"moorfog/{one.relative_to(root)}", STAMP), one.read_bytes(), ZIP_DEFLATED)
    return buffer.getvalue()


@cache
def licences(root: Path) -> str:
    """Return the licences of the Python packages that ship, each with its text as its makers wrote it."""
    out = []
    for one in python_packages((root / "requirements.txt").read_text()):
        try:
            found = distribution(one["name"])
        except PackageNotFoundError:
            continue
        places = [Path(str(file.locate())) for file in found.files or () if file.name.lower().startswith(LICENCE)]
        texts = [
            place.read_text(encoding="utf-8", errors="replace")
            for place in places
            if place.is_file() and place.suffix not in (".py", ".pyc")
        ]
        about = found.metadata
        named = (about["License-Expression"] or about["License"] or "").splitlines()[:1]
        words = "\n\n".join(text.strip() for text in texts) or "Its makers ship no text with it."
        out.append(f"{one['name']} {one['version']}  {''.join(named)}\n\n{words}")
    return f"\n\n{'=' * 80}\n\n".join(out) + "\n"
