"""The page of a list that is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from pydantic import Field

Page = Annotated[int, Field(ge=1, le=1_000_000)]
"""A page of a list, from 1; further on there is nothing that anybody would turn to."""


@dataclass(frozen=True)
class PageQuery:
    """Which page, from 1."""

    page: Page = 1


@dataclass(frozen=True)
class FindQuery(PageQuery):
    """Words to look for, all of them; and which page."""

    q: str = ""
