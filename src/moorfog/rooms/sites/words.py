"""What a site says for itself: its own terms, how early a test is due, how long leavers' personal data are kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar

from pydantic import Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.data import shipped_procedure
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.web.actor import Actor
from moorfog.rooms.sites.sites import find_site, site_book
from moorfog.rooms.sites.tables import Site, SiteTerms

MOST_TERMS = 4000
MOST_DAYS = 366
MOST_MONTHS = 1200
NOTICE = "retest.notice"


@dataclass(frozen=True)
class SiteWords:
    """A site's own words and periods. Empty terms: the procedure's; null: the rule book's notice, kept for good."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    terms: Annotated[str, Field(max_length=MOST_TERMS)]
    notice_days: Annotated[int, Field(ge=1, le=MOST_DAYS)] | None
    keep_months: Annotated[int, Field(ge=1, le=MOST_MONTHS)] | None


@dataclass(frozen=True)
class SiteWordsView:
    """A site's own words and periods beside what holds without them. ``terms_no``: which version of its terms."""

    terms: str
    terms_no: int
    notice_days: int | None
    keep_months: int | None
    usual_terms: str
    usual_notice: int


def terms_of(db: Session, site_id: str) -> SiteTerms | None:
    """Return the terms a site wrote last, or None where it never wrote any."""
    mine = select(SiteTerms).where(SiteTerms.site_id == site_id)
    return db.scalar(mine.order_by(SiteTerms.no.desc()).limit(1))


def notice_of(db: Session, site: Site) -> int:
    """Return how many days before a test runs out it is due at a site."""
    return site.notice_days or int(site_book(db, site, site.rule_book).number(NOTICE))


def site_words(db: Session, actor: Actor, site_id: str) -> SiteWordsView:
    """Return what a site says for itself. Raises :class:`NotFound` outside the administrator's scope."""
    site = find_site(db, actor.require("administrator"), site_id)
    own, book = terms_of(db, site.id), site_book(db, site, site.rule_book)
    return SiteWordsView(
        terms=own.text if own is not None else "",
        terms_no=own.no if own is not None else 0,
        notice_days=site.notice_days,
        keep_months=site.keep_months,
        usual_terms=shipped_procedure(book.country).terms,
        usual_notice=int(book.number(NOTICE)),
    )


def change_site_words(db: Session, clock: Clock, actor: Actor, site_id: str, one: SiteWords) -> None:
    """Change what a site says for itself. Visits that are open keep the terms they began with."""
    site = find_site(db, actor.require("administrator"), site_id)
    own = terms_of(db, site.id)
    before = {
        "terms": own.text if own is not None else "",
        "notice_days": site.notice_days,
        "keep_months": site.keep_months,
    }
    after = {"terms": one.terms.strip(), "notice_days": one.notice_days, "keep_months": one.keep_months}
    if after["terms"] != before["terms"]:
        no = own.no + 1 if own is not None else 1
        now = clock.now(db)
        db.add(SiteTerms(site_id=site.id, no=no, text=after["terms"], by_name=actor.name, entered_at=now))
    site.notice_days, site.keep_months = one.notice_days, one.keep_months
    note(db, Note("site", site.id, site.employer_id, changed(before, after)))
