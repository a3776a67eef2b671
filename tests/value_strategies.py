"""Random values of every storage class."""

from __future__ import annotations

from hypothesis import strategies as st

from jondel.core.model.values import InvalidText

STORED_VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(allow_nan=False),
    st.text(),
    st.binary(),
    st.just(InvalidText(b"\xff\x00")),
)
