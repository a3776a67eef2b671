"""Two databases that have no trail in common, side by side."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_pages


@contextmanager
def two_files(one: Database, other: Database) -> Iterator[tuple[Database, Database] | None]:
    """Images of two databases as they are now; None where they are the same.

    Each is free again as soon as its image is taken; nothing is kept.
    """
    from jondel.core.snapshots.shelf import Shelf  # needs numpy: slow to load

    with (
        tempfile.TemporaryDirectory(prefix="jondel-") as folder,
        closing(Shelf(Path(folder) / "shelf")) as shelf,
        shelf.passing(one) as before,
        shelf.passing(other) as after,
        closing(open_pages(before.image, location=one.location)) as old,
        closing(open_pages(after.image, location=other.location)) as new,
    ):
        yield None if before.name == after.name else (old, new)
