"""Pages of HTML out of templates, each room's in a folder beside its module."""

from __future__ import annotations

from pathlib import Path

from jinja2 import Environment, FileSystemLoader, StrictUndefined

from moorfog.platform.printing.plain import UNPRINTABLE


def _printable(value: object) -> object:
    """Return a value of a template without signs that no paper can show."""
    return UNPRINTABLE.sub("", value) if type(value) is str else value


def templates_beside(module: str) -> Environment:
    """Return the templates in the folder ``templates`` beside a module, which is given by its ``__file__``. What they
    are filled with is escaped, and a name that nobody gave is an error."""
    return Environment(
        loader=FileSystemLoader(Path(module).parent / "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_printable,
    )
