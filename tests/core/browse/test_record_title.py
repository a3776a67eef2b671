"""Which of a record's texts is shown where there is room for one."""

from __future__ import annotations

import pytest

from jondel.core.browse.record_title import record_title
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, ForeignKey, Table
from jondel.core.model.values import ShownRow


def _text(names: str, row: ShownRow) -> str | None:
    columns = (Column("id", column_type("INTEGER"), key_position=1), *map(Column, names.split()))
    links = (ForeignKey(("pier",), TableId("piers"), ("code",)),)
    return record_title(Table(TableId("t"), "table", columns, links), (1, *row))


@pytest.mark.parametrize(
    ("names", "row", "text"),
    [
        ("berth_uuid boat", ("6ef34cd1-221c-fbb2-570d-1f72a97e833b", "Gull 4"), "Gull 4"),
        ("x9 note", ("6ef34cd1221cfbb2570d1f72a97e833b", "by the steps"), "by the steps"),
        ("arrives_on note", ("2026-05-01", "late"), "late"),
        ("note full_name", ("late", "Ada Birk"), "Ada Birk"),
        ("status fullName", ("held", "Ada Birk"), "Ada Birk"),
        ("pier note", ("north", "late"), "late"),
        ("status", ("held",), "held"),
        ("meta note", ('{"a": 1}', "late"), "late"),
        ("name note", ("  ", "late"), "late"),
        ("number", (12,), None),
        ("a b", ("first", "second"), "first"),
    ],
)
def test_names_come_before_texts_and_those_before_codes(
    names: str, row: ShownRow, text: str | None
) -> None:
    assert _text(names, row) == text
