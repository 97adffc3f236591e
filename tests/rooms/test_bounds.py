"""Bounds: who may not ask is not listened to, a body is as large as it may be, a file stays in its own process."""

from __future__ import annotations

import base64
import io
import zipfile
from typing import Any

import pytest
from openpyxl import Workbook
from sqlalchemy.orm import Session

from moorfog import jobs
from moorfog.jobs import run_job
from moorfog.platform.jobs.jobs import MOST_ATTEMPTS, claim
from moorfog.platform.jobs.tables import Job
from moorfog.platform.uploads import Unreadable, parse_apart
from moorfog.platform.uploads.limits import MOST_CELL, MOST_COLUMNS, MOST_ROWS
from moorfog.platform.web.routing import ROUTES
from tests.rooms.house import House, Refused


def roster(house: House, content: bytes, name: str = "roster.csv") -> dict[str, Any]:
    text = base64.b64encode(content).decode()
    return {"site_id": house.ours.site, "file_name": name, "content": text, "columns": {}}


@pytest.mark.parametrize(
    ("path", "headers"),
    [
        ("/api/imports/preview", {}),
        ("/api/catalogue", {}),
        ("/api/link/status", {"Authorization": "Bearer of-nothing"}),
        ("/api/link/runs/x/chunks", {"Authorization": "Bearer of-nothing"}),
    ],
)
def test_a_stranger_is_turned_away_before_the_body_is_read(house: House, path: str, headers: dict[str, str]) -> None:
    web = house.app.test_client()
    for body in (b"{", b"[" * 100_000, b"x" * 30_000_000):
        answer = web.post(path, data=body, content_type="application/json", headers=headers)
        assert answer.status_code == 401, (path, len(body))


@pytest.mark.parametrize(("path", "kb"), [("/api/session", 4), ("/api/people", 32), ("/api/catalogue", 4096)])
def test_a_body_is_as_large_as_its_address_takes_and_that_is_said(house: House, path: str, kb: int) -> None:
    admin = house.client("administrator")
    with pytest.raises(Refused) as refused:
        admin.post(path, {"text": "x" * (kb * 1024)})
    assert refused.value.status == 413 and f"{kb} kB" in refused.value.body["message"]


@pytest.mark.parametrize("body", ["[" * 20_000, '{"a":' * 5_000, "1" * 30_000])
def test_json_without_end_is_a_bad_body(house: House, body: str) -> None:
    client = house.client("administrator")
    headers = {"X-Moorfog-Token": client.token}
    answer = client.web.post("/api/people", data=body, content_type="application/json", headers=headers)
    assert answer.status_code in (400, 422) and answer.get_json()["message"]


def test_what_is_longer_than_its_column_is_named(house: House) -> None:
    entry = {"name": "Ida Holm", "number": "9" * 400, "site_id": house.ours.site, "job": "", "task": "", "contact": ""}
    with pytest.raises(Refused) as refused:
        house.client("administrator").post("/api/people", entry)
    assert refused.value.status == 422 and "number" in refused.value.body["message"]


@pytest.mark.parametrize("page", ["0", "-1", "1000000000000000000000", "1.5", "١", "1e3"])
def test_a_page_is_a_number_of_sense(house: House, page: str) -> None:
    with pytest.raises(Refused) as refused:
        house.client().get(f"/api/people?page={page}")
    assert refused.value.status == 422


def test_every_number_that_may_be_asked_for_has_bounds() -> None:
    asked = [(one.name, one.query.json_schema()["properties"]) for one in ROUTES if one.query is not None]
    numbers = [(name, key, kind) for name, fields in asked for key, kind in fields.items() if kind["type"] == "integer"]
    assert len(numbers) > 10
    assert [(name, key) for name, key, kind in numbers if "maximum" not in kind or "minimum" not in kind] == []


def test_a_cell_of_two_hundred_thousand_signs_is_said_and_the_worker_goes_on(house: House) -> None:
    admin = house.client("administrator")
    poison = roster(house, b"Name,No\nIda," + b"9" * 200_000 + b"\n")
    with pytest.raises(Refused) as refused:
        admin.post("/api/imports/preview", poison)
    assert "Row 2, column 2" in refused.value.body["message"] and str(MOST_CELL) in refused.value.body["message"]
    bad = admin.post("/api/imports", poison)
    good = admin.post("/api/imports", roster(house, f"Name,No\nIda,{house.mark}a\n".encode()))
    while (job := claim(house.engine)) is not None:
        run_job(house.engine, job)
    states = [admin.get(f"/api/jobs/{one['id']}") for one in (bad, good)]
    assert [one["state"] for one in states] == ["failed", "done"] and "Row 2, column 2" in states[0]["message"]


def test_any_error_of_a_job_fails_that_job_with_words(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> str:
        raise ZeroDivisionError("on purpose")

    monkeypatch.setitem(jobs.KINDS, "roster", broken)
    admin = house.client("administrator")
    made = admin.post("/api/imports", roster(house, b"Name,No\nIda,1\n"))
    job = claim(house.engine)
    assert job is not None
    run_job(house.engine, job)
    done = admin.get(f"/api/jobs/{made['id']}")
    assert done["state"] == "failed" and "nothing was changed" in done["message"]


def test_a_job_that_ends_its_worker_is_parked_after_the_third_time(house: House) -> None:
    admin = house.client("administrator")
    made = admin.post("/api/imports", roster(house, b"Name,No\nIda,1\n"))

    def its_worker_dies() -> None:
        with Session(house.engine) as db, db.begin():
            row = db.get(Job, made["id"])
            assert row is not None and row.heartbeat_at is not None
            row.heartbeat_at = row.heartbeat_at.replace(year=2020)

    while (other := claim(house.engine)) is not None and other.id != made["id"]:
        pass  # left by others on this database
    its_worker_dies()
    for _ in range(MOST_ATTEMPTS - 1):
        job = claim(house.engine)
        assert job is not None and job.id == made["id"]
        its_worker_dies()
    assert claim(house.engine) is None
    parked = admin.get(f"/api/jobs/{made['id']}")
    assert parked["state"] == "parked" and "not tried again" in parked["message"]


def sheet(*rows: list[Any], at: str = "") -> bytes:
    book = Workbook()
    page = book.active
    assert page is not None
    for row in rows:
        page.append(row)
    if at:
        page[at] = "x"
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def bomb() -> bytes:
    """A workbook whose one sheet unpacks to a gigabyte."""
    out = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(sheet(["Name", "No"]))) as old,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new,
    ):
        for one in old.infolist():
            with new.open(one.filename, "w", force_zip64=True) as part:
                if "sheet1" not in one.filename:
                    part.write(old.read(one))
                for _ in range(1024 if "sheet1" in one.filename else 0):
                    part.write(b" " * 1024 * 1024)
    return out.getvalue()


@pytest.mark.parametrize(
    ("kind", "content", "code"),
    [
        ("xlsx", sheet(["Name", "No"], at="XFD1500"), "too_many_columns"),
        ("xlsx", bomb(), "too_much"),
        ("xlsx", b"PK\x03\x04 and no more", "bad_xlsx"),
        ("sheet", b"\xd0\xcf\x11\xe0 and no more", "bad_sheet"),
        ("sheet", bomb(), "too_much"),
        ("csv", b"a,b\n" * (MOST_ROWS + 2), "too_many_rows"),
        ("csv", b"a," * (MOST_COLUMNS + 1) + b"x", "too_many_columns"),
        ("csv", b'"a\x00', "not_text"),
        ("toml", b"[" * 50_000, "not_toml"),
        ("toml", b"a = nan", "not_toml"),
        ("toml", b"\xff", "not_toml"),
        ("toml", ".".join(["a"] * 60_000).encode() + b" = 1", "not_toml"),
    ],
)
def test_a_file_made_in_bad_faith_ends_in_its_own_process(kind: Any, content: bytes, code: str) -> None:
    with pytest.raises(Unreadable) as problem:
        parse_apart(kind, content)
    assert problem.value.code in (code, "too_much") and problem.value.message


def test_tables_and_trees_are_read_alike_apart() -> None:
    rows = parse_apart("csv", "Näme;No\n\n Ida ;007\n".encode("cp1252"))["rows"]
    assert rows == [[1, ["Näme", "No"]], [3, ["Ida", "007"]]], "the numbers of rows stay true"
    assert parse_apart("xlsx", sheet(["Name", "No"], ["Ida", 7.0], [None, True]))["rows"] == [
        [1, ["Name", "No"]],
        [2, ["Ida", "7"]],
        [3, ["", "True"]],
    ]
    assert parse_apart("toml", b'id = "x"\nn = [1, 2]\n[part]\nyes = true\n') == {
        "id": "x",
        "n": [1, 2],
        "part": {"yes": True},
    }
