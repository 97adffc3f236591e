"""What is worked out beforehand says what the facts say: how people stand, and what pass results count."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from datetime import timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from moorfog.core.permission.standing import standing_of
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.log.readmodels import rebuild
from moorfog.platform.log.summaries import ResultCount, Standing, StandingBy, TryResult
from moorfog.platform.log.tables import VisitHead
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear import standing
from moorfog.rooms.wear.permissions import answers_for, at_work, usual_task
from tests.rooms.house import GOOD, GRAIN, TASK, House
from tests.rooms.test_lists import BAD
from tests.rooms.test_store import wander


def stands(house: House) -> dict[str, tuple[str, bool]]:
    """How our people stand as it is kept, held against the one permission asked anew of each alone."""
    out = {}
    with Session(house.engine) as db:
        site = db.get_one(Site, house.ours.site)
        today = house.clock.at.astimezone(ZoneInfo(site.zone)).date()
        standing.freshen(db, site, today, standing.WHILE_WAITING)
        db.commit()
        for person in db.scalars(select(Person).where(Person.site_id == site.id)):
            row = db.get_one(Standing, person.id)
            here = person.left_on is None and person.merged_into is None and person.erased_at is None
            assert (row.is_here, row.site_id) == (here, site.id)
            if not here:
                continue
            task = usual_task(db, person)
            answer = answers_for(db, [person], today.isoformat(), lambda _, task=task: task)[person.id]  # type: ignore[misc]
            found = standing_of(answer.found, answer.known.facts, answer.books, today.isoformat())
            kept = (row.until.isoformat() if row.until else "", row.is_only)
            assert not row.is_stale and kept == (found.until, found.is_only), person.name
            out[person.id] = kept
    return out


def test_whatever_changes_a_fact_is_heard_at_once(house: House) -> None:
    """Every way in by which a fact about a person changes, one after the other, each with what it does to them."""
    tester, admin = house.client(), house.client("administrator")
    first, second, third = house.ours.people
    day = house.clock.at.astimezone(ZoneInfo(house.zone)).date()
    cleared = {"status": "cleared", "limits": [], "valid_from": day.isoformat(), "by_whom": "Harbour Row"}
    until = {days: (day + timedelta(days=days)).isoformat() for days in (20, 40, 335)}

    def told(person: str, change: Callable[[], Any], what: str) -> None:
        before = stands(house).get(person)
        change()
        with Session(house.engine) as db:
            row = db.get_one(Standing, person)
            assert row.is_stale, f"{what} is heard"
        now = stands(house)
        assert now.get(person) != before or what in NOTHING_ELSE, what

    def report() -> str:
        said = {"kind": "health", "on": day.isoformat(), "said_by": "wearer", "words": "", "configuration": ""}
        return str(tester.post(f"/api/people/{first}/reports", said)["id"])

    def clear_of(person: str, days: int) -> Callable[[], Any]:
        return lambda: tester.post(f"/api/people/{person}/clearance", {**cleared, "valid_until": until[days]})

    def settle(decision: str) -> Callable[[], Any]:
        def done() -> None:
            rows = tester.get("/api/recalls?only_open=true")["rows"]
            (mine,) = [one["id"] for one in rows if one["kit_id"] == house.ours.counter]
            tester.post(f"/api/recalls/{mine}/settle", {"decision": decision, "reason": "it was a draught"})

        return done

    def fails_its_check() -> None:
        house.clock.pass_by(600)
        wrong = {"name": "clean_air", "value": "900"}
        tester.post(f"/api/counters/{house.ours.counter}/checks", wrong)

    assert stands(house)[first] == ("", False), "never tested"
    told(first, lambda: tester.whole_visit(first), "a pass")
    tester.whole_visit(third)
    told(first, clear_of(first, 40), "a clearance")
    reported: list[str] = []
    told(first, lambda: reported.append(report()), "a report of change")
    told(first, lambda: admin.post(f"/api/reports/{reported[0]}/withdrawal", {"why": "meant another"}), "taken back")
    told(third, fails_its_check, "a failed check of the counter")
    assert stands(house)[third] == ("", False), "of everybody who was tested with it since it was last good"
    told(third, settle("clear"), "the check cleared")
    assert stands(house)[first] == (until[40], True)
    task = {**TASK, **GRAIN, "name": "grain dust"}
    told(first, lambda: admin.post(f"/api/sites/{house.ours.site}/tasks", task), "a task of the site")
    tester.task = next(one["id"] for one in admin.get(f"/api/sites/{house.ours.site}/tasks"))
    rule = {"book": "us-29cfr1910-134", "key": "training.interval", "reason": "twice a year", "edition": "2024"}
    told(third, lambda: admin.post(f"/api/sites/{house.ours.site}/rules", {**rule, "value": "6"}), "a rule of the site")
    trained = {"trained_on": day.isoformat(), "what": "donning"}
    told(third, lambda: tester.post(f"/api/people/{third}/training", trained), "a training")
    left = {"left_on": day.isoformat()}
    told(third, lambda: tester.post(f"/api/people/{third}/left", left), "leaving")
    assert third not in stands(house)
    tester.call("POST", f"/api/people/{third}/back")
    merged = {"other_id": first, "why": "same badge"}
    told(second, lambda: admin.post(f"/api/people/{second}/merge", merged), "another entry of theirs")
    assert stands(house)[second][0], "what one entry passed, the other has"
    house.clock.pass_by(600)
    told(second, lambda: tester.whole_visit(second, inside=BAD), "a fail")
    assert stands(house)[second] == ("", False)


NOTHING_ELSE = {"a task of the site"}
"""What changes nothing for the one who is looked at, and is heard all the same."""


def test_days_that_pass_are_heard_without_any_entry(house: House) -> None:
    tester, person = house.client(), house.ours.people[0]
    tester.whole_visit(person)
    day = house.clock.at.astimezone(ZoneInfo(house.zone)).date()
    cleared = {"status": "cleared", "limits": [], "by_whom": "Harbour Row"}
    soon, later = (day + timedelta(days=5)).isoformat(), (day + timedelta(days=9)).isoformat()
    first = {**cleared, "valid_from": day.isoformat(), "valid_until": soon}
    tester.post(f"/api/people/{person}/clearance", first)
    tester.post(f"/api/people/{person}/clearance", {**cleared, "valid_from": later, "valid_until": ""})
    assert stands(house)[person][0] == soon
    house.clock.pass_by(6 * 86400)
    assert stands(house)[person] == ("", False), "run out"
    house.clock.pass_by(3 * 86400)
    assert stands(house)[person][0] > later, "the next one has begun"


def test_what_changes_while_it_is_worked_out_is_not_lost(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """The facts were read before a report came in, and what they came to is written after it."""
    tester, person = house.client(), house.ours.people[0]
    tester.whole_visit(person)
    work_out = standing.answers_for

    def late(*given: Any) -> Any:
        found = work_out(*given)
        monkeypatch.undo()
        on = house.clock.at.astimezone(ZoneInfo(house.zone)).date().isoformat()
        said = {"kind": "fit", "on": on, "said_by": "wearer", "words": "", "configuration": ""}
        tester.post(f"/api/people/{person}/reports", said)
        return found

    monkeypatch.setattr(standing, "answers_for", late)
    with Session(house.engine) as db:
        site = db.get_one(Site, house.ours.site)
        today = house.clock.at.astimezone(ZoneInfo(site.zone)).date()
        standing.freshen(db, site, today, standing.AT_ONCE)
        db.commit()
        assert db.get_one(Standing, person).is_stale
    assert stands(house)[person] == ("", False)


def counted(house: House) -> dict[tuple[str, ...], tuple[int, ...]]:
    """The counts of our employer as they are kept."""
    whose = ResultCount.place.in_((house.ours.employer, house.ours.site))
    with Session(house.engine) as db:
        rows = db.scalars(select(ResultCount).where(whose))
        kept = {
            (one.place, one.method, one.period, one.model_id, one.size): (
                *(one.tested, one.passed, one.passed_first, one.sensed),
            )
            for one in rows
        }
    return {key: value for key, value in kept.items() if any(value)}


def anew(house: House) -> dict[tuple[str, ...], tuple[int, ...]]:
    """The same from the tries, by a second hand: a person × model × size × visit counts once."""
    out: dict[tuple[str, ...], Counter[int]] = {}
    with Session(house.engine) as db:
        query = (
            select(TryResult)
            .join(VisitHead, VisitHead.id == TryResult.visit_id)
            .where(
                TryResult.employer_id == house.ours.employer,
                TryResult.is_signed.is_(True),
                TryResult.is_practice.is_(False),
                TryResult.outcome.in_(("pass", "fail")),
            )
            .order_by(TryResult.visit_id, TryResult.no)
        )
        units: dict[tuple[str, ...], list[TryResult]] = {}
        for one in db.scalars(query):
            for method in ("", one.method):
                units.setdefault((one.visit_id, one.model_id, one.size, method), []).append(one)
    for (_, model, size, method), tries in units.items():
        day = tries[-1].tested_at.astimezone(ZoneInfo(house.zone)).date().isoformat()
        for place in (house.ours.employer, house.ours.site):
            for period in ("", day[:7], day):
                adds = Counter({0: 1, 1: tries[-1].outcome == "pass", 2: tries[0].outcome == "pass", 3: 0})
                out.setdefault((place, method, period, model, size), Counter()).update(adds)
    return {key: tuple(one[at] for at in range(4)) for key, one in out.items()}


@pytest.mark.parametrize("seed", range(3))
def test_counts_are_those_of_the_tries_whatever_was_pressed(house: House, seed: int) -> None:
    dice, tester = random.Random(100 + seed), house.client()
    tester.check_counter()
    visits = []
    for person in house.ours.people:
        visits.append(tester.whole_visit(person, inside=dice.choice((BAD, GOOD))))
        wander(tester, tester.open(person), dice)
    assert counted(house) == anew(house) != {}
    chosen = tester.get(f"/api/visits/{visits[0]}")["visit"]["tries"][0]["chosen_seq"]
    tester.say(visits[0], {"kind": "corrected", "target": chosen, "reason": "the other size", "size": "M"})
    assert counted(house) == anew(house), "a record that is not signed again counts no more"
    rebuild(house.schema)
    assert counted(house) == anew(house), "and filled anew they are the same"


def test_a_crew_asks_as_much_as_one_person(house: House) -> None:
    """The number of questions to the database does not rise with the number of people."""
    from sqlalchemy import event

    tester = house.client()
    for person in house.ours.people:
        tester.whole_visit(person)

    def questions(people: list[str]) -> int:
        asked: list[str] = []

        def count(*given: Any) -> None:
            asked.append(given[2])

        def ask(db: Session) -> None:
            rows = db.scalars(select(Person).where(Person.id.in_(people))).all()
            found = answers_for(db, rows, house.clock.at.date().isoformat(), at_work(db))
            assert len(found) == len(people) and all(one.found for one in found.values())

        event.listen(house.engine, "before_cursor_execute", count)
        try:
            run_in_transaction(house.engine, ask)
        finally:
            event.remove(house.engine, "before_cursor_execute", count)
        return len(asked)

    assert questions(house.ours.people) == questions(house.ours.people[:1])


def test_what_another_program_worked_out_is_asked_anew(house: House) -> None:
    stands(house)
    run_in_transaction(house.engine, standing.distrust_foreign)
    stands(house)
    assert not run_in_transaction(house.engine, standing.distrust_foreign), "its own it believes"
    run_in_transaction(house.engine, lambda db: db.execute(update(StandingBy).values(made_by="an earlier one")))
    assert run_in_transaction(house.engine, standing.distrust_foreign)
    with Session(house.engine) as db:
        assert all(db.get_one(Standing, one).is_stale for one in house.ours.people)


def test_a_site_where_it_is_not_yet_that_day_holds_no_other_up(house: House) -> None:
    """Somebody's answer ends with the day at one site while it goes on at another: the worker takes up both in time."""

    def again(place: str) -> set[bool]:
        with Session(house.engine) as db:
            return {row.is_stale for row in db.scalars(select(Standing).where(Standing.site_id == place))}

    for _ in standing.freshen_everywhere(house.engine, house.clock):
        pass
    assert again(house.ours.site) == again(house.theirs.site) == {False}
    today = house.clock.at.date()
    soon = {house.ours.site: today + timedelta(days=1), house.theirs.site: today - timedelta(days=2)}
    with Session(house.engine) as db, db.begin():
        for site, day in soon.items():
            db.execute(update(Standing).values(look_again=day).where(Standing.site_id == site))
    for _ in standing.freshen_everywhere(house.engine, house.clock):
        pass
    with Session(house.engine) as db:
        due = select(Standing.look_again).where(Standing.site_id == house.theirs.site)
        assert not any(day is not None and day <= today for day in db.scalars(due)), "theirs were taken up"


def test_a_site_of_which_something_cannot_be_read_holds_no_other_up(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    true = standing._work_out

    def torn(db: Session, site: Site, *rest: Any) -> None:
        if site.id == house.ours.site:
            raise ValueError("a fact nobody can read")
        true(db, site, *rest)

    with Session(house.engine) as db, db.begin():
        ours = Standing.site_id.in_([house.ours.site, house.theirs.site])
        db.execute(update(Standing).where(ours).values(is_stale=True))
    monkeypatch.setattr(standing, "_work_out", torn)
    for _ in standing.freshen_everywhere(house.engine, house.clock):
        pass
    with Session(house.engine) as db:
        stale = {one.site_id for one in db.scalars(select(Standing).where(Standing.is_stale, ours))}
    assert stale == {house.ours.site}
