"""The dialog of an import: which column of a file goes where, how it is read, what is wrong."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from dataclasses import replace
from typing import Literal, NamedTuple, cast

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, line
from jondel.core.errors import ImportFailed
from jondel.core.imports.destination import new_table_id, plan_for_new, plan_for_table
from jondel.core.imports.matching import Match, read_by, without_values
from jondel.core.imports.plan import ImportPlan
from jondel.core.imports.preview import Sample, problem_of
from jondel.core.imports.readings import WAYS, shown
from jondel.core.imports.source import SourceOptions
from jondel.core.model.column_types import ColumnType
from jondel.core.model.schema import Schema, Table
from jondel.core.sql.dialect import Dialect
from jondel.tui.dialogs.choice import ChoiceDialog
from jondel.tui.frame.dialog import Dialog, foot, heading, problem_line
from jondel.tui.widgets.cell_text import fitted_text

ImportHow = Literal["try", "write", "draft"]
_LEFT_OUT = "(left out)"
_SAMPLES = 3
_ENCODINGS = {"UTF-8": "utf-8", "UTF-16": "utf-16", "Windows-1252": "cp1252", "Latin-1": "latin-1"}
_DELIMITERS = {"commas": ",", "semicolons": ";", "tabs": "\t", "bars": "|"}


class ImportWish(NamedTuple):
    """What is imported, and how: tried out first, at once, or into the draft."""

    plan: ImportPlan
    how: ImportHow


class MatchList(OptionList):
    """The columns of the file, one a line."""

    BINDINGS = [
        Binding("space", "screen.leave_out", "leave out"),
        Binding("y", "screen.change_reading", "how it is read"),
        Binding("k", "screen.change_key", "key"),
        Binding("t", "screen.change_table", "another table"),
        Binding("o", "screen.change_options", "how the file is read"),
        Binding("d", "screen.finish('draft')", "into the draft"),
    ]


class ImportDialog(Dialog[ImportWish | None]):
    """Changes how a file is imported; returns that, or None."""

    TAKES_TYPED_AHEAD = False
    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+g", "finish('try')", "try it out"),
        Binding("ctrl+s", "finish('write')", "import it"),
    ]

    def __init__(
        self,
        sample: Sample,
        plan: ImportPlan,
        schema: Schema,
        dialect: Dialect,
        look: Callable[[SourceOptions], Awaitable[Sample]],
    ) -> None:
        """``look`` looks into the file again, to be read in another way."""
        super().__init__()
        self._sample, self._plan = sample, plan
        self._schema, self._dialect = schema, dialect
        self._look = look

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading(f"Import {line(self._plan.path.name, 60)}")
            yield Static("", id="import-into", markup=False)
            yield Static("", id="import-settings", markup=False)
            yield Static("", id="import-heads", classes="field-title", markup=False)
            yield MatchList(id="import-columns", markup=False)
            yield problem_line("import-problem")
            yield foot(
                "Enter where it goes · Space leaves it out · y its reading · k key\n"
                "t another table · o how the file is read · d into the draft\n"
                "Ctrl+G tries it out · Ctrl+S imports it · Escape closes"
            )

    def opened(self) -> None:
        self._show()
        self.query_one(MatchList).focus()

    # What is shown

    @property
    def _table(self) -> Table | None:
        return None if self._plan.is_new else self._schema.find(self._plan.table)

    def _show(self, place: int = 0) -> None:
        plan, sample = self._plan, self._sample
        which = "a new table" if plan.is_new else "the table"
        count = len(sample.numbers) + len(sample.unread)
        rows = f"{grouped(count)} row{'' if count == 1 else 's'}"
        looked = f"it has {rows}" if sample.whole else f"its first {rows} were looked at"
        self.query_one("#import-into", Static).update(
            Text(f"into {which} {line(str(plan.table), 60)}; {looked}")
        )
        self.query_one("#import-heads", Static).update(
            self._in_columns("  of the file", "  goes into", "read as", "first values")
        )
        parts = [f"{name} {value}" for name, value in sample.source.settings.items()]
        heading_ = "the first row is the heading" if plan.options.heading else "no heading"
        parts += [heading_] if sample.source.form in ("csv", "xlsx") else []
        parts += [f"NULL is {line(plan.options.null, 20)}"] if plan.options.null else []
        self.query_one("#import-settings", Static).update(Text(", ".join(parts), self._dim))
        options = self.query_one(MatchList)
        options.clear_options()
        options.add_options([self._option(match) for match in plan.matches])
        options.highlighted = min(place, len(plan.matches) - 1)
        self._say(self._problem())
        self.fit_height()

    @property
    def _dim(self) -> Style:
        return Style(color=self.app.theme_variables["sand-dim"])

    @property
    def _room(self) -> int:
        width = min(104, int(self.app.size.width * 0.96) - 4)
        return max(40, width - 1)

    def _option(self, match: Match) -> Option:
        name = line(match.name, 60)
        if match.target is None:
            words = ("· " + name, "  " + _LEFT_OUT, "", self._samples(match))
            return Option(self._in_columns(*words, style=self._dim))
        read = match.type.name or "any type"
        read = read if match.way == "by type" else match.way
        target = f"→ {line(match.target, 60)}{' key' if match.is_key else ''}"
        problem = problem_of(self._sample, match)
        if problem is None:
            return Option(self._in_columns(f"✓ {name}", target, read, self._samples(match)))
        where = f"{self._sample.source.number_word} {problem.first}"
        told = f"! {grouped(problem.values)}: {where}: {line(problem.reason, 200)}"
        red = Style(color=self.app.theme_variables["removed"])
        return Option(self._in_columns(f"✓ {name}", target, read, told, last=red))

    def _in_columns(
        self, name: str, target: str, read: str, rest: str, *,
        style: Style | None = None, last: Style | None = None,
    ) -> Text:  # fmt: skip
        """The parts of a line below those of the others, in as much room as there is."""
        cells = max(12, self._room // 5)
        text = Text(no_wrap=True, overflow="ellipsis")
        for part in (name, target):
            text.append(f"{fitted_text(part, cells)} ", style)
        text.append(f"{fitted_text(read, cells - 4)} ", self._dim)
        left = self._room - 3 * cells + 1
        return text.append(fitted_text(rest, max(8, left)), last or self._dim)

    def _samples(self, match: Match) -> str:
        values = [value for value in self._sample.values(match.place)[:50] if value is not None]
        return line(" ".join(shown(value) for value in values[:_SAMPLES]), 200) if values else ""

    def _problem(self) -> str:
        if self._plan.problem():
            return self._plan.problem()
        table, parts = self._table, []
        missing = without_values(table, self._plan.matches) if table is not None else []
        if missing:
            parts.append(f"{', '.join(missing)} must have a value and gets none")
        unread = self._sample.unread
        if unread:
            word = self._sample.source.number_word
            parts.append(f"{word} {unread[0].number}: {unread[0].reason}")
        if self._sample.has_invalid:
            encoding = self._sample.source.settings.get("encoding", "")
            parts.append(f"some of it is not {encoding}: o reads it in another encoding")
        return "; ".join(parts)

    def _say(self, words: str) -> None:
        self.query_one("#import-problem", Static).update(line(words, 400) if words else "")

    # What is changed

    @property
    def _current(self) -> int:
        return self.query_one(MatchList).highlighted or 0

    def _change(self, match: Match) -> None:
        place = self._current
        matches = [match if n == place else m for n, m in enumerate(self._plan.matches)]
        if match.is_key:
            matches = [m._replace(is_key=n == place) for n, m in enumerate(matches)]
        self._plan = replace(self._plan, matches=tuple(matches))
        self._show(place)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self._change_target()

    @work(exclusive=True)
    async def _change_target(self) -> None:
        match, table = self._plan.matches[self._current], self._table
        if table is None:
            dialog = ChoiceDialog(
                f"What {match.name} is called in {self._plan.table}",
                [_LEFT_OUT],
                new="calls it so",
                text=match.target or "",
            )
            chosen = await self.app.push_screen_wait(dialog)
            if isinstance(chosen, str):
                kind = match.type if match.target is not None else self._guessed(match)
                self._change(match._replace(target=chosen, type=kind))
            elif chosen == 0:
                self._change(match._replace(target=None, is_key=False))
            return
        columns = [column for column in table.columns if not column.generated]
        words = [f"{column.name}  {column.type.name}" for column in columns]
        dialog = ChoiceDialog(f"Where {match.name} goes", [_LEFT_OUT, *words])
        chosen = await self.app.push_screen_wait(dialog)
        if isinstance(chosen, int):
            column = columns[chosen - 1] if chosen else None
            name, kind = (column.name, column.type) if column is not None else (None, match.type)
            self._change(match._replace(target=name, type=kind, way="by type"))

    def _guessed(self, match: Match) -> ColumnType:
        plan = plan_for_new(self._sample, self._plan.table, self._dialect)
        return plan.matches[match.place].type

    def action_leave_out(self) -> None:
        """Leave a column of the file out, or have it go in again."""
        match = self._plan.matches[self._current]
        if match.target is not None:
            self._change(match._replace(target=None, is_key=False))
            return
        fresh = self._fresh_plan().matches[match.place]
        self._change(fresh if fresh.target is not None else match)

    def _fresh_plan(self) -> ImportPlan:
        table = self._table
        if table is None:
            return plan_for_new(self._sample, self._plan.table, self._dialect)
        return plan_for_table(self._sample, table)

    @work(exclusive=True)
    async def action_change_reading(self) -> None:
        """Choose how the values of a column are read, and what type a new column has."""
        match, is_new = self._plan.matches[self._current], self._plan.is_new
        if match.target is None:
            self._say("it is left out: Enter says where it goes")
            return
        types = [kind.name for kind in self._dialect.types] if is_new else []
        words = [*types, *(f"{way}: {meaning}" for way, meaning in WAYS.items())]
        new = "takes the type as typed" if is_new else ""
        dialog = ChoiceDialog(f"How {match.name} is read", words, new=new)
        chosen = await self.app.push_screen_wait(dialog)
        if isinstance(chosen, str):
            self._change(match._replace(type=self._dialect.type_named(chosen), way="by type"))
        elif chosen is not None and chosen < len(types):
            self._change(match._replace(type=self._dialect.types[chosen], way="by type"))
        elif chosen is not None:
            way = list(WAYS)[chosen - len(types)]
            self._change(read_by(match, way, self._dialect, is_new=is_new))

    def action_change_key(self) -> None:
        """Have a column be the key of the new table, or not."""
        match = self._plan.matches[self._current]
        if not self._plan.is_new:
            self._say(f"{self._plan.table} has its key; only a new table gets one here")
        elif match.target is not None:
            self._change(match._replace(is_key=not match.is_key))

    @work(exclusive=True)
    async def action_change_table(self) -> None:
        """Choose another table, or name a new one."""
        tables = [t for t in self._schema.tables if t.kind != "view" and not t.internal]
        names = [str(table.id) for table in tables]
        dialog = ChoiceDialog("Into which table?", names, new="makes a table of this name")
        chosen = await self.app.push_screen_wait(dialog)
        if chosen is None:
            return
        try:
            if isinstance(chosen, int):
                self._plan = plan_for_table(self._sample, tables[chosen])
            else:
                name = new_table_id(chosen, self._schema, self._dialect)
                self._plan = plan_for_new(self._sample, name, self._dialect)
        except ImportFailed as error:
            self._say(str(error))
            return
        self._show()

    @work(exclusive=True)
    async def action_change_options(self) -> None:
        """Choose how the file itself is read."""
        options, offers = self._plan.options, self._offers()
        dialog = ChoiceDialog(
            f"How {self._plan.path.name} is read",
            [words for words, _ in offers],
            new="has the text that is typed stand for NULL",
        )
        chosen = await self.app.push_screen_wait(dialog)
        if chosen is None:
            return
        wanted = options._replace(null=chosen) if isinstance(chosen, str) else offers[chosen][1]
        try:
            self._sample = await self._look(wanted)
        except ImportFailed as error:
            self._say(str(error))
            return
        self._plan = self._fresh_plan()
        self._show()

    def _offers(self) -> Sequence[tuple[str, SourceOptions]]:
        options, source = self._plan.options, self._sample.source
        offers: list[tuple[str, SourceOptions]] = []
        if source.form in ("csv", "xlsx"):
            words = "the first row is a row" if options.heading else "the first row is the heading"
            offers.append((words, options._replace(heading=not options.heading)))
        if source.form == "csv":
            for name, delimiter in _DELIMITERS.items():
                offers.append((f"separated by {name}", options._replace(delimiter=delimiter)))
            for name, encoding in _ENCODINGS.items():
                offers.append((f"encoding {name}", options._replace(encoding=encoding)))
        for sheet in source.sheets:
            offers.append((f"sheet {sheet}", options._replace(sheet=sheet)))
        if options.null is not None:
            offers.append(("nothing but what is empty is NULL", options._replace(null=None)))
        return offers

    def action_finish(self, how: str) -> None:
        """Have it imported as it is shown, unless it cannot be."""
        problem = self._plan.problem()
        if not problem and how == "draft" and self._plan.is_new:
            problem = "rows of a table that is yet to be made cannot be in the draft"
        if problem:
            self._say(problem)
            return
        self.dismiss(ImportWish(self._plan, cast(ImportHow, how)))
