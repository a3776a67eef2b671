"""The tape of the database that is open: its entries, and the rows that they keep."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TypeVar

from jondel.core.errors import JondelError
from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.model.outcomes import Outcome, ScriptOutcome
from jondel.core.model.values import StoredValue
from jondel.core.query.results import ResultFile
from jondel.core.query.tape import Entry, How, Tape
from jondel.tui.services.moments import AtResult, AtStep, Moment, Now
from jondel.tui.services.threads import Job, WorkThread

T = TypeVar("T")
_numbers = itertools.count(1)


class NewResults:
    """The rows of a script's statements, by their number, before they are an entry's."""

    def __init__(self, new_path: Callable[[], Path]) -> None:
        self._new_path = new_path
        self._files: dict[int, ResultFile] = {}

    def sink(self, number: int) -> ResultFile:
        """What takes the rows of the statement of a number."""
        self._files[number] = ResultFile(self._new_path())
        return self._files[number]

    def of(self, number: int) -> ResultFile | None:
        """The rows of a statement, if it gave any."""
        return self._files.get(number)

    def discard(self) -> None:
        """Have none be kept."""
        for file in self._files.values():
            file.discard()


class TapeService:
    """Every coroutine may raise ``JondelError``. A thread of its own keeps the tape; what adds to
    it is called in the thread that runs statements."""

    def __init__(self, location: str) -> None:
        self._location = location
        self._keeper = WorkThread("tape")
        self._tape = Tape(location)

    def close(self) -> None:
        """Let go of everything."""
        self._keeper.close(self._tape.close)

    async def entries(self, most: int, before: int | None = None) -> list[Entry]:
        """The latest entries, oldest first."""
        return await self._keeper.run(lambda _: self._tape.entries(most, before))

    async def aside(self, work: Callable[[], T]) -> T:
        """Do what takes a moment, beside what is run."""
        return await self._keeper.run(lambda _: work())

    async def delete(self, number: int) -> None:
        """Remove an entry."""
        await self._keeper.run(lambda _: self._tape.delete(number))

    async def pin(self, number: int, pinned: bool) -> Entry | None:
        """Have an entry stay whatever comes, or not."""

        def work(_: Job) -> Entry | None:
            self._tape.change(number, pinned=int(pinned))
            return self._tape.entry(number)

        return await self._keeper.run(work)

    async def earlier_values(self) -> dict[str, list[StoredValue]]:
        """The values that each parameter had, the latest first."""
        return await self._keeper.run(lambda _: self._tape.earlier_values())

    def result_of(self, entry: Entry, origin: Moment) -> AtResult:
        """The rows of an entry, as a moment."""
        asked_of = entry.moment or "now"
        title = f"{asked_of}, {entry.asked_at.astimezone():%d %b %H:%M:%S}"
        origin = origin if isinstance(origin, Now | AtStep) else origin.origin
        return AtResult(str(self.result_path(entry)), title, origin)

    async def changes_of(self, entry: Entry) -> Changes | None:
        """What a rehearsal would have changed, where that is still kept."""

        def work(_: Job) -> Changes | None:
            from jondel.core.query.kept_changes import kept_changes

            return kept_changes(self._tape.changes_path(entry.number))

        return await self._keeper.run(work)

    def result_path(self, entry: Entry) -> Path:
        """The file with an entry's rows."""
        return self._tape.result_path(entry.number)

    # Adding to it, in the thread that runs statements

    @contextmanager
    def new_results(self) -> Iterator[NewResults]:
        """What takes the rows of a script; they are discarded if the block fails."""
        results = NewResults(self.new_path)
        try:
            yield results
        except BaseException:
            results.discard()
            raise

    def new_path(self) -> Path:
        """A file for rows that are no entry's yet."""
        folder = self._tape.result_path(0).parent
        return folder / f"new-{os.getpid()}-{next(_numbers)}.db"

    def add(
        self,
        outcome: Outcome,
        run: int | None,
        name: str,
        how: How,
        values: Mapping[str, StoredValue],
        result: ResultFile | None = None,
        *,
        step: int | None = None,
        summary: str = "",
        notes: Sequence[str] = (),
    ) -> Entry:
        """Add an entry, with its rows."""
        has_rows = result is not None and result.was_begun
        with Tape(self._location).opened() as tape:
            entry = tape.add(
                outcome,
                run=run,
                moment=name,
                how=how,
                parameters=values,
                rows=result.rows if has_rows and result is not None else None,
                complete=result.complete if result is not None else True,
                step=step,
                summary=summary,
                notes=notes,
            )
            if has_rows and result is not None:
                result.path.replace(tape.result_path(entry.number))
        return entry

    def add_all(
        self,
        outcome: ScriptOutcome,
        name: str,
        how: How,
        values: Mapping[str, StoredValue],
        results: NewResults,
        changes: Changes | None,
        *,
        step: int | None = None,
    ) -> list[Entry]:
        """Add an entry for each statement of a script; what it changes is told by the last."""
        entries: list[Entry] = []
        last = len(outcome.outcomes) - 1
        summary = ""
        if changes is not None:
            summary = ChangeSummary.of(changes).counts.marked()
            if changes.schema_changes:
                summary = f"{summary} schema".strip()
        for number, one in enumerate(outcome.outcomes):
            entry = self.add(
                one,
                entries[0].run if entries else None,
                name,
                how,
                values,
                results.of(number),
                step=step,
                summary=summary if number == last else "",
                notes=outcome.notes if number == last else (),
            )
            entries.append(entry)
        if changes is not None and how == "rehearsed" and outcome.error is None:
            from jondel.core.query.kept_changes import keep_changes

            with suppress(JondelError):  # then it is tried out again
                keep_changes(self._tape.changes_path(entries[-1].number), changes)
        return entries

    def remove_all(self, entries: Sequence[Entry]) -> None:
        """Remove entries that others stand for now."""
        with Tape(self._location).opened() as tape:
            for entry in entries:
                tape.delete(entry.number)
