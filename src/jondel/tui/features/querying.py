"""Statements: run, tried out, written for real, kept on the tape."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import TYPE_CHECKING

from jondel.tui.frame.commands import BOX, Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.views.query.access import query_view

if TYPE_CHECKING:
    from jondel.core.model.values import StoredValue
    from jondel.core.query.scripts import Script
    from jondel.tui.views.query.view import QueryView

_TAPE = frozenset({"query"})
_IN_BOX = frozenset({BOX})
_BOTH = _TAPE | _IN_BOX
_GROUP = "Query"


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

        known = await self.desk.workspace.query.values_given()
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

    async def _run(self) -> None:
        text, _ = self._view.box.chosen_text()
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
        words = "are enforced" if enforced else "are not enforced"
        self.desk.say(f"foreign keys {words} for statements that write; kept in {file}")


def _needs_writing(situation: Situation) -> str:
    return "read-only: Ctrl+R changes that" if situation.read_only else ""
