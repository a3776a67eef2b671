"""Copying a cell, a row, a record, chosen rows, all rows; a change."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Awaitable, Callable, Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.browse.windows import rows_of
from jondel.core.errors import ReadError
from jondel.core.model.changes import ChangeCounts, Changes
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.sizes import size_text
from jondel.core.model.values import Clipped, StoredValue, Value
from jondel.tui.frame.commands import CHANGES, RECORDS, Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.view import ShownRecord
from jondel.tui.views.changes.access import current_change
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.engines.protocol import Database
    from jondel.core.formats.copied_rows import CopyForm

_WHOLE_BYTES = 64 * 1024 * 1024
_MOST_ROWS = 50_000
_MOST_CLIPBOARD_BYTES = 74_000
"""What a terminal takes at once by a control sequence (OSC 52), before it is encoded."""
_TERMINALS_WITHOUT_CLIPBOARD = ("", "dumb", "linux", "vt100", "vt220")


class _Offer(NamedTuple):
    """Something that can be copied: how it is called, and how it is written in a form."""

    kind: str
    words: str
    name: str
    """For the name of a file."""
    text: Callable[[CopyForm], Awaitable[str]]


class Copying(Feature):
    """Goes to the terminal's clipboard, or to a file where that cannot take it."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "copy",
            "copy",
            "copy the cell, the row, the record, the chosen rows, as text, CSV, JSON or Markdown",
            "The sheet",
            self._ask,
            ("C",),
            contexts=RECORDS | CHANGES,
            refusal=_needs_record,
            holds_keys=True,
        )
        whats = {"cell": "the cell", "record": "the record", "rows": "the rows shown or chosen"}
        forms = {"TEXT": "text", "CSV": "CSV", "JSON": "JSON", "MARKDOWN": "Markdown"}
        for what, words in whats.items():
            for form, called in forms.items():
                yield Command(
                    f"copy.{what}.{form.lower()}",
                    "copy",
                    f"copy {words} as {called}",
                    "Copying by name",
                    partial(self._copy_by_name, what, form),
                    keys_text="C",
                    contexts=RECORDS,
                    refusal=_needs_record,
                )

    # What there is to copy

    async def _ask(self) -> None:
        """Ask what to copy, and in which form."""
        from jondel.tui.dialogs.copy import CopyDialog

        offers = self._offers()
        wish = await self.desk.ask(CopyDialog([offer.words for offer in offers]))
        if wish is not None:
            await self._copy(offers[wish.place], wish.form, to_file=wish.to_file)

    async def _copy_by_name(self, what: str, form: str) -> None:
        from jondel.core.formats.copied_rows import CopyForm

        offer = next((offer for offer in self._record_offers() if offer.kind == what), None)
        if offer is not None:
            await self._copy(offer, CopyForm[form])

    def _offers(self) -> list[_Offer]:
        if self.desk.navigator.view == "changes":
            return self._change_offers()
        return self._record_offers()

    def _record_offers(self) -> list[_Offer]:
        view = records_view(self.desk)
        sheet, table, shown = view.sheet, view.pane.table, view.shown
        if table is None or not isinstance(shown, ShownRecord):
            return []
        name = safe_name(table.id)
        field = self.desk.card.column if self.desk.focused is self.desk.card else ""
        column = field or sheet.column_name
        columns = sheet.shown_columns
        cell_words = f"the cell: {line(column, 40)}"
        offers = [
            _Offer("cell", cell_words, column, partial(self._cell, shown, column)),
            _Offer(
                "row", "the row, as the sheet shows it", name, partial(self._row, shown, columns)
            ),
            _Offer("record", "the record, all columns", name, partial(self._record, shown)),
        ]
        chosen = sorted(sheet.chosen, key=_by_size)
        if chosen:
            words = f"{grouped(len(chosen))} chosen row{'' if len(chosen) == 1 else 's'}"
            rows = partial(self._chosen, shown, columns, chosen)
            return [_Offer("rows", words, name, rows), *offers]
        words = f"all {grouped(sheet.rows)} rows of the sheet"
        return [*offers, _Offer("rows", words, name, partial(self._all, shown, columns))]

    async def _cell(self, shown: ShownRecord, column: str, form: CopyForm) -> str:
        from jondel.core.formats.copied_rows import cell_as

        row = await self._whole(shown)
        return cell_as(row[shown.table.column_names.index(column)], column, form)

    async def _row(self, shown: ShownRecord, columns: Sequence[str], form: CopyForm) -> str:
        from jondel.core.formats.copied_rows import rows_as

        return rows_as(columns, [_of_columns(shown.table, await self._whole(shown), columns)], form)

    async def _record(self, shown: ShownRecord, form: CopyForm) -> str:
        from jondel.core.formats.copied_rows import record_as

        return record_as(shown.table.column_names, await self._whole(shown), form)

    async def _chosen(
        self,
        shown: ShownRecord,
        columns: Sequence[str],
        positions: Sequence[Position],
        form: CopyForm,
    ) -> str:
        from jondel.core.formats.copied_rows import rows_as

        table = shown.table

        def work(database: Database) -> list[Sequence[StoredValue]]:
            found = (database.rows.read_record(table, p, _WHOLE_BYTES) for p in positions)
            rows = zip(positions, found, strict=True)
            return [self._drafted(table, p, _stored(table, r)) for p, r in rows if r is not None]

        rows = await self.desk.workspace.rows.ask(shown.moment, work)
        return rows_as(columns, [_of_columns(table, row, columns) for row in rows], form)

    async def _all(self, shown: ShownRecord, columns: Sequence[str], form: CopyForm) -> str:
        from jondel.core.formats.copied_rows import rows_as

        table, arrangement = shown.table, records_view(self.desk).pane.state.arrangement

        def work(database: Database) -> list[Sequence[StoredValue]]:
            order = database.finder.arrange(table, arrangement)
            if order.rows > _MOST_ROWS:
                raise ReadError(
                    f"{grouped(order.rows)} rows are too many to copy (at most "
                    f"{grouped(_MOST_ROWS)}); narrow the filter"
                )
            rows: list[Sequence[StoredValue]] = []
            for position, row in rows_of(database, table, order):
                if not row:
                    continue  # it went since the order was made
                whole = row
                if position and any(isinstance(value, Clipped) for value in row):
                    whole = database.rows.read_record(table, position, _WHOLE_BYTES) or row
                rows.append(self._drafted(table, position, _stored(table, whole)))
            return rows

        rows = await self.desk.workspace.rows.ask(shown.moment, work)
        return rows_as(columns, [_of_columns(table, row, columns) for row in rows], form)

    async def _whole(self, shown: ShownRecord) -> Sequence[StoredValue]:
        """The current record with all its values, and what the draft makes of them."""
        row = shown.row
        if shown.is_row and shown.position and any(isinstance(value, Clipped) for value in row):
            rows = self.desk.workspace.rows
            whole = await rows.record(shown.moment, shown.table, shown.position, _WHOLE_BYTES)
            row = whole if whole is not None else row
        return self._drafted(shown.table, shown.position, _stored(shown.table, row))

    def _drafted(
        self, table: Table, position: Position, row: Sequence[StoredValue]
    ) -> Sequence[StoredValue]:
        drafts = self.desk.workspace.drafts_if_used
        edit = drafts.edit_of(table, position) if drafts is not None and position else None
        if edit is None or not self.desk.is_at_now:
            return row
        names = table.column_names
        return [edit.values.get(name, value) for name, value in zip(names, row, strict=True)]

    def _change_offers(self) -> list[_Offer]:
        current, changes = current_change(self.desk), self.desk.state.changes
        offers = []
        if current is not None:
            counts = ChangeCounts().counted(current.record.kind)
            alone = current.table._replace(records=(current.record,), counts=counts)
            name = safe_name(current.table.table)
            told = partial(_told, Changes((alone,)))
            offers.append(_Offer("change", "the change of this record", name, told))
        if changes is not None:
            total = changes.counts.total
            words = f"all {grouped(total)} changes" if total != 1 else "the one change there is"
            offers.append(_Offer("changes", words, "changes", partial(_told, changes)))
        return offers

    # Where it goes

    async def _copy(self, offer: _Offer, form: CopyForm, *, to_file: bool = False) -> None:
        from jondel.core.files.copies import write_copy

        desk = self.desk
        with desk.busy("copying"):
            text = await offer.text(form)
        raw = text.encode("utf-8", "surrogateescape")
        what = f"{offer.words} as {form.words}, {size_text(len(raw))}"
        reason = ""
        if os.environ.get("TERM", "") in _TERMINALS_WITHOUT_CLIPBOARD:
            reason = "this terminal has no clipboard"
        elif len(raw) > _MOST_CLIPBOARD_BYTES:
            reason = "too long for the terminal's clipboard"
        if to_file or reason:
            path = await asyncio.to_thread(write_copy, offer.name, form.value, text)
            why = f" ({reason})" if reason and not to_file else ""
            desk.say(f"copied to a file{why}: {path}: {what}")
        else:
            desk.copy(raw.decode("utf-8", "replace"))
            desk.say(f"copied {what} to the terminal's clipboard (C then f writes a file instead)")


async def _told(changes: Changes, form: CopyForm) -> str:
    """Changes as text; they have no form in CSV."""
    from jondel.core.formats.changes_markdown import change_markdown
    from jondel.core.formats.changes_text import change_lines
    from jondel.core.formats.copied_rows import CopyForm, changes_as_json

    if form is CopyForm.JSON:
        return changes_as_json(changes)
    lines = change_markdown(changes) if form is CopyForm.MARKDOWN else None
    return "\n".join(lines if lines is not None else change_lines(changes, whole=True))


def _stored(table: Table, row: Sequence[Value]) -> Sequence[StoredValue]:
    """The row, if all of it is at hand.

    Raises:
        ReadError: a value is too large to be copied.
    """
    for name, value in zip(table.column_names, row, strict=True):
        if isinstance(value, Clipped):
            raise ReadError(
                f"{table.title}.{name}: {size_text(value.size)} are too much to copy; "
                "b in the card saves the value to a file"
            )
    return row  # type: ignore[return-value]


def _of_columns(
    table: Table, row: Sequence[StoredValue], columns: Sequence[str]
) -> list[StoredValue]:
    return [row[table.column_names.index(name)] for name in columns]


def _by_size(position: Position) -> list[tuple[int, float, str]]:
    """Orders positions as most tables are ordered: numbers by size, then the others."""
    numbers = (int, float)
    return [(0, v, "") if isinstance(v, numbers) else (1, 0, repr(v)) for v in position]


def _needs_record(situation: Situation) -> str:
    return "" if situation.has_record else "there is no record here to copy"
