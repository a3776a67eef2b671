"""SQLite's SQL, as far as conditions are completed in it."""

from __future__ import annotations

from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.engines.sqlite.functions import FUNCTIONS
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Lexis

_RESERVED = """
ADD ALL ALTER AND AS AUTOINCREMENT BETWEEN CASE CAST CHECK COLLATE COMMIT CONSTRAINT CREATE
CURRENT_DATE CURRENT_TIME CURRENT_TIMESTAMP DEFAULT DEFERRABLE DELETE DISTINCT DROP ELSE
ESCAPE EXCEPT EXISTS FOREIGN FROM GROUP HAVING IN INDEX INSERT INTERSECT INTO IS ISNULL JOIN
LIMIT NOT NOTHING NOTNULL NULL ON OR ORDER PRIMARY RAISE REFERENCES RETURNING SELECT SET
TABLE THEN TO TRANSACTION UNION UNIQUE UPDATE USING VALUES WHEN WHERE
"""
"""Of https://sqlite.org/lang_keywords.html."""

_TYPES = (
    *("INTEGER", "REAL", "NUMERIC", "TEXT", "BLOB", "BOOLEAN", "DATE", "TIMESTAMP", "TIME"),
    *("JSON", "UUID"),
)

DIALECT = Dialect(
    frozenset(_RESERVED.split()),
    (
        *("abs(", "coalesce(", "date(", "datetime(", "instr(", "json_extract(", "length("),
        *("lower(", "max(", "min(", "round(", "strftime(", "substr(", "trim(", "typeof("),
        "upper(",
    ),
    (
        *("=", "<>", "<", "<=", ">", ">=", "LIKE", "GLOB", "IN (", "BETWEEN", "IS NULL"),
        *("IS NOT NULL", "NOT LIKE", "NOT IN (", "NOT BETWEEN", "COLLATE NOCASE"),
    ),
    ("IN (", "LIKE", "GLOB", "BETWEEN", "NULL"),
    lexis=Lexis(tcl_variables=True),
    signatures=FUNCTIONS,
    defers_links="PRAGMA defer_foreign_keys = ON",
    can_leave_links_unchecked=True,
    types=tuple(map(column_type, _TYPES)),
    type_named=column_type,
)
