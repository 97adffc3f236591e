"""Solutions, lots and nebulisers: the kit of the qualitative tests."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.actor import READERS
from moorfog.platform.web.fields import Id
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.kit import nebulisers, solutions
from moorfog.rooms.kit.label import label_pdf


@dataclass(frozen=True)
class AmountQuery:
    """How many millilitres; what the recipe is written for where empty."""

    ml: str = ""


@dataclass(frozen=True)
class LotsQuery(PageQuery):
    """Which page, from 1, and of which agent; all where empty."""

    agent: str = ""
    only_good: bool = False
    """Without those out of date."""


@dataclass(frozen=True)
class Filling:
    """The lot a nebuliser was rinsed and filled with."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    lot_id: Id


@route("GET", "/api/recipes", "read", query=AmountQuery, returns=tuple[solutions.RecipeView, ...])
def get_recipes(context: Context, query: AmountQuery) -> tuple[solutions.RecipeView, ...]:
    """The recipes of the solutions, for the amount that is wanted."""
    return solutions.list_recipes(query.ml)


@route("GET", "/api/lots", "read", query=LotsQuery, returns=solutions.LotsPage)
def get_lots(context: Context, query: LotsQuery) -> solutions.LotsPage:
    """The lots at hand, the freshest first."""
    return solutions.list_lots(
        context.db, context.clock, context.actor, query.page, query.agent, only_good=query.only_good
    )


@route("POST", "/api/lots", "kit", body=solutions.LotEntry, returns=solutions.LotView)
def enter_lot(context: Context, body: solutions.LotEntry) -> solutions.LotView:
    """Enter a lot of a solution, a jar or a tube."""
    return solutions.enter_lot(context.db, context.clock, context.actor, body)


@route("GET", "/api/lots/{lot_id}/label", "read", media="application/pdf")
def get_label(context: Context, lot_id: str) -> Response:
    """The label of a lot, to print."""
    row = solutions.find_lot(context.db, context.actor.scope(*READERS), lot_id)
    recipe = solutions.recipes().get((row.agent, row.role))
    title = recipe[1].title if recipe else row.role
    content = label_pdf(title, solutions.lot_by_value(row))
    return plain(content, "application/pdf", **{"Content-Disposition": 'inline; filename="label.pdf"'})


@route("GET", "/api/nebulisers", "read", returns=list[nebulisers.NebuliserView])
def get_nebulisers(context: Context) -> list[nebulisers.NebuliserView]:
    """The nebulisers, what is in them, and what stands against using them."""
    return nebulisers.list_nebulisers(context.db, context.clock, context.actor)


@route("POST", "/api/nebulisers", "kit", body=nebulisers.NebuliserEntry, returns=nebulisers.NebuliserView)
def add_nebuliser(context: Context, body: nebulisers.NebuliserEntry) -> nebulisers.NebuliserView:
    """Enter a nebuliser for one of the two solutions."""
    row = nebulisers.add_nebuliser(context.db, context.actor, body)
    return nebulisers.view_nebuliser(context.db, row, context.clock.now(context.db))


@route("POST", "/api/nebulisers/{nebuliser_id}/fillings", "kit", body=Filling, returns=nebulisers.NebuliserView)
def fill_nebuliser(context: Context, nebuliser_id: str, body: Filling) -> nebulisers.NebuliserView:
    """Note that a nebuliser was rinsed and filled."""
    row = nebulisers.fill(context.db, context.clock, context.actor, nebuliser_id, body.lot_id)
    return nebulisers.view_nebuliser(context.db, row, context.clock.now(context.db))


@route("POST", "/api/nebulisers/{nebuliser_id}/checks", "kit", returns=nebulisers.NebuliserView)
def check_nebuliser(context: Context, nebuliser_id: str) -> nebulisers.NebuliserView:
    """Note that a nebuliser was seen to spray."""
    row = nebulisers.check_spray(context.db, context.clock, context.actor, nebuliser_id)
    return nebulisers.view_nebuliser(context.db, row, context.clock.now(context.db))
