"""What the interface asks of core, as awaitable calls: one database, its trail, its app.

Threads: those of ``RowService``, the one that surveys (counts, snapshots, comparisons, writing),
and one each for what is seldom used, such as the one that runs the app's actions.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from jondel.core.browse.desk_layout import DeskLayoutFile
from jondel.core.browse.first_table import LastTable, first_table
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import location_of, open_database, other_host
from jondel.core.errors import StoreUnavailable
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Trail
from jondel.tui.services.comparisons import Comparisons
from jondel.tui.services.early_look import EarlyLook, table_to_open_with
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.rows import RowService
from jondel.tui.services.trail import TrailService
from jondel.tui.services.writing import Writing

if TYPE_CHECKING:
    from jondel.core.browse.sheet_states import SheetStates
    from jondel.core.verify.actions import Action
    from jondel.tui.services.drafts import DraftService
    from jondel.tui.services.exporting import ExportService
    from jondel.tui.services.links import LinkService
    from jondel.tui.services.query import QueryService
    from jondel.tui.services.query_help import QueryHelp
    from jondel.tui.services.verifying import VerifyService


class Workspace:
    """An open database with its trail."""

    def __init__(
        self,
        target: str,
        actions: Sequence[Action] = (),
        early: EarlyLook | None = None,
        *,
        read_only: bool = False,
    ) -> None:
        """``read_only``: nothing is ever written to the database from here, whoever asks."""
        self.location = location_of(target)
        self.target = target
        """As it was given; it may hold a password, the location never does."""
        self.actions = tuple(actions)
        self.early = early
        survey = MomentReader("survey", target)
        self.trail = TrailService(self.location, survey)
        self.rows = RowService(target, early, self.trail, survey)
        self.comparisons = Comparisons(self.trail, survey)
        self.writing = Writing(self.trail, survey, read_only=read_only, host=other_host(target))
        self._survey = survey
        self.last_table: TableId | None = None
        """The table last looked at, once there was one."""
        self._kept_table: TableId | None = None
        self._sheets: SheetStates | None = None
        self._layout_file: DeskLayoutFile | None = None
        self._links: LinkService | None = None
        self._drafts: DraftService | None = None
        self._query: QueryService | None = None
        self._query_help: QueryHelp | None = None
        self._exporting: ExportService | None = None
        self._verifying: VerifyService | None = None

    def close(self) -> None:
        """Stop all work and let go of everything."""
        trail = self.trail.if_opened
        self.rows.close()
        if self._drafts is not None:
            self._drafts.close()
        if self._query is not None:
            self._query.close()
        if self._query_help is not None:
            self._query_help.close()
        if self._exporting is not None:
            self._exporting.close()
        if self._verifying is not None:
            self._verifying.close()
        self._survey.close(trail.close if trail is not None else None)

    # Loaded when they are first used, for the first rows do without

    @property
    def sheets(self) -> SheetStates:
        """How the tables' sheets were left."""
        if self._sheets is None:
            from jondel.core.browse.sheet_states import SheetStates

            self._sheets = SheetStates(self.location)
        return self._sheets

    @property
    def sheets_if_used(self) -> SheetStates | None:
        """How the sheets were left, if anybody has asked for that."""
        return self._sheets

    def table_to_open_with(self, tables: Sequence[Table]) -> Table:
        """The table to begin with, of one at least."""
        if self.last_table is not None:
            return first_table(tables, self.last_table)
        return table_to_open_with(self.location, tables)

    def keep_last_table(self) -> None:
        """Have the database open with the table last looked at, the next time."""
        if self.last_table is not None and self.last_table != self._kept_table:
            with suppress(StoreUnavailable):  # of no more consequence than where one begins
                LastTable(self.location).write(self.last_table)
            self._kept_table = self.last_table

    @property
    def layout_file(self) -> DeskLayoutFile:
        """How the screen's room is shared out in this project."""
        if self._layout_file is None:
            self._layout_file = DeskLayoutFile(Project(self.location).root)
        return self._layout_file

    @property
    def links(self) -> LinkService:
        """The links between records."""
        if self._links is None:
            from jondel.tui.services.links import LinkService

            self._links = LinkService(self.location, self.rows)
        return self._links

    @property
    def drafts(self) -> DraftService:
        """The draft."""
        if self._drafts is None:
            from jondel.tui.services.drafts import DraftService

            self._drafts = DraftService(self.location, self.rows, self.writing)
        return self._drafts

    @property
    def query(self) -> QueryService:
        """The statements that a person runs."""
        if self._query is None:
            from jondel.tui.services.query import QueryService

            self._query = QueryService(
                self.location, self.target, self.trail, self.comparisons, self.writing
            )
        return self._query

    @property
    def query_help(self) -> QueryHelp:
        """What is known of statements while they are written."""
        if self._query_help is None:
            from jondel.tui.services.query_help import QueryHelp

            self._query_help = QueryHelp(self.location, self.target, self.trail, self.links)
        return self._query_help

    @property
    def exporting(self) -> ExportService:
        """What writes to files."""
        if self._exporting is None:
            from jondel.tui.services.exporting import ExportService

            self._exporting = ExportService(
                self.location, self.target, self.trail, self.comparisons
            )
        return self._exporting

    @property
    def verifying(self) -> VerifyService:
        """What runs the app's actions, and looks for findings."""
        if self._verifying is None:
            from jondel.tui.services.verifying import VerifyService

            self._verifying = VerifyService(self.location, self.target, self.trail, self.actions)
        return self._verifying

    @property
    def drafts_if_used(self) -> DraftService | None:
        """The draft, if anything has been done with one."""
        return self._drafts

    def open_again(self) -> Database:
        """Open the live database once more, for somebody else; whoever asked closes it."""
        return open_database(self.target)

    async def tend(self, change: Callable[[Trail], None]) -> None:
        """Change something about the trail's snapshots. Raises ``JondelError``."""
        await self.trail.tend(change)
        # What was deleted may have had pages moved that open images still look for elsewhere.
        await self.rows.forget_images()
        self.comparisons.forget_gone()
