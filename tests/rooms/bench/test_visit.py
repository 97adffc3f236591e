"""A visit over HTTP on a real MariaDB: from opening to the stored PDF, and what is refused on the way."""

from __future__ import annotations

import hashlib
import io
from datetime import timedelta

import pypdf
import pytest

from moorfog.core.events.chain import check_chain, event_from_json
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.fold import fold
from moorfog.platform.db.base import new_id
from moorfog.platform.log.log import forget_states
from tests.rooms.house import House, Refused


def test_a_typed_pass_becomes_a_signed_report_whose_bytes_stay(house: House) -> None:
    tester = house.client()
    visit = tester.whole_visit(over_http=True)
    view = tester.get(f"/api/visits/{visit}")
    assert view["visit"]["closed"] == "released" and view["visit"]["verdict"] == "pass"
    assert view["visit"]["is_signed"] and not view["visit"]["alterations"]
    issued = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    pdf = tester.get(issued["url"])
    assert hashlib.sha256(pdf).hexdigest() == issued["sha256"]
    house.clock.pass_by(7200)
    assert tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})["sha256"] == issued["sha256"]
    letter = tester.post(f"/api/visits/{visit}/reports", {"page_size": "Letter"})
    pages = pypdf.PdfReader(io.BytesIO(pdf)).pages
    assert [round(float(pages[0].mediabox.width)), round(float(pages[0].mediabox.height))] == [595, 842]
    other = pypdf.PdfReader(io.BytesIO(tester.get(letter["url"]))).pages[0].mediabox
    assert [round(float(other.width)), round(float(other.height))] == [612, 792]
    text = " ".join(" ".join(page.extract_text() for page in pages).split())
    for words in (
        # 29 CFR 1910.134 (m)(2) (recalled): name, type of test, make, model, style, size, date, result
        "Åsa Tarn",
        "quantitative: Fast ambient-count",
        "Sedge",
        "size",
        house.clock.at.astimezone().strftime("%Y"),
        "overall fit factor",
        # and what a tester hands over with it
        "Bench A",
        "typed from the counter's display",
        "Limits of use",
        "recalled",
        "“Observed” is by the tester, “asked” is of the wearer",
        "Clean-shaven everywhere the seal touches? observed fine",
        "Åsa Tarn",
        "Valid until",
    ):
        assert words in text, words


def test_the_log_that_is_shown_folds_to_what_the_screen_says(house: House, rules: Rules) -> None:
    tester = house.client()
    visit = tester.whole_visit(inside=("400", "600", "300", "500"))
    log = [event_from_json(one) for one in tester.get(f"/api/visits/{visit}/log")["events"]]
    assert check_chain(log) is None
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    assert fold(log, rules).seq == shown["seq"] and shown["verdict"] == "fail"
    forget_states()
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"] == shown["tries"]


def test_the_same_proposal_again_is_stored_once_and_another_under_its_id_is_refused(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    proposal = tester.proposal(visit, body)
    first = tester.post(f"/api/visits/{visit}/events", proposal)["visit"]["seq"]
    again = tester.post(f"/api/visits/{visit}/events", proposal)["visit"]["seq"]
    assert first == again == 2
    with pytest.raises(Refused, match="id_reused"):
        tester.post(f"/api/visits/{visit}/events", {**proposal, "body": {**body, "answer": "not_fine"}})
    assert len(tester.get(f"/api/visits/{visit}/log")["events"]) == 2


def test_two_testers_on_one_visit_hear_what_happened_instead(house: House) -> None:
    one, other = house.client(), house.client()
    visit = one.open()
    card = one.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    stale = other.proposal(visit, body)
    one.say(visit, body)
    with pytest.raises(Refused) as refused:
        other.post(f"/api/visits/{visit}/events", stale)
    assert refused.value.status == 409 and refused.value.code == "moved_on"
    assert refused.value.body["detail"]["happened"] == ["answered"]


@pytest.mark.parametrize(("shift", "code"), [(3600, "in_the_future"), (3, "in_the_future"), (1.5, None)])
def test_a_clock_that_runs_ahead_is_found(house: House, shift: float, code: str | None) -> None:
    tester = house.client()
    visit = tester.open()
    at = (house.clock.at + timedelta(seconds=shift)).isoformat()
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    if code is None:
        tester.say(visit, body, 0, occurred_at=at)
        return
    with pytest.raises(Refused, match=code):
        tester.say(visit, body, 0, occurred_at=at)


def test_work_queued_while_the_server_was_away_counts_and_is_marked_late(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    pressed_at = house.clock.at.isoformat()
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    tester.say(visit, body, 20, occurred_at=pressed_at)
    assert tester.get(f"/api/visits/{visit}")["late_entries"] == 1
    log = tester.get(f"/api/visits/{visit}/log")["events"]
    assert log[1]["occurred_at"] == log[0]["occurred_at"] != log[1]["recorded_at"]


def test_a_clock_cannot_be_started_in_the_past(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    tester.until(visit, "don")
    with pytest.raises(Refused, match="too_late"):
        tester.say(visit, {"kind": "donned", "unaided": True}, 30, occurred_at=house.clock.at.isoformat())


def test_observations_are_taken_whatever_the_page_knew(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    tester.until(visit, "chin")
    shown = tester.say(visit, {"kind": "doffed", "why": "lifted"}, expects=None)
    assert shown["worn_since"] is None


def test_nobody_has_two_open_visits_and_the_same_opening_twice_is_one(house: House) -> None:
    tester = house.client()
    ids = {"visit_id": new_id(), "event_id": new_id()}
    assert tester.open(**ids) == tester.open(**ids)
    with pytest.raises(Refused, match="already_here"):
        tester.open()
    with pytest.raises(Refused, match="id_reused"):
        tester.open(visit_id=ids["visit_id"])
    with pytest.raises(Refused, match="speed"):
        tester.open(house.ours.people[1], speed=20)


def test_turned_away_needs_a_reason_and_ends_the_visit(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    with pytest.raises(Refused, match="reason_missing"):
        tester.say(visit, {"kind": "turned_away", "reason": " ", "come_back_on": None})
    shown = tester.say(visit, {"kind": "turned_away", "reason": "Stubble.", "come_back_on": "2026-12-01"})
    assert shown["closed"] == "turned_away"
    with pytest.raises(Refused, match="closed"):
        tester.say(visit, {"kind": "released"})


def test_signing_asks_for_the_password_again_after_a_quarter_of_an_hour(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    tester.type_numbers(visit, tester.start(visit, "typed"), ("4", "6", "3", "5"))
    tester.until(visit, "sign_wearer")
    with pytest.raises(Refused, match="not_signed"):
        tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    tester.sign(visit, "wearer")
    with pytest.raises(Refused, match="name_missing"):
        tester.sign(visit, "tester", typed_name="  ")
    with pytest.raises(Refused, match="wrong_password"):
        tester.sign(visit, "tester", password="not this one")
    house.clock.pass_by(16 * 60)
    with pytest.raises(Refused, match="password_needed"):
        tester.sign(visit, "tester", password=None)
    assert tester.sign(visit, "tester")["is_signed"]


def test_a_correction_makes_the_result_unusable_until_it_is_signed_again(house: House) -> None:
    tester = house.client()
    visit = tester.whole_visit()
    person = house.ours.people[0]
    assert len(tester.get(f"/api/people/{person}")["permissions"]["rows"]) == 1
    first = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    card = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": "card"})
    assert hashlib.sha256(tester.get(first["url"])).hexdigest() == first["sha256"], "nothing is marked before"
    chosen = tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["chosen_seq"]
    correction = {"kind": "corrected", "target": chosen, "reason": "wrong size typed", "size": "L"}
    with pytest.raises(Refused, match="size"):
        tester.say(visit, {**correction, "size": "enormous"})
    shown = tester.say(visit, correction)
    assert shown["revision"] == 2 and not shown["is_signed"]
    assert tester.get(f"/api/people/{person}")["permissions"]["rows"] == []
    (page, *_) = pypdf.PdfReader(io.BytesIO(tester.get(first["url"]))).pages
    assert "Nothing counts until revision 2 is signed" in page.extract_text()
    tester.sign(visit, "wearer")
    tester.sign(visit, "tester")
    (permission,) = tester.get(f"/api/people/{person}")["permissions"]["rows"]
    assert permission["size"] == "L"
    second = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    assert second["sha256"] != first["sha256"]
    stored = tester.get(f"{first['url']}?as_issued=true")
    assert hashlib.sha256(stored).hexdigest() == first["sha256"], "the old revision stays readable"
    for old in (first, card):
        pages = pypdf.PdfReader(io.BytesIO(tester.get(old["url"]))).pages
        as_issued = pypdf.PdfReader(io.BytesIO(tester.get(f"{old['url']}?as_issued=true"))).pages
        assert len(pages) == len(as_issued)
        for page, before in zip(pages, as_issued, strict=True):
            said = page.extract_text()
            assert "REPLACED" in said and "Revision 2 counts" in said, "on every page, whatever its size"
            assert page.mediabox == before.mediabox and before.extract_text().split()[0] in said
    assert b"REPLACED" not in tester.get(second["url"])


def test_a_practice_visit_says_so_and_counts_nowhere(house: House) -> None:
    tester = house.client()
    visit = tester.whole_visit(is_practice=True, speed=10)
    assert tester.get(f"/api/visits/{visit}")["visit"]["is_practice"]
    assert tester.get(f"/api/people/{house.ours.people[0]}")["permissions"]["rows"] == []
    assert tester.get("/api/results")["rows"] == []
    pdf = tester.get(tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})["url"])
    for page in pypdf.PdfReader(io.BytesIO(pdf)).pages:
        assert "PRACTICE" in page.extract_text()
