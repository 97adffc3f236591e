"""Intervals of shares, against SciPy's own (scipy.stats.binomtest, method "wilson")."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binomtest

from moorfog.core.advice.shares import FEW, Share, share, wilson

counts = st.integers(1, 5000).flatmap(lambda tested: st.tuples(st.integers(0, tested), st.just(tested)))


@given(counts)
def test_the_interval_is_the_reference_librarys(drawn: tuple[int, int]) -> None:
    passed, tested = drawn
    reference = binomtest(passed, tested).proportion_ci(0.95, method="wilson")
    assert wilson(passed, tested) == pytest.approx((reference.low, reference.high), abs=1e-9)


@given(counts)
def test_what_is_shown_holds_the_share_and_is_never_narrower(drawn: tuple[int, int]) -> None:
    passed, tested = drawn
    shown = share(passed, tested)
    if tested < FEW:
        assert shown is None
        return
    assert shown is not None
    low, high = wilson(passed, tested)
    assert shown.low <= 100 * low <= 100 * passed / tested <= 100 * high <= shown.high
    assert 0 <= shown.low <= shown.high <= 100


def test_a_few_figures_by_hand() -> None:
    """18 of 20: 69.9 % to 97.2 % (worked by hand from the formula)."""
    assert share(18, 20) == Share(69, 98) and share(4, 4) is None and share(5, 5) == Share(56, 100)


@pytest.mark.parametrize("wrong", [(1, 0), (-1, 5), (6, 5), (0, 0)])
def test_counts_without_sense_are_refused(wrong: tuple[int, int]) -> None:
    with pytest.raises(ValueError, match="no share"):
        wilson(*wrong)
