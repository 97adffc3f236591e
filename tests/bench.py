"""Measurements, side by side in one run and printed as ratios: ./moorfog bench. Nothing here is asserted."""

from __future__ import annotations

import base64
import hashlib
import json
import random
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, insert, select, text
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import event_from_json, event_to_json
from moorfog.core.measuring.columns import reduce_chunks, seal_of
from moorfog.core.measuring.live import live_numbers
from moorfog.core.measuring.readings import chunk_of
from moorfog.core.measuring.reduction import reduce_run, reduction_for
from moorfog.core.measuring.run import Limits, measure_run
from moorfog.core.record.record import make_record, recompute_text, record_bytes
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.fold import fold, step
from moorfog.core.views.visit_view import visit_view
from moorfog.data import shipped_rules
from moorfog.demo import seed
from moorfog.demo.walk import Walk
from moorfog.jobs import run_job
from moorfog.platform.db.base import make_engine, new_id, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.db.migrate import migrate
from moorfog.platform.jobs.jobs import claim
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.text import words_of
from moorfog.platform.web.actor import Actor
from moorfog.rooms.accounts.sessions import create_account, load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.bench.tables import ReadingChunk
from moorfog.rooms.kit.tables import InstrumentRow
from moorfog.rooms.people.finding import find_people
from moorfog.rooms.people.people import index_people
from moorfog.rooms.people.roster import PLAIN, check_roster, start_import
from moorfog.rooms.people.roster_file import RosterFile
from moorfog.rooms.people.tables import Person, PersonWord
from moorfog.rooms.sites.tables import Employer, Site
from moorfog.serving.database import PrivateServer
from tests.bench_faults import bench_fuzz, bench_kill, bench_slow
from tests.bench_large import bench_large
from tests.bench_mutants import bench_mutants
from tests.bench_verify import bench_verify
from tests.core.bench import GOOD, START, Bench, simulate
from tests.independent.truth import truth
from tests.seated import seated
from tests.web.test_rooms import first_load_kb


def timed(fn: Callable[[], Any], times: int = 30) -> list[float]:
    """Return the milliseconds of ``times`` calls."""
    out = []
    for _ in range(times):
        began = time.perf_counter()
        fn()
        out.append((time.perf_counter() - began) * 1000)
    return out


def p50(values: list[float]) -> float:
    return statistics.median(values)


def p95(values: list[float]) -> float:
    return sorted(values)[int(len(values) * 0.95) - 1 if len(values) > 1 else 0]


def line(what: str, ours: float, other: float | None = None, unit: str = "ms", beside: str = "") -> None:
    """Print one measurement, with its ratio to what it is held against."""
    ratio = f"   {ours / other:6.2f} × {beside} ({other:.3f} {unit})" if other else ""
    print(f"  {what:<58}{ours:9.3f} {unit}{ratio}", flush=True)


def bench_core(rules: Rules) -> None:
    """The fold and the view of a whole visit."""
    print("core")
    one = Bench(rules)
    one.until("run")
    one.run()
    one.until("release")
    stored = [json.dumps(event_to_json(event)) for event in one.log]
    parse = p50(timed(lambda: [json.loads(each) for each in stored]))
    read = p50(timed(lambda: [event_from_json(json.loads(each)) for each in stored]))
    line(
        f"fold of a full visit, {len(one.log)} events",
        p50(timed(lambda: fold(one.log, rules))),
        parse,
        "ms",
        "its JSON",
    )
    line("reading its events strictly out of JSON", read, parse, "ms", "its JSON")
    before = fold(one.log[:-1], rules)
    line("one step of the fold", p50(timed(lambda: step(before, one.log[-1]))))
    bench_record(rules)
    line("view of a visit, nothing remembered", p50(timed(lambda: visit_view(step(before, one.log[-1]), one.at))))


def exported(rules: Rules, number: int) -> bytes:
    """The record of one of many visits: its own person, time, ids, readings and fit factors; the same rules."""
    at = START + timedelta(days=number // 12, minutes=35 * (number % 12), seconds=7 * number)
    factors = tuple(one + 13 * number for one in GOOD)
    bench = Bench(rules, at, f"018f4c1e-77aa-7c3b-8d21-{number:012x}", person_id=f"person-{number}")
    bench.until("run")
    protocol = rules.protocol("fast-count-elastomeric")
    assert protocol is not None
    readings = simulate(protocol, factors, seed=number)
    bench.run(readings=readings)
    bench.until("release")
    bench.say(ev.Released())
    chunks = [chunk_of(at, readings[at : at + 4]) for at in range(0, len(readings), 4)]
    return record_bytes(make_record("v", rules, bench.log, {"run-1": chunks}))


def bench_record(rules: Rules) -> None:
    """Exported records computed again, one after the other as the command does, and what of it is arithmetic."""
    protocol = rules.protocol("fast-count-elastomeric")
    assert protocol is not None
    files = [exported(rules, number) for number in range(60)]
    readings = simulate(protocol, GOOD)

    chunk = chunk_of(0, readings)

    def each_of(fn: Callable[[bytes], Any]) -> float:
        def all_of_them() -> None:
            for one in files:
                fn(one)

        return p50(timed(all_of_them, 9)) / len(files)

    parse, hashing = each_of(json.loads), each_of(lambda one: hashlib.sha256(one).hexdigest())
    ours = each_of(recompute_text)
    line(f"recompute of {len(files)} records of {len(files[0]) // 1024} kB, each", ours, parse, "ms", "its json.loads")
    line("  the same, beside SHA-256 over the file", ours, hashing, "ms", "its SHA-256")
    line("  records a second", 1000 / ours, unit="/s")
    limits = Limits(Fraction(1000), Fraction(1))

    def arithmetic() -> None:
        seal_of([chunk])
        sealed = reduce_chunks(protocol, rules.book, [chunk], "complete")
        measure_run(protocol, rules.book, Fraction(100), sealed, "half", limits)

    line("  of it: seal, window sums, fit factors and bounds", p50(timed(arithmetic)), ours, "ms", "the whole")
    columns = p50(timed(lambda: reduce_chunks(protocol, rules.book, [chunk], "complete")))
    rows = p50(timed(lambda: reduce_run(protocol, rules.book, readings, "complete")))
    line(f"  {len(readings)} readings reduced by columns", columns, rows, "ms", "one by one, as in a live run")
    reduction = reduction_for(protocol, 1000)
    for reading in readings[:-40]:
        reduction.feed(reading)
    live = p50(timed(lambda: live_numbers(reduction, rules.book, Fraction(100), "half")))
    line(f"live numbers after {len(readings) - 40} readings", live)


def bench_store(engine: Engine, rules: Rules) -> None:
    """Appending an event, and storing readings, beside bare SQL on the same server."""
    print("store")
    walk = seated(engine, rules)
    cards = iter(range(10_000))

    def answer() -> None:
        card = walk.view.behind[next(cards) % 4]
        walk.answer(card)
        walk.db.commit()

    head = walk.db.get(VisitHead, walk.visit_id)
    assert head is not None
    with engine.begin() as db:
        db.execute(text("CREATE TABLE bare (id INT AUTO_INCREMENT PRIMARY KEY, payload MEDIUMTEXT)"))
    payload = "x" * 400

    def bare() -> None:
        with engine.begin() as db:
            db.execute(text("INSERT INTO bare (payload) VALUES (:p)"), {"p": payload})

    bare_ms = p50(timed(bare, 60))
    line("append: admit, fold, event, read models, commit", p50(timed(answer, 60)), bare_ms, "ms", "one bare INSERT")
    piece = seed.catalogue(walk.db)["Sedge"]
    walk.choose(piece, "M")
    walk.until("run")
    walk.start("counter")
    walk.db.commit()
    bench_chunks(engine, walk)
    walk.db.close()


def bench_chunks(engine: Engine, walk: Walk) -> None:
    """Store chunks of a second through the operation, and the same rows by one bare multi-row INSERT."""
    from moorfog.core.measuring.readings import Chunk
    from moorfog.rooms.bench import readings

    row = walk.db.get(InstrumentRow, walk.instrument_id)
    assert row is not None
    at = iter(range(0, 10**9, 4))

    def chunk(first: int) -> Chunk:
        return Chunk(first, (1, 2, 3, 4), (250,) * 4, (7,) * 4, (416_750,) * 4, "IIII", ("",) * 4)

    def ours() -> None:
        found = readings.store_next(engine, "token", walk.run_id, tuple(chunk(next(at)) for _ in range(10)))
        assert found == (40, False)

    def bare() -> None:
        other = new_id()
        rows = [readings.chunk_row(other, row.id, chunk(4 * n), walk.clock.at) for n in range(10)]
        with engine.begin() as db:
            db.execute(insert(ReadingChunk), rows)

    bare_ms = p50(timed(bare, 60))
    line("ten chunks of a second stored", p50(timed(ours, 60)), bare_ms, "ms", "one bare multi-row INSERT")


GIVEN = ("Ada", "Bo", "Cai", "Dag", "Eir", "Fen", "Gro", "Hal", "Ida", "Jon", "Kai", "Liv", "Mo", "Nils", "Oda", "Per")
FAMILY = (
    "Ås",
    "Berg",
    "Dal",
    "Eng",
    "Foss",
    "Gran",
    "Holm",
    "Krog",
    "Lund",
    "Moen",
    "Nes",
    "Ous",
    "Rud",
    "Sand",
    "Vik",
)


def crowd(engine: Engine, count: int) -> tuple[str, str]:
    """Enter an employer with ``count`` people; return employer and site."""
    dice = random.Random(count)
    employer, site = new_id(), new_id()

    def enter(db: Session) -> None:
        db.add(Employer(id=employer, name=f"Employer of {count}"))
        db.flush()
        db.add(Site(id=site, employer_id=employer, name="Quay", zone="UTC", benches=["A"]))
        db.flush()
        rows = [
            {
                "id": new_id(),
                "employer_id": employer,
                "site_id": site,
                "name": f"{dice.choice(GIVEN)}{dice.randint(0, 999)} {dice.choice(FAMILY)}{dice.randint(0, 99)}",
                "number": f"{count}-{number}",
                "job": "",
                "task": "",
                "contact": "",
                "face_length": None,
                "face_width": None,
            }
            for number in range(count)
        ]
        db.execute(insert(Person), rows)
        index_people(db, ((one["id"], one["employer_id"], one["name"], one["number"]) for one in rows))

    run_in_transaction(engine, enter)
    return employer, site


def bench_people(engine: Engine) -> None:
    """Searching people among a thousand and a hundred thousand, beside the same question in bare SQL; importing."""
    print("people")
    found: dict[int, float] = {}
    for count in (1_000, 100_000):
        employer, _ = crowd(engine, count)
        actor = Actor("", "", "", (("tester", employer),))
        few = [f"{count}-{number * (count // 1_000)}" for number in range(11, 99)]  # eleven matches in either crowd
        many = [f"{name.lower()}{number}" for name in GIVEN[:12] for number in (1, 37, 52, 8)]
        with Session(engine) as db:
            ours, bare = _search_times(db, employer, actor, few)
            named, _ = _search_times(db, employer, actor, many)
        found[count] = p50(ours)
        line(f"search among {count:,} people, eleven matches, p50", p50(ours), p50(bare), "ms", "its bare SQL")
        line(f"search among {count:,} people by name, p95", p95(named))
    line("search among 100,000 against 1,000, p50", found[100_000], found[1_000], "ms", "that among 1,000")
    bench_import(engine)


def _search_times(db: Session, employer: str, actor: Actor, wanted: list[str]) -> tuple[list[float], list[float]]:
    ours = [timed(lambda: find_people(db, DatabaseClock(), actor, word, 1), 1)[0] for word in wanted for _ in range(2)]  # noqa: B023
    bare = [timed(lambda: _bare_search(db, employer, word), 1)[0] for word in wanted for _ in range(2)]  # noqa: B023
    return ours, bare


def _bare_search(db: Session, employer: str, word: str) -> None:
    given = {"e": employer, "w": f"{word}%"}
    ids = "SELECT DISTINCT person_id FROM person_word WHERE employer_id = :e AND word LIKE :w"
    db.execute(text(f"SELECT COUNT(*) FROM ({ids}) x"), given).scalar()
    db.execute(
        text(
            f"SELECT STRAIGHT_JOIN p.*, e.name, s.name FROM ({ids}) f JOIN person p ON f.person_id = p.id "
            "JOIN employer e ON e.id = p.employer_id JOIN site s ON s.id = p.site_id ORDER BY p.name, p.id LIMIT 25"
        ),
        given,
    ).all()


def bench_import(engine: Engine) -> None:
    """Import ten thousand rows as a job, beside reading the file and a bulk insert of the same rows."""
    _, site = crowd(engine, 10)
    account = new_id()
    run_in_transaction(
        engine,
        lambda db: create_account(db, f"bench-{account}", "Bench", "only-for-the-bench", [("administrator", None)]),
    )
    lines = [f"Ada{n} Foss{n % 97},imp-{n},sweeping" for n in range(10_000)]
    content = base64.b64encode(("name,number,task\n" + "\n".join(lines)).encode()).decode()
    file = RosterFile(site, "roster.csv", content, {})
    with Session(engine) as db:
        actor = Actor("", "", "", (("administrator", None),))
        parse = timed(lambda: check_roster(db, DatabaseClock(), actor, file), 1)[0]
        plan = check_roster(db, DatabaseClock(), actor, file)[1]
        at = db.get_one(Site, site)
    empty = {"employer_id": at.employer_id, "face_length": None, "face_width": None}
    plain = [
        {**empty, **{key: one[key] for key in PLAIN}, "id": new_id(), "number": f"bulk-{one['number']}"}
        for one in plan.values.values()
    ]

    def bulk(db: Session) -> None:
        db.execute(insert(Person), plain)
        words = [
            {"employer_id": one["employer_id"], "word": word, "person_id": one["id"]}
            for one in plain
            for word in words_of(one["name"], one["number"])
        ]
        db.execute(insert(PersonWord), words)

    bare = timed(lambda: run_in_transaction(engine, bulk), 1)[0]

    def job() -> None:
        def make(db: Session) -> None:
            maker = db.scalar(select(Account).where(Account.login == f"bench-{account}"))
            assert maker is not None
            start_import(db, DatabaseClock(), load_actor(db, maker), file)

        run_in_transaction(engine, make)
        claimed = claim(engine)
        assert claimed is not None
        run_job(engine, claimed)

    took = timed(job, 1)[0]
    line("import of 10,000 rows as a job", took, parse + bare, "ms", "parsing plus bulk insert")


def bench_screen(rules: Rules) -> None:
    """From a reading's end to its message in a real browser, on a live run in real time."""
    from tests.bench_screen import one_run

    print("screen")
    late = one_run(rules)
    line(f"reading taken → painted, p50 of {len(late)}", p50(late))
    line("reading taken → painted, p95", p95(late))


def bench_forty(rules: Rules) -> None:
    """The same while forty runs go on, each followed by a screen."""
    from tests.bench_screen import forty_runs

    print("forty live visits")
    found = forty_runs(rules)
    what = f"{found.visits} visits, {found.readings} readings"
    line(f"reading taken → painted, {what}, p50 of {len(found.painted)}", p50(found.painted))
    line("reading taken → painted, p95", p95(found.painted))
    line(f"reading taken → heard by every stream, p50 of {len(found.heard)}", p50(found.heard))
    line("reading taken → heard by every stream, p95", p95(found.heard))
    line("the larger web process, resident", found.resident_mb, unit="MB")
    for problem in found.trouble[:3]:
        print(f"  trouble: {problem}")


def bench_page() -> None:
    """What a browser fetches before it shows anything."""
    print("front end")
    line("first load, gzipped (HTML's own scripts and styles)", first_load_kb(), unit="kB")


def main() -> None:
    """Run all benches, or those named."""
    if sys.argv[1:2] == ["truth"]:
        lines = truth(sys.argv[2:])
        print(*lines, sep="\n")
        sys.exit(len(lines) > 1)
    if sys.argv[1:2] == ["mutants"]:
        sys.exit(bench_mutants(sys.argv[2:]))
    if sys.argv[1:2] == ["kill"]:
        sys.exit(bench_kill(int(sys.argv[2]) if sys.argv[2:] else 200))
    if sys.argv[1:2] == ["slow"]:
        sys.exit(bench_slow(500, 500))
    if sys.argv[1:2] == ["fuzz"]:
        sys.exit(bench_fuzz(int(sys.argv[2]) if sys.argv[2:] else 100_000))
    if sys.argv[1:2] == ["verify"]:
        bench_verify(shipped_rules(), int(sys.argv[2]) if sys.argv[2:] else 20_000)
        return
    if sys.argv[1:2] == ["large"]:
        bench_large(shipped_rules(), int(sys.argv[2]) if sys.argv[2:] else 100_000)
        return
    rules = shipped_rules()
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    server = PrivateServer(home / "db")
    wanted = sys.argv[1:] or ["core", "store", "page", "screen", "forty"]
    try:
        if "core" in wanted:
            bench_core(rules)
        if "store" in wanted:
            server.install()
            server.start()
            server.ensure_accounts()
            migrate(server.schema_url)
            server.let_work()
            bench_store(make_engine(server.url), rules)
            bench_people(make_engine(server.url))
        if "page" in wanted:
            bench_page()
        if "screen" in wanted:
            bench_screen(rules)
        if "forty" in wanted:
            bench_forty(rules)
    finally:
        server.stop()
        shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    main()
