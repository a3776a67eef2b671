"""A dialog's keys reach it although a field in it has the focus."""

from __future__ import annotations

import importlib
import inspect
import pkgutil
import re
from collections.abc import Iterator

import pytest
from textual.binding import Binding
from textual.widgets import Input, TextArea

import jondel.tui.dialogs
from jondel.tui.frame.dialog import Dialog

_FIELDS = {"TextField": Input, "SqlField": Input, "TextBox": TextArea, "LongTextBox": TextArea}


def _dialogs() -> Iterator[type[Dialog[object]]]:
    for module in pkgutil.walk_packages(jondel.tui.dialogs.__path__, "jondel.tui.dialogs."):
        for kind in vars(importlib.import_module(module.name)).values():
            if (
                inspect.isclass(kind)
                and issubclass(kind, Dialog)
                and kind.__module__ == module.name
            ):
                yield kind


def _keys(bindings: list[Binding]) -> set[str]:
    return {key for entry in bindings for key in entry.key.split(",") if not entry.priority}


@pytest.mark.parametrize("dialog", list(_dialogs()), ids=lambda dialog: dialog.__name__)
def test_no_field_of_a_dialog_takes_its_keys(dialog: type[Dialog[object]]) -> None:
    fields = re.findall(
        r"\b(?:yield|=) (TextField|SqlField|TextBox|LongTextBox)\(", inspect.getsource(dialog)
    )
    taken = {key for name in fields for key in _keys(list(_FIELDS[name].BINDINGS))}  # type: ignore[arg-type]
    clashes = _keys(list(dialog.BINDINGS)) & taken  # type: ignore[arg-type]
    assert not clashes


def test_there_are_dialogs_with_fields() -> None:
    sources = [inspect.getsource(dialog) for dialog in _dialogs()]
    assert sum("yield TextField(" in source for source in sources) > 3
