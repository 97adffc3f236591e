"""Lists among many people, beside the same statements asked barely, and beside the same lists among few."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, event
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.walk import Walk
from moorfog.platform.db.base import make_engine
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.db.migrate import migrate
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.fields import Page
from moorfog.rooms.crews.crews import CrewAsked, crew_on
from moorfog.rooms.due.due import due_at, due_page
from moorfog.rooms.people.finding import find_people
from moorfog.rooms.person.page import view_person
from moorfog.rooms.records.recall import list_recalls
from moorfog.rooms.records.searching import RecordsAsked, find_records
from moorfog.rooms.records.wearers import WearersAsked, find_wearers
from moorfog.rooms.results.results import ResultsAsked, counted_people, pass_results
from moorfog.rooms.today.today import TodayPages, today
from moorfog.rooms.wear.standing import freshen_everywhere
from moorfog.serving.database import PrivateServer
from tests.bench_taken import bench_cards, bench_exports
from tests.crowd import Crowd, make
from tests.seated import seated

View = Callable[[Session], object]
Asked = list[tuple[str, Any]]
LARGE = (
    "--innodb-buffer-pool-size=4G",
    "--innodb-log-file-size=1G",
    "--innodb-flush-log-at-trx-commit=0",
    "--skip-innodb-doublewrite",
)
"""As much memory as a programme of this size would be given; nothing here outlives the run."""
ROLES = ("tester", "administrator", "supervisor")


def seen_by(crowd: Crowd, whose: str, actor: Actor, since: str) -> dict[str, View]:
    """Return the lists as an account sees them."""
    clock = DatabaseClock()
    first: Page = 1
    return {
        f"Today, {whose}": lambda db: today(db, clock, actor, TodayPages()),
        f"pass results, {whose}": lambda db: pass_results(db, actor, first, ResultsAsked()),
        f"pass results of a period, {whose}": lambda db: pass_results(db, actor, first, ResultsAsked(since=since)),
        f"people behind a figure, {whose}": lambda db: counted_people(
            db, actor, ResultsAsked(), model_id=crowd.model, size="M", whole="tested", page=1
        ),
        f"first page of people, {whose}": lambda db: find_people(db, clock, actor, "", 1),
        f"a common name, {whose}": lambda db: find_people(db, clock, actor, "ada", 1),
        f"the latest tests, {whose}": lambda db: find_records(db, actor, RecordsAsked(), ""),
        f"tests in a model and size, {whose}": lambda db: find_records(
            db, actor, RecordsAsked(model=crowd.model, size="M"), ""
        ),
        f"tests with a counter, {whose}": lambda db: find_records(db, actor, RecordsAsked(kit=crowd.counter), ""),
        f"tests by a tester in a year, {whose}": lambda db: find_records(
            db, actor, RecordsAsked(tester=crowd.tester, since=since), ""
        ),
        f"deep in the tests, {whose}": lambda db: find_records(
            db, actor, RecordsAsked(), f"{since}T00:00:00.000Z~{crowd.person}~1"
        ),
        f"who wears a model, {whose}": lambda db: find_wearers(db, clock, actor, WearersAsked(crowd.model, "M"), ""),
        f"a number, {whose}": lambda db: find_people(db, clock, actor, "n77", 1),
    }


def views(crowd: Crowd) -> dict[str, View]:
    """Return the views that are measured, by name: as somebody who sees everybody, and as one of the large employer."""
    clock, day = DatabaseClock(), crowd.today.isoformat()
    every = Actor("", "", "", tuple((role, None) for role in ROLES))
    own = Actor("", "", "", tuple((role, crowd.employer) for role in ROLES))
    since = f"{crowd.today.year - 1}-03-07"
    out: dict[str, View] = {}
    for whose, actor in (("all", every), ("one employer", own)):
        out |= seen_by(crowd, whose, actor, since)
    asked = CrewAsked(site=crowd.site, day=day, numbers=" ".join(f"N{one}" for one in range(12)))
    return {
        **out,
        "a person": lambda db: view_person(db, clock, own, crowd.person),
        "tomorrow's crew of twelve": lambda db: crew_on(db, clock, own, asked),
        "who is due at a site": lambda db: due_page(db, due_at(db, clock, own, crowd.site), 1),
        "recalls": lambda db: list_recalls(db, own, 1, False),
    }


@contextmanager
def heard(engine: Engine) -> Iterator[Asked]:
    """Keep the statements that are sent, as the driver gets them."""
    asked: Asked = []

    def keep(*given: Any) -> None:
        asked.append((given[2], given[3]))

    event.listen(engine, "before_cursor_execute", keep)
    try:
        yield asked
    finally:
        event.remove(engine, "before_cursor_execute", keep)


def barely(engine: Engine, asked: Asked) -> None:
    """Send the same statements through the driver alone, and read what comes."""
    raw = engine.raw_connection()
    try:
        with raw.cursor() as cursor:
            for statement, given in asked:
                cursor.execute(statement, given)
                cursor.fetchall()
        raw.rollback()
    finally:
        raw.close()


def scans(engine: Engine, asked: Asked, most: int = 2000) -> list[str]:
    """Return the tables of which a statement reads more rows than that at once, with the index it uses: as the server
    did it, not as it reckons to."""
    out = []
    raw = engine.raw_connection()
    try:
        with raw.cursor() as cursor:
            for statement, given in asked:
                if not statement.lstrip().upper().startswith("SELECT"):
                    continue
                cursor.execute("ANALYZE " + statement, given)
                names = [one[0] for one in cursor.description]
                for row in cursor.fetchall():
                    plan = dict(zip(names, row, strict=True))
                    read = float(str(plan["r_rows"] or 0).split()[0])  # newer servers say "12.00 (3%)"
                    if read > most:
                        out.append(f"{plan['table']} by {plan['key'] or plan['type']}, {read:.0f} rows: {statement}")
        raw.rollback()
    finally:
        raw.close()
    return out


def timed(fn: Callable[[], object], times: int) -> list[float]:
    """Return the milliseconds of each of so many calls."""
    out = []
    for _ in range(times):
        began = time.perf_counter()
        fn()
        out.append((time.perf_counter() - began) * 1000)
    return sorted(out)


@contextmanager
def programme(people: int, rules: Rules) -> Iterator[tuple[Engine, Crowd, Walk]]:
    """A server of its own with a programme of so many people, everybody worked out, and somebody at a bench."""
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    server = PrivateServer(home / "db", flags=LARGE)
    server.install()
    server.start()
    try:
        server.ensure_accounts()
        migrate(server.schema_url)
        server.let_work()
        crowd = Crowd(people, datetime.now(UTC).date())
        engine = make_engine(server.url)
        walk = seated(engine, rules)
        began = time.perf_counter()
        if people:
            make(make_engine(server.schema_url), crowd, rules)
        made = time.perf_counter()
        for _ in freshen_everywhere(engine, DatabaseClock()):
            pass
        print(f"  {people:,} people made in {made - began:.0f} s, all worked out in {time.perf_counter() - made:.0f} s")
        yield engine, crowd, walk
        walk.db.close()
    finally:
        server.stop()


def append_cost(walk: Walk) -> float:
    """Return p50 in ms of an answer on a card: admitted, folded, written, read models brought along, committed."""
    cards = iter(range(10_000))

    def answer() -> None:
        walk.answer(walk.view.behind[next(cards) % 4])
        walk.db.commit()

    found = timed(answer, 60)[30]
    return found


def measure(engine: Engine, crowd: Crowd, times: int = 25) -> dict[str, tuple[float, float, float, list[str]]]:
    """Return p50 and p95 of every view in ms, p50 of its statements asked barely, and what is read whole."""
    out = {}
    for name, view in views(crowd).items():

        def ask(view: View = view) -> None:
            with Session(engine) as db:
                view(db)
                db.rollback()

        with heard(engine) as asked:
            ask()
        ours = timed(ask, times)
        bare = timed(lambda: barely(engine, asked), times)
        p50, p95 = ours[times // 2], ours[int(times * 0.95) - 1]
        out[name] = (p50, p95, bare[times // 2], scans(engine, asked))
    return out


def bench_large(rules: Rules, people: int = 100_000) -> None:
    """Measure among a hundredth of the people, then among all of them, in one run."""
    print("large")
    with programme(0, rules) as (_, _, walk):
        empty = append_cost(walk)
    with programme(people // 100, rules) as (engine, crowd, _):
        few = measure(engine, crowd)
    with programme(people, rules) as (engine, crowd, walk):
        full, many = append_cost(walk), measure(engine, crowd)
        bench_exports(engine, Actor("", "", "", tuple((role, None) for role in ROLES)))
    bench_cards()
    print(f"  {'an answer on a card':<42}{full:8.1f} ms   {full / empty:5.2f} × in an empty database ({empty:.1f})")
    for name, (p50, p95, bare, whole) in many.items():
        print(
            f"  {name:<42}{p50:8.1f} ms, p95 {p95:7.1f}   {p50 / bare:5.2f} × its bare SQL ({bare:.1f})"
            f"   {p50 / few[name][0]:5.2f} × among {people // 100:,} ({few[name][0]:.1f})"
        )
        for one in whole:
            print(f"      reads much: {one[:600]}")
