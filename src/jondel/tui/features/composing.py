"""What is brought into the box from elsewhere: a new table's statement, the app's own SQL."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.browse.display import grouped
from jondel.tui.frame.commands import Command
from jondel.tui.frame.feature import Feature
from jondel.tui.services.moments import origin_of
from jondel.tui.services.progress import now_and_then
from jondel.tui.views.query.access import go_to_query, query_view
from jondel.tui.views.records.access import records_view

_GROUP = "Query"


class Composing(Feature):
    """Nothing of it is run until the person does."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "query.new_table",
            "new table",
            "put a new table together; its CREATE TABLE goes into the query's box",
            _GROUP,
            self._new_table,
            ("ctrl+t",),
            holds_keys=True,
        )
        yield Command(
            "query.name",
            "its name",
            "take the name of the table in the list, or of the column, into the query's box",
            _GROUP,
            self._take_name,
            ("insert",),
        )
        yield Command(
            "query.check_source",
            "the app's SQL",
            "check the SQL in the project's source against the schema, without running any of it",
            _GROUP,
            self._check_source,
            ("f12",),
        )

    async def _new_table(self) -> None:
        from jondel.tui.dialogs.new_table import NewTableDialog

        desk = self.desk
        moment = origin_of(desk.place.moment)
        schema = await desk.workspace.rows.schema(moment)
        sql = await desk.ask(NewTableDialog(schema, desk.workspace.rows.dialect(moment)))
        if sql is not None:
            view = await go_to_query(desk)
            view.bring(sql, beside=True)

    async def _take_name(self) -> None:
        desk = self.desk
        name = self._name_here()
        if not name:
            desk.say("there is no name here; in the list of tables, the card and a sheet there is")
            return
        keys_stay = desk.focused if desk.navigator.view == "query" else None
        (await go_to_query(desk)).insert(name)
        if keys_stay is None:
            desk.focus(query_view(desk).box)
        desk.say(f"{name} is in the box")

    def _name_here(self) -> str:
        """What the keys are on, as SQL names it; empty where that has no name."""
        from jondel.core.query.change_statements import table_name
        from jondel.core.sql.completion import name_in_sql

        desk = self.desk
        dialect = desk.workspace.query.dialect(origin_of(desk.place.moment))
        if desk.table_list_has_focus:
            return table_name(desk.place.table, dialect) if desk.place.table is not None else ""
        column = desk.card.column if desk.focused is desk.card else ""
        if not column and desk.navigator.view == "records":
            column = records_view(desk).sheet.column_name
        if not column and desk.navigator.view == "query":
            block = query_view(desk).current
            sheet = block.sheet if block is not None else None
            column = sheet.column_name if sheet is not None and sheet.has_focus else ""
        return name_in_sql(column, dialect) if column else ""

    async def _check_source(self) -> None:
        from jondel.core.trail.project import Project
        from jondel.tui.dialogs.source_check import SourceDialog

        desk = self.desk
        root = Project(desk.workspace.location).root

        def say(files: int) -> None:
            desk.say(f"checking the source: {grouped(files)} files; Escape stops it")

        with desk.busy("checking the source"):
            report = await desk.workspace.query_help.check_sources(
                root, origin_of(desk.place.moment), now_and_then(say)
            )
        problem = await desk.ask(SourceDialog(root, report))
        if problem is not None:
            view = await go_to_query(desk)
            view.bring(problem.sql, beside=True)
            desk.say(f"{problem.file}:{problem.line}: {problem.words}")
