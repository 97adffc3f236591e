"""Canonical JSON against the reference implementation of RFC 8785."""

from __future__ import annotations

import pytest
import rfc8785
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.kernel.canonical import MAX_SAFE_INTEGER, canonical_bytes, digest

text = st.text(st.characters(exclude_categories=("Cs",)), max_size=12)
values = st.recursive(
    st.none() | st.booleans() | st.integers(-MAX_SAFE_INTEGER, MAX_SAFE_INTEGER) | text,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(text, inner, max_size=4),
    max_leaves=12,
)


@given(values)
def test_the_same_bytes_as_the_reference(value) -> None:
    assert canonical_bytes(value) == rfc8785.dumps(value)


@pytest.mark.parametrize("value", [1.5, float("nan"), {"a": [2**53]}, {1: "x"}, b"x"])
def test_what_would_not_be_exact_is_refused(value) -> None:
    with pytest.raises(ValueError, match=r"\$"):
        canonical_bytes(value)


def test_key_order_is_no_difference_and_content_is() -> None:
    assert digest({"a": 1, "b": 2}) == digest({"b": 2, "a": 1}) != digest({"a": 1, "b": 3})
