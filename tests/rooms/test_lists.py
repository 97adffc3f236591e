"""Today, people, a person, pass results: paging, search, counting unit, dates at the site."""

from __future__ import annotations

import io
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from dateutil.relativedelta import relativedelta
from openpyxl import load_workbook
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.web.actor import Actor
from moorfog.rooms.people.people import PersonEntry, add_person
from tests.rooms.house import GOOD, Client, House, Refused

BAD = ("400", "600", "300", "500")


def run_typed(tester: Client, visit: str, inside: tuple[str, ...]) -> None:
    tester.until(visit, "run")
    tester.type_numbers(visit, tester.start(visit, "typed"), inside)


def finish(tester: Client, visit: str) -> None:
    if tester.get(f"/api/visits/{visit}")["visit"]["offers"]:
        tester.say(visit, {"kind": "decided", "next": "end"})
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})


def counted(tester: Client) -> dict[tuple[str, str], tuple[int, int, int]]:
    found = tester.get("/api/results")
    assert found["total"] == len(found["rows"])
    return {(one["model"], one["size"]): (one["tested"], one["passed"], one["passed_first"]) for one in found["rows"]}


def test_pass_results_count_a_person_model_size_and_visit_once(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    run_typed(tester, visit, BAD)
    tester.say(visit, {"kind": "decided", "next": "same_again"})
    run_typed(tester, visit, GOOD)
    assert counted(tester) == {}, "unsigned records do not count"
    finish(tester, visit)
    assert counted(tester) == {("Tindle & Wray Sedge", "S"): (1, 1, 0)}, "failed, then passed: tested once"
    second = tester.open(house.ours.people[1])
    run_typed(tester, second, BAD)
    finish(tester, second)
    assert counted(tester) == {("Tindle & Wray Sedge", "S"): (2, 1, 0)}
    void = tester.open(house.ours.people[2])
    run_typed(tester, void, ("5300", "5300", "5300", "5300"))
    finish(tester, void)
    assert counted(tester) == {("Tindle & Wray Sedge", "S"): (2, 1, 0)}, "void-only is left out"
    tester.whole_visit(house.ours.people[2])
    assert counted(tester) == {("Tindle & Wray Sedge", "S"): (3, 2, 1)}
    (row,) = tester.get("/api/results")["rows"]
    assert row["passed_share"] is None, "three people are too few to tell"
    of = f"/api/results/people?model_id={row['model_id']}&size=S"
    for whole, number in (("tested", 3), ("passed", 2), ("first", 1), ("failed", 1)):
        assert tester.get(f"{of}&whole={whole}")["total"] == number, "every figure opens its people"
    assert {one["visit_id"] for one in tester.get(f"{of}&whole=failed")["rows"]} == {second}
    assert house.client("tester", house.theirs).get(of)["rows"] == []
    for by, part in (("cell", "cell 4"), ("task", "grain dust"), ("tester", "tester ours")):
        (line,) = tester.get(f"/api/results/parts?model_id={row['model_id']}&size=S&by={by}")["rows"]
        assert (line["part"], line["tested"], line["passed"], line["passed_first"]) == (part, 3, 2, 1)
        assert line["passed_share"] is None
    day = house.clock.at.date()
    for asked, total in (
        (f"since={day}", 1),
        (f"until={day}", 1),
        (f"since={day + timedelta(days=1)}", 0),
        (f"until={day - timedelta(days=1)}", 0),
        ("method=ambient_count", 1),
        ("method=sweet", 0),
    ):
        assert tester.get(f"/api/results?{asked}")["total"] == total, asked
    for wrong, code in (("since=soon", "not_a_date"), ("method=guess", "no_method")):
        with pytest.raises(Refused, match=code):
            tester.get(f"/api/results?{wrong}")
    book = load_workbook(io.BytesIO(tester.call("GET", "/api/results.xlsx", raw=True)))
    line = next(iter(book.active.iter_rows(min_row=2, values_only=True)))
    assert line[:5] == (row["model"], "S", 3, 2, "too few to tell")
    assert tester.get(f"/api/results?site={house.ours.site}")["total"] == 1
    with pytest.raises(Refused, match="not_found"):
        tester.get(f"/api/results?site={house.theirs.site}")
    assert house.client("tester", house.theirs).get("/api/results")["rows"] == []


def test_a_later_fail_on_the_same_configuration_ends_an_earlier_pass(house: House) -> None:
    tester = house.client()
    tester.whole_visit()
    (one,) = tester.get(f"/api/people/{house.ours.people[0]}")["permissions"]["rows"]
    assert one["may"] and not one["reasons"]
    house.clock.pass_by(3600)
    tester.whole_visit(inside=BAD)
    (one,) = tester.get(f"/api/people/{house.ours.people[0]}")["permissions"]["rows"]
    assert not one["may"] and [why["code"] for why in one["reasons"]] == ["failed_since"]


@pytest.mark.parametrize(
    ("zone", "moment"),
    [
        ("America/New_York", datetime(2026, 3, 2, 1, 30, tzinfo=UTC)),  # still 1 March there
        ("Pacific/Auckland", datetime(2026, 3, 1, 13, 0, tzinfo=UTC)),  # already 2 March there
        ("America/New_York", datetime(2028, 2, 29, 18, 0, tzinfo=UTC)),  # a leap day
    ],
)
def test_valid_until_is_a_date_where_the_site_is(
    engine: Engine, rules: Rules, catalogue: None, zone: str, moment: datetime
) -> None:
    """Dates from zoneinfo and dateutil."""
    house = House(engine, rules, zone)
    house.clock.at = moment - timedelta(minutes=25)
    house.put_on_file()
    tester = house.client()
    tester.whole_visit()
    day = house.clock.at.astimezone(ZoneInfo(zone)).date()
    (one,) = tester.get(f"/api/people/{house.ours.people[0]}")["permissions"]["rows"]
    until = day + relativedelta(years=1)
    assert (one["tested_on"], one["test_until"]) == (day.isoformat(), until.isoformat())
    for on, is_valid in ((until, True), (until + timedelta(days=1), False)):
        house.clock.at = datetime.combine(on, datetime.max.time(), ZoneInfo(zone)).replace(microsecond=0)
        house.put_on_file()
        (one,) = house.client().get(f"/api/people/{house.ours.people[0]}")["permissions"]["rows"]
        assert one["may"] is is_valid and [why["code"] for why in one["reasons"]] == ([] if is_valid else ["ended"])


@pytest.mark.parametrize(
    ("q", "found"),
    [
        ("asa", ["Åsa Tarn"]),
        ("TARN", ["Åsa Tarn"]),
        ("heath", ["Łukasz Moss Heather"]),
        ("moss h", ["Łukasz Moss Heather"]),
        ("lukasz", ["Łukasz Moss Heather"]),
        ("ŁUK", ["Łukasz Moss Heather"]),
        ("heather luk", ["Łukasz Moss Heather"]),
        ("heather bo", []),
        ("uka", []),
        ("%", []),
        ("_", []),
        ("' or 1=1 --", []),
    ],
)
def test_people_are_found_by_the_beginning_of_any_name_word(house: House, q: str, found: list[str]) -> None:
    page = house.client().call("GET", f"/api/people?q={q.replace('%', '%25')}")
    assert [one["name"] for one in page["rows"]] == found and page["total"] == len(found)


def test_people_are_found_by_number_and_come_in_pages(house: House) -> None:
    def crowd(db: Session) -> None:
        actor = Actor("", "", "", (("administrator", None),))
        for number in range(60):
            entry = PersonEntry(house.ours.site, f"Wren Holm {number:02d}", f"w{number}-{house.mark}", "", "", "")
            add_person(db, house.clock, actor, entry)

    run_in_transaction(house.engine, crowd)
    tester = house.client()
    assert [one["number"] for one in tester.get(f"/api/people?q={house.mark}-1")["rows"]] == [f"{house.mark}-1"]
    seen: list[str] = []
    first = tester.get("/api/people?q=wren")
    assert (first["total"], first["pages"]) == (60, 3)
    for page in range(1, 4):
        seen += [one["name"] for one in tester.get(f"/api/people?q=wren&page={page}")["rows"]]
    assert seen == [f"Wren Holm {number:02d}" for number in range(60)]
    assert tester.get("/api/people?q=wren&page=99")["page"] == 3


def test_today_tells_who_is_here_what_was_left_and_what_is_done(house: House) -> None:
    tester = house.client()
    left = tester.open(house.ours.people[0])
    house.clock.at += timedelta(days=2)
    tester = house.client()
    done = tester.whole_visit(house.ours.people[1])
    here = tester.open(house.ours.people[2])
    shown = tester.get("/api/today")
    assert [[one["visit_id"] for one in shown[key]["rows"]] for key in ("here", "unfinished", "done")] == [
        [here],
        [left],
        [done],
    ]
    here, left, done = (shown[key]["rows"][0] for key in ("here", "unfinished", "done"))
    assert here["doing"] == "Is this the right person?" and done["verdict"] == "pass"
    assert date.fromisoformat(left["opened_at"][:10]) < date.fromisoformat(here["opened_at"][:10])


def test_the_days_lists_come_in_pages_and_none_is_cut(house: House) -> None:
    def crowd(db: Session) -> list[str]:
        actor = Actor("", "", "", (("administrator", None),))
        entries = (PersonEntry(house.ours.site, f"Day {n:02d}", f"d{n}-{house.mark}", "", "", "") for n in range(28))
        return [add_person(db, house.clock, actor, one) for one in entries]

    tester = house.client()
    opened = [tester.open(person) for person in run_in_transaction(house.engine, crowd)]
    first = tester.get("/api/today")["here"]
    second = tester.get("/api/today?here=2")["here"]
    assert (first["total"], first["pages"], len(first["rows"]), len(second["rows"])) == (28, 2, 25, 3)
    assert {one["visit_id"] for one in (*first["rows"], *second["rows"])} == set(opened)
    assert tester.get("/api/today?done=7")["done"]["page"] == 1
