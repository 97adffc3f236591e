"""Pages of lists: how long one is, how many there are, and which one is meant."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple, TypeVar

from sqlalchemy import Row, Select, func, select
from sqlalchemy.orm import Session

PAGE = 25
COUNTED = 1000
"""So many rows of a list are counted and turned to; of a longer one it is said that there are more. Whoever looks for
one of a hundred thousand says more of it, or takes the whole as a file."""
T = TypeVar("T")
Rows = Sequence[Row[*tuple[Any, ...]]]


class Cut(NamedTuple):
    """A page of a query: its rows, how many there are in all (one more than is counted: there are more still), the
    page that is meant (never past the last), pages."""

    rows: Rows
    total: int
    page: int
    pages: int


def pages_of(total: int, size: int = PAGE) -> int:
    """Return how many pages ``total`` rows fill; an empty list has one."""
    return max(1, -(-total // size))


def page_of(rows: Sequence[T], page: int, size: int = PAGE) -> tuple[tuple[T, ...], int, int, int]:
    """Cut rows at hand to a page; a page past the last is the last. Returns rows, rows in all, page, pages."""
    pages = pages_of(len(rows), size)
    page = min(max(page, 1), pages)
    return tuple(rows[(page - 1) * size : page * size]), len(rows), page, pages


def turn_to(page: int, rows_from: Callable[[int], Rows], count: Callable[[], int]) -> Cut:
    """Return a page of what ``rows_from`` gives: up to a page and one row more, so many rows on.

    A page past the last is the last. Most lists are short: where a page is seen to be the last, nothing is counted.
    """
    most = pages_of(COUNTED)
    page = min(max(page, 1), most)
    rows = rows_from((page - 1) * PAGE)
    is_last = len(rows) <= PAGE and (len(rows) > 0 or page == 1)
    total = (page - 1) * PAGE + len(rows) if is_last else count()
    pages = min(pages_of(total), most)
    if page > pages:
        page, rows = pages, rows_from((pages - 1) * PAGE)
    return Cut(rows[:PAGE], total, page, pages)


def cut_to_page(
    db: Session,
    query: Select[*tuple[Any, ...]],
    page: int,
    *order: Any,
    counted: Select[*tuple[Any, ...]] | None = None,
) -> Cut:
    """Return a page of a query, not yet ordered, in the order given; as :func:`turn_to`. ``counted``: a query of as
    many rows that is cheaper to count."""
    ordered = query.order_by(*order).limit(PAGE + 1)
    counted = query if counted is None else counted
    return turn_to(
        page,
        lambda skip: db.execute(ordered.offset(skip)).all(),
        lambda: db.scalar(select(func.count()).select_from(counted.limit(COUNTED + 1).subquery())) or 0,
    )
