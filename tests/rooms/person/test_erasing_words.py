"""What somebody typed of a person, wherever it was typed: after an erasure it is nowhere, and every log still holds."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import Engine, delete, insert, select, text, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog import recompute
from moorfog.core.record.record import recompute as compute_again
from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import new_id
from moorfog.platform.jobs.tables import Job
from moorfog.platform.log.tables import EventWords
from moorfog.rooms.crews.tables import Crew
from moorfog.rooms.mail.tables import Mail
from moorfog.rooms.people.tables import Erased
from moorfog.rooms.proof.verify import verify
from tests.rooms.house import House, Refused
from tests.rooms.test_bounds import roster
from tests.rooms.wear.history import table_of
from tests.unguarded import unguarded

NAME, NUMBER, MARKED = "Ottoline Quillfeather", "Q-77881", "Zanzibar"
ABOUT = ("/api/people", "/api/visits", "/api/reports", "/api/gate", "/api/codes", "/api/wearer", "/api/tomorrow")
ABOUT += ("/api/imports", "/api/history", "/api/sites/{site_id}/crews")
"""Routes by which something is said of a person."""
NOT_ABOUT = ("/api/history-words",)
"""Which among them are of models and sizes, and of no person."""
TYPED = {
    *(f"{door}.{one}" for door in ("POST /api/people ", "PUT /api/people/{person_id} ") for one in ("name", "number")),
    *(f"{door}.{one}" for door in ("POST /api/people ", "PUT /api/people/{person_id} ") for one in ("job", "contact")),
    *("POST /api/people .clearance.by_whom", "POST /api/people .training.what"),
    *("POST /api/people/{person_id}/clearance .by_whom", "POST /api/people/{person_id}/training .what"),
    *("POST /api/people/{person_id}/merge .why", "POST /api/people/{person_id}/reports .words"),
    *(
        "POST /api/people/{person_id}/trainings/{training_id}/withdraw .why",
        "POST /api/reports/{report_id}/withdrawal .why",
    ),
    *("POST /api/people/{person_id}/erasure .why", "POST /api/codes/{code}/report .number"),
    *("POST /api/gate .numbers", "POST /api/tomorrow/cards .crew.numbers", "POST /api/tomorrow/paper .numbers"),
    *("POST /api/sites/{site_id}/crews .name", "POST /api/sites/{site_id}/crews .numbers"),
    *(f"POST /api/visits/{{visit_id}}/events .body.{one}" for one in ("note", "reason", "why")),
    *("POST /api/visits/{visit_id}/withdraw .why", "POST /api/visits/{visit_id}/signatures .typed_name"),
    "POST /api/wearer/{token}/signature .typed_name",
    *("POST /api/history .content", "POST /api/history .file_name"),
    *("POST /api/imports .content", "POST /api/imports .file_name"),
}
"""Fields into which somebody may type whatever they like of a person."""
JUDGED = {
    *(
        "day",
        "on",
        "task",
        "left_on",
        "site_id",
        "configuration",
        "valid_from",
        "valid_until",
        "limits[]",
        "trained_on",
    ),
    *(
        "length[]",
        "lip[]",
        "width[]",
        "encoding",
        "left[]",
        "bench",
        "mark",
        "about",
        "alteration",
        "facts",
        "question",
    ),
    *(
        "clip",
        "come_back_on",
        "factor",
        "inside",
        "outside",
        "fault",
        "filter_class",
        "ppe[]",
        "protocol_id",
        "text",
        "seen",
    ),
    *("resolution", "run_id", "screen", "screening_id", "size", "suspension", "void_run", "password"),
}
"""Fields that are held to a list, a day, a figure or an id, or that say what is worn."""


def free_texts(document: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """Yield every route that takes something, and each text in it that is not held to a list or a form."""
    schemas = document["components"]["schemas"]

    def within(schema: dict[str, Any], path: str, seen: tuple[str, ...]) -> Iterator[str]:
        if "$ref" in schema:
            name = schema["$ref"].rsplit("/", 1)[1]
            if name not in seen:
                yield from within(schemas[name], path, (*seen, name))
        for one in (*schema.get("anyOf", ()), *schema.get("oneOf", ()), *schema.get("allOf", ())):
            yield from within(one, path, seen)
        for name, one in schema.get("properties", {}).items():
            yield from within(one, f"{path}.{name}", seen)
        if schema.get("type") == "array":
            yield from within(schema.get("items", {}), f"{path}[]", seen)
        if schema.get("type") == "string" and not {"enum", "const", "format", "pattern"} & schema.keys():
            yield path

    for path, deeds in document["paths"].items():
        for method, deed in deeds.items():
            for body in deed.get("requestBody", {}).get("content", {}).values():
                for found in set(within(body["schema"], "", ())):
                    yield f"{method.upper()} {path}", found


def test_every_text_about_a_person_is_typed_below_or_judged() -> None:
    document = json.loads((Path(__file__).parents[3] / "docs/openapi.json").read_text())
    about = {
        f"{door} {field}"
        for door, field in free_texts(document)
        if door.split()[1].startswith(ABOUT) and not door.split()[1].startswith(NOT_ABOUT)
    }
    unknown = {one for one in about - TYPED if one.rsplit(".", 1)[1] not in JUDGED and "preview" not in one}
    assert unknown == set(), "say in TYPED what becomes of it, and type it in the test below"
    assert about >= TYPED, "it is no longer there"


@pytest.fixture
def house(alone: Engine, rules: Rules) -> House:
    return House(alone, rules)


class Told:
    """A person of whom everything was told that can be, each time by another word."""

    def __init__(self, house: House) -> None:
        self.house, self.tester, self.admin = house, house.client(), house.client("administrator")
        self.person, self.site = house.ours.people[1], house.ours.site
        self.words, self.visits = list[str](), list[str]()
        self.day = house.clock.at.date()

    def word(self) -> str:
        self.words.append(f"{MARKED}{len(self.words):03}")
        return self.words[-1]

    def on_file(self) -> None:
        base, day = f"/api/people/{self.person}", self.day.isoformat()
        whole = {"name": NAME, "number": NUMBER, "job": self.word(), "task": "grain dust", "contact": self.word()}
        self.admin.call("PUT", base, {**whole, "name": self.word(), "site_id": self.site})
        self.admin.call("PUT", base, {**whole, "site_id": self.site})
        cleared = {"status": "cleared", "limits": [], "valid_from": day, "valid_until": "", "by_whom": self.word()}
        self.admin.post(f"{base}/clearance", cleared)
        self.admin.post(f"{base}/training", {"trained_on": day, "what": self.word()})
        known = [one["id"] for one in self.admin.get(base)["trainings"] if one["what"].startswith(MARKED)]
        self.admin.post(f"{base}/trainings/{known[0]}/withdraw", {"why": self.word()})
        self.admin.post(f"{base}/training", {"trained_on": day, "what": self.word()})
        double = {**whole, "number": "Q-77882", "name": self.word(), "clearance": {**cleared, "by_whom": self.word()}}
        double |= {"training": {"trained_on": day, "what": self.word()}, "site_id": self.site}
        other = self.admin.post("/api/people", double)["id"]
        self.admin.post(f"{base}/merge", {"other_id": other, "why": self.word()})
        row = f"{NUMBER};2024-05-01;{self.word()};M;ambient count;passed;1200;{self.word()}"
        self.admin.post("/api/history", table_of(self.house, row, name=f"{self.word()}.csv"))

    def at_the_bench(self) -> None:
        tester = self.tester
        visit = tester.whole_visit(self.person)
        tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
        run = tester.get(f"/api/visits/{visit}")["visit"]["tries"][-1]["run_id"]
        self.admin.post(f"/api/visits/{visit}/withdraw", {"run_id": run, "why": self.word()})
        self.visits.append(visit)
        visit = tester.open(self.person)
        tester.until(visit, "run")
        tester.start(visit, "typed")
        tester.say(visit, {"kind": "stopped", "why": self.word()}, 30, expects=None)
        tester.say(visit, {"kind": "turned_away", "reason": self.word(), "come_back_on": None})
        tester.say(visit, {"kind": "decided", "next": "end"})
        tester.until(visit, "release")
        tester.say(visit, {"kind": "released"})
        self.visits.append(visit)
        visit = tester.open(self.person)
        shown = tester.shown(visit)
        card = tester.do(visit, shown["queue"][0], dict(shown))["queue"][0]  # it is the right person
        body = {"kind": "answered", "question": card["id"], "facts": card["facts"], "answer": "not_fine"}
        tester.say(visit, {**body, "minutes_ago": None, "note": self.word()})
        tester.say(visit, {"kind": "turned_away", "reason": self.word(), "come_back_on": None})
        self.visits.append(visit)

    def around(self) -> None:
        crew = {"name": f"With {NAME.upper()}", "numbers": NUMBER}
        self.admin.post(f"/api/sites/{self.site}/crews", crew)
        dropped = self.admin.post(f"/api/sites/{self.site}/crews", {**crew, "name": f"{NAME}, late"})
        self.admin.call("DELETE", f"/api/crews/{dropped['id']}")
        asked = {"site": self.site, "day": "", "task": "", "crew": "", "numbers": f"{NUMBER}"}
        self.admin.post("/api/gate", asked)
        said = {
            "kind": "health",
            "said_by": "wearer",
            "words": self.word(),
            "configuration": "",
            "on": self.day.isoformat(),
        }
        said_of = self.admin.post(f"/api/people/{self.person}/reports", said)
        self.admin.post(f"/api/reports/{said_of['id']}/withdrawal", {"why": self.word()})


def places_of(engine: Engine, words: tuple[str, ...]) -> list[str]:
    """Return every column of the whole database in which one of these words stands."""
    found = []
    with engine.connect() as db:
        for table in db.scalars(text("SHOW TABLES")).all():
            for row in db.execute(text(f"SELECT * FROM `{table}`")).mappings():
                for column, value in row.items():
                    shown = value.decode("utf-8", "ignore") if isinstance(value, bytes) else str(value)
                    found += [f"{table}.{column}: {shown[:160]}" for one in words if one.lower() in shown.lower()]
    return found


def test_whatever_was_typed_of_a_person_is_nowhere_once_they_are_erased(
    house: House, alone: Engine, tmp_path: Path
) -> None:
    told = Told(house)
    told.on_file()
    told.at_the_bench()
    told.around()
    before = "".join(places_of(alone, (MARKED,)))
    missed = [word for word in told.words if word not in before]
    assert len(missed) <= 2, f"nearly every word is found where it was put: not {missed}"
    told.admin.post(f"/api/people/{told.person}/left", {"left_on": told.day.isoformat()})
    preview = told.admin.get(f"/api/people/{told.person}/erasure")
    assert (preview["words_kept"], preview["not_yet"]) == (0, "") and preview["words"] >= len(told.visits)
    stored = {one: told.admin.call("GET", f"/api/visits/{one}/record.json", raw=True) for one in told.visits}
    told.admin.post(f"/api/people/{told.person}/erasure", {"why": "asked by the worker"})

    assert places_of(alone, (MARKED, NAME, NUMBER)) == []
    assert verify(alone) == []
    for visit, was in stored.items():
        assert MARKED.encode() in was
        now = told.admin.call("GET", f"/api/visits/{visit}/record.json", raw=True)
        assert MARKED.encode() not in now and json.loads(now)["verdict"] == json.loads(was)["verdict"]
        for name, content in (("was", was), ("now", now)):
            (tmp_path / name).write_bytes(content)
            assert recompute.run([str(tmp_path / name)], False) == 0
        assert MARKED not in json.dumps(told.admin.get(f"/api/visits/{visit}"))


def test_words_of_a_record_are_held_to_its_log(house: House, tmp_path: Path) -> None:
    tester = house.client()
    visit = tester.open()
    tester.say(visit, {"kind": "turned_away", "reason": "Beard.", "come_back_on": None})
    record = tester.get(f"/api/visits/{visit}/record.json")
    (reason,) = [one for one in record["words"] if one["text"] == "Beard."]
    for forged in (
        {**reason, "text": "Shaven."},
        {**reason, "salt": "0" * 32},
        {**reason, "sign": "words:" + "0" * 64},
    ):
        words = [forged if one is reason else one for one in record["words"]]
        found = compute_again({**record, "words": words}).differences
        assert any(one.where.startswith("words[") for one in found), forged


def test_words_beside_a_log_are_never_changed_and_go_with_an_erasure_only(house: House, alone: Engine) -> None:
    tester = house.client()
    visit = tester.open()
    tester.say(visit, {"kind": "turned_away", "reason": "Beard.", "come_back_on": None})
    mine = EventWords.visit_id == visit
    for wrong in (update(EventWords).where(mine).values(text="Shaven."), delete(EventWords).where(mine)):
        with pytest.raises(DBAPIError, match=r"is never|denied"), alone.begin() as db:
            db.execute(wrong)
    assert verify(alone) == []
    row = {"visit_id": visit, "sign": "words:" + "1" * 64, "salt": "2" * 32, "text": "Said by nobody."}
    for forged, said in (
        (
            update(EventWords).where(mine, EventWords.text == "Beard.").values(text="Shaven."),
            "not those that were typed",
        ),
        (delete(EventWords).where(mine, EventWords.text == "Shaven."), "are gone"),
        (insert(EventWords).values(**row), "no entry has"),
    ):
        with unguarded(alone) as db:
            db.connection().execute(forged)
        assert any(said in one.problem for one in verify(alone) if one.kind == "words"), said
    with unguarded(alone) as db:  # no trace for the tests that follow
        db.connection().execute(delete(EventWords).where(EventWords.sign == row["sign"]))
        db.connection().execute(
            insert(Erased).values(
                row_id=visit, kind="words", person_id=house.ours.people[0], account_id=visit, erased_at=house.clock.at
            )
        )
    assert {one.kind for one in verify(alone)} == {"fact", "erased"}, "an erasure that no ledger knows"
    with unguarded(alone) as db:
        db.connection().execute(delete(Erased).where(Erased.row_id == visit))


def test_nobody_is_erased_while_a_roster_is_read_in(house: House, alone: Engine) -> None:
    """It may name them again."""
    admin, person = house.client("administrator"), house.ours.people[2]
    admin.post(f"/api/people/{person}/left", {"left_on": house.clock.at.date().isoformat()})
    job = admin.post("/api/imports", roster(house, f"Name,No\n{NAME},{NUMBER}\n".encode()))["id"]
    with pytest.raises(Refused, match="A roster is being read in"):
        admin.post(f"/api/people/{person}/erasure", {"why": "asked by the worker"})
    with Session(alone) as db, db.begin():
        db.execute(update(Job).where(Job.id == job).values(state="cancelled", content=""))
    admin.post(f"/api/people/{person}/erasure", {"why": "asked by the worker"})


def test_a_short_name_within_another_takes_nothing_of_theirs_along(house: House, alone: Engine) -> None:
    """Ann goes: Joanna's crew keeps its name, and her letter is sent."""
    admin, (stays, goes, _) = house.client("administrator"), house.ours.people
    entry = {"name": "Ann", "number": "A-1", "job": "", "task": "", "contact": "", "site_id": house.ours.site}
    admin.call("PUT", f"/api/people/{goes}", entry)
    number = admin.get(f"/api/people/{stays}")["person"]["number"]
    for name in ("Joanna's", "With ann, early"):
        admin.post(f"/api/sites/{house.ours.site}/crews", {"name": name, "numbers": number})
    letter: dict[str, Any] = {"kind": "invitation", "employer_id": house.ours.employer, "account_id": new_id()}
    letter |= {"to_address": "joanna@quay.example", "file_name": "", "file": b"", "state": "waiting", "attempts": 0}
    letter |= {"problem": "", "made_at": house.clock.at, "next_at": house.clock.at, "subject": "Welcome"}
    with Session(alone) as db, db.begin():
        db.add(Mail(id=new_id(), body="Dear Joanna, choose a password.", **letter))
        db.add(Mail(id=new_id(), body="Ann told us of you.", **letter))
    admin.post(f"/api/people/{goes}/left", {"left_on": house.clock.at.date().isoformat()})
    admin.post(f"/api/people/{goes}/erasure", {"why": "asked by the worker"})
    with Session(alone) as db:
        crews = set(db.scalars(select(Crew.name).where(Crew.site_id == house.ours.site)))
        assert crews == {"Joanna's", "With (erased), early"}
        mine = select(Mail.body).where(Mail.employer_id == house.ours.employer)
        assert db.scalars(mine).all() == ["Dear Joanna, choose a password."]
