"""A site says in writing that results of before count: what rests on it, everywhere, and what it does not reach."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest
from sqlalchemy import delete, select

from moorfog.platform.db.base import run_in_transaction
from moorfog.rooms.kit.found_wrong import Found, open_recall
from moorfog.rooms.kit.tables import KitRecall, RecallSettled
from moorfog.rooms.wear import history_words
from tests.rooms.house import Client, House, Refused
from tests.rooms.wear.history import WHY, said_in_writing, table_of, word_on

MODEL, SIZE = "Old Heron", "M"


def worn(client: Client, person: str) -> list[dict[str, Any]]:
    rows: list[dict[str, Any]] = client.get(f"/api/people/{person}/permissions")["rows"]
    return rows


@contextmanager
def found_wrong(house: House, model_id: str) -> Iterator[None]:
    """As if its approval were withdrawn, for as long as this lasts: the catalogue is everybody's, and no other test
    shall hear of it."""
    found = Found(
        kit_kind="approval",
        kit_id=model_id,
        kit_name="Tindle & Wray Sedge",
        check_name="approval",
        what="Its approval was withdrawn: counterfeit.",
        employer_id=house.ours.employer,
        since=None,
        until=house.clock.at,
    )
    run_in_transaction(house.engine, lambda db: open_recall(db, found, "test"))
    try:
        yield
    finally:
        with house.engine.begin() as db:
            mine = select(KitRecall.id).where(KitRecall.kit_id == model_id)
            db.execute(delete(RecallSettled).where(RecallSettled.recall_id.in_(mine)))
            db.execute(delete(KitRecall).where(KitRecall.kit_id == model_id))


def take_over(house: House, *rows: str) -> None:
    day = house.clock.at.date().replace(day=1)
    given = [f"{house.mark}-{row}".replace("DAY", day.isoformat()) for row in rows]
    house.client("administrator").post("/api/history", table_of(house, *given))


def test_what_is_said_in_writing_is_heard_on_crew_person_and_due_list_and_taken_back(house: House) -> None:
    admin, supervisor, person = house.client("administrator"), house.client("supervisor"), house.ours.people[0]
    take_over(
        house,
        "0;DAY;Old Heron;M;ambient count;passed;1200;",
        "1;DAY;Old Heron;M;ambient count;fail;30;",
        "2;DAY;Old Heron;;ambient count;passed;900;",
    )
    crew = f"/api/tomorrow?site={house.ours.site}"
    page = admin.get(f"/api/sites/{house.ours.site}/history")
    assert [(one["model"], one["size"], one["results"], one["in_time"], one["said"]) for one in page["rows"]] == [
        (MODEL, "M", 2, 1, False),
        (MODEL, "", 1, 1, False),
    ]
    assert supervisor.get(crew)["may"] == 0 and worn(admin, person) == []
    word = admin.post(f"/api/sites/{house.ours.site}/history", word_on(admin, MODEL, SIZE))["id"]
    (row,) = worn(admin, person)
    assert (row["may"], row["visit_id"], row["size"], row["overall"]) == (True, "", "M", "1200")
    assert "not judged here" in row["limits"][0] and admin.get("/api/session")["name"] in row["limits"][0]
    assert worn(admin, house.ours.people[1]) == [] and worn(admin, house.ours.people[2]) == []
    view = supervisor.get(crew)
    assert view["may"] == 1
    (able,) = [one for one in view["rows"] if one["may"]]
    assert able["person_id"] == person and "not judged here" in able["set_ups"][0]["limits"][0]
    board = supervisor.get(f"/api/board?site={house.ours.site}")
    assert [cell["is_before"] for one in board["rows"] for cell in one["cells"] if cell["state"]] == [True]
    due = supervisor.get(f"/api/due?site={house.ours.site}&within=366")
    assert [one["person_id"] for one in due["rows"]] == [person], "the database marked them to be worked out anew"
    assert admin.get(f"/api/records?person={person}")["rows"] == [], "nothing was tested here"
    with pytest.raises(Refused, match="nobody_may"):
        supervisor.post("/api/tomorrow/cards", {"crew": {"site": house.ours.site}})
    (said,) = admin.get(f"/api/sites/{house.ours.site}/history")["words"]
    assert (said["why"], said["withdrawn"]) == (WHY, "") and "Sedge M" in said["counts_as"]
    with pytest.raises(Refused, match="reason_missing"):
        admin.post(f"/api/history-words/{word}/withdrawal", {"why": " "})
    admin.post(f"/api/history-words/{word}/withdrawal", {"why": "The papers were of another yard."})
    assert worn(admin, person) == [] and supervisor.get(crew)["may"] == 0
    assert supervisor.get(f"/api/due?site={house.ours.site}&within=366")["rows"] == []
    (said,) = admin.get(f"/api/sites/{house.ours.site}/history")["words"]
    assert "another yard" in said["withdrawn"], "what was said still stands there"
    deeds = [one["deed"] for one in admin.get("/api/journal")["rows"]]
    assert "said in writing that results of before count" in deeds


def test_a_report_a_fail_and_another_site_end_what_rests_on_it(house: House) -> None:
    tester, person = house.client(), house.ours.people[0]
    said_in_writing(house, house.ours, MODEL, SIZE)
    (row,) = worn(tester, person)
    report = {"kind": "fit", "on": house.clock.at.date().isoformat(), "said_by": "wearer", "words": ""}
    made = tester.post(f"/api/people/{person}/reports", {**report, "configuration": row["configuration"]})
    assert [one["code"] for one in worn(tester, person)[0]["reasons"]] == ["reported_fit"]
    admin = house.client("administrator")
    admin.post(f"/api/reports/{made['id']}/withdrawal", {"why": "It was somebody else."})
    assert worn(tester, person)[0]["may"]
    take_over(house, "0;DAY;Old Heron;;ambient count;failed;12;")
    assert worn(tester, person) == [], "a fail that is taken over later, its size unknown"


def test_an_approval_that_is_withdrawn_suspends_what_rests_on_it_at_once(house: House) -> None:
    """The model of the catalogue is found wrong: nobody wears it, whoever tested it, and the due list hears of it."""
    admin, tester, person = house.client("administrator"), house.client(), house.ours.people[0]
    said_in_writing(house, house.ours, MODEL, SIZE)
    due = f"/api/due?site={house.ours.site}&within=1"
    assert worn(tester, person)[0]["may"] and tester.get(due)["rows"] == []
    model = admin.get("/api/facepieces?q=sedge")["rows"][0]["model_id"]
    house.clock.pass_by(60)
    with found_wrong(house, model):
        (row,) = worn(tester, person)
        assert not row["may"] and [one["code"] for one in row["reasons"]] == ["suspended"]
        assert [one["person_id"] for one in tester.get(due)["rows"]] == [person]
        (recall,) = [one for one in tester.get("/api/recalls")["rows"] if one["kit_name"] == "Tindle & Wray Sedge"]
        house.client("administrator").post(
            f"/api/recalls/{recall['id']}/settle", {"decision": "clear", "reason": "A mistake."}
        )
        assert worn(tester, person)[0]["may"] and tester.get(due)["rows"] == [], "cleared for this employer"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"why": "trust me"}, "say why they count"),
        ({"typed_name": "Somebody Else"}, "type your own name"),
        ({"piece_size": "XXL"}, "has no size"),
        ({"filter_class": ""}, "choose the class of its filters"),
        ({"suspension": "net"}, "choose its harness"),
        ({"version_id": "00000000-0000-4000-8000-000000000000"}, "choose the facepiece"),
        ({"model": "Old Bittern"}, "no result of before"),
    ],
)
def test_nothing_counts_until_all_of_it_is_said(house: House, change: dict[str, str], words: str) -> None:
    take_over(house, "0;DAY;Old Heron;M;ambient count;passed;1200;", "1;DAY;Old Heron;;ambient count;passed;1200;")
    admin = house.client("administrator")
    with pytest.raises(Refused, match=f"(?i){words}"):
        admin.post(f"/api/sites/{house.ours.site}/history", {**word_on(admin, MODEL, SIZE), **change})
    with pytest.raises(Refused, match="which size it was"):
        admin.post(f"/api/sites/{house.ours.site}/history", word_on(admin, MODEL, ""))
    assert worn(admin, house.ours.people[0]) == []


def test_one_word_stands_for_each_facepiece_and_size(house: House) -> None:
    said_in_writing(house, house.ours, MODEL, SIZE)
    admin = house.client("administrator")
    with pytest.raises(Refused, match="take it back first"):
        admin.post(f"/api/sites/{house.ours.site}/history", word_on(admin, MODEL.upper(), SIZE))


def test_no_word_that_stands_is_out_of_sight(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """However many were taken back since; and where no more could be shown, no more are said."""
    word = said_in_writing(house, house.ours, MODEL, SIZE)
    admin = house.client("administrator")
    take_over(house, "1;DAY;Old Bittern;M;ambient count;passed;1200;")
    bittern = word_on(admin, "Old Bittern", SIZE)
    history = f"/api/sites/{house.ours.site}/history"
    taken = admin.post(history, bittern)["id"]
    admin.post(f"/api/history-words/{taken}/withdrawal", {"why": "The papers were of another yard."})
    monkeypatch.setattr(history_words, "MOST_WORDS", 1)
    assert [one["id"] for one in admin.get(history)["words"]] == [word]
    with pytest.raises(Refused, match="take some back first"):
        admin.post(history, bittern)
