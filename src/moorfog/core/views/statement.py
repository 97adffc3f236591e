"""What both sign: one plain statement of exactly what is shown to them, made from the visit's state alone."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from typing import Any

from moorfog.core.views.runs import try_view
from moorfog.core.views.terms import limits_of_use, on_file, signed_under
from moorfog.core.visit.state import FOLD_VERSION, Visit

STATEMENT_VERSION = 2
SIGNERS_OWN = ("signer", "signed_at", "salt", "program")
"""Keys that each signer's copy adds to the statement; the program is the version that showed it to them."""


def statement_of(visit: Visit, visit_id: str) -> dict[str, Any]:
    """Return what is signed, before signer and time: log, readings, rules, and the verdicts, file, limits and terms as
    they are shown."""
    procedure = visit.rules.procedure
    return {
        "record_version": STATEMENT_VERSION,
        "visit": visit_id,
        "revision": visit.revision,
        "seq": visit.seq,
        "chain": visit.chain,
        "rules": visit.rules.digest,
        "rule_book": visit.rules.book.title,
        "procedure": f"{procedure.id} {procedure.edition}",
        "fold_version": FOLD_VERSION,
        "readings": [one.closed.sha256 for one in visit.tries if one.closed is not None],
        "tries": [
            {
                "no": one.no,
                "outcome": one.outcome,
                "overall": one.overall,
                "level": one.level,
                "facepiece": one.facepiece,
                "size": one.size,
            }
            for one in (try_view(visit, made) for made in visit.tries)
        ],
        "on_file": on_file(visit),
        "shown": list(signed_under(visit)),
        "limits_of_use": list(limits_of_use(visit)),
        "terms": procedure.terms,
        "corrections": list(visit.corrections),
        "practice": visit.is_practice,
    }


def statement_differences(text: str, visit: Visit, visit_id: str, digests: Sequence[str]) -> list[tuple[str, str, str]]:
    """Return where signed bytes do not hold, as (key, what they say, what comes out).

    ``visit`` is the state that was signed; ``digests`` are those of the signatures in the log. Bytes made by another
    version of the statement are held to their digest only.
    """
    found = hashlib.sha256(text.encode()).hexdigest()
    out = [] if found in digests else [("digest", " or ".join(digests) or "no signature", found)]
    try:
        data = json.loads(text)
    except ValueError:
        return [*out, ("text", "JSON", "unreadable")]
    if not isinstance(data, Mapping) or data.get("record_version") != STATEMENT_VERSION:
        return out
    if data.get("fold_version") != FOLD_VERSION:
        return out  # judged and signed under another version of the fold, which stands as it was signed
    wanted = statement_of(visit, visit_id)
    said = {key: value for key, value in data.items() if key not in SIGNERS_OWN}
    for key in sorted({*wanted, *said}):
        if said.get(key) != wanted.get(key):
            out.append((key, json.dumps(said.get(key)), json.dumps(wanted.get(key))))
    return out
