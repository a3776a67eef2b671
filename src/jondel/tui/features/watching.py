"""Watching: everything that the app does becomes a step by itself."""

from __future__ import annotations

from collections.abc import Hashable, Iterable

from jondel.core.browse.display import line
from jondel.core.errors import JondelError, TargetLocked
from jondel.core.files.small_files import SmallFile
from jondel.tui.features.confirming import confirm
from jondel.tui.frame.commands import Command
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.place import Place
from jondel.tui.services.moments import AtStep
from jondel.tui.views.records.access import records_view


class Watching(Feature):
    """Also asks, once, whether the trail of a database that was moved is this one's."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "watch",
            "watch",
            "watch: everything the app does becomes a step automatically",
            "Time",
            self._toggle,
            ("w",),
            footer_rank=lambda _: 55,
            label_now=lambda s: "stop watching" if s.watching else "watch",
            steers=True,
            task="snapshot",
            beside=True,
        )
        yield Command(
            "watch.follow",
            "follow new steps",
            "go to the changes of each new step as soon as it is recorded, or stay here again",
            "Time",
            self._toggle_following,
            ("N",),
            steers=True,
        )

    def _toggle_following(self) -> None:
        follows = not self._follows
        self._kept.write({"follows": follows})
        if follows:
            self.desk.say("each new step is gone to as soon as it is recorded; N ends that")
        else:
            self.desk.say("new steps are shown on the trail; n at now goes to them")

    @property
    def _follows(self) -> bool:
        """Whether each new step is gone to."""
        return bool(self._kept.read().get("follows"))

    @property
    def _kept(self) -> SmallFile:
        return SmallFile("watching", self.desk.workspace.location)

    async def _toggle(self) -> None:
        desk = self.desk
        if desk.follower.watching:
            desk.follower.watch_actions(None)
            desk.say("stopped watching; s takes a snapshot")
            desk.show_surroundings()
            return
        try:
            desk.follower.watch_actions(desk.workspace.trail.watch_times)
            with desk.busy("taking a snapshot"):
                step = await desk.workspace.trail.take_if_changed("watching began")
        except JondelError:
            desk.follower.watch_actions(None)
            desk.show_surroundings()
            raise
        if step is not None:
            desk.comparer.start_anew()
        desk.say("watching: use the app; everything it does becomes a step. n goes to new steps")
        desk.show_surroundings()

    def action_over(self, token: Hashable) -> None:
        self.desk.start(self._record_action, "watched", beside=True)

    async def _record_action(self) -> None:
        desk = self.desk
        last = desk.workspace.trail.last
        moment = desk.navigator.destination.moment
        follows = desk.is_live(moment) or (last is not None and moment == AtStep(last.number))
        desk.stop_work("counts")
        desk.comparer.pause()
        try:
            step = await desk.workspace.trail.take_if_changed()
        except TargetLocked as error:
            # It is not lost: it will be in the step that is taken as soon as one can be.
            desk.say_problem(f"this action is not recorded yet: {error}")
            desk.follower.record_again()
            return
        except JondelError as error:
            desk.say_problem(f"this action was not recorded: {error}")
            return
        finally:
            desk.comparer.refresh_now()
        if step is None:
            desk.show_surroundings()
            return
        desk.comparer.start_anew()
        desk.show_surroundings()
        if not self._follows or not follows or desk.dialog_is_open or desk.situation().editing:
            # Whoever is looking at the past, at a dialog, or is editing, is not dragged away.
            where = "n" if desk.is_live(moment) else "]"
            desk.say(f"{step.after.id} recorded; {where} leads there")
            return
        place = Place(AtStep(step.number), desk.place.compare_from, desk.place.table)
        view = "changes" if step.before is not None else None
        takes_focus = desk.focused in (None, records_view(desk).sheet)
        desk.navigator.go(place, view=view, afresh=True, focus=takes_focus)

    # A database that was moved

    def trail_opened(self, error: JondelError | None) -> None:
        if error is None and not self.desk.workspace.trail.steps:
            self.desk.start(self._offer_trail, "moved")

    async def _offer_trail(self) -> None:
        desk = self.desk
        try:
            other = await desk.workspace.trail.moved_from()
        except JondelError:
            return  # what is wrong with the store is said where it is used
        if other is None:
            return
        wanted = await confirm(
            desk,
            "Was this database somewhere else?",
            [line(f"It holds what {other} held, which is gone.", 300), "Its trail still exists."],
            "takes over its trail",
        )
        await desk.workspace.trail.take_over(other, wanted)
        desk.comparer.start_anew()
        desk.show_surroundings()
