"""A site's own terms and periods, and somebody's personal data erased: the logs hold on, the names are gone."""

from __future__ import annotations

import json
from datetime import date, timedelta
from pathlib import Path

import pytest
from dateutil.relativedelta import relativedelta
from sqlalchemy import Engine, delete, insert, select, text, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog import jobs, recompute
from moorfog.core.rules.book import Rules
from moorfog.core.rules.validity import valid_until
from moorfog.platform.db.base import new_id
from moorfog.platform.jobs.jobs import claim
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.tables import Erased
from moorfog.rooms.proof.verify import verify
from tests.rooms.house import House, Refused
from tests.unguarded import unguarded


@pytest.fixture
def house(alone: Engine, rules: Rules) -> House:
    return House(alone, rules)


OWN = {"name": "Ottoline Quillfeather", "number": "Q-77881", "job": "rigger", "task": "grain dust", "contact": "o@q"}
WORDS = {"terms": "Quay rules: shave, check, leave at once.", "notice_days": 45, "keep_months": 24}


def test_both_sign_under_the_sites_own_terms_and_open_visits_keep_theirs(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    begun = tester.open(house.ours.people[1])
    address = f"/api/sites/{house.ours.site}/words"
    before = admin.get(address)
    assert (before["terms"], before["notice_days"], before["keep_months"]) == ("", None, None)
    assert before["usual_notice"] == 60 and "does not replace" in before["usual_terms"]
    admin.call("PUT", address, WORDS)
    assert {**before, **WORDS, "terms_no": 1} == admin.get(address)
    visit = tester.open()
    assert tester.shown(visit)["terms"] == WORDS["terms"]
    assert tester.shown(begun)["terms"] == before["usual_terms"]
    admin.call("PUT", address, {**WORDS, "terms": ""})
    assert admin.get(address)["terms_no"] == 2
    told = admin.get(f"/api/journal?subject={house.ours.site}")["rows"][0]
    assert told["deed"] == "changed a site's terms or periods"
    for wrong in ({"notice_days": 0}, {"keep_months": -1}, {"terms": "x" * 4001}):
        with pytest.raises(Refused, match="422"):
            admin.call("PUT", address, {**WORDS, **wrong})
    with pytest.raises(Refused, match="role_missing"):
        tester.get(address)
    with pytest.raises(Refused, match="not_found"):
        house.client("administrator", house.theirs).get(address)


def signed_and_left(house: House, person: str) -> str:
    """Test somebody, print the report, and have them leave; return the visit."""
    tester = house.client()
    visit = tester.whole_visit(person)
    tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    tester.post(f"/api/people/{person}/left", {"left_on": house.clock.at.date().isoformat()})
    return visit


def test_an_erased_person_is_gone_from_everything_but_the_logs(house: House, alone: Engine, tmp_path: Path) -> None:
    person, admin = house.ours.people[1], house.client("administrator")
    address = f"/api/people/{person}/erasure"
    admin.call("PUT", f"/api/people/{person}", {**OWN, "site_id": house.ours.site})
    assert "still work here" in admin.get(address)["not_yet"]
    with pytest.raises(Refused, match="not_yet"):
        admin.post(address, {"why": "asked by the worker"})
    visit = signed_and_left(house, person)
    found = admin.get(address)
    assert (found["not_yet"], found["visits"], found["signatures"], found["papers"]) == ("", 1, 2, 1)
    with pytest.raises(Refused, match="reason_missing"):
        admin.post(address, {"why": " "})
    for other in (house.client(), house.client("supervisor")):
        with pytest.raises(Refused, match="role_missing"):
            other.post(address, {"why": "x"})
    with pytest.raises(Refused, match="not_found"):
        house.client("administrator", house.theirs).post(address, {"why": "x"})
    admin.post(address, {"why": "asked by the worker"})

    assert verify(alone) == [], "what was erased on purpose is no fault"
    assert admin.get("/api/people?q=quillfeather")["total"] == 0
    shown = admin.get(f"/api/people/{person}")
    assert shown["person"]["name"] == "Erased person" and shown["erased_on"] and shown["clearance"] is None
    for path in (f"/api/people/{person}", f"/api/journal?subject={person}", f"/api/journal?subject={visit}"):
        assert OWN["name"] not in json.dumps(admin.get(path), ensure_ascii=False)
    with pytest.raises(Refused, match="erased"):
        admin.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    with pytest.raises(Refused, match="erased"):
        admin.post(f"/api/people/{person}/back")
    record = tmp_path / "record.json"
    record.write_bytes(admin.call("GET", f"/api/visits/{visit}/record.json", raw=True))
    assert OWN["name"] not in record.read_text() and recompute.run([str(record)], False) == 0
    with alone.connect() as db:
        for table in db.scalars(text("SHOW TABLES")).all():
            rows = db.execute(text(f"SELECT * FROM `{table}`")).all()
            assert not [row for row in rows if OWN["name"] in repr(row) or OWN["number"] in repr(row)], table


def test_what_was_signed_is_emptied_only_where_its_erasure_is_written_down(house: House, alone: Engine) -> None:
    visit = signed_and_left(house, house.ours.people[2])
    with Session(alone) as db:
        signature = db.scalars(select(SignatureRow.id).where(SignatureRow.visit_id == visit)).first()
        paper = db.scalars(select(DocumentRow.id).where(DocumentRow.visit_id == visit)).one()
    for table, row, values in (
        (SignatureRow, signature, {"typed_name": "", "canonical": ""}),
        (SignatureRow, signature, {"typed_name": "Somebody Else"}),
        (DocumentRow, paper, {"content": b""}),
    ):
        with pytest.raises(DBAPIError, match="is never changed"), alone.begin() as db:
            db.execute(update(table).where(table.id == row).values(**values))
    assert verify(alone) == []


def test_what_was_emptied_without_a_word_in_the_journal_is_found(house: House, alone: Engine) -> None:
    """The program's own account may empty a signature: not without leaving a trace that is missed."""
    visit = signed_and_left(house, house.ours.people[0])
    with alone.begin() as db:
        signature = db.scalar(select(SignatureRow.id).where(SignatureRow.visit_id == visit).limit(1))
        row = {"row_id": signature, "kind": "signature", "person_id": house.ours.people[0]}
        db.execute(insert(Erased).values(**row, account_id=new_id(), erased_at=house.clock.at))
        emptied = {"typed_name": "", "canonical": ""}
        db.execute(update(SignatureRow).where(SignatureRow.id == signature).values(**emptied))
    assert [one.kind for one in verify(alone)] == ["fact", "erased"], "made up past its ledger"
    with unguarded(alone) as db:
        db.connection().execute(delete(Erased).where(Erased.row_id == signature))
    assert {one.kind for one in verify(alone)} == {"signature"}
    admin = house.client("administrator")
    admin.post(f"/api/people/{house.ours.people[0]}/erasure", {"why": "what was begun is finished"})
    assert verify(alone) == []


def test_a_site_erases_whom_it_no_longer_keeps_as_a_job(house: House, alone: Engine) -> None:
    admin, (_, old, recent) = house.client("administrator"), house.ours.people
    address = f"/api/sites/{house.ours.site}/erasures"
    today = house.clock.at.date()
    for person, left in ((old, today - relativedelta(months=24, days=2)), (recent, today - timedelta(days=600))):
        admin.post(f"/api/people/{person}/left", {"left_on": left.isoformat()})
    assert admin.get(address)["total"] == 0, "a site that states no period keeps everybody"
    with pytest.raises(Refused, match="nobody"):
        admin.post(address)
    admin.call("PUT", f"/api/sites/{house.ours.site}/words", WORDS)
    due = admin.get(address)
    assert [one["id"] for one in due["rows"]] == [old]
    assert due["rows"][0]["kept_until"] == (today - timedelta(days=2)).isoformat() or today.day > 28
    job_id = admin.post(address)["id"]
    claimed = claim(alone)
    assert claimed is not None and claimed.id == job_id
    jobs.run_job(alone, claimed)
    done = admin.get(f"/api/jobs/{job_id}")
    assert done["state"] == "done" and done["message"].startswith("1 erased"), done["message"]
    assert admin.get(f"/api/people/{old}")["erased_on"] and not admin.get(f"/api/people/{recent}")["erased_on"]
    assert "erased a person" in [one["deed"] for one in admin.get(f"/api/journal?subject={old}")["rows"]]
    assert verify(alone) == []


@pytest.mark.parametrize("months", [1, 11, 12, 13, 24, 120])
def test_months_back_never_reach_past_the_day_that_counts(months: int) -> None:
    """Against dateutil: whoever is past the period by the query is past it by the day that is shown."""
    for offset in range(0, 800, 7):
        today = date(2026, 1, 1) + timedelta(days=offset)
        left = valid_until(today, -months) - timedelta(days=1)
        assert valid_until(left, months) == left + relativedelta(months=months) < today
