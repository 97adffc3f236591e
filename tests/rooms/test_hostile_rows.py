"""Rows that no door lets in, as an old version or another hand may have left them: every writer is safe all the same.

What is written is read by another reader of its format: openpyxl, csv, icalendar, pypdf, the standard library's mail.
"""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email import message_from_bytes
from email.policy import default
from typing import Any

import openpyxl
import pytest
from icalendar import Calendar
from pypdf import PdfReader
from sqlalchemy import Engine, text

from moorfog.core.rules.book import Rules
from moorfog.platform.mail import MailServer
from moorfog.rooms.mail.outbox import message_of
from moorfog.rooms.mail.tables import Mail
from tests.rooms.house import House
from tests.rooms.people.test_people import work_off
from tests.rooms.reading import reading
from tests.unguarded import unguarded

HOSTILE = "=1+1\r\nBCC: x@y.example\r\nEND:VEVENT\x00\x0b\x1b[2J<b>{{7*7}}</b>&amp;'\";--\u202egnp.\ufffe"
PLACES = (
    *("person.name", "person.job", "person.task", "employer.name", "site.name", "account.name", "instrument.name"),
    *("wear_permission.model", "wear_permission.setup", "visit_summary.facepiece", "visit_summary.doing"),
)
OF_AN_EVENT = {"UID", "DTSTAMP", "DTSTART", "DTEND", "SUMMARY"}
LINKED = ("link", "wearer")
FORMULA = re.compile(r"^[=+@\t\r]")


@dataclass(frozen=True)
class Spoilt:
    """A house in which every name that is printed somewhere is hostile, and a closed visit in it."""

    house: House
    visit: str


@pytest.fixture(scope="module")
def spoilt(alone: Engine, rules: Rules) -> Spoilt:
    house = House(alone, rules)
    visit = house.client().whole_visit(house.ours.people[0])
    with unguarded(alone) as db:
        for place in PLACES:
            table, column = place.split(".")
            db.execute(text(f"UPDATE {table} SET {column} = LEFT(:hostile, 80)"), {"hostile": HOSTILE})
    return Spoilt(house, visit)


def cells_of(book: bytes) -> list[str]:
    opened = openpyxl.load_workbook(io.BytesIO(book))
    return [one for sheet in opened for row in sheet.iter_rows(values_only=True) for one in row if isinstance(one, str)]


def checked(content: bytes, media: str) -> list[str]:
    """Read what was written with another reader; return the texts that it finds."""
    if "spreadsheet" in media:
        return cells_of(content)
    if "csv" in media:
        return [cell for row in csv.reader(io.StringIO(content.decode())) for cell in row]
    if "pdf" in media:
        return [page.extract_text() for page in PdfReader(io.BytesIO(content)).pages]
    if "zip" in media:
        return [one.filename for one in zipfile.ZipFile(io.BytesIO(content)).infolist()]
    return [str(json.loads(content))] if "json" in media else [content.decode()]


def test_every_file_of_hostile_names_is_written_and_safe(spoilt: Spoilt) -> None:
    house = spoilt.house
    admin, ids = house.client("administrator"), {"visit_id": spoilt.visit, "person_id": house.ours.people[0]}
    fields = {"site": house.ours.site, "model": house.facepiece()["model_id"], "size": "M"}
    written, seen = set[str](), 0
    for kind in ("", "xlsx", "json"):
        for one in reading(ids, {**fields, "kind": kind} if kind else fields):
            if one.route.rule in LINKED or (kind and not one.route.path.endswith("/file")):
                continue
            answer = admin.web.get(one.address)
            assert answer.status_code < 500, (one.address, answer.text[:300])
            if answer.status_code == 200:
                texts = checked(answer.data, answer.mimetype)
                written |= {one.route.name} if any("BCC" in each for each in texts) else set()
                if "csv" in answer.mimetype or "spreadsheet" in answer.mimetype:
                    assert [each for each in texts if FORMULA.match(each)] == [], one.address
                    seen += 1
    assert seen >= 9 and len(written) > 15, written


def test_a_calendar_of_hostile_names_has_its_own_events_and_no_others(spoilt: Spoilt) -> None:
    supervisor, house = spoilt.house.client("supervisor"), spoilt.house
    now, house.clock.at = house.clock.at, house.clock.at + timedelta(days=340)
    path = supervisor.post(f"/api/sites/{house.ours.site}/calendar")["path"]
    calendar = Calendar.from_ical(house.stranger().call("GET", path, raw=True))
    events = calendar.walk("VEVENT")
    assert events and {str(name) for one in events for name in one} == OF_AN_EVENT
    assert {one["uid"] for one in events} <= {f"{person}@moorfog" for person in house.ours.people}
    house.clock.at = now


def test_papers_of_hostile_names_are_drawn(spoilt: Spoilt) -> None:
    tester, supervisor = spoilt.house.client(), spoilt.house.client("supervisor")
    for kind in ("card", "letter", "report"):
        made = tester.post(f"/api/visits/{spoilt.visit}/reports", {"page_size": "A4", "paper": kind})
        told = " ".join(checked(tester.call("GET", made["url"], raw=True), "application/pdf"))
        assert "{{7*7}}" in told.replace(" ", "") and "<b>" in told.replace(" ", ""), "it is a text, no markup"
    for path, body in (("/api/tomorrow/paper", {}), ("/api/tomorrow/cards", {"layout": "sheet"})):
        asked = {"site": spoilt.house.ours.site}
        job = supervisor.post(path, {**body, **({"crew": asked} if "layout" in body else asked)})
        work_off(spoilt.house)
        done = supervisor.get(f"/api/jobs/{job['id']}")
        assert done["state"] == "done", done


@pytest.mark.parametrize("field", ["to_address", "subject", "body", "file_name"])
def test_a_hostile_letter_is_sent_to_nobody_else_or_not_at_all(spoilt: Spoilt, field: str) -> None:
    plain: dict[str, Any] = {"id": "1", "to_address": "w@yard.example", "subject": "Card", "body": "Hello"}
    one = Mail(**{**plain, "file": b"%PDF", "file_name": "card.pdf", field: HOSTILE})
    server = MailServer("mail.example", 25, "", "", "none", "fit@yard.example")
    try:
        sent = message_from_bytes(bytes(message_of(one, server, datetime(2026, 12, 1, tzinfo=UTC))), policy=default)
    except ValueError:  # it fails for good, and is shown so
        return
    assert sent["Bcc"] is None and [str(to) for to in sent["To"].addresses] == ["w@yard.example"]
    assert len(list(sent.walk())) == 3
