"""Random conditions on a table of columns of every kind."""

from __future__ import annotations

from hypothesis import strategies as st

from jondel.core.model.filters import (
    OPERATORS,
    ColumnCondition,
    Condition,
    GroupCondition,
    Operator,
    WordsCondition,
)

TYPES = {
    "i": "INTEGER",
    "r": "REAL",
    "t": "TEXT",
    "b": "BLOB",
    "n": "",
    '[odd] "one"': "ANY_KIND",
}
"""The columns with their declared types; ``id`` is the key."""

_NUMBERS = (0, 1, -3, 12, 1.5, 12.0)
_TEXTS = (
    "",
    "a",
    "A",
    "ab",
    "b a",
    "1",
    "1.5",
    " 12 ",
    "1e1",
    "+1",
    "0x1",
    "ä",
    "Ä%",
    "x_y",
    "[1]",
    "?*",
    "it's",
)
VALUES = st.sampled_from([None, *_NUMBERS, *_TEXTS, b"", b"ab"])
"""What is stored."""

_TYPED = st.sampled_from(
    [0, 1, -12, 1.5, 10, "", "a", "AB", "1", "1e1", " 12", "+1", "ä", "%", "_", "[", "*", "it's"]
)
_PATTERNS = st.sampled_from(["a*", "*b", "?", "*", "[1]", "*[*", "x?y", "1*"])


@st.composite
def column_conditions(draw: st.DrawFn) -> ColumnCondition:
    operator: Operator = draw(st.sampled_from(sorted(OPERATORS)))
    fewest, most = OPERATORS[operator]
    values = _PATTERNS if operator in ("matches", "does not match") else _TYPED
    chosen = draw(st.lists(values, min_size=fewest, max_size=3 if most is None else most))
    return ColumnCondition(draw(st.sampled_from(sorted(TYPES))), operator, tuple(chosen))


_WORDS = st.sampled_from(["a", "ab", "1", "Ä", "b a", "%", "nowhere"]).map(WordsCondition)

conditions: st.SearchStrategy[Condition] = st.recursive(
    column_conditions() | _WORDS,
    lambda inner: st.builds(
        GroupCondition,
        st.sampled_from(["and", "or"]),
        st.lists(inner, max_size=3).map(tuple),
    ),
    max_leaves=5,
)


def column_list() -> str:
    """The columns as CREATE TABLE declares them."""
    names = {name: name.replace('"', '""') for name in TYPES}
    return ", ".join(f'"{quoted}" {TYPES[name]}' for name, quoted in names.items())
