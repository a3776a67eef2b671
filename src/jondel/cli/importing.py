"""The command that imports files."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple, cast

from jondel.cli.foreign_keys import enforces_foreign_keys
from jondel.cli.output import counted, say, tell, tell_exactly
from jondel.cli.problems import UsageProblem
from jondel.cli.target import Target, opened
from jondel.core.browse.display import grouped, line
from jondel.core.engines.registry import dialect_of
from jondel.core.errors import StatementFailed
from jondel.core.files.json_values import dumped
from jondel.core.imports.destination import (
    new_table_id,
    plan_for_new,
    plan_for_table,
    require_writable,
    table_like,
)
from jondel.core.imports.matching import Match, read_by, without_values
from jondel.core.imports.plan import ImportPlan, create_statement
from jondel.core.imports.preview import Sample, problem_of, sample_of
from jondel.core.imports.readings import WAYS, Way, shown
from jondel.core.imports.source import ImportForm, SourceOptions
from jondel.core.imports.work import ImportWork
from jondel.core.model.outcomes import ScriptOutcome
from jondel.core.model.schema import Schema
from jondel.core.model.values import StoredValue
from jondel.core.sql.dialect import Dialect

_PROGRESS_SECONDS = 0.5


class Wanted(NamedTuple):
    """What is to be imported, and how."""

    file: str
    into: str | None
    new: bool
    matches: Sequence[str]
    types: Sequence[str]
    key: str | None
    from_format: str | None
    encoding: str | None
    delimiter: str | None
    heading: bool
    null: str | None
    sheet: str | None
    rehearse: bool
    write: bool
    strict: bool
    rejects: str | None
    foreign_keys: str | None
    as_json: bool

    @property
    def options(self) -> SourceOptions:
        """How the file is read."""
        delimiter = "\t" if self.delimiter in ("\\t", "tab") else self.delimiter
        return SourceOptions(
            cast("ImportForm | None", self.from_format),
            self.encoding,
            delimiter,
            self.heading,
            self.null,
            self.sheet,
        )


def import_file(target: str, lock: bool, **given: object) -> int:
    """Show what a file would be imported as, try that out, or do it."""
    wanted = Wanted(**given)  # type: ignore[arg-type]
    if wanted.rehearse and wanted.write:
        raise UsageProblem("--rehearse writes nothing: give it or --write, not both")
    with opened(target, lock=lock, logged=wanted.write) as found:
        dialect = dialect_of(found.location)
        sample = sample_of(Path(wanted.file).expanduser(), wanted.options)
        plan = _planned(wanted, sample, found, dialect)
        if plan.problem():
            raise UsageProblem(plan.problem())
        if wanted.rehearse:
            return _rehearse(found, wanted, plan, dialect)
        if wanted.write:
            return _write(found, wanted, plan, dialect)
        _preview(wanted, sample, plan, found.database.schema(), dialect)
    return 0


def _planned(wanted: Wanted, sample: Sample, target: Target, dialect: Dialect) -> ImportPlan:
    schema, stem = target.database.schema(), sample.source.path.stem
    table = schema.named(wanted.into) if wanted.into else table_like(stem, schema)
    if wanted.new or (table is None and not wanted.into):
        name = new_table_id(wanted.into or stem, schema, dialect)
        plan = plan_for_new(sample, name, dialect)
    elif table is None:
        raise UsageProblem(f"there is no table {wanted.into}; --new makes one")
    else:
        require_writable(target.database, table)
        plan = plan_for_table(sample, table)
    matches = list(plan.matches)
    for entry in wanted.matches:
        given, value = _parted(entry, "--match", "COLUMN=NAME")
        place = _place_of(matches, given)
        if not value:
            matches[place] = matches[place]._replace(target=None)
            continue
        column = table.column(value) if table is not None and not plan.is_new else None
        if not plan.is_new and (column is None or column.generated):
            known = ", ".join(table.column_names) if table is not None else ""
            raise UsageProblem(f"--match {entry}: {plan.table} has the columns {known}")
        type_ = column.type if column is not None else matches[place].type
        matches[place] = matches[place]._replace(target=value, type=type_)
    for entry in wanted.types:
        given, value = _parted(entry, "--type", "COLUMN=TYPE, or COLUMN=WAY")
        place = _place_of(matches, given)
        way = value.replace("-", " ")
        if way in WAYS:
            matches[place] = read_by(matches[place], cast(Way, way), dialect, is_new=plan.is_new)
        elif plan.is_new:
            matches[place] = matches[place]._replace(type=dialect.type_named(value))
        else:
            ways = ", ".join(name.replace(" ", "-") for name in WAYS)
            raise UsageProblem(f"--type {entry}: {plan.table} has its types; ways to read: {ways}")
    if wanted.key is not None:
        if not plan.is_new:
            raise UsageProblem(f"--key is for a table that is made; {plan.table} is there")
        place = _place_of(matches, wanted.key) if wanted.key else -1
        matches = [m._replace(is_key=n == place) for n, m in enumerate(matches)]
    return replace(plan, matches=tuple(matches))


def _parted(entry: str, option: str, form: str) -> tuple[str, str]:
    name, equals, value = entry.partition("=")
    if not equals:
        raise UsageProblem(f"{option} {entry}: give {form}")
    return name, value


def _place_of(matches: Sequence[Match], name: str) -> int:
    for place, match in enumerate(matches):
        if match.name == name:
            return place
    known = ", ".join(match.name for match in matches)
    raise UsageProblem(f"the file has no column {name}; it has {known}")


# What it would be


def _preview(
    wanted: Wanted, sample: Sample, plan: ImportPlan, schema: Schema, dialect: Dialect
) -> None:
    table = schema.find(plan.table)
    missing = without_values(table, plan.matches) if table is not None else []
    if wanted.as_json:
        columns = [_column_json(sample, match) for match in plan.matches]
        document = {
            "file": str(plan.path),
            "table": str(plan.table),
            "new": plan.is_new,
            "columns": columns,
            "without_values": missing,
            "looked_at": len(sample.numbers),
            "whole": sample.whole,
        }
        tell_exactly(dumped(document))
        return
    lines = [("column", "goes into", "read as", "first value", "")]
    for match in plan.matches:
        first = next((v for v in sample.values(match.place) if v is not None), None)
        problem = problem_of(sample, match)
        words = ""
        if problem is not None:
            first_one = f"{sample.source.number_word} {problem.first}: {problem.reason}"
            words = f"! {counted(problem.values, 'value')}; {first_one}"
        key = " (key)" if match.is_key else ""
        lines.append(
            (match.name, f"{match.target or '(left out)'}{key}", _read_as(match),
             shown(first) if first is not None else "", words)
        )  # fmt: skip
    widths = [min(40, max(len(row[n]) for row in lines)) for n in range(4)]
    for row in lines:
        cells = [
            (line(cell, 40) if cell else "").ljust(w)
            for cell, w in zip(row[:4], widths, strict=True)
        ]
        tell("  ".join([*cells, *([line(row[4], 200)] if row[4] else [])]).rstrip())
    if plan.is_new:
        for text in create_statement(plan, dialect).splitlines():
            tell(text)
    for unread in sample.unread[:3]:
        say(f"{sample.source.number_word} {unread.number}: {unread.reason}")
    if missing:
        say(f"{plan.table} wants a value in {', '.join(missing)}, and gets none")
    looked = counted(len(sample.numbers) + len(sample.unread), "row")
    settings = "".join(f", {name} {value}" for name, value in sample.source.settings.items())
    which = looked if sample.whole else f"the first {looked}"
    say(f"looked at {which}{settings}; nothing was written: --rehearse tries it, --write does it")


def _column_json(sample: Sample, match: Match) -> dict[str, object]:
    problem = problem_of(sample, match)
    return {
        "column": match.name,
        "into": match.target,
        "type": match.type.name,
        "read": match.way,
        "key": match.is_key,
        "unfit": problem.values if problem is not None else 0,
        **({"first_unfit": problem.reason} if problem is not None else {}),
    }


def _read_as(match: Match) -> str:
    if match.target is None:
        return ""
    return (match.type.name or "any type") if match.way == "by type" else match.way


# Trying it out, and doing it


def _rehearse(target: Target, wanted: Wanted, plan: ImportPlan, dialect: Dialect) -> int:
    from jondel.cli.output import whole_document
    from jondel.cli.showing import Showing, print_changes, rules_of
    from jondel.core.diff.compare import compare
    from jondel.core.formats.changes_json import write_changes
    from jondel.core.query.rehearsal import rehearsed

    database, work = target.database, _work(wanted, plan, dialect)
    scope = Showing().scope(rules_of(target.location))
    foreign_keys = enforces_foreign_keys(target.location, wanted.foreign_keys)
    with (
        work.prepared(_no_questions, for_real=False) as prepared,
        rehearsed(
            target.trail,
            database,
            prepared.statements,
            lambda _: None,
            foreign_keys=foreign_keys,
        ) as rehearsal,
    ):
        _raise_failed(rehearsal.outcome)
        for words in prepared.done():
            say(words)
        if wanted.as_json:
            more = {"rehearsed": True, **_result_json(work, rehearsal.outcome)}
            with whole_document() as document:
                sides = (rehearsal.before, rehearsal.after)
                write_changes(document, (database, database), sides, scope, more)
        else:
            print_changes(compare(rehearsal.before, rehearsal.after, scope), scope.noise)
    for note in rehearsal.outcome.notes:
        say(note)
    rows = counted(rehearsal.outcome.outcomes[-1].affected or 0, "row")
    say(f"{rows} would be imported into {plan.table}; nothing was written")
    return 0


def _write(target: Target, wanted: Wanted, plan: ImportPlan, dialect: Dialect) -> int:
    from jondel.core.query.writing import write_script

    work = _work(wanted, plan, dialect)
    with work.prepared(_no_questions, for_real=True) as prepared:
        done = write_script(
            target.trail,
            target.database,
            prepared.statements,
            lambda _: None,
            foreign_keys=enforces_foreign_keys(target.location, wanted.foreign_keys),
        )
        _raise_failed(done.outcome)
        told = prepared.done()
    for words in (*done.outcome.notes, *told):
        say(words)
    rows = counted(done.outcome.outcomes[-1].affected or 0, "row")
    step = f"; it is step s{done.step}" if done.step is not None else ""
    why = f"; {done.why}" if done.why else ""
    say(f"{rows} imported into {plan.table}{step}{why}")
    if wanted.as_json:
        step_id = f"s{done.step}" if done.step is not None else None
        tell_exactly(dumped({**_result_json(work, done.outcome), "step": step_id}))
    return 0


def _work(wanted: Wanted, plan: ImportPlan, dialect: Dialect) -> ImportWork:
    return ImportWork(
        plan,
        dialect,
        _progress(),
        rejects_to=Path(wanted.rejects).expanduser() if wanted.rejects else None,
        any_rejected=not wanted.strict,
    )


def _no_questions(*_: object) -> list[StoredValue]:
    return []


def _result_json(work: ImportWork, outcome: ScriptOutcome) -> dict[str, Any]:
    plan, rejected = work.plan, work.rejected
    return {
        "file": str(plan.path),
        "table": str(plan.table),
        "imported": outcome.outcomes[-1].affected or 0,
        "rejected": {
            "rows": rejected.rows,
            "file": str(rejected.path) if rejected.path is not None else None,
            "reasons": [{"reason": why, "rows": rows} for why, rows in rejected.reasons],
        },
    }


def _raise_failed(outcome: ScriptOutcome) -> None:
    for one in outcome.outcomes:
        if one.error is not None:
            raise StatementFailed(f"{one.error.message}; nothing was written")


def _progress() -> Callable[[int], None]:
    """Tells a person at a terminal how far it is."""
    if not sys.stderr.isatty():
        return lambda rows: None
    told = [time.monotonic()]

    def tell_rows(rows: int) -> None:
        if time.monotonic() - told[0] > _PROGRESS_SECONDS:
            told[0] = time.monotonic()
            sys.stderr.write(f"\r{grouped(rows)} rows …\x1b[K\r")
            sys.stderr.flush()

    return tell_rows
