"""Database files as captured states, opened as databases from the store."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from pathlib import Path

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database, open_pages
from jondel.core.snapshots.shelf import Shelf


@contextmanager
def stored(folder: Path, *files: Path) -> Iterator[tuple[Database, ...]]:
    """Capture files one after the other into one shelf, and open what was captured."""
    with ExitStack() as stack:
        shelf = stack.enter_context(closing(Shelf(folder / "shelf")))
        opened = []
        for file in files:
            with closing(open_database(file)) as database, shelf.captured(database) as name:
                pass
            pages = shelf.open(name, f"the state of {file.name}")
            opened.append(stack.enter_context(closing(open_pages(pages, location=str(file)))))
        yield tuple(opened)
