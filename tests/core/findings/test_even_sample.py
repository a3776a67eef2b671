"""An even sample: as many of the last values as of the first, however they come."""

from __future__ import annotations

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from jondel.core.findings.even_sample import EvenSample


@given(st.lists(st.integers(0, 50), max_size=60), st.integers(1, 20))
def test_each_nth_value_is_taken_from_the_first_to_the_last(batches: list[int], most: int) -> None:
    sample: EvenSample[int] = EvenSample(most)
    fed = 0
    for count in batches:
        sample.feed(range(fed, fed + count))
        fed += count
    taken = list(sample.values)
    assert len(taken) <= most
    assert len(taken) >= min(fed, (most + 1) // 2)
    assert taken[:1] == ([0] if fed else [])
    distances = {later - earlier for earlier, later in pairwise(taken)}
    assert len(distances) <= 1
    if distances:
        assert fed - taken[-1] <= distances.pop()
