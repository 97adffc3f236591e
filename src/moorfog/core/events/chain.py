"""A log as it is written down: versions of payloads, one row an event, and the chain that binds each to all before it.

A payload is never rewritten once stored: a changed shape gets a new version in ``VERSIONS`` and an upcaster.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any

from moorfog.core.events.payloads import KINDS, Event, Payload, instant, parse_instant
from moorfog.core.events.words import MARK, NO_WORDS, put_back
from moorfog.core.kernel.canonical import digest, digest_of_json, written
from moorfog.core.kernel.codec import DataError, decode
from moorfog.core.kernel.replacing import made

VERSIONS: dict[str, int] = {
    **dict.fromkeys(KINDS, 1),
    "run_closed": 2,
    "run_started": 5,
    **dict.fromkeys(("probe_fitted", "visit_opened", "facepiece_chosen"), 3),
    **dict.fromkeys(("answered", "task_chosen", "proof_given", "corrected"), 2),
}


def _started_by_a_counter(payload: dict[str, Any]) -> dict[str, Any]:
    more = {"kind": "counter", "required": ["particle", "zero", "max_fit_factor"], "charged_at": "", "charge_h": 0}
    return {**payload, "instrument": {**payload["instrument"], **more}}


def _with_serial_unsaid(payload: dict[str, Any]) -> dict[str, Any]:
    """Leave unsaid which serial number the instrument on the link said: nobody asked."""
    return {**payload, "instrument": {**payload["instrument"], "said_serial": ""}}


CHECKS_THEN = {"particle": "room_air", "zero": "clean_air", "max_fit_factor": "clean_line_ratio"}
"""What the daily checks of an instrument were called, and what they are called now."""


def _with_checks_named(payload: dict[str, Any]) -> dict[str, Any]:
    one = payload["instrument"]
    checks = [{**each, "name": CHECKS_THEN.get(each["name"], each["name"])} for each in one["checks"]]
    required = [CHECKS_THEN.get(name, name) for name in one["required"]]
    return {**payload, "instrument": {**one, "checks": checks, "required": required}}


KINDS_THEN = frozenset(
    (
        *("disposable_cup", "disposable_fold", "disposable_duckbill", "disposable_clip", "quarter", "half", "full"),
        *("powered_half", "powered_full", "supplied_demand_half", "supplied_demand_full", "supplied_half"),
        *("supplied_full", "scba_demand_full", "scba_full"),
    )
)
"""Kinds there were when events named a kind and did not say what it is judged by."""


def _with_its_kind(payload: dict[str, Any]) -> dict[str, Any]:
    """Write down by value what a kind was judged by when only its name was; it was read off the name then.

    A demand full facepiece was taken for a half one: it has the level of a full one, so what was measured against the
    lower level does not stand.
    """
    piece = payload["facepiece"]
    kind: str = piece["kind"]
    if kind.startswith("disposable"):
        family, air, apf, limits = "disposable", "purifying", "apf.disposable", ["no disposable", "powered only"]
    elif kind.startswith(("powered", "supplied")):
        air = "purifying" if kind.startswith("powered") else "supplied"
        family, apf, limits = "powered", f"apf.{kind}", []
    elif kind.startswith("scba"):
        family = "half" if kind.endswith("half") else "full"
        air, apf, limits = "self-contained", f"apf.{kind}", ["no self-contained"]
    else:
        family = "full" if kind.startswith("full") else "half"
        air, apf, limits = "purifying", f"apf.{kind}", [f"no {family} facepiece", "powered only"]
    traits = {
        "id": kind,
        "title": kind.replace("_", " "),
        "family": family,
        "air": air,
        "level": "" if kind not in KINDS_THEN else "level.full" if kind.endswith("full") else "level.half",
        "apf": apf,
        "ruled_out_by": limits,
    }
    return {**payload, "facepiece": {**piece, "traits": traits, "work": []}}


def _with_pressure(payload: dict[str, Any]) -> dict[str, Any]:
    """Leave unsaid what an event did not say of a kind: what drives the air in, its weight, a cylinder to escape by."""
    piece = payload["facepiece"]
    traits = {**piece["traits"], "pressure": "", "weight": ""}
    return {**payload, "facepiece": {**piece, "traits": traits, "has_escape_cylinder": False}}


def _with_cartridges(payload: dict[str, Any]) -> dict[str, Any]:
    task = payload["task"]
    contaminants = [{"cartridge": "", **one} for one in task["contaminants"]]
    return {**payload, "task": {**task, "contaminants": contaminants}}


def _with_alterations(payload: dict[str, Any]) -> dict[str, Any]:
    return {"alterations" if key == "loops" else key: value for key, value in payload.items()}


UPCASTERS: dict[tuple[str, int], Callable[[dict[str, Any]], dict[str, Any]]] = {
    ("probe_fitted", 1): lambda payload: {**payload, "parts": []},
    ("probe_fitted", 2): _with_alterations,
    ("run_started", 1): _started_by_a_counter,
    ("run_started", 2): _with_checks_named,
    ("run_started", 3): lambda payload: {**payload, "hidden": ""},
    ("run_started", 4): _with_serial_unsaid,
    ("run_closed", 1): lambda payload: {**payload, "signals": [], "holds": []},
    ("visit_opened", 1): lambda payload: {**payload, "wore": ""},
    ("visit_opened", 2): lambda payload: {**payload, "visit_id": ""},
    ("answered", 1): lambda payload: {**payload, "screen": ""},
    ("facepiece_chosen", 1): _with_its_kind,
    ("facepiece_chosen", 2): _with_pressure,
    ("task_chosen", 1): _with_cartridges,
    ("proof_given", 1): lambda payload: {**payload, "seen": ""},
    ("corrected", 1): lambda payload: {**payload, "file": None, "failed_before": False},
}
"""From (kind, old version) to a pure function that writes the payload of the next version."""


FORMER: dict[str, tuple[str, dict[str, str]]] = {
    "loop_opened": ("alteration_made", {"loop": "alteration"}),
    "loop_closed": ("alteration_undone", {"loop": "alteration"}),
}
"""Kinds of before: what they are called now, and what their keys are."""


def _renamed(kind: str, data: Mapping[str, Any]) -> tuple[str, dict[str, Any]]:
    name, keys = FORMER.get(kind, (kind, {}))
    return name, {keys.get(key, key): name if key == "kind" else value for key, value in data.items()}


def read_payload(kind: str, version: int, data: Mapping[str, Any], where: str = "payload") -> Payload:
    """Read a stored payload of any shipped version, upcast to the present one. Raises :class:`DataError`."""
    kind, content = _renamed(kind, data)
    cls = KINDS.get(kind)
    if cls is None:
        raise DataError(where, f"{kind!r} is no kind of event known to this program")
    while version < VERSIONS[kind]:
        upcast = UPCASTERS.get((kind, version))
        if upcast is None:
            raise DataError(where, f"{kind} never had a version {version}")
        content, version = upcast(content), version + 1
    if version > VERSIONS[kind]:
        raise DataError(where, f"{kind} version {version} was written by a newer program; update this one")
    payload: Payload = decode(cls, content, where)
    return payload


def link_of_chain(
    previous: str,
    event_id: str,
    seq: int,
    version: int,
    occurred_at: datetime,
    actor: str,
    content: Mapping[str, Any],
) -> str:
    """Return the SHA-256 that binds an event to the chain before it. ``recorded_at`` is the database's, not bound."""
    return digest(_link(previous, event_id, seq, version, instant(occurred_at), actor, content))


def _link(
    previous: str, event_id: str, seq: int, version: int, occurred_at: str, actor: str, content: Mapping[str, Any]
) -> dict[str, Any]:
    return {
        "previous": previous,
        "id": event_id,
        "seq": seq,
        "version": version,
        "occurred_at": occurred_at,
        "actor": actor,
        "payload": content,
    }


def check_chain(events: list[Event]) -> int | None:
    """Return the sequence number of the first event whose chain does not hold, or None when all hold."""
    previous = ""
    for expected, event in enumerate(events, start=1):
        at = event.written_at or instant(event.occurred_at)
        link = _link(previous, event.id, event.seq, event.version, at, event.actor, event.content)
        here = digest_of_json(link)  # what came out of a parser without floats needs no look first
        if event.seq != expected or here != event.chain:
            return event.seq
        previous = here
    return None


def event_to_json(event: Event) -> dict[str, Any]:
    """Write an event as plain data for storage, export and recomputation."""
    return {
        "id": event.id,
        "seq": event.seq,
        "version": event.version,
        "occurred_at": event.written_at or instant(event.occurred_at),
        "recorded_at": instant(event.recorded_at),
        "actor": event.actor,
        "payload": dict(event.content),
        "chain": event.chain,
    }


@dataclass(frozen=True)
class Row:
    """An event as plain data, as it is exported."""

    id: str
    seq: int
    version: int
    occurred_at: str
    recorded_at: str
    actor: str
    payload: dict[str, Any]
    chain: str


_KEYS = tuple(one.name for one in fields(Row))
_TYPES = (str, int, int, str, str, str, dict, str)


def event_from_json(data: Mapping[str, Any], where: str = "event", words: Mapping[str, str] = NO_WORDS) -> Event:
    """Read an event written by :func:`event_to_json`, which came out of a JSON parser without floats. ``words``: what
    the signs in it stand for.

    Raises :class:`DataError` naming the key.
    """
    if len(data) != len(_TYPES) or tuple(map(type, map(data.get, _KEYS))) != _TYPES:
        decode(Row, data, where)  # says what is wrong, and where
    occurred, recorded, body = data["occurred_at"], data["recorded_at"], data["payload"]
    moment = parse_instant(occurred, f"{where}.occurred_at")
    version = data["version"]
    text = written(body)
    if MARK.encode() in text:
        payload = _read_body(put_back(body, words), version, f"{where}.payload")
    else:
        known = _payloads.get((version, text))
        payload = known or _keep((version, text), _read_body(body, version, f"{where}.payload"))
    return made(
        Event,
        id=data["id"],
        seq=data["seq"],
        version=version,
        occurred_at=moment,
        recorded_at=moment if recorded == occurred else parse_instant(recorded, f"{where}.recorded_at"),
        actor=data["actor"],
        payload=payload,
        chain=data["chain"],
        stored=body,
        written_at=occurred,
    )


PAYLOADS_KEPT = 4096
_payloads: dict[tuple[int, bytes], Payload] = {}
"""Payloads read before, by how they were written: the same question is answered alike in many logs."""


def _read_body(body: Mapping[str, Any], version: int, where: str) -> Payload:
    if "kind" not in body:
        raise DataError(f"{where}.kind", "this key is missing")
    return read_payload(body["kind"], version, body, where)


def _keep(name: tuple[int, bytes], payload: Payload) -> Payload:
    if len(_payloads) >= PAYLOADS_KEPT:
        _payloads.clear()
    _payloads[name] = payload
    return payload
