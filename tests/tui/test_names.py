"""Widgets share one namespace with the toolkit's classes: none of ours may replace theirs."""

from __future__ import annotations

import importlib
import inspect
import pkgutil
import re

import pytest
from textual.message_pump import MessagePump

import jondel.tui

_MEANT = re.compile(r"__\w+__|(on|_on|watch|action)_\w+|compose|render|render_lines?|commands|show")
_MEANT_ONES = {
    "dismiss",
    "check_action",
    "get_default_screen",
    "get_system_commands",
    "get_theme_variable_defaults",
    "_fatal_error",
    *("replace", "edit"),  # through which all that is put into a field goes
    "get_line",  # which the toolkit has for this: a line in colours
}


def _classes() -> list[type]:
    found = []
    for module in pkgutil.walk_packages(jondel.tui.__path__, "jondel.tui."):
        loaded = importlib.import_module(module.name)
        found += [
            kind
            for kind in vars(loaded).values()
            if inspect.isclass(kind)
            and kind.__module__ == loaded.__name__
            and issubclass(kind, MessagePump)
        ]
    return found


def _own_names(kind: type) -> set[str]:
    source = inspect.getsource(kind)
    return set(re.findall(r"self\.(\w+)(?:: [^=\n]+)? = ", source)) | {
        name for name, value in vars(kind).items() if inspect.isfunction(value)
    }


def _toolkit_names(kind: type) -> set[str]:
    names: set[str] = set()
    for base in kind.__mro__:
        if base.__module__.startswith("textual"):
            names |= set(vars(base))
            names |= set(re.findall(r"self\.(_\w+)(?:: [^=\n]+)? = ", inspect.getsource(base)))
    return names


@pytest.mark.parametrize("kind", _classes(), ids=lambda kind: kind.__name__)
def test_no_attribute_replaces_one_of_the_toolkits(kind: type) -> None:
    meant = {name for name in _own_names(kind) if _MEANT.fullmatch(name)}
    settable = {"_bindings", "virtual_size", "theme", "display", "text", "highlight_cursor_line"}
    settable |= {"highlighted", "value", "cursor_position"}
    clashes = (_own_names(kind) & _toolkit_names(kind)) - meant - _MEANT_ONES - settable
    assert not clashes


def test_text_is_entered_in_fields_that_show_what_a_terminal_would_act_on() -> None:
    """The toolkit's own fields would hand stored text to the terminal as it is."""
    for module in pkgutil.walk_packages(jondel.tui.__path__, "jondel.tui."):
        if module.ispkg or module.name == "jondel.tui.widgets.text_fields":
            continue
        source = inspect.getsource(importlib.import_module(module.name))
        imported = re.findall(r"from textual\.widgets import ([^\n]+)", source)
        assert not {"Input", "TextArea", "MaskedInput"} & set(", ".join(imported).split(", "))
