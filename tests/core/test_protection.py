"""What a task needs: ratios, APF, MUC and stops against hand-worked figures and 29 CFR 1910.134 Table 1 (recalled)."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.advice.protection import Contaminant, Task, apf, hazard_ratio, kind_suffices, maximum_use, protection
from moorfog.core.rules.overlay import Overlay
from moorfog.data import facepiece_kinds, lay_over, shipped_books

KINDS = facepiece_kinds()
US, GB = shipped_books()["us-29cfr1910-134"], shipped_books()["gb-hse-indg479"]


def dust(**changes: Any) -> Contaminant:
    plain = {"name": "dust", "form": "particles", "concentration": "30", "limit": "5", "unit": "mg/m³"}
    return Contaminant(**{**plain, **changes})


def task(*contaminants: Contaminant, **changes: Any) -> Task:
    return Task("t", "sanding", contaminants or (dust(),), **{"oxygen_percent": "20.9", **changes})


TABLE_1 = {
    "quarter": 5,
    "disposable_cup": 10,
    "half": 10,
    "full": 50,
    "powered_half": 50,
    "powered_full": 1000,
    "supplied_demand_half": 10,
    "supplied_demand_full": 50,
    "supplied_half": 50,
    "supplied_full": 1000,
    "scba_demand_half": 10,
    "scba_demand_full": 50,
    "scba_full": 10_000,
}


@pytest.mark.parametrize(("kind", "factor"), TABLE_1.items())
def test_us_assigned_protection_factors(kind: str, factor: int) -> None:
    assert apf(US, KINDS[kind]) == factor


def test_a_factor_a_book_does_not_state_is_never_another_countrys() -> None:
    assert apf(GB, KINDS["powered_full"]) is None and apf(shipped_books()["iso-16975-3"], KINDS["half"]) is None
    cup = KINDS["disposable_cup"]
    assert apf(GB, cup, "95-type") is None, "remembered vaguely: off until the site has looked into its own copy"
    entry = Overlay("apf.disposable.95-type", "10", "", "our copy, 2026", "2026-03-01", "A")
    confirmed = lay_over(GB, [entry])
    assert [apf(confirmed, cup, one) for one in ("95-type", "99-type", "")] == [10, None, None]
    found = kind_suffices(task(), GB, KINDS["powered_full"], "95-type")
    assert found.suffices == "not stated" and "states no APF" in found.why


def test_hazard_ratio_and_muc_by_hand() -> None:
    """30 ÷ 5 = 6; 10 ppm × APF 10 = 100 ppm, 29 CFR 1910.134 (d)(3)(i)(B) (recalled)."""
    assert hazard_ratio(dust()) == 6
    gas = dust(name="gas", form="gas or vapour", concentration="40", limit="10", unit="ppm")
    assert maximum_use(gas, Fraction(10)) == (100, "by APF × limit; not capped by IDLH: check it")
    assert maximum_use(dust(limit="10", idlh="60"), Fraction(10)) == (60, "by IDLH")
    assert maximum_use(dust(limit="10", idlh="600", cartridge_limit="50"), Fraction(10)) == (50, "by cartridge limit")


@pytest.mark.parametrize(
    ("contaminants", "sufficing"),
    [
        ((dust(),), {"half", "disposable_cup", "full", "powered_full"}),
        ((dust(concentration="50"),), {"half", "disposable_cup", "full"}),
        ((dust(concentration="50.1"),), {"full", "powered_half", "powered_full"}),
        ((dust(form="both"),), {"half", "full"}),
        ((dust(), dust(name="worse", concentration="200", limit="1")), {"powered_full"}),
    ],
)
def test_the_kinds_that_suffice(contaminants: tuple[Contaminant, ...], sufficing: set[str]) -> None:
    found = {name for name, one in KINDS.items() if kind_suffices(task(*contaminants), US, one).suffices == "yes"}
    assert found >= sufficing
    assert ("quarter" in found) is False
    if any(one.form != "particles" for one in contaminants):
        assert not any(one.startswith("disposable") for one in found)


@pytest.mark.parametrize(
    ("made", "code"),
    [
        (task(is_idlh=True), "idlh"),
        (task(dust(idlh="30")), "idlh"),
        (task(is_unknown=True), "unknown_hazard"),
        (Task("t", "x", ()), "unknown_hazard"),
        (task(oxygen_percent="19.4"), "oxygen"),
        (task(oxygen_percent="plenty"), "oxygen"),
        (task(dust(concentration="")), "no_ratio"),
        (task(dust(limit="0")), "no_ratio"),
        (task(dust(limit="nan")), "no_ratio"),
    ],
)
def test_what_is_never_air_purifying(made: Task, code: str) -> None:
    """29 CFR 1910.134 (d)(2) (recalled)."""
    found = protection(made, US)
    assert code in [one.code for one in found.reasons] and found.is_stop
    assert all(kind_suffices(made, US, one).suffices != "yes" for one in KINDS.values() if one.air == "purifying")


def test_oxygen_of_19_5_is_enough() -> None:
    assert not protection(task(oxygen_percent="19.5"), US).is_stop


decimals = st.integers(1, 10**6).map(lambda n: f"{n // 100}.{n % 100:02d}")


@given(decimals, decimals, st.sampled_from(sorted(KINDS)))
def test_a_kind_suffices_only_if_its_factor_covers_the_ratio(concentration: str, limit: str, kind: str) -> None:
    one = dust(concentration=concentration, limit=limit)
    found = kind_suffices(task(one), US, KINDS[kind])
    ratio = hazard_ratio(one)
    factor = apf(US, KINDS[kind])
    if ratio is None:
        assert found.suffices != "yes"
        return
    assert (found.suffices == "yes") == (factor is not None and factor >= ratio)
