"""A captured state of a SQLite file, opened as a database from its pages."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import apsw

from jondel.core.engines.pages import PageHashes, PageIndexes, PagePeek, PageSource, is_small
from jondel.core.engines.protocol import Database, Selection
from jondel.core.engines.sqlite import connection as opening
from jondel.core.engines.sqlite import page_vfs
from jondel.core.engines.sqlite.database import SqliteDatabase
from jondel.core.engines.sqlite.page_comparison import PageComparison, TableTrees
from jondel.core.engines.sqlite.state_wait import check_stop
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table

if TYPE_CHECKING:
    from jondel.core.engines.roles import Rehearser
    from jondel.core.model.outcomes import ResultSink, ScriptOutcome, ScriptStatement

_KEEPS_ROWS_IN_SHADOWS = re.compile(
    r"\bUSING\s+[\"'`\[]?(fts[345]|rtree|rtree_i32|geopoly)\b", re.IGNORECASE
)


def open_pages(pages: PageSource, location: str) -> SqliteImage:
    """Open captured pages of the database at ``location``; closing it closes them too."""
    return SqliteImage(pages, location)


class SqliteImage(SqliteDatabase):
    """One state; ``pages`` are what it is made of."""

    def __init__(self, pages: PageSource, location: str) -> None:
        self.pages = pages
        self.served_name = page_vfs.serve(pages)
        self._only_schema: Schema | None = None
        self._touched: tuple[PageIndexes, PageHashes] | None = None
        self._comparison: tuple[SqliteImage, PageComparison | None] | None = None
        try:
            super().__init__(Path(location), self._opened, location)
        except BaseException:
            page_vfs.withdraw(self.served_name)
            raise

    def schema(self) -> Schema:
        if self._only_schema is None:  # it never changes
            self._only_schema = super().schema()
        return self._only_schema

    @property
    def rehearser(self) -> Rehearser | None:
        return self

    def rehearse(
        self,
        statements: Sequence[ScriptStatement],
        sink_for: Callable[[int], ResultSink | None],
        *,
        foreign_keys: bool = True,
    ) -> tuple[ScriptOutcome, Database]:
        from jondel.core.engines.sqlite.rehearsing import rehearse  # not needed to look

        outcome, pages = rehearse(
            self.pages,
            self._location,
            statements,
            sink_for,
            self._stop_asked,
            foreign_keys=foreign_keys,
        )
        return outcome, SqliteImage(pages, self._location)

    def rows_that_may_differ(self, older: Database, table: TableId) -> Selection | None:
        comparison = self._compared(older)
        if comparison is None or not isinstance(older, SqliteImage):
            return None
        return None if comparison is None else self._selection(comparison, older, table)

    def tables_alike(self, older: Database) -> frozenset[TableId]:
        comparison = self._compared(older)
        if comparison is None:
            return frozenset()
        old, new = older.schema(), self.schema()
        alike = {TableId(name) for name in comparison.same_leaves()}
        if old is not new:
            alike = {
                table
                for table in alike
                if old.find(table) == new.find(table)
                and old.declaration(table) == new.declaration(table)
            }
        return frozenset(alike)

    def _compared(self, older: Database) -> PageComparison | None:
        if not isinstance(older, SqliteImage):
            return None
        if self._comparison is None or self._comparison[0] is not older:
            self._comparison = (older, self._compared_with(older))
        return self._comparison[1]

    def reads_alike(self, other: PagePeek) -> bool:
        check_stop(self._stop_asked)
        pages = self.pages
        if other.page_size != pages.page_size or 0 not in pages.touched:
            return False
        if self._touched is None or len(self._touched[0]) != len(pages.touched):
            import numpy as np  # slow to load, and needed only for many states

            touched = np.array(sorted(pages.touched), np.intp)
            own = np.frombuffer(pages.hashes, np.uint64).reshape(-1, 2)
            self._touched = touched, own[touched]
        touched, own = self._touched
        hashes = other.hashes(touched)
        if hashes is None:
            return False
        same = (hashes == own).all(1)
        if not same[1:].all():
            return False
        return bool(same[0]) or _settled_part(other.read(0)) == _settled_part(pages.read(0))

    def close(self) -> None:
        super().close()
        page_vfs.withdraw(self.served_name)
        self._comparison = None
        self.pages.close()

    def _opened(self, path: Path) -> apsw.Connection:
        return opening.open_pages(self.served_name, path)

    def _compared_with(self, older: SqliteImage) -> PageComparison | None:
        """Compare by pages; None where the two lay out their pages in different ways."""
        sides = (older, self)
        if older.pages.page_size != self.pages.page_size or older._encoding != self._encoding:
            return None
        if not all(side.pages.page_count for side in sides):
            return None
        tables = {}
        for new in self.schema().tables:
            old = older.schema().find(new.id)
            width = _key_width(old, new)
            if old is not None and width is not None and old.identity and new.identity:
                tables[new.name] = TableTrees((old.identity, new.identity), width)
        sources = (older.pages, self.pages)
        if all(is_small(source.page_count) for source in sources):
            return PageComparison(sources, tables, self._encoding)
        from jondel.core.engines.sqlite.array_comparison import ArrayComparison  # needs numpy

        return ArrayComparison(sources, tables, self._encoding)

    def _selection(
        self, comparison: PageComparison, older: SqliteImage, table: TableId
    ) -> Selection | None:
        old, new = older.schema().find(table), self.schema().find(table)
        if old is None or new is None or old != new:
            return None
        declared = self.schema().declaration(table)
        if declared != older.schema().declaration(table):
            return None
        if new.kind == "virtual table":
            return self._of_virtual(comparison, older, new, declared or "")
        if new.row_id is None and new.unknown_order:
            return None  # its rows cannot be found by a key whose order only the app knows
        return comparison.selection(table.name)

    def _of_virtual(
        self, comparison: PageComparison, older: SqliteImage, table: Table, declared: str
    ) -> Selection | None:
        """Nothing, where the tables that hold a virtual table's rows are all the same."""
        if not _KEEPS_ROWS_IN_SHADOWS.search(declared) or "content" in declared.lower():
            return None
        shadows = [
            other.id
            for other in self.schema().tables
            if other.shadow_of.lower() == table.name.lower()
        ]
        for shadow in shadows:
            selection = self._selection(comparison, older, shadow)
            if selection is None or not selection.empty:
                return None
        return Selection()


def _settled_part(first_page: bytes) -> bytes:
    """A first page without what a commit changes that nothing which is read depends on.

    Those are the change counter, the size, the list of unused pages, and the library's version.
    """
    return first_page[:24] + first_page[40:92] + first_page[100:]


def _key_width(old: Table | None, new: Table | None) -> int | None:
    """How many values of a record are its key; 0 with row numbers, None where it is unclear."""
    if old is None or new is None or old.kind != "table" or old != new:
        return None
    if new.row_id is not None:
        return 0
    return len(new.primary_key) if new.without_row_id else None
