"""The page of a list that is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from pydantic import Field


@dataclass(frozen=True)
class PageQuery:
    """Which page, from 1."""

    page: Annotated[int, Field(ge=1)] = 1


@dataclass(frozen=True)
class FindQuery(PageQuery):
    """Words to look for, all of them; and which page."""

    q: str = ""
