"""What is known of a statement while it is written: how it can go on, and what is wrong with it.

Found in threads of their own, so that typing waits for nothing, whatever is being run.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of
from jondel.core.query.completion import (
    Ways,
    marked_signature,
    signatures_at,
    ways_at,
    with_values,
)
from jondel.core.query.remarks import Problem, outlives_a_rollback, problems_in, remark_at
from jondel.tui.services.moments import Moment, Now
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.threads import Job
from jondel.tui.services.trail import TrailService

if TYPE_CHECKING:
    from jondel.core.query.source_check import SourceReport
    from jondel.core.sql.dialect import Dialect
    from jondel.tui.services.links import LinkService

_VALUES = 300
_MOST_CHARACTERS = 400_000


class QueryHelp:
    """Every coroutine may raise ``JondelError``."""

    def __init__(self, location: str, target: str, trail: TrailService, links: LinkService) -> None:
        self._location = location
        self._trail = trail
        self._links = links
        self._reader = MomentReader("query-help", target)
        self._checker = MomentReader("query-check", target)

    def close(self) -> None:
        """Let go of everything."""
        self._reader.close()
        self._checker.close()

    def _dialect(self, moment: Moment) -> Dialect:
        return dialect_of(self._location if isinstance(moment, Now) else None)

    async def ways(self, script: str, cursor: int, moment: Moment) -> tuple[Ways, str]:
        """How a script can go on at a cursor; and what is to be said of the statement there."""
        if len(script) > _MOST_CHARACTERS:
            return Ways(()), ""
        dialect = self._dialect(moment)

        def work(database: Database) -> tuple[Ways, str]:
            schema = database.schema()
            standing = self._links.standing(schema)
            links = [link for link, how in standing.items() if how != "guessed"]
            found = ways_at(script, cursor, schema, links, dialect)
            if found.values_of is not None:
                table, column = found.values_of
                values = database.rows.distinct_values(table, column, _VALUES)
                found = with_values(found, values)
            remark = remark_at(script, cursor, schema, dialect)
            if remark is None and database.rehearsals is not None:
                return found, " · ".join(outlives_a_rollback(script, schema, dialect))
            if remark is None:
                given = signatures_at(script, cursor, dialect)
                return found, "   ".join(marked_signature(s, n) for s, n in given)
            if remark.counted is None:
                return found, remark.words
            rows = database.rows.measure(remark.counted, quick=True)
            about = "" if rows.precision == "exact" else "about "
            return found, remark.words.replace("{}", f"{about}{rows.rows}")

        source = self._trail.require_source(moment)
        return await self._reader.read(source, self._trail.if_opened, work)

    async def check_sources(
        self, folder: Path, moment: Moment, go_on: Callable[[int], None]
    ) -> SourceReport:
        """What is wrong with the SQL in a folder's source; ``go_on`` is told how many files were
        read, in the thread that reads them."""
        from jondel.core.query.source_check import check_sources

        dialect, source = self._dialect(moment), self._trail.require_source(moment)

        def work(job: Job) -> SourceReport:
            database = self._checker.open(job, source, self._trail.if_opened)

            def told(files: int) -> None:
                job.require_wanted()
                go_on(files)

            return check_sources([folder], database, dialect, told)

        return await self._checker.run(work)

    async def problems(self, script: str, moment: Moment) -> list[Problem]:
        """What the engine finds wrong in a script, without running any of it."""
        if len(script) > _MOST_CHARACTERS:
            return []
        dialect = self._dialect(moment)
        source = self._trail.require_source(moment)
        return await self._checker.read(
            source, self._trail.if_opened, lambda base: problems_in(script, base, dialect)
        )
