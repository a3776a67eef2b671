"""What is known of the transactions of steps, kept with the trail."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import Any

from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.model.addresses import TableId
from jondel.core.model.transactions import RecordKey, Transactions
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
        records = tuple(map(_record_keys, kept["records"]))
        unchanged = _record_keys(kept.get("unchanged", ()))
        return Transactions(count, bool(exact), kept["why"], records, unchanged)

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
            "records": [_plain_keys(one) for one in transactions.records],
            "unchanged": _plain_keys(transactions.unchanged),
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


def _plain_keys(keys: Iterable[RecordKey]) -> list[Any]:
    return [[list(table), [json_value(value) for value in key]] for table, key in keys]


def _record_keys(plain: Iterable[Any]) -> frozenset[RecordKey]:
    return frozenset(
        (TableId.kept(table), tuple(map(value_from_json, key))) for table, key in plain
    )
