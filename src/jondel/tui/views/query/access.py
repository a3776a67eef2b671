"""The query view for the features that work on it, without loading it for them."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from jondel.tui.frame.desk import Desk
    from jondel.tui.views.query.view import QueryView


def query_view(desk: Desk) -> QueryView:
    """The query view, loaded where it was not yet."""
    return cast("QueryView", desk.views.require("query"))


async def go_to_query(desk: Desk) -> QueryView:
    """Go to the query view, where one is not there; it is there when this returns."""
    if desk.navigator.view != "query":
        desk.run("view.query")
        journey = desk.navigator.journey
        if journey is not None:
            await journey.over.wait()
    return query_view(desk)
