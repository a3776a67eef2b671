"""Fixing values: in place, in a full editor, by picking a linked record, from a file."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding

from jondel.core.browse.display import safe_name
from jondel.core.errors import JondelError, ValueUnsuitable
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue, Value
from jondel.tui.views.link_keys import LinkKeys
from jondel.tui.widgets.bands import KeyBand
from jondel.tui.widgets.sheet import Sheet

if TYPE_CHECKING:
    from jondel.core.browse.links import Link, LinkedRecord
    from jondel.tui.draft_desk import DraftDesk
    from jondel.tui.widgets.cell_editor import CellEditor

_IN_PLACE_CHARACTERS = 400
_NARROWEST_EDITOR = 14
_PICKED_FROM = 50


class EditingKeys(LinkKeys):
    """Adds the keys that edit; what they do goes into the draft, and nothing is written."""

    BINDINGS = [
        Binding("e", "edit", "edit the cell in place"),
        Binding("E", "edit_large", "edit the value in a full editor"),
    ]

    _own_desk: DraftDesk | None = None
    _editor: CellEditor | None = None
    _editing: tuple[Table, Position, ShownRow, Column] | None = None

    @property
    def _desk(self) -> DraftDesk:
        if self._own_desk is None:
            from jondel.tui.draft_desk import DraftDesk  # most looks edit nothing

            self._own_desk = DraftDesk(self._workspace)
        return self._own_desk

    @property
    def _drafted_tables(self) -> dict[str, int]:
        return self._own_desk.draft.tables if self._own_desk is not None else {}

    async def _mount_the_rest(self) -> None:
        await super()._mount_the_rest()
        from jondel.core.keeping.small_files import SmallFile

        if SmallFile("drafts", self._workspace.location).path.exists() and self._desk.found:
            count = self._desk.found
            self._message.say(
                f"a draft of {count} record{'' if count == 1 else 's'} is here from before, "
                "not written: d lists it, W writes it"
            )
            self._show_draft()

    def on_unmount(self) -> None:
        if self._own_desk is not None:
            self._own_desk.close()

    # Showing it

    def _mark_sheet(self) -> None:
        super()._mark_sheet()
        self._mark_drafted()

    def _mark_drafted(self) -> None:
        if self._own_desk is None:
            return
        for pane in self._records.panes:
            table = pane.sheet.table
            live = table is not None and pane.moment is None
            pane.sheet.set_draft(self._own_desk.marks(table) if live and table else None)

    def _show_draft(self) -> None:
        self._mark_drafted()
        self._show_masthead()
        self._show_table_list()
        self._show_keys()
        self._show_card()

    def _edited_cells(self, table: Table, position: Position) -> dict[str, Value]:
        if self._own_desk is None or self._moment is not None:
            return {}
        edit = self._own_desk.edit_of(table, position)
        return dict(edit.values) if edit is not None else {}

    @work(group="keep-draft")
    async def _draft_changed(self) -> None:
        """Show the draft, and keep it in its file."""
        self._show_draft()
        try:
            await self._desk.keep()
        except JondelError as error:
            self._message.say(f"the draft would not survive a crash: {error}", problem=True)

    # What may be edited

    async def _may_edit(self) -> Table | None:
        """The current table, if it can be edited here and now; says why where it cannot."""
        table = self._sheet.table
        if table is None or self._view != "records":
            return None
        if self._workspace.read_only:
            for_good = self._workspace.always_read_only
            why = "Jondel was started with --read-only" if for_good else "Ctrl+R allows editing"
            self._message.say(f"read-only: {why}")
            return None
        if self._moment is not None:
            self._message.say("only now can be edited: n goes there")
            return None
        reason = await self._desk.why_not(table)
        if reason:
            self._message.say(f"{safe_name(table.name)}: no editing: {reason}", problem=True)
            return None
        return table

    # A cell

    def on_sheet_edit_wanted(self, event: Sheet.EditWanted) -> None:
        event.stop()
        self.action_edit()

    def action_edit(self) -> None:
        self._edit(large=False)

    def action_edit_large(self) -> None:
        self._edit(large=True)

    @work(group="edit", exclusive=True)
    async def _edit(self, *, large: bool) -> None:
        try:
            table = await self._may_edit()
            if table is None:
                return
            if self._sheet.current_new is not None:
                self._fill_in(table, self._sheet.current_new)
                return
            in_card = self._card.card.has_focus and self._card.card.column
            column = table.column(in_card or self._sheet.column_name)
            position = self._sheet.current_position
            if column is None or not position or self._sheet.current_row is None:
                return
            if column.generated:
                self._message.say(f"{safe_name(column.name)} is generated: it cannot be edited")
                return
            row = await self._desk.whole(table, position)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if row is None:
            self._message.say("the record is not there any more", problem=True)
            return
        self._open_editor(table, position, row, column, large=large)

    def _open_editor(
        self, table: Table, position: Position, row: ShownRow, column: Column, *, large: bool
    ) -> None:
        from jondel.core.draft.entering import as_entered

        edit = self._desk.edit_of(table, position)
        if edit is not None and edit.deleted:
            self._message.say("the record is to be deleted: Del keeps it after all")
            return
        value = self._value_now(table, position, row, column)
        self._editing = (table, position, row, column)
        if isinstance(value, Clipped):
            self._message.say("the value is too large to be edited here", problem=True)
            return
        text = as_entered(value)
        if large or "\n" in text or len(text) > _IN_PLACE_CHARACTERS:
            self._edit_in_panel(text)
        else:
            self._edit_in_place(text)

    def _value_now(self, table: Table, position: Position, row: ShownRow, column: Column) -> Value:
        """What the cell holds with the draft."""
        value = row[table.column_names.index(column.name)]
        edit = self._desk.edit_of(table, position)
        return value if edit is None else edit.values.get(column.name, value)

    def _edit_in_place(self, text: str) -> None:
        self._close_editor()
        pane, cell = self._pane, self._sheet.current_cell()
        if cell is None:
            return
        x, y, width = cell
        within = self._sheet.region.offset - pane.region.offset
        from jondel.tui.widgets.cell_editor import CellEditor  # fields are slow to load

        self._editor = CellEditor(text)
        room = pane.region.width - within.x - x
        self._editor.styles.width = max(2, min(max(width + 1, _NARROWEST_EDITOR), room))
        self._editor.styles.offset = (within.x + x, within.y + y)
        pane.mount(self._editor)
        self._editor.focus()
        self._show_keys()

    def _close_editor(self) -> None:
        if self._editor is not None:
            self._editor.remove()
            self._editor = None
            self._message.hush()
            self._show_keys()

    def _show_keys(self) -> None:
        if self._editor is None:
            super()._show_keys()
        else:
            from jondel.tui.widgets.cell_editor import KEYS

            self.query_one(KeyBand).show(KEYS)

    def action_enter_cell(self, way: str) -> None:
        """Take what is typed into the cell, or another value in a way."""
        if self._editor is not None:
            self._entered(self._editor.value, way)

    def action_leave_cell(self) -> None:
        """Leave the cell as it is."""
        self._close_editor()
        self._focus_view()

    def on_cell_editor_left(self, event: CellEditor.Left) -> None:
        event.stop()
        self.action_leave_cell()

    def on_cell_editor_entered(self, event: CellEditor.Entered) -> None:
        event.stop()
        self._entered(event.text, event.way)

    @work(group="edit", exclusive=True)
    async def _entered(self, text: str, way: str) -> None:
        """Take what was entered for the cell being edited."""
        if self._editing is None:
            return
        table, position, row, column = self._editing
        if way == "large":
            self._close_editor()
            self._edit_in_panel(text)
            return
        if way == "pick":
            await self._pick(table, position, row, column)
            return
        if way == "file":
            self._take_from_file()
            return
        from jondel.core.draft.entering import untouched

        before = self._value_now(table, position, row, column)
        if not way and not isinstance(before, Clipped) and untouched(text, before):
            self.action_leave_cell()
            return
        try:
            value = await self._value_of(table, column, text, way, before)
        except ValueUnsuitable as error:
            self._message.say(f"{error}; Ctrl+R takes it as typed", problem=True)
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._set_cells({column.name: value})

    async def _value_of(
        self, table: Table, column: Column, text: str, way: str, before: Value = None
    ) -> StoredValue:
        """The value that was asked for in a way, or that a text stands for."""
        from jondel.core.draft.entering import require_storable

        value = await self._value_asked_for(table, column, text, way, before)
        require_storable(value, table, column)
        return value

    async def _value_asked_for(
        self, table: Table, column: Column, text: str, way: str, before: Value
    ) -> StoredValue:
        from jondel.core.draft.entering import current_time, entered

        match way:
            case "null":
                return None
            case "empty":
                return ""
            case "now":
                kind = self._pane.time_kinds.get(column.name)
                return current_time(column, kind, datetime.now(UTC))
            case "as typed":
                return text
            case "default":
                value, known = await self._desk.default_of(table, column.name)
                default = (column.default or "").upper()
                if not known and default.startswith("CURRENT_"):
                    now = datetime.now(UTC)
                    forms = {"CURRENT_DATE": "%Y-%m-%d", "CURRENT_TIME": "%H:%M:%S"}
                    return now.strftime(forms.get(default, "%Y-%m-%d %H:%M:%S"))
                if not known:
                    raise ValueUnsuitable(f"the default {column.default} is known only on insert")
                return value
        stored = before if not isinstance(before, Clipped) else None
        return entered(text, table, column, stored)

    def _set_cells(self, values: dict[str, StoredValue]) -> None:
        if self._editing is None:
            return
        table, position, row, _ = self._editing
        self._close_editor()
        self._editing = None
        self._desk.set_cells(table, position, row, values)
        self._focus_view()
        self._draft_changed()

    def _edit_in_panel(self, text: str) -> None:
        from jondel.core.browse.json_lines import parsed, problem_in
        from jondel.core.draft.entering import entered, untouched
        from jondel.tui.views.entry_panels import ValuePanel

        assert self._editing is not None, "set by whoever opens an editor"
        table, position, row, column = self._editing
        is_json = "JSON" in column.declared_type.upper() or parsed(text) is not None
        before = self._value_now(table, position, row, column)

        def problem_of(typed: str) -> str:
            stored = None if isinstance(before, Clipped) else before
            if untouched(typed, stored):
                return ""
            try:
                entered(typed, table, column, stored)
            except ValueUnsuitable as error:
                return str(error)
            return problem_in(typed) if is_json else ""

        def take(answer: tuple[str, bool] | None) -> None:
            if answer is not None:
                typed, as_typed = answer
                self._entered(typed, "as typed" if as_typed else "")

        title = f"{safe_name(table.name)}.{safe_name(column.name)}"
        self.app.push_screen(
            ValuePanel(title, text, problem_of, json=is_json, force=not table.strict), take
        )

    def _take_from_file(self) -> None:
        from jondel.tui.views.panels import FilePanel

        def take(path: str | None) -> None:
            if path:
                self._read_file(path)

        self.app.push_screen(FilePanel("Take the value from a file, as a blob", "its path"), take)

    @work(group="edit", exclusive=True)
    async def _read_file(self, path: str) -> None:
        from jondel.core.formats.raw_values import read_blob

        if self._editing is None:
            return
        try:
            content = await asyncio.to_thread(read_blob, path)
        except OSError as error:
            self._message.say(f"{path}: cannot be read ({error.strerror or error})", problem=True)
            return
        from jondel.core.draft.entering import require_storable

        table, _, _, column = self._editing
        try:
            require_storable(content, table, column)
        except ValueUnsuitable as error:
            self._message.say(str(error), problem=True)
            return
        self._set_cells({column.name: content})

    # A linked record as a value

    async def _pick(self, table: Table, position: Position, row: ShownRow, column: Column) -> None:
        """Choose the record that a column is to point to."""
        schema = await self._workspace.schema(None)
        links = [
            link
            for link in self._links.standing(schema)
            if link.child == table.name and column.name in link.columns
        ]
        if not links:
            self._message.say(f"{safe_name(column.name)} points to no table", problem=True)
            return
        link = links[0]
        target = schema.find(link.parent)
        if target is None:
            return
        from jondel.tui.views.entry_panels import PickPanel

        def take(found: LinkedRecord | None) -> None:
            if found is not None:
                values = dict(zip(found.table.column_names, found.row, strict=True))
                self._take_picked(link, values)

        self.app.push_screen(PickPanel(target.name, self._search_in(target)), take)

    def _take_picked(self, link: Link, values: dict[str, Value]) -> None:
        picked = {}
        for ours, theirs in zip(link.columns, link.parent_columns, strict=True):
            value = values.get(theirs)
            if isinstance(value, Clipped):
                return
            picked[ours] = value
        self._set_cells(picked)

    def _search_in(self, target: Table) -> Callable[[str], object]:
        from jondel.core.browse.links import LinkedRecord
        from jondel.core.engines.protocol import Database
        from jondel.core.model.filters import Arrangement, WordsCondition

        async def search(words: str) -> list[LinkedRecord]:
            condition = WordsCondition(words) if words.strip() else None

            def work(database: Database) -> list[LinkedRecord]:
                if condition is None:
                    found = database.read_window(target, 0, _PICKED_FROM)
                else:
                    found = database.first_rows(target, Arrangement(condition), _PICKED_FROM)
                pairs = zip(found.positions, found.rows, strict=True)
                return [LinkedRecord(target, position, row) for position, row in pairs]

            return await self._workspace.ask(None, work)

        return search
