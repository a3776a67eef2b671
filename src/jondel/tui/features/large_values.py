"""Values too large for the sheet: read on in the card, saved to a file."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from functools import partial

from jondel.core.browse.display import safe_name
from jondel.core.errors import JondelError
from jondel.core.model.values import Clipped, ShownRow, Value
from jondel.tui.frame.commands import RECORDS, Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Reach
from jondel.tui.frame.view import ShownRecord
from jondel.tui.views.records.access import records_view

_READ_ON_BYTES = 16 * 1024 * 1024
_WHOLE_BYTES = 1 << 31


class LargeValues(Feature):
    """The sheet has only the beginnings of large values; the card has more of them."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._known: tuple[ShownRecord, ShownRow] | None = None
        """A record as the sheet has it, and as much of it as has been read."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "value.save",
            "save",
            "save the field's value to a file",
            "The card",
            self._save,
            ("b",),
            contexts=RECORDS,
            refusal=_needs_record,
        )
        yield Command(
            "value.read_on",
            "read on",
            "read on in a long value",
            "The card",
            self._read_on,
            contexts=RECORDS,
            refusal=_needs_record,
            reach=Reach.RECORD,
            listed=False,
        )

    def completed(self, record: ShownRecord) -> ShownRecord:
        if self._known is not None and self._known[0][:4] == record[:4]:
            return record._replace(row=self._known[1])
        return record

    def record_shown(self, record: ShownRecord) -> None:
        clipped = any(isinstance(value, Clipped) for value in record.row)
        known = self._known is not None and self._known[1] is record.row
        if clipped and record.is_row and record.position and not known:
            self.desk.start(partial(self._read, record), "large-values", Reach.RECORD)

    async def _read(self, record: ShownRecord) -> None:
        try:
            row = await self.desk.workspace.rows.record(
                record.moment, record.table, record.position
            )
        except JondelError:
            return  # the beginnings stay; what is wrong with the database is reported elsewhere
        self._take(record, row)

    def _take(self, record: ShownRecord, row: ShownRow | None) -> None:
        if row is not None:
            self._known = (record, row)
            self.desk.show_card()

    async def _read_on(self) -> None:
        """Read the record's large values as far as they can be shown."""
        record = records_view(self.desk).shown
        if not isinstance(record, ShownRecord) or not record.position:
            return
        row = await self.desk.workspace.rows.record(
            record.moment, record.table, record.position, _READ_ON_BYTES
        )
        self._take(record, row)
        if row is not None and any(isinstance(value, Clipped) for value in row):
            self.desk.say("too long to show in full; b saves it to a file")

    async def _save(self) -> None:
        """Ask for a file and write the field's whole value to it."""
        from jondel.tui.dialogs.entries import FileDialog

        record = records_view(self.desk).shown
        column = self.desk.card.column or records_view(self.desk).sheet.column_name
        if not isinstance(record, ShownRecord) or not record.position or not column:
            return
        path = await self.desk.ask(FileDialog(f"Save {safe_name(column)} to a file"))
        if path:
            work = partial(self._write, record, column, path)
            self.desk.start(work, "save-value", beside=True)

    async def _write(self, record: ShownRecord, column: str, path: str) -> None:
        from jondel.core.formats.raw_values import write_value

        row = await self.desk.workspace.rows.record(
            record.moment, record.table, record.position, _WHOLE_BYTES
        )
        value: Value = row[record.table.column_names.index(column)] if row is not None else None
        try:
            await asyncio.to_thread(write_value, path, value)
        except OSError as error:
            self.desk.say_problem(f"{path}: cannot be written ({error.strerror})")
        else:
            self.desk.say(f"saved to {path}")


def _needs_record(situation: Situation) -> str:
    return "" if situation.has_record else "no record is selected"
