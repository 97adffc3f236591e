"""A rule's number stands in its book and nowhere else: change every one, and no sentence goes on saying the old one."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.codec import encode
from moorfog.core.rules.book import Book, Value
from moorfog.data import rules_for, shipped_books
from moorfog.rooms.papers.report import Names, render_html, report_view
from tests.core.all_ways import Way, confirmed, piece_for
from tests.core.bench import Bench, task

WORDS = {2: "two", 3: "three", 4: "four", 5: "five", 6: "six", 7: "seven", 8: "eight", 9: "nine", 10: "ten"}
WORDS |= {12: "twelve", 15: "fifteen", 20: "twenty", 30: "thirty", 60: "sixty"}
METHODS = ("fast-count-elastomeric", "full-count-us", "pressure-short", "taste-bitter", "odour", "smoke", "aerosol-us")


def unusual(value: Value) -> Value:
    """The value, were it another: same kind, a number nobody writes down by chance."""
    old = value.value
    if isinstance(old, (bool, tuple)) or not re.fullmatch(r"\d+(\.\d+)?", str(old)):
        return value
    number = Fraction(str(old))
    fresh: int | str = int(number) + 7 if isinstance(old, int) else f"{float(number * Fraction(113, 100)):.4f}"
    return replace(value, value=fresh)


def said(value: Value) -> str:
    """A pattern for every way in which a sentence would say a value with its unit."""
    number = Fraction(str(value.value))
    ways = {"s": [(1, "s"), (1, "seconds?"), (60, "min"), (60, "minutes?")], "ms": [(1000, "s"), (1000, "seconds?")]}
    ways["min"] = [(1, "min"), (1, "minutes?"), (60, "h"), (60, "hours?")]
    units = ways.get(value.unit.split()[0] if value.unit else "", [(1, re.escape(value.unit))])
    if value.unit.startswith("share"):
        number, units = number * 100, [(1, "%")]
    out = []
    for divisor, unit in units:
        amount = number / divisor
        if amount.denominator == 1:
            names = [str(amount.numerator), *([WORDS[amount.numerator]] if amount.numerator in WORDS else [])]
            out += [rf"\b{name}[ -]{unit}(?!\w)" for name in names]
    if value.unit == "fit factor":
        out.append(rf"\blevel (of )?{re.escape(str(value.value))}\b|below {re.escape(str(value.value))}\b")
    return "|".join(out) or r"(?!)"


def strings(data: Any) -> Iterator[str]:
    if isinstance(data, str):
        yield data
    elif isinstance(data, dict):
        for one in data.values():
            yield from strings(one)
    elif isinstance(data, (list, tuple)):
        for one in data:
            yield from strings(one)


def everything_said(book: Book, protocol_id: str) -> set[str]:
    """All that screens and papers say in a visit that begins badly and ends in a pass."""
    rules = rules_for(book)
    protocol = rules.protocol(protocol_id)
    assert protocol is not None
    bench, out = Bench(rules, method=protocol.method), set[str]()
    look = bench.say

    def say(payload: ev.Payload, seconds: float = 4) -> Any:
        out.update(strings(encode(bench.view)))
        return look(payload, seconds)

    bench.task = task(oxygen_percent="99")
    bench.say = say  # type: ignore[method-assign]  # listens in on every step of the walk
    bench.until("run", piece_for(Way(book.id, protocol_id)))
    if protocol.is_qualitative:
        bench.smell()
    else:
        for factor in (20, 4000):
            bench.run((factor,) * len(protocol.exercises()), protocol_id=protocol.id)
            if factor == 20:
                bench.say(ev.Decided("same_again"))
                bench.until("run")
    bench.until("release")
    names = Names("P", "1", "E", "S", "T", "M", ())
    page = render_html(report_view(bench.visit, "0" * 12, names, {}, "A4"))
    body = re.sub(r"<style>.*?</style>|<svg.*?</svg>|<h2>Rules this rests on.*", "", page, flags=re.S)
    return out | {re.sub(r"\s+", " ", one).strip() for one in re.split(r"<[^>]+>", body)}


@pytest.mark.parametrize("protocol_id", METHODS)
def test_no_sentence_goes_on_saying_an_old_number(protocol_id: str) -> None:
    book = confirmed(shipped_books()["us-29cfr1910-134"])
    changed = replace(book, values={key: unusual(one) for key, one in book.values.items()})
    numeric = {key: one for key, one in book.values.items() if changed.values[key] != one}
    assert len(numeric) > 25
    still = everything_said(book, protocol_id) & everything_said(changed, protocol_id)
    assert len(still) > 200, "most of what is said is no number"
    own = " ".join(strings(encode(rules_for(book).protocol(protocol_id))))
    found = [
        f"{key} = {one.value} {one.unit}: {text}"
        for key, one in numeric.items()
        for text in sorted(still)
        if len(text.split()) > 3 and text.strip("[]") not in own
        if re.search(said(one), text, re.I)
    ]
    assert found == []


def test_a_number_in_words_would_be_found() -> None:
    book = shipped_books()["us-29cfr1910-134"]
    wear = book.values["wear.minimum"]
    assert re.search(said(wear), "Five minutes of wear come before it.", re.I)
    assert re.search(said(book.values["drift.maximum"]), "unsteady by more than 20 % of its mean")
    assert not re.search(said(wear), "Five of them are here.", re.I)
