"""What stands around the views and always says how things are: masthead, tables, trail, keys."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TypeAlias

from textual.screen import Screen

from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.tui.early_look import Identity, Look
from jondel.tui.keys import footer_keys
from jondel.tui.moments import Moment
from jondel.tui.views.changes import ChangesView
from jondel.tui.views.masthead import Masthead
from jondel.tui.views.panes import CardPane, TablesPane
from jondel.tui.views.records import RecordsView
from jondel.tui.watchers import Comparer, Follower
from jondel.tui.widgets.bands import KeyBand
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.message_line import MessageLine
from jondel.tui.widgets.sheet import Sheet
from jondel.tui.widgets.trail_strip import TrailStrip
from jondel.tui.workspace import Workspace

ChangePlace: TypeAlias = tuple[str, tuple[StoredValue, ...]]
"""A change in the list: the table's name and the record's key."""


class Surroundings(PlainGround, Screen[None]):
    """Holds the parts of the screen and what they show, and brings those around in line with it."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._identity: Identity | None = None
        self._early_look: Look | None = None
        self._moment: Moment = None
        self._view = "records"
        self._tables: list[Table] = []
        self._table_name: str | None = None
        self._show_internal = False
        self._counts: dict[str, int | None] = {}
        self._changes: Changes | None = None
        self._busy: list[str] = []
        self._came_from: tuple[Moment, ChangePlace] | None = None
        self._compare_start: int | None = None
        self._walked: tuple[object, ...] = ()
        self._wanted_change: ChangePlace | None = None
        self._records = RecordsView(workspace, id="records")
        self._changes_view = ChangesView(id="changes", classes="-away")
        self._card = CardPane(id="card-pane")
        self._tables_pane = TablesPane(id="tables-pane")
        self._table_list = self._tables_pane.list
        self._message = MessageLine(id="message")
        self._strip = TrailStrip(id="trail")
        self._follower = Follower(workspace)
        self._comparer = Comparer(workspace)

    def on_unmount(self) -> None:
        for pane in self._records.panes:
            pane.leave()

    @property
    def _sheet(self) -> Sheet:
        """The sheet that was last gone to."""
        return self._records.sheet

    @property
    def tables(self) -> Sequence[Table]:
        """The tables in the list."""
        return self._tables

    def _show_around(self) -> None:
        """Bring masthead, table list, trail and keys in line with the state."""
        self._show_masthead()
        self._show_table_list()
        self._show_trail()
        self._show_keys()

    def _show_masthead(self) -> None:
        self.query_one(Masthead).show_state(
            self._identity,
            self._workspace.location,
            self._workspace.step(self._moment),
            live_is_readable=not self._follower.trouble,
            watching=self._watch_words(),
            busy_with=self._busy[-1] if self._busy else "",
            drafted=sum(self._drafted_tables.values()),
            read_only=self._workspace.read_only,
        )

    def _watch_words(self) -> str:
        if not self._follower.watching:
            return ""
        return "watching: the app is writing …" if self._follower.busy else "watching"

    def _show_table_list(self) -> None:
        changes = self._changes
        summary = ChangeSummary.of(changes) if changes else None
        if summary is None and self._compare_start is None:
            summary = self._workspace.known_summary(self._moment)
        self._tables_pane.show(
            self._tables,
            self._counts,
            summary.tables if summary else {},
            self._drafted_tables if self._moment is None else {},
            with_internal=self._show_internal,
        )

    def _show_trail(self) -> None:
        since = self._comparer.since
        steps = self._workspace.steps
        if not steps:
            words = "s: snapshot"
        else:
            words = "comparing …" if self._comparer.comparing else "c: compare"
        summary = ChangeSummary.of(since) if since is not None and steps else None
        self._strip.show(steps, self._moment, summary, words, self._compare_start)

    def _show_keys(self) -> None:
        self.query_one(KeyBand).show(
            footer_keys(
                view=self._view,
                past=self._moment is not None,
                can_go_back=self._came_from is not None or bool(self._walked),
                has_steps=bool(self._workspace.steps),
                has_actions=bool(self._workspace.actions),
                watching=self._follower.watching,
                drafted=bool(self._drafted_tables),
                read_only=self._workspace.read_only,
            )
        )

    @property
    def _drafted_tables(self) -> dict[str, int]:
        """How many edits that are not written each table has."""
        return {}

    @contextmanager
    def _busy_with(self, words: str) -> Iterator[None]:
        """Say in the masthead what is being done, for as long as it takes."""
        self._busy.append(words)
        self._show_masthead()
        try:
            yield
        finally:
            self._busy.remove(words)
            if self.is_attached:
                self._show_masthead()
