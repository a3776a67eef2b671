"""How sheets are laid out, filtered piece by piece, and found again as they were left."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from condition_strategies import conditions
from jondel.core.browse.filter_edit import (
    lines_of,
    with_condition,
    with_line,
    with_other_joint,
    with_words,
    words_in,
)
from jondel.core.browse.json_lines import json_lines, parsed
from jondel.core.browse.layout import ColumnLayout
from jondel.core.browse.plain_conditions import condition_as_plain, condition_from_plain
from jondel.core.browse.sheet_states import SheetState, SheetStates
from jondel.core.browse.typed_values import as_typed, typed_value
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.files.small_files import SmallFile
from jondel.core.model.addresses import TableId
from jondel.core.model.filters import (
    ColumnCondition,
    Condition,
    Filter,
    GroupCondition,
    Layer,
    OrderKey,
    SqlCondition,
    WordsCondition,
)
from jondel.core.model.schema import Column
from jondel.core.model.values import StoredValue

_NAMES = ("id", "name", "berth", "note")
_A, _B, _C = (ColumnCondition("name", "is", (text,)) for text in "abc")


def _shown(layout: ColumnLayout, names: tuple[str, ...] = _NAMES) -> list[str]:
    return [names[index] for index in layout.shown(names, ())]


# Columns


def test_columns_are_moved_hidden_and_shown_again() -> None:
    layout = ColumnLayout().moved(_NAMES, (), "note", -2).with_hidden("berth", True)
    assert _shown(layout) == ["id", "note", "name"]
    assert _shown(layout.with_hidden("berth", False)) == ["id", "note", "name", "berth"]
    assert _shown(layout.moved(_NAMES, (), "id", 99)) == ["note", "name", "id"]


def test_columns_that_are_new_or_gone_find_their_place() -> None:
    layout = ColumnLayout(order=("note", "gone", "name"), hidden=frozenset({"gone"}))
    assert _shown(layout, ("id", "name", "new", "note")) == ["id", "note", "name", "new"]


def test_the_key_is_frozen_where_it_comes_first_unless_said_otherwise() -> None:
    assert ColumnLayout().shown(["name", "b", "id", "a"], ("a", "b")) == [1, 3, 0, 2]
    assert ColumnLayout(hidden=frozenset({"a"})).shown(["b", "a"], ("a",)) == [0]
    assert ColumnLayout(order=("name", "id")).shown(["id", "name"], ("id",)) == [1, 0]
    assert ColumnLayout().frozen_places(("id",), ["id", "name"]) == 1
    assert ColumnLayout().frozen_places(("id",), ["name", "id"]) == 0
    assert ColumnLayout(frozen=2).frozen_places((), ["a"]) == 1
    assert ColumnLayout(frozen=0).frozen_places(("id",), ["id"]) == 0


# Filters, line by line


def test_a_line_is_joined_to_the_one_above_and_parted_again() -> None:
    stack = Filter((Layer(_A), Layer(_B), Layer(_C)))
    joined = with_other_joint(stack, (1,))
    assert joined.layers == (Layer(GroupCondition("or", (_A, _B))), Layer(_C))
    assert [(line.joint, line.path) for line in lines_of(joined)] == [
        ("", (0, 0)),
        ("or", (0, 1)),
        ("and", (1,)),
    ]
    assert with_other_joint(joined, (0, 1)) == stack
    assert with_other_joint(stack, (0,)) == stack


def test_a_line_is_replaced_or_taken_out_and_no_group_of_one_stays() -> None:
    stack = Filter((Layer(GroupCondition("or", (_A, GroupCondition("and", (_B, _C)))), False),))
    assert with_line(stack, (0, 1, 0), None).layers == (
        Layer(GroupCondition("or", (_A, _C)), False),
    )
    assert with_line(stack, (0, 0), None).layers == (Layer(GroupCondition("and", (_B, _C)), False),)
    assert with_line(Filter((Layer(_A),)), (0,), None) == Filter()
    assert with_line(Filter((Layer(_A),)), (0,), _B) == Filter((Layer(_B),))


def test_words_are_one_layer_of_the_stack() -> None:
    stack = with_words(Filter((Layer(_A),)), "gull")
    assert stack.layers == (Layer(WordsCondition("gull")), Layer(_A))
    assert words_in(stack) == "gull"
    assert with_words(stack, "").layers == (Layer(_A),)


def test_what_is_off_stays_when_the_rest_is_written_as_sql() -> None:
    stack = Filter((Layer(_A), Layer(_B, False)))
    changed = with_condition(stack, GroupCondition("and", (_C, SqlCondition("1"))))
    assert changed.layers == (Layer(_C), Layer(SqlCondition("1")), Layer(_B, False))
    assert with_condition(stack, None).layers == (Layer(_B, False),)
    assert stack.condition == _A
    assert stack.all_off().condition is None


# Kept


@given(conditions)
def test_a_condition_is_read_as_it_was_kept(condition: Condition) -> None:
    assert condition_from_plain(condition_as_plain(condition)) == condition


@pytest.mark.parametrize(
    "plain", [None, {}, {"words": 1}, {"column": "a", "operator": "like", "values": []}, {"or": 1}]
)
def test_what_is_no_condition_is_told(plain: object) -> None:
    with pytest.raises(ValueError, match="no condition"):
        condition_from_plain(plain)


def test_sheets_are_found_as_they_were_left(home: Path) -> None:
    state = SheetState(
        filter=Filter((Layer(ColumnCondition("name", "one of", ("a", None, b"\x00"))),)),
        order=(OrderKey("name", True),),
        layout=ColumnLayout(("name",), frozenset({"note"}), (("id", 9),), 1),
        row=41,
        column="name",
        times=(("paid_at", "unix seconds"), ("code", "")),
    )
    states = SheetStates("/x/app.db")
    states.keep(TableId("boats"), state)
    states.keep(TableId("berths"), SheetState())
    states.save()
    assert SheetStates("/x/app.db").of(TableId("boats")) == state
    assert SheetStates("/x/app.db").of(TableId("berths")) == SheetState()
    assert SheetStates("/x/other.db").of(TableId("boats")) == SheetState()


def test_sheets_kept_under_names_alone_are_found(home: Path) -> None:
    plain = {"row": 3, "column": "name"}
    SmallFile("sheets", "/x/app.db").write({"boats": plain, "odd.name": plain, "tables": plain})
    states = SheetStates("/x/app.db")
    for name in ("boats", "odd.name", "tables"):
        assert states.of(TableId(name)) == SheetState(row=3, column="name")
    states.keep(TableId("berths"), SheetState(row=1))
    states.save()
    for name in ("boats", "odd.name", "tables"):
        assert SheetStates("/x/app.db").of(TableId(name)).row == 3


# Typed values


@given(
    st.integers(-(2**63), 2**63 - 1)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(st.characters(exclude_categories=["Cs"]), min_size=1)
    | st.binary()
)
def test_a_value_typed_as_it_is_written_is_the_same(value: StoredValue) -> None:
    found = typed_value(as_typed(value), Column("c"))
    assert (type(found), found) == (type(value), value)


def test_a_number_typed_for_a_text_column_is_text() -> None:
    assert typed_value("12", Column("c", column_type("VARCHAR(20)"))) == "12"
    assert typed_value("12", Column("c", column_type("INTEGER"))) == 12
    assert typed_value("'12'", Column("c", column_type("INTEGER"))) == "12"


# JSON


def _laid_out(text: str, folded: tuple[tuple[int, ...], ...] = ()) -> list[str]:
    found = json_lines(parsed(text), folded)
    return [" " * x.depth + "".join(piece.text for piece in x.pieces) for x in found]


def test_json_keeps_numbers_and_doubled_names_as_they_are_written() -> None:
    assert _laid_out('{"a": 1.50, "a": [1e3, null], "b": {}}') == [
        "{",
        ' "a": 1.50,',
        ' "a": [',
        "  1e3,",
        "  null",
        " ],",
        ' "b": {}',
        "}",
    ]


def test_json_folds_what_is_wanted_and_what_is_long() -> None:
    assert _laid_out('{"a": [1, 2]}', ((0,),)) == ["{", ' "a": [ 2 … ]', "}"]
    many = '{"a": [' + ", ".join("1" * 1 for _ in range(100)) + "]}"
    assert _laid_out(many) == ["{", ' "a": [ 100 … ]', "}"]
    assert len(_laid_out(many, ((0,),))) == 104


@pytest.mark.parametrize("text", ["{", "plain", "12", '"x"', "[" * 100_000])
def test_what_is_no_object_or_list_is_left_alone(text: str) -> None:
    assert parsed(text) is None
