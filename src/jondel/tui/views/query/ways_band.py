"""The line below the box: how what is written there can go on, and what is to be said of it."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from functools import partial

from rich.cells import cell_len

from jondel.core.browse.display import line
from jondel.core.errors import JondelError
from jondel.core.query.completion import Way
from jondel.tui.frame.desk import Desk
from jondel.tui.services.moments import Moment
from jondel.tui.views.query.box import StatementBox
from jondel.tui.widgets.bands import Band

_REST_SECONDS = 0.4
"""A text is looked at for problems once nothing was typed for so long."""
_WAYS = "query-ways"


class WaysBand(Band):
    """Finds what can follow in a box, and what is wrong there, and marks that."""

    def __init__(self, desk: Desk, box: StatementBox) -> None:
        super().__init__(id="query-ways")
        self._desk, self._box = desk, box
        self._ways: Sequence[Way] = ()
        self._way = 0
        self._ways_of = ("", 0)
        """The text and the place in it that they are of."""
        self._remark = self._problem = ""

    def text_changed(self) -> None:
        """Another text is in the box: what was wrong with the one before is over."""
        self._problem = ""
        self._box.mark([])

    def look(self, moment: Moment) -> None:
        """Find out about the text as it is now, asked of a moment."""
        if self._box.is_attached:
            self._desk.start(partial(self._find_ways, moment), _WAYS)
            self._desk.start(partial(self._find_problems, moment), "query-problems")

    async def _find_ways(self, moment: Moment) -> None:
        text, cursor = self._box.text, self._box.cursor_at
        try:
            found, remark = await self._desk.workspace.query_help.ways(text, cursor, moment)
        except JondelError:
            return  # what is wrong with the database is said where it is looked at
        if (text, cursor) != (self._box.text, self._box.cursor_at):
            return
        started = (
            bool(found.typed)
            or text[:cursor].rstrip(" ")[-1:] in ".=("
            or any(way.kind == "join" for way in found.ways)
        )
        self._ways, self._way = found.ways if started and text.strip() else (), 0
        self._ways_of = (text, cursor)
        self._remark = remark
        self._show_ways()

    async def _find_problems(self, moment: Moment) -> None:
        await asyncio.sleep(_REST_SECONDS)
        text = self._box.text
        try:
            problems = await self._desk.workspace.query_help.problems(text, moment)
        except JondelError:
            return
        if text != self._box.text:
            return
        cursor = self._box.cursor_at
        # What one is just writing is not finished, and so not wrong yet.
        shown = [p for p in problems if cursor < p.start or text[p.end : cursor].strip()]
        self._box.mark([(p.start, p.end) for p in shown])
        self._problem = shown[0].message if shown else ""
        self._show_ways()

    def _show_ways(self) -> None:
        parts: list[tuple[str, str]] = []
        room = self.size.width - 24
        for number, way in enumerate(self._ways[self._way :]):
            words = line(way.detail if way.kind == "function" else way.text, 60)
            if room < cell_len(words) + 2:
                break
            room -= cell_len(words) + 2
            parts.append((f" {words} ", "strong" if not number else "plain"))
        keys = [("Tab takes · Ctrl+N next ", "dim")] if self._ways else []
        if not self._ways and (self._problem or self._remark):
            words = self._problem or self._remark
            parts = [(f" {line(words, 300)}", "strong" if self._problem else "draft")]
        elif self._remark:
            parts = [(f" {line(self._remark, 200)} ", "draft"), *parts]
        self.show(parts, keys)

    def offer_next(self) -> None:
        """Offer the next of the ways first."""
        if self._ways:
            self._way = (self._way + 1) % len(self._ways)
            self._show_ways()

    def take(self, moment: Moment) -> None:
        """Put the way that is offered first into the box."""
        if self._ways_of == (self._box.text, self._box.cursor_at):
            self._take_way()
            return
        # It was pressed before what is offered was found: what is typed after it waits.
        hold = self._desk.typed.hold()

        async def find_and_take() -> None:
            try:
                await self._find_ways(moment)
                self._take_way()
            finally:
                hold.release()

        hold.wait_for(self._desk.start(find_and_take, _WAYS))

    def _take_way(self) -> None:
        if self._ways:
            way, end = self._ways[self._way], self._box.cursor_at
            self._ways = ()
            self._box.put(way.start, end, way.text)
