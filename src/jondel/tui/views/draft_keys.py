"""Fixing: editing cells, adding and deleting records, writing all that as one draft, undoing."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.errors import JondelError, RecordsMovedOn, ValueUnsuitable
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue, Value
from jondel.tui.views.link_keys import LinkKeys
from jondel.tui.widgets.cell_editor import CellEditor

if TYPE_CHECKING:
    from jondel.core.browse.links import Link, LinkedRecord
    from jondel.core.draft.writing import Conflict, Written
    from jondel.tui.draft_desk import DraftDesk

_IN_PLACE_CHARACTERS = 400
_NARROWEST_EDITOR = 14
_PICKED_FROM = 50
_CONFIRMED_LINES = 40


class DraftKeys(LinkKeys):
    """Adds the keys that edit; none of them writes but ``W`` and ``Ctrl+Z``, after asking."""

    BINDINGS = [
        Binding("e", "edit", "edit the cell in place"),
        Binding("E", "edit_large", "edit the value in a full editor"),
        Binding("I", "insert", "a new record"),
        Binding("P", "duplicate", "a new record like this one"),
        Binding("delete", "delete", "delete the record or the chosen ones; again, keep them"),
        Binding("A", "set_all", "set this column in all rows of the sheet"),
        Binding("d", "draft", "the draft: what is edited and not written"),
        Binding("W", "write_draft", "write the draft, after seeing its statements"),
        Binding("ctrl+z", "undo_write", "take back the last write"),
        Binding("ctrl+r", "read_only", "read-only, or not"),
    ]

    _own_desk: DraftDesk | None = None
    _editor: CellEditor | None = None
    _editing: tuple[Table, Position, ShownRow, Column] | None = None
    _written: tuple[Written, ...] = ()

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
            self._message.say("read-only: Ctrl+R allows editing")
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
        value = row[table.column_names.index(column.name)]
        if edit is not None:
            value = edit.values.get(column.name, value)
        self._editing = (table, position, row, column)
        if isinstance(value, Clipped):
            self._message.say("the value is too large to be edited here", problem=True)
            return
        text = "" if isinstance(value, bytes) else as_entered(value)
        if large or "\n" in text or len(text) > _IN_PLACE_CHARACTERS:
            self._edit_in_panel(text)
        else:
            self._edit_in_place(text)

    def _edit_in_place(self, text: str) -> None:
        self._close_editor()
        pane, cell = self._pane, self._sheet.current_cell()
        if cell is None:
            return
        x, y, width = cell
        within = self._sheet.region.offset - pane.region.offset
        self._editor = CellEditor(text)
        room = pane.region.width - within.x - x
        self._editor.styles.width = max(2, min(max(width + 1, _NARROWEST_EDITOR), room))
        self._editor.styles.offset = (within.x + x, within.y + y)
        pane.mount(self._editor)
        self._editor.focus()
        self._message.say(CellEditor.HINT)

    def _close_editor(self) -> None:
        if self._editor is not None:
            self._editor.remove()
            self._editor = None
            self._message.hush()

    def on_cell_editor_left(self, event: CellEditor.Left) -> None:
        event.stop()
        self._close_editor()
        self._focus_view()

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
        before = row[table.column_names.index(column.name)]
        try:
            value = await self._value_of(table, column, text, way, before)
        except ValueUnsuitable as error:
            self._message.say(f"{error}; Ctrl+K takes it as typed", problem=True)
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._set_cells({column.name: value})

    async def _value_of(
        self, table: Table, column: Column, text: str, way: str, before: Value = None
    ) -> StoredValue:
        """The value that was asked for in a way, or that a text stands for."""
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
                if table.strict:
                    raise ValueUnsuitable(f"{table.name} is STRICT: the engine refuses it too")
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
        from jondel.core.browse.json_lines import parsed
        from jondel.tui.views.draft_panels import ValuePanel

        assert self._editing is not None, "set by whoever opens an editor"
        table, _, _, column = self._editing
        is_json = "JSON" in column.declared_type.upper() or parsed(text) is not None

        def take(typed: str | None) -> None:
            if typed is not None:
                self._entered(typed, "")

        title = f"{safe_name(table.name)}.{safe_name(column.name)}"
        self.app.push_screen(ValuePanel(title, text, json=is_json), take)

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
        self._set_cells({self._editing[3].name: content})

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
        from jondel.tui.views.draft_panels import PickPanel

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

    # Records

    @work(group="edit", exclusive=True)
    async def action_insert(self) -> None:
        """Fill in a new record."""
        try:
            table = await self._may_edit()
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if table is not None:
            self._fill_in(table, None)

    @work(group="edit", exclusive=True)
    async def action_duplicate(self) -> None:
        """Fill in a new record, beginning with the values of the current one."""
        try:
            table = await self._may_edit()
            position = self._sheet.current_position
            if table is None or not position:
                return
            row = await self._desk.whole(table, position)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if row is None:
            return
        key = set(table.primary_key)
        values: dict[str, StoredValue] = {}
        edited = self._edited_cells(table, position)
        for column, value in zip(table.columns, row, strict=True):
            value = edited.get(column.name, value)
            # The key is the old one's; the engine numbers the new one, or a person gives it one.
            if not column.generated and column.name not in key and not isinstance(value, Clipped):
                values[column.name] = value
        self._fill_in(table, None, values)

    def _fill_in(
        self, table: Table, number: int | None, values: dict[str, StoredValue] | None = None
    ) -> None:
        """Open the panel of a new record; ``number`` is that of one in the draft already."""
        from jondel.core.draft.draft import NewRecord
        from jondel.tui.views.draft_panels import RecordPanel

        known = self._desk.draft.get(number) if number is not None else None
        if isinstance(known, NewRecord):
            values = dict(known.values)

        async def enter(
            column: Column, typed: str, before: StoredValue
        ) -> tuple[StoredValue, bool]:
            way = typed[1:] if typed.startswith("\x00") else ""
            if way == "default":
                return None, False
            return await self._value_of(table, column, typed, way, before), True

        def take(filled: dict[str, StoredValue] | None) -> None:
            if filled is None:
                return
            if number is not None:
                self._desk.draft.change_new(number, filled)
                added = number
            else:
                added = self._desk.draft.insert(table.name, filled)
            self._draft_changed()
            self.call_after_refresh(self._sheet.go_to_new, added)

        self.app.push_screen(RecordPanel(table, values or {}, enter), take)

    @work(group="edit", exclusive=True)
    async def action_delete(self) -> None:
        """Have the current record, or the chosen ones, deleted; or keep them after all."""
        try:
            await self._delete()
        except JondelError as error:
            self._message.say(str(error), problem=True)

    async def _delete(self) -> None:
        table = await self._may_edit()
        if table is None:
            return
        new = self._sheet.current_new
        if new is not None:
            self._desk.drop(new)
            self._draft_changed()
            return
        chosen = sorted(self._sheet.chosen, key=repr)
        positions = chosen or [self._sheet.current_position]
        edits = [self._desk.edit_of(table, position) for position in positions if position]
        if edits and all(edit is not None and edit.deleted for edit in edits):
            for position in positions:
                self._desk.draft.keep(table.name, position)
            self._draft_changed()
            return
        doomed: list[tuple[Position, ShownRow]] = []
        words: dict[str, int] = {}
        for position in positions:
            row = await self._desk.whole(table, position) if position else None
            if row is None:
                continue
            doomed.append((position, row))
            planned = await self._desk.deletion(table, position, row)
            for write in planned.plan.writes:
                if write.table != table.name or write.kind != "delete":
                    what = "deleted" if write.kind == "delete" else "set to point at nothing"
                    words[f"{write.table}: {what}"] = words.get(f"{write.table}: {what}", 0) + 1
        if not doomed:
            return
        if not words and len(doomed) == 1:
            self._take_deletions(table, doomed)
            return
        from jondel.tui.views.trail_panels import ConfirmPanel

        count = f"{len(doomed)} record{'' if len(doomed) == 1 else 's'}"
        lines = [f"{count} of {safe_name(table.name)}"]
        lines += [f"  with it: {number} of {line(what, 60)}" for what, number in words.items()]
        lines.append("")
        lines.append("Nothing is written before W.")

        def take(key: str | None) -> None:
            if key == "y":
                self._take_deletions(table, doomed)

        self.app.push_screen(
            ConfirmPanel("Delete", lines[:_CONFIRMED_LINES], "puts it into the draft"), take
        )

    def _take_deletions(self, table: Table, doomed: list[tuple[Position, ShownRow]]) -> None:
        from jondel.core.draft.planning import cells_of

        for position, row in doomed:
            self._desk.draft.delete(table.name, position, cells_of(table, row))
        self._sheet.choose_none()
        self._draft_changed()

    @work(group="edit", exclusive=True)
    async def action_set_all(self) -> None:
        """Set the current column in every row that the sheet shows."""
        try:
            table = await self._may_edit()
            column = table.column(self._sheet.column_name) if table is not None else None
            if table is None or column is None or column.generated:
                return
            condition = self._pane.state.condition
            from jondel.core.model.filters import Arrangement

            count = await self._desk.count(table, Arrangement(condition))
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        from jondel.tui.draft_desk import MOST_SET_AT_ONCE
        from jondel.tui.views.draft_panels import EntryPanel

        if count > MOST_SET_AT_ONCE:
            most = grouped(MOST_SET_AT_ONCE)
            self._message.say(
                f"{grouped(count)} rows are too many for a draft, {most} at most: filter further",
                problem=True,
            )
            return

        def take(typed: str | None) -> None:
            if typed is not None and table is not None and column is not None:
                self._set_all(table, column, typed)

        which = "filtered rows" if condition is not None else "rows, which are all"
        title = f"Set {safe_name(column.name)} in {grouped(count)} {which}"
        self.app.push_screen(EntryPanel(title, "", "Nothing is written before W"), take)

    @work(group="edit", exclusive=True)
    async def _set_all(self, table: Table, column: Column, typed: str) -> None:
        from jondel.core.model.filters import Arrangement

        way = typed[1:] if typed.startswith("\x00") else ""
        arrangement = Arrangement(self._pane.state.condition)
        try:
            with self._busy_with("collecting rows"):
                value = await self._value_of(table, column, typed, way)
                count = await self._desk.set_column(table, arrangement, column.name, value)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._message.say(f"{grouped(count)} rows: in the draft, W writes it")
        self._draft_changed()

    # The draft

    def action_draft(self, place: int = 0) -> None:
        """List what is edited and not written."""
        from jondel.core.draft.draft import key_of
        from jondel.tui.views.draft_panels import DraftPanel

        entries = self._desk.entries()
        if not entries:
            self._message.say("the draft is empty: e edits a cell")
            return

        def take(wish: tuple[str, int] | None) -> None:
            if wish is None:
                return
            what, number = wish
            match what:
                case "go":
                    self._go_to_entry(entries[number])
                case "drop":
                    self._desk.drop(key_of(entries[number]))
                    self._draft_changed()
                    if len(entries) > 1:
                        self.action_draft(number)
                case "all":
                    self._ask_to_drop_all()
                case "write":
                    self.action_write_draft()

        self.app.push_screen(DraftPanel(entries, place), take)

    def _ask_to_drop_all(self) -> None:
        from jondel.tui.views.trail_panels import ConfirmPanel

        def take(key: str | None) -> None:
            if key == "y":
                self._desk.draft.drop_all()
                self._draft_changed()
                self._message.say("the draft is dropped; the database was not touched")

        count = len(self._desk.draft)
        words = f"{count} edited record{'' if count == 1 else 's'}, not written, would be lost."
        self.app.push_screen(ConfirmPanel("Drop the whole draft?", [words], "drops it"), take)

    @work(group="sheet", exclusive=True)
    async def _go_to_entry(self, entry: object) -> None:
        from jondel.core.draft.draft import NewRecord, RecordEdit

        assert isinstance(entry, NewRecord | RecordEdit)
        table = next((t for t in self._tables if t.name == entry.table), None)
        if table is None:
            self._message.say(f"{safe_name(entry.table)} is not there any more", problem=True)
            return
        if self._moment is not None:
            self._go_to(None, load_rows=False)
        try:
            place = 0
            if isinstance(entry, RecordEdit):
                place = await self._links.place_of(None, table, entry.position)
            await self._show_table(table.name, place)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._mark_drafted()
        if isinstance(entry, NewRecord):
            self._sheet.go_to_new(entry.number)
        else:
            self._sheet.go_to(place, next(iter(entry.values), None))

    # Writing

    @work(group="write", exclusive=True)
    async def action_write_draft(self) -> None:
        """Show the statements, then write them."""
        if not self._drafted_tables:
            self._message.say("the draft is empty: there is nothing to write")
            return
        try:
            self._workspace.require_writing()
            planned, statements = await self._desk.statements()
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        from jondel.tui.views.draft_panels import WritePanel

        def take(wanted: bool | None) -> None:
            if wanted:
                self._write()

        self.app.push_screen(WritePanel(planned, statements), take)

    @work(group="write", exclusive=True)
    async def _write(self) -> None:
        try:
            with self._busy_with("writing"):
                done = await self._workspace.write_draft(self._desk.draft)
        except RecordsMovedOn as error:
            await self._show_conflicts(error)
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._written = (*self._written, done)
        self._comparer.start_anew()
        self._follower.action_recorded(self._follower.token)
        self._draft_changed()
        self._load(keep_place=True)
        self._show_trail()
        rows = f"{done.rows} row{'' if done.rows == 1 else 's'} written"
        if done.step is not None:
            self._message.say(f"{rows}, as step s{done.step}; Ctrl+Z takes it back")
        else:
            self._message.say(f"{rows}; it cannot be taken back as one: {done.why}")

    async def _show_conflicts(self, error: RecordsMovedOn) -> None:
        try:
            conflicts = await self._desk.conflicts()
        except JondelError as problem:
            self._message.say(str(problem), problem=True)
            return
        if not conflicts:
            self._message.say(str(error), problem=True)
            return
        from jondel.tui.views.draft_panels import ConflictPanel

        def take(mine: list[bool] | None) -> None:
            if mine is not None:
                self._settle(conflicts, mine)

        self.app.push_screen(ConflictPanel(conflicts), take)

    def _settle(self, conflicts: list[Conflict], mine: list[bool]) -> None:
        self._desk.settle(conflicts, mine)
        self._draft_changed()
        if len(self._desk.draft):
            self.action_write_draft()
        else:
            self._message.say("nothing of the draft is left; the database was not touched")

    def action_undo_write(self) -> None:
        """Take back the last write that was not taken back yet."""
        if not self._written:
            self._message.say("nothing was written from here that could be taken back")
            return
        done = self._written[-1]
        if done.step is None:
            self._message.say(f"the last write cannot be taken back as one: {done.why}")
            return
        from jondel.tui.views.trail_panels import ConfirmPanel

        def take(key: str | None) -> None:
            if key == "y" and done.step is not None:
                self._undo(done.step)

        words = [f"{done.rows} rows were written as step s{done.step}.", "", "Each is put back"]
        words[-1] += " only if it is still as it was written."
        self.app.push_screen(
            ConfirmPanel("Take back the last write?", words, "takes it back"), take
        )

    @work(group="write", exclusive=True)
    async def _undo(self, step: int) -> None:
        try:
            with self._busy_with("taking back"):
                await self._workspace.take_back_step(step)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._written = self._written[:-1]
        self._comparer.start_anew()
        self._follower.action_recorded(self._follower.token)
        self._load(keep_place=True)
        self._show_trail()
        self._message.say(f"step s{step} is taken back")

    # Read-only

    def action_read_only(self) -> None:
        """Forbid writing from here, or allow it again."""
        if self._workspace.always_read_only:
            self._message.say("Jondel was started with --read-only; it stays so")
            return
        self._workspace.read_only = not self._workspace.read_only
        self._close_editor()
        self._show_around()
        now = "read-only: nothing is written from here" if self._workspace.read_only else "editing"
        self._message.say(f"{now}; Ctrl+R changes that")
