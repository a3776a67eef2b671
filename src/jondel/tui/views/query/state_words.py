"""What is said around the tape: what is asked, and what happens with what is run."""

from __future__ import annotations

from typing import NamedTuple, TypeAlias

from jondel.core.browse.display import line
from jondel.core.query.files import ScriptFile, changed_outside
from jondel.tui.services.moments import AtStep, Moment

Parts: TypeAlias = list[tuple[str, str]]
"""Pieces of text with their styles."""


class QueryState(NamedTuple):
    """How things are in the query view; ``text`` is what is in the box."""

    moment: Moment
    entries: int
    file: ScriptFile | None
    text: str
    in_box: bool
    doing: str
    tried_out: bool
    rehearses: bool
    read_only: bool
    foreign_keys: str


def title_parts(state: QueryState) -> tuple[Parts, Parts]:
    """The line above the tape: its left and its right."""
    asked = f"s{state.moment.number}" if isinstance(state.moment, AtStep) else "now"
    count = f"{state.entries} entries " if state.entries != 1 else "1 entry "
    right = [(count if state.entries else "", "dim")]
    if state.file is not None:
        edited = " edited" if state.text != state.file.text else ""
        outside = " changed outside" if changed_outside(state.file) else ""
        right.insert(0, (f" {line(state.file.path.name, 40)}{edited}{outside}  ", "draft"))
    return [(" tape", "strong"), (f"  asks {asked}", "dim")], right


def state_parts(state: QueryState) -> tuple[Parts, Parts]:
    """The line above the box: its left and its right."""
    if state.doing:
        return [(f" {state.doing} ", "flag")], [("Escape stops it ", "dim")]
    if state.tried_out:
        rest = f"  or leave it{state.foreign_keys}"
        left = [(" nothing is written yet ", "draft"), (" Ctrl+S writes it", "strong")]
        return [*left, (rest, "dim")], []
    writing = "what writes is tried out first" if state.rehearses else "what writes is written"
    if state.read_only:
        writing = "read-only: what writes is only tried out"
    there = "Esc to the tape " if state.in_box else "Esc to the box "
    words = f" · {writing}{state.foreign_keys}"
    return [(" Ctrl+G runs it", "plain"), (words, "dim")], [(there, "dim")]
