"""A facepiece of the catalogue as it would be on a face."""

from __future__ import annotations

from moorfog.core.events.payloads import Facepiece, WorkFilter
from moorfog.data import facepiece_kinds
from moorfog.rooms.facepieces.facepieces import FacepieceOption


def piece_of(option: FacepieceOption, size: str, suspension: str, clip: str, filter_class: str) -> Facepiece:
    """Return an option as it would be on the face, with no gear worn beside it."""
    return Facepiece(
        model_id=option.model_id,
        version_id=option.version_id,
        maker=option.maker,
        model=option.model,
        kind=option.kind,
        size=size,
        valve=option.valve,
        filter_kind=option.filter_kind,  # type: ignore[arg-type]
        filter_class=filter_class,
        cover="front",
        suspension=suspension,
        clip=clip,
        probe="through",
        test_filters=option.test_filters,
        is_own=False,
        ppe=(),
        traits=facepiece_kinds()[option.kind],
        work=tuple(WorkFilter(one.form, one.filter_class, one.cartridges) for one in option.work_filters),
        has_escape_cylinder=option.has_escape_cylinder,
    )
