"""Two things done to one person at the same moment come to what they would come to one after the other."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from itertools import combinations_with_replacement

import pytest
from sqlalchemy import Engine, func, select, text
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import new_id
from moorfog.platform.log.summaries import VisitSummary
from moorfog.rooms.accounts.sessions import create_account
from moorfog.rooms.people.people import index_people
from moorfog.rooms.people.tables import ClearanceRow, Person
from tests.rooms.house import PASSWORD, Client, House, Refused


@pytest.fixture(scope="module")
def racing(engine: Engine, rules: Rules, catalogue: None) -> tuple[House, Client, Client]:
    """A house, and two of its people who may do everything, each at a browser of their own."""
    house = House(engine, rules)
    clients = []
    for no in (1, 2):
        login = f"everything-{no}-{house.mark}"
        with Session(engine) as db:
            roles = [(one, house.ours.employer) for one in ("administrator", "tester")]
            create_account(db, login, f"Everything {no}", PASSWORD, roles)
            db.commit()
        clients.append(house.stranger().sign_in(login))
    return house, clients[0], clients[1]


@dataclass(frozen=True)
class Two:
    """Two entries of perhaps one person."""

    a: str
    b: str


Deed = Callable[[Client, House, Two], object]
DEEDS: dict[str, Deed] = {
    "b into a": lambda admin, _, two: admin.post(f"/api/people/{two.a}/merge", {"other_id": two.b, "why": "one badge"}),
    "a into b": lambda admin, _, two: admin.post(f"/api/people/{two.b}/merge", {"other_id": two.a, "why": "one badge"}),
    "erase a": lambda admin, _, two: admin.post(f"/api/people/{two.a}/erasure", {"why": "asked for"}),
    "a leaves": lambda admin, house, two: admin.post(
        f"/api/people/{two.a}/left", {"left_on": house.clock.at.date().isoformat()}
    ),
    "a is back": lambda admin, _, two: admin.post(f"/api/people/{two.a}/back"),
    "a at a bench": lambda tester, _, two: tester.open(two.a),
    "a is cleared": lambda admin, house, two: admin.post(
        f"/api/people/{two.a}/clearance",
        {
            "status": "cleared",
            "limits": [],
            "valid_from": house.clock.at.date().isoformat(),
            "valid_until": "",
            "by_whom": "Harbour Row",
        },
    ),
}


def two_people(house: House, has_left: bool) -> Two:
    ids = (new_id(), new_id())
    with Session(house.engine) as db:
        for one in ids:
            row = Person(id=one, employer_id=house.ours.employer, site_id=house.ours.site, name="Orla Wick", number=one)
            row.job = row.task = row.contact = ""
            row.left_on = house.clock.at.date() if has_left and one == ids[0] else None
            db.add(row)
            db.flush()
            index_people(db, [(one, house.ours.employer, row.name, one)])
        db.commit()
    return Two(*ids)


def came_to(house: House, two: Two) -> tuple[object, ...]:
    """What has become of both: where their entries point, who left, is erased, is at a bench, what is on file."""
    with Session(house.engine) as db:
        rows = [db.get_one(Person, one) for one in (two.a, two.b)]
        open_ones = select(func.count()).where(VisitSummary.person_id.in_([two.a, two.b]), VisitSummary.closed == "")
        filed = select(func.count()).select_from(ClearanceRow).where(ClearanceRow.person_id == two.a)
        return (
            *({None: "", two.a: "a", two.b: "b"}[one.merged_into] for one in rows),
            *(one.left_on is not None for one in rows),
            *(one.erased_at is not None for one in rows),
            db.scalar(open_ones),
            db.scalar(filed),
        )


def quietly(deed: Deed, client: Client, house: House, two: Two) -> None:
    try:
        deed(client, house, two)
    except Refused as refused:
        assert refused.status < 500 and refused.body["code"] not in ("bad_body", "method_not_allowed"), refused


def at_once(house: House, clients: tuple[Client, Client], deeds: tuple[Deed, Deed], two: Two) -> None:
    """Have both begin while the rows of both people are held, so that what either reads first is as it was before."""
    with house.engine.connect() as held:
        held.execute(text("SELECT id FROM person WHERE id IN (:a, :b) FOR UPDATE"), {"a": two.a, "b": two.b})
        both = [
            threading.Thread(target=quietly, args=(deed, client, house, two))
            for deed, client in zip(deeds, clients, strict=True)
        ]
        for one in both:
            one.start()
            time.sleep(0.3)
        held.rollback()
        for one in both:
            one.join(20)
            assert not one.is_alive()


@pytest.mark.parametrize("has_left", [False, True], ids=["here", "left"])
@pytest.mark.parametrize("names", list(combinations_with_replacement(DEEDS, 2)), ids="+".join)
def test_two_deeds_at_once_come_to_what_some_order_of_them_comes_to(
    racing: tuple[House, Client, Client], names: tuple[str, str], has_left: bool
) -> None:
    house, one, other = racing
    deeds = DEEDS[names[0]], DEEDS[names[1]]
    orders = []
    for order in (deeds, deeds[::-1]):
        two = two_people(house, has_left)
        for deed in order:
            quietly(deed, one, house, two)
        orders.append(came_to(house, two))
    two = two_people(house, has_left)
    at_once(house, (one, other), deeds, two)
    assert came_to(house, two) in orders
