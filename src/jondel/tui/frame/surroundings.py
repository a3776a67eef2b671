"""What stands around the view and always shows how things are: masthead, tables, trail, footer."""

from __future__ import annotations

from contextlib import suppress

from jondel.core.browse.desk_layout import DeskLayout
from jondel.core.errors import StoreUnavailable
from jondel.core.model.changes import ChangeSummary
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.footer import Footer, FooterEntry
from jondel.tui.frame.listed_tables import TableFacts
from jondel.tui.frame.masthead import Masthead, MastheadState
from jondel.tui.frame.panes import CardPane, TablesPane
from jondel.tui.frame.room import Room
from jondel.tui.frame.trail_strip import TrailStrip
from jondel.tui.services.early_look import Identity
from jondel.tui.services.workspace import Workspace
from jondel.tui.widgets.pane_edge import PaneEdge

_LIST_KEYS = (
    FooterEntry("Enter", "its records", "tables.enter"),
    FooterEntry("Space", "fold empty tables", "tables.fold_empty"),
)


class Surroundings:
    """Widgets, and what they are told; nothing is decided here."""

    desk: Desk
    """Set once there is one: it is given the list of tables."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self.masthead = Masthead(id="masthead")
        self.tables = TablesPane(id="tables-pane")
        self.card = CardPane(id="card-pane")
        self.tables_edge, self.card_edge = PaneEdge(id="tables-edge"), PaneEdge(id="card-edge")
        self.room = Room(
            {"tables": self.tables, "card": self.card},
            {"tables": self.tables_edge, "card": self.card_edge},
            self._keep_layout,
        )
        self.strip = TrailStrip(id="trail")
        self.footer = Footer(id="footer")
        self.identity: Identity | None = None
        """What the live database is, once that has been read."""
        self.going = ""
        """Where one is on the way to, if that takes long."""

    def take_layout(self) -> None:
        """Have the panes as they were left in this project."""
        layout = self._workspace.layout_file.read()
        self.tables.list.empty_folded = layout.empty_folded
        self.room.take_layout(layout)

    def fold_empty(self, folded: bool) -> None:
        """Keep whether tables without rows are one line."""
        self.room.layout = self.room.layout._replace(empty_folded=folded)
        self._keep_layout(self.room.layout)

    def _keep_layout(self, layout: DeskLayout) -> None:
        with suppress(StoreUnavailable):  # of no more consequence than a pane's width
            self._workspace.layout_file.write(layout)

    def show(self) -> None:
        """Show how things are."""
        self.show_masthead()
        self.show_tables()
        self.show_trail()
        self.show_footer()

    def show_masthead(self) -> None:
        """Say which database, and how one sees it."""
        writing, drafts = self._workspace.writing, self._workspace.drafts_if_used
        busy = self.desk.busy_with
        self.masthead.show_state(
            MastheadState(
                self._workspace.location,
                self.identity,
                self._workspace.trail.resolve(self.desk.place.moment),
                live_is_readable=not self.desk.follower.trouble,
                stale_since=self.desk.loader.stale_since,
                read_only=writing.read_only,
                host=writing.host,
                draft_size=len(drafts.draft) if drafts is not None else 0,
                busy_with=busy[-1] if busy else self.going,
                watching=self._watch_words(),
                next_database=self.desk.others[0].shown_name if self.desk.others else "",
            )
        )

    def _watch_words(self) -> str:
        if not self.desk.follower.watching:
            return ""
        return "watching: the app is writing …" if self.desk.follower.busy else "watching"

    def show_tables(self) -> None:
        """List the tables with what changed in them."""
        desk = self.desk
        state, place = desk.state, desk.place
        summary = ChangeSummary.of(state.changes) if state.changes is not None else None
        if summary is None and place.compare_from is None:
            summary = self._workspace.comparisons.known_summary(place.moment)
        drafts = self._workspace.drafts_if_used
        facts = TableFacts(
            state.counts,
            summary.tables if summary else {},
            drafts.draft.tables if drafts is not None and desk.is_at_now else {},
        )
        # At now the app would have them change places under a person's hands.
        stays = not desk.is_at_now or place.compare_from is not None
        self.tables.show(state.tables, facts, with_internal=desk.with_internal, changed_first=stays)
        self.room.want_for_tables(self.tables.list.wanted_width)

    def show_trail(self) -> None:
        """Show the steps, and what was written since."""
        since, steps = self.desk.comparer.since, self._workspace.trail.steps
        if not steps:
            words = "s: snapshot"
        else:
            words = "comparing …" if self.desk.comparer.comparing else "c: compare"
        summary = ChangeSummary.of(since) if since is not None and steps else None
        place = self.desk.place
        unseen = self._workspace.trail.unseen
        self.strip.show(steps, place.moment, summary, words, place.compare_from, unseen)

    def show_footer(self) -> None:
        """Show the keys that matter most here."""
        situation = self.desk.situation()
        entries = [
            FooterEntry(command.key_text, command.label_in(situation), command.id)
            for command in self.desk.commands.footer(situation)
        ]
        if self.desk.table_list_has_focus:
            # Letters find a table there.
            entries = [entry for entry in entries if not entry.keys[:1].isalpha()]
            entries = [FooterEntry("a–z", "find a table", ""), *_LIST_KEYS, *entries]
        self.footer.show(entries)
