"""The links of one database as far as they are known, and how they are followed."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from jondel.core.browse.link_guesses import guessed_links
from jondel.core.browse.link_tree import LinkNode, RecordNode
from jondel.core.browse.links import (
    Link,
    LinkDecisions,
    LinkedRecord,
    Standing,
    all_links,
    children_cells,
    declared_links,
    target_of,
    target_values,
)
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, JondelError, RuleInvalid
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import ShownRow
from jondel.core.trail.project import Project
from jondel.tui.services.moments import NOW, AtResult, Moment, origin_of
from jondel.tui.services.rows import RowService

_COUNTED = 100_000
"""Records that point at one are counted no further than this."""
_LISTED = 30


class LinkService:
    """Declared links at once, guessed ones once they have been looked for."""

    def __init__(self, location: str, rows: RowService) -> None:
        self._rows = rows
        self._project = Project(location)
        self._guessed: tuple[Schema, list[Link]] | None = None
        self._schema = Schema(())
        self.problem = ""
        """Why what was decided of links cannot be read; empty while it can."""

    def _decisions(self) -> LinkDecisions:
        try:
            decisions = self._project.link_decisions()
        except RuleInvalid as error:
            self.problem = str(error)
            return LinkDecisions()
        self.problem = ""
        return decisions

    def standing(self, schema: Schema) -> dict[Link, Standing]:
        """All links, as far as they are known."""
        guessed = self._guessed[1] if self._guessed is not None else []
        self._schema = schema
        links = all_links(declared_links(schema), guessed, self._decisions().resolved(schema))
        return {link: s for link, s in links.items() if _fits(link, schema)}

    def knows_guesses(self, schema: Schema) -> bool:
        """Whether links have been guessed for this schema."""
        return self._guessed is not None and self._guessed[0] == schema

    async def guess(self) -> None:
        """Look for links that names and values suggest, in the live database."""

        def work(database: Database) -> tuple[Schema, list[Link]]:
            schema = database.schema()
            return schema, list(guessed_links(database, schema))

        self._guessed = await self._rows.ask(NOW, work)

    def decide(self, link: Link, decide: Callable[[LinkDecisions, Link], LinkDecisions]) -> str:
        """Keep a decision for the project; returns the file it is in. Raises ``RuleInvalid``."""
        schema = self._schema

        def change(known: LinkDecisions) -> LinkDecisions:
            return decide(known.resolved(schema), link)

        return str(self._project.change_link_decisions(change))

    # Following

    async def nodes_of(self, moment: Moment, table: Table, row: ShownRow) -> list[LinkNode]:
        """The links of a record; their far ends are not read yet."""
        schema = await self._rows.schema(origin_of(moment))
        if isinstance(moment, AtResult):
            schema = Schema((*schema.tables, table))
        nodes: list[LinkNode] = []
        inwards: list[LinkNode] = []
        for link, standing in self.standing(schema).items():
            if link.child == table.id and target_values(link, table, row) is not None:
                nodes.append(LinkNode(table, row, link, standing, outwards=True))
            if link.parent == table.id and children_cells(link, table, row) is not None:
                inwards.append(LinkNode(table, row, link, standing, outwards=False))
        return [*nodes, *inwards]

    async def count(self, moment: Moment, node: LinkNode) -> None:
        """Find out where a link leads: the record outwards, how many records inwards."""

        def work(database: Database) -> tuple[int, LinkedRecord | None]:
            schema = database.schema()
            if node.outwards:
                target = target_of(database, schema, node.link, node.owner, node.row)
                return int(target is not None), target
            child = schema.find(node.link.child)
            cells = children_cells(node.link, node.owner, node.row)
            if child is None or cells is None:
                return 0, None
            return database.rows.count_matching(child, cells, _COUNTED + 1), None

        try:
            count, record = await self._rows.ask(origin_of(moment), work)
        except Cancelled:
            raise
        except JondelError as error:
            node.problem = str(error)
            return
        node.count = min(count, _COUNTED)
        node.at_least = count > _COUNTED
        node.records = [RecordNode(record)] if record is not None else []

    async def open_link(self, moment: Moment, node: LinkNode) -> None:
        """Read what a link leads to: the record's own links outwards, the records inwards."""
        if node.outwards:
            for record in node.records:
                record.open = True
                await self.open_record(moment, record)
            return

        def work(database: Database) -> list[LinkedRecord]:
            child = database.schema().find(node.link.child)
            cells = children_cells(node.link, node.owner, node.row)
            if child is None or cells is None:
                return []
            window = database.rows.matching_rows(child, cells, _LISTED)
            pairs = zip(window.positions, window.rows, strict=True)
            return [LinkedRecord(child, position, row) for position, row in pairs]

        node.records = [
            RecordNode(record) for record in await self._rows.ask(origin_of(moment), work)
        ]

    async def open_record(self, moment: Moment, node: RecordNode) -> None:
        """Read the links of a record in the tree, and where they lead."""
        if node.links is None:
            record = node.record
            node.links = await self.nodes_of(origin_of(moment), record.table, record.row)
            for link in node.links:
                await self.count(moment, link)


def _fits(link: Link, schema: Schema) -> bool:
    """Whether the tables and columns of a link are there."""
    child, parent = schema.find(link.child), schema.find(link.parent)
    if child is None or parent is None:
        return False
    ours: Sequence[str] = (*link.columns, *([link.when[0]] if link.when else []))
    return set(ours) <= set(child.column_names) and set(link.parent_columns) <= set(
        parent.column_names
    )
