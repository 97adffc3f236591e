"""Pages of lists: how long one is, how many there are, and which one is meant."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, TypeVar

from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session

PAGE = 25
T = TypeVar("T")


class Cut(NamedTuple):
    """A query cut to a page: the page that is meant (never past the last), how many there are, rows in all."""

    query: Select[*tuple[Any, ...]]
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


def cut_to_page(db: Session, query: Select[*tuple[Any, ...]], page: int, *order: Any) -> Cut:
    """Cut a query, not yet ordered, to a page in the order given; a page past the last is the last."""
    total = db.scalar(select(func.count()).select_from(query.subquery())) or 0
    page = min(max(page, 1), pages_of(total))
    return Cut(query.order_by(*order).limit(PAGE).offset((page - 1) * PAGE), total, page, pages_of(total))
