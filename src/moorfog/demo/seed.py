"""Seeds the demo once: places, people, facepieces, a counter, accounts, and about thirty past visits."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import Engine, func, select, update
from sqlalchemy.orm import Session

from moorfog.core.advice.protection import suffices
from moorfog.core.events import payloads as ev
from moorfog.core.events.facts import Facepiece, WorkFilter
from moorfog.core.kernel.codec import decode
from moorfog.core.rules.book import Rules
from moorfog.core.visit.state import Visit
from moorfog.data import facepiece_kinds
from moorfog.demo import scenario
from moorfog.demo.walk import Walk
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock, FixedClock
from moorfog.platform.log.log import keep_rules
from moorfog.platform.web.actor import Actor
from moorfog.rooms.accounts.sessions import create_account, load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.checks import record_act, record_check
from moorfog.rooms.kit.entering import create_instrument
from moorfog.rooms.kit.instruments import find_instrument, kind_of
from moorfog.rooms.kit.nebulisers import NebuliserEntry, add_nebuliser, check_spray, fill
from moorfog.rooms.kit.parts import PartEntry, add_part, note_deed
from moorfog.rooms.kit.solutions import LotEntry, enter_lot
from moorfog.rooms.kit.tables import InstrumentRow, LotRow, NebuliserRow
from moorfog.rooms.people.people import index_people
from moorfog.rooms.people.tables import ClearanceRow, Person, TrainingRow
from moorfog.rooms.sites.tables import Employer, Organisation, Site, SiteTask

PAST_VISITS = 30
COUNTER = "Counter 04"
Progress = Callable[[int, int], None]


def is_seeded(engine: Engine) -> bool:
    """Tell whether the demo is in this database."""
    with Session(engine) as db:
        return (db.scalar(select(func.count()).select_from(Account)) or 0) > 0


def enter_facepieces(db: Session) -> None:
    """Enter the invented facepieces, one version each."""
    for piece in scenario.FACEPIECES:
        content = {key: value for key, value in piece.items() if key not in ("maker", "model", "kind")}
        db.add(
            FacepieceVersion(
                id=new_id(),
                model_id=new_id(),
                version=1,
                maker=piece["maker"],
                model=piece["model"],
                kind=piece["kind"],
                content=content,
            )
        )


def seed_places(db: Session, rules: Rules, password: str, link_token: str) -> None:
    """Enter employers, sites, people, facepieces, the simulated counter and the demo's accounts."""
    keep_rules(db, rules)
    employers: dict[str, str] = {}
    zone = ""
    for index, (name, one) in enumerate(scenario.EMPLOYERS.items()):
        employer = Employer(id=new_id(), name=name)
        db.add(employer)
        db.flush()
        employers[name] = employer.id
        zone = zone or one["zone"]
        people = scenario.invent_people(
            7 + index, one["work"], scenario.PEOPLE_PER_SITE * len(one["sites"]), 1001 + 1000 * index
        )
        for number, (site_name, benches) in enumerate(one["sites"].items()):
            site = Site(id=new_id(), employer_id=employer.id, name=site_name, zone=one["zone"], benches=benches)
            db.add(site)
            db.flush()
            for person in people[number * scenario.PEOPLE_PER_SITE : (number + 1) * scenario.PEOPLE_PER_SITE]:
                db.add(
                    Person(
                        id=new_id(),
                        employer_id=employer.id,
                        site_id=site.id,
                        name=person.name,
                        number=person.number,
                        job=person.job,
                        task=person.task,
                        face_length=person.face_length,
                        face_width=person.face_width,
                    )
                )
    seed_tasks(db)
    seed_files(db)
    enter_facepieces(db)
    until = (DatabaseClock().now(db).date() + timedelta(days=210)).isoformat()
    used = {"calibrated_until": until, "zone": zone}
    create_instrument(
        db,
        name=COUNTER,
        employer_id=None,
        is_simulated=True,
        token=link_token,
        content={**scenario.COUNTER_FIGURES, "serial_number": scenario.SERIALS["counter"], **used},
    )
    for name, kind, serial, figures in scenario.INSTRUMENTS:
        create_instrument(
            db,
            name=name,
            employer_id=None,
            is_simulated=True,
            token=f"{link_token}.{kind}",
            content={**figures, "kind": kind, "serial_number": serial, **used},
        )
    for login, name, role, employer_name in scenario.ACCOUNTS:
        create_account(db, login, name, password, [(role, employers[employer_name] if employer_name else None)])
    db.add(Organisation(id=1, name="The demo", by_senses_only=False, made_at=DatabaseClock().now(db)))
    db.flush()


def seed_kit(db: Session, actor: Actor, at: datetime) -> dict[tuple[str, str], str]:
    """Enter nebulisers once, fresh jars for the day, and fill and check what is to be filled, at ``at``.

    Returns the ids of nebulisers and lots by agent and role.
    """
    clock = FixedClock(at)
    kit: dict[tuple[str, str], str] = {}
    known = {one.name: one.id for one in db.scalars(select(NebuliserRow))}
    for agent, role, name, keeps in scenario.SOLUTIONS:
        lot_id = _fresh_lot(db, clock, actor, (agent, role, keeps))
        if not name:
            kit[(agent, role)] = lot_id
            continue
        nebuliser = known.get(name)
        if nebuliser is None:
            nebuliser = add_nebuliser(db, actor, NebuliserEntry(None, name, role)).id  # type: ignore[arg-type]
        fill(db, clock, actor, nebuliser, lot_id)
        check_spray(db, FixedClock(at + timedelta(minutes=3)), actor, nebuliser)
        kit[(agent, role)] = nebuliser
    return kit


def _fresh_lot(db: Session, clock: FixedClock, actor: Actor, wanted: tuple[str, str, int]) -> str:
    """Return a lot of an agent and role that is in date, made anew where there is none."""
    agent, role, keeps = wanted
    day = clock.at.date()
    known = select(LotRow.id).where(LotRow.agent == agent, LotRow.role == role, LotRow.made_on <= day)
    found = db.scalar(known.where(LotRow.use_by >= day + timedelta(days=min(3, keeps - 1))).limit(1))
    if found is not None:
        return found
    made = day - timedelta(days=0 if keeps <= 1 else 6)
    entry = LotEntry(
        employer_id=None,
        agent=agent,  # type: ignore[arg-type]
        role=role,
        number=f"{agent[:2].upper()}{role[:2].upper()}-{made:%y%m%d}",
        made_on=made.isoformat(),
        use_by=(made + timedelta(days=keeps)).isoformat(),
        made_by="Maren Oake",
    )
    return enter_lot(db, clock, actor, entry).id


def seed_tasks(db: Session) -> None:
    """Enter the tasks of every site: those its people do, and those that are nobody's usual ones."""
    for site in db.scalars(select(Site)).all():
        theirs = set(db.scalars(select(Person.task).where(Person.site_id == site.id)))
        for name in sorted(theirs.union(scenario.NOBODYS.get(db.get_one(Employer, site.employer_id).name, ()))):
            task = scenario.TASKS[name]
            contaminants = [
                {"name": what, "form": form, "concentration": amount, "limit": limit, "unit": unit, "idlh": idlh}
                for what, form, amount, limit, unit, idlh in task["contaminants"]
            ]
            content = {"oxygen_percent": "20.9", **task, "contaminants": contaminants}
            row = SiteTask(
                id=new_id(),
                site_id=site.id,
                name=name,
                content=content,
                entered_at=DatabaseClock().now(db),
                is_current=True,
            )
            row.task_id = row.id
            db.add(row)
            db.flush()
            doing = update(Person).where(Person.site_id == site.id, Person.task == name)
            db.execute(doing.values(task_id=row.id))


def seed_files(db: Session) -> None:
    """Put clearances and trainings on file: most cleared without end, a few with limits, some not on file."""
    now = DatabaseClock().now(db)
    for number, person in enumerate(db.scalars(select(Person).order_by(Person.number)).all()):
        index_people(db, [(person.id, person.employer_id, person.name, person.number)])
        common = {"person_id": person.id, "account_id": new_id(), "entered_at": now - timedelta(days=400)}
        if number % 7 != 5:
            limits = ["no full facepiece"] if number % 11 == 4 else []
            until = (now + timedelta(days=500)).date() if number % 4 == 0 else None
            start = (now - timedelta(days=420)).date()
            db.add(
                ClearanceRow(
                    id=new_id(),
                    status="cleared",
                    limits=limits,
                    valid_from=start,
                    valid_until=until,
                    by_whom="Harbour Row practice",
                    **common,
                )
            )
        if number % 5 != 2:
            day = (now - timedelta(days=200 + number)).date()
            db.add(TrainingRow(id=new_id(), trained_on=day, what="donning, seal check, care", **common))
    db.flush()


def catalogue(db: Session) -> dict[str, dict[str, Any]]:
    """Return the facepieces by model name, with their version ids."""
    return {
        row.model: {**row.content, "version_id": row.id, "kind": row.kind}
        for row in db.scalars(select(FacepieceVersion))
    }


def counter_id(db: Session) -> str:
    """Return the id of the demo's counter."""
    return db.scalar(select(InstrumentRow.id).where(InstrumentRow.name == COUNTER)) or ""


def instrument_of_kind(db: Session, kind: str) -> str:
    """Return the id of an instrument of a kind that is no counter."""
    rows = db.scalars(select(InstrumentRow))
    return next(one.id for one in rows if one.content.get("kind") == kind)


def check_counter(db: Session, actor: Actor, instrument_id: str, at: datetime) -> None:
    """Charge the alcohol, where there is any, and record the daily checks at ``at``, a little different every day."""
    clock, row = FixedClock(at), find_instrument(db, actor.scope("tester"), instrument_id)
    kind, dice = kind_of(row), random.Random(at.toordinal())
    if kind.charge_h:
        record_act(db, clock, actor, instrument_id, "alcohol")
    for name, value in scenario.GOOD_CHECKS[kind.id].items():
        read = value
        if name in ("room_air", "clean_line_ratio", "span"):
            read = str(round(int(value) * dice.uniform(0.85, 1.15)))
        record_check(db, clock, actor, instrument_id, name, read)


def check_all(db: Session, actor: Actor, at: datetime) -> None:
    """Do the daily checks of every instrument."""
    for one in db.scalars(select(InstrumentRow.id)).all():
        check_counter(db, actor, one, at)


def best_size(option: dict[str, Any], face_length: int) -> str:
    """Return the size whose range's middle is nearest to a face length in tenths of a millimetre."""
    return str(
        min(option["sizes"], key=lambda one: abs((int(one["length_from"]) + int(one["length_to"])) * 5 - face_length))[
            "name"
        ]
    )


def seed_history(
    engine: Engine, rules: Rules, progress: Progress = lambda done, total: None, count: int = PAST_VISITS
) -> None:
    """Walk about thirty visits of the last months: passes, fails and second tries, voids, one turned away."""
    with Session(engine) as db:
        everybody = list(db.execute(select(Person.id, Person.face_length, Person.site_id).order_by(Person.number)))
        filed = set(db.scalars(select(ClearanceRow.person_id))) & set(db.scalars(select(TrainingRow.person_id)))
        people = [one for one in everybody if one[0] in filed]  # nobody is tested without what the book asks for
        benches = {site.id: site.benches[0] for site in db.scalars(select(Site))}
        zones = {site.id: site.zone for site in db.scalars(select(Site))}
        account = db.scalar(select(Account).where(Account.login == "maren"))
        actor = load_actor(db, account, datetime.now(ZoneInfo("UTC")) + timedelta(days=1)) if account else None
        instrument_id = counter_id(db)
        today = DatabaseClock().now(db)
        options = catalogue(db)
    if actor is None:
        raise RuntimeError("seed the places first")
    checked: set[date] = set()
    models = ["Sedge", "Whin", "Sleet", "Bracken", "Teasel V", "Scree", "Sedge", "Plover", "Fulmar", "Bracken"]
    for number in range(count):
        person_id, measured, site_id = people[(number * 11 + 3) % len(people)]
        face = measured or 1190
        day = (today - timedelta(days=3 + (count - number) * 6)).astimezone(ZoneInfo(zones[site_id]))
        at = day.replace(hour=9 + number % 6, minute=(number * 13) % 60, second=0, microsecond=0)
        offers = [options[models[(number + step) % len(models)]] for step in range(len(models))]

        def work(
            db: Session,
            number: int = number,
            person_id: str = person_id,
            face: int = face,
            site_id: str = site_id,
            at: datetime = at,
            offers: list[dict[str, Any]] = offers,
        ) -> None:
            if at.date() not in checked:
                check_all(db, actor, at.replace(hour=8, minute=5))
            walk = Walk(db, actor, rules, person_id, benches[site_id], at, instrument_id)
            if number in scenario.INSTRUMENT_VISITS:
                walk_instrument_visit(walk, number, options, face)
                return
            if number % 10 in scenario.SENSED:
                walk.kit = seed_kit(db, actor, at - timedelta(minutes=40))
                walk_sensed_visit(walk, number, options, face)
                return
            walk_past_visit(walk, number, offers, face)

        run_in_transaction(engine, work)
        checked.add(at.date())
        progress(number + 1, count)


def suits(visit: Visit, option: dict[str, Any]) -> bool:
    """Tell whether a facepiece is enough for the task and within the clearance on file."""
    same = ("version_id", "kind", "valve", "filter_kind", "cover", "probe", "test_filters")
    stated: dict[str, Any] = {key: option[key] for key in same}
    unsaid: dict[str, Any] = dict.fromkeys(("model_id", "maker", "model", "size", "suspension", "clip"), "")
    piece = Facepiece(
        **stated,
        **unsaid,
        filter_class=option["filter_classes"][0],
        is_own=False,
        ppe=(),
        traits=facepiece_kinds()[option["kind"]],
        work=tuple(decode(WorkFilter, one, "work") for one in option.get("work_filters", ())),
    )
    enough = visit.task is not None and suffices(visit.task, visit.rules.book, piece).suffices == "yes"
    return enough and not visit.ruled_out(piece)


def walk_instrument_visit(walk: Walk, number: int, options: dict[str, dict[str, Any]], face: int) -> None:
    """Walk one past visit with a photometer or a negative-pressure instrument; the wearer's seal is a good one."""
    walk.method, kind, model, protocol_id = scenario.INSTRUMENT_VISITS[number]
    walk.instrument_id = instrument_of_kind(walk.db, kind)
    walk.until("choose_facepiece")
    option = options[model]
    if not suits(walk.visit, option):
        option = next(one for one in options.values() if one["kind"] == "full" and suits(walk.visit, one))
    walk.choose(option, best_size(option, face))
    walk.until("run")
    walk.run_counter((4000,) * 8, seed=number, protocol_id=protocol_id)
    walk.until("release")
    walk.do("release")


def walk_sensed_visit(walk: Walk, number: int, options: dict[str, dict[str, Any]], face: int) -> None:
    """Walk one past visit with a qualitative test: a pass, a fail and another size, a void for a missed dose."""
    walk.method, model = scenario.SENSED[number % 10]
    walk.until("choose_facepiece")
    option = options[model]
    if not suits(walk.visit, option):
        option = next(one for one in options.values() if one["kind"] == "half" and suits(walk.visit, one))
    size = best_size(option, face)
    walk.choose(option, size)
    walk.until("run")
    if number % 20 == 9:
        walk.sense(skip=5)
        walk.say(ev.Decided("same_again"), 30)
        walk.until("run")
    if number % 10 == 6:
        walk.sense(tasted_at_s=251)
        walk.say(ev.Decided("other_size"), 20)
        walk.until("choose_facepiece")
        walk.choose(option, next(one["name"] for one in option["sizes"] if one["name"] != size))
        walk.until("run")
    walk.sense()
    walk.until("release")
    walk.do("release")


def walk_past_visit(walk: Walk, number: int, offers: list[dict[str, Any]], face: int) -> None:
    """Walk one past visit: every tenth is turned away, some fail first or void first, most pass."""
    if number % 10 == 4:
        walk.until("choose_facepiece", frozenset({"shave"}))
        walk.say(
            ev.TurnedAway(
                "Stubble under the seal, no shaving today.", (walk.clock.at.date() + timedelta(days=1)).isoformat()
            )
        )
        return
    walk.until("choose_facepiece", frozenset({"face_marks"}) if number % 6 == 0 else frozenset())
    option = next(one for one in offers if suits(walk.visit, one))
    walk.choose(option, best_size(option, face))
    walk.until("run")
    good = (2600, 1500, 900, 1900) if option["kind"] not in ("full", "powered_full") else (9800, 5200, 3100, 7400)
    bad = tuple(max(3, one // 60) for one in good)
    if number % 5 == 1:
        walk.run_counter((bad[0], good[1] // 8, bad[2], bad[3]), seed=number)
        walk.say(ev.Decided("same_again" if number % 2 else "other_size"), 20)
        walk.until("choose_facepiece" if number % 2 == 0 else "run")
        if number % 2 == 0:
            sizes = [one["name"] for one in option["sizes"]]
            walk.choose(option, sizes[-1] if sizes[-1] != best_size(option, face) else sizes[0])
            walk.until("run")
    if number % 7 == 3:
        walk.run_counter(good, seed=number, end="lost", stop_ms=61_000)
        walk.say(ev.Decided("same_again"), 30)
        walk.until("run")
    if number % 9 == 5:
        walk.run_counter(bad, seed=number)
        walk.say(ev.Decided("end"), 15)
    elif number % 8 == 2:
        walk.run_typed("5320", ("4.1", "6.3", "2.9", "5.5") if good[0] < 5000 else ("0.9", "1.4", "0.8", "1.1"))
    else:
        walk.run_counter(good, seed=number)
    walk.until("release")
    walk.do("release")


def seed_open_visits(engine: Engine, rules: Rules) -> None:
    """Leave people at the benches, so that Today shows a day's work: one just come, one unshaven, one wearing, one
    left open the day before."""
    with Session(engine) as db:
        account = db.scalar(select(Account).where(Account.login == "maren"))
        actor = load_actor(db, account) if account else None
        benches = {site.id: site.benches for site in db.scalars(select(Site))}
        everybody = list(db.execute(select(Person.id, Person.site_id).order_by(Person.number.desc())))
        filed = set(db.scalars(select(ClearanceRow.person_id))) & set(db.scalars(select(TrainingRow.person_id)))
        people = [one for one in everybody if one[0] in filed]
        now = DatabaseClock().now(db)
        option = catalogue(db)["Bracken"]
    if actor is None:
        raise RuntimeError("seed the places first")

    def leave(db: Session, index: int, ago: timedelta, act: str, not_fine: frozenset[str] = frozenset()) -> Walk:
        person_id, site_id = people[index]
        walk = Walk(db, actor, rules, person_id, benches[site_id][-1], now - ago, "")
        if act:
            walk.until(act, not_fine)
        return walk

    def work(db: Session) -> None:
        seed_kit(db, actor, now - timedelta(minutes=25))
        for name, kind, fits, once_only in scenario.PARTS:
            part = add_part(
                db, actor, PartEntry(employer_id=None, name=name, kind=kind, fits=fits, once_only=once_only)
            )
            note_deed(db, FixedClock(now - timedelta(hours=20)), actor, part.id, "cleaned")
        leave(db, 3, timedelta(days=1, hours=2), "choose_facepiece")
        leave(db, 24, timedelta(minutes=6), "choose_facepiece", frozenset({"shave"}))
        wearing = leave(db, 28, timedelta(minutes=4), "choose_facepiece")
        wearing.choose(option, "M")
        wearing.until("don")
        wearing.do("don")
        leave(db, 0, timedelta(), "")

    run_in_transaction(engine, work)
