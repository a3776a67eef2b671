"""The tree of links under a record in the card: what it points to, and what points at it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.browse.links import Link, LinkedRecord, Standing
from jondel.core.browse.record_title import naming_values, record_title
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow

_SUMMARY_CHARACTERS = 30


class LinkNode:
    """One link of a record; its far end is read when it is needed.

    Outwards it leads to one record or to none; inwards to any number, of which the first are
    listed. ``count`` is None while it is not known; ``at_least`` says that there may be more.
    """

    def __init__(
        self, owner: Table, row: ShownRow, link: Link, standing: Standing, *, outwards: bool
    ) -> None:
        self.owner = owner
        self.row = row
        self.link = link
        self.standing = standing
        self.outwards = outwards
        self.count: int | None = None
        self.at_least = False
        self.records: list[RecordNode] = []
        self.open = False
        self.problem = ""

    @property
    def is_unused(self) -> bool:
        """Whether it is known that nothing points here by it."""
        return not self.outwards and self.count == 0 and not self.at_least and not self.problem

    @property
    def label(self) -> str:
        """The near end outwards, the far end inwards."""
        if self.outwards:
            return ", ".join(self.link.columns)
        return f"{self.link.child}.{', '.join(self.link.columns)}"


class RecordNode:
    """A record at the far end of a link, with links of its own once it has been opened."""

    def __init__(self, record: LinkedRecord) -> None:
        self.record = record
        self.links: list[LinkNode] | None = None
        self.open = False

    @property
    def summary(self) -> str:
        """The record's key, and the first of its texts."""
        return record_words(self.record)


class LinkLine(NamedTuple):
    """A line of the tree and what is on it: a heading, a link, a record, all its fields, or the
    links by which nothing points at it."""

    depth: int
    heading: str = ""
    link: LinkNode | None = None
    record: RecordNode | None = None
    fields_of: RecordNode | None = None
    unused: tuple[LinkNode, ...] = ()


def record_words(record: LinkedRecord) -> str:
    """A record in a few words: its key, and the text that tells best which it is."""
    table, row = record.table, record.row
    name = naming_values(table, record.position, row)
    words = " · ".join(line(value, _SUMMARY_CHARACTERS) for value in name)
    text = record_title(table, row)
    return f"{words}  {line(text, _SUMMARY_CHARACTERS)}" if text is not None else words


def lines_of_links(nodes: Sequence[LinkNode], depth: int = 0) -> Iterator[LinkLine]:
    """The lines of a record's links, as far as they are unfolded."""
    for outwards, heading in ((True, "points to"), (False, "pointed at by")):
        chosen = [node for node in nodes if node.outwards == outwards]
        unused = tuple(node for node in chosen if node.is_unused)
        if chosen:
            yield LinkLine(depth, heading)
        if len(unused) > 1:
            chosen = [node for node in chosen if not node.is_unused]
        for node in chosen:
            yield LinkLine(depth + 1, link=node)
            if node.open:
                for record in node.records:
                    if not outwards:
                        yield LinkLine(depth + 2, record=record)
                    if outwards or record.open:
                        yield from _inside(record, depth + 2 + (not outwards))
        if len(unused) > 1:
            yield LinkLine(depth + 1, unused=unused)


def _inside(record: RecordNode, depth: int) -> Iterator[LinkLine]:
    yield LinkLine(depth, fields_of=record)
    if record.links:
        yield from lines_of_links(record.links, depth)
