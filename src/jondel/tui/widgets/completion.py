"""Completes what is typed as SQL: the rest of a column's name or a keyword, shown dimmed."""

from __future__ import annotations

import re

from textual.suggester import Suggester

from jondel.core.model.schema import Table
from jondel.core.sql.tokens import tokens

_KEYWORDS = (
    "AND",
    "BETWEEN",
    "COLLATE NOCASE",
    "ESCAPE",
    "EXISTS",
    "GLOB",
    "IN",
    "IS NOT NULL",
    "IS NULL",
    "LIKE",
    "NOT",
    "NULL",
    "OR",
)
_FUNCTIONS = ("abs(", "coalesce(", "date(", "datetime(", "instr(", "json_extract(", "length(")
_MORE_FUNCTIONS = ("lower(", "max(", "min(", "round(", "strftime(", "substr(", "trim(", "typeof(")
_PLAIN_NAME = re.compile(r"[A-Za-z_]\w*")


class SqlCompleter(Suggester):
    """Suggests how the last word of a condition on a table goes on."""

    def __init__(self, table: Table) -> None:
        super().__init__(use_cache=False, case_sensitive=True)
        self._names = [_written(name) for name in table.column_names]

    async def get_suggestion(self, value: str) -> str | None:
        found = list(tokens(value))
        if not found or found[-1].end != len(value) or not value:
            return None
        last = found[-1]
        if last.kind == "loose quote" and last.text == '"':
            return None
        if last.kind != "word":
            return None
        start = last.text.casefold()
        for candidate in (*self._names, *_KEYWORDS, *_FUNCTIONS, *_MORE_FUNCTIONS):
            if candidate.casefold().startswith(start) and len(candidate) > len(start):
                # What was typed stays as it was typed.
                return value + candidate[len(start) :]
            quoted = candidate[1:].casefold() if candidate.startswith('"') else ""
            if quoted.startswith(start):
                return value[: last.start] + candidate
        return None


def _written(name: str) -> str:
    plain = _PLAIN_NAME.fullmatch(name) and name.upper() not in _KEYWORDS
    return name if plain else '"' + name.replace('"', '""') + '"'
