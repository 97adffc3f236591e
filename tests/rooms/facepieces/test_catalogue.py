"""The catalogue as JSON and CSV: whatever is written is read back, and a mistake is named, without a database."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import fields
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.kernel.codec import encode
from moorfog.data import facepiece_kinds
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.facepieces.catalogue import Model, Size, _as_cell, _guarded, read_csv, read_json

word = st.from_regex(r"[A-Za-zÅØ=+@-][A-Za-z0-9 ÅØ.-]{0,11}", fullmatch=True).map(str.strip).filter(bool)
words = st.lists(word.filter(lambda one: not one.startswith("'")), max_size=3, unique=True).map(tuple)
low = st.integers(80, 120)


@st.composite
def sizes(draw: st.DrawFn) -> tuple[Size, ...]:
    names = draw(st.lists(st.from_regex(r"[A-Z][A-Z/]{0,3}", fullmatch=True), min_size=1, max_size=4, unique=True))
    out = []
    for name in names:
        begin, width = draw(low), draw(low)
        spans = draw(st.sampled_from(["none", "length", "both"]))
        length = (str(begin), str(begin + 12)) if spans != "none" else ("", "")
        across = (str(width + 20), str(width + 40)) if spans == "both" else ("", "")
        out.append(Size(name, *length, *across))
    return tuple(out)


models = st.builds(
    Model,
    maker=word,
    model=word,
    kind=st.sampled_from(sorted(facepiece_kinds())),
    sizes=sizes(),
    valve=st.booleans(),
    filter_kind=st.sampled_from(["media", "particulate", "gas", "combined"]),
    filter_classes=words,
    cover=st.sampled_from(["front", "palms", "thumbs", "none"]),
    probe=st.sampled_from(["valve_seat", "probed_cartridge", "through"]),
    test_filters=st.booleans(),
    suspensions=words,
    clips=words,
    approval=st.just("") | word,
    diaphragms=st.integers(0, 9),
    accessories=words,
    donning=words,
    doffing=words,
    adapter=st.sampled_from(["", "used once", "inspected, cleaned, reused"]),
    filters_as_pair=st.booleans(),
    wash_limit_c=st.sampled_from(["", "43", "49"]),
    reuse=st.sampled_from(["", "discard", "one shift", "never re-applied", "maker's limit"]),
)


def written(model: Model) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    names = [one.name for one in fields(Model)]
    writer.writerow(names)
    writer.writerow([_guarded(_as_cell(getattr(model, name))) for name in names])
    return out.getvalue()


@given(models)
def test_a_model_survives_csv_and_json(model: Model) -> None:
    assert read_json(json.dumps([encode(model)])) == [model]
    assert read_csv(written(model)) == [model]


@given(models)
def test_no_cell_is_a_formula_to_a_spreadsheet(model: Model) -> None:
    for row in csv.reader(io.StringIO(written(model))):
        for cell in row:
            assert cell[:1] not in ("=", "+", "@", "\t", "\r") and not cell.startswith("-")


def one_model(**changes: Any) -> str:
    plain = encode(
        Model("A", "B", "half", (Size("M", "110", "124"),), True, "particulate", (), "thumbs", "through", False)
    )
    return json.dumps([{**plain, **changes}])


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "no JSON"),
        ("{}", "list of models"),
        (one_model(kind="helmet"), "model 1.kind"),
        (one_model(valve="yes"), "model 1.valve"),
        (one_model(colour="red"), "model 1.colour"),
        (one_model(maker=" "), "maker, model and at least one size"),
        (one_model(sizes=[]), "at least one size"),
        (one_model(clips=["x" * 61]), "model 1.clips: " + 40 * "x" + "… has 61 signs; 60 are kept"),
        (one_model(sizes=[{"name": "M" * 41}]), "41 signs; 40 are kept"),
        (one_model(sizes=[{"name": "M", "length_from": "130", "length_to": "110"}]), "no range"),
        (one_model(sizes=[{"name": "M", "length_from": "wide", "length_to": "110"}]), "size M"),
    ],
)
def test_a_mistake_is_named_with_its_place(text: str, words: str) -> None:
    with pytest.raises(DomainError) as error:
        read_json(text)
    assert words in error.value.message
