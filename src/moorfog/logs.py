"""How every part of the program writes its log: a line of JSON each, or plain words where somebody watches a terminal.

No line holds a name, a number of somebody, or what was typed: who did what is in the journal, which is kept, asked for
and erased by rules of its own. A line says when, which part, how bad, what, and of which request.
"""

from __future__ import annotations

import logging.config
import os
import sys
from typing import Any

import structlog
from structlog.types import Processor

SETTING = "MOORFOG_LOGS"
"""json or plain; left out: plain on a terminal, JSON otherwise."""

SAID = ("method", "route", "status", "ms")
"""What is said beside the words of a line."""


def is_plain() -> bool:
    """Tell whether lines are for somebody who watches."""
    chosen = os.environ.get(SETTING, "")
    return chosen == "plain" or (chosen != "json" and sys.stderr.isatty())


def log_formatter() -> logging.Formatter:
    """Return what makes a line of what is logged, by our own code or a library's."""
    before: list[Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.ExtraAdder(allow=SAID),
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.processors.TimeStamper(fmt="iso", utc=True, key="at"),
    ]
    as_words: list[Processor] = [structlog.dev.ConsoleRenderer(colors=False, timestamp_key="at")]
    as_json: list[Processor] = [
        structlog.processors.EventRenamer("said"),
        structlog.processors.format_exc_info,
        structlog.processors.JSONRenderer(ensure_ascii=False),
    ]
    bare = structlog.stdlib.ProcessorFormatter.remove_processors_meta
    rest = as_words if is_plain() else as_json
    return structlog.stdlib.ProcessorFormatter(foreign_pre_chain=before, processors=[bare, *rest])


def log_config() -> dict[str, Any]:
    """Return the configuration of logging, as :func:`logging.config.dictConfig` has it; the web server takes it too."""
    through = {"level": "INFO", "handlers": [], "propagate": True}
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {"line": {"()": log_formatter}},
        "handlers": {"out": {"class": "logging.StreamHandler", "formatter": "line", "stream": "ext://sys.stderr"}},
        "root": {"level": "INFO", "handlers": ["out"]},
        "loggers": {"gunicorn.error": through, "gunicorn.access": {**through, "level": "ERROR"}},
    }


def set_up_logs() -> None:
    """Have everything this process logs written that way."""
    logging.config.dictConfig(log_config())
