"""A panel's keys reach it although a field in it has the focus."""

from __future__ import annotations

import importlib
import inspect
import pkgutil
import re
from collections.abc import Iterator

import pytest
from textual.binding import Binding
from textual.widgets import Input, TextArea

import jondel.tui.views
from jondel.tui.views.panel import Panel

_FIELDS = {"Input": Input, "SqlField": Input, "TextArea": TextArea}


def _panels() -> Iterator[type[Panel[object]]]:
    for module in pkgutil.walk_packages(jondel.tui.views.__path__, "jondel.tui.views."):
        for kind in vars(importlib.import_module(module.name)).values():
            if inspect.isclass(kind) and issubclass(kind, Panel) and kind.__module__ == module.name:
                yield kind


def _keys(bindings: list[Binding]) -> set[str]:
    return {key for entry in bindings for key in entry.key.split(",") if not entry.priority}


@pytest.mark.parametrize("panel", list(_panels()), ids=lambda panel: panel.__name__)
def test_no_field_of_a_panel_takes_its_keys(panel: type[Panel[object]]) -> None:
    fields = re.findall(r"\b(?:yield|=) (Input|SqlField|TextArea)\(", inspect.getsource(panel))
    taken = {key for name in fields for key in _keys(list(_FIELDS[name].BINDINGS))}  # type: ignore[arg-type]
    clashes = _keys(list(panel.BINDINGS)) & taken  # type: ignore[arg-type]
    assert not clashes


def test_there_are_panels_with_fields() -> None:
    sources = [inspect.getsource(panel) for panel in _panels()]
    assert sum("yield Input(" in source for source in sources) > 3
