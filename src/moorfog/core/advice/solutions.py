"""The calculator for solutions: a recipe for the amount that is wanted, exactly, and until when it keeps."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from fractions import Fraction

from moorfog.core.kernel.arithmetic import parse_decimal
from moorfog.core.rules.protocols import Recipe


@dataclass(frozen=True)
class Portion:
    """How much of an ingredient goes in, exactly, in ``unit``."""

    what: str
    amount: Fraction
    unit: str


def scaled(recipe: Recipe, ml: Fraction) -> tuple[Portion, ...]:
    """Return what goes into ``ml`` millilitres of a recipe.

    Raises ``ValueError`` where ``ml`` is not above zero. Source: the recipe's own.
    """
    if ml <= 0:
        raise ValueError(f"{ml} ml is no amount; give one above zero")
    return tuple(
        Portion(one.what, parse_decimal(one.amount, one.what) * ml / recipe.per_ml, one.unit)
        for one in recipe.ingredient
    )


def keeps_until(recipe: Recipe, made_at: datetime) -> datetime | None:
    """Return until when it keeps, None where whoever makes it says so by the use-by date."""
    return made_at + timedelta(hours=recipe.good_for_h) if recipe.good_for_h else None
