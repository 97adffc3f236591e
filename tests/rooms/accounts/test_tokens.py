"""What another program does by a token: what it was made for, at one employer, and no more."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy.orm import Session

from moorfog.platform.log.ledger_check import check_ledgers
from moorfog.platform.web.routing import ROUTES, SAFE
from tests.rooms.house import Client, House, Refused
from tests.rooms.test_access import BODIES, aimed_at, filled
from tests.rooms.test_health import addresses, ill, told
from tests.rooms.wear.history import table_of

WRITES = {
    "add_person",
    "change_person",
    "person_left",
    "person_back",
    "record_clearance",
    "record_training",
    "preview_history",
    "import_history",
}
"""Common practice of a personnel system and an occupational health service: people, their papers, old results."""


def bearer(admin: Client, may: str) -> dict[str, str]:
    entry = {"name": f"{may}s", "employer_id": admin.house.ours.employer, "days": 3, "may": may}
    return {"Authorization": f"Bearer {admin.post('/api/tokens', entry)['token']}"}


def said(house: House, method: str, path: str, body: Any, headers: dict[str, str]) -> str:
    """Return what a program hears: an error's code, or nothing where it went through."""
    try:
        house.stranger().call(method, path, body, headers)
    except Refused as refused:
        return str(refused.code)
    return ""


def test_a_program_enters_what_it_was_let_to_and_nothing_else(house: House) -> None:
    admin, ids = house.client("administrator"), aimed_at(house, foreign=False)
    reads, writes = bearer(admin, "read"), bearer(admin, "write")
    changes = [one for one in ROUTES if one.method not in SAFE and one.rule not in ("public", "wearer", "link")]
    assert {one.name for one in changes if one.by_token} == WRITES
    for one in changes:
        path, body = filled(one, ids)
        with_read, with_write = (said(house, one.method, path, body, headers) for headers in (reads, writes))
        assert with_read == ("only_reads" if one.by_token else "sign_in_needed"), one.name
        assert (with_write != "sign_in_needed") == one.by_token, one.name


def test_what_a_program_enters_is_on_file_with_its_name(house: House) -> None:
    admin = house.client("administrator")
    writes, program, day = bearer(admin, "write"), house.stranger(), house.clock.at.date().isoformat()
    entry = {**BODIES["add_person"], "site_id": house.ours.site, "number": f"{house.mark}-9", "name": "Tove Heron"}
    person = program.call("POST", "/api/people", entry, writes)["id"]
    cleared = {**BODIES["record_clearance"], "valid_from": day}
    program.call("POST", f"/api/people/{person}/clearance", cleared, writes)
    trained = {**BODIES["record_training"], "trained_on": day}
    program.call("POST", f"/api/people/{person}/training", trained, writes)
    row = f"{house.mark}-9;2026-01-05;Old Heron;M;ambient count;passed;1200;R. Vole"
    assert program.call("POST", "/api/history", table_of(house, row), writes) == {"new": 1}
    shown = admin.get(f"/api/people/{person}")
    assert shown["clearance"]["status"] == "cleared" and shown["person"]["name"] == "Tove Heron"
    by = [one["deed"] for one in admin.get("/api/journal")["rows"] if one["who"] == "the token for writes"]
    assert {"entered a person", "filed a clearance", "filed a training", "took over results of before"} <= set(by)
    with Session(house.engine) as db:
        assert [one for one in check_ledgers(db, None) if person in one.where] == []


def test_a_token_that_writes_stays_at_its_employer_and_sees_no_health(house: House) -> None:
    admin = house.client("administrator")
    writes, theirs = bearer(admin, "write"), house.theirs
    for path, body in (
        ("/api/people", {**BODIES["add_person"], "site_id": theirs.site}),
        (f"/api/people/{theirs.people[0]}/clearance", BODIES["record_clearance"]),
        ("/api/history/preview", table_of(house, "x;2026-01-05;Old;M;ambient count;passed;1200;R", place=theirs)),
    ):
        assert said(house, "POST", path, body, writes) == "not_found", path
    stranger = house.app.test_client()
    for address in addresses(ill(house)):
        assert "Zanzibar" not in told(stranger, address, writes)[1], address


@pytest.mark.parametrize("may", ["", "all", "Write", None])
def test_what_a_token_may_is_one_of_two_words(house: House, may: Any) -> None:
    entry = {"name": "A", "employer_id": house.ours.employer, "days": 3, "may": may}
    with pytest.raises(Refused, match="bad_body"):
        house.client("administrator").post("/api/tokens", entry)
