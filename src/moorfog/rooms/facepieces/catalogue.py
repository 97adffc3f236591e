"""The facepiece catalogue: immutable versions, import and export as JSON and CSV."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields
from typing import Any, ClassVar, Literal, get_args

from sqlalchemy import and_, func, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT, Form, WorkFilter
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal, whole_or_none
from moorfog.core.kernel.codec import DataError, decode, encode
from moorfog.data import facepiece_forms as form_starts
from moorfog.data import facepiece_kinds
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.found_wrong import Found, open_recall

LONGEST = 60
"""Signs of a suspension, clip or filter class."""


@dataclass(frozen=True)
class Size:
    """A size with the maker's range in mm; empty where the maker states none. Length alone is allowed."""

    name: str
    length_from: str = ""
    length_to: str = ""
    width_from: str = ""
    width_to: str = ""


@dataclass(frozen=True)
class Model:
    """A facepiece model as the catalogue holds it. Texts are the maker's; what is not stated stays empty."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    maker: str
    model: str
    kind: str
    sizes: tuple[Size, ...]
    valve: bool
    filter_kind: Literal["media", "particulate", "gas", "combined"]
    filter_classes: tuple[str, ...]
    cover: Literal["front", "palms", "thumbs", "none"]
    probe: Literal["valve_seat", "probed_cartridge", "through"]
    test_filters: bool
    suspensions: tuple[str, ...] = ()
    clips: tuple[str, ...] = ()
    approval: str = ""
    diaphragms: int = 0
    accessories: tuple[str, ...] = ()
    donning: tuple[str, ...] = ()
    doffing: tuple[str, ...] = ()
    adapter: Literal["", "used once", "inspected, cleaned, reused"] = ""
    filters_as_pair: bool = True
    wash_limit_c: str = ""
    reuse: Literal["", "discard", "one shift", "never re-applied", "maker's limit"] = ""
    work_filters: tuple[WorkFilter, ...] = ()
    """What it takes at work. Empty: what is on it in the test is worn at work too, unless those are test filters."""
    has_escape_cylinder: bool = False
    """Supplied air with a cylinder of its own to get out by."""


@dataclass(frozen=True)
class Imported:
    """What an import did: models new, models with a new version, models that stood as they were."""

    new: int
    changed: int
    same: int


@dataclass(frozen=True)
class FacepieceForm:
    """What the form for a new facepiece of a kind begins with; corrected from the maker's own papers."""

    kind: str
    title: str
    family: str
    start: Model


@dataclass(frozen=True)
class Saved:
    """A facepiece that was entered: the id of its version, and what became of it."""

    version_id: str
    outcome: Literal["new", "new version", "as it was"]
    version: int


def facepiece_forms() -> tuple[FacepieceForm, ...]:
    """Return what the form for each kind of facepiece begins with."""
    out = []
    for kind in facepiece_kinds().values():
        given = {key: value for key, value in form_starts()[kind.family].items() if key != "source"}
        start = decode(Model, {"maker": "", "model": "", "kind": kind.id, "sizes": [], **given}, f"form of {kind.id}")
        out.append(FacepieceForm(kind.id, kind.title, kind.family, start))
    return tuple(out)


def find_model(db: Session, actor: Actor, version_id: str) -> Model:
    """Return a version as its form has it. Raises :class:`NotFound`."""
    actor.require(*READERS)
    row = db.get(FacepieceVersion, version_id)
    if row is None:
        raise NotFound("facepiece")
    return model_of(row)


def save_model(db: Session, actor: Actor, model: Model) -> Saved:
    """Enter a facepiece, or a new version of the one of that maker and name; records keep the version they had."""
    done = import_models(db, actor, "form.json", json.dumps([encode(model)]))
    row = next(one for one in latest_versions(db) if (one.maker, one.model) == (model.maker, model.model))
    note(db, Note("facepiece", row.id, changes={"version": ["", f"{model.maker} {model.model}, {row.version}"]}))
    return Saved(row.id, "new" if done.new else "new version" if done.changed else "as it was", row.version)


def latest_versions(db: Session) -> list[FacepieceVersion]:
    """Return the latest version of every model, by maker and name."""
    newest = (
        select(FacepieceVersion.model_id, func.max(FacepieceVersion.version).label("version"))
        .group_by(FacepieceVersion.model_id)
        .subquery()
    )
    return list(
        db.scalars(
            select(FacepieceVersion)
            .join(
                newest,
                and_(newest.c.model_id == FacepieceVersion.model_id, newest.c.version == FacepieceVersion.version),
            )
            .where(FacepieceVersion.withdrawn_at.is_(None))
            .order_by(FacepieceVersion.maker, FacepieceVersion.model, FacepieceVersion.id)
        )
    )


def model_of(row: FacepieceVersion) -> Model:
    """Return a stored version as a model."""
    where = f"{row.maker} {row.model}"
    return decode(Model, {"maker": row.maker, "model": row.model, "kind": row.kind, **row.content}, where)


def withdraw_approval(db: Session, clock: Clock, actor: Actor, version_id: str, reason: str) -> None:
    """Withdraw a model: it is not chosen any more, and everybody who passed in it is suspended until that is settled.

    Raises :class:`DomainError` without a reason or for an administrator of some employers only, :class:`NotFound`.
    """
    actor.require("administrator")
    row, now = db.get(FacepieceVersion, version_id), clock.now(db)
    if row is None:
        raise NotFound("facepiece")
    _require_all(actor)
    if not reason.strip():
        raise DomainError("reason_missing", "Say what is wrong with its approval, in a few words.")
    versions = select(FacepieceVersion).where(FacepieceVersion.model_id == row.model_id)
    for one in db.scalars(versions.where(FacepieceVersion.withdrawn_at.is_(None))):
        one.withdrawn_at = now
    name = f"{row.maker} {row.model}"
    what = f"{name}: its approval was withdrawn: {reason.strip()}."
    open_recall(
        db,
        Found(
            kit_kind="approval",
            kit_id=row.model_id,
            kit_name=name,
            check_name="approval",
            what=what,
            employer_id=None,
            since=None,
            until=now,
        ),
        actor.id,
    )


def _require_all(actor: Actor) -> None:
    if actor.require("administrator").employers is not None:
        raise DomainError(
            "shared_catalogue",
            "The catalogue is shared by all employers; an administrator of all may change it.",
            status=403,
        )


def export_json(db: Session, actor: Actor) -> str:
    """Return the latest version of every model as JSON."""
    actor.require(*READERS)
    return json.dumps([encode(model_of(row)) for row in latest_versions(db)], ensure_ascii=False, indent=1)


def export_csv(db: Session, actor: Actor) -> str:
    """Return the latest version of every model as CSV, a line a model; lists are parted by semicolons.

    A size is written name:length from-to or name:length from-to:width from-to. Text that a spreadsheet would take for a
    formula is written with an apostrophe before it.
    """
    actor.require(*READERS)
    out = io.StringIO()
    names = [one.name for one in fields(Model)]
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(names)
    for row in latest_versions(db):
        writer.writerow([_guarded(_as_cell(getattr(model_of(row), name))) for name in names])
    return out.getvalue()


def _as_cell(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return "; ".join(_part_of_cell(one) for one in value)
    return str(value)


def _part_of_cell(one: Any) -> str:
    if isinstance(one, WorkFilter):
        return ":".join([one.form, one.filter_class, "+".join(one.cartridges)]).rstrip(":")
    return _size_cell(one) if isinstance(one, Size) else str(one)


def _size_cell(one: Size) -> str:
    spans = [f"{low}-{high}" for low, high in ((one.length_from, one.length_to), (one.width_from, one.width_to)) if low]
    return ":".join([one.name, *spans])


def _guarded(text: str) -> str:
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


def read_csv(text: str) -> list[Model]:
    """Read models from CSV as :func:`export_csv` writes it. Raises :class:`DomainError` naming row and column."""
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")))
    known = [one.name for one in fields(Model)]
    unknown = [one for one in reader.fieldnames or [] if one not in known]
    if unknown or not reader.fieldnames:
        raise DomainError(
            "unknown_column", f"column {unknown[0] if unknown else ''!r} is not known; known: {', '.join(known)}."
        )
    out = []
    for number, row in enumerate(reader, start=2):
        data: dict[str, Any] = {}
        for name, cell in row.items():
            text = (cell or "").strip().removeprefix("'")
            if name in ("valve", "test_filters", "filters_as_pair", "has_escape_cylinder"):
                if text not in ("yes", "no"):
                    raise DomainError("bad_cell", f"row {number}, {name}: {text!r}; yes or no is expected.")
                data[name] = text == "yes"
            elif name == "diaphragms":
                count = whole_or_none(text)
                if count is None or count < 0:
                    raise DomainError("bad_cell", f"row {number}, diaphragms: {text!r}; a whole number is expected.")
                data[name] = count
            elif name == "sizes":
                data[name] = [_read_size(part.strip(), number) for part in text.split(";") if part.strip()]
            elif name == "work_filters":
                data[name] = [_read_filter(part.strip(), number) for part in text.split(";") if part.strip()]
            elif name in ("filter_classes", "suspensions", "clips", "accessories", "donning", "doffing"):
                data[name] = [part.strip() for part in text.split(";") if part.strip()]
            else:
                data[name] = text
        out.append(_read_model(data, f"row {number}"))
    return out


def _read_size(text: str, row: int) -> dict[str, str]:
    name, *spans = text.split(":")
    if len(spans) > 2:
        raise DomainError("bad_cell", f"row {row}, sizes: {text!r}; written as M:110-124 or M:110-124:135-150.")
    out = {"name": name.strip()}
    for key, span in zip(("length", "width"), spans, strict=False):
        low, dash, high = span.partition("-")
        if not dash:
            raise DomainError("bad_cell", f"row {row}, sizes: {span!r} is no range; written as 110-124.")
        out[f"{key}_from"], out[f"{key}_to"] = low.strip(), high.strip()
    return out


def _read_filter(text: str, row: int) -> dict[str, Any]:
    form, _, rest = text.partition(":")
    filter_class, _, cartridges = rest.partition(":")
    if form.strip() not in get_args(Form):
        wanted = "written as particles:100-type or both:100-type:organic vapour+acid gas."
        raise DomainError("bad_cell", f"row {row}, work_filters: {text!r}; {wanted}")
    kinds = [one.strip() for one in cartridges.split("+") if one.strip()]
    return {"form": form.strip(), "filter_class": filter_class.strip(), "cartridges": kinds}


def _read_model(data: Any, where: str) -> Model:
    try:
        model = decode(Model, data, where)
    except DataError as error:
        raise DomainError("bad_model", f"{error}. Nothing was imported.") from error
    if not model.maker.strip() or not model.model.strip() or not model.sizes:
        raise DomainError("bad_model", f"{where}: maker, model and at least one size are needed. Nothing was imported.")
    for name, text, most in _names(model):
        if len(text) > most:
            problem = f"{where}.{name}: {text[:40]}… has {len(text)} signs; {most} are kept. Nothing was imported."
            raise DomainError("bad_model", problem)
    known = facepiece_kinds()
    if model.kind not in known:
        words = (
            f"{where}.kind: {model.kind!r} is no kind of facepiece; known are {', '.join(known)}. Nothing was imported."
        )
        raise DomainError("bad_model", words)
    for size in model.sizes:
        for low, high in ((size.length_from, size.length_to), (size.width_from, size.width_to)):
            _check_span(low, high, f"{where}, size {size.name}")
    return model


def _names(model: Model) -> Iterator[tuple[str, str, int]]:
    """Yield what a result says of a model, and how long it may be: it stands whole wherever results do."""
    yield from (("maker", model.maker, 120), ("model", model.model, 120))
    yield from (("sizes", one.name, 40) for one in model.sizes)
    for name in ("suspensions", "clips", "filter_classes"):
        yield from ((name, one, LONGEST) for one in getattr(model, name))


def _check_span(low: str, high: str, where: str) -> None:
    if not low and not high:
        return
    try:
        wrong = parse_decimal(low, where) >= parse_decimal(high, where)
    except NotANumber as error:
        raise DomainError("bad_model", f"{error}. Nothing was imported.") from error
    if wrong:
        raise DomainError("bad_model", f"{where}: {low} to {high} mm is no range. Nothing was imported.")


def read_json(text: str) -> list[Model]:
    """Read models from JSON as :func:`export_json` writes it. Raises :class:`DomainError` naming place and key."""
    try:
        data = json.loads(text)
    except ValueError as error:
        raise DomainError("not_json", f"This is no JSON: {error}.") from error
    if not isinstance(data, list):
        raise DomainError("bad_model", "A list of models is expected.")
    return [_read_model(one, f"model {index}") for index, one in enumerate(data, start=1)]


def import_models(db: Session, actor: Actor, file_name: str, text: str) -> Imported:
    """Import models: a changed one becomes a new version, all or nothing. Raises :class:`DomainError`."""
    _require_all(actor)
    models = read_csv(text) if file_name.lower().endswith(".csv") else read_json(text)
    latest = {(row.maker, row.model): row for row in latest_versions(db)}
    new = changed = same = 0
    for model in models:
        content = {key: value for key, value in encode(model).items() if key not in ("maker", "model", "kind")}
        old = latest.get((model.maker, model.model))
        if old is not None and model_of(old) == model:
            same += 1
            continue
        new, changed = (new + 1, changed) if old is None else (new, changed + 1)
        row = FacepieceVersion(
            id=new_id(),
            model_id=old.model_id if old else new_id(),
            version=old.version + 1 if old else 1,
            maker=model.maker,
            model=model.model,
            kind=model.kind,
            content=content,
        )
        db.add(row)
        latest[(model.maker, model.model)] = row
    db.flush()
    return Imported(new, changed, same)
