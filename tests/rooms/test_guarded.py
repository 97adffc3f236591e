"""Who may not: idle pages, tries of passwords side by side, pages of other sites, other hosts, old streams."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from sqlalchemy import delete, text
from sqlalchemy.orm import Session

from moorfog.app import HEADERS, create_app
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.db.tables import ClockJump
from moorfog.rooms.accounts import sessions
from moorfog.rooms.accounts.session_routes import BROWSER_COOKIE
from moorfog.rooms.accounts.sessions import weak_password
from moorfog.rooms.accounts.tables import Grant
from moorfog.rooms.bench import live
from moorfog.serving.state import PLACE, PartState, write_state
from tests.rooms.house import GOOD, PASSWORD, House, Refused


def test_a_page_at_which_nobody_does_anything_ends_however_often_it_asks(house: House) -> None:
    tester = house.client()
    for minute in range(0, 45, 5):
        house.clock.pass_by(300)
        if minute < 40:
            tester.call("GET", "/api/session", headers={"X-Moorfog-Idle": str(60 * (minute + 5))})
    with pytest.raises(Refused, match="sign_in_needed"):
        tester.call("GET", "/api/session", headers={"X-Moorfog-Idle": "2700"})


def test_one_request_of_a_session_keeps_no_other_waiting(house: House) -> None:
    """A long request held the row of its own session: every other page of the same person stood still."""
    tester = house.client()
    house.clock.at += sessions.NOTED_EVERY * 2
    whose = "SELECT id FROM account WHERE login = :login"
    row = text(f"SELECT digest FROM sign_in_session WHERE account_id = ({whose}) FOR UPDATE")
    with house.engine.connect() as long_request, ThreadPoolExecutor(1) as pool:
        long_request.execute(row, {"login": tester.login})
        answer = pool.submit(tester.get, "/api/session")
        assert answer.result(5)["roles"] == ["tester"]
        long_request.rollback()
    tester.get("/api/session")  # the next one notes it
    house.clock.at += sessions.IDLE - sessions.NOTED_EVERY
    assert tester.get("/api/session")["roles"] == ["tester"]


@pytest.mark.parametrize("said", ["-5", "nan", "1e9", "x", ""])
def test_nonsense_about_idling_counts_as_nothing_done(house: House, said: str) -> None:
    tester = house.client()
    house.clock.at += sessions.IDLE - timedelta(minutes=1)
    assert tester.call("GET", "/api/session", headers={"X-Moorfog-Idle": said})["roles"] == ["tester"]
    house.clock.pass_by(61)
    with pytest.raises(Refused, match="sign_in_needed"):
        tester.call("GET", "/api/session", headers={"X-Moorfog-Idle": "120"})


def guess(house: House, login: str, address: str, password: str = "guess") -> int:
    web = house.app.test_client()
    body = {"login": login, "password": password}
    return web.post("/api/session", json=body, environ_base={"REMOTE_ADDR": address}).status_code


def test_tries_side_by_side_are_counted_one_by_one(house: House) -> None:
    login, address = house.ours.logins["tester"], f"10.1.{house.mark[:4]}"
    with ThreadPoolExecutor(20) as pool:
        codes = list(pool.map(lambda number: guess(house, login, address, f"guess {number}"), range(30)))
    assert codes.count(401) <= sessions.ATTEMPTS_PER_PAIR and set(codes) == {401, 429}


def test_a_stranger_elsewhere_does_not_lock_the_owner_out(house: House) -> None:
    login, desk = house.ours.logins["tester"], f"10.2.{house.mark[:4]}"
    assert guess(house, login, desk, PASSWORD) == 200
    codes = [
        guess(house, login, f"10.3.{house.mark[:3]}.{number}") for number in range(sessions.ATTEMPTS_ELSEWHERE + 5)
    ]
    assert codes[-1] == 429, "from everywhere else there are too many"
    assert guess(house, login, desk, PASSWORD) == 200


def test_forty_wrong_tries_at_a_site_lock_nobody_out_who_works_there(house: House) -> None:
    """A site has one address: one stranger in it, or one script, keeps strangers out and no more."""
    mine, other, desk = house.ours.logins["tester"], house.ours.logins["supervisor"], f"10.4.{house.mark[:4]}"
    assert guess(house, mine, desk, PASSWORD) == 200
    codes = [guess(house, f"nobody-{number}", desk) for number in range(sessions.ATTEMPTS_PER_ADDRESS + 5)]
    assert codes[-1] == 429
    assert guess(house, mine, desk, PASSWORD) == 200, "they have signed in here before"
    assert guess(house, other, desk, PASSWORD) == 429, "and they have not"
    wrong = [guess(house, mine, desk) for _ in range(sessions.ATTEMPTS_PER_PAIR + 1)]
    assert wrong[-1] == 429 and guess(house, mine, desk, PASSWORD) == 429, "their own tries are counted all the same"
    assert run_in_transaction(house.engine, lambda db: sessions.forget_all_tries(db, mine)) > 0
    assert guess(house, mine, desk, PASSWORD) == 200 and guess(house, other, desk, PASSWORD) == 429
    run_in_transaction(house.engine, sessions.forget_all_tries)
    assert guess(house, other, desk, PASSWORD) == 200, "the way out, at the machine"


def test_a_known_browser_is_not_kept_out_by_who_has_the_same_address(house: House) -> None:
    """Wrong tries of a name at a site's address end the tries of that name there, not at its owner's browser."""
    login, desk = house.ours.logins["tester"], {"REMOTE_ADDR": f"10.5.{house.mark[:4]}"}
    owner, stranger = house.app.test_client(), house.app.test_client()

    def tries(web: FlaskClient, password: str = "guess", name: str = login) -> int:
        body = {"login": name, "password": password}
        return web.post("/api/session", json=body, environ_base=desk).status_code

    assert tries(owner, PASSWORD) == 200
    assert [tries(stranger) for _ in range(sessions.ATTEMPTS_PER_PAIR + 1)][-1] == 429
    assert tries(stranger, PASSWORD) == 429, "elsewhere at the address even the right password waits"
    assert tries(owner, PASSWORD) == 200
    assert tries(owner, PASSWORD, house.ours.logins["supervisor"]) == 200, "nobody has tried that name"
    assert [tries(owner) for _ in range(sessions.ATTEMPTS_PER_PAIR + 1)][-1] == 429, "its own tries are counted"
    stranger.set_cookie(BROWSER_COOKIE, "made-up")
    assert tries(stranger, PASSWORD) == 429


def test_nobody_outside_keeps_a_tester_from_signing(house: House) -> None:
    tester = house.client()
    for _ in range(sessions.ATTEMPTS_PER_PAIR + 2):
        guess(house, tester.login, "127.0.0.1")
    assert guess(house, tester.login, "127.0.0.1", PASSWORD) == 429
    assert tester.post("/api/account/second", {"password": PASSWORD})["secret"]


def test_a_password_asked_again_is_counted_like_a_sign_in(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    tester.type_numbers(visit, tester.start(visit, "typed"), GOOD)
    tester.until(visit, "sign_wearer")
    house.clock.at += sessions.PASSWORD_FRESH + timedelta(seconds=1)
    codes = []
    for number in range(sessions.ATTEMPTS_PER_PAIR + 2):
        with pytest.raises(Refused) as refused:
            tester.sign(visit, "tester", password=f"guess {number}")
        codes.append(refused.value.code)
    assert codes[0] == "wrong_password" and codes[-1] == "too_many_attempts"


@pytest.mark.parametrize(
    ("password", "words"),
    [
        ("          ", ()),
        ("short", ()),
        ("password123456", ()),
        ("marenoake1", ("maren", "Oake")),
        ("qwertyuiop12", ()),
    ],
)
def test_a_password_that_is_easily_guessed_is_refused_with_what_to_do(password: str, words: tuple[str, ...]) -> None:
    assert weak_password(password, *words)


def test_four_words_are_good_enough() -> None:
    assert weak_password("otter lantern gravel moss", "maren") == ""


def test_a_page_of_another_site_changes_nothing(house: House) -> None:
    tester = house.client()
    for origin in ("http://elsewhere.test", "null", "http://localhost.elsewhere.test"):
        with pytest.raises(Refused) as refused:
            tester.call("DELETE", "/api/session", headers={"Origin": origin})
        assert refused.value.code == "foreign_page"
    assert tester.call("GET", "/api/session", headers={"Origin": "http://elsewhere.test"}), (
        "reading is not kept from it"
    )
    tester.call("DELETE", "/api/session", headers={"Origin": "http://localhost"})


def test_under_another_name_of_the_host_there_is_nothing(house: House) -> None:
    web = house.app.test_client()
    assert web.get("/api/time", headers={"Host": "elsewhere.test"}).status_code == 400
    assert web.get("/api/time", headers={"Host": "127.0.0.1:8400"}).status_code == 200
    assert web.get("/api/time", environ_overrides={"HTTP_HOST": ""}).status_code == 400, "without one (RFC 9112, 3.2)"


def test_what_lies_hidden_beside_the_pages_is_not_served(house: House, tmp_path: Path) -> None:
    (tmp_path / "index.html").write_text("the page")
    (tmp_path / "fine.txt").write_text("fine")
    (tmp_path / "assets").mkdir()
    for hidden in (tmp_path / ".stamp", tmp_path / "assets/.stamp"):
        hidden.write_text("what the build noted")
    web = create_app(house.engine, house.rules, tmp_path, house.clock).test_client()
    assert web.get("/fine.txt").text == "fine"
    for path in ("/.stamp", "/assets/.stamp", "/./.stamp"):
        assert web.get(path).text == "the page"


@pytest.mark.parametrize("path", ["/api/time", "/api/people", "/api/nothing", "/api/openapi.json"])
def test_every_answer_is_guarded_and_none_of_the_program_is_kept(house: House, path: str) -> None:
    answer = house.client().web.get(path)
    assert {name: answer.headers.get(name) for name in HEADERS} == HEADERS
    assert answer.headers["Cache-Control"] == "no-store"


def test_a_stream_ends_with_the_grant_it_was_opened_under(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(live, "ASK_EVERY_S", 0.05)
    tester = house.client()
    visit = tester.open()
    stream = tester.web.get(f"/api/live?visit={visit}", buffered=False)
    said = iter(stream.response)
    assert "retry" in next(said).decode()
    with Session(house.engine) as db, db.begin():
        db.execute(delete(Grant).where(Grant.employer_id == house.ours.employer))
    rest = b"".join(said).decode()  # it ends
    assert rest.endswith("event: over\ndata: {}\n\n")
    stream.close()


def test_more_streams_than_there_is_room_for_are_said(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    tester = house.client()
    visit = tester.open()
    places = house.app.extensions["moorfog_hub"].places
    for who, machine, most in (
        (lambda n: "one", lambda n: f"m{n}", live.OF_ONE),
        (lambda n: f"s{n}", lambda n: "one", live.OF_MACHINE),
        (lambda n: f"s{n}", lambda n: f"m{n}", live.MOST_STREAMS),
    ):
        taken = [places.take(who(n), machine(n)) for n in range(most)]
        assert None not in taken and places.take(who(most), machine(most)) is None
        if most == live.MOST_STREAMS:
            with pytest.raises(Refused) as refused:
                tester.get(f"/api/live?visit={visit}")
            assert refused.value.status == 503 and refused.value.code == "too_many_screens"
        for give_back in taken:
            assert give_back is not None
            give_back()
    stream = tester.web.get(f"/api/live?visit={visit}", buffered=False)
    assert places.taken["all"] == 1
    stream.close()
    assert not +places.taken, "a stream that ends gives its place back"


def test_how_the_parts_fare_is_shown_to_who_works_with_the_kit(
    house: House, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    tester = house.client()
    with Session(house.engine) as db, db.begin():
        db.execute(delete(ClockJump))  # the clock of the machine that runs the tests may jump too
        db.add(ClockJump(id=new_id(), at=datetime(2026, 3, 2, 9, 0, tzinfo=UTC), by_ms=-3200))
    assert tester.get("/api/system/parts") == {
        "changed_at": "",
        "parts": [],
        "jumps": [{"at": "2026-03-02T09:00:00.000Z", "by_s": -3.2, "followed_at": ""}],
    }, "nobody watches here"
    monkeypatch.setenv(PLACE, str(tmp_path))
    write_state(tmp_path, [PartState("worker", True, 2, "ended with 1"), PartState("link-counter", False, 0, "")])
    shown = tester.get("/api/system/parts")
    assert shown["changed_at"] and [one["title"] for one in shown["parts"]] == [
        "The worker for long jobs",
        "The link of the counter",
    ]
    with pytest.raises(Refused) as refused:
        house.client("supervisor").get("/api/system/parts")
    assert refused.value.status == 403
