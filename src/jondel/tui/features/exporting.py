"""Writing what is seen to a file: a sheet, tables, the rows of a statement, changes."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from jondel.core.browse.display import grouped, line
from jondel.core.browse.link_tree import record_words
from jondel.tui.features.confirming import confirm
from jondel.tui.frame.commands import Command
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.view import ShownRecord
from jondel.tui.services.moments import AtResult, AtStep, Now, OtherDatabase, origin_of
from jondel.tui.services.progress import now_and_then
from jondel.tui.views.query.access import query_view
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.exports.tables import Exported, TableExport
    from jondel.core.formats.row_writers import RowForm
    from jondel.core.model.schema import Table
    from jondel.tui.services.moments import Moment

_Write: TypeAlias = "Callable[[Path, RowForm, bool, Callable[[int], None]], Awaitable[Exported]]"


class _Offer(NamedTuple):
    """Something that can be written to a file."""

    words: str
    stem: str
    """How the name of the file begins."""
    write: _Write | None = None
    """None where it is chosen first what of it is written."""
    what: str = "row"
    choices: Sequence[Table] = ()
    """Tables of which some are chosen first."""
    record: ShownRecord | None = None
    """A record of which it is chosen first what comes along."""


class Exporting(Feature):
    """The file is there, and complete, or nothing of it is."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "export",
            "export",
            "write the sheet, tables, an entry's rows or the changes to a file: CSV, JSON, XLSX, "
            "SQL and others",
            "Query",
            self._export,
            ("D",),
            holds_keys=True,
        )

    async def _export(self) -> None:
        from jondel.core.exports.results_out import HOLD_SEVERAL
        from jondel.tui.dialogs.exporting import ExportDialog

        offers = self._offers()
        if not offers:
            self.desk.say("there is nothing here to export")
            return
        wish = await self.desk.ask(ExportDialog([(o.words, o.stem) for o in offers]))
        if wish is None:
            return
        offer, path = offers[wish.place], self._path(wish.path)
        if offer.choices:
            exports = await self._chosen(offer.choices)
            if not exports:
                return
            if len(exports) > 1 and wish.form not in HOLD_SEVERAL:
                path = path.with_suffix("")  # a folder of files
            moment = origin_of(self.desk.place.moment)
            offer = offer._replace(write=partial(self._tables, moment, exports))
        if offer.record is not None:
            if wish.form not in ("sql", "json"):
                self.desk.say("a record with all that it needs is written as SQL or JSON")
                return
            write = await self._set_of(offer.record)
            if write is None:
                return
            offer = offer._replace(write=write)
        if not await self._may_be_written(path):
            return
        assert offer.write is not None, "what is written is known by now"
        # The keys are free again while it is written.
        write = partial(offer.write, path, wish.form, wish.with_table)
        work = partial(self._write, write, offer.what, path)
        self.desk.start(work, "export", beside=True)

    async def _set_of(self, shown: ShownRecord) -> _Write | None:
        """Ask what comes along with a record; what writes that then."""
        from jondel.core.browse.links import LinkedRecord
        from jondel.tui.dialogs.record_set import RecordSetDialog

        desk, moment = self.desk, shown.moment
        schema = await desk.workspace.rows.schema(moment)
        standing = desk.workspace.links.standing(schema)
        links = [link for link, how in standing.items() if how != "guessed"]
        record = LinkedRecord(shown.table, shown.position, shown.row)
        gather = partial(desk.workspace.exporting.record_set, moment, record, links)
        with desk.busy("gathering records"):
            first = await gather(frozenset())
        title = f"{shown.table.title} {record_words(record)}, with all that it needs"
        found = await desk.ask(RecordSetDialog(title, shown.table.id, first, gather))
        if found is None:
            return None

        async def write(
            path: Path, form: RowForm, with_table: bool, progress: Callable[[int], None]
        ) -> Exported:
            return await desk.workspace.exporting.write_set(found, path, form)

        return write

    async def _chosen(self, tables: Sequence[Table]) -> list[TableExport]:
        from jondel.core.exports.tables import TableExport
        from jondel.tui.dialogs.exporting import TablesDialog

        chosen = await self.desk.ask(TablesDialog([str(table.id) for table in tables]))
        return [TableExport.whole(tables[place]) for place in chosen or ()]

    async def _may_be_written(self, path: Path) -> bool:
        """Whether nothing is there that would be replaced, or that is meant to be."""
        name = line(path.name, 60)
        if await asyncio.to_thread(path.is_file):
            return await confirm(self.desk, f"Replace {name}?", (str(path),), "replaces it")
        if await asyncio.to_thread(_holds_files, path):
            words = (f"{path} is there already; files of the same names are replaced.",)
            return await confirm(self.desk, f"Write into {name}?", words, "writes into it")
        return True

    def _path(self, text: str) -> Path:
        from jondel.core.trail.project import Project

        return Project(self.desk.workspace.location).root / Path(text).expanduser()

    async def _write(
        self, write: Callable[[Callable[[int], None]], Awaitable[Exported]], what: str, path: Path
    ) -> None:
        desk, going_on = self.desk, True

        def say(count: int) -> None:
            if going_on:
                desk.say(f"exporting: {grouped(count)} {what}s; Escape stops it")

        try:
            with desk.busy("exporting"):
                done = await write(now_and_then(say))
        except asyncio.CancelledError:
            if desk.app_is_here:
                desk.say(f"the export was stopped; {self._shown(path)} is as it was")
            raise
        finally:
            going_on = False
        count = f"{grouped(done.rows)} {what}{'' if done.rows == 1 else 's'}"
        files = f"{len(done.paths)} files in " if len(done.paths) > 1 else ""
        where = f"{files}{self._shown(path)}"
        drafts = desk.workspace.drafts_if_used
        drafted = drafts is not None and len(drafts.draft) and what == "row"
        notes = "".join(f"; {note}" for note in done.notes)
        notes += "; what is in the draft is not in it" if drafted else ""
        desk.say(f"{count} in {where}{notes}")

    def _shown(self, path: Path) -> str:
        """A path as it is seen from the project's folder."""
        from jondel.core.trail.project import Project

        root = Project(self.desk.workspace.location).root
        return line(str(path.relative_to(root) if path.is_relative_to(root) else path), 200)

    # What there is

    def _offers(self) -> list[_Offer]:
        offers = [*self._rows_offers()]
        if self.desk.navigator.view == "changes":
            return [*self._changes_offers(), *offers]
        return [*offers, *self._changes_offers()]

    def _rows_offers(self) -> list[_Offer]:
        desk = self.desk
        if desk.navigator.view == "query":
            block = query_view(desk).current
            if block is not None and block.entry.rows is not None:
                return [*self._entry_offer(), *self._table_offers()]
            return self._table_offers()
        return [*self._sheet_offer(), *self._table_offers()]

    def _sheet_offer(self) -> list[_Offer]:
        from jondel.core.browse.links import LinkedRecord
        from jondel.core.exports.tables import TableExport, file_stem

        desk = self.desk
        if desk.navigator.view != "records":
            return []
        pane = records_view(desk).pane
        table, moment = pane.table, pane.moment
        if table is None or pane.source is None or moment is None:
            return []
        columns = tuple(pane.sheet.shown_columns)
        arrangement = pane.state.arrangement
        export = TableExport(table, columns, arrangement)
        named = "the statement" if isinstance(moment, AtResult) else line(table.title, 40)
        filtered = "" if arrangement.condition is None else ", filtered"
        words = f"the sheet: {_rows(pane.sheet.rows)} of {named}{filtered}"
        stem = "result" if isinstance(moment, AtResult) else file_stem(table)
        offers = [_Offer(words, stem, partial(self._tables, moment, [export]))]
        shown = records_view(desk).shown
        if isinstance(shown, ShownRecord) and shown.is_row and not isinstance(moment, AtResult):
            name = record_words(LinkedRecord(shown.table, shown.position, shown.row))
            words = f"the record {line(name, 30)} with all that it needs …"
            offers.append(_Offer(words, f"{stem}-record", what="record", record=shown))
        return offers

    def _entry_offer(self) -> list[_Offer]:
        view = query_view(self.desk)
        block = view.current
        if block is None:
            return []
        moment = view.tape.rows_of(block)

        async def write(
            path: Path, form: RowForm, with_table: bool, progress: Callable[[int], None]
        ) -> Exported:
            from jondel.core.exports.tables import TableExport
            from jondel.core.query.results import RESULT

            schema = await self.desk.workspace.rows.schema(moment)
            export = TableExport.whole(schema.by_id[RESULT])
            return await self._tables(moment, [export], path, form, with_table, progress)

        more = "" if block.entry.complete else ", the first ones; A on it takes all"
        words = f"the entry: {_rows(block.entry.rows or 0)}{more}"
        return [_Offer(words, "result", write)]

    def _table_offers(self) -> list[_Offer]:
        from jondel.core.exports.tables import TableExport, file_stem

        desk = self.desk
        moment = origin_of(desk.place.moment)
        tables = [t for t in desk.state.tables if t.unreadable is None and not t.internal]
        table = desk.state.table(desk.place.table)
        offers = []
        if table is not None and not isinstance(desk.place.moment, AtResult):
            whole = [TableExport.whole(table)]
            words = f"the table {line(table.title, 40)}: all rows, all columns"
            offers.append(_Offer(words, file_stem(table), partial(self._tables, moment, whole)))
        if len(tables) > 1:
            words = f"several of the {len(tables)} tables …"
            offers.append(_Offer(words, "tables", choices=tables))
        return offers

    def _changes_offers(self) -> list[_Offer]:
        desk = self.desk
        place, trail = desk.place, desk.workspace.trail
        end = origin_of(place.moment)
        if isinstance(place.compare_from, AtStep):
            start = place.compare_from
        elif isinstance(place.compare_from, OtherDatabase):
            return []
        elif isinstance(end, Now):
            if trail.last is None:
                return []
            start = AtStep(trail.last.number)
        else:
            step = trail.step_at(end)
            if step.before is None:
                return []
            start = AtStep(step.before.number)
        named = "now" if isinstance(end, Now) else f"s{end.number}"  # type: ignore[union-attr]
        words = f"the changes from s{start.number} to {named}"

        async def write(
            path: Path, form: RowForm, with_table: bool, progress: Callable[[int], None]
        ) -> Exported:
            return await desk.workspace.exporting.changes(start, end, path, form, progress)

        return [_Offer(words, "changes", write, "record")]

    # Writing it

    async def _tables(
        self,
        moment: Moment,
        exports: list[TableExport],
        path: Path,
        form: RowForm,
        with_table: bool,
        progress: Callable[[int], None],
    ) -> Exported:
        return await self.desk.workspace.exporting.tables(
            moment, exports, path, form, progress, with_table=with_table
        )


def _rows(count: int) -> str:
    return f"{grouped(count)} row{'' if count == 1 else 's'}"


def _holds_files(path: Path) -> bool:
    return path.is_dir() and any(path.iterdir())
