"""May this instrument, nebuliser or lot be used now? Asked by the fold, by admission and by the Kit page."""

from __future__ import annotations

from datetime import datetime, timedelta

from moorfog.core.events.facts import Nebuliser
from moorfog.core.events.payloads import Facepiece, Instrument, instant_or_none
from moorfog.core.kernel.arithmetic import decimal_or_none
from moorfog.core.kernel.days import day_or_none
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import instrument_of


def instrument_blocks(
    book: Book, facepiece: Facepiece, mode: str, instrument: Instrument, family: str, at: datetime
) -> list[str]:
    """Return codes of what is wrong with an instrument for a run: its kind, the mode for the filter, and what
    :func:`unfit_today` says of it."""
    out: list[str] = []
    if instrument.kind != instrument_of(family):
        out.append("instrument")
    modes = ("ordinary", "classified") if instrument.kind == "counter" else (instrument.kind,)
    if mode not in modes or (mode != "pressure" and facepiece.filter_class not in book.words(f"mode.{mode}.filters")):
        out.append("mode")
    return out + unfit_today(instrument, at, is_strict=book.yes("readings.strict") is True)


def unfit_today(instrument: Instrument, at: datetime, is_strict: bool = True) -> list[str]:
    """Return codes of why no run may be made with an instrument at ``at``: another one on its link, figures, checks of
    the day (``check_`` and its name), calibration, alcohol."""
    out: list[str] = []
    if instrument.said_serial and not same_serial(instrument.said_serial, instrument.serial_number):
        out.append("other_instrument")
    flow = (instrument.counted_flow,) if instrument.kind == "counter" else ()
    needed = (instrument.resolution, instrument.ambient_minimum, *flow)
    if is_strict and any(decimal_or_none(one) is None for one in needed):
        out.append("figures")
    day = instrument.used_on
    for name in instrument.required:
        found = [one for one in instrument.checks if one.name == name and one.checked_on == day]
        if not found or not found[-1].passed:
            out.append(f"check_{name}")
    if day_or_none(instrument.calibrated_until) is None or instrument.calibrated_until < day:
        out.append("calibration")
    if instrument.charge_h:
        charged = instant_or_none(instrument.charged_at)
        if charged is None or not timedelta() <= at - charged <= timedelta(hours=instrument.charge_h):
            out.append("alcohol")
    return out


def same_serial(one: str, other: str) -> bool:
    """Tell whether two serial numbers are the same: as they stand on the plate, spaces and capitals aside."""
    return "".join(one.split()).casefold() == "".join(other.split()).casefold()


def nebuliser_blocks(book: Book, role: str, nebuliser: Nebuliser | None, at: datetime) -> list[str]:
    """Return codes of what is wrong with a nebuliser for a step that needs one of ``role``: which it is, when it was
    filled, whether it was seen to spray since."""
    if nebuliser is None:
        return ["nebuliser_missing"]
    out = []
    if nebuliser.role != role or nebuliser.lot.role != role:
        out.append("nebuliser_role")
    filled, checked = instant_or_none(nebuliser.filled_at), instant_or_none(nebuliser.checked_at)
    if filled is None or at - filled > timedelta(minutes=float(book.number("nebuliser.refill"))):
        out.append("refill")
    if checked is None or filled is None or checked < filled or checked > at:
        out.append("spray_check")
    return out


def lot_is_over(use_by: str, day: str) -> bool:
    """True where a lot is past its use-by date on a day, or has none that can be read. Dates YYYY-MM-DD."""
    return day_or_none(use_by) is None or use_by < day
