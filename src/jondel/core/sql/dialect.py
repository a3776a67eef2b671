"""What differs from one engine's SQL to another's, as far as text is cut and completed in it."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from jondel.core.model.column_types import ColumnType
from jondel.core.sql.tokens import PLAIN, Lexis
from jondel.core.sql.values_in_sql import FORMS, LiteralForms


class Dialect(NamedTuple):
    """An engine's words.

    ``reserved`` are those that name a column only in quotes, in capitals. ``functions`` end with
    their parenthesis; ``signatures`` are all of them with what they are given. ``after_column`` is
    what can follow a column, the likely first, and ``after_not`` what can follow NOT there. Where
    ``folds`` is true, names with capitals need quotes. ``lexis`` is how its text becomes tokens,
    ``forms`` how it writes values. Tables in the schemas that are ``searched`` go by their name
    alone. ``defers_links`` has links be checked at the end of a transaction, as far as the engine
    can do that; where they ``can_leave_links_unchecked``, a person chooses. ``types`` are those
    offered for new columns, the usual one of a kind before others; ``type_named`` tells of any
    what it comes to.
    """

    reserved: frozenset[str]
    functions: tuple[str, ...]
    after_column: tuple[str, ...]
    after_not: tuple[str, ...]
    folds: bool = False
    lexis: Lexis = PLAIN
    forms: LiteralForms = FORMS
    searched: frozenset[str] = frozenset()
    signatures: tuple[str, ...] = ()
    defers_links: str = ""
    can_leave_links_unchecked: bool = False
    types: tuple[ColumnType, ...] = ()
    type_named: Callable[[str], ColumnType] = ColumnType
