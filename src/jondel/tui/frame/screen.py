"""The one screen: views in the middle, and around them what always shows the place."""

from __future__ import annotations

from collections.abc import Awaitable, Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from textual import events
from textual.app import ComposeResult, SystemCommand
from textual.binding import Binding, BindingsMap
from textual.containers import Horizontal
from textual.screen import Screen
from textual.worker import Worker

from jondel.core.browse.display import line
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.values import Value
from jondel.tui.frame.commands import Command
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.footer import Footer
from jondel.tui.frame.loader import Loader
from jondel.tui.frame.message_line import MessageLine
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Journey, Work
from jondel.tui.frame.place import Place
from jondel.tui.frame.room import Side
from jondel.tui.frame.surroundings import Surroundings
from jondel.tui.frame.table_list import TableList
from jondel.tui.frame.trail_strip import TrailStrip
from jondel.tui.frame.typed_ahead import TypedAhead
from jondel.tui.frame.view import ShownChange, ShownRecord, View, record_of_change
from jondel.tui.frame.view_set import ViewEntry, ViewSet
from jondel.tui.services.comparer import Comparer
from jondel.tui.services.early_look import Identity, Look
from jondel.tui.services.follower import Follower
from jondel.tui.services.moments import AtStep
from jondel.tui.services.workspace import Workspace
from jondel.tui.views.table import VIEWS
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.card.card import Card
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.pane_edge import PaneEdge

if TYPE_CHECKING:
    from jondel.tui.frame.feature import Feature

_SAY_GOING_SECONDS = 0.15
"""A journey that takes longer than this is said."""
_KEYS_THAT_NEVER_WAIT = ("escape", "ctrl+q", "ctrl+c")


class Panes(PlainGround, Horizontal):
    """The tables, a view and the card, side by side."""


class MainScreen(PlainGround, Screen[None]):
    """Puts the parts together, and hands on what they report."""

    AUTO_FOCUS = ""  # letters would go to the list of tables

    def __init__(
        self, workspace: Workspace, typed: TypedAhead, views: Sequence[ViewEntry] = VIEWS
    ) -> None:
        """``typed`` holds keys back while one is on the way; the app, which keys reach first,
        asks it."""
        super().__init__()
        self._workspace = self.workspace = workspace
        self._around = Surroundings(workspace)
        self._message = MessageLine(id="message")
        self._panes = Panes(id="panes")
        self._card_pane = self._around.card
        self._follower = Follower(workspace)
        self._comparer = Comparer(workspace)
        desk = self.desk = Desk(
            self,
            workspace,
            self._start_task,
            show_surroundings=self._show_surroundings,
            show_card=self._show_card,
            table_list=self._around.tables.list,
            room=self._around.room,
        )
        self._around.desk = desk
        workspace.trail.on_steps_gone = self._steps_gone
        desk.follower, desk.comparer, desk.message = self._follower, self._comparer, self._message
        desk.card, desk.typed = self._card_pane.card, typed
        self._loader = desk.loader = Loader(desk, self._show_place)
        desk.views = ViewSet(desk, views, self._mount_view)
        desk.navigator.on_set_out = self._set_out
        desk.navigator.on_turned = typed.forget
        desk.navigator.on_given_up = self._given_up
        self._features: Sequence[Feature] = ()
        """Loaded once the first rows are on the screen; keys wait until then."""

    @property
    def is_ready(self) -> bool:
        """Whether the features are there."""
        return bool(self._features)

    @property
    def engine(self) -> str:
        """The engine and its version, once that is known."""
        return self._around.identity.engine if self._around.identity is not None else ""

    def _load_features(self) -> None:
        from jondel.tui.features.table import load_features

        self._features = load_features(self.desk)
        self._bindings = BindingsMap.merge([self._bindings, self._command_keys()])
        self._show_surroundings()
        self._show_card()
        if self.desk.place.table is not None:  # one has arrived already
            for feature in self._features:
                feature.arrived()
        self.app.call_next(self.desk.typed.drain)

    def _command_keys(self) -> BindingsMap:
        keys = self.desk.commands.keys
        return BindingsMap([Binding(key, f"press_key({key!r})", show=False) for key in keys])

    def _start_task(self, work: Work, group: str) -> Worker[None]:
        """Start work of which everything that goes wrong is said in one spot: here."""

        async def guarded() -> None:
            try:
                await work()
            except Cancelled:
                pass
            except JondelError as error:
                self._message.say(str(error), problem=True)

        return self.run_worker(guarded, group=group)

    # Putting it together

    def compose(self) -> ComposeResult:
        yield self._around.masthead
        with self._panes:
            yield self._around.tables
            yield self._around.tables_edge
            yield self.desk.views.require(self.desk.navigator.view)
            yield self._around.card_edge
            yield self._card_pane
        yield self._message
        yield self._around.strip
        yield self._around.footer

    def _mount_view(self, view: View) -> Awaitable[None] | None:
        if not self._panes.is_attached:
            return None  # composed with everything else
        view.add_class("-away")
        return self._panes.mount(view, before=self._around.card_edge)

    def on_mount(self) -> None:
        self._around.take_layout()
        self._fold(self.app.size.width)  # its own is not known yet
        self._show_early_look()
        self._show_surroundings()
        self.desk.focus_view()
        self.call_after_refresh(self._mount_the_rest)
        self.set_interval(1.0, self._message.tick)
        self.app.theme_changed_signal.subscribe(self, lambda _: self._show_surroundings())

    async def _mount_the_rest(self) -> None:
        """Add what is not needed for the first rows to be on the screen."""
        if not self.is_attached:
            return  # the person has left already
        self._load_features()
        await self.mount(self._follower, self._comparer)
        for feature in self._features:
            feature.started()

    def _show_early_look(self) -> None:
        """Show what was read while the interface was loaded, so that it is painted first."""
        early = self._workspace.early
        look = early.finished() if early is not None else None
        if look is None:
            self.desk.navigator.go(Place())
            return
        self._follower.go_on_from(look)
        self._take_identity(look.identity)
        self._show_look(look)
        self.call_after_refresh(self._loader.count_soon)

    def _show_look(self, look: Look) -> None:
        table = look.cache.table.id
        if not self._workspace.sheets.of(table).natural:
            self.desk.navigator.go(Place(table=table))  # it was left filtered or sorted
            return
        state = MomentState(tables=list(look.tables))
        view = self.desk.views.require(self.desk.navigator.view)
        self._loader.arrive_with(state, view.arrival_of(look.cache))
        self._around.tables.list.highlight(table)

    def on_unmount(self) -> None:
        for feature in self._features:
            feature.closed()

    def on_resize(self, event: events.Resize) -> None:
        self._fold(event.size.width)

    def _fold(self, width: int) -> None:
        self._around.room.take_width(width)
        narrow = self._around.room.narrow
        self.set_class(narrow, "narrow")
        if not narrow:
            self.remove_class("-card-open")
        self._around.show_footer()

    def _take_identity(self, identity: Identity | None) -> None:
        if identity is None:
            return
        if self._around.identity is None:
            for notice in identity.notices:
                self._message.say(notice)
        self._around.identity = identity
        self.desk.database_name = identity.name

    # Going somewhere

    def _set_out(self, journey: Journey) -> None:
        self._loader.set_out(journey)
        self.set_timer(_SAY_GOING_SECONDS, partial(self._say_going, journey))

    def _say_going(self, journey: Journey) -> None:
        """Say in the masthead where one is going, if that takes long."""
        if journey is not self.desk.navigator.journey:
            return
        place, here = journey.place, self.desk.place
        if not place.same_moment(here):
            at = place.moment
            self._around.going = (
                f"going to s{at.number}" if isinstance(at, AtStep) else "going to now"
            )
        elif place.sheet is not None and place.table == here.table:
            self._around.going = "filtering and sorting"
        else:
            self._around.going = f"opening {line(str(place.table or 'the tables'), 40)}"
        self._around.show_masthead()

    def _given_up(self) -> None:
        self._around.going = ""
        self.desk.typed.forget()
        self._highlight_table()
        self._show_surroundings()
        self._loader.leave_gone_steps()  # one cannot stay at one of those

    def _show_place(self, focus: bool) -> None:
        """Have everything around the view speak of the place that was arrived at."""
        self._around.going = ""
        name = self.desk.navigator.view
        for view in self.desk.views.opened:
            view.set_class(name != view.NAME, "-away")
        if focus:
            self.desk.focus_view()
        self._show_surroundings()
        self._highlight_table()
        self._show_card()
        for feature in self._features:
            feature.arrived()
        self.app.call_next(self.desk.typed.drain)

    def _highlight_table(self) -> None:
        table = self.desk.navigator.destination.table
        if table is not None:
            self._around.tables.list.highlight(table)

    # What always shows how things are

    def _show_surroundings(self) -> None:
        if not self.is_attached:
            return
        self._around.show()

    def _show_card(self) -> None:
        view = self.desk.views.if_opened(self.desk.navigator.view)
        if view is None:
            return
        shown = view.shown
        if isinstance(shown, ShownChange):
            table = self.desk.state.table(shown.table.table)
            shown = record_of_change(shown, self.desk.place.moment, table) or shown
        if not isinstance(shown, ShownRecord):
            self._card_pane.show(shown, {}, {})
            for feature in self._features:
                feature.record_left()
            return
        readings: dict[str, str] = {}
        edited: dict[str, Value] = {}
        for feature in self._features:
            shown = feature.completed(shown)
            edited.update(feature.edited(shown))
        for feature in self._features:
            readings.update(feature.readings(shown))
        self._card_pane.show(shown, readings, edited)
        for feature in self._features:
            feature.record_shown(shown)

    # What the person does

    def action_press_key(self, key: str) -> None:
        """Do what a key stands for here."""
        self.desk.run_key(key)

    def key_passes(self, key: events.Key, others_wait: bool) -> bool:
        """Whether a key takes its effect although one is on the way somewhere."""
        if self.app.screen is not self or key.key in _KEYS_THAT_NEVER_WAIT:
            return True
        at_list = self.focused is self._around.tables.list
        if others_wait:
            return False  # it may belong to what those before it are about to open
        if at_list and (key.key == "enter" or self._around.tables.list.takes(key)):
            return True  # it is of the highlighted table, wherever one is going
        command = self.desk.commands.for_key(key.key, self.desk.situation().context)
        if command is not None:
            return command.steers
        # The list of tables is not of a place, and going about in it chooses the next one.
        return at_list

    def action_enter_table(self) -> None:
        """Go from the list of tables to the records of the highlighted one."""
        if not self._around.tables.list.unfolds():
            self.action_focus_view()

    def action_focus_view(self) -> None:
        """Go to the sheet or the list of changes."""
        self._follow_table_list()
        self.desk.navigator.keys_go_to_the_view(True)  # which may be another one than now
        self.desk.focus_view()

    def palette_commands(self) -> Iterable[SystemCommand]:
        """What can be called by name, and cannot be called elsewhere only."""
        situation = self.desk.situation()
        for command in self.desk.commands:
            if command.listed and command.applies_in(situation.context):
                refusal = command.refusal(situation)
                about = f"key {command.key_text}" + (f" · {refusal}" if refusal else "")

                def run(command: Command = command) -> None:
                    self.call_later(self.desk.run_command, command)

                yield SystemCommand(command.help, about, run)

    def go_to_table(self, table: TableId) -> None:
        """Go to a table by its address."""
        destination = self.desk.navigator.destination
        place = Place(destination.moment, destination.compare_from, table)
        self.desk.navigator.go(place, view="records", afresh=True, focus=True)

    def on_footer_command_clicked(self, event: Footer.CommandClicked) -> None:
        event.stop()
        self.desk.run(event.command)

    def on_table_list_table_highlighted(self, event: TableList.TableHighlighted) -> None:
        event.stop()
        self._follow_table_list()

    def on_table_list_find_changed(self, event: TableList.FindChanged) -> None:
        event.stop()
        self._around.show_footer()

    def on_table_list_fold_toggled(self, event: TableList.FoldToggled) -> None:
        event.stop()
        self._around.fold_empty(event.folded)

    def on_band_part_clicked(self, event: Band.PartClicked) -> None:
        event.stop()
        masthead = self._around.masthead
        if event.band is masthead and masthead.is_draft(event.part):
            self.desk.run("draft")

    def on_pane_edge_dragged(self, event: PaneEdge.Dragged) -> None:
        event.stop()
        side: Side = "tables" if event.edge is self._around.tables_edge else "card"
        self._around.room.drag(side, event.column, let_go=event.let_go)

    def _follow_table_list(self) -> None:
        """Show the highlighted table; the highlight may be further on than what the event says."""
        self._around.tables.list.followed()
        table = self._around.tables.list.current
        navigator = self.desk.navigator
        view = self.desk.views.if_opened(navigator.destination_view)
        if table is None or view is None or view.follow_table_list(table):
            return
        destination = navigator.destination
        if table.id != destination.table:
            place = Place(destination.moment, destination.compare_from, table.id)
            if not navigator.go(place, afresh=True, focus=False):
                self._highlight_table()

    def on_trail_strip_moment_chosen(self, event: TrailStrip.MomentChosen) -> None:
        event.stop()
        self.desk.go_to_moment(event.moment)

    def on_card_walked(self, event: Card.Walked) -> None:
        event.stop()
        self.desk.run("link.follow")

    def on_card_link_unfolded(self, event: Card.LinkUnfolded) -> None:
        event.stop()
        self.desk.run("link.unfold")

    def on_card_more_wanted(self, event: Card.MoreWanted) -> None:
        event.stop()
        self.desk.run("value.read_on")

    def on_paste(self, event: events.Paste) -> None:
        """Nothing here takes text, and what is pasted is never taken for keys; a SELECT becomes a
        sheet, where it can be one."""
        event.stop()
        first_word = event.text.split(maxsplit=1)[0].lower() if event.text.strip() else ""
        if first_word in ("select", "with") and self.is_ready:
            self.desk.open_select(event.text)
        elif first_word:
            self._message.say("pasted text has no place here: e edits a cell, f filters, / finds")

    async def on_click(self, event: events.Click) -> None:
        """The right button opens a menu of what can be done there."""
        if event.button == 3:
            event.stop()
            self.desk.run("menu")

    # What became of the database and its trail

    def on_follower_trail_opened(self, event: Follower.TrailOpened) -> None:
        event.stop()
        problem = str(event.error or self._workspace.trail.rules_problem)
        if problem:
            self._message.say(problem, problem=True)
        self._comparer.start_anew()
        self._loader.load_changes()
        self._show_surroundings()
        for feature in self._features:
            feature.trail_opened(event.error)

    def on_follower_trail_changed(self, event: Follower.TrailChanged) -> None:
        event.stop()
        self._workspace.comparisons.forget_gone()
        self._comparer.start_anew()
        self._show_surroundings()

    def on_follower_rules_changed(self, event: Follower.RulesChanged) -> None:
        event.stop()
        self._loader.compare_anew()
        problem = self._workspace.trail.rules_problem
        if problem:
            self._message.say(problem, problem=True)
        else:
            self._message.say("the project's noise rules were changed, and are followed")

    def _steps_gone(self) -> None:
        self._workspace.comparisons.forget_gone()
        self._loader.leave_gone_steps()
        self._show_surroundings()

    def on_follower_committed(self, event: Follower.Committed) -> None:
        event.stop()
        self._take_identity(event.identity)
        self._loader.committed()
        self._comparer.refresh_now()
        self._show_surroundings()

    def on_follower_unreadable(self, event: Follower.Unreadable) -> None:
        event.stop()
        self._around.show_masthead()
        if self.desk.is_at_now:
            self._loader.fail(event.error)
        else:
            self._message.say(str(event.error), problem=True)

    def on_follower_action_began(self, event: Follower.ActionBegan) -> None:
        event.stop()
        self._around.show_masthead()
        for feature in self._features:
            feature.action_began()

    def on_follower_action_over(self, event: Follower.ActionOver) -> None:
        event.stop()
        for feature in self._features:
            feature.action_over(event.token)

    def on_comparer_now_compared(self, event: Comparer.NowCompared) -> None:
        event.stop()
        if event.error is not None:
            self._message.say(f"the changes since the last snapshot: {event.error}", problem=True)
        elif self._comparer.since is not None:
            self._loader.take_compared(self._comparer.since)
            for view in self.desk.views.opened:
                view.show_changes(self.desk.state)
        self._around.show_trail()

    def on_comparer_step_measured(self, event: Comparer.StepMeasured) -> None:
        event.stop()
        self._around.show_trail()
        self._around.show_tables()
