"""The dialog of a record's history."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import line, safe_name
from jondel.core.browse.times import TimeKind, guess_time_kind, reading
from jondel.core.model.changes import MARKS
from jondel.core.model.schema import Table
from jondel.core.trail.history import Version
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.services.moments import NOW, AtStep, Moment
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.changed_cell import append_changed_cell
from jondel.tui.widgets.styles import change_style, ink

_MOST_CELLS_OF_A_VERSION = 8


class HistoryDialog(Dialog[Moment | None]):
    """Shows the versions of a record; returns the moment to go to."""

    BINDINGS = [Binding("escape,h", "dismiss(None)", "close")]

    def __init__(
        self, record: str, versions: Sequence[Version], table: Table | None = None
    ) -> None:
        """``table`` says what its columns hold and where they lead, where it is at hand."""
        super().__init__()
        self._record = record
        self._versions = list(reversed(versions))
        self._table = table
        self._times = dict(_time_kinds(table, versions)) if table is not None else {}

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading(f"{safe_name(self._record)}: history, latest first")
            yield OptionList(
                *(Option(self._entry(version)) for version in self._versions),
                id="versions",
                markup=False,
            )
            yield foot("Enter goes to that step · Escape closes")

    def _entry(self, version: Version) -> Text:
        dim = ink(self, "sand-dim")
        text = Text(no_wrap=True, overflow="ellipsis")
        mark = MARKS[version.kind] if version.kind else " "
        style = change_style(self, version.kind) if version.kind else dim
        text.append(f"{mark} ", style)
        snapshot = version.snapshot
        if snapshot is None:
            text.append("now   ", ink(self, "sea"))
            text.append("since the last snapshot", dim)
        else:
            text.append(fitted_text(snapshot.id, 6), ink(self, "sea"))
            text.append(snapshot.taken_at.astimezone().strftime("%m-%d %H:%M:%S  "), dim)
            text.append("" if snapshot.title == snapshot.id else safe_name(snapshot.title))
        if version.problem:
            text.append(f"\n    {line(version.problem, 300)}", change_style(self, "removed"))
        elif version.kind == "removed":
            text.append("\n    removed", dim)
        elif version.kind == "changed":
            for cell in version.cells:
                name = f"\n    {safe_name(cell.column)}  "
                append_changed_cell(text, self, cell, name, "\n" + " " * (len(name) - 1))
                text.append(self._target(cell.column), dim)
        elif version.row is not None:
            words = "added" if version.kind else "as it was when the trail began"
            text.append(f"\n    {words}", dim)
            cells = list(zip(version.columns, version.row, strict=True))
            for name, value in cells[:_MOST_CELLS_OF_A_VERSION]:
                text.append(f"\n    {safe_name(name)}  ", dim)
                text.append(line(value, 60))
                kind = self._times.get(name)
                read = reading(value, kind) if kind is not None else None
                text.append(f"  {read}" if read else "", ink(self, "sea", italic=True))
                text.append(self._target(name), dim)
            if cells[_MOST_CELLS_OF_A_VERSION:]:
                text.append(f"\n    … {len(cells) - _MOST_CELLS_OF_A_VERSION} more cells", dim)
        return text

    def _target(self, column: str) -> str:
        """Where a column leads, if anywhere."""
        links = self._table.links_from(column) if self._table is not None else ()
        return "".join(f"  in {safe_name(link.target_table)}" for link in links)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        snapshot = self._versions[event.option_index].snapshot
        self.dismiss(AtStep(snapshot.number) if snapshot is not None else NOW)


def _time_kinds(table: Table, versions: Sequence[Version]) -> Iterator[tuple[str, TimeKind]]:
    """What columns count time in, as far as the versions of one record tell."""
    for column in table.columns:
        values = [
            version.row[version.columns.index(column.name)]
            for version in versions
            if version.row is not None and column.name in version.columns
        ]
        kind = guess_time_kind(column, values)
        if kind is not None:
            yield column.name, kind
