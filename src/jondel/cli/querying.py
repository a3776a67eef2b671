"""The command that runs statements."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

from jondel.cli.output import counted, say
from jondel.cli.problems import UsageProblem
from jondel.cli.query_output import RowsOut
from jondel.cli.target import Target, opened
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of
from jondel.core.errors import (
    JondelError,
    NotOnlyReading,
    SeveralResults,
    StatementFailed,
    StatementRefused,
    TargetNotFound,
)
from jondel.core.formats.row_writers import RowForm, form_of_name
from jondel.core.model.outcomes import (
    CollectedRows,
    Outcome,
    ScriptOutcome,
    ScriptStatement,
    StatementError,
)
from jondel.core.model.values import StoredValue
from jondel.core.query.lets import MOST_VALUES, NamedValue, values_of
from jondel.core.query.scripts import Script, script_of
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import value_of_words
from jondel.core.trail.step_statements import stream_at
from jondel.core.trail.trail import NOW, Step


class Asking(NamedTuple):
    """What is asked, and how the answer is wanted."""

    sql: str
    file: str | None
    parameters: Sequence[str]
    at: str | None
    rehearse: bool
    write: bool
    foreign_keys: str | None
    form: str | None
    output: str | None
    into: str | None
    with_table: bool
    as_json: bool

    @property
    def row_form(self) -> RowForm:
        """The format of rows."""
        if self.as_json:
            return "json"
        if self.form is not None:
            return "table" if self.form == "text" else self.form  # type: ignore[return-value]
        return (form_of_name(self.output) if self.output else None) or "table"


def run_query(target: str, lock: bool, **given: object) -> int:
    """Run statements on the database, or on a snapshot of it."""
    asking = Asking(**given)  # type: ignore[arg-type]
    if asking.rehearse and asking.write:
        raise UsageProblem("--rehearse writes nothing: give it or --write, not both")
    if asking.write and asking.at not in (None, NOW):
        raise UsageProblem("--write is for the database as it is now; a snapshot never changes")
    text = _text(asking)
    with opened(target, lock=lock, logged=asking.write) as target_opened:
        at = None if asking.at == NOW else asking.at
        dialect = dialect_of(target_opened.location if at is None else None)
        script = script_of(text, dialect)
        if not script.pieces:
            raise UsageProblem("there is no statement to run")
        values = _values(script, asking.parameters)
        named = values_of(script.lets, partial(_asked, target_opened, at, dialect, values))
        statements = script.with_values({**values, **named})
        run = _Run(target_opened, asking, statements, script, at, dialect)
        try:
            if asking.rehearse:
                return run.rehearse()
            return run.write() if asking.write else run.read()
        except SeveralResults as error:
            raise UsageProblem(str(error)) from error


class _Run:
    """One call of the command."""

    def __init__(
        self,
        target: Target,
        asking: Asking,
        statements: Sequence[ScriptStatement],
        script: Script,
        at: str | None,
        dialect: Dialect,
    ) -> None:
        self._target, self._asking, self._at = target, asking, at
        self._statements, self._script, self._dialect = statements, script, dialect

    def read(self) -> int:
        """Run statements that read."""
        with self._rows_out() as out:
            for number, entry in enumerate(self._statements):
                try:
                    stream_at(
                        self._target.trail,
                        lambda: self._target.database,
                        entry.statement,
                        out.sink(number),
                        self._at,
                    )
                except StatementFailed as error:
                    at = None if error.at is None else entry.place(error.at)
                    raise self._failed(number, StatementError(str(error), at)) from error
                except StatementRefused as error:
                    raise StatementRefused(
                        f"{self._named(number)}{error}{_advice(error)}"
                    ) from error
        return 0

    def rehearse(self) -> int:
        """Show what the script would change."""
        from jondel.cli.showing import Showing, print_changes, rules_of
        from jondel.core.diff.compare import compare
        from jondel.core.formats.changes_json import write_changes
        from jondel.core.query.rehearsal import rehearsed
        from jondel.core.query.remarks import outlives_a_rollback

        target, asking = self._target, self._asking
        state: Snapshot | Database = (
            target.database if self._at is None else target.trail.find(self._at)
        )
        showing = Showing(form="json" if asking.row_form == "json" else asking.form or "text")
        scope = showing.scope(rules_of(target.location))
        if not isinstance(state, Snapshot) and state.rehearsals is not None:
            for words in outlives_a_rollback(self._script.text, state.schema(), self._dialect):
                say(words)
        with (
            self._rows_out(only_to_file=True) as out,
            rehearsed(
                target.trail, state, self._statements, out.sink_or_none,
                foreign_keys=self._foreign_keys(),
            ) as rehearsal,
        ):  # fmt: skip
            self._tell(rehearsal.outcome, "would affect")
            self._raise_failed(rehearsal.outcome)
            if showing.form == "json":
                from jondel.cli.output import whole_document

                more = {"rehearsed": True, "statements": _outcomes_json(rehearsal.outcome)}
                with whole_document() as document:
                    sides = (rehearsal.before, rehearsal.after)
                    write_changes(document, (state, state), sides, scope, more)
            else:
                print_changes(
                    compare(rehearsal.before, rehearsal.after, scope), scope.noise, showing.form
                )
        return 0

    def write(self) -> int:
        """Run the script for real."""
        from jondel.core.query.writing import write_script

        target = self._target
        with self._rows_out(only_to_file=True) as out:
            done = write_script(
                target.trail,
                target.database,
                self._statements,
                out.sink_or_none,
                foreign_keys=self._foreign_keys(),
            )
        self._tell(done.outcome, "affected")
        step = next((s for s in target.trail.steps() if s.number == done.step), None)
        if step is not None:
            say(f"it is step s{step.number}" + (f"; {done.why}" if done.why else ""))
        else:
            say(f"no step was made: {done.why}" if done.why else "nothing was changed")
        self._raise_failed(done.outcome)
        self._show_step(step, done.outcome)
        return 0

    def _show_step(self, step: Step | None, outcome: ScriptOutcome) -> None:
        from jondel.cli.showing import Showing, print_changes, rules_of
        from jondel.core.formats.changes_json import write_changes

        trail, json = self._target.trail, self._asking.row_form == "json"
        showing = Showing(form="json" if json else self._asking.form or "text")
        scope = showing.scope(rules_of(self._target.location))
        if not json:
            if step is not None:
                print_changes(trail.step_changes(step, scope), scope.noise, showing.form)
            return
        from jondel.cli.output import whole_document

        live = self._target.database
        ends = (step.before, step.after) if step is not None and step.before else (live, live)
        more = {"written": True, "statements": _outcomes_json(outcome)}
        with whole_document() as document:
            if step is None:
                write_changes(document, ends, None, scope, more)
                return
            with trail.both_sides(*ends) as sides:
                write_changes(document, ends, sides, scope, more)

    def _rows_out(self, *, only_to_file: bool = False) -> RowsOut:
        asking = self._asking
        names = [_first_words(entry.text) for entry in self._statements]
        return RowsOut(
            asking.row_form,
            asking.output,
            names,
            into=asking.into or "",
            with_table=asking.with_table,
            dialect=self._dialect,
            to_nowhere=only_to_file and asking.output is None,
        )

    def _foreign_keys(self) -> bool:
        from jondel.cli.foreign_keys import enforces_foreign_keys  # not needed to ask

        return enforces_foreign_keys(self._target.location, self._asking.foreign_keys)

    def _tell(self, outcome: ScriptOutcome, verb: str) -> None:
        """Say what each statement came to."""
        for number, one in enumerate(outcome.outcomes):
            words = _words_of(one, verb)
            if words:
                say(f"{self._named(number, always=True)}{words}")
        for note in outcome.notes:
            say(note)

    def _raise_failed(self, outcome: ScriptOutcome) -> None:
        for number, one in enumerate(outcome.outcomes):
            if one.error is not None:
                raise self._failed(number, one.error)

    def _failed(self, number: int, error: StatementError) -> JondelError:
        if number >= len(self._script.pieces) or error.at is None:
            return StatementFailed(f"{self._named(number)}{error.message}")
        at = self._script.pieces[number].at + error.at - len(self._script.prefix)
        placed = StatementFailed(error.message, at).placed_in(self._script.text)
        return StatementFailed(f"{self._named(number)}{placed}")

    def _named(self, number: int, *, always: bool = False) -> str:
        count = len(self._statements)
        if number >= count:
            return "at the end: "
        if count == 1:
            return f"{_first_words(self._statements[0].text)}: " if always else ""
        words = f" ({_first_words(self._statements[number].text)})" if always else ""
        return f"statement {number + 1} of {count}{words}: "


def _asked(
    target: Target,
    at: str | None,
    dialect: Dialect,
    values: Mapping[str, StoredValue],
    question: str,
    known: Mapping[str, NamedValue],
) -> list[StoredValue]:
    """The first column of what a question gives."""
    rows = CollectedRows(MOST_VALUES + 1)
    statements = script_of(question, dialect).with_values({**values, **known})
    for entry in statements[:1]:
        stream_at(target.trail, lambda: target.database, entry.statement, rows, at)
    return [row[0] for row in rows.rows]  # type: ignore[misc]


def _words_of(outcome: Outcome, verb: str) -> str:
    match outcome.fate:
        case "not run":
            return "not run"
        case "failed":
            return ""  # told in the end
    words = counted(outcome.affected, "record") if outcome.affected is not None else "done"
    words = f"{verb} {words}" if outcome.affected is not None else words
    return f"{words}, undone" if outcome.fate == "undone" else words


def _outcomes_json(outcome: ScriptOutcome) -> list[dict[str, object]]:
    return [
        {
            "sql": one.text,
            "fate": one.fate,
            "affected": one.affected,
            **({"error": one.error.message} if one.error is not None else {}),
        }
        for one in outcome.outcomes
    ]


def _advice(error: StatementRefused) -> str:
    if not isinstance(error, NotOnlyReading):
        return ""
    return "; --rehearse shows what it would change, --write runs it"


def _first_words(sql: str, most: int = 40) -> str:
    flat = " ".join(sql.split())
    return flat if len(flat) <= most else f"{flat[:most].rstrip()} …"


def _text(asking: Asking) -> str:
    if bool(asking.sql) == (asking.file is not None):
        raise UsageProblem("give a statement, or a file of statements with -f")
    if asking.file is None:
        return asking.sql
    if asking.file == "-":
        return sys.stdin.read()
    try:
        return Path(asking.file).expanduser().read_text("utf-8-sig")
    except OSError as error:
        raise TargetNotFound(f"{asking.file}: cannot be read ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise TargetNotFound(f"{asking.file}: is not text in UTF-8") from error


def _values(script: Script, given: Sequence[str]) -> dict[str, StoredValue]:
    values: dict[str, StoredValue] = {}
    for entry in given:
        name, equals, words = entry.partition("=")
        name = name.lstrip(":@$?")
        if not equals or name not in script.parameters:
            known = ", ".join(script.parameters) or "none"
            raise UsageProblem(f"--param {entry}: give NAME=VALUE; the parameters are: {known}")
        values[name] = value_of_words(words)
    missing = [name for name in script.parameters if name not in values]
    if missing:
        raise UsageProblem(f"no value for {', '.join(missing)}; give --param {missing[0]}=VALUE")
    return values
