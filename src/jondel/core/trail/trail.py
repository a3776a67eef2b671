"""Takes snapshots, names them, and finds what changed between any two states."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Collection, Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.engines.pages import PagePeek, PageSource
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import is_on_server, put_in_place, write_file
from jondel.core.errors import (
    JondelError,
    LabelInvalid,
    SnapshotNotFound,
    SnapshotProtected,
    StoreUnavailable,
)
from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.snapshots.action_runs import ActionRuns
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.snapshots.old_images import is_old_image, open_old_image
from jondel.core.snapshots.states import open_state
from jondel.core.snapshots.step_transactions import StepTransactions
from jondel.core.snapshots.store import Store

if TYPE_CHECKING:
    from jondel.core.diff.compare import Scope
    from jondel.core.diff.noise import NoiseRules
    from jondel.core.engines.delta import DeltaSource
    from jondel.core.snapshots.shelf import Shelf

NOW = "now"
LAST = "last"
_ID_PATTERN = re.compile(r"s[0-9]+")
_LONGEST_LABEL = 100
_LONGEST_NOTE = 4000
_BY_HAND = Trigger()


class Step(NamedTuple):
    """One app action: the snapshot before it (None for the first), the snapshot after it.

    ``summary`` is None until the step's changes have been looked at.
    """

    before: Snapshot | None
    after: Snapshot
    summary: ChangeSummary | None

    @property
    def number(self) -> int:
        return self.after.number


class Trail:
    """The trail of the database at ``location``, kept under Jondel's home folder."""

    def __init__(self, location: str, home: Path | None = None, *, lasting: bool = True) -> None:
        """What is recorded survives a crash, unless it is not to be ``lasting``: then this process
        alone records there."""
        self._lasting = lasting
        self._store = Store(home)
        self._location, self.maybe_moved_from = self._store.trail_of(location)
        """Of a database without a trail: the place of one that is gone and held the same."""
        self._catalogue = self._store.catalogue(self._location)
        self._catalogue.lasting = lasting
        self._opened_shelf: Shelf | None = None
        self._opening = threading.Lock()
        self.taken: frozenset[int] = frozenset()
        """The numbers of the snapshots that were taken through this, not by somebody else."""

    def close(self) -> None:
        self._catalogue.close()
        if self._opened_shelf is not None:
            self._opened_shelf.close()

    def take_over(self, other: str) -> None:
        """Have the trail of a database that was elsewhere be this one's.

        Raises:
            SnapshotNotFound: nothing is recorded of the other one.
            SnapshotProtected: something is recorded of this one.
        """
        self._store.take_over(self._location, other)
        self.maybe_moved_from = None

    @property
    def empty(self) -> bool:
        """Whether nothing is recorded."""
        return self._catalogue.last() is None

    def snapshots(self) -> list[Snapshot]:
        """All snapshots, oldest first."""
        return self._catalogue.snapshots()

    def steps(self, rules: NoiseRules | None = None) -> list[Step]:
        """All steps, oldest first; the first is where the trail starts.

        ``rules`` are the noise rules in force, under which the summaries must have been made.
        """
        key = rules.key if rules else ""
        snapshots, summaries = self.snapshots(), self._catalogue.summaries(key)
        return [
            Step(before, after, summaries.get(after.number))
            for before, after in zip([None, *snapshots], snapshots, strict=False)
        ]

    def size(self) -> int:
        """How many bytes the snapshots take."""
        return self._store.size_of(self._location)

    def put_in_place(self, snapshot: Snapshot) -> Path | None:
        """Make a snapshot the database at the trail's location, whatever lies there.

        Returns under which name that is kept aside. Raises ``TargetError``.
        """
        with closing(self.pages_of(snapshot)) as pages:
            return put_in_place(pages, self._location)

    def export(
        self, snapshot: Snapshot, path: Path, go_on: Callable[[], None] = lambda: None
    ) -> None:
        """Write a snapshot out as a database file of its own, which must not be there yet.

        ``go_on`` is called again and again, and may raise ``Cancelled``: no file is left then.

        Raises:
            StoreUnavailable: it cannot be read whole.
            TargetUnavailable: something is there, or it cannot be written.
        """
        if is_on_server(self._location):
            from jondel.core.mirror.exporting import export_plainly  # only servers have mirrors

            with closing(self.open(snapshot)) as state:
                export_plainly(state, path, go_on)
            return
        with closing(self.pages_of(snapshot)) as pages:
            write_file(pages, path, go_on)

    # Taking snapshots

    def take(
        self, database: Database, label: str | None = None, trigger: Trigger = _BY_HAND
    ) -> Snapshot:
        """Take a snapshot of the database as it is now.

        Raises:
            LabelTaken: an earlier snapshot has the label.
            LabelInvalid: it cannot be a label.
        """
        if label is not None:
            check_label(label)
            self._catalogue.require_free(label)
        with self._shelf.captured(database) as image:
            return self._add(label, trigger, image)

    def take_unless_noise(
        self,
        database: Database,
        trigger: Trigger,
        rules: NoiseRules,
        opened: Callable[[Database], None] | None = None,
    ) -> Snapshot:
        """Take a snapshot, or return the last one if nothing was committed since but noise.

        ``opened``: see ``changes``.
        """
        last = self._catalogue.last() if rules else None
        if last is not None:
            from jondel.core.diff.compare import all_is_noise  # not needed to open a trail

            with self.both_sides(last, database) as sides:
                for side in sides or ():
                    if opened:
                        opened(side)
                if sides is None or all_is_noise(*sides, rules):
                    return last
        return self.take_unless_unchanged(database, trigger)

    @contextmanager
    def before_writing(self, database: Database, trigger: Trigger) -> Iterator[Snapshot]:
        """Take a snapshot of what is about to be written to, unless the last one is of that.

        It goes again where the block fails: then nothing was written.
        """
        taken = self.taken
        before = self.take_unless_unchanged(database, trigger)
        try:
            yield before
        except BaseException:
            if before.number not in taken and before.number in self.taken:
                with suppress(JondelError):  # what failed is of more interest
                    self.delete([before])
            raise

    def take_unless_unchanged(self, database: Database, trigger: Trigger) -> Snapshot:
        """Take a snapshot, or return the last one if nothing was committed since."""
        with self._shelf.captured(database) as image:
            last = self._catalogue.last()
            if last is not None and last.image == image:
                return last
            return self._add(None, trigger, image)

    def _add(self, label: str | None, trigger: Trigger, image: str) -> Snapshot:
        added = self._catalogue.add(label, trigger, image)
        self.taken |= {added.number}
        return added

    def keep_within_budget(self) -> tuple[list[Snapshot], bool]:
        """Make room where the store is over its budget.

        Returns what went of this trail, and whether the store still is over: then only snapshots
        are left that have a label or a pin, or are the latest, and a person must decide.
        """
        removed = self._store.keep_within_budget()
        gone = [snapshot for location, snapshot in removed if location == self._location]
        return gone, self._store.over_budget

    # Tending them

    @property
    def transactions(self) -> StepTransactions:
        """The transactions of the steps, as far as they are known."""
        return StepTransactions(self._catalogue)

    def keep_states(self, states: Iterator[PageSource], near: Snapshot) -> list[str]:
        """Keep states of the database that are no snapshots; whoever asked notes their names.

        Raises:
            StoreUnavailable: they could not be kept.
        """
        names: list[str] = []
        for pages in states:
            names.append(self._shelf.keep_state(pages, names[-1] if names else near.image))
        return names

    @contextmanager
    def image(self, name: str) -> Iterator[Database]:
        """Open a state by its name for as long as the block runs."""
        pages = self._shelf.open(name, "a state between two transactions")
        with closing(open_state(pages, self._location)) as state:
            yield state

    @property
    def runs(self) -> ActionRuns:
        """The runs of the app's actions."""
        return ActionRuns(self._catalogue)

    def require_free(self, label: str) -> None:
        """Raise ``LabelTaken`` if a snapshot has the label."""
        self._catalogue.require_free(label)

    def rename(self, snapshot: Snapshot, label: str | None) -> None:
        """Give a snapshot a label, another one, or none.

        Raises:
            LabelTaken: another snapshot has the label.
            LabelInvalid: it cannot be a label.
        """
        if label is not None:
            check_label(label)
        self._catalogue.rename(snapshot.number, label)

    def annotate(self, snapshot: Snapshot, note: str) -> None:
        """Keep a text of any lines with a snapshot; empty for none."""
        if len(note) > _LONGEST_NOTE:
            raise LabelInvalid(f"the note is longer than {_LONGEST_NOTE} characters; shorten it")
        self._catalogue.annotate(snapshot.number, note)

    def pin(self, snapshot: Snapshot, pinned: bool = True) -> None:
        """Have a snapshot stay, whatever room is needed, or let it go like others."""
        self._catalogue.pin(snapshot.number, pinned)

    def delete(self, snapshots: Collection[Snapshot], *, protected_too: bool = False) -> None:
        """Remove snapshots; each step that one ends becomes part of the step after it.

        Raises:
            SnapshotProtected: one has a label or is pinned, and this was not asked for.
        """
        for snapshot in snapshots:
            if snapshot.protected and not protected_too:
                how = "is pinned" if snapshot.pinned else f"has the label {snapshot.label!r}"
                raise SnapshotProtected(
                    f"{snapshot.id} {how}, so it is only deleted when that is asked for"
                )
        self._catalogue.remove([snapshot.number for snapshot in snapshots])
        self._store.clear_up(self._location)

    def forget(self) -> None:
        """Throw all snapshots of this database away."""
        self._catalogue.forget()
        self._store.clear_up(self._location)

    # Finding and opening them

    def find(self, name: str) -> Snapshot:
        """Find a snapshot by label, id or ``last``.

        Raises:
            SnapshotNotFound: there is none; the message says which there are.
        """
        last = self._catalogue.last()
        if last is None:
            raise SnapshotNotFound(
                f"no snapshot {name!r}: there is none of {self._location} yet; "
                "take one with `jondel snapshot`"
            )
        if name == LAST:
            return last
        snapshot = self._catalogue.find("label = ?", name)
        if snapshot is None and _ID_PATTERN.fullmatch(name):
            number = int(name[1:])
            snapshot = self._catalogue.find("number = ?", number) if number < 1 << 63 else None
        if snapshot is not None:
            return snapshot
        known = ", ".join(s.label or s.id for s in self.snapshots()[-6:])
        raise SnapshotNotFound(
            f"no snapshot {name!r} of {self._location}; the latest are: {known} "
            "(see `jondel trail`)"
        )

    def pages_of(self, snapshot: Snapshot) -> PageSource:
        """The pages of a snapshot; whoever asked closes them.

        Raises:
            StoreUnavailable: they cannot be read, or are kept in an old format.
        """
        if is_old_image(snapshot.image):
            raise StoreUnavailable(
                f"{snapshot.id} is kept in an old format; copy its image instead"
            )
        return self._shelf.open(snapshot.image, f"snapshot {snapshot.title}")

    def open(self, snapshot: Snapshot) -> Database:
        """Open a snapshot as a database; whoever asked closes it."""
        if is_old_image(snapshot.image):
            folder = self._store.shelf_folder(self._location)
            return open_old_image(folder, snapshot.image, location=self._location)
        return open_state(self.pages_of(snapshot), self._location)

    def peek(self, snapshot: Snapshot) -> PagePeek | None:
        """Have a look at single pages of a snapshot; None where it is kept in an old format.

        Raises:
            StoreUnavailable: its list of pages is missing or damaged.
        """
        return None if is_old_image(snapshot.image) else self._shelf.peek(snapshot.image)

    @contextmanager
    def now(
        self, database: Database, deltas: DeltaSource | None = None
    ) -> Iterator[tuple[Database, str]]:
        """An image of a live database as it is now, gone afterwards, and its content's name.

        Work that may read every row goes here: the app's own database is free again at once.
        ``deltas`` are those of a transaction that it is to be as seen by.
        """
        with (
            self._shelf.passing(database, deltas) as passing,
            closing(open_state(passing.image, self._location)) as image,
        ):
            yield image, passing.name

    @contextmanager
    def opened(self, state: Snapshot | Database) -> Iterator[Database]:
        """Open one state for as long as the block runs."""
        with self._side(state) as (database, _):
            yield database

    @contextmanager
    def both_sides(
        self, before: Snapshot | Database, after: Snapshot | Database
    ) -> Iterator[tuple[Database, Database] | None]:
        """Open two states side by side; None where they are known to be the same."""
        with self._side(before) as (one, name), self._side(after) as (other, other_name):
            yield None if name == other_name else (one, other)

    def changes(
        self,
        before: Snapshot,
        after: Snapshot | Database,
        scope: Scope | None = None,
        opened: Callable[[Database], None] | None = None,
    ) -> Changes:
        """Find what changed from a snapshot to another, or to a live database as it is now.

        ``opened`` is called with each image opened for it, so that the work can be interrupted.
        """
        if isinstance(after, Snapshot) and before.image == after.image:
            return Changes(method="same")
        with self.both_sides(before, after) as sides:
            if sides is None:
                return Changes(method="same")
            from jondel.core.diff.compare import Scope, compare  # not needed to open a trail

            for side in sides:
                if opened:
                    opened(side)
            return compare(*sides, scope or Scope())

    def step_changes(
        self, step: Step, scope: Scope, opened: Callable[[Database], None] | None = None
    ) -> Changes:
        """A step's own changes; remembers their size. Empty for the first step."""
        if step.before is None:
            return Changes(method="same")
        changes = self.changes(step.before, step.after, scope, opened)
        if self._catalogue.writable:
            self._catalogue.keep_summary(step.number, ChangeSummary.of(changes), scope.noise.key)
        return changes

    @property
    def _shelf(self) -> Shelf:
        with self._opening:  # states are opened by several threads
            if self._opened_shelf is None:
                self._opened_shelf = self._store.shelf(self._location, lasting=self._lasting)
            return self._opened_shelf

    @contextmanager
    def _side(self, end: Snapshot | Database) -> Iterator[tuple[Database, str]]:
        if isinstance(end, Snapshot):
            with closing(self.open(end)) as image:
                yield image, end.image
        else:
            with self.now(end) as side:
                yield side


def check_label(label: str) -> None:
    """Raise ``LabelInvalid`` unless the text can be a label."""
    if not label.strip():
        raise LabelInvalid("a label cannot be empty; give some text")
    if label in (NOW, LAST) or _ID_PATTERN.fullmatch(label):
        raise LabelInvalid(f"{label!r} has a meaning of its own; choose another label")
    if len(label) > _LONGEST_LABEL:
        raise LabelInvalid(f"the label is longer than {_LONGEST_LABEL} characters; shorten it")
    if not label.isprintable():
        raise LabelInvalid("a label holds no line breaks or control characters; leave them out")
