"""Pages of a query: the right rows, the right count, and no question more than is needed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import pytest
from sqlalchemy import Engine, Select, event, literal, select
from sqlalchemy.orm import Session

from moorfog.platform.web.paging import PAGE, cut_to_page, page_of
from tests.rooms.house import House


def numbers(upto: int) -> tuple[Select[*tuple[Any, ...]], Any]:
    """The numbers from 1, not in order, and the column to order by."""
    first = select(literal(1).label("n")).cte("numbers", recursive=True)
    all_of_them = first.union_all(select(first.c.n + 1).where(first.c.n < max(upto, 1)))
    return select(all_of_them.c.n).where(all_of_them.c.n <= upto), all_of_them.c.n.desc()


def expected(rows: Sequence[int], page: int) -> tuple[list[int], int, int, int]:
    """Paging as one would do it by hand."""
    pages = max(1, (len(rows) + PAGE - 1) // PAGE)
    page = min(max(page, 1), pages)
    return list(rows[(page - 1) * PAGE : page * PAGE]), len(rows), page, pages


@contextmanager
def listening(engine: Engine, note: Callable[..., None]) -> Iterator[None]:
    """Have every statement noted."""
    event.listen(engine, "before_cursor_execute", note)
    try:
        yield
    finally:
        event.remove(engine, "before_cursor_execute", note)


@pytest.mark.parametrize("total", [0, 1, PAGE - 1, PAGE, PAGE + 1, 2 * PAGE, 2 * PAGE + 3])
def test_a_page_holds_its_rows_and_a_page_past_the_last_is_the_last(house: House, total: int) -> None:
    query, order = numbers(total)
    rows = list(range(total, 0, -1))
    asked: list[str] = []

    def note(*given: Any) -> None:
        asked.append(given[2])

    with Session(house.engine) as db, listening(house.engine, note):
        for page in (-1, 0, 1, 2, 3, 99):
            asked.clear()
            shown = cut_to_page(db, query, page, order)
            found = ([one for (one,) in shown.rows], shown.total, shown.page, shown.pages)
            assert found == expected(rows, page), page
            by_hand = page_of(rows, page)
            assert (list(by_hand[0]), *by_hand[1:]) == found
            is_seen = shown.page == shown.pages and page <= shown.pages
            assert len(asked) == (1 if is_seen else 2 if page <= shown.pages else 3), asked


def test_rules_are_read_once_for_a_list_of_nebulisers(house: House) -> None:
    """However many there are: each of them asked every site of its employer."""
    admin, asked = house.client("administrator"), list[str]()

    def note(*given: Any) -> None:
        if "FROM site_rule" in given[2]:
            asked.append(given[2])

    counts = []
    for number in (1, 2, 3):
        admin.post("/api/nebulisers", {"employer_id": house.ours.employer, "name": f"Blue {number}", "role": "fit"})
        asked.clear()
        with listening(house.engine, note):
            assert len(admin.get("/api/nebulisers")) >= number
        counts.append(len(asked))
    assert counts[0] > 0 and len(set(counts)) == 1, counts
