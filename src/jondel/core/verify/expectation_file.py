"""Expectations as the project's file has them.

[[expectations]]
name = "book a berth"
transactions = 1                      # or {at_least = 1, at_most = 2}; left out: any number

[[expectations.tables]]
table = "bookings"                    # what no table says must not change
added = 1                             # how many; left out: those described below, and no others

[[expectations.tables.records]]
is = "added"                          # added, changed, removed
name = "booking"                      # by which other cells can be the same as its own
cells = {berth_id = 3, status = "held", note = {null = true}}

[[expectations.tables.records]]
is = "changed"
key = {id = 7}
cells = {status = {from = "held", to = "paid"}}
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from jondel.core.files.toml_entries import TomlEntry, TomlFile, kind_words
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import MARKS, ChangeKind
from jondel.core.verify.bindings import names_in
from jondel.core.verify.candidates import KINDS
from jondel.core.verify.expectation import (
    ONCE,
    Count,
    Expectation,
    ExpectedRecord,
    ExpectedTable,
)
from jondel.core.verify.matcher_forms import matcher_form, matcher_of_form
from jondel.core.verify.matchers import FromTo, Matcher

_MOST = 1 << 40


def expectations_in(file: TomlFile) -> dict[str, Expectation]:
    """The expectations of a project by name.

    Raises:
        ProjectInvalid: one cannot be understood; the message says the line and the key.
    """
    found: dict[str, Expectation] = {}
    for entry in file.top().tables("expectations"):
        expectation = _expectation(entry)
        if expectation.name in found:
            entry.refuse(f"there is another expectation {expectation.name!r} above", "name")
        found[expectation.name] = expectation
    return found


def _expectation(entry: TomlEntry) -> Expectation:
    name = entry.filled_text("name")
    if name is None:
        entry.refuse("has no name")
    transactions = _count(entry, "transactions")
    schema = entry.texts("schema") or ()
    tables = tuple(_table(table) for table in entry.tables("tables"))
    entry.finish()
    expectation = Expectation(name, tables, transactions, schema)
    _check_names(entry, expectation)
    return expectation


def _check_names(entry: TomlEntry, expectation: Expectation) -> None:
    """Every name is one record's, and whatever is to be the same as a record finds it."""
    named: set[str] = set()
    for table in expectation.tables:
        for record in table.records:
            if record.name in named:
                entry.refuse(f"two records have the name {record.name!r}", "tables")
            named |= {record.name} - {""}
            if record.name and record.times != ONCE:
                entry.refuse(f"{record.name!r} is the name of several records", "tables")
    for table_at, table in enumerate(expectation.tables):
        if any(other.table == table.table for other in expectation.tables[:table_at]):
            place = (*entry.place, "tables", table_at)
            entry.file.refuse(place, f"{table.table} is there twice; put both together")
        for at, record in enumerate(table.records):
            for name in sorted(names_in(record) - named):
                known = f"; known are {', '.join(sorted(named))}" if named else ""
                entry.file.refuse(
                    (*entry.place, "tables", table_at, "records", at),
                    f"no record has the name {name!r}{known}",
                )


def _table(entry: TomlEntry) -> ExpectedTable:
    name = entry.filled_text("table")
    if name is None:
        entry.refuse("lacks the name of the table: table = ...")
    anything = entry.choice("changes", ("any",)) is not None
    counts = {kind: count for kind in KINDS if (count := _count(entry, kind)) is not None}
    records = tuple(_record(record) for record in entry.tables("records"))
    entry.finish()
    if anything and (counts or records):
        entry.refuse('changes = "any" leaves nothing else to be said of the table', "changes")
    return ExpectedTable(TableId.parsed(name), records, counts, anything)


def _record(entry: TomlEntry) -> ExpectedRecord:
    word = entry.choice("is", tuple(MARKS))
    if word is None:
        entry.refuse(f"lacks what becomes of the record: is = one of {', '.join(MARKS)}")
    kind: ChangeKind = next(kind for kind in KINDS if kind == word)
    record = ExpectedRecord(
        kind,
        tuple(_matchers(entry, "key")),
        tuple(_matchers(entry, "cells")),
        entry.text("name") or "",
        _count(entry, "times") or ONCE,
        entry.text("digest") or "",
    )
    entry.finish()
    for column, matcher in (*record.key, *record.cells):
        if isinstance(matcher, FromTo) and (kind != "changed" or (column, matcher) in record.key):
            entry.refuse(f"{column}: from and to are for cells of changed records")
    return record


def _matchers(entry: TomlEntry, key: str) -> Iterator[tuple[str, Matcher]]:
    table = entry.table(key)
    for column, form in table.pairs() if table is not None else ():
        yield column, matcher_of_form(form, entry.file, (*entry.place, key, column))


def _count(entry: TomlEntry, key: str) -> Count | None:
    value = entry.value(key)
    if value is None:
        return None
    if isinstance(value, int) and not isinstance(value, bool):
        number = entry.whole(key, 0, _MOST) or 0
        return Count(number, number)
    if not isinstance(value, dict):
        entry.refuse(
            f"expected a whole number or {{at_least = ..., at_most = ...}}, "
            f"found {kind_words(value)}",
            key,
        )
    bounds = entry.table(key)
    assert bounds is not None, "it is a table"
    least, most = bounds.whole("at_least", 0, _MOST) or 0, bounds.whole("at_most", 0, _MOST)
    bounds.finish()
    if most is not None and most < least:
        bounds.refuse("nothing is in this range", "at_most")
    return Count(least, most)


def expectation_form(expectation: Expectation) -> dict[str, Any]:
    """An expectation as it is written: tables of values, lists and tables."""
    form: dict[str, Any] = {"name": expectation.name}
    if expectation.transactions is not None:
        form["transactions"] = _count_form(expectation.transactions)
    if expectation.schema:
        form["schema"] = list(expectation.schema)
    if expectation.tables:
        form["tables"] = [_table_form(table) for table in expectation.tables]
    return form


def _table_form(table: ExpectedTable) -> dict[str, Any]:
    form: dict[str, Any] = {"table": table.table.spelled}
    if table.anything:
        form["changes"] = "any"
    form |= {kind: _count_form(count) for kind, count in table.counts.items()}
    if table.records:
        form["records"] = [_record_form(record) for record in table.records]
    return form


def _record_form(record: ExpectedRecord) -> dict[str, Any]:
    form: dict[str, Any] = {"is": record.kind}
    form |= {"name": record.name} if record.name else {}
    form |= {"times": _count_form(record.times)} if record.times != ONCE else {}
    for what, cells in (("key", record.key), ("cells", record.cells)):
        if cells:
            form[what] = {column: matcher_form(matcher) for column, matcher in cells}
    return form | ({"digest": record.digest} if record.digest else {})


def _count_form(count: Count) -> int | dict[str, int]:
    if count.least == count.most:
        return count.least
    bounds = {"at_least": count.least, "at_most": count.most}
    return {name: bound for name, bound in bounds.items() if bound is not None}
