"""PostgreSQL's SQL, as far as conditions are completed in it."""

from __future__ import annotations

from jondel.core.engines.postgresql.column_types import type_named
from jondel.core.engines.postgresql.functions import FUNCTIONS
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Lexis
from jondel.core.sql.values_in_sql import LiteralForms

_RESERVED = """
ALL ANALYSE ANALYZE AND ANY ARRAY AS ASC ASYMMETRIC AUTHORIZATION BINARY BOTH CASE CAST
CHECK COLLATE COLLATION COLUMN CONCURRENTLY CONSTRAINT CREATE CROSS CURRENT_CATALOG
CURRENT_DATE CURRENT_ROLE CURRENT_SCHEMA CURRENT_TIME CURRENT_TIMESTAMP CURRENT_USER DEFAULT
DEFERRABLE DESC DISTINCT DO ELSE END EXCEPT FALSE FETCH FOR FOREIGN FREEZE FROM FULL GRANT
GROUP HAVING ILIKE IN INITIALLY INNER INTERSECT INTO IS ISNULL JOIN LATERAL LEADING LEFT
LIKE LIMIT LOCALTIME LOCALTIMESTAMP NATURAL NOT NOTNULL NULL OFFSET ON ONLY OR ORDER OUTER
OVERLAPS PLACING PRIMARY REFERENCES RETURNING RIGHT SELECT SESSION_USER SIMILAR SOME
SYMMETRIC SYSTEM_USER TABLE TABLESAMPLE THEN TO TRAILING TRUE UNION UNIQUE USER USING
VARIADIC VERBOSE WHEN WHERE WINDOW WITH
"""
"""Reserved in https://www.postgresql.org/docs/current/sql-keywords-appendix.html."""

_TYPES = (
    *("bigint", "integer", "double precision", "numeric", "text", "boolean", "date", "time"),
    *("timestamp with time zone", "timestamp without time zone", "interval", "uuid", "jsonb"),
    "bytea",
)

DIALECT = Dialect(
    frozenset(_RESERVED.split()),
    (
        *(
            "abs(",
            "age(",
            "coalesce(",
            "date_part(",
            "date_trunc(",
            "jsonb_path_exists(",
            "length(",
        ),
        *("lower(", "now()", "position(", "regexp_replace(", "round(", "strpos(", "substr("),
        *("to_char(", "to_timestamp(", "trim(", "upper("),
    ),
    (
        *("=", "<>", "<", "<=", ">", ">=", "LIKE", "ILIKE", "~", "IN (", "BETWEEN", "IS NULL"),
        *("IS NOT NULL", "NOT LIKE", "NOT ILIKE", "NOT IN (", "NOT BETWEEN", "::"),
    ),
    ("IN (", "LIKE", "ILIKE", "BETWEEN", "NULL"),
    folds=True,
    lexis=Lexis(nested_comments=True, dollar_quotes=True, escapes=True, more_quotes=False),
    searched=frozenset({"public"}),
    forms=LiteralForms("'\\x{}'::bytea", "'Infinity'::float8", "'NaN'::float8", raw_controls=True),
    signatures=FUNCTIONS,
    defers_links="SET CONSTRAINTS ALL DEFERRED",
    types=tuple(map(type_named, _TYPES)),
    type_named=type_named,
)
