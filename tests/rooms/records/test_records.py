"""Records: found by what is known of them, taken away in any form, and computed again without the house."""

from __future__ import annotations

import base64
import csv
import io
import json
import zipfile
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.platform.web import paging
from moorfog.recompute import DIFFERENT, SAME, run
from moorfog.rooms.papers.code import readable
from moorfog.rooms.papers.tables import CardCode
from moorfog.rooms.records import searching
from tests.rooms.house import GOOD, NAMES, Client, House, Refused
from tests.rooms.papers.test_papers import words
from tests.rooms.test_lists import BAD
from tests.rooms.wear.history import table_of

CSV, JSON = "kind=csv", "kind=json"


def visits(house: House) -> tuple[Client, list[str]]:
    """Three people tested: a pass, a fail, a pass again an hour later."""
    tester = house.client()
    out = []
    for person, inside in zip(house.ours.people, (GOOD, BAD, GOOD), strict=True):
        out.append(tester.whole_visit(person, inside=inside))
        house.clock.pass_by(3600)
    return tester, out


def found(client: Client, asked: str = "") -> list[str]:
    return [one["visit_id"] for one in client.get(f"/api/records?{asked}")["rows"]]


def test_tests_are_found_by_everything_that_is_known_of_them(house: House) -> None:
    tester, (first, second, third) = visits(house)
    practice = tester.open(house.ours.people[0], is_practice=True)
    tester.until(practice, "run")
    assert found(tester) == [third, second, first], "the latest first, and practice is none of them"
    (row,) = tester.get(f"/api/records?person={house.ours.people[0]}")["rows"]
    assert (row["person"], row["outcome"], row["size"], row["site"]) == (NAMES[0], "pass", "S", "Quay")
    assert row["level"] == "100" and "1910.134" in row["rule_book"] and row["protocol"] and row["tester"]
    assert found(tester, "outcome=fail") == [second]
    day = house.clock.at.date()
    piece = house.facepiece()
    who = next(one for one in tester.get("/api/records/suggestions?q=tester")["rows"] if one["meant"] == "tester")
    for asked, expected in (
        (f"model={piece['model_id']}&size=S", [third, second, first]),
        (f"model={piece['model_id']}&size=L", []),
        (f"kit={house.ours.counter}", [third, second, first]),
        (f"kit={house.theirs.counter}", []),
        (f"kit={piece['model_id']}", [third, second, first]),
        (f"tester={who['id']}", [third, second, first]),
        (f"site={house.ours.site}&since={day}&until={day}", [third, second, first]),
        (f"until={day.replace(year=day.year - 1)}", []),
    ):
        assert found(tester, asked) == expected, asked
    assert found(house.client("tester", house.theirs)) == []
    for wrong, code in (
        ("site=" + house.theirs.site, "not_found"),
        ("since=soon", "not_a_date"),
        ("after=x", "no_place"),
    ):
        with pytest.raises(Refused, match=code):
            tester.get(f"/api/records?{wrong}")


def test_a_long_list_is_read_to_its_end_without_a_gap(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever is written meanwhile at its top: each page goes on after the last row of the one before."""
    tester, made = visits(house)
    monkeypatch.setattr(searching, "PAGE", 1)
    monkeypatch.setattr(searching, "AT_ONCE", 2)
    seen, after = list[str](), ""
    while True:
        page = tester.get(f"/api/records?after={after}")
        seen += [one["visit_id"] for one in page["rows"]]
        after = page["after"]
        if not after:
            break
        house.clock.pass_by(60)
        tester.whole_visit(house.ours.people[0])
    assert seen == made[::-1]
    lines = list(csv.DictReader(io.StringIO(taken(tester, CSV).decode("utf-8-sig"))))
    assert len(lines) == len(made) + 2 and paging.PAGE > 1


def taken(client: Client, asked: str) -> bytes:
    content: bytes = client.call("GET", f"/api/records/file?{asked}", raw=True)
    return content


def test_what_is_taken_away_says_the_same_in_every_form(house: House) -> None:
    tester, made = visits(house)
    shown = tester.get("/api/records")["rows"]
    as_json = json.loads(taken(tester, JSON))
    assert as_json == shown and [one["visit_id"] for one in as_json] == made[::-1]
    as_csv = list(csv.DictReader(io.StringIO(taken(tester, CSV).decode("utf-8-sig"))))
    sheet = load_workbook(io.BytesIO(taken(tester, "kind=xlsx"))).active
    heading, *rows = sheet.iter_rows(values_only=True)
    as_sheet = [dict(zip(heading, one, strict=True)) for one in rows]
    for row, line, cells in zip(shown, as_csv, as_sheet, strict=True):
        for key in ("person", "number", "model", "outcome", "tested_at"):
            assert row[key] == line[key] == cells[key]
        assert line["is_signed"] == cells["is_signed"] == "yes"
    admin = house.client("administrator")
    deeds = [one["deed"] for one in admin.get("/api/journal")["rows"]]
    assert "took away a list of tests" in deeds, "who took it away is in the journal"


def test_everyone_in_a_model_on_a_test_that_counts_is_shown_with_rule_and_level(house: House) -> None:
    tester, made = visits(house)
    asked = f"/api/wearers?model={house.facepiece()['model_id']}&size=S"
    rows = tester.get(asked)["rows"]
    assert {one["visit_id"] for one in rows} == {made[0], made[2]}, "who failed wears nothing"
    assert all(one["may"] and one["level"] == "100" and one["rule_book"] and one["protocol"] for one in rows)
    on = house.clock.at.date().isoformat()
    said = {"kind": "face", "on": on, "said_by": "wearer", "words": "", "configuration": ""}
    tester.post(f"/api/people/{house.ours.people[0]}/reports", said)
    after = {one["visit_id"]: one for one in tester.get(asked)["rows"]}
    assert not after[made[0]]["may"] and after[made[0]]["reasons"][0]["code"] == "reported_face"
    assert after[made[2]]["may"]
    tester.post(f"/api/people/{house.ours.people[2]}/left", {"left_on": on})
    assert [one["may"] for one in tester.get(asked)["rows"]] == [False, False]
    lines = tester.call("GET", asked.replace("/wearers?", "/wearers/file?"), raw=True).decode("utf-8-sig")
    assert [one["may"] for one in csv.DictReader(io.StringIO(lines))] == ["no", "no"]
    assert house.client("tester", house.theirs).get(asked)["rows"] == []


def test_a_word_may_mean_somebody_a_model_kit_a_tester_a_card_or_a_day(house: House) -> None:
    tester, made = visits(house)
    tester.post(f"/api/visits/{made[0]}/reports", {"page_size": "A4", "paper": "card"})
    with Session(house.engine) as db:
        code = db.scalars(select(CardCode.code).where(CardCode.visit_id == made[0])).one()

    def meant(words: str, client: Client = tester) -> dict[str, list[str]]:
        out: dict[str, list[str]] = {}
        for one in client.get(f"/api/records/suggestions?q={words}")["rows"]:
            out.setdefault(one["meant"], []).append(one["id"])
        return out

    assert house.facepiece()["model_id"] in meant("Sedge")["model"]
    assert meant(f"{house.mark}-0")["person"] == [house.ours.people[0]]
    assert meant("2026-11-20")["day"] == ["2026-11-20"]
    assert house.ours.counter in meant("counter")["kit"]
    theirs = house.client("tester", house.theirs)
    assert house.ours.counter not in meant("counter", theirs).get("kit", [])
    assert "person" not in meant(f"{house.mark}-0", theirs) or house.ours.people[0] not in meant("x", theirs)
    assert meant(readable(code))["card"] == [made[0]] and "card" not in meant(code, theirs)
    assert meant("S") == {}, "one letter means nothing yet"


def archive(client: Client, tmp_path: Path) -> Path:
    file = tmp_path / "records.zip"
    file.write_bytes(client.call("GET", "/api/records.zip?outcome=pass", raw=True))
    return file


def test_an_inspectors_archive_computes_again_without_the_house(
    house: House, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    tester, made = visits(house)
    paper = tester.post(f"/api/visits/{made[0]}/reports", {"page_size": "A4"})
    assert paper
    file = archive(tester, tmp_path)
    with zipfile.ZipFile(file) as one:
        names = one.namelist()
        assert {f"records/{made[0]}.json", f"records/{made[2]}.json"} == {n for n in names if n.startswith("records/")}
        assert len([n for n in names if n.startswith("papers/")]) == 1 and any(n.startswith("rules/") for n in names)
        assert len(one.read("index.csv").decode().splitlines()) == 3
    assert run([str(file)], as_json=False) == SAME
    told = capsys.readouterr().out
    record = tester.get(f"/api/visits/{made[0]}/record.json")
    fine_print = words(tester.call("GET", paper["url"], raw=True)).replace(" ", "")
    entry = next(one for one in told.splitlines() if "log entry" in one and one.split("chain ")[1] in fine_print)
    assert entry and f"record digest {record['digest']}" in told, "what stands on paper is found there in full"
    rewritten = tmp_path / "other.zip"
    with zipfile.ZipFile(file) as one, zipfile.ZipFile(rewritten, "w") as other:
        for name in one.namelist():
            content = one.read(name)
            other.writestr(name, content.replace(b"pass", b"fail") if name == "index.csv" else content)
    assert run([str(rewritten)], as_json=False) == DIFFERENT
    assert "index.csv is not what was written" in capsys.readouterr().err
    with pytest.raises(Refused, match="nothing_meant"):
        house.client("tester", house.theirs).call("GET", "/api/records.zip", raw=True)


def test_the_root_of_an_archive_is_signed_by_the_installation(house: House, tmp_path: Path) -> None:
    """By the cryptography package, from what the archive itself says."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    tester, _ = visits(house)
    with zipfile.ZipFile(archive(tester, tmp_path)) as one:
        said: dict[str, Any] = dict(line.split(" ", 1) for line in one.read("root.txt").decode().splitlines())
    Ed25519PublicKey.from_public_bytes(bytes.fromhex(said["public"])).verify(
        bytes.fromhex(said["signature"]), said["root"].encode()
    )


def test_results_of_before_are_history_and_permit_nothing(house: House) -> None:
    admin, person = house.client("administrator"), house.ours.people[0]
    rows = (
        f"{house.mark}-0;31.03.2026;Old Heron;M;ambient count;passed;1200;R. Vole",
        f"{house.mark}-1;01.04.2026;Old Heron;L;ambient count;Fail;60;",
    )
    unclear = admin.post("/api/history/preview", table_of(house, *rows))
    assert unclear["needs_order"] and unclear["fault_count"] == 2, "no day is guessed"
    given = table_of(house, *rows, day_order="dmy")
    assert admin.post("/api/history/preview", given) == {
        "rows": 2,
        "known": 0,
        "faults": [],
        "fault_count": 0,
        "needs_order": False,
        "day_order": "dmy",
    }
    assert admin.post("/api/history", given) == {"new": 2}
    assert admin.post("/api/history", given) == {"new": 0}, "the same table once more"
    again = admin.post("/api/history/preview", table_of(house, *rows))
    assert (again["needs_order"], again["day_order"], again["known"]) == (False, "dmy", 2), "by the order of before"
    view = admin.get(f"/api/people/{person}")
    (line,) = view["history"]
    assert (line["on"], line["model"], line["result"], line["factor"], line["source"]) == (
        *("2026-03-31", "Old Heron", "pass", "1200", "last-year.csv"),
    )
    assert view["permissions"]["rows"] == [] and view["next_up"]["until"] == "", "a pass of before permits nothing"
    assert admin.get("/api/records")["rows"] == [] and admin.get("/api/results")["rows"] == []


def test_everything_that_is_wrong_with_a_table_is_said_at_once_and_nothing_is_taken(house: House) -> None:
    admin = house.client("administrator")
    rows = ("nobody;2026-03-31;Old Heron;M;;passed;;", f"{house.mark}-0;2026-13-01;;M;;perhaps;;")
    found = admin.post("/api/history/preview", table_of(house, *rows))
    assert {(one["row"], one["column"]) for one in found["faults"]} == {
        (2, "number"),
        (3, "tested on"),
        (3, "model"),
        (3, "result"),
    }
    with pytest.raises(Refused, match="faults"):
        admin.post("/api/history", table_of(house, *rows))
    for wrong, code in (
        (table_of(house), "empty_file"),
        (table_of(house, "x", name="old.pdf"), "unknown_file"),
        ({**table_of(house), "content": base64.b64encode(b"a;b\n1;2").decode()}, "columns_missing"),
        ({**table_of(house), "site_id": house.theirs.site}, "not_found"),
    ):
        with pytest.raises(Refused, match=code):
            admin.post("/api/history", wrong)
