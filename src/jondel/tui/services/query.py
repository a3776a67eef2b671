"""Runs what is in the box of the query view and keeps it on the tape, as awaitable calls."""

from __future__ import annotations

import time
from collections.abc import AsyncGenerator, Callable, Mapping, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from jondel.core.engines.protocol import CommitMark, Database
from jondel.core.engines.registry import dialect_of
from jondel.core.errors import (
    JondelError,
    RecordsMovedOn,
    StatementFailed,
)
from jondel.core.model.changes import Changes
from jondel.core.model.outcomes import (
    CollectedRows,
    Outcome,
    ResultColumn,
    ScriptOutcome,
    ScriptStatement,
    StatementError,
)
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow, StoredValue
from jondel.core.query.lets import MOST_VALUES, NamedValue, values_of
from jondel.core.query.reading import may_write
from jondel.core.query.rehearsal import rehearsed
from jondel.core.query.results import FIRST_LIMIT, ResultFile
from jondel.core.query.scripts import Script, script_of
from jondel.core.query.tape import Entry
from jondel.core.query.work import Prepared, Questions, WritingWork
from jondel.core.query.writing import write_script
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.project import Project
from jondel.core.trail.step_statements import stream_at
from jondel.core.trail.trail import Step
from jondel.tui.services.comparisons import Comparisons
from jondel.tui.services.moments import NOW, AtResult, Moment, NotAState, Now
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.tape import TapeService
from jondel.tui.services.threads import Job
from jondel.tui.services.trail import TrailService
from jondel.tui.services.writing import Writing

if TYPE_CHECKING:
    from jondel.core.model.plans import PlanStep
    from jondel.core.query.plans import IndexTried
    from jondel.core.sql.dialect import Dialect

_PROGRESS_SECONDS = 0.2


class FirstRows(NamedTuple):
    """The first rows of a statement that is still running."""

    number: int
    columns: Sequence[ResultColumn]
    rows: Sequence[ShownRow]


class RowsSoFar(NamedTuple):
    """How many rows a statement has given that is still running."""

    rows: int


RunEvent: TypeAlias = FirstRows | RowsSoFar | Entry


class Rehearsed(NamedTuple):
    """What was tried out: its entries, and what it would change."""

    work: WritingWork
    entries: Sequence[Entry]
    changes: Changes
    since: CommitMark | None
    moment: Moment

    @property
    def failed(self) -> bool:
        return any(entry.error is not None for entry in self.entries)


class MovedOn(NamedTuple):
    """The app has written since a rehearsal: what it would change now."""

    again: Rehearsed
    differs: bool


class _Asked(NamedTuple):
    """One statement that is run of a script: its number there, and what it is asked of."""

    number: int
    statement: ScriptStatement
    values: Mapping[str, StoredValue]
    moment: Moment
    name: str
    limit: int | None


class QueryService:
    """Every coroutine may raise ``JondelError``. A thread of its own runs statements."""

    def __init__(
        self,
        location: str,
        target: str,
        trail: TrailService,
        comparisons: Comparisons,
        writing: Writing,
    ) -> None:
        self._location = location
        self._trail = trail
        self._comparisons = comparisons
        self._writing = writing
        self._reader = MomentReader("query", target)
        self.tape = TapeService(location)
        self._project = Project(location)

    def close(self) -> None:
        """Stop what runs, and let go of everything."""
        self._reader.close()
        self.tape.close()

    def dialect(self, moment: Moment) -> Dialect:
        """The SQL that is understood at a moment."""
        return dialect_of(self._location if isinstance(moment, Now) else None)

    # Settings

    def enforces_foreign_keys(self) -> bool:
        """Whether foreign keys are enforced for what is run. Raises ``RuleInvalid``."""
        return self._project.enforces_foreign_keys()

    def enforce_foreign_keys(self, enforced: bool) -> str:
        """Keep that; returns the file it is kept in. Raises ``RuleInvalid``."""
        return str(self._project.enforce_foreign_keys(enforced))

    # Reading

    def writes(self, script: Script, moment: Moment) -> bool:
        """Whether a script may write."""
        dialect = self.dialect(moment)
        return any(may_write(piece.text, dialect) for piece in script.pieces)

    async def read(
        self,
        script: Script,
        values: Mapping[str, StoredValue],
        moment: Moment,
        limit: int | None = FIRST_LIMIT,
    ) -> AsyncGenerator[RunEvent, None]:
        """Run statements that only read, and give what comes of them as it comes.

        Raises:
            WouldWrite: one would.
        """
        name = self._name_of(moment)

        def work(job: Job, send: Callable[[RunEvent], None]) -> None:
            statements = self._statements(job, script, values, moment, name)
            run: int | None = None
            for number, statement in enumerate(statements):
                asked = _Asked(number, statement, values, moment, name, limit)
                entry = self._read_one(job, send, asked, run)
                run = run or entry.run
                send(entry)
                if entry.error is not None:
                    for left in statements[number + 1 :]:
                        send(
                            self.tape.add(Outcome(left.text, "not run"), run, name, "read", values)
                        )
                    return

        async for event in self._reader.stream(work):
            yield event

    def _statements(
        self,
        job: Job,
        script: Script,
        values: Mapping[str, StoredValue],
        moment: Moment,
        name: str,
    ) -> tuple[ScriptStatement, ...]:
        """The statements of a script with all of their values; those that questions give are asked
        for now."""
        ask = self._questions(job, values, moment, name)
        return script.with_values({**values, **values_of(script.lets, ask)})

    def _questions(
        self, job: Job, values: Mapping[str, StoredValue], moment: Moment, name: str
    ) -> Questions:
        def ask(question: str, known: Mapping[str, NamedValue]) -> list[StoredValue]:
            database = self._database(job, moment)
            rows = CollectedRows(MOST_VALUES + 1)
            asked = script_of(question, self.dialect(moment)).with_values({**values, **known})
            for entry in asked[:1]:
                stream_at(
                    self._trail.core,
                    lambda: database,
                    entry.statement,
                    rows,
                    name or None,
                    job.uses,
                )
            return [row[0] for row in rows.rows]  # type: ignore[misc]

        return ask

    def _read_one(
        self, job: Job, send: Callable[[RunEvent], None], asked: _Asked, run: int | None
    ) -> Entry:
        told = [time.monotonic()]

        def progress(rows: int) -> None:
            if time.monotonic() - told[0] > _PROGRESS_SECONDS:
                told[0] = time.monotonic()
                send(RowsSoFar(rows))

        database = self._database(job, asked.moment)
        result = ResultFile(
            self.tape.new_path(),
            asked.limit,
            lambda columns, rows: send(FirstRows(asked.number, columns, rows)),
            progress,
            database.schema(),
        )
        started = time.perf_counter()
        try:
            stream_at(
                self._trail.core,
                lambda: database,
                asked.statement.statement,
                result,
                None if isinstance(asked.moment, Now) else asked.name,
                job.uses,
            )
        except StatementFailed as error:
            result.discard()
            at = None if error.at is None else asked.statement.place(error.at)
            failed = StatementError(str(error), at)
            seconds = time.perf_counter() - started
            outcome = Outcome(asked.statement.text, "failed", seconds, error=failed)
            return self.tape.add(outcome, run, asked.name, "read", asked.values)
        except BaseException:
            result.discard()
            raise
        outcome = Outcome(
            asked.statement.text, "done", time.perf_counter() - started, has_rows=True
        )
        return self.tape.add(outcome, run, asked.name, "read", asked.values, result)

    def _database(self, job: Job, moment: Moment) -> Database:
        return self._reader.open(job, self._trail.require_source(moment), self._trail.if_opened)

    def _name_of(self, moment: Moment) -> str:
        """How an entry names the moment that it was asked of."""
        if isinstance(moment, AtResult):
            raise NotAState
        return "" if isinstance(moment, Now) else self._trail.step_at(moment).after.id

    async def statement_with_values(
        self, script: Script, values: Mapping[str, StoredValue], moment: Moment
    ) -> Statement:
        """The first statement of a script with its values, those too that questions give."""
        name = self._name_of(moment)

        def work(job: Job) -> Statement:
            return self._statements(job, script, values, moment, name)[0].statement

        return await self._reader.run(work)

    async def compare_rows(self, one: Entry, other: Entry) -> Changes:
        """What differs between the rows of two entries, the earlier one first."""
        paths = [self.tape.result_path(entry) for entry in (one, other)]

        def work(job: Job) -> Changes:
            from jondel.core.query.compared_results import compared

            return compared(paths[0], paths[1], self._comparisons.scope, job.uses)

        return await self._reader.run(work)

    # Trying out, and writing

    async def plan(
        self, script: Script, values: Mapping[str, StoredValue], moment: Moment, *, measured: bool
    ) -> tuple[tuple[PlanStep, ...], IndexTried | None]:
        """How the first statement of a script would be run, and with which index otherwise."""
        dialect, name = self.dialect(moment), self._name_of(moment)

        def work(job: Job) -> tuple[tuple[PlanStep, ...], IndexTried | None]:
            asked = self._statements(job, script, values, moment, name)[0]
            from jondel.core.engines.needed import statements_of
            from jondel.core.query.plans import IndexTried, index_for, with_index

            database = self._database(job, moment)
            steps = statements_of(database).plan(asked.statement, measured=measured)
            if index_for(steps, asked.text, database.schema(), dialect) is None:
                return steps, None
            if database.rehearser is not None:
                return steps, with_index(database, steps, asked, dialect)
            if database.rehearsals is not None or database.commits is None:
                # Making one there would keep others from writing.
                index = index_for(steps, asked.text, database.schema(), dialect)
                return steps, IndexTried(index, ()) if index is not None else None
            with self._trail.core.now(database) as (state, _):
                job.uses(state)
                return steps, with_index(state, steps, asked, dialect)

        return await self._reader.run(work)

    async def rehearse(self, work: WritingWork, moment: Moment) -> Rehearsed:
        """Try something out, at now or at a step; nothing is written."""
        name, foreign_keys = self._name_of(moment), self.enforces_foreign_keys()
        scope = self._comparisons.scope

        def run(job: Job) -> Rehearsed:
            from jondel.core.diff.compare import compare

            state: Snapshot | Database = (
                self._database(job, moment)
                if isinstance(moment, Now)
                else self._trail.step_at(moment).after
            )
            ask = self._questions(job, work.values, moment, name)
            with work.prepared(ask, for_real=False) as prepared, self.tape.new_results() as results:
                with rehearsed(
                    self._trail.core,
                    state,
                    prepared.statements,
                    results.sink,
                    foreign_keys=foreign_keys,
                    opened=job.uses,
                ) as rehearsal:
                    changes = compare(rehearsal.before, rehearsal.after, scope)
                outcome, since = _with_notes(rehearsal.outcome, prepared), rehearsal.since
                entries = self.tape.add_all(
                    outcome, name, "rehearsed", work.values, results, changes
                )
            return Rehearsed(work, entries, changes, since, moment)

        return await self._reader.run(run)

    async def write(
        self,
        work: WritingWork,
        since: CommitMark | None = None,
        rehearsal: Rehearsed | None = None,
    ) -> Sequence[Entry]:
        """Do something for real; what it writes is a step.

        Raises:
            RecordsMovedOn: something was committed since; nothing was run.
            WriteRefused: nothing is to be written.
        """
        self._writing.require_allowed()
        foreign_keys = self.enforces_foreign_keys()

        def run(job: Job) -> tuple[Sequence[Entry], list[Step]]:
            live = self._reader.live()
            job.uses(live)
            trail = self._trail.core
            ask = self._questions(job, work.values, NOW, "")
            with work.prepared(ask, for_real=True) as prepared, self.tape.new_results() as results:
                done = write_script(
                    trail,
                    live,
                    prepared.statements,
                    results.sink,
                    foreign_keys=foreign_keys,
                    since=since,
                )
                job.see_through()
                outcome = _with_notes(done.outcome, prepared)
            steps = self._trail.read_steps()
            changes = None
            step = next((s for s in steps if s.number == done.step), None)
            if step is not None:
                with suppress(JondelError):  # they are compared when the entry is unfolded
                    changes = trail.step_changes(step, self._comparisons.scope, job.uses)
                    steps = self._trail.read_steps()
            if done.why:
                outcome = outcome._replace(notes=(*outcome.notes, done.why))
            entries = self.tape.add_all(
                outcome, "", "written", work.values, results, changes, step=done.step
            )
            if rehearsal is not None:
                self.tape.remove_all(rehearsal.entries)
            self._trail.make_room()
            return entries, steps

        entries, self._trail.steps = await self._reader.run_to_an_end(run)
        return entries

    async def write_rehearsed(self, rehearsal: Rehearsed) -> Sequence[Entry] | MovedOn:
        """Do for real what was tried out, unless something was committed since that has it change
        something else."""
        try:
            return await self.write(rehearsal.work, rehearsal.since, rehearsal)
        except RecordsMovedOn:
            again = await self.rehearse(rehearsal.work, rehearsal.moment)
            for entry in rehearsal.entries:
                await self.tape.delete(entry.number)
            return MovedOn(again, again.changes != rehearsal.changes)


def _with_notes(outcome: ScriptOutcome, prepared: Prepared) -> ScriptOutcome:
    """An outcome with what there is to say of it; where it failed, nothing came of it."""
    if outcome.error is not None:
        return outcome
    return outcome._replace(notes=(*outcome.notes, *prepared.done()))
