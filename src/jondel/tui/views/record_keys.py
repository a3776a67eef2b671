"""Fixing records: adding, duplicating and deleting them, setting a column in many."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.errors import JondelError
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue
from jondel.tui.views.editing_keys import EditingKeys

if TYPE_CHECKING:
    pass

_CONFIRMED_LINES = 40


class RecordKeys(EditingKeys):
    """Adds the keys that add and remove records; what they do goes into the draft."""

    BINDINGS = [
        Binding("I", "insert", "a new record"),
        Binding("P", "duplicate", "a new record like this one"),
        Binding("delete", "delete", "delete the record or the chosen ones; again, keep them"),
        Binding("A", "set_all", "set this column in all rows of the sheet"),
    ]

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
            position, new = self._sheet.current_position, self._sheet.current_new
            if table is None:
                return
            key = set(table.primary_key)
            if new is not None:
                known = self._new_values(new)
                self._fill_in(table, None, {n: v for n, v in known.items() if n not in key})
                return
            if not position:
                return
            row = await self._desk.whole(table, position)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if row is None:
            return
        values: dict[str, StoredValue] = {}
        edited = self._edited_cells(table, position)
        for column, value in zip(table.columns, row, strict=True):
            value = edited.get(column.name, value)
            # The key is the old one's; the engine numbers the new one, or a person gives it one.
            if not column.generated and column.name not in key and not isinstance(value, Clipped):
                values[column.name] = value
        self._fill_in(table, None, values)

    def _new_values(self, number: int) -> dict[str, StoredValue]:
        """What a new record of the draft has been given."""
        from jondel.core.draft.draft import NewRecord

        known = self._desk.draft.get(number)
        return dict(known.values) if isinstance(known, NewRecord) else {}

    def _fill_in(
        self, table: Table, number: int | None, values: dict[str, StoredValue] | None = None
    ) -> None:
        """Open the panel of a new record; ``number`` is that of one in the draft already."""
        from jondel.tui.views.entry_panels import RecordPanel

        if number is not None:
            values = self._new_values(number)

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
        from jondel.tui.views.entry_panels import EntryPanel

        if count > MOST_SET_AT_ONCE:
            most = grouped(MOST_SET_AT_ONCE)
            self._message.say(
                f"{grouped(count)} rows are too many for a draft, {most} at most: filter further",
                problem=True,
            )
            return

        def take(typed: str | None) -> None:
            if typed == "":
                self._message.say("nothing was typed: Ctrl+N gives NULL, Ctrl+Y empty text")
            elif typed is not None and table is not None and column is not None:
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
