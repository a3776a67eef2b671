"""Fixing records: adding, duplicating and deleting them, setting a column in many."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.browse.display import grouped, safe_name
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue
from jondel.tui.features.confirming import confirm_plan
from jondel.tui.features.editing import (
    draft_changed,
    editing_refusal,
    entered_value,
    require_editable,
)
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.draft.value_entry import ValueEntry
    from jondel.core.model.filters import Arrangement


class Records(Feature):
    """What it does goes into the draft."""

    def commands(self) -> Iterable[Command]:
        for id, key, label, help, run in (
            ("insert", "I", "new record", "a new record", self._insert),
            ("duplicate", "P", "duplicate", "a new record like this one", self._duplicate),
            (
                "delete",
                "delete",
                "delete",
                "mark the record, or the selected ones, for deletion; again, unmark",
                self._delete,
            ),
            (
                "set_all",
                "A",
                "set in all",
                "set this column in all rows of the sheet",
                self._set_all,
            ),
        ):
            yield Command(
                f"record.{id}",
                label,
                help,
                "Editing",
                run,
                (key,),
                contexts=RECORDS,
                refusal=editing_refusal,
                task="edit",
                holds_keys=True,
            )
        yield Command(
            "record.fill_in",
            "fill in",
            "go on with a new record",
            "Editing",
            self._go_on,
            contexts=RECORDS,
            refusal=editing_refusal,
            task="fill-in",
            listed=False,
        )

    # New records

    async def _insert(self) -> None:
        """Fill in a new record."""
        await self._fill_in(await require_editable(self.desk), None, {})

    async def _go_on(self) -> None:
        """Go on filling in the new record that is the current row."""
        number = records_view(self.desk).sheet.current_new
        if number is not None:
            table = await require_editable(self.desk)
            await self._fill_in(table, number, self._values_of_new(number))

    async def _duplicate(self) -> None:
        """Fill in a new record, beginning with the values of the current one."""
        desk = self.desk
        table = await require_editable(desk)
        sheet = records_view(desk).sheet
        position, new = sheet.current_position, sheet.current_new
        key = set(table.primary_key)
        if new is not None:
            known = self._values_of_new(new)
            await self._fill_in(table, None, {n: v for n, v in known.items() if n not in key})
            return
        row = await desk.workspace.drafts.whole(table, position) if position else None
        if row is None:
            return
        edit = desk.workspace.drafts.edit_of(table, position)
        edited = edit.values if edit is not None else {}
        values: dict[str, StoredValue] = {}
        for column, stored in zip(table.columns, row, strict=True):
            value = edited.get(column.name, stored)
            # The key is the old one's; the engine numbers the new one, or a person gives it one.
            if not column.generated and column.name not in key and not isinstance(value, Clipped):
                values[column.name] = value
        await self._fill_in(table, None, values)

    def _values_of_new(self, number: int) -> dict[str, StoredValue]:
        """What a new record of the draft has been given."""
        from jondel.core.draft.draft import NewRecord

        known = self.desk.workspace.drafts.draft.get(number)
        return dict(known.values) if isinstance(known, NewRecord) else {}

    async def _fill_in(
        self, table: Table, number: int | None, values: Mapping[str, StoredValue]
    ) -> None:
        """Open the dialog of a new record; ``number`` is that of one in the draft already."""
        from jondel.tui.dialogs.values import RecordDialog

        desk, draft = self.desk, self.desk.workspace.drafts.draft

        async def enter(column: Column, entry: ValueEntry, before: StoredValue) -> StoredValue:
            return await entered_value(desk, table, column, entry, before)

        filled = await desk.ask(RecordDialog(table, dict(values), enter))
        if filled is None:
            return
        if number is None:
            number = draft.insert(table.id, filled)
        else:
            draft.change_new(number, filled)
        draft_changed(desk)
        sheet = records_view(desk).sheet
        sheet.call_after_refresh(sheet.go_to_new, number)

    # Deleting

    async def _delete(self) -> None:
        """Have the current record, or the chosen ones, deleted; or keep them after all."""
        desk = self.desk
        table = await require_editable(desk)
        drafts, sheet = desk.workspace.drafts, records_view(desk).sheet
        if sheet.current_new is not None:
            drafts.drop(sheet.current_new)
            draft_changed(desk)
            return
        positions = sorted(sheet.chosen, key=repr) or [sheet.current_position]
        edits = [drafts.edit_of(table, position) for position in positions if position]
        if edits and all(edit is not None and edit.deleted for edit in edits):
            with drafts.draft.one_edit():
                for position in positions:
                    drafts.draft.keep(table.id, position)
            draft_changed(desk)
            return
        doomed = []
        for position in positions:
            row = await drafts.whole(table, position) if position else None
            if position and row is not None:
                doomed.append((position, row))
        if doomed and await self._is_meant(table, doomed):
            self._take_deletions(table, doomed)

    async def _is_meant(self, table: Table, doomed: list[tuple[Position, ShownRow]]) -> bool:
        """Ask, where more than the one record goes."""
        from jondel.tui.widgets.listed_changes import MOST_LISTED

        planned = await self.desk.workspace.drafts.plan_deletions(table, doomed, MOST_LISTED)
        cascaded = planned.plan.cascaded
        if len(doomed) == 1 and not cascaded:
            return True
        with_them = f" with {grouped(cascaded)} more" if cascaded else ""
        count = f"{grouped(len(doomed))} record{'' if len(doomed) == 1 else 's'}"
        title = f"Have {count} of {safe_name(table.id)} deleted{with_them}?"
        footnote = "Nothing is written until you press W."
        return await confirm_plan(self.desk, title, "takes it into the draft", planned, footnote)

    def _take_deletions(self, table: Table, doomed: list[tuple[Position, ShownRow]]) -> None:
        from jondel.core.draft.draft_plan import cells_of

        draft = self.desk.workspace.drafts.draft
        with draft.one_edit():
            for position, row in doomed:
                draft.delete(table.id, position, cells_of(table, row))
        records_view(self.desk).sheet.choose_none()
        draft_changed(self.desk)

    # A column in many records

    async def _set_all(self) -> None:
        """Set the current column in every row that the sheet shows."""
        from jondel.core.draft.value_entry import EntryWay
        from jondel.core.model.filters import Arrangement
        from jondel.tui.dialogs.values import EntryDialog
        from jondel.tui.services.drafts import MOST_SET_AT_ONCE

        desk = self.desk
        table = await require_editable(desk)
        column = table.column(records_view(desk).sheet.column_name)
        if column is None or column.generated:
            return
        arrangement = Arrangement(records_view(desk).pane.state.condition)
        count = await desk.workspace.drafts.count(table, arrangement)
        if count > MOST_SET_AT_ONCE:
            most = grouped(MOST_SET_AT_ONCE)
            too_many = f"{grouped(count)} rows are too many for a draft (at most {most})"
            desk.say_problem(f"{too_many}; narrow the filter")
            return
        which = "rows, which are all"
        if arrangement.condition is not None:
            which = "filtered rows"
        title = f"Set {safe_name(column.name)} in {grouped(count)} {which}"

        async def check(entry: ValueEntry) -> None:
            if entry.way is EntryWay.TYPED and not entry.text:
                raise ValueUnsuitable("type a value; Ctrl+N sets NULL, Ctrl+Y empty text")
            await entered_value(desk, table, column, entry)

        foot = "Nothing is written until you press W"
        entry = await desk.ask(EntryDialog(title, "", foot, check))
        if entry is None:
            return
        work = partial(self._set_column, table, column, arrangement, entry)
        desk.start(work, "set-all", beside=True)

    async def _set_column(
        self, table: Table, column: Column, arrangement: Arrangement, entry: ValueEntry
    ) -> None:
        desk = self.desk
        with desk.busy("collecting rows"):
            value = await entered_value(desk, table, column, entry)
            drafts = desk.workspace.drafts
            count = await drafts.set_column(table, arrangement, column.name, value)
        desk.say(f"{grouped(count)} rows changed in the draft; W writes it")
        draft_changed(desk)
