"""What views and features are given to work with: the place, the services, and ways to speak."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, TypeVar, cast

from textual.screen import Screen
from textual.widget import Widget

from jondel.core.errors import JondelError
from jondel.core.model.addresses import TableId
from jondel.core.trail.trail import Step
from jondel.tui.frame.commands import Command, CommandTable, Situation
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Navigator, Reach, StartTask, Task, Visit, Work
from jondel.tui.frame.place import Place
from jondel.tui.frame.typed_ahead import TypedAhead
from jondel.tui.services.moments import Moment, Now, OtherDatabase
from jondel.tui.services.workspace import Workspace

if TYPE_CHECKING:
    from jondel.tui.frame.dialog import Dialog
    from jondel.tui.frame.loader import Loader
    from jondel.tui.frame.message_line import MessageLine
    from jondel.tui.frame.room import Room
    from jondel.tui.frame.table_list import TableList
    from jondel.tui.frame.view_set import ViewSet
    from jondel.tui.services.comparer import Comparer
    from jondel.tui.services.follower import Follower
    from jondel.tui.widgets.card.card import Card

Answer = TypeVar("Answer")


class Desk:
    """Shared by all parts of the interface; none of them knows another."""

    loader: Loader
    views: ViewSet
    follower: Follower
    comparer: Comparer
    message: MessageLine
    card: Card
    typed: TypedAhead
    restore_step: Callable[[Step], None]
    """Ask whether to restore the database to a step."""
    open_select: Callable[[str], None]
    """Show a SELECT as a sheet, or say why it cannot be one."""
    take_back_step: Callable[[Step], None]
    """Ask whether to take back what a step changed."""

    def __init__(
        self,
        screen: Screen[None],
        workspace: Workspace,
        start: StartTask,
        *,
        show_surroundings: Callable[[], None],
        show_card: Callable[[], None],
        table_list: TableList,
        room: Room,
    ) -> None:
        self.workspace = workspace
        self.start_task = start
        """Starts work whose errors are said in the message line, whatever it is for."""
        self.navigator = Navigator(start, "records", Place())
        self.commands = CommandTable()
        self.state = MomentState()
        self.database_name = ""
        """The database's name, once it has been read."""
        self.busy_with: list[str] = []
        """What is being done, for the masthead; the last one is shown."""
        self.with_internal = False
        """Whether the engine's internal tables are listed."""
        self.show_surroundings = show_surroundings
        """Bring masthead, table list, trail and footer in line with how things are."""
        self.show_card = show_card
        """Show the current record of the view in the card."""
        self._table_list = table_list
        self.room = room
        """How wide the panes are."""
        self._screen = screen
        self._session = Visit(start)
        self.others: tuple[Desk, ...] = ()
        """Those of the other databases that are open, the next one first."""
        self.shown_name = ""
        """What the database is called, beside others that are open."""
        self._is_in_front = asyncio.Event()

    @property
    def place(self) -> Place:
        """Where one is."""
        return self.navigator.place

    def in_front(self, is_it: bool) -> None:
        """Whether this database is the one that is seen: dialogs wait until it is."""
        if is_it:
            self._is_in_front.set()
        else:
            self._is_in_front.clear()
        self.show_surroundings()
        if is_it and isinstance(self.place.compare_from, OtherDatabase):
            self.loader.load_changes()  # one comes from there, and may have changed it

    @property
    def app_is_here(self) -> bool:
        """Whether the interface is still on the screen."""
        return self._screen.is_attached

    @property
    def table_list_has_focus(self) -> bool:
        """Whether the keys go to the list of tables."""
        return self._screen.focused is self._table_list

    def highlight_table(self, table: TableId) -> None:
        """Highlight a table in the list, and do not go there."""
        self._table_list.highlight(table)

    def focus_table_list(self) -> None:
        """Have the keys go to the list of tables, and stay there where one is on the way."""
        self.navigator.keys_go_to_the_view(False)
        self._screen.remove_class("-card-open")
        self.room.bring_back("tables")
        self._screen.set_focus(self._table_list)

    def fold_empty_tables(self) -> None:
        """List the tables without rows as one line, or each in its own again."""
        self._table_list.action_fold_empty()

    def focus_card(self) -> None:
        """Go to the card; where it has no place of its own it takes the view's."""
        self.room.bring_back("card")
        if self._screen.has_class("narrow"):
            self._screen.add_class("-card-open")
        self._screen.set_focus(self.card)

    @property
    def dialog_is_open(self) -> bool:
        """Whether a dialog has the keys."""
        return self._screen.app.screen is not self._screen

    @property
    def width(self) -> int:
        """How many cells the screen is wide."""
        return self._screen.size.width

    @property
    def focused(self) -> Widget | None:
        """Where the keys go."""
        return self._screen.focused

    def focus(self, widget: Widget) -> None:
        """Have the keys go to a widget."""
        self._screen.set_focus(widget)

    def go_to_moment(self, moment: Moment) -> None:
        """Go to a step or to now, with the table and the view as they are."""
        destination = self.navigator.destination
        place = Place(moment, destination.compare_from, destination.table)
        self.navigator.go(place, afresh=True)

    # Work

    def start(
        self, work: Work, group: str, reach: Reach | None = None, *, beside: bool = False
    ) -> Task:
        """Do what takes time; earlier work of the same group is stopped, or goes on ``beside`` it.

        ``reach`` says for how long it is of use; for None it goes on wherever one goes. Errors that
        it raises are said in the message line.
        """
        visit = self._session if reach is None else self.navigator.visit(reach)
        return visit.start(work, group, beside=beside)

    def stop_work(self, *groups: str) -> bool:
        """Stop work, of whatever reach; False where there was none."""
        visits = [self._session, *(self.navigator.visit(reach) for reach in Reach)]
        stopped = [visit.stop(*groups) for visit in visits]
        return any(stopped)

    @contextmanager
    def busy(self, words: str) -> Iterator[None]:
        """Say in the masthead what is being done, for as long as it takes."""
        self.busy_with.append(words)
        self.show_surroundings()
        try:
            yield
        finally:
            self.busy_with.remove(words)
            if self.app_is_here:
                self.show_surroundings()

    # Speaking with the person

    def say(self, message: str) -> None:
        """Say something in the message line."""
        self.message.say(message)

    def say_problem(self, problem: JondelError | str) -> None:
        """Say what is wrong; it stays longer, and looks like a problem."""
        self.message.say(str(problem), problem=True)

    async def ask(self, dialog: Dialog[Answer]) -> Answer:
        """Open a dialog and wait for its answer; called within work. It is gone with the work.

        While another database is in front, it waits until this one is.
        """
        await self._is_in_front.wait()
        app = self._screen.app
        if not dialog.TAKES_TYPED_AHEAD:
            self.typed.forget()
        try:
            with self.typed.handed_over(lambda: dialog in app.screen_stack):
                dialog.call_after_refresh(self.typed.drain)
                return cast(Answer, await app.push_screen_wait(dialog))
        finally:
            if dialog.is_attached and app.screen is dialog:
                with suppress(Exception):  # the interface may be closing
                    dialog.dismiss()

    def focus_view(self) -> None:
        """Go to what the keys of the current view are for."""
        self._screen.remove_class("-card-open")
        view = self.views.if_opened(self.navigator.view)
        if view is not None:
            # Not ``focus()``, which comes too late for keys that were typed ahead.
            self._screen.set_focus(view.focus_target)

    # The application

    def change_light(self) -> None:
        """Go from the dark theme to the light one, or back."""
        self._screen.app.action_change_light()  # type: ignore[attr-defined]

    def open_palette(self) -> None:
        """Open what do something by name."""
        self._screen.app.action_command_palette()

    async def quit(self) -> None:
        """End the interface."""
        await self._screen.app.action_quit()

    def show_databases(self) -> None:
        """Open the list of databases."""
        self._screen.app.show_databases()  # type: ignore[attr-defined]

    async def show_other_database(self) -> None:
        """Bring the next of the open databases to the front."""
        await self._screen.app.show_other_database()  # type: ignore[attr-defined]

    def close_database(self) -> None:
        """Close this database."""
        # In a task of the application: this screen's must not wait for its own end.
        self._screen.app.call_later(self._screen.app.close_database)  # type: ignore[attr-defined]

    def copy(self, text: str) -> None:
        """Put a text on the clipboard."""
        self._screen.app.copy_to_clipboard(text)

    # Commands

    def situation(self) -> Situation:
        """How things are, as far as commands may ask."""
        workspace, place = self.workspace, self.place
        view = self.views.if_opened(self.navigator.view)
        draft = workspace.drafts_if_used
        return Situation(
            view=self.navigator.view,
            place=place,
            table=self.state.table(place.table),
            has_record=view is not None and view.has_record,
            rows=view.rows if view is not None else 0,
            steps=len(workspace.trail.steps),
            unseen_steps=len(workspace.trail.unseen),
            actions=len(workspace.actions),
            draft_size=len(draft.draft) if draft is not None else 0,
            read_only=workspace.writing.read_only,
            read_only_for_good=workspace.writing.always_read_only,
            watching=self.follower.watching,
            stale=self.loader.stale_since is not None,
            editing=view is not None and view.is_editing,
            typing=view is not None and view.is_typing,
            tried_out=view is not None and view.has_tried_out,
            can_go_back=bool(self.navigator.way_back),
            open_tables=view.open_tables if view is not None else 0,
            other_databases=len(self.others),
        )

    def run(self, id: str) -> None:
        """Run a command, or say why it cannot be run here."""
        self.run_command(self.commands[id])

    def run_command(self, command: Command) -> None:
        """See ``run``. While one is on the way, what does not steer waits for the arrival."""
        if self.navigator.journey is not None and not command.steers:
            self.typed.wait(lambda: self.run_command(command))
            return
        situation = self.situation()
        refusal = command.refusal(situation)
        if refusal:
            self.say(refusal)
        elif not inspect.iscoroutinefunction(command.run):
            try:
                command.run()
            except JondelError as error:
                self.say_problem(error)
        else:
            self._start_command(command, command.run)

    def _start_command(self, command: Command, run: Work) -> None:
        group = command.task or command.id
        if not command.holds_keys:
            self.start(run, group, command.reach, beside=command.beside)
            return

        # From this very instant on: the next key may be in the same breath.
        hold = self.typed.hold()

        async def holding() -> None:
            try:
                await run()
            finally:
                hold.release()

        hold.wait_for(self.start(holding, group, command.reach))

    def run_key(self, key: str) -> None:
        """Run what a key stands for here; where it stands for something elsewhere, say where."""
        situation = self.situation()
        command = self.commands.for_key(key, situation.context)
        if command is not None:
            self.run_command(command)
            return
        for other in self.commands.elsewhere(key):
            for name in sorted(other.contexts or ()):
                entry = self.views.entry(name)
                if entry is not None and not situation.editing:
                    self.say(
                        f"{other.key_text} ({other.label}) is a key of {entry.title}: "
                        f"{entry.key} goes there"
                    )
                    return

    @property
    def is_at_now(self) -> bool:
        """Whether one looks at the live database."""
        return self.is_live(self.place.moment)

    @staticmethod
    def is_live(moment: Moment) -> bool:
        """Whether a moment is now."""
        return isinstance(moment, Now)
