"""Names that stored sets of rules had before: read as those of today. What was stored goes out as it was written."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

KEYS = {
    "loop": "alteration",
    "school": "policy",
    "suction": "negative_pressure",
    "passes": "applications",
    "shave.school": "shave.policy",
    "seal_check.school": "seal_check.policy",
}
"""Keys of before, in a book, a procedure or a protocol, and what they are called now."""

TEXTS = {old: new for old, new in KEYS.items() if "." in old}


def present(data: Any) -> Any:
    """Return plain data of a stored set with every former name in its present form; nothing else is changed."""
    if isinstance(data, Mapping):
        return {KEYS.get(key, key): present(value) for key, value in data.items()}
    if isinstance(data, (list, tuple)):
        return [present(one) for one in data]
    return TEXTS.get(data, data) if isinstance(data, str) else data
