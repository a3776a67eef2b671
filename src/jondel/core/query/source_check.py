"""Checks the SQL in an app's source against its database's schema, without running any of it."""

from __future__ import annotations

import difflib
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.engines.finder import may_be_the_projects
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import TargetNotFound
from jondel.core.model.outcomes import StatementError
from jondel.core.model.schema import Schema
from jondel.core.model.statements import Statement
from jondel.core.query.scopes import sources_of
from jondel.core.query.source_strings import ENDINGS, SourceString, strings_in
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import Mark, bound, marks, place_in
from jondel.core.sql.splitting import statements_in
from jondel.core.sql.tokens import Token, without_comments

ProblemKind: TypeAlias = Literal[
    "unknown table", "unknown column", "unknown function", "argument count", "syntax"
]
_MOST_BYTES = 4 << 20
_LEAST_SHARED = 3
_BEGINS = re.compile(
    r"\s*(?:--[^\n]*\n\s*|/\*.*?\*/\s*|\(\s*)*"
    r"(?:SELECT\b.+?\bFROM\b|SELECT\s+[\w(*'\"?:@$%]|INSERT\s+(?:OR\s+\w+\s+)?INTO\s+\S"
    r"|REPLACE\s+INTO\s+\S|UPDATE\s+(?:OR\s+\w+\s+)?[\w.\"`\[\]]+(?:\s+(?:AS\s+)?\w+)?\s+SET\s+\S"
    r"|DELETE\s+FROM\s+\S|WITH\s+(?:RECURSIVE\s+)?[\w\"]+\s*(?:\([^)]*\)\s*)?AS\s*"
    r"(?:NOT\s+MATERIALIZED\s*|MATERIALIZED\s*)?\(|MERGE\s+INTO\s+\S)",
    re.IGNORECASE | re.DOTALL,
)
_DECLARES = re.compile(r"\s*(?:CREATE|ALTER|DROP)\s", re.IGNORECASE)
_MAKES = re.compile(
    r"\bCREATE\s+(?:OR\s+REPLACE\s+)?(?:TEMP(?:ORARY)?\s+|UNLOGGED\s+|MATERIALIZED\s+|VIRTUAL\s+)*"
    r"(?:TABLE|VIEW)\s+(?:IF\s+NOT\s+EXISTS\s+)?([\w.\"`\[\]]+)",
    re.IGNORECASE,
)
_RUNS = re.compile(
    r"execute|executemany|executescript|raw|text|query|prepare|exec|fetch|select|insert|update|"
    r"delete|sql|find_by_sql|createnativequery|createstatement|queryrow|get|all|run|each",
    re.IGNORECASE,
)
_UNKNOWN_TABLE = re.compile(r"no such table: (\S+)|relation \"([^\"]+)\" does not exist"
                            r"|missing FROM-clause entry for table \"([^\"]+)\"")  # fmt: skip
_UNKNOWN_COLUMN = re.compile(
    r"no such column: (\S+)|has no column named (\S+)|column \"?([^\" ]+)\"?(?: of relation "
    r"\"[^\"]+\")? does not exist|unknown column \"([^\"]+)\"|column reference \"([^\"]+)\" is "
    r"ambiguous|ambiguous column name: (\S+)"
)  # fmt: skip
_UNKNOWN_FUNCTION = re.compile(r"no such function: (\S+)|function ([\w.]+)\(.*\) does not exist")
_COUNT = re.compile(
    r"values for \d+ columns|has \d+ columns but \d+ values|wrong number of arguments|"
    r"INSERT has more|VALUES lists must all be the same"
)
_SYNTAX = re.compile(r"syntax error|incomplete input|unrecognized token|unterminated|near \"")


class SourceProblem(NamedTuple):
    """What is wrong with a statement in a file; ``nearest`` is a name that may have been meant, and
    ``sql`` the statement."""

    file: str
    line: int
    kind: ProblemKind
    name: str
    message: str
    nearest: str = ""
    sql: str = ""

    @property
    def words(self) -> str:
        """What is wrong, in a line."""
        about = f" {self.name}" if self.name else ""
        nearest = f"; did you mean {self.nearest}?" if self.nearest else ""
        told = "" if self.kind.startswith("unknown") else f": {self.message}"
        return f"{self.kind}{about}{told}{nearest}"


class NotFollowed(NamedTuple):
    """A statement that is put together at run time."""

    file: str
    line: int
    why: str


class SourceReport(NamedTuple):
    """What was found in some source files."""

    files: int
    statements: int
    not_followed: tuple[NotFollowed, ...]
    problems: tuple[SourceProblem, ...]


def check_sources(
    paths: Sequence[Path],
    database: Database,
    dialect: Dialect,
    go_on: Callable[[int], None] = lambda files: None,
) -> SourceReport:
    """Check all SQL that is found in files, and in the files below folders.

    ``go_on`` is called with the number of files that were read.

    Raises:
        TargetNotFound: a path is not there.
    """
    checking = _Checking(database, dialect)
    files = 0
    for path in _files(paths):
        try:
            if path.stat().st_size > _MOST_BYTES:
                checking.skip(path, 1, "the file has more than 4 MB")
                continue
            source = path.read_bytes().decode("utf-8-sig", "replace")
        except OSError as error:
            checking.skip(path, 1, f"it cannot be read ({error.strerror})")
            continue
        files += 1
        checking.file(path, source)
        go_on(files)
    return checking.report(files)


def _files(paths: Sequence[Path]) -> Iterator[Path]:
    for path in paths:
        if path.is_file():
            yield path
        elif path.is_dir():
            for where, folders, names in os.walk(path):
                folders[:] = sorted(filter(may_be_the_projects, folders))
                for name in sorted(names):
                    if os.path.splitext(name)[1].lower() in (*ENDINGS, ".sql"):
                        yield Path(where, name)
        else:
            raise TargetNotFound(f"{path}: no such file or folder; check the path")


class _Checking:
    """The files of one run."""

    def __init__(self, database: Database, dialect: Dialect) -> None:
        self._database, self._dialect = database, dialect
        self._schema: Schema = database.schema()
        self._statements = 0
        self._not_followed: list[NotFollowed] = []
        self._problems: list[SourceProblem] = []
        self._known: dict[str, StatementError | None] = {}

    def report(self, files: int) -> SourceReport:
        return SourceReport(
            files, self._statements, tuple(self._not_followed), tuple(self._problems)
        )

    def skip(self, path: Path, line: int, why: str) -> None:
        self._not_followed.append(NotFollowed(str(path), line, why))

    def file(self, path: Path, source: str) -> None:
        """Check one file."""
        ending = path.suffix.lower()
        if ending not in ENDINGS:
            whole = SourceString(source, 1, is_script=True)
            self._check_all(path, whole, made=_made_in(source))
            return
        if _ANY_SQL.search(source) is None:
            return
        try:
            strings = strings_in(source, ending)
        except SyntaxError as error:
            self.skip(path, error.lineno or 1, "the file cannot be understood as source")
            return
        made = frozenset(name for string in strings for name in _made_in(string.text))
        for string in strings:
            if _is_sql(string):
                if string.hole:
                    self.skip(path, string.line, f"built at run time: {string.hole}")
                else:
                    self._check_all(path, string, made)

    def _check_all(self, path: Path, string: SourceString, made: frozenset[str]) -> None:
        pieces = statements_in(string.text, self._dialect.lexis)
        for piece in pieces:
            line = string.line + string.text.count("\n", 0, piece.at)
            arguments = string.arguments if len(pieces) == 1 else None
            self._check(path, line, piece.text, string, arguments, made)

    def _check(
        self,
        path: Path,
        line: int,
        sql: str,
        string: SourceString,
        arguments: int | None,
        made: frozenset[str],
    ) -> None:
        found = marks(sql, self._dialect)
        statement = bound(sql, found, {})
        error = self._error_of(statement)
        if error is not None and _is_ours_to_tell(sql, error):
            problem = self._problem(path, line, sql, found, error)
            is_doubtful = problem.kind == "syntax" and _may_be_prose(sql, string)
            if is_doubtful:
                return
            self._statements += 1
            if not (problem.kind == "unknown table" and problem.name.casefold() in made):
                self._problems.append(problem)
            return
        self._statements += 1
        self._check_arguments(path, line, sql, found, arguments)

    def _check_arguments(
        self, path: Path, line: int, sql: str, found: Sequence[Mark], arguments: int | None
    ) -> None:
        in_order = [mark for mark in found if mark.text in ("?", "%s")]
        if arguments is None or not in_order or len(in_order) != len(found):
            return
        if len(in_order) != arguments:
            words = f"{len(in_order)} parameters, and {arguments} values are given"
            self._problems.append(
                SourceProblem(str(path), line, "argument count", in_order[0].text, words, sql=sql)
            )

    def _error_of(self, statement: Statement) -> StatementError | None:
        text = statement.text()
        if text not in self._known:
            self._known[text] = statements_of(self._database).check(statement)
        return self._known[text]

    def _problem(
        self, path: Path, line: int, sql: str, found: Sequence[Mark], error: StatementError
    ) -> SourceProblem:
        at = place_in(found, error.at) if error.at is not None else None
        kind, name = kind_of(error.message)
        tokens = without_comments(sql, self._dialect.lexis)
        if at is None and name:
            at = _place_of(tokens, name.rpartition(".")[2])
        line += sql.count("\n", 0, at) if at is not None else 0
        nearest = ""
        if kind == "unknown table":
            names = [table.name for table in self._schema.tables]
            nearest = _nearest(name.rpartition(".")[2], names)
        elif kind == "unknown column":
            name, nearest = self._column(name, tokens)
        elif kind == "unknown function":
            known = [f.partition("(")[0] for f in self._dialect.signatures]
            nearest = _nearest(name, known)
        return SourceProblem(str(path), line, kind, name, error.message, nearest, sql)

    def _column(self, name: str, tokens: Sequence[Token]) -> tuple[str, str]:
        """A column's name with its table, where that can be told, and the nearest name there."""
        of, _, column = name.rpartition(".")
        column = column.strip('"`[]')
        sources = [source for source in sources_of(tokens, self._schema) if source.columns]
        meant = [s for s in sources if s.name.casefold() == of.casefold()] if of else sources
        if len(meant) == 1 and meant[0].table is not None:
            name = f"{meant[0].table.name}.{column}"
        among = meant or sources
        return name, _nearest(column, [c for source in among for c in source.columns])


_ANY_SQL = re.compile(
    r"\b(?:select\s|(?:insert|replace|merge)\s+(?:or\s+\w+\s+)?into\s|delete\s+from\s"
    r"|update\s+\S+\s+(?:\S+\s+)?set\s)",
    re.IGNORECASE,
)
"""What a file has that holds any statement to check."""


def kind_of(message: str) -> tuple[ProblemKind, str]:
    """What kind of problem an engine's words tell of, and the name that they are about."""
    kinds: tuple[tuple[ProblemKind, re.Pattern[str]], ...] = (
        ("unknown table", _UNKNOWN_TABLE),
        ("unknown column", _UNKNOWN_COLUMN),
        ("unknown function", _UNKNOWN_FUNCTION),
    )
    for kind, pattern in kinds:
        match = pattern.search(message)
        if match is not None:
            return kind, next(group for group in match.groups() if group).strip('"')
    if _COUNT.search(message):
        found = re.search(r"function (\w+)|table (\w+)", message)
        return "argument count", next((g for g in found.groups() if g), "") if found else ""
    near = re.search(r"near \"([^\"]*)\"", message)
    return "syntax", near[1] if near else ""


def _is_ours_to_tell(sql: str, error: StatementError) -> bool:
    """Whether an error tells that a statement is wrong, and not that something is there already."""
    if _DECLARES.match(sql):
        return _SYNTAX.search(error.message) is not None
    kinds = (_UNKNOWN_TABLE, _UNKNOWN_COLUMN, _UNKNOWN_FUNCTION, _COUNT, _SYNTAX)
    return any(pattern.search(error.message) for pattern in kinds)


def _is_sql(string: SourceString) -> bool:
    if _BEGINS.match(string.text) is None:
        return False
    first = string.text.split(None, 1)[0].strip("(")
    if first.isupper() or first.islower():
        return first.isupper() or bool(_RUNS.search(string.called)) or "\n" in string.text or (
            re.search(r"[=*?:;]|\bwhere\b|\bvalues\b|\bset\b", string.text) is not None
        )  # fmt: skip
    return bool(_RUNS.fullmatch(string.called))


def _may_be_prose(sql: str, string: SourceString) -> bool:
    """Whether what is no SQL may be a sentence: not where it is run, nor written in capitals."""
    if string.is_script or _RUNS.fullmatch(string.called) or string.arguments is not None:
        return False
    first = sql.split(None, 1)[0]
    return not first.isupper() or re.search(r"\b(?:FROM|INTO|SET|VALUES|WHERE)\b", sql) is None


def _made_in(text: str) -> frozenset[str]:
    return frozenset(
        match[1].rpartition(".")[2].strip('"`[]').casefold() for match in _MAKES.finditer(text)
    )


def _place_of(tokens: Sequence[Token], name: str) -> int | None:
    folded = name.strip('"').casefold()
    found = (token.start for token in tokens if token.is_name and token.name.casefold() == folded)
    return next(found, None)


def _nearest(name: str, names: Iterable[str]) -> str:
    by_folded = {known.casefold(): known for known in names}
    folded = name.casefold()
    close = difflib.get_close_matches(folded, by_folded, n=1, cutoff=0.5)
    if close:
        return by_folded[close[0]]
    holding = [known for known in by_folded if min(len(known), len(folded)) >= _LEAST_SHARED
               and (folded in known or known in folded)]  # fmt: skip
    return by_folded[min(holding, key=len)] if holding else ""
