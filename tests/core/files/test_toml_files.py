"""TOML that people write: errors name the file, the value, and what was expected."""

from __future__ import annotations

from pathlib import Path
from typing import NotRequired, TypedDict

import pytest

from jondel.core.errors import RuleInvalid
from jondel.core.files.toml_files import read_toml, section


class _Harbour(TypedDict):
    berths: list[str]
    depth: NotRequired[float]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        pytest.param("[harbour", "not valid TOML", id="no-toml"),
        pytest.param("[harbour]\ndepth = 2", "missing required field `berths`", id="missing"),
        pytest.param("[harbour]\nberths = [1]", r"harbour.berths\[0\]: expected `str`", id="item"),
        pytest.param("harbour = 3", "harbour: expected `object`, got `int`", id="no-table"),
        pytest.param(
            "[harbour]\nberths = []\ndepth = 'deep'", "harbour.depth: expected `float`", id="type"
        ),
    ],
)
def test_what_is_wrong_is_named_with_its_place(tmp_path: Path, text: str, message: str) -> None:
    path = tmp_path / "jondel.toml"
    path.write_text(text)
    with pytest.raises(RuleInvalid, match=message) as caught:
        section(path, read_toml(path, RuleInvalid), "harbour", _Harbour, RuleInvalid)
    assert str(caught.value).startswith(f"{path}: ")
    assert str(caught.value).endswith("; fix the file")


def test_what_is_right_is_returned_and_what_is_not_there_is_none(tmp_path: Path) -> None:
    path = tmp_path / "jondel.toml"
    assert read_toml(path, RuleInvalid) == {}
    path.write_text("[harbour]\nberths = ['A1']\ndepth = 2\ncolour = 'sea'")
    tables = read_toml(path, RuleInvalid)
    harbour = section(path, tables, "harbour", _Harbour, RuleInvalid)
    assert harbour == {"berths": ["A1"], "depth": 2.0}
    assert section(path, tables, "other", _Harbour, RuleInvalid) is None
