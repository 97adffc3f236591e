"""Qualitative tests through the API on a real MariaDB: kit, runs, the wearer's address, a clogged nebuliser."""

from __future__ import annotations

import io
from datetime import datetime, timedelta
from typing import Any

import pypdf
import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.chain import check_chain
from moorfog.core.kernel.codec import decode
from moorfog.core.views.wearer import WearerView
from moorfog.jobs import run_job
from moorfog.platform.db.base import new_id
from moorfog.platform.jobs.jobs import claim
from moorfog.platform.jobs.tables import Job
from moorfog.platform.log.log import forget_states, load_events
from moorfog.platform.log.same import entries_of
from moorfog.platform.log.summaries import TryKit, TryResult, WearPermission
from moorfog.rooms.kit.found_wrong import suspensions_of
from moorfog.rooms.kit.lending import note_lent
from moorfog.rooms.kit.tables import LotRow, NebuliserRow
from moorfog.rooms.records.recall import run_recall
from tests.rooms.house import Client, House, Refused

MODELS = {"sweet": "Sedge", "bitter": "Sedge", "odour": "Bracken", "smoke": "Sedge"}


def with_kit(house: House, agent: str) -> Client:
    """A tester with the kit of an agent."""
    tester = house.client()
    tester.method = agent
    tester.stock(agent)
    return tester


def finish(tester: Client, visit: str) -> dict[str, Any]:
    """Answer and do what is left until the visit is released; return its last try."""
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})
    tries: list[dict[str, Any]] = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    return tries[-1]


def permissions(house: House, visit: str) -> list[WearPermission]:
    """What a visit permits."""
    with Session(house.engine) as db:
        return list(db.scalars(select(WearPermission).where(WearPermission.visit_id == visit)))


@pytest.mark.parametrize("agent", list(MODELS))
def test_a_pass_is_on_record_without_a_number(house: House, agent: str) -> None:
    tester = with_kit(house, agent)
    visit = tester.open()
    tester.until(visit, "run", MODELS[agent])
    tester.to_the_end(visit)
    made = finish(tester, visit)
    assert (made["outcome"], made["overall"], made["level"]) == ("pass", "", "")
    held = permissions(house, visit)
    assert [(one.method, one.overall) for one in held] == [(agent, "")]
    issued = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    pages = pypdf.PdfReader(io.BytesIO(tester.get(issued["url"]))).pages
    text = " ".join(" ".join(page.extract_text() for page in pages).split())
    assert "Tester tester ours" in text, "who tested stands on it"
    assert "qualitative: " in text and "pass or fail, no number" in text and "overall fit factor" not in text
    lots = made["senses"]["lots"]
    assert lots and all(one.split(" lot ")[1].split(",")[0] in text for one in lots)
    with Session(house.engine) as db:
        assert check_chain(load_events(db, visit)) is None
    row = next(one for one in tester.get("/api/results")["rows"] if one["model"].endswith(MODELS[agent]))
    assert (row["tested"], row["passed"], row["sensed"]) == (1, 1, 1)
    forget_states()
    again = tester.get(f"/api/visits/{visit}")["visit"]["tries"][-1]
    assert again == made, "the same from the log alone"


@pytest.mark.parametrize("agent", list(MODELS))
def test_what_the_wearer_presses_fails_the_run_at_once(house: House, agent: str) -> None:
    tester, visit, address = run_with_a_wearer(house, agent)
    wearer = house.stranger()
    view = wearer.get(address)
    assert (view["phase"], view["button"]) == (
        "run",
        {"odour": "I smell it", "smoke": "It stings"}.get(agent, "I taste it"),
    )
    body = {"id": new_id(), "about": view["about"], "occurred_at": house.clock.at.isoformat()}
    after = wearer.post(f"{address}/sensed", body)
    assert after["phase"] == "result"
    assert wearer.post(f"{address}/sensed", body)["seq"] == after["seq"], "sent again, stored once"
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    made = shown["tries"][-1]
    assert made["outcome"] == "fail" and made["senses"]["detected_by"] == "wearer"
    offers = [one["next"] for one in shown["offers"]]
    assert ("same_again" in offers) == (agent == "smoke")
    advice = tester.get(f"/api/visits/{visit}/advice")
    assert advice["next"]
    labels = {one["label"] for one in advice["next"]}
    assert f"{made['facepiece']} {made['size']}" not in labels
    tester.say(visit, {"kind": "detection_mistaken", "run_id": view["about"], "reason": "brushed the screen"})
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][-1]["outcome"] == "void"


def run_with_a_wearer(house: House, agent: str) -> tuple[Client, str, str]:
    """A run that goes on, half a minute in, with a wearer's address."""
    tester = with_kit(house, agent)
    visit = tester.open()
    tester.until(visit, "run", MODELS[agent])
    address = "/api/wearer/" + tester.call("POST", f"/api/visits/{visit}/wearer")["path"].removeprefix("/w/")
    run_id = tester.sense(visit)
    if agent != "odour":
        tester.notice(visit, {"kind": "dose_given", "run_id": run_id}, 20)
    house.clock.pass_by(10)
    return tester, visit, address


def test_the_wearers_screen_has_no_names_and_no_numbers_and_ends(house: House) -> None:
    tester, visit, address = run_with_a_wearer(house, "sweet")
    wearer = house.stranger()
    tester.get(address)  # a window at the desk leaves the address to the wearer's own screen
    view = wearer.get(address)
    decode(WearerView, view, "view")
    for other in (house.stranger(), tester):
        for path in ("", "/live"):
            with pytest.raises(Refused, match="address_taken"):
                other.get(address + path)
    assert wearer.get(address)["about"] == view["about"], "the screen that opened it first"
    shown = str({key: value for key, value in view.items() if key not in ("at", "t0")})
    shown = tester.get(f"/api/visits/{visit}")
    for hidden in (shown["person"], shown["employer"], shown["visit"]["facepiece"]["label"], house.mark):
        assert hidden not in shown
    tester.call("POST", f"/api/visits/{visit}/wearer")
    with pytest.raises(Refused, match="address_over"):
        wearer.get(address)
    newer = "/api/wearer/" + tester.call("POST", f"/api/visits/{visit}/wearer")["path"].removeprefix("/w/")
    wearer.get(newer)
    house.clock.pass_by(3 * 3600 + 1)
    with pytest.raises(Refused, match="address_over"):
        wearer.get(newer)


def test_a_wearer_can_say_one_thing_only(house: House) -> None:
    _, visit, address = run_with_a_wearer(house, "bitter")
    wearer = house.stranger()
    for body in ({"kind": "qualitative_ended"}, {"id": new_id(), "about": "x"}, {"id": "1", "about": "x"}):
        with pytest.raises(Refused) as refused:
            wearer.post(f"{address}/sensed", body)
        assert refused.value.status == 422
    late = (house.clock.at + timedelta(hours=1)).isoformat()
    with pytest.raises(Refused, match="test_over"):
        wearer.post(f"{address}/sensed", {"id": new_id(), "about": "x", "occurred_at": late})
    run = wearer.get(address)["about"]
    wearer.post(f"{address}/sensed", {"id": new_id(), "about": run, "occurred_at": late})
    log = house.client().get(f"/api/visits/{visit}/log")["events"]
    assert [one["payload"]["kind"] for one in log[-2:]] == ["detected", "clock_differed"], "taken, dated, and flagged"
    assert log[-2]["occurred_at"][:19] == house.clock.at.isoformat()[:19]


def test_a_missed_dose_voids_and_presses_kept_while_the_server_was_away_count(house: House) -> None:
    tester = with_kit(house, "sweet")
    visit = tester.open()
    tester.until(visit, "run")
    run_id = tester.sense(visit)
    tester.notice(visit, {"kind": "dose_given", "run_id": run_id}, 20)
    t0 = house.clock.at
    kept = [t0 + timedelta(seconds=30 * number) for number in range(1, 14)]
    house.clock.at = t0 + timedelta(seconds=425)
    for at in kept:
        body = {"kind": "dose_given", "run_id": run_id}
        pressed = tester.proposal(visit, body, expects=None, occurred_at=at.isoformat())
        tester.post(f"/api/visits/{visit}/events", pressed)
    tester.notice(visit, {"kind": "qualitative_ended", "run_id": run_id, "longest_gap_ms": 400})
    view = tester.get(f"/api/visits/{visit}")
    assert view["late_entries"] >= 13, "marked as late"
    assert finish(tester, visit)["outcome"] == "pass"
    other = tester.open(house.ours.people[1])
    tester.until(other, "run")
    tester.to_the_end(other, skip=4)
    made = tester.get(f"/api/visits/{other}")["visit"]["tries"][-1]
    assert made["outcome"] == "void" and "Dose 4" in made["reasons"][0]["sentence"]


def test_the_jars_are_drawn_and_both_orders_come_up(house: House) -> None:
    tester = with_kit(house, "odour")
    seen = set()
    for _ in range(12):
        visit = tester.open()
        tester.until(visit, "screen", "Bracken")
        plan = tester.get(f"/api/visits/{visit}")["visit"]["screening"]
        assert plan["odour_jar"] == ""
        lots = [tester.kit[("odour", role)] for role in plan["lots"]]
        body = {"kind": "start_screening", "screening_id": new_id(), "nebuliser_id": None, "lot_ids": lots}
        shown = tester.say(visit, body)
        seen.add(shown["screening"]["odour_jar"])
        tester.notice(visit, {"kind": "stopped", "why": ""})
        tester.say(visit, {"kind": "turned_away", "reason": "Only drawing.", "come_back_on": None})
        tester.until(visit, "release")
        tester.say(visit, {"kind": "released"})
        house.clock.pass_by(60)
        if len(seen) == 2:
            break
    assert seen == {"left", "right"}


def test_swapped_expired_and_unchecked_kit_is_refused(house: House) -> None:
    tester = with_kit(house, "sweet")
    kit, today = tester.kit, house.clock.at.date()
    one, two = kit[("sweet", "threshold")], kit[("sweet", "fit")]
    fit = tester.get("/api/nebulisers")[1]["lot"]["id"]
    with pytest.raises(Refused, match="swapped"):
        tester.post(f"/api/nebulisers/{one}/fillings", {"lot_id": fit})
    old = {
        "employer_id": house.ours.employer,
        "agent": "sweet",
        "role": "fit",
        "number": "old",
        "made_on": (today - timedelta(days=40)).isoformat(),
        "use_by": (today - timedelta(days=10)).isoformat(),
        "made_by": "",
    }
    stale = tester.post("/api/lots", old)["id"]
    with pytest.raises(Refused, match="lot_expired"):
        tester.post(f"/api/nebulisers/{two}/fillings", {"lot_id": stale})
    for change, code in (
        ({"use_by": "2020-01-01"}, "use_by"),
        ({"role": "broth"}, "role"),
        ({"number": " "}, "number_missing"),
        ({"made_on": "yesterday"}, "date"),
    ):
        with pytest.raises(Refused, match=code):
            tester.post("/api/lots", {**old, **change})
    jar = {**old, "agent": "odour", "role": "odour_jar", "made_on": today.isoformat()}
    with pytest.raises(Refused, match="use_by"):
        tester.post("/api/lots", {**jar, "use_by": (today + timedelta(days=2)).isoformat()})
    visit = tester.open()
    tester.until(visit, "screen")
    body = {"kind": "start_screening", "screening_id": new_id(), "nebuliser_id": two, "lot_ids": []}
    with pytest.raises(Refused, match="nebuliser_role"):
        tester.say(visit, body)
    tester.screen(visit)
    tester.until(visit, "run")
    house.clock.pass_by(4 * 3600)
    with pytest.raises(Refused, match="refill"):
        tester.sense(visit)


def test_the_calculator_and_the_label(house: House) -> None:
    tester = house.client()
    half = {(one["agent"], one["role"]): one["ingredients"] for one in tester.get("/api/recipes?ml=50")}
    assert half[("sweet", "fit")] == ["41.5 g sodium saccharin"]
    assert half[("bitter", "fit")][0] == "84.375 mg denatonium benzoate"
    for wrong in ("0", "-3", "much"):
        with pytest.raises(Refused, match="amount"):
            tester.get(f"/api/recipes?ml={wrong}")
    tester.stock("bitter")
    lot = next(one for one in tester.get("/api/lots")["rows"] if one["role"] == "fit")
    text = pypdf.PdfReader(io.BytesIO(tester.get(f"/api/lots/{lot['id']}/label"))).pages[0].extract_text()
    assert lot["number"] in text and f"USE BY {lot['use_by']}" in text and "2" in text.split()


def test_cautions_are_acknowledged_once_a_day(house: House) -> None:
    tester = with_kit(house, "smoke")
    asked = []
    for person in (*house.ours.people[:2], house.ours.people[0]):
        if len(asked) == 2:
            house.clock.pass_by(24 * 3600)
            tester = with_kit(house, "smoke")
        visit = tester.open(person)
        tester.until(visit, "screen")
        asked.append(is_asked(tester, visit))
        tester.say(visit, {"kind": "turned_away", "reason": "Only asking.", "come_back_on": None})
    assert asked == [True, False, True]


def is_asked(tester: Client, visit: str) -> bool:
    """Whether the cautions were acknowledged in this very visit."""
    return any(
        one["payload"].get("question") == "smoke_cautions" for one in tester.get(f"/api/visits/{visit}/log")["events"]
    )


def test_none_by_thirty_leaves_the_other_methods(house: House) -> None:
    tester = with_kit(house, "sweet")
    tester.stock("bitter")
    visit = tester.open()
    tester.until(visit, "screen")
    name = new_id()
    body = {
        "kind": "start_screening",
        "screening_id": name,
        "nebuliser_id": tester.kit[("sweet", "threshold")],
        "lot_ids": [],
    }
    tester.say(visit, body)
    for _ in range(30):
        tester.notice(visit, {"kind": "squeezed", "screening_id": name})
    tester.say(visit, {"kind": "screened", "screening_id": name, "answer": "none"})
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    assert shown["queue"][0]["act"] == "choose_method" and "person is out" in shown["method_blocked_by"]
    methods = {one["method"]: one["verdict"] for one in tester.get(f"/api/visits/{visit}/advice")["methods"]}
    assert methods["sweet"] == "not permitted" and methods["bitter"] == "may"


# ---- a nebuliser found clogged


def three_tests(house: House) -> tuple[Client, list[str]]:
    """Three released visits with the same nebulisers; their end checks are taken off the books, as if not asked."""
    tester = with_kit(house, "sweet")
    visits = []
    for person in house.ours.people:
        visit = tester.open(person)
        tester.until(visit, "run")
        tester.to_the_end(visit)
        finish(tester, visit)
        visits.append(visit)
    return tester, visits


def test_a_clogged_nebuliser_voids_every_test_since_its_last_good_check(house: House) -> None:
    tester, visits = three_tests(house)
    nebuliser = tester.kit[("sweet", "fit")]
    assert all(permissions(house, one) for one in visits)
    job = tester.call("POST", f"/api/nebulisers/{nebuliser}/clogged")
    work_off(house)
    done = tester.get(f"/api/jobs/{job['id']}")
    assert (done["state"], done["done"]) == ("done", 0), "every one of the three ended with a spray check that was fine"
    assert all(permissions(house, one) for one in visits)
    # the threshold nebuliser was last seen to spray before the first of them
    other = tester.kit[("sweet", "threshold")]
    job = tester.call("POST", f"/api/nebulisers/{other}/clogged")
    work_off(house)
    done = tester.get(f"/api/jobs/{job['id']}")
    assert (done["state"], done["done"], done["total"]) == ("done", 3, 3)
    assert not any(permissions(house, one) for one in visits)
    entry = next(one for one in tester.get("/api/recalls")["rows"] if one["kit_id"] == other)
    assert entry["state"] == "confirmed" and entry["check_name"] == "spray"
    recall = tester.get(f"/api/recalls/{entry['id']}/tests")
    assert recall["total"] == 3 and {one["outcome"] for one in recall["rows"]} == {"void"}
    assert [one["has_passed_since"] for one in recall["rows"]] == [False] * 3
    for one in visits:
        shown = tester.get(f"/api/visits/{one}")["visit"]
        assert (
            shown["revision"] == 2
            and not shown["is_signed"]
            and "clogged" in shown["tries"][-1]["reasons"][0]["sentence"]
        )
    blocking = {one["id"]: one["blocked_by"] for one in tester.get("/api/nebulisers")}
    assert "clogged" in blocking[other]


def test_kit_lent_and_found_wrong_by_one_employer_voids_nothing_of_another(house: House) -> None:
    """The others' tests are suspended until their own people confirm it or clear it."""
    ours, theirs = with_kit(house, "sweet"), house.client("tester", house.theirs)
    with Session(house.engine) as db, db.begin():
        for table in (NebuliserRow, LotRow):
            for one in db.scalars(select(table.id).where(table.employer_id == house.ours.employer)).all():
                note_lent(db, house.clock, "ours", one, {house.theirs.employer})
    theirs.method, theirs.kit, theirs.task = ours.method, ours.kit, house.theirs.task
    visits = []
    for client, person in ((ours, house.ours.people[0]), (theirs, house.theirs.people[0])):
        visit = client.open(person)
        client.until(visit, "run")
        client.to_the_end(visit)
        finish(client, visit)
        visits.append(visit)
    kit = ours.kit[("sweet", "threshold")]
    ours.call("POST", f"/api/nebulisers/{kit}/clogged")
    work_off(house)

    def shown(client: Client, visit: str) -> tuple[int, bool]:
        view = client.get(f"/api/visits/{visit}")["visit"]
        return view["revision"], view["is_signed"]

    def may(person: str) -> set[str]:
        with Session(house.engine) as db:
            return {one.what for one in suspensions_of(db, entries_of(db, [person]))[person]}

    assert shown(ours, visits[0]) == (2, False), "ours is void"
    assert shown(theirs, visits[1]) == (1, True) and may(house.theirs.people[0]), "theirs stands, and is suspended"
    entry = next(one for one in theirs.get("/api/recalls?only_open=true")["rows"] if one["kit_id"] == kit)
    assert entry["state"] == "open" and entry["tests"] == 1
    assert kit not in {one["kit_id"] for one in ours.get("/api/recalls?only_open=true")["rows"]}
    with pytest.raises(Refused, match="settled"):
        ours.post(f"/api/recalls/{entry['id']}/settle", {"decision": "clear", "reason": "it was nothing"})
    said = theirs.post(f"/api/recalls/{entry['id']}/settle", {"decision": "clear", "reason": "it sprayed that day"})
    assert said["state"] == "cleared" and said["settled_by"]
    work_off(house)
    assert not may(house.theirs.people[0]) and may(house.ours.people[0]), "cleared for theirs and for nobody else"
    assert shown(theirs, visits[1]) == (1, True) and shown(ours, visits[0]) == (2, False)
    house.clock.pass_by(600)
    ours.call("POST", f"/api/nebulisers/{kit}/clogged")
    work_off(house)
    again = next(one for one in theirs.get("/api/recalls?only_open=true")["rows"] if one["kit_id"] == kit)
    assert may(house.theirs.people[0]) and again["state"] == "open", (
        "what was cleared before says nothing of a new fault"
    )


def test_the_wearers_address_takes_nothing_once_the_visit_is_closed(house: House) -> None:
    """A stranger who finds the address ten weeks later changes no record with it."""
    tester, visit, address = run_with_a_wearer(house, "sweet")
    wearer = house.stranger()
    run = wearer.get(address)["about"]
    tester.say(visit, {"kind": "stopped"})
    tester.say(visit, {"kind": "decided", "next": "end"})
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})
    before = tester.get(f"/api/visits/{visit}/log")["events"]
    press = {"id": new_id(), "about": run, "occurred_at": house.clock.at.isoformat()}
    with pytest.raises(Refused) as refused:
        wearer.post(f"{address}/sensed", press)
    assert refused.value.code in ("test_over", "address_over")
    house.clock.at += timedelta(hours=2)
    with pytest.raises(Refused, match="address_over"):
        wearer.get(address)
    assert tester.get(f"/api/visits/{visit}/log")["events"] == before


def test_voiding_goes_on_where_a_worker_died(house: House) -> None:
    tester, visits = three_tests(house)
    made = tester.call("POST", f"/api/nebulisers/{tester.kit[('sweet', 'threshold')]}/clogged")
    with Session(house.engine) as db:
        job = db.get(Job, made["id"])
        assert job is not None

    class Died(Exception):
        """The worker was killed."""

    def dies(done: int, total: int) -> None:
        if done == 2:
            raise Died

    with pytest.raises(Died):
        run_recall(house.engine, job, dies)
    assert [bool(permissions(house, one)) for one in visits] == [False, False, True]
    revisions = [tester.get(f"/api/visits/{one}")["visit"]["revision"] for one in visits]
    work_off(house)
    assert not any(permissions(house, one) for one in visits)
    after = [tester.get(f"/api/visits/{one}")["visit"]["revision"] for one in visits]
    assert after[:2] == revisions[:2], "what was void is not voided twice"
    assert tester.get(f"/api/jobs/{made['id']}")["message"].startswith("1 voided now, 3 tests")


def work_off(house: House) -> None:
    """Do every waiting job, as the worker does."""
    job = claim(house.engine)
    while job is not None:
        run_job(house.engine, job)
        job = claim(house.engine)


def test_a_foreign_tester_sees_neither_kit_nor_jobs(house: House) -> None:
    tester = with_kit(house, "sweet")
    job = tester.call("POST", f"/api/nebulisers/{tester.kit[('sweet', 'fit')]}/clogged")
    theirs = house.client("tester", house.theirs)
    assert theirs.get("/api/nebulisers") == [] and theirs.get("/api/lots")["rows"] == []
    entry = tester.get("/api/recalls")["rows"][0]["id"]
    for path in (f"/api/jobs/{job['id']}", f"/api/recalls/{entry}/tests"):
        with pytest.raises(Refused, match="not_found"):
            theirs.get(path)
    work_off(house)


def test_a_run_knows_its_kit_and_rows_say_the_method(house: House) -> None:
    tester = with_kit(house, "bitter")
    visit = tester.open()
    tester.until(visit, "run")
    tester.to_the_end(visit)
    with Session(house.engine) as db:
        kit = set(db.scalars(select(TryKit.kit_id).where(TryKit.visit_id == visit)))
        row = db.get(TryResult, (visit, 1))
    model, lots = house.facepiece("Sedge")["model_id"], {one["id"] for one in tester.get("/api/lots")["rows"]}
    assert kit == {tester.kit[("bitter", "threshold")], tester.kit[("bitter", "fit")], model, *lots}
    assert row is not None and (row.method, row.overall, row.level) == ("bitter", "", "")


def test_the_live_stream_of_the_wearer_carries_only_the_wearers_view(house: House) -> None:
    _, _, address = run_with_a_wearer(house, "sweet")
    answer = house.stranger().web.open(f"{address}/live", buffered=False)
    text = ""
    deadline = datetime.now() + timedelta(seconds=10)  # noqa: DTZ005
    for part in answer.response:
        text += part.decode() if isinstance(part, bytes) else part
        if ("event: state" in text and text.endswith("\n\n")) or datetime.now() > deadline:  # noqa: DTZ005
            break
    answer.close()
    assert '"phase":"run"' in text and "between" not in text and "person" not in text
