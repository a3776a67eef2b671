"""Names that are cut are still told apart."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.name_cuts import cut_names

_LONG = [
    "catalogue_productattribute",
    "catalogue_productattributevalue",
    "catalogue_productcategory",
    "catalogue_product",
]


def test_what_differs_stays() -> None:
    cuts = cut_names(_LONG, dict.fromkeys(_LONG, 20))
    assert cuts == {
        "catalogue_productattribute": "catal…oductattribute",
        "catalogue_productattributevalue": "catal…attributevalue",
        "catalogue_productcategory": "catal…roductcategory",
        "catalogue_product": "catalogue_product",
    }


def test_where_the_ends_are_alike_the_beginnings_stay() -> None:
    names = ["berth_in_the_north_log", "berth_in_the_south_log"]
    cuts = cut_names(names, dict.fromkeys(names, 12))
    assert len(set(cuts.values())) == 2


@given(
    st.lists(st.text("ab_", min_size=1, max_size=30), unique=True, max_size=8), st.integers(1, 30)
)
def test_a_name_is_never_longer_than_its_room_and_whole_where_it_fits(
    names: list[str], room: int
) -> None:
    cuts = cut_names(names, dict.fromkeys(names, room))
    for name, cut in cuts.items():
        assert len(cut) <= room
        assert (cut == name) == (len(name) <= room)
