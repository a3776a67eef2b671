"""Two databases that have no trail in common, side by side."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from jondel.core.diff.common_ground import on_common_ground
from jondel.core.engines.protocol import Database
from jondel.core.snapshots.states import open_state


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
