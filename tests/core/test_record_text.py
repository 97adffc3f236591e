"""The text of a record: read as any JSON reader would, more strictly, and rules word for word as before only once."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.kernel.canonical import Written, canonical_bytes, digest
from moorfog.core.kernel.codec import DataError
from moorfog.core.record.text import KEPT, read_record_text

PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53) + 1, 2**53 - 1) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
    max_leaves=12,
)


@given(st.dictionaries(st.text(max_size=6), PLAIN, min_size=1, max_size=5), PLAIN, st.sampled_from([None, 0, 1, "\t"]))
def test_it_is_read_as_the_standard_library_reads_it(some: dict[str, Any], rules: Any, indent: Any) -> None:
    whole = {**some, "rules": rules}
    found = read_record_text(json.dumps(whole, indent=indent, ensure_ascii=False).encode(), "x")
    assert found.data == whole and found.rules == Written(canonical_bytes(rules), digest(rules))
    again = read_record_text(json.dumps(whole, indent=indent, ensure_ascii=False).encode(), "x")
    assert again.data == whole and again.rules == found.rules


def test_rules_that_differ_by_a_truth_value_are_other_rules() -> None:
    """1 and true are equal to Python; the text, which is what is compared, is not."""
    first, second = (read_record_text(json.dumps({"rules": {"a": one}}).encode(), "x") for one in (1, True))
    assert first.rules and first.rules.content == b'{"a":1}'
    assert second.rules and second.rules.content == b'{"a":true}'
    assert second.data["rules"]["a"] is True


@given(st.dictionaries(st.text(max_size=6), PLAIN, max_size=4), st.sampled_from([{}, {"a": 1}, {"b": {"rules": {}}}]))
def test_what_stands_as_it_is_exported_is_read_the_quick_way_to_the_same(some: dict[str, Any], rules: Any) -> None:
    whole = {**some, "digest": "0" * 64, "rules": rules, "rules_digest": "1"}
    content = canonical_bytes(whole)
    rest = digest({key: value for key, value in whole.items() if key not in ("digest", "rules")})
    for again in (content, content + b"\n"):
        found = read_record_text(again, "x")
        assert found.data == whole and found.rules == Written(canonical_bytes(rules), digest(rules))
        assert found.own_digest in (rest, None)
        assert read_record_text(b" " + content, "x").data == whole


def test_the_digest_a_record_should_carry_comes_with_the_quick_way_only() -> None:
    content = canonical_bytes({"digest": "0" * 64, "a": [1], "rules": {"z": 1}, "rules_digest": "1"}).replace(
        b'{"a":[1],"digest"', b'{"digest"'
    )
    assert read_record_text(content, "x").own_digest is None, "rules not seen before"
    assert read_record_text(content, "x").own_digest == digest({"rules_digest": "1"})
    assert read_record_text(content.replace(b'"rules_digest"', b' "rules_digest"'), "x").own_digest is None


def test_rules_that_begin_like_others_are_read_to_their_own_end() -> None:
    read_record_text(b'{"rules": {}}', "x")
    assert read_record_text(b'{"rules": {} , "b": 1}', "x").data == {"rules": {}, "b": 1}
    with pytest.raises(DataError, match="no JSON"):
        read_record_text(b'{"rules": {}1}', "x")
    for number in range(3 * KEPT):
        assert read_record_text(f'{{"rules": {{"a": {number}}}}}'.encode(), "x").data["rules"] == {"a": number}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "Expecting '{'"),
        ("[1]", "Expecting '{'"),
        ("{}", "no JSON"),
        ('{"a" 1}', "Expecting ':'"),
        ('{"a": 1 "b": 2}', "Expecting ','"),
        ('{"a": 1} x', "Extra data"),
        ('{"a": 1', "Expecting ','"),
        ('{"a": 1.5}', "holds the number 1.5"),
        ('{"a": [1, {"b": 1e3}]}', "holds the number 1e3"),
        ('{"a": NaN}', "holds the number NaN"),
        ('{"a": 1, "a": 1}', "'a' stands twice"),
        ('{"rules": {"a": {"b": 1, "c": 2, "b": 1}}}', "'b' stands twice"),
        ('{"a":{"b":1,"b":2},"rules":{}}', "'b' stands twice"),
        ('{"a":18446744073709551616.0,"rules":{}}', "holds the number"),
    ],
)
def test_what_is_no_record_text_is_said_with_its_place(text: str, words: str) -> None:
    with pytest.raises(DataError, match=words) as caught:
        read_record_text(text.encode(), "visit.json")
    assert caught.value.where == "visit.json"


def test_bytes_that_are_no_text_are_said_so() -> None:
    for content in (b'{"a": "\xff"}', b'{"a":"\xff","rules":{}}'):
        with pytest.raises(DataError, match="no UTF-8"):
            read_record_text(content, "x")
