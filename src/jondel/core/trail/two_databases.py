"""Two databases side by side."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from jondel.core.diff.common_ground import on_common_ground
from jondel.core.engines.protocol import Database
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.snapshots.states import open_state
from jondel.core.trail.trail import Trail


@contextmanager
def two_files(one: Database, other: Database) -> Iterator[tuple[Database, Database] | None]:
    """Images of two databases as they are now; None where they are the same.

    Each is free again as soon as its image is taken; nothing is kept.
    """
    from jondel.core.snapshots.shelf import Shelf  # needs numpy: slow to load

    with (
        tempfile.TemporaryDirectory(prefix="jondel-") as folder,
        closing(Shelf(Path(folder) / "one")) as shelf,
        closing(Shelf(Path(folder) / "other")) as other_shelf,
        shelf.passing(one) as before,
        other_shelf.passing(other) as after,
        closing(open_state(before.image, one.location)) as old,
        closing(open_state(after.image, other.location)) as new,
    ):
        yield None if before.name == after.name else on_common_ground(old, new)


@contextmanager
def beside_state(
    other: Database, trail: Trail, state: Snapshot | Database
) -> Iterator[tuple[Database, Database]]:
    """Another database as it is now, and a state of a trail's own, on common ground.

    What the other's own trail keeps makes that quick; nothing is added to it.
    """
    with (
        closing(Trail(other.location)) as others,
        others.now(other) as (before, _),
        trail.opened(state) as after,
    ):
        yield on_common_ground(before, after)
