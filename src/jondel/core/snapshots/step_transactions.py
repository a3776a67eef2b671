"""What is known of the transactions of steps, kept with the trail."""

from __future__ import annotations

import json
from collections.abc import Sequence

from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.model.addresses import TableId
from jondel.core.model.transactions import Transactions
from jondel.core.snapshots.catalogue import Catalogue


class StepTransactions:
    """What a catalogue knows of the transactions of one database's steps."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue

    def of_step(self, number: int) -> Transactions | None:
        """Those of a step; None where nothing is known of it."""
        rows = self._catalogue.read(
            "SELECT transactions, exact, detail FROM step_commits "
            "JOIN database ON id = database_id WHERE location = ?1 AND number = ?2",
            number,
        )
        if not rows:
            return None
        count, exact, detail = rows[0]
        kept = json.loads(detail)
        records = tuple(
            frozenset((TableId.kept(table), tuple(map(value_from_json, key))) for table, key in one)
            for one in kept["records"]
        )
        return Transactions(count, bool(exact), kept["why"], records)

    def images(self, number: int) -> list[str]:
        """The states between the transactions of a step, in their order, where they are kept."""
        rows = self._catalogue.read(
            "SELECT image FROM step_commit_image JOIN database ON id = database_id "
            "WHERE location = ?1 AND number = ?2 ORDER BY place",
            number,
        )
        return [image for (image,) in rows]

    def keep(self, number: int, transactions: Transactions, images: Sequence[str]) -> None:
        """Remember the transactions of a step. Raises ``StoreUnavailable``."""
        detail = {
            "why": transactions.why,
            "records": [
                [[list(table), [json_value(value) for value in key]] for table, key in one]
                for one in transactions.records
            ],
        }
        with self._catalogue.writing() as (connection, of):
            connection.execute(
                "INSERT OR REPLACE INTO step_commits VALUES (?, ?, ?, ?, ?)",
                (of, number, transactions.count, int(transactions.exact), json.dumps(detail)),
            )
            connection.execute(
                "DELETE FROM step_commit_image WHERE database_id = ? AND number = ?", (of, number)
            )
            for place, image in enumerate(images):
                connection.execute(
                    "INSERT INTO step_commit_image VALUES (?, ?, ?, ?)", (of, number, place, image)
                )
