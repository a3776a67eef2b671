"""How a statement that is being written can go on."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.browse.links import Link
from jondel.core.errors import StatementRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import StoredValue
from jondel.core.query.lets import without_lets
from jondel.core.query.scopes import Scope, Source, scope_at
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import marks
from jondel.core.sql.splitting import split
from jondel.core.sql.tokens import Token, tokens
from jondel.core.sql.values_in_sql import literal

WayKind: TypeAlias = Literal["table", "column", "join", "function", "keyword", "value"]
_MOST_WAYS = 200
_MOST_VALUE_CHARACTERS = 60
_TABLE_COMES = ("FROM", "JOIN", "INTO", "UPDATE", "TABLE", "REFERENCES", "TRUNCATE")
_CLAUSES = ("SELECT", "FROM", "JOIN", "ON", "USING", "WHERE", "BY", "HAVING", "SET", "INTO",
            "VALUES", "UPDATE", "DELETE", "LIMIT", "RETURNING", "TABLE", "REFERENCES",
            "INSERT", "OFFSET", "TRUNCATE", "WITH")  # fmt: skip
_COMPARING = ("=", "==", "<>", "!=", "<", "<=", ">", ">=", "LIKE", "GLOB", "ILIKE", "IS")
_OPERAND_COMES = ("AND", "OR", "NOT", "THEN", "ELSE", "WHEN", "BETWEEN", "CASE", "DISTINCT", "ALL")
_SECOND_WORDS = {"INSERT": "INTO", "DELETE": "FROM", "GROUP": "BY", "ORDER": "BY"}
_AFTER: dict[str, tuple[str, ...]] = {
    "": ("SELECT", "INSERT INTO", "UPDATE", "DELETE FROM", "WITH", "CREATE TABLE", "ALTER TABLE",
         "DROP TABLE", "CREATE INDEX", "EXPLAIN", "BEGIN", "COMMIT", "ROLLBACK", "VALUES"),
    "SELECT": ("FROM", "AS", "DISTINCT", "CASE WHEN"),
    "FROM": ("JOIN", "LEFT JOIN", "WHERE", "GROUP BY", "ORDER BY", "LIMIT", "AS", "UNION ALL"),
    "JOIN": ("ON", "USING (", "AS"),
    "ON": ("AND", "WHERE", "JOIN", "LEFT JOIN", "GROUP BY", "ORDER BY", "LIMIT"),
    "WHERE": ("AND", "OR", "GROUP BY", "ORDER BY", "LIMIT", "RETURNING"),
    "BY": ("ASC", "DESC", "HAVING", "ORDER BY", "LIMIT"),
    "HAVING": ("AND", "ORDER BY", "LIMIT"),
    "SET": ("WHERE", "FROM", "RETURNING"),
    "INTO": ("VALUES (", "SELECT", "DEFAULT VALUES"),
    "VALUES": ("ON CONFLICT", "RETURNING"),
    "UPDATE": ("SET",),
    "LIMIT": ("OFFSET",),
    "USING": ("WHERE", "JOIN", "ORDER BY"),
    "TABLE": ("ADD COLUMN", "RENAME TO", "RENAME COLUMN", "DROP COLUMN"),
}  # fmt: skip


class Way(NamedTuple):
    """One way to go on: what stands there then, from ``start`` on, and what it is."""

    text: str
    start: int
    kind: WayKind
    detail: str = ""


class Ways(NamedTuple):
    """The ways to go on, the likely first; and the column whose values can stand there too."""

    ways: tuple[Way, ...]
    typed: str = ""
    start: int = 0
    values_of: tuple[Table, str] | None = None


NONE = Ways(())


def ways_at(
    script: str, cursor: int, schema: Schema, links: Sequence[Link], dialect: Dialect
) -> Ways:
    """The ways in which a script can go on at a cursor; none in a comment or a string."""
    piece = next((p for p in split(script, dialect.lexis) if p.start <= cursor <= p.end), None)
    if piece is None:
        return NONE
    every = list(tokens(script[piece.start : piece.end], dialect.lexis))
    at = cursor - piece.start
    if any(t.start < at and _holds(t, at) for t in every):
        return NONE
    statement = [token for token in every if token.kind != "comment"]
    before = [token for token in statement if token.end <= at]
    typed = ""
    if before and before[-1].end == at and _names_a_value(before[-1]):
        return _names_of_values(script, before[-1].text, cursor, dialect)
    if before and before[-1].end == at and before[-1].kind in ("word", "name"):
        typed = before.pop().text
    elif at and before and before[-1].end == at and before[-1].kind == "number":
        return NONE
    inside = next((t for t in statement if t.start < at < t.end), None)
    if inside is not None and inside.kind == "name":
        return NONE
    if inside is not None and inside.kind == "word":
        typed = inside.text[: at - inside.start]
        before = [token for token in before if token is not inside]
    asking = _Asking(before, scope_at(statement, at, schema), schema, links, dialect)
    start = cursor - len(typed)
    found = [way._replace(start=start) for way in asking.ways()]
    fitting = _fitting(found, typed, dialect)
    return Ways(tuple(fitting[:_MOST_WAYS]), typed, start, asking.compared_column())


def signatures_at(script: str, cursor: int, dialect: Dialect) -> list[tuple[str, int]]:
    """What the function takes whose arguments are being written at a cursor, and which of them it
    is, from 0; as many as there are of its name."""
    piece = next((p for p in split(script, dialect.lexis) if p.start <= cursor <= p.end), None)
    if piece is None:
        return []
    before = [
        token
        for token in tokens(script[piece.start : cursor], dialect.lexis)
        if token.kind != "comment"
    ]
    if any(token.kind == "loose quote" for token in before):
        return []
    depth = argument = 0
    for place in range(len(before) - 1, 0, -1):
        text = before[place].text
        if text == ")":
            depth += 1
        elif text == "(" and depth:
            depth -= 1
        elif text == "(":
            name = before[place - 1]
            folded = name.text.casefold() if name.kind == "word" else ""
            return [(s, argument) for s in dialect.signatures
                    if folded and s.partition("(")[0].casefold() == folded]  # fmt: skip
        elif text == "," and not depth:
            argument += 1
    return []


def marked_signature(signature: str, argument: int) -> str:
    """A signature with a mark at one of its arguments, the last where it goes on for ever."""
    name, bracket, rest = signature.partition("(")
    inside, end, more = rest.partition(")")
    parts = inside.split(", ") if inside else []
    if not parts:
        return signature
    place = min(argument, len(parts) - 1)
    if argument < len(parts) or parts[-1] == "…":
        parts[place] = f"▸{parts[place]}"
    return f"{name}{bracket}{', '.join(parts)}{end}{more}"


def with_values(found: Ways, values: Iterable[StoredValue]) -> Ways:
    """The same with values of the column that is compared, before all else."""
    written = sorted({text for text in map(_written, values) if text not in ("", "NULL")})
    typed = found.typed.casefold()
    fitting = [text for text in written if text.casefold().startswith(typed)]
    more = tuple(Way(text, found.start, "value") for text in fitting[:_MOST_WAYS])
    return found._replace(ways=(*more, *found.ways)[:_MOST_WAYS])


def _names_a_value(token: Token) -> bool:
    return token.says(":") or (token.kind == "parameter" and token.text.startswith(":"))


def _names_of_values(script: str, typed: str, cursor: int, dialect: Dialect) -> Ways:
    """Values that are named before the script, then its parameters."""
    start = cursor - len(typed)
    try:
        plain, lets, _ = without_lets(script, dialect)
    except StatementRefused:  # what is wrong there is marked
        plain, lets = script, ()
    ways = [Way(f":{let.name}", start, "value", "named before") for let in lets]
    ways += [
        Way(mark.text, start, "value", "a parameter")
        for mark in marks(plain, dialect)
        if mark.text.startswith(":") and mark.start != start
    ]
    return Ways(tuple(_fitting(ways, typed, dialect)[:_MOST_WAYS]), typed, start)


def _holds(token: Token, at: int) -> bool:
    """Whether a place is in a comment, a string or an open quote."""
    if token.kind == "comment":
        return at < token.end or (at == token.end and token.text.startswith("--"))
    if token.kind == "loose quote":
        return True
    return token.kind in ("string", "blob") and at < token.end


def _fitting(ways: Iterable[Way], typed: str, dialect: Dialect) -> list[Way]:
    """Those that begin with what is typed, then those that hold it; each once."""
    folded = typed.strip('"').casefold()
    first: dict[str, Way] = {}
    second: dict[str, Way] = {}
    for way in ways:
        plain = way.text.strip('"').casefold()
        last = plain.rpartition(".")[2].strip('"') if way.kind == "column" else plain
        if plain == folded:
            continue
        if plain.startswith(folded) or last.startswith(folded):
            first.setdefault(way.text, way)
        elif folded and len(folded) > 1 and folded in plain and way.kind in ("table", "column"):
            second.setdefault(way.text, way)
    return [*first.values(), *(way for text, way in second.items() if text not in first)]


def _written(value: StoredValue) -> str:
    if isinstance(value, bytes) or (isinstance(value, str) and not value.isprintable()):
        return ""
    text = literal(value)
    return text if len(text) <= _MOST_VALUE_CHARACTERS else ""


class _Asking:
    """What can stand behind some tokens."""

    def __init__(
        self,
        before: Sequence[Token],
        scope: Scope,
        schema: Schema,
        links: Sequence[Link],
        dialect: Dialect,
    ) -> None:
        self._before, self._scope, self._schema = before, scope, schema
        self._links, self._dialect = links, dialect
        self._clause, self._clause_at = self._find_clause()

    def _find_clause(self) -> tuple[str, int]:
        """The word that begins the clause one is in, at the same depth of parentheses."""
        depth = 0
        for place in range(len(self._before) - 1, -1, -1):
            token = self._before[place]
            if token.text == ")":
                depth += 1
            elif token.text == "(":
                if not depth:
                    word = self._before[place - 1] if place else None
                    if word is not None and word.says("USING", "VALUES", "IN"):
                        return word.text.upper(), place
                    if self._is_insert_list(place):
                        return "COLUMNS", place
                    continue
                depth -= 1
            elif not depth and token.says(*_CLAUSES):
                return token.text.upper(), place
        return "", -1

    def _is_insert_list(self, place: int) -> bool:
        names = list(self._before[:place][-6:])
        while names and not names[-1].says("INTO") and (names[-1].is_name or names[-1].says(".")):
            names.pop()
        return bool(names) and names[-1].says("INTO")

    def ways(self) -> Iterable[Way]:
        """All of them, the likely first."""
        last = self._before[-1] if self._before else None
        if last is not None and last.text == ".":
            return self._after_dot()
        if last is None:
            return self._keywords("")
        if self._expects_table(last):
            return self._tables()
        if self._clause == "COLUMNS":
            return self._columns_left()
        if last.says("ON") and self._clause == "ON":
            return [*self._join_conditions(), *self._columns()]
        if self._clause == "USING":
            return self._common_columns()
        if self._clause == "SET" and (last.says("SET") or last.text == ","):
            return self._target_columns()
        if self._operand_comes(last):
            keywords = [] if self._clause == "VALUES" else self._keywords("SELECT")[-2:]
            columns = self._columns() if self._clause not in ("VALUES", "LIMIT", "OFFSET") else []
            return [*columns, *self._functions(), *keywords]
        if last.text.upper() in _SECOND_WORDS and last.kind == "word":
            return [Way(_SECOND_WORDS[last.text.upper()], 0, "keyword")]
        more = self._condition_words() if self._clause in ("WHERE", "ON", "HAVING") else []
        return [*self._keywords(self._clause), *more]

    def compared_column(self) -> tuple[Table, str] | None:
        """The column whose values can stand next, where it is compared with what comes."""
        tokens = list(self._before)
        if tokens and tokens[-1].text in ("(", ","):
            while tokens and (tokens[-1].text == "," or tokens[-1].kind in ("string", "number")):
                tokens.pop()
            if len(tokens) < 3 or tokens[-1].text != "(" or not tokens[-2].says("IN"):
                return None
            tokens = tokens[:-2]
        elif tokens and tokens[-1].says(*_COMPARING):
            tokens.pop()
        else:
            return None
        if tokens and tokens[-1].says("NOT"):
            tokens.pop()
        if not tokens or not tokens[-1].is_name:
            return None
        name = tokens[-1].name
        of = tokens[-3].name if len(tokens) > 2 and tokens[-2].text == "." else None
        for source in self._scope.sources:
            if source.table is None or (of and source.name.casefold() != of.casefold()):
                continue
            column = next((c for c in source.columns if c.casefold() == name.casefold()), None)
            if column is not None:
                return source.table, column
        return None

    def _expects_table(self, last: Token) -> bool:
        if last.says(*_TABLE_COMES):
            return True
        if last.says("ONLY", "EXISTS") and self._clause in ("TABLE", "FROM", "UPDATE"):
            return True
        return last.text == "," and self._clause == "FROM"

    def _operand_comes(self, last: Token) -> bool:
        if last.kind == "sign":
            return last.text not in (")", ";", "*") or self._multiplies(last)
        return last.says("SELECT", "WHERE", "HAVING", "BY", "SET", "RETURNING", "LIMIT", "OFFSET",
                         *_OPERAND_COMES, *_COMPARING, "IN")  # fmt: skip

    def _multiplies(self, last: Token) -> bool:
        before = self._before[-2] if len(self._before) > 1 else None
        return last.text == "*" and before is not None and (
            before.kind in ("number", "name") or before.text == ")"
        )  # fmt: skip

    # What there is

    def _name(self, name: str) -> str:
        return name_in_sql(name, self._dialect)

    def _after_dot(self) -> list[Way]:
        if len(self._before) < 2 or not self._before[-2].is_name:
            return []
        name = self._before[-2].name
        source = self._scope.called(name)
        if source is not None and source.columns:
            return [self._column(source, column) for column in source.columns] + (
                [Way("*", 0, "column")] if self._clause == "SELECT" else []
            )
        inside = [t for t in self._schema.tables if len(t.levels) > 1
                  and t.levels[-2].casefold() == name.casefold()]  # fmt: skip
        if inside:
            return [Way(self._name(t.name), 0, "table", _table_detail(t)) for t in inside]
        table = self._schema.ending_in(TableId(name))
        columns = table.column_names if table is not None else ()
        return [Way(self._name(column), 0, "column") for column in columns]

    def _column(self, source: Source, column: str) -> Way:
        declared = source.table.column(column) if source.table is not None else None
        detail = declared.type.name.lower() if declared is not None else ""
        return Way(self._name(column), 0, "column", detail)

    def _tables(self) -> list[Way]:
        """Tables, those that are linked with what is in scope first."""
        here = {s.table.id for s in self._scope.sources if s.table is not None}
        linked = {x.parent if x.child in here else x.child for x in self._links
                  if x.child in here or x.parent in here}  # fmt: skip
        named = [Way(self._name(source.name), 0, "table", "named by WITH")
                 for source in self._scope.named]  # fmt: skip
        listed = sorted(
            (t for t in self._schema.tables if not t.internal), key=lambda t: t.id not in linked
        )
        counts = Counter(table.name.casefold() for table in self._schema.tables)
        ways = [
            Way(self._address(t, counts[t.name.casefold()] == 1), 0, "table", _table_detail(t))
            for t in listed
        ]
        return named + ways

    def _address(self, table: Table, is_only_one: bool) -> str:
        """A table's name, with its schema where that is needed to find it."""
        found_by_name = is_only_one and set(table.id[:-1]) <= self._dialect.searched
        levels = table.id[-1:] if found_by_name else table.id
        return ".".join(self._name(level) for level in levels)

    def _columns(self) -> list[Way]:
        """Columns in scope, with what they are of where that must be said."""
        sources = self._scope.sources
        counts: dict[str, int] = {}
        for source in sources:
            for column in source.columns:
                counts[column.casefold()] = counts.get(column.casefold(), 0) + 1
        found: list[Way] = []
        for source in sources:
            for column in source.columns:
                way = self._column(source, column)
                if counts[column.casefold()] > 1:
                    way = way._replace(text=f"{self._name(source.name)}.{way.text}")
                detail = f"{source.name} {way.detail}".strip() if len(sources) > 1 else way.detail
                found.append(way._replace(detail=detail))
        names = [Way(self._name(s.name), 0, "table") for s in sources] if len(sources) > 1 else []
        return found + names

    def _columns_left(self) -> list[Way]:
        """The columns that an INSERT does not list yet."""
        taken = {
            token.name.casefold() for token in self._before[self._clause_at :] if token.is_name
        }
        return [
            way for way in self._target_columns() if way.text.strip('"').casefold() not in taken
        ]

    def _target_columns(self) -> list[Way]:
        sources = self._scope.sources
        return [self._column(sources[0], c) for c in sources[0].columns] if sources else []

    def _common_columns(self) -> list[Way]:
        sources = self._scope.sources
        if len(sources) < 2:
            return []
        last = {column.casefold() for column in sources[-1].columns}
        others = {c.casefold() for source in sources[:-1] for c in source.columns}
        return [self._column(sources[-1], c) for c in sources[-1].columns
                if c.casefold() in last & others]  # fmt: skip

    def _join_conditions(self) -> list[Way]:
        """How the table that is being joined is linked with those before it."""
        joined = self._joined()
        found: list[Way] = []
        for one in joined[-1:]:
            for other in joined[:-1]:
                for link in self._links:
                    for child, parent in ((one, other), (other, one)):
                        if child.table is None or parent.table is None:
                            continue
                        if (link.child, link.parent) == (child.table.id, parent.table.id):
                            found.append(Way(self._condition(link, child, parent), 0, "join"))
        return found

    def _joined(self) -> list[Source]:
        """The sources that are named before the cursor."""
        end = self._before[-1].end if self._before else 0
        names = {token.name.casefold() for token in self._before if token.is_name}
        return [s for s in self._scope.sources if s.name.casefold() in names and end]

    def _condition(self, link: Link, child: Source, parent: Source) -> str:
        pairs = zip(link.columns, link.parent_columns, strict=True)
        return " AND ".join(
            f"{self._name(child.name)}.{self._name(ours)} = "
            f"{self._name(parent.name)}.{self._name(theirs)}"
            for ours, theirs in pairs
        )

    def _functions(self) -> list[Way]:
        signatures = self._dialect.signatures or self._dialect.functions
        found: dict[str, Way] = {}
        for signature in signatures:
            name, bracket, _ = signature.partition("(")
            found.setdefault(name, Way(f"{name}{bracket}", 0, "function", signature))
        return list(found.values())

    def _keywords(self, clause: str) -> list[Way]:
        return [Way(word, 0, "keyword") for word in _AFTER.get(clause, ())]

    def _condition_words(self) -> list[Way]:
        return [Way(word, 0, "keyword") for word in self._dialect.after_column]


def _table_detail(table: Table) -> str:
    return f"{table.kind} · {len(table.columns)} columns"
