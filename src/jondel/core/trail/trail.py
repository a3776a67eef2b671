"""Takes snapshots, names them, and finds what changed between any two states."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database
from jondel.core.errors import LabelInvalid, SnapshotNotFound
from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.snapshots.home import jondel_home
from jondel.core.snapshots.images import ImageFolder
from jondel.core.snapshots.store import Catalogue, Snapshot, Trigger

if TYPE_CHECKING:
    from jondel.core.diff.compare import Scope

NOW = "now"
LAST = "last"
_ID_PATTERN = re.compile(r"s[0-9]+")
_LONGEST_LABEL = 100
_BY_HAND = Trigger()


@dataclass(frozen=True)
class Step:
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

    def __init__(self, location: str, home: Path | None = None) -> None:
        self._location = location
        digest = hashlib.sha256(location.encode("utf-8", "surrogateescape")).hexdigest()[:16]
        folder = (home or jondel_home()) / "store"
        self._catalogue = Catalogue(folder, location)
        self._image_folder = folder / "images" / digest
        self._images: ImageFolder | None = None

    def close(self) -> None:
        self._catalogue.close()

    def snapshots(self) -> list[Snapshot]:
        """All snapshots, oldest first."""
        return self._catalogue.snapshots()

    def steps(self) -> list[Step]:
        """All steps, oldest first; the first is where the trail starts."""
        snapshots, summaries = self.snapshots(), self._catalogue.summaries()
        return [
            Step(before, after, summaries.get(after.number))
            for before, after in zip([None, *snapshots], snapshots, strict=False)
        ]

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
        return self._catalogue.add(label, trigger, self._folder.capture(database))

    def require_free(self, label: str) -> None:
        """Raise ``LabelTaken`` if a snapshot has the label."""
        self._catalogue.require_free(label)

    def forget(self) -> None:
        """Throw all snapshots of this database away."""
        images = {snapshot.image for snapshot in self.snapshots()}
        self._catalogue.forget()
        for image in images:
            self._folder.discard(image)

    def take_unless_unchanged(self, database: Database, trigger: Trigger) -> Snapshot:
        """Take a snapshot, or return the last one if nothing was committed since."""
        image = self._folder.capture(database)
        snapshots = self.snapshots()
        if snapshots and snapshots[-1].image == image:
            return snapshots[-1]
        return self._catalogue.add(None, trigger, image)

    def find(self, name: str) -> Snapshot:
        """Find a snapshot by label, id or ``last``.

        Raises:
            SnapshotNotFound: there is none; the message says which there are.
        """
        snapshots = self.snapshots()
        if not snapshots:
            raise SnapshotNotFound(
                f"no snapshot {name!r}: there is none of {self._location} yet; "
                "take one with `jondel snapshot`"
            )
        if name == LAST:
            return snapshots[-1]
        for snapshot in snapshots:
            if name in (snapshot.label, snapshot.id):
                return snapshot
        known = ", ".join(s.label or s.id for s in snapshots[-6:])
        raise SnapshotNotFound(
            f"no snapshot {name!r} of {self._location}; the latest are: {known} "
            "(see `jondel trail`)"
        )

    def open(self, snapshot: Snapshot) -> Database:
        """Open a snapshot as a database; whoever asked closes it."""
        return self._folder.open(snapshot.image, location=self._location)

    @contextmanager
    def both_sides(
        self, before: Snapshot, after: Snapshot | Database
    ) -> Iterator[tuple[Database, Database] | None]:
        """Open two states side by side; None where they are known to be the same.

        A live database is compared as it is now, through an image of it: comparing may read every
        row, and the app's own database is to be free again at once.
        """
        if isinstance(after, Snapshot):
            with self._images_opened(before.image, after.image, after.image) as sides:
                yield sides
            return
        with (
            self._folder.passing(after) as (image, name),
            self._images_opened(before.image, image, name) as sides,
        ):
            yield sides

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
        self._catalogue.keep_summary(step.number, ChangeSummary.of(changes))
        return changes

    @property
    def _folder(self) -> ImageFolder:
        if self._images is None:
            self._images = ImageFolder(self._image_folder)
        return self._images

    @contextmanager
    def _images_opened(
        self, one: str, other: str, other_content: str
    ) -> Iterator[tuple[Database, Database] | None]:
        if one == other_content:
            yield None
            return
        with (
            closing(self._folder.open(one, location=self._location)) as before,
            closing(self._folder.open(other, location=self._location)) as after,
        ):
            yield before, after


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
