"""Statements: run, tried out, written for real, kept on the tape."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import TYPE_CHECKING

from jondel.tui.frame.commands import BOX, Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.views.query.access import go_to_query, query_view

if TYPE_CHECKING:
    from jondel.core.model.values import StoredValue
    from jondel.core.query.scripts import Script
    from jondel.tui.views.query.view import QueryView

_TAPE = frozenset({"query"})
_IN_BOX = frozenset({BOX})
_BOTH = _TAPE | _IN_BOX
_GROUP = "Query"
_MOST_SEARCHED = 2_000


class Querying(Feature):
    """What a person does in the query view."""

    def commands(self) -> Iterable[Command]:
        run = partial(Command, group=_GROUP, task="query-run")
        tape = partial(Command, group=_GROUP, contexts=_TAPE)
        yield run(
            id="query.run",
            label="run",
            help="run the statement at the cursor, or what is selected",
            run=self._run,
            keys=("ctrl+g",),
            contexts=_IN_BOX,
            footer_rank=lambda _: 90,
        )
        yield run(
            id="query.run_all",
            label="run all",
            help="run everything in the box",
            run=self._run_all,
            keys=("ctrl+l",),
            contexts=_IN_BOX,
            footer_rank=lambda _: 60,
        )
        yield run(
            id="query.write",
            label="write it",
            help="write for real what was tried out",
            run=self._write,
            keys=("ctrl+s",),
            contexts=_BOTH,
            refusal=_needs_writing,
            footer_rank=lambda s: 95 if s.tried_out else 0,
        )
        yield run(
            id="query.rehearse",
            label="trying out",
            help="try statements that write out first, or write at once",
            run=self._change_rehearsing,
            keys=("f9",),
            contexts=_BOTH,
        )
        yield run(
            id="query.foreign_keys",
            label="foreign keys",
            help="enforce foreign keys for statements that write, or not; kept with the project",
            run=self._change_foreign_keys,
            keys=("f8",),
            contexts=_BOTH,
        )
        yield tape(
            id="query.enter",
            label="unfold",
            help="unfold the entry; into its rows; then to a sheet of them alone",
            run=self._enter,
            keys=("enter",),
            footer_rank=lambda _: 85,
        )
        yield tape(
            id="query.again",
            label="run again",
            help="run the entry's statement again",
            run=self._again,
            keys=("ctrl+g",),
            footer_rank=lambda _: 80,
            task="query-run",
        )
        yield tape(
            id="query.all_rows",
            label="all rows",
            help="run the entry's statement again, for all of its rows",
            run=self._all_rows,
            keys=("A",),
            task="query-run",
        )
        yield tape(
            id="query.edit",
            label="edit",
            help="bring the entry's statement into the box",
            run=self._edit,
            keys=("e",),
            footer_rank=lambda _: 78,
        )
        yield run(
            id="query.files",
            label="files",
            help="open a file of statements of the project, or save what is in the box as one",
            run=self._files,
            keys=("f4",),
            contexts=_BOTH,
            footer_rank=lambda _: 42,
        )
        yield run(
            id="query.plan",
            label="plan",
            help="how the statement would be run, and the index that would serve it",
            run=self._plan,
            keys=("f5",),
            contexts=_BOTH,
            footer_rank=lambda _: 43,
        )
        yield run(
            id="query.measure",
            label="measured plan",
            help="run a statement that reads, for its plan with the times that it took",
            run=self._measure,
            keys=("f6",),
            contexts=_TAPE,
        )
        yield run(
            id="query.format",
            label="lay out",
            help="lay what is in the box out over lines",
            run=self._format,
            keys=("f2",),
            contexts=_IN_BOX,
            footer_rank=lambda _: 41,
        )
        yield Command(
            "query.bring",
            "to the box",
            "bring the statement behind the sheet, the change or the link into the query's box",
            _GROUP,
            self._bring,
            ("B",),
        )
        yield tape(
            id="query.search",
            label="search",
            help="search the tape for a statement",
            run=self._search,
            keys=("slash",),
            footer_rank=lambda _: 50,
        )
        yield tape(
            id="query.compare",
            label="compare",
            help="compare the entry's rows with those of an earlier run",
            run=self._compare,
            keys=("equals_sign",),
            footer_rank=lambda _: 46,
        )
        yield tape(
            id="query.copy",
            label="copy",
            help="copy the entry's statement: as SQL, or as code of a language",
            run=self._copy,
            keys=("C",),
            footer_rank=lambda _: 45,
        )
        yield tape(
            id="query.pin",
            label="pin",
            help="have the entry stay, or let it go like others",
            run=self._pin,
            keys=("p",),
            footer_rank=lambda _: 40,
        )
        yield tape(
            id="query.delete",
            label="delete",
            help="remove the entry",
            run=self._delete,
            keys=("delete",),
            footer_rank=lambda _: 30,
        )

    @property
    def _view(self) -> QueryView:
        view = query_view(self.desk)
        view.ask_values = self._ask_values
        return view

    async def _ask_values(self, script: Script) -> dict[str, StoredValue] | None:
        if not script.parameters:
            return {}
        from jondel.tui.dialogs.parameters import ParametersDialog

        known = await self.desk.workspace.query.tape.earlier_values()
        for name, value in query_view(self.desk).pasted_values.items():
            known[name] = [value, *known.get(name, [])]
        return await self.desk.ask(ParametersDialog(script.parameters, known))

    async def _enter(self) -> None:
        await self._view.enter()

    async def _again(self) -> None:
        await self._view.run_again()

    async def _all_rows(self) -> None:
        await self._view.run_again(limit=None)

    def _edit(self) -> None:
        self._view.edit()

    async def _pin(self) -> None:
        await self._view.pin_entry()

    async def _delete(self) -> None:
        await self._view.delete_entry()

    # Statements from elsewhere, and elsewhere

    async def _bring(self) -> None:
        from jondel.tui.features.bringing import statement_here

        text = await statement_here(self.desk)
        if not text:
            self.desk.say("there is no statement behind this; in Records and Changes there is")
            return
        (await go_to_query(self.desk)).bring(text, beside=True)

    async def _search(self) -> None:
        from jondel.tui.dialogs.choice import ChoiceDialog

        entries = list(reversed(await self.desk.workspace.query.tape.entries(_MOST_SEARCHED)))
        words = [
            f"{entry.asked_at.astimezone():%d %b %H:%M}  {' '.join(entry.sql.split())}"
            for entry in entries
        ]
        chosen = await self.desk.ask(ChoiceDialog("Find on the tape", words))
        if isinstance(chosen, int):
            await self._view.tape.go_to(entries[chosen])

    async def _compare(self) -> None:
        from jondel.tui.dialogs.choice import ChoiceDialog

        entries = self._view.tape.earlier_runs()
        if not entries:
            self.desk.say("there is no other entry with rows to compare this one with")
            return
        words = [
            f"{entry.asked_at.astimezone():%H:%M:%S}  {entry.moment or 'now'}  "
            f"{entry.rows} rows  {' '.join(entry.sql.split())}"
            for entry in entries
        ]
        chosen = await self.desk.ask(ChoiceDialog("Compare the rows with those of", words))
        if isinstance(chosen, int):
            await self._view.compare_with(entries[chosen])

    async def _copy(self) -> None:
        from jondel.core.query.as_code import CODE_FORMS
        from jondel.core.query.scripts import script_of
        from jondel.tui.dialogs.choice import ChoiceDialog

        view = self._view
        if view.current is None:
            return
        entry = view.current.entry
        script = script_of(entry.sql, view.dialect)
        query = self.desk.workspace.query
        statement = await query.statement_with_values(script, entry.parameters, view.moment)
        forms = [form.title for form in CODE_FORMS]
        chosen = await self.desk.ask(ChoiceDialog("Copy the statement as", forms))
        if isinstance(chosen, int):
            self.desk.copy(CODE_FORMS[chosen].write(statement, view.dialect))
            self.desk.say(f"copied: {CODE_FORMS[chosen].title}")

    async def _plan(self) -> None:
        await self._show_plan(measured=False)

    async def _measure(self) -> None:
        await self._show_plan(measured=True)

    async def _show_plan(self, *, measured: bool) -> None:
        from jondel.core.query.scripts import script_of
        from jondel.tui.dialogs.plan import PlanDialog

        view, block = self._view, self._view.current
        text = block.entry.sql if block is not None else view.box.chosen_text()
        script = script_of(text, view.dialect)
        if not script.pieces:
            self.desk.say("there is no statement here")
            return
        known = dict(block.entry.parameters) if block is not None else {}
        values = known or await self._ask_values(script)
        if values is None:
            return
        query = self.desk.workspace.query
        steps, tried = await query.plan(script, values, view.moment, measured=measured)
        sql = script.pieces[0].text
        is_measured = any(step.rows is not None for step in steps)
        note = "this engine does not measure its steps" if measured and not is_measured else ""
        index = await self.desk.ask(PlanDialog(sql, steps, tried, view.dialect, note))
        if index:
            view.bring(index, beside=True)

    def _format(self) -> None:
        from jondel.core.query.formatting import formatted

        box = self._view.box
        start, end = box.selected
        if start == end:
            start, end = 0, len(box.text)
        if box.text[start:end].strip():
            box.put(start, end, formatted(box.text[start:end], self._view.dialect))

    async def _files(self) -> None:
        from pathlib import Path

        from jondel.core.query.files import ScriptFile, read_script, scripts_in, write_script
        from jondel.core.trail.project import Project
        from jondel.tui.dialogs.choice import ChoiceDialog

        view, root = self._view, Project(self.desk.workspace.location).root
        paths = await self.desk.workspace.query.tape.aside(lambda: scripts_in(root))
        names = [str(path.relative_to(root)) for path in paths]
        name = str(view.file.path.relative_to(root)) if view.file is not None else ""
        dialog = ChoiceDialog(
            f"Files of statements in {root}", names, new="saves the box under this name", text=name
        )
        chosen = await self.desk.ask(dialog)
        if isinstance(chosen, int):
            view.open_file(read_script(paths[chosen]))
        elif chosen is not None:
            named = chosen if chosen.lower().endswith(".sql") else f"{chosen}.sql"
            path = Path(root, named)
            known = view.file if view.file is not None and view.file.path == path else None
            saved = write_script(known or ScriptFile(path, "", None), view.box.entered)
            view.saved_as(saved)
            self.desk.say(f"saved: {path}")

    async def _run(self) -> None:
        text = self._view.box.chosen_text()
        await self._view.run_text(text)

    async def _run_all(self) -> None:
        await self._view.run_text(self._view.box.entered)

    async def _write(self) -> None:
        await self._view.write_rehearsed()

    def _change_rehearsing(self) -> None:
        self._view.change_rehearsing()

    def _change_foreign_keys(self) -> None:
        query = self.desk.workspace.query
        enforced = not query.enforces_foreign_keys()
        file = query.enforce_foreign_keys(enforced)
        self._view.show_foreign_keys()
        words = "are enforced" if enforced else "are not enforced"
        self.desk.say(f"foreign keys {words} for statements that write; kept in {file}")


def _needs_writing(situation: Situation) -> str:
    return "read-only: Ctrl+R changes that" if situation.read_only else ""
