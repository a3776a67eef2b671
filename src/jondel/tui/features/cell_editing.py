"""Fixing values: in place, in a full editor, by picking a linked record, from a file."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Mapping
from functools import partial
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.browse.display import safe_name
from jondel.core.engines.protocol import Database
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue, Value, clipped
from jondel.tui.features.editing import (
    draft_changed,
    editing_refusal,
    entered_value,
    form_in,
    require_editable,
    takes_when_left,
)
from jondel.tui.frame.commands import EDITING, RECORDS, Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.view import ShownRecord
from jondel.tui.services.moments import NOW
from jondel.tui.services.rows import CARD_VALUE_BYTES
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.browse.links import Link, LinkedRecord
    from jondel.core.draft.value_entry import ValueEntry
    from jondel.tui.views.records.pane import SheetPane
    from jondel.tui.widgets.cell_editor import CellEditor

_IN_PLACE_CHARACTERS = 400
_PICKED_FROM = 50
_GROUP = "While a cell is edited"


class EditedCell(NamedTuple):
    """A cell that is being edited, and its record as it was read for that."""

    table: Table
    position: Position
    row: ShownRow
    column: Column


class CellEditing(Feature):
    """What is entered goes into the draft, and nothing is written."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._cell: EditedCell | None = None
        self._pane: SheetPane | None = None
        """The sheet that has the field over one of its cells."""
        self._takes_when_left = True
        desk.navigator.may_leave = self._may_leave

    def commands(self) -> Iterable[Command]:
        for key, large, label, help in (
            ("e", False, "edit", "edit the cell in place"),
            ("E", True, "full editor", "edit the value in a full editor"),
        ):
            yield Command(
                "cell.edit" if not large else "cell.edit_large",
                label,
                help,
                "Editing",
                partial(self._edit, large=large),
                (key,),
                contexts=RECORDS,
                refusal=_refusal,
                footer_rank=_edit_rank if not large else lambda _: 0,
                task="edit",
                holds_keys=True,
            )
        yield Command(
            "cell.take",
            "accept",
            "accept what is typed",
            _GROUP,
            self._take_typed,
            keys_text="Enter",
            contexts=EDITING,
            footer_rank=lambda _: 99,
            task="edit",
            holds_keys=True,
        )
        yield Command(
            "cell.leave",
            "cancel",
            "leave the cell unchanged",
            _GROUP,
            self._leave,
            ("escape",),
            contexts=EDITING,
            footer_rank=lambda _: 98,
        )
        yield from self._ways()

    def _ways(self) -> Iterable[Command]:
        """The ways to give a cell a value other than by typing."""
        ways: tuple[tuple[str, str, str, str, Callable[[], Awaitable[None]]], ...] = (
            ("null", "ctrl+n", "NULL", "NULL", partial(self._take_way, "NULL")),
            ("empty", "ctrl+y", "empty text", "empty text", partial(self._take_way, "EMPTY")),
            ("default", "ctrl+l", "default", "the default", partial(self._take_way, "DEFAULT")),
            ("now", "ctrl+t", "now", "the current time", partial(self._take_way, "NOW")),
            ("pick", "ctrl+g", "pick", "pick the record it points to", self._pick),
            (
                "as_typed",
                "ctrl+r",
                "as typed",
                "as typed, although it does not fit the type",
                partial(self._take_way, "AS_TYPED"),
            ),
            ("large", "f2", "full editor", "in a full editor", self._go_on_large),
            ("file", "ctrl+o", "from a file", "from a file, as a blob", self._take_from_file),
        )
        for rank, (id, key, label, help, run) in enumerate(ways):
            yield Command(
                f"cell.{id}",
                label,
                help,
                _GROUP,
                run,
                (key,),
                contexts=EDITING,
                footer_rank=lambda _, rank=97 - rank: rank,  # type: ignore[misc]
                task="edit",
                holds_keys=True,
            )

    def edited(self, record: ShownRecord) -> Mapping[str, Value]:
        drafts = self.desk.workspace.drafts_if_used
        if drafts is None or not self.desk.is_live(record.moment):
            return {}
        edit = drafts.edit_of(record.table, record.position)
        if edit is None:
            return {}
        return {name: clipped(value, CARD_VALUE_BYTES) for name, value in edit.values.items()}

    # Beginning

    async def _edit(self, *, large: bool) -> None:
        desk = self.desk
        table = await require_editable(desk)
        sheet = records_view(desk).sheet
        if sheet.current_new is not None:
            desk.run("record.fill_in")
            return
        in_card = desk.card.has_focus and desk.card.column
        column = table.column(in_card or sheet.column_name)
        position = sheet.current_position
        if column is None or not position or sheet.current_row is None:
            return
        if column.generated:
            desk.say(f"{safe_name(column.name)} is generated and cannot be edited")
            return
        edit = desk.workspace.drafts.edit_of(table, position)
        if edit is not None and edit.deleted:
            desk.say("the record is marked for deletion; Del unmarks it")
            return
        row = await desk.workspace.drafts.whole(table, position)
        if row is None:
            desk.say_problem("the record is no longer there")
            return
        if sheet.current_position == position:  # the app may have written meanwhile
            await self._open(EditedCell(table, position, row, column), large=large)

    async def _open(self, cell: EditedCell, *, large: bool) -> None:
        from jondel.core.draft.value_entry import as_entered

        value = self._value_now(cell)
        if isinstance(value, Clipped):
            self.desk.say_problem("the value is too large to edit here")
            return
        self._cell = cell
        self._takes_when_left = await takes_when_left(self.desk)
        text = as_entered(value)
        if large or "\n" in text or len(text) > _IN_PLACE_CHARACTERS:
            await self._edit_in_dialog(text)
            return
        pane = records_view(self.desk).pane
        editor = pane.field.open(text, partial(self.desk.run, "cell.take"), self._field_left)
        if editor is not None:
            self._pane = pane
            self.desk.focus(editor)
            self.desk.show_surroundings()

    def _value_now(self, cell: EditedCell) -> Value:
        """What the cell holds with the draft."""
        value = cell.row[cell.table.column_names.index(cell.column.name)]
        edit = self.desk.workspace.drafts.edit_of(cell.table, cell.position)
        return value if edit is None else edit.values.get(cell.column.name, value)

    @property
    def _editor(self) -> CellEditor | None:
        """The field over the cell, while there is one."""
        return self._pane.field.editor if self._pane is not None else None

    # Leaving the cell, in whatever way

    def _field_left(self) -> None:
        """The keys go elsewhere."""
        self._may_leave(False)

    def _may_leave(self, forced: bool) -> bool:
        """Take what is typed, or cancel it, by the project's setting; False where it cannot be
        taken, and the field stays. ``forced``: the cell is there no more."""
        editor, cell = self._editor, self._cell
        if editor is None or cell is None:
            return True
        from jondel.core.draft.value_entry import entered, require_storable, untouched

        text, before = editor.entered, self._value_now(cell)
        if not self._takes_when_left or isinstance(before, Clipped) or untouched(text, before):
            self._close()
            return True
        try:
            form = form_in(self.desk, cell.table, cell.column)
            value = entered(text, cell.table, cell.column, before, form)
            require_storable(value, cell.table, cell.column)
        except ValueUnsuitable as error:
            if forced:
                self._close()
                self.desk.say_problem(f"{error}; it was not accepted")
                return True
            self.desk.say_problem(f"{error}; Ctrl+R accepts it as typed, Escape cancels")
            self.desk.focus(editor)
            return False
        self._put_into_draft(cell, {cell.column.name: value})
        return True

    def record_shown(self, record: ShownRecord) -> None:
        cell, pane = self._cell, self._pane
        if self._editor is None or cell is None or pane is None or pane is not self._shown_pane:
            return
        at = pane.sheet.current_position
        if at and at != cell.position:
            gone = f"{safe_name(cell.table.id)}: the record that was edited was removed"
            draft = len(self.desk.workspace.drafts.draft)
            self._may_leave(True)
            taken = len(self.desk.workspace.drafts.draft) > draft
            self.desk.say_problem(f"{gone}{'; what was typed is in the draft' if taken else ''}")

    @property
    def _shown_pane(self) -> SheetPane | None:
        desk = self.desk
        return records_view(desk).pane if desk.navigator.view == "records" else None

    # Ending

    def _close(self) -> None:
        if self._pane is not None and self._pane.field.close():
            self._pane = None
            self.desk.message.hush()
            self.desk.show_surroundings()

    def _leave(self) -> None:
        self._close()
        self.desk.focus_view()

    async def _take_typed(self) -> None:
        from jondel.core.draft.value_entry import ValueEntry

        editor = self._editor
        if editor is not None:
            await self._take(ValueEntry(editor.entered))

    async def _take_way(self, way: str) -> None:
        from jondel.core.draft.value_entry import EntryWay, ValueEntry

        editor = self._editor
        if editor is not None:
            await self._take(ValueEntry(editor.entered, EntryWay[way]))

    async def _take(self, entry: ValueEntry) -> None:
        """Take what was entered for the cell being edited."""
        from jondel.core.draft.value_entry import EntryWay, untouched

        cell = self._cell
        if cell is None:
            return
        before = self._value_now(cell)
        typed = entry.way is EntryWay.TYPED and not isinstance(before, Clipped)
        if typed and not isinstance(before, Clipped) and untouched(entry.text, before):
            self._leave()
            return
        try:
            value = await entered_value(self.desk, cell.table, cell.column, entry, before)
        except ValueUnsuitable as error:
            self.desk.say_problem(f"{error}; Ctrl+R accepts it as typed")
            return
        self._set({cell.column.name: value})

    def _set(self, values: Mapping[str, StoredValue]) -> None:
        if self._cell is not None:
            self._put_into_draft(self._cell, values)
            self.desk.focus_view()

    def _put_into_draft(self, cell: EditedCell, values: Mapping[str, StoredValue]) -> None:
        self._cell = None
        self._close()
        self.desk.workspace.drafts.set_cells(cell.table, cell.position, cell.row, values)
        draft_changed(self.desk)

    # The full editor

    async def _go_on_large(self) -> None:
        editor = self._editor
        if editor is not None:
            text = editor.entered
            self._close()
            await self._edit_in_dialog(text)

    async def _edit_in_dialog(self, text: str) -> None:
        from jondel.core.browse.json_lines import parsed, problem_in
        from jondel.core.draft.value_entry import entered, untouched
        from jondel.tui.dialogs.values import ValueDialog

        cell = self._cell
        assert cell is not None, "set by whoever opens an editor"
        is_json = cell.column.type.use == "json" or parsed(text) is not None
        before = self._value_now(cell)
        stored = None if isinstance(before, Clipped) else before
        form = form_in(self.desk, cell.table, cell.column)

        def problem_of(typed: str) -> str:
            if untouched(typed, stored):
                return ""
            try:
                entered(typed, cell.table, cell.column, stored, form)
            except ValueUnsuitable as error:
                return str(error)
            return problem_in(typed) if is_json else ""

        title = f"{safe_name(cell.table.id)}.{safe_name(cell.column.name)}"
        strict = cell.table.strict
        entry = await self.desk.ask(
            ValueDialog(title, text, problem_of, json=is_json, force=not strict)
        )
        if entry is not None:
            await self._take(entry)

    # From a file

    async def _take_from_file(self) -> None:
        from jondel.core.draft.value_entry import require_storable
        from jondel.core.formats.raw_values import read_blob
        from jondel.tui.dialogs.entries import FileDialog

        cell = self._cell
        dialog = FileDialog("Take the value from a file, as a blob", "an existing file")
        path = await self.desk.ask(dialog)
        if not path or cell is None:
            return
        try:
            content = await asyncio.to_thread(read_blob, path)
        except OSError as error:
            self.desk.say_problem(f"{path}: cannot be read ({error.strerror or error})")
            return
        require_storable(content, cell.table, cell.column)
        self._set({cell.column.name: content})

    # A linked record as a value

    async def _pick(self) -> None:
        """Choose the record that a column is to point to."""
        from jondel.tui.dialogs.values import PickDialog

        desk, cell = self.desk, self._cell
        if cell is None:
            return
        schema = await desk.workspace.rows.schema(NOW)
        name = cell.column.name
        links = [
            link
            for link in desk.workspace.links.standing(schema)
            if link.child == cell.table.id and name in link.columns
        ]
        target = schema.find(links[0].parent) if links else None
        if target is None:
            desk.say_problem(f"{safe_name(name)} does not link to a table")
            return
        record = await desk.ask(PickDialog(target.id, self._search_in(target)))
        if record is not None:
            self._take_picked(links[0], record)

    def _take_picked(self, link: Link, record: LinkedRecord) -> None:
        values = dict(zip(record.table.column_names, record.row, strict=True))
        picked: dict[str, StoredValue] = {}
        for ours, theirs in zip(link.columns, link.parent_columns, strict=True):
            value = values.get(theirs)
            if isinstance(value, Clipped):
                return
            picked[ours] = value
        self._set(picked)

    def _search_in(self, target: Table) -> Callable[[str], Awaitable[list[LinkedRecord]]]:
        from jondel.core.browse.links import LinkedRecord
        from jondel.core.model.filters import Arrangement, WordsCondition

        async def search(words: str) -> list[LinkedRecord]:
            condition = WordsCondition(words) if words.strip() else None

            def work(database: Database) -> list[LinkedRecord]:
                if condition is None:
                    rows = database.rows.read_window(target, 0, _PICKED_FROM)
                else:
                    rows = database.finder.first_rows(target, Arrangement(condition), _PICKED_FROM)
                pairs = zip(rows.positions, rows.rows, strict=True)
                return [LinkedRecord(target, position, row) for position, row in pairs]

            return await self.desk.workspace.rows.ask(NOW, work)

        return search


def _refusal(situation: Situation) -> str:
    return editing_refusal(situation) or ("" if situation.has_record else "no record is selected")


def _edit_rank(situation: Situation) -> int:
    return 65 if situation.view == "records" else 0
