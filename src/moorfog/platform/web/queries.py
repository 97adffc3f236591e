"""The page of a list that is asked for."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog.platform.web.fields import Page


@dataclass(frozen=True)
class PageQuery:
    """Which page, from 1."""

    page: Page = 1


@dataclass(frozen=True)
class FindQuery(PageQuery):
    """Words to look for, all of them; and which page."""

    q: str = ""
