"""Following links in the card: unfolding them, walking along them and back, deciding on guesses."""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING, NamedTuple

from textual import work
from textual.binding import Binding

from jondel.core.browse.display import line, safe_name
from jondel.core.browse.sheet_states import SheetState
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, ShownRow, Value
from jondel.tui.moments import Moment
from jondel.tui.views.sheet_keys import SheetKeys
from jondel.tui.widgets.card import Card

if TYPE_CHECKING:
    from jondel.core.browse.links import Link, LinkedRecord
    from jondel.core.browse.times import TimeKind
    from jondel.core.model.rows import Position
    from jondel.tui.link_book import LinkBook

_REST_SECONDS = 0.15
"""Links are looked up once a record has been the current one for so long."""
_READ_ON_BYTES = 16 * 1024 * 1024


class WalkedFrom(NamedTuple):
    """Where one was before walking along a link."""

    moment: Moment
    table: str
    state: SheetState
    words: str
    left: SheetState
    """How the table that was walked to had been left."""
    target: str


class LinkKeys(SheetKeys):
    """Adds the links of the card."""

    BINDINGS = [
        Binding("plus", "decide_link(True)", "on a guessed link: it holds"),
        Binding("minus", "decide_link(False)", "on a guessed or added link: it does not hold"),
        Binding("L", "add_link", "on a field of the card: it points to a table"),
        Binding("at", "next_reading", "on a field of the card: how its times are counted"),
        Binding("b", "save_value", "save the field's value to a file"),
    ]

    _book: LinkBook | None = None
    _resting: asyncio.TimerHandle | None = None
    _walked: tuple[WalkedFrom, ...]  # type: ignore[assignment]

    @property
    def _links(self) -> LinkBook:
        if self._book is None:
            from jondel.tui.link_book import LinkBook  # not needed for the first rows

            self._book = LinkBook(self._workspace)
        return self._book

    # Loading

    def _card_shown(self, table: Table, position: Position, row: ShownRow) -> None:
        """The card shows another record: its links follow once one rests on it."""
        if self._resting is not None:
            self._resting.cancel()
        self.workers.cancel_group(self, "links")

        def rested() -> None:
            if self.is_attached:
                self._load_links(table, row)

        # Not a worker that waits: one would be made and stopped with every key.
        self._resting = asyncio.get_running_loop().call_later(_REST_SECONDS, rested)

    @work(group="links", exclusive=True)
    async def _load_links(self, table: Table, row: ShownRow) -> None:
        moment, card = self._moment, self._card.card
        try:
            nodes = await self._links.nodes_of(moment, table, row)
            card.show_links(nodes)
            for node in nodes:
                await self._links.count(moment, node)
                card.refresh_links()
            if moment is None and not self._links.knows_guesses(
                await self._workspace.schema(moment)
            ):
                await self._links.guess()
                nodes = await self._links.nodes_of(moment, table, row)
                if any(node.standing == "guessed" for node in nodes):
                    self._load_links(table, row)
        except JondelError:
            return  # what is wrong with the database is reported elsewhere

    def on_card_link_unfolded(self, event: Card.LinkUnfolded) -> None:
        event.stop()
        self._open_node(event.node)

    @work(group="unfold")
    async def _open_node(self, node: object) -> None:
        from jondel.tui.widgets.link_nodes import LinkNode, RecordNode

        try:
            if isinstance(node, LinkNode):
                await self._links.open_link(self._moment, node)
            elif isinstance(node, RecordNode):
                await self._links.open_record(self._moment, node)
        except JondelError as error:
            self._message.say(str(error), problem=True)
        self._card.card.refresh_links()

    # Walking

    def on_card_walked(self, event: Card.Walked) -> None:
        event.stop()
        link, record = event.line.link, event.line.record
        if record is not None:
            self._walk_to_record(record.record)
        elif link is not None and link.outwards and link.records:
            self._walk_to_record(link.records[0].record)
        elif link is not None and link.outwards:
            self._message.say(f"{safe_name(link.link.parent)}: no such record", problem=True)
        elif link is not None:
            self._walk_to_children(link.link, link.owner, link.row)

    @work(group="sheet", exclusive=True)
    async def _walk_to_record(self, record: LinkedRecord) -> None:
        try:
            place = await self._links.place_of(self._moment, record.table, record.position)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._remember_walk(record.table.name)
        await self._show_table(record.table.name, place)
        self._sheet.go_to(place)
        self._show_path()

    @work(group="sheet", exclusive=True)
    async def _walk_to_children(self, link: Link, owner: Table, row: ShownRow) -> None:
        from jondel.core.browse.links import children_cells
        from jondel.core.model.filters import ColumnCondition, Filter

        cells = children_cells(link, owner, row)
        if cells is None:
            return
        self._remember_walk(link.child)
        stack = Filter()
        for column, value in cells:
            stack = stack.with_layer(ColumnCondition(column, "is", (value,)))
        known = self._workspace.sheets.of(link.child)
        state = known._replace(filter=stack, row=0)
        self._pane.leave()
        self._pane.put_state(link.child, state)
        if self._table_name == link.child:
            await self._pane.arrange_anew(state)
            self._focus_view()
        else:
            await self._show_table(link.child)
        self._show_path()

    def _remember_walk(self, target: str) -> None:
        table = self._sheet.table
        if table is None:
            return
        self._pane.leave()
        position = self._sheet.current_position
        key = " · ".join(line(value, 20) for value in position)
        came = WalkedFrom(
            self._moment,
            table.name,
            self._pane.state,
            f"{safe_name(table.name)} {key}",
            self._workspace.sheets.of(target),
            target,
        )
        self._walked = (*self._walked, came)

    def _show_path(self) -> None:
        self._records.show_path([came.words for came in self._walked])
        self._show_keys()

    def _follow_table_list(self) -> None:
        before = self._table_name
        super()._follow_table_list()
        if self._walked and self._table_name != before:
            # Another table was chosen by itself: that is no part of the way.
            self._walked = ()
            self._show_path()

    @work(group="sheet", exclusive=True)
    async def _walk_back(self) -> None:
        """Go back along the path, to the place one left."""
        *rest, came = self._walked
        self._walked = tuple(rest)
        sheets = self._workspace.sheets
        sheets.keep(came.target, came.left)
        sheets.keep(came.table, came.state)
        try:
            if self._moment != came.moment:
                self._go_to(came.moment, load_rows=False)
                await self._load_tables(came.moment)
            if self._table_name == came.table:
                await self._pane.arrange_anew(came.state)
                self._sheet.go_to(came.state.row, came.state.column or None)
                self._focus_view()
            else:
                self._pane.forget()
                await self._show_table(came.table)
        except Cancelled:
            pass
        except JondelError as error:
            self._message.say(str(error), problem=True)
        self._show_path()

    # Deciding

    def action_decide_link(self, holds: bool) -> None:
        """Confirm a guessed link, or refuse it."""
        from jondel.core.browse.links import LinkDecisions

        found = self._card.card.link
        if found is None or found.link is None:
            self._message.say("+ and - decide on a guessed link: go to one in the card (v)")
            return
        node = found.link
        if node.standing == "declared":
            self._message.say("this link is declared in the schema; it holds")
            return
        self._decide(node.link, LinkDecisions.confirm if holds else LinkDecisions.refuse)

    def _decide(self, link: Link, decide: object) -> None:
        try:
            path = self._links.decide(link, decide)  # type: ignore[arg-type]
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._message.say(f"{line(link.words(), 80)}: kept in {path}")
        self._show_card()

    def action_add_link(self) -> None:
        """Say into which table the field of the card points."""
        table, column = self._sheet.table, self._card.card.column or self._sheet.column_name
        if table is None or not column or self._view != "records":
            return
        from jondel.core.browse.links import LinkDecisions
        from jondel.tui.views.link_panel import LinkPanel

        def take(link: object) -> None:
            if link is not None:
                self._decide(link, LinkDecisions.add)  # type: ignore[arg-type]

        self.app.push_screen(LinkPanel(table, column, self._tables), take)

    # Values

    def _readings(self, table: Table, row: ShownRow) -> dict[str, str]:
        """How the values of a record read, where they are times."""
        kinds = self._pane.time_kinds
        if not kinds:
            return {}
        from jondel.core.browse.times import reading

        found = {}
        for column, value in zip(table.column_names, row, strict=False):
            kind = kinds.get(column)
            words = reading(value, kind) if kind is not None else None
            if words is not None:
                found[column] = words
        return found

    def action_next_reading(self) -> None:
        """Have the field's times counted in the next way; at last in none."""
        table, column = self._sheet.table, self._card.card.column or self._sheet.column_name
        if table is None or not column or self._view != "records":
            return
        from jondel.core.browse.times import TIME_KINDS

        state, known = self._pane.state, self._pane.time_kinds.get(column)
        ways: list[TimeKind | None] = [None, *TIME_KINDS]
        chosen = ways[(ways.index(known) + 1) % len(ways)]
        others = tuple(entry for entry in state.times if entry[0] != column)
        self._pane.change_state(state._replace(times=(*others, (column, chosen or ""))))
        self._pane.forget_times()
        self._message.say(f"{safe_name(column)}: {chosen or 'no times'}")
        self._show_card()

    def on_card_more_wanted(self, event: Card.MoreWanted) -> None:
        event.stop()
        found = self._sheet.record_at(self._sheet.cursor_row)
        table = self._sheet.table
        if table is None or found is None or not found[0] or self._view != "records":
            return
        self._read_more(table, found[0])

    @work(group="card", exclusive=True)
    async def _read_more(self, table: Table, position: Position) -> None:
        """Read the record's large values as far as they can be shown."""
        try:
            row = await self._workspace.record(self._moment, table, position, _READ_ON_BYTES)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if row is not None and self._sheet.current_position == position:
            self._show_in_card(table, position, row, self._sheet.cursor_row)
            if any(isinstance(value, Clipped) for value in row):
                self._message.say("some of it is too long to be shown: b saves it to a file")

    def action_save_value(self) -> None:
        """Ask for a file and write the field's whole value to it."""
        table, column = self._sheet.table, self._card.card.column or self._sheet.column_name
        found = self._sheet.record_at(self._sheet.cursor_row)
        if table is None or found is None or not found[0] or not column:
            return
        from jondel.tui.views.panels import FilePanel

        def take(path: str | None) -> None:
            if path:
                self._save_value(table, found[0], column, path)

        self.app.push_screen(FilePanel(f"Save {safe_name(column)} to a file"), take)

    @work(group="save")
    async def _save_value(self, table: Table, position: Position, column: str, path: str) -> None:
        from jondel.core.formats.raw_values import write_value

        def whole(row: ShownRow | None) -> Value:
            return row[table.column_names.index(column)] if row is not None else None

        try:
            row = await self._workspace.record(self._moment, table, position, 1 << 31)
            await asyncio.to_thread(write_value, path, whole(row))
        except JondelError as error:
            self._message.say(str(error), problem=True)
        except OSError as error:
            self._message.say(f"{path}: cannot be written ({error.strerror})", problem=True)
        else:
            self._message.say(f"saved to {path}")
