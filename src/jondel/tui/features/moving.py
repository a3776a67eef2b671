"""Moving between the views, the tables and the card, and back; stopping what takes long."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from functools import partial

from jondel.tui.frame.commands import RECORDS, Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import Place
from jondel.tui.frame.view_set import ViewEntry
from jondel.tui.services.moments import origin_of

_STOPPED_BY_ESCAPE = (
    *("snapshot", "changes", "refresh", "history", "counts", "export", "restore"),
    *("edit", "write", "writing", "set-all", "statement", "query.check_source"),
    *("verify run", "findings"),
)
"""Groups of work."""


_STAYS_SECONDS = 1.0


class Moving(Feature):
    """Where to look."""

    def commands(self) -> Iterable[Command]:
        desk = self.desk
        for entry in desk.views.entries:
            yield Command(
                f"view.{entry.name}",
                entry.title.lower(),
                entry.help,
                "Everywhere",
                partial(self._go_to_view, entry),
                (entry.key,),
                footer_rank=partial(_view_rank, entry.name),
                steers=True,
            )
        yield Command(
            "tables",
            "tables",
            "to the list of tables",
            "Everywhere",
            desk.focus_table_list,
            ("t",),
            footer_rank=lambda _: 8,
            steers=True,
        )
        yield Command(
            "card",
            "card",
            "to the record's card",
            "Everywhere",
            desk.focus_card,
            ("v",),
            footer_rank=lambda _: 7,
        )
        yield Command(
            "card.of_row",
            "card",
            "the record's card",
            "The sheet",
            desk.focus_card,
            ("enter",),
            contexts=RECORDS,
        )
        yield Command(
            "back",
            "back",
            "go back: along links, to the change, to the previous view",
            "Everywhere",
            self._go_back,
            ("backspace",),
            refusal=lambda s: "" if s.can_go_back else "there is nowhere to go back to",
            footer_rank=lambda _: 75,
        )
        yield Command(
            "stop",
            "stop",
            "stop long work; close what is open",
            "Everywhere",
            self._stop,
            ("escape",),
            steers=True,
        )
        yield Command(
            "tables.internal",
            "internal tables",
            "show or hide the engine's internal tables",
            "Everywhere",
            self._toggle_internal,
            ("i",),
        )
        yield Command(
            "lock",
            "read under a lock",
            "read under a lock, where the app never pauses",
            "Everywhere",
            desk.loader.read_under_lock,
            ("K",),
            refusal=lambda s: "" if s.stale else "what is shown is up to date; no lock needed",
            footer_rank=lambda _: 95,
            steers=True,
        )

    def arrived(self) -> None:
        table = self.desk.place.table
        if table is not None and table != self.desk.workspace.last_table:
            self.desk.workspace.last_table = table
            self.desk.start(self._keep_table, "keep-table")

    async def _keep_table(self) -> None:
        """Keep where one is, once one has stayed: the next time it begins there."""
        await asyncio.sleep(_STAYS_SECONDS)
        await asyncio.to_thread(self.desk.workspace.keep_last_table)

    def _go_to_view(self, entry: ViewEntry) -> None:
        desk, navigator = self.desk, self.desk.navigator
        if navigator.destination_view == entry.name:
            if entry.name == "changes" and desk.state.changes_notice:
                desk.loader.load_changes()
            desk.focus_view()
            return
        place, way = navigator.destination, navigator.way_back
        there = Place(place.moment, place.compare_from, place.table)
        if entry.name == "query":
            there = there._replace(moment=origin_of(place.moment))
        if way and way[-1].view == entry.name and not way[-1].title:
            before = way[-1].place
            if (before.moment, before.table) == (place.moment, place.table):
                navigator.go_back()  # the other way round, and no stop more
                return
        leaving = Stop(navigator.view, navigator.place)
        navigator.go(there, view=entry.name, leaving=leaving)
        if entry.name == "changes" and desk.is_at_now and not desk.comparer.up_to_date:
            desk.loader.load_changes()

    def _go_back(self) -> None:
        self.desk.navigator.go_back()

    def _stop(self) -> None:
        desk = self.desk
        desk.typed.forget()
        if desk.navigator.give_up():
            desk.say("cancelled")
            return
        view = desk.views.if_opened(desk.navigator.view)
        words = view.stop() if view is not None else ""
        if words:
            desk.say(words)
        elif desk.busy_with:
            desk.stop_work(*_STOPPED_BY_ESCAPE)
            desk.comparer.pause()
        elif desk.message.shown:
            desk.message.hush()
        else:
            desk.focus_view()

    def _toggle_internal(self) -> None:
        self.desk.with_internal = not self.desk.with_internal
        self.desk.loader.refresh()


def _view_rank(name: str, situation: Situation) -> int:
    return 0 if situation.view == name else 74
