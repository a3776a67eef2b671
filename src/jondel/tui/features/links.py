"""Links between records: unfolded in the card, followed and gone back along, decided on."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.browse.display import line, safe_name
from jondel.core.errors import JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow
from jondel.tui.features.arranging import needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Reach, Stop
from jondel.tui.frame.place import AtPosition, AtRow, Place
from jondel.tui.frame.view import ShownRecord
from jondel.tui.services.moments import Now, origin_of
from jondel.tui.views.changes.access import current_change, stop_at
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.browse.link_tree import LinkNode, RecordNode
    from jondel.core.browse.links import Link, LinkDecisions, LinkedRecord
    from jondel.core.browse.sheet_states import SheetState

_REST_SECONDS = 0.15
"""Links are looked up once a record has been the current one for so long."""


class Links(Feature):
    """The lower part of the card."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._resting: asyncio.TimerHandle | None = None
        self._loaded: tuple[ShownRecord, int] | None = None
        """The record whose links were read last, and after how many commits."""
        self._nodes: list[LinkNode] = []
        """Those links."""

    def commands(self) -> Iterable[Command]:
        for key, holds, help in (
            ("plus", True, "confirm a guessed link"),
            ("minus", False, "reject a guessed or added link"),
        ):
            yield Command(
                "link.confirm" if holds else "link.refuse",
                "it holds" if holds else "it does not hold",
                help,
                "The card",
                partial(self._decide_on_current, holds=holds),
                (key,),
                contexts=RECORDS,
            )
        yield Command(
            "link.add",
            "add a link",
            "link the field of the card to a table",
            "The card",
            self._add,
            ("L",),
            contexts=RECORDS,
            refusal=needs_table,
        )
        yield Command(
            "link.follow", "follow", "follow the link", "The card", self._follow, listed=False
        )
        yield Command(
            "link.unfold",
            "unfold",
            "unfold the link",
            "The card",
            self._unfold,
            listed=False,
            reach=Reach.RECORD,
            task="unfold",
            beside=True,
        )

    # Loading

    def record_shown(self, record: ShownRecord) -> None:
        self.record_left()
        if self._loaded == (record, self.desk.loader.commits):
            # The card may have shown another record in between, or the same one anew.
            if self.desk.card.links is not self._nodes:
                self.desk.card.show_links(self._nodes)
            return

        def rested() -> None:
            if self.desk.app_is_here:
                self.desk.start(partial(self._load, record), "links", Reach.RECORD)

        # Not a worker that waits: one would be made and stopped with every key.
        self._resting = asyncio.get_running_loop().call_later(_REST_SECONDS, rested)

    def record_left(self) -> None:
        if self._resting is not None:
            self._resting.cancel()

    async def _load(self, record: ShownRecord) -> None:
        desk = self.desk
        links, card = desk.workspace.links, desk.card
        commits = desk.loader.commits
        try:
            nodes = await links.nodes_of(record.moment, record.table, record.row)
            card.show_links(nodes)
            for node in nodes:
                await links.count(record.moment, node)
                card.refresh_links()
            self._loaded, self._nodes = (record, commits), nodes
            if isinstance(record.moment, Now):
                await self._guess(record)
        except JondelError:
            return  # what is wrong with the database is reported elsewhere

    async def _guess(self, record: ShownRecord) -> None:
        """Look for links that nobody declared, once for each schema."""
        links = self.desk.workspace.links
        if links.knows_guesses(await self.desk.workspace.rows.schema(record.moment)):
            return
        await links.guess()
        nodes = await links.nodes_of(record.moment, record.table, record.row)
        if any(node.standing == "guessed" for node in nodes):
            self.desk.start(partial(self._load, record), "links", Reach.RECORD, beside=True)

    async def _unfold(self) -> None:
        """Read what is in a link, or a record at the end of one, that was just opened."""
        current = self.desk.card.link
        links, moment = self.desk.workspace.links, self.desk.place.moment
        if current is None:
            return
        node: LinkNode | RecordNode | None = current.link or current.record
        if current.link is not None:
            await links.open_link(moment, current.link)
        elif current.record is not None:
            await links.open_record(moment, current.record)
        if node is not None:
            self.desk.card.refresh_links()

    # Following

    def _follow(self) -> None:
        current = self.desk.card.link
        if current is None:
            return
        link, record = current.link, current.record
        if record is not None:
            self._go_to_record(record.record)
        elif link is None:
            return
        elif link.outwards and link.records:
            self._go_to_record(link.records[0].record)
        elif link.outwards:
            self.desk.say_problem(f"{safe_name(link.link.parent)}: no such record")
        else:
            self._go_to_children(link.link, link.owner, link.row)

    def _go_to_record(self, record: LinkedRecord) -> None:
        place = self.desk.place
        moment = origin_of(place.moment)
        there = Place(moment, place.compare_from, record.table.id, AtPosition(record.position))
        leaving = self._stop(record.table.id)
        self.desk.navigator.go(there, view="records", leaving=leaving, focus=True)

    def _go_to_children(self, link: Link, owner: Table, row: ShownRow) -> None:
        """Go to the records that point here, filtered out of the others."""
        from jondel.core.browse.links import children_cells
        from jondel.core.model.filters import ColumnCondition, Filter

        cells = children_cells(link, owner, row)
        if cells is None:
            return
        stack = Filter()
        for column, value in cells:
            stack = stack.with_layer(ColumnCondition(column, "is", (value,)))
        state = self._state_of(link.child)._replace(filter=stack, row=0)
        place = self.desk.place
        there = Place(origin_of(place.moment), place.compare_from, link.child, sheet=state)
        leaving = self._stop(link.child)
        self.desk.navigator.go(there, view="records", leaving=leaving, focus=True)

    def _state_of(self, table: TableId) -> SheetState:
        pane = records_view(self.desk).pane
        if pane.table is not None and pane.table.id == table:
            return pane.state
        return self.desk.workspace.sheets.of(table)

    def _stop(self, target: TableId) -> Stop:
        """Where one is, with the sheet as it is; and the target's as it was left."""
        desk, pane = self.desk, records_view(self.desk).pane
        sheet, place = pane.sheet, desk.place
        change = current_change(desk) if desk.navigator.view == "changes" else None
        if change is not None:
            return stop_at(change, place)
        key = " · ".join(line(value, 20) for value in sheet.current_position)
        here = place._replace(
            record=AtRow(sheet.current_row or 0, sheet.current_position),
            column=sheet.column_name,
            sheet=pane.state,
        )
        left = self._state_of(target)
        undo = partial(desk.workspace.sheets.keep, target, left) if target != place.table else None
        return Stop("records", here, f"{safe_name(place.table or '')} {key}", undo)

    # Deciding

    def _decide_on_current(self, *, holds: bool) -> None:
        """Confirm a guessed link, or refuse it."""
        from jondel.core.browse.links import LinkDecisions

        current = self.desk.card.link
        if current is None or current.link is None:
            self.desk.say("+ confirms and - rejects a guessed link; select one in the card (v)")
        elif current.link.standing == "declared":
            self.desk.say("this link is declared in the schema")
        else:
            decide = LinkDecisions.confirm if holds else LinkDecisions.refuse
            self._decide(current.link.link, decide)

    async def _add(self) -> None:
        """Say into which table the field of the card points."""
        from jondel.core.browse.links import LinkDecisions
        from jondel.tui.dialogs.link import LinkDialog

        desk = self.desk
        table = records_view(desk).pane.table
        column = desk.card.column or records_view(desk).sheet.column_name
        if table is None or not column:
            return
        link = await desk.ask(LinkDialog(table, column, desk.state.tables))
        if link is not None:
            self._decide(link, LinkDecisions.add)

    def _decide(self, link: Link, decide: Callable[[LinkDecisions, Link], LinkDecisions]) -> None:
        path = self.desk.workspace.links.decide(link, decide)
        self.desk.say(f"{line(link.words(), 80)}: kept in {path}")
        self._loaded = None
        self.desk.show_card()
