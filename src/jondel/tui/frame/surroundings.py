"""What stands around the view and always shows how things are: masthead, tables, trail, footer."""

from __future__ import annotations

from jondel.core.model.changes import ChangeSummary
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.footer import Footer, FooterEntry
from jondel.tui.frame.masthead import Masthead, MastheadState
from jondel.tui.frame.panes import TablesPane
from jondel.tui.frame.trail_strip import TrailStrip
from jondel.tui.services.early_look import Identity
from jondel.tui.services.workspace import Workspace


class Surroundings:
    """Widgets, and what they are told; nothing is decided here."""

    desk: Desk
    """Set once there is one: it is given the list of tables."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self.masthead = Masthead(id="masthead")
        self.tables = TablesPane(id="tables-pane")
        self.strip = TrailStrip(id="trail")
        self.footer = Footer(id="footer")
        self.identity: Identity | None = None
        """What the live database is, once that has been read."""
        self.going = ""
        """Where one is on the way to, if that takes long."""

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
                draft_size=len(drafts.draft) if drafts is not None else 0,
                busy_with=busy[-1] if busy else self.going,
                watching=self._watch_words(),
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
        self.tables.show(
            state.tables,
            state.counts,
            summary.tables if summary else {},
            drafts.draft.tables if drafts is not None and desk.is_at_now else {},
            with_internal=desk.with_internal,
        )

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
        self.footer.show(
            [
                FooterEntry(command.key_text, command.label_in(situation), command.id)
                for command in self.desk.commands.footer(situation)
            ]
        )
