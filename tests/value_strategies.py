"""Random values of every kind."""

from __future__ import annotations

from hypothesis import strategies as st

from jondel.core.model.values import Exact, InvalidText

EXACT_VALUES = st.one_of(
    st.builds(Exact, st.just("numeric"), st.decimals().map(str)),
    st.builds(Exact, st.just("boolean"), st.sampled_from(("true", "false"))),
    st.builds(Exact, st.just("timestamp"), st.datetimes().map(str)),
    st.builds(Exact, st.just("json"), st.sampled_from(('{"a": 1.50}', "[]", "null"))),
    st.builds(Exact, st.sampled_from(("inet", "enum", "array", 'odd "type"')), st.text()),
)
STORED_VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(allow_nan=False),
    st.text(),
    st.binary(),
    st.just(InvalidText(b"\xff\x00")),
    EXACT_VALUES,
)
