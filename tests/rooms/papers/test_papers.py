"""Card, letter and report of a visit: what stands on them, the square read back, and what a stranger is told."""

from __future__ import annotations

import io
import re
from typing import Any

import pypdfium2
import pytest
import zxingcpp
from pypdf import PdfReader
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog import cards
from moorfog.rooms.papers.tables import CodeTry, DocumentRow
from tests.rooms.house import NAMES, Client, House, Refused
from tests.rooms.people.test_people import work_off

MM = 72 / 25.4


def paper(client: Client, visit: str, kind: str, size: str = "A4") -> bytes:
    """Issue a paper and fetch it."""
    made = client.post(f"/api/visits/{visit}/reports", {"page_size": size, "paper": kind})
    content: bytes = client.call("GET", made["url"], raw=True)
    return content


def words(pdf: bytes) -> str:
    return " ".join(" ".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages).split())


def scanned(pdf: bytes) -> str:
    """What a telephone reads of the first page."""
    page = pypdfium2.PdfDocument(pdf)[0].render(scale=4).to_pil()
    (found,) = zxingcpp.read_barcodes(page)
    return str(found.text)


def test_a_worker_leaves_with_a_card_that_a_stranger_can_check(house: House) -> None:
    tester = house.client()
    visit = tester.whole_visit(house.ours.people[1])
    card = paper(tester, visit, "card")
    box = PdfReader(io.BytesIO(card)).pages[0].mediabox
    assert (round(float(box.width) / MM, 1), round(float(box.height) / MM, 1)) == (85.6, 54.0), "ID-1"
    assert len(PdfReader(io.BytesIO(card)).pages) == 1
    told = words(card)
    row = tester.get(f"/api/people/{house.ours.people[1]}")["permissions"]["rows"][0]
    for said in (NAMES[1], row["model"], f"size {row['size']}", row["test_until"], row["overall"], "tester ours"):
        assert said in told, (said, told)
    assert paper(tester, visit, "card") == card, "a second print is the same file"

    address = scanned(card)
    code = address.split("/c/")[1].split("#")[0]
    assert re.search(r"[0-9A-Z]{4}-[0-9A-Z]{4}-[0-9A-Z]{4}", told)
    for kind in ("letter", "report"):
        assert scanned(paper(tester, visit, kind)).split("#")[0].endswith(code)
    stranger = house.stranger()
    shown = stranger.get(f"/api/codes/{code}")
    assert shown == {
        "code": f"{code[:4]}-{code[4:8]}-{code[8:]}",
        "status": "valid",
        "initials": "Ł. M. H.",
        "facepiece": f"{row['model']} {row['size']}",
        "until": row["until"],
        "checked_on": row["tested_on"],
        "limits": [],
    }
    assert row["until"] < row["test_until"], "the training ends before the test does, and a gate is told so"
    assert stranger.get(f"/api/codes/{code.lower()}")["status"] == "valid"
    assert cards.run(address, stranger.get("/api/card-key")["key"]) == 0


def test_a_code_says_at_once_that_it_holds_no_more_and_never_why(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    person = house.ours.people[0]
    visit = tester.whole_visit(person)
    code = scanned(paper(tester, visit, "card")).split("/c/")[1].split("#")[0]

    def status() -> Any:
        return house.stranger().get(f"/api/codes/{code}")["status"]

    assert status() == "valid"
    today = house.clock.at.date().isoformat()
    house.clock.pass_by(60)
    entry = {"kind": "health", "on": today, "said_by": "wearer", "words": "asthma", "configuration": ""}
    supervisor.post(f"/api/people/{person}/reports", entry)
    told = house.stranger().call("GET", f"/api/codes/{code}", raw=True).decode()
    assert status() == "withdrawn" and "health" not in told and "asthma" not in told
    house.clock.pass_by(3600)
    cleared = {"status": "cleared", "limits": [], "valid_from": today, "valid_until": "", "by_whom": "Harbour Row"}
    tester.post(f"/api/people/{person}/clearance", cleared)
    assert status() == "valid"
    tester.whole_visit(person)
    assert status() == "superseded"
    house.clock.pass_by(400 * 86_400)
    assert status() == "superseded"


def test_a_card_of_an_entry_made_part_of_another_is_that_persons(house: House) -> None:
    """Whoever left under the entry that stands wears nothing on a card of the other."""
    tester, admin = house.client(), house.client("administrator")
    _, other, stands = house.ours.people
    visit = tester.whole_visit(other)
    code = scanned(paper(tester, visit, "card")).split("/c/")[1].split("#")[0]
    admin.post(f"/api/people/{stands}/merge", {"other_id": other, "why": "same badge"})
    assert house.stranger().get(f"/api/codes/{code}")["initials"] == "B. F."
    tester.post(f"/api/people/{stands}/left", {"left_on": house.clock.at.date().isoformat()})
    assert house.stranger().get(f"/api/codes/{code}")["status"] == "withdrawn"


def test_guessing_codes_is_slow(house: House) -> None:
    stranger = house.stranger()
    for wrong in ("x", "../../x", "0" * 12, "ABCD-EFGH-JKMN"):
        with pytest.raises(Refused, match="404"):
            stranger.get(f"/api/codes/{wrong}")
    with Session(house.engine) as db:
        before = db.scalar(select(func.count()).select_from(CodeTry)) or 0
    for _ in range(max(0, 20 - before)):
        with pytest.raises(Refused, match="404"):
            stranger.get("/api/codes/000000000000")
    with pytest.raises(Refused, match="too_many"):
        stranger.get("/api/codes/000000000000")
    house.clock.pass_by(601)
    with pytest.raises(Refused, match="404"):
        stranger.get("/api/codes/000000000000")


def test_who_fitted_nothing_gets_a_letter_and_no_card(house: House) -> None:
    tester = house.client()
    visit = tester.whole_visit(house.ours.people[2], inside=("180", "240", "300", "200"))
    letter = words(paper(tester, visit, "letter", "Letter"))
    assert "wear no tight-fitting facepiece" in letter and "did not seal well enough" in letter and NAMES[2] in letter
    with pytest.raises(Refused, match="no_pass"):
        tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": "card"})
    with Session(house.engine) as db:
        papers = db.scalars(select(DocumentRow.page_size).where(DocumentRow.visit_id == visit)).all()
    assert papers == ["words-Lett"]


def test_nothing_is_handed_out_that_says_it_fits_where_it_does_not_hold_or_was_a_practice(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    person = house.ours.people[1]
    practice = tester.whole_visit(person, is_practice=True)
    for kind in ("card", "letter"):
        with pytest.raises(Refused, match=r"no_pass|practice"):
            tester.post(f"/api/visits/{practice}/reports", {"page_size": "A4", "paper": kind})
    assert "PRACTICE" in words(paper(tester, practice, "report"))
    visit = tester.whole_visit(person)
    house.clock.pass_by(60)
    today = house.clock.at.date().isoformat()
    entry = {"kind": "fit", "on": today, "said_by": "wearer", "words": "", "configuration": ""}
    supervisor.post(f"/api/people/{person}/reports", entry)
    for kind in ("card", "letter"):
        with pytest.raises(Refused, match="not_held"):
            tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": kind})


def test_papers_are_for_those_who_may_read_and_only_once_signed(house: House) -> None:
    tester = house.client()
    visit = tester.open(house.ours.people[1])
    for kind in ("card", "letter", "report"):
        with pytest.raises(Refused, match="not_signed"):
            tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": kind})
        with pytest.raises(Refused, match="not_found"):
            house.client("tester", house.theirs).post(
                f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": kind}
            )


def test_a_crews_cards_are_drawn_as_one_job_ten_on_a_sheet(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    for person in house.ours.people[:2]:
        tester.whole_visit(person)
    on = house.clock.at.date().isoformat()
    crew = {"site": house.ours.site, "day": on}
    job = supervisor.post("/api/tomorrow/cards", {"crew": crew, "layout": "sheet"})
    assert job["file"] == "" and job["state"] == "waiting"
    work_off(house)
    done = supervisor.get(f"/api/jobs/{job['id']}")
    assert (done["state"], done["message"]) == ("done", "2 cards of 2 people are ready.")
    pdf = supervisor.call("GET", done["file"], raw=True)
    assert len(PdfReader(io.BytesIO(pdf)).pages) == 1, "one sheet"
    told = words(pdf)
    assert NAMES[0] in told and NAMES[1] in told and NAMES[2] not in told
    page = pypdfium2.PdfDocument(pdf)[0].render(scale=4).to_pil()
    codes = {one.text.split("/c/")[1].split("#")[0] for one in zxingcpp.read_barcodes(page)}
    assert {house.stranger().get(f"/api/codes/{one}")["status"] for one in codes} == {"valid"} and len(codes) == 2
    for other in (tester, house.client("supervisor", house.theirs)):
        with pytest.raises(Refused, match="not_found"):
            other.call("GET", done["file"], raw=True)
    single = supervisor.post("/api/tomorrow/cards", {"crew": crew, "layout": "card"})["id"]
    work_off(house)
    pages = PdfReader(io.BytesIO(supervisor.call("GET", f"/api/jobs/{single}/file", raw=True))).pages
    assert len(pages) == 2 and round(float(pages[1].mediabox.width) / MM, 1) == 85.6
    with pytest.raises(Refused, match="nobody_may"):
        supervisor.post("/api/tomorrow/cards", {"crew": {**crew, "day": "2020-01-01"}})


def test_the_list_of_a_crew_says_on_paper_what_the_page_says(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    tester.whole_visit(house.ours.people[0])
    asked = f"site={house.ours.site}&day={house.clock.at.date().isoformat()}"
    body = {"site": house.ours.site, "day": house.clock.at.date().isoformat()}
    job = supervisor.post("/api/tomorrow/paper", body)["id"]
    work_off(house)
    told = words(supervisor.call("GET", f"/api/jobs/{job}/file", raw=True))
    assert "1 of 3 may wear" in told and all(name in told for name in NAMES)
    table = supervisor.call("GET", f"/api/tomorrow.csv?{asked}", raw=True).decode()
    assert table.count(",yes,") == 1 and table.count(",no,") == 2


def test_whoever_holds_the_card_says_that_something_has_changed(house: House) -> None:
    tester, stranger = house.client(), house.stranger()
    person = house.ours.people[1]
    code = scanned(paper(tester, tester.whole_visit(person), "card")).split("/c/")[1].split("#")[0]
    house.clock.pass_by(60)
    with pytest.raises(Refused, match="not_found"):
        stranger.post(f"/api/codes/{code}/report", {"kind": "fit", "number": f"{house.mark}-0"})
    assert stranger.get(f"/api/codes/{code}")["status"] == "valid", "another number says nothing about this card"
    stranger.post(f"/api/codes/{code}/report", {"kind": "face", "number": f" {house.mark}-1 ".upper()})
    assert stranger.get(f"/api/codes/{code}")["status"] == "withdrawn"
    view = tester.get(f"/api/people/{person}")
    assert not view["permissions"]["rows"][0]["may"] and view["next_up"]["until"] == ""
    assert (view["reports"][0]["said_by"], view["reports"][0]["kind"]) == ("the wearer", "face")
    deeds = [one["deed"] for one in house.client("administrator").get("/api/journal")["rows"]]
    assert "reported a change by the code of a card" in deeds
    with Session(house.engine) as db:
        assert db.scalar(select(func.count()).select_from(CodeTry)) >= 1, "a wrong number counts as a wrong code"


def test_what_a_holder_reports_reaches_the_bench_at_which_they_sit(house: House) -> None:
    """A change of health said by the card in the middle of a visit: no test goes on before the clinician has spoken."""
    tester, stranger = house.client(), house.stranger()
    person = house.ours.people[1]
    code = scanned(paper(tester, tester.whole_visit(person), "card")).split("/c/")[1].split("#")[0]
    house.clock.pass_by(3600)
    visit = tester.open(person)
    tester.until(visit, "choose_facepiece")
    stranger.post(f"/api/codes/{code}/report", {"kind": "health", "number": f"{house.mark}-1"})
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    assert "pending" in str([one["sentence"] for one in shown["between"]]), "the bench is told at once"


def test_no_card_of_a_crew_is_drawn_of_what_does_not_hold_today(house: House) -> None:
    """Asked for a day on which it did, or for one to come."""
    tester, supervisor = house.client(), house.client("supervisor")
    tester.whole_visit(house.ours.people[0])
    then = house.clock.at.date().isoformat()
    house.clock.pass_by(500 * 86400)
    crew = {"site": house.ours.site, "day": then}
    with pytest.raises(Refused, match="nobody_may"):
        supervisor.post("/api/tomorrow/cards", {"crew": crew})


def test_who_plans_the_work_prints_cards_and_not_what_a_clearance_allows(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    visit = tester.whole_visit(house.ours.people[1])
    assert paper(supervisor, visit, "card") == paper(tester, visit, "card")
    for kind in ("report", "letter"):
        made = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": kind})
        with pytest.raises(Refused, match="of_health"):
            paper(supervisor, visit, kind)
        with pytest.raises(Refused, match="of_health"):
            supervisor.get(made["url"])
        assert paper(house.client("administrator"), visit, kind) == paper(tester, visit, kind)
