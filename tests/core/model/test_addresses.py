"""Addresses of tables, spelled out and found again."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table

_LEVELS = st.lists(st.one_of(st.text(), st.text('."a')), min_size=1, max_size=3)


@given(_LEVELS)
def test_what_is_spelled_out_is_understood(levels: list[str]) -> None:
    assert TableId.parsed(TableId(*levels).spelled) == TableId(*levels)


@given(_LEVELS, _LEVELS)
def test_two_addresses_are_never_spelled_alike(one: list[str], other: list[str]) -> None:
    assert (TableId(*one).spelled == TableId(*other).spelled) == (one == other)


@pytest.mark.parametrize("text", ["", ".", "a.", ".a", "a..b", '"a', 'a"b', '"a"b', '"a".'])
def test_a_text_that_spells_no_address_is_a_name(text: str) -> None:
    assert TableId.parsed(text) == TableId(text)


def test_the_levels() -> None:
    address = TableId("harbour", "billing", "odd.name")
    assert (address.name, address.above) == ("odd.name", ("harbour", "billing"))
    assert (str(address), address.spelled) == (
        "harbour.billing.odd.name",
        'harbour.billing."odd.name"',
    )
    with pytest.raises(ValueError, match="at least one level"):
        TableId()


@pytest.mark.parametrize("kept", [None, 7, [], {}, ["a", 7], [["a"]]])
def test_what_is_no_address_in_a_file_is_told(kept: object) -> None:
    with pytest.raises(ValueError, match="address"):
        TableId.kept(kept)


_SCHEMA = Schema(
    tuple(
        Table(TableId(*levels), "table", (), schema=levels[-2] if len(levels) > 1 else "main")
        for levels in (
            ("public", "boats"),
            ("billing", "boats"),
            ("billing", "Invoices"),
            ("public", "billing.invoices"),
            ("only",),
        )
    )
)


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("public.boats", ("public", "boats")),
        ("BILLING.Boats", ("billing", "boats")),
        ("invoices", ("billing", "Invoices")),
        ("billing.invoices", ("public", "billing.invoices")),
        ('billing."Invoices"', ("billing", "Invoices")),
        ("boats", None),
        ("main.only", ("only",)),
        ("other.only", None),
        ("nowhere", None),
        ("", None),
    ],
)
def test_a_table_is_found_by_what_people_call_it(text: str, found: tuple[str, ...] | None) -> None:
    table = _SCHEMA.named(text)
    assert (table.id if table is not None else None) == found


def test_an_address_finds_its_own_table_alone() -> None:
    for table in _SCHEMA.tables:
        assert _SCHEMA.find(table.id) is table
        assert _SCHEMA.named(table.id.spelled) is table
    assert _SCHEMA.find(TableId("boats")) is None
    assert _SCHEMA.find(TableId("PUBLIC", "Boats")) is _SCHEMA.tables[0]
