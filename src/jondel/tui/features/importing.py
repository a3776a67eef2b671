"""Files of rows: looked into, matched with a table, tried out, imported."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from jondel.core.browse.display import grouped, line
from jondel.tui.frame.commands import Command
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.place import Place
from jondel.tui.services.progress import now_and_then
from jondel.tui.views.query.access import go_to_query

if TYPE_CHECKING:
    from jondel.core.imports.plan import ImportPlan
    from jondel.core.imports.preview import Sample
    from jondel.core.imports.source import SourceOptions
    from jondel.core.model.schema import Schema

_MOST_FILES = 2_000


class Importing(Feature):
    """Into a table that is there, or one that is made."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "import",
            "import",
            "import a file of rows (CSV, JSON, JSON lines, XLSX) into a table, or a new one",
            "Query",
            self._import,
            ("G",),
            task="query-run",
            holds_keys=True,
        )

    async def _import(self) -> None:
        from jondel.tui.dialogs.importing import ImportDialog

        desk = self.desk
        path = await self._chosen_file()
        if path is None:
            return
        with desk.busy(f"looking into {line(path.name, 40)}"):
            sample = await self._look(path, None)
            schema = await desk.workspace.rows.schema(desk.place.moment)
        dialect = desk.workspace.rows.dialect(desk.place.moment)
        plan = self._first_plan(sample, schema)
        again = partial(self._look, path)
        wish = await desk.ask(ImportDialog(sample, plan, schema, dialect, again))
        if wish is None:
            return
        if wish.how == "draft":
            await self._to_draft(wish.plan)
        else:
            await self._run(wish.plan, for_real=wish.how == "write")

    async def _chosen_file(self) -> Path | None:
        from jondel.core.engines.finder import files_in
        from jondel.core.imports.source import IMPORT_ENDINGS
        from jondel.core.trail.project import Project
        from jondel.tui.dialogs.choice import ChoiceDialog

        root = Project(self.desk.workspace.location).root
        endings = tuple(f".{ending}" for ending in IMPORT_ENDINGS)
        paths = await asyncio.to_thread(files_in, root, endings)
        names = [str(path.relative_to(root)) for path in paths[:_MOST_FILES]]
        dialog = ChoiceDialog(
            f"Import which file of {root}?", names, new="takes the path as it is typed"
        )
        chosen = await self.desk.ask(dialog)
        if isinstance(chosen, int):
            return paths[chosen]
        return _typed_path(root, chosen) if chosen is not None else None

    async def _look(self, path: Path, options: SourceOptions | None) -> Sample:
        from jondel.core.imports.preview import sample_of
        from jondel.core.imports.source import AS_FOUND

        return await asyncio.to_thread(sample_of, path, options or AS_FOUND)

    def _first_plan(self, sample: Sample, schema: Schema) -> ImportPlan:
        """The table named as the file is, else one that its columns fit, else a new one."""
        from jondel.core.imports.destination import (
            new_table_id,
            plan_for_new,
            plan_for_table,
            table_like,
            table_that_fits,
        )

        desk, source = self.desk, sample.source
        table = table_like(source.path.stem.removesuffix(".rejected"), schema)
        seen = schema.find(desk.place.table) if desk.place.table is not None else None
        if table is None:
            table = table_that_fits(source.columns, schema, seen)
        if table is not None:
            return plan_for_table(sample, table)
        dialect = desk.workspace.rows.dialect(desk.place.moment)
        return plan_for_new(sample, new_table_id(source.path.stem, schema, dialect), dialect)

    async def _run(self, plan: ImportPlan, *, for_real: bool) -> None:
        from jondel.core.imports.destination import require_writable
        from jondel.core.imports.work import ImportWork
        from jondel.tui.features.confirming import confirm

        desk = self.desk
        rows = desk.workspace.rows
        table = (await rows.schema(desk.place.moment)).find(plan.table)
        if table is not None:
            await rows.ask(desk.place.moment, lambda database: require_writable(database, table))
        if for_real:
            desk.workspace.writing.require_allowed()
            if not desk.is_at_now:
                desk.say("a step never changes: n goes to now; Ctrl+G tries it out here")
                return
            lines = (
                "all of its rows, in one transaction: others who write wait until it is done.",
                "It becomes a step. Rows that are not taken go to a file of their own.",
            )
            if not await confirm(desk, f"{_begun(plan.words)}?", lines, "imports it"):
                return
        view = await go_to_query(desk)
        words = "importing" if for_real else "trying it out; nothing is written"

        def progress(count: int) -> None:
            view.say_running(f"{words} … {grouped(count)} rows so far")

        work = ImportWork(plan, rows.dialect(desk.place.moment), now_and_then(progress))
        await view.do(work, f"{words} …", for_real=for_real)

    async def _to_draft(self, plan: ImportPlan) -> None:
        from jondel.core.imports.drafted import drafted_records
        from jondel.core.imports.rejects import rejects_beside
        from jondel.core.imports.work import rejected_words
        from jondel.tui.features.editing import draft_changed, require_table_editable

        desk = self.desk
        table = (await desk.workspace.rows.schema(desk.place.moment)).by_id[plan.table]
        await require_table_editable(desk, table)
        with rejects_beside(plan.path) as kept:
            with desk.busy("reading the file"):
                records = await asyncio.to_thread(drafted_records, plan, kept.rejects)
            rejected = kept.keep()
        draft = desk.workspace.drafts.draft
        with draft.one_edit():
            for values in records:
                draft.insert(table.id, values)
        desk.navigator.go(Place(table=table.id), view="records", afresh=True, focus=True)
        draft_changed(desk)
        count = f"{grouped(len(records))} record{'' if len(records) == 1 else 's'}"
        more = f"; {rejected_words(rejected)[-1]}" if rejected.rows else ""
        desk.say(f"{count} of {plan.path.name} are in the draft: W writes them{more}")


def _typed_path(root: Path, text: str) -> Path:
    return root / Path(text).expanduser()


def _begun(words: str) -> str:
    return words[:1].upper() + words[1:]
