"""The report's view model and its trace, before any page is set."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.rules.book import Rules
from moorfog.documents.report import Names, ReportView, render_html, report_view
from moorfog.documents.trace import per_second, trace_svg
from tests.core.bench import BAD_FACTORS, GOOD, Bench, simulate

NAMES = Names(
    "Åsa <Tarn>", "17", "Cold Haven", "Slip 2", "hull sanding", "Maren Oake", (("wearer", "Åsa", "2026-03-02 09:30"),)
)


def view(bench: Bench, **readings: list) -> ReportView:
    return report_view(bench.visit, "01a20ffd-532c-7aeb-8aad-f7a264a87ec2", NAMES, dict(readings), "A4")


def finished(rules: Rules, *runs: tuple[int, ...]) -> Bench:
    bench = Bench(rules)
    for number, factors in enumerate(runs):
        bench.until("run")
        bench.run(factors)
        if number < len(runs) - 1:
            bench.say(ev.Decided("same_again"))
    if bench.picture.offers:
        bench.say(ev.Decided("end"))
    bench.until("release")
    bench.do("release")
    return bench


def test_a_pass_is_shown_with_the_failed_tries_before_it(rules: Rules) -> None:
    shown = view(finished(rules, BAD_FACTORS, GOOD))
    assert [one.view.outcome for one in shown.tries] == ["fail", "pass"]
    assert shown.headline.startswith("Pass, overall fit factor ") and shown.valid_until == "2027-03-02"
    page = render_html(shown)
    assert "after 1 earlier try, all below" in page and page.index("Try 1: fail") < page.index("Try 2: pass")


def test_without_a_pass_there_is_no_date_until_which_it_holds(rules: Rules) -> None:
    shown = view(finished(rules, BAD_FACTORS))
    assert shown.verdict == "fail" and shown.headline == "Fail" and shown.valid_until == ""


def test_an_unsigned_or_practice_pass_promises_nothing(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("run")
    bench.run()
    bench.until("sign_wearer")
    assert view(bench).verdict == "pass" and view(bench).valid_until == ""
    practice = Bench(rules, is_practice=True, speed=10)
    practice.until("run")
    practice.run()
    practice.until("release")
    shown = view(practice)
    assert shown.valid_until == "" and render_html(shown).count("PRACTICE") >= 2


def test_names_are_text_and_never_markup(rules: Rules) -> None:
    page = render_html(view(finished(rules, GOOD)))
    assert "Åsa &lt;Tarn&gt;" in page and "<Tarn>" not in page


def test_every_gate_that_was_asked_is_listed_with_how_and_when(rules: Rules) -> None:
    bench = finished(rules, GOOD)
    shown = view(bench)
    listed = {one.title: one for one in shown.gates}
    for answer in bench.visit.answers.values():
        item = rules.procedure.find(answer.question)
        assert item is not None
        line = listed[item.title]
        assert line.how == ("observed" if item.mode == "observe" else "asked")
        assert item.source in line.source and item.standing in line.source
    assert any(one.key == "level.half" and one.standing == "recalled" for one in shown.rules)


def test_a_correction_and_what_was_put_back_stand_in_it(rules: Rules) -> None:
    bench = finished(rules, GOOD)
    bench.say(ev.Corrected(1, "size misread", size="L"))
    shown = view(bench)
    assert shown.revision == 2 and shown.corrections == ("size misread",) and shown.valid_until == ""
    assert any("valve cover back on" in one for one in shown.loops)


def test_a_visit_that_was_never_opened_has_no_report(rules: Rules) -> None:
    bench = Bench(rules)
    with pytest.raises(ValueError, match="never opened"):
        report_view(replace(bench.visit, opened=None), "x", NAMES, {}, "A4")


def test_the_trace_holds_a_mean_for_every_second_and_both_positions(rules: Rules) -> None:
    protocol = next(one for one in rules.protocols if one.id == "fast-count-elastomeric")
    readings = simulate(protocol, GOOD)
    points = per_second(protocol, readings, protocol.total_s * 1000)
    assert len(points) == protocol.total_s and points[0][0] == 0.5
    outside = [value for second, value, valve in points if valve == "O" and 5 < second < 9]
    counts = [one.counts * 1e6 / one.volume_nl for one in readings if 5000 < one.t <= 9000]
    assert sum(outside) / len(outside) == pytest.approx(sum(counts) / len(counts), rel=1e-9)
    drawing = trace_svg(protocol, readings, Fraction(100))
    for exercise in protocol.exercise:
        assert exercise.name in drawing
    assert drawing.count("<polyline") >= 3 and "NaN" not in drawing and "inf" not in drawing


def test_a_trace_of_nothing_is_an_empty_ladder(rules: Rules) -> None:
    protocol = rules.protocols[0]
    assert per_second(protocol, [], 1000) == [] and "<polyline" not in trace_svg(protocol, [], Fraction(100))


@pytest.mark.parametrize("name", ["aerosol-us", "pressure-short"])
def test_the_trace_of_every_instrument_is_drawn_in_its_own_unit(rules: Rules, name: str) -> None:
    protocol = rules.protocol(name)
    assert protocol is not None
    readings = simulate(protocol, (1000,) * len(protocol.exercises()))
    points = per_second(protocol, readings, protocol.total_s * 1000)
    inside = [
        value
        for second, value, valve in points
        if valve == "I" and (32 < second < 40 or (name == "aerosol-us" and 30 < second < 60))
    ]
    expected = 15.0 if name == "aerosol-us" else 53.8  # a thousandth of the challenge, of the modelled flow
    assert sum(inside) / len(inside) == pytest.approx(expected, rel=0.15)
    assert "<polyline" in trace_svg(protocol, readings, Fraction(100))
