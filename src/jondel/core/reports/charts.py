"""Charts: changes over the trail, a column before and after, actions over their runs.

They can be read in black and white: bars differ by their hatching, lines and marks by their form.
"""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from jondel.core.browse.display import line
from jondel.core.errors import ExportFailed
from jondel.core.model.values import Exact, Value, is_number
from jondel.core.snapshots.action_runs import ActionRun
from jondel.core.trail.trail import Step

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

FORMS = (".svg", ".pdf")
_HATCHES = ("", "///", "...", "xxx", "---", "\\\\\\", "+++", "ooo")
_GREYS = ("0.25", "0.75", "0.5", "0.9", "0.6", "0.4", "0.8", "1.0")
_LINES = ("-", "--", ":", "-.")
_MARKS = ("o", "s", "^", "D", "v", "P", "X", "*")
_MOST_TABLES = 7
_MOST_VALUES = 12
_MOST_STEPS = 60
_MOST_TITLES = 20


class Bars(NamedTuple):
    """Stacked bars: a label for each, and by series a height for each."""

    title: str
    labels: tuple[str, ...]
    series: dict[str, tuple[int, ...]]
    x_title: str
    y_title: str


class Course(NamedTuple):
    """What an action took over its runs, and whether it did what is expected."""

    title: str
    seconds: dict[str, tuple[float, ...]]
    met: dict[str, tuple[bool | None, ...]]


def changes_over_steps(steps: Sequence[Step], database: str) -> Bars:
    """How many records each step changed, by table; the latest steps where there are many."""
    shown = [step for step in steps if step.before is not None and step.summary][-_MOST_STEPS:]
    totals: Counter[str] = Counter()
    for step in shown:
        assert step.summary is not None
        for table, counts in step.summary.tables.items():
            totals[str(table)] += counts.total
    names = [name for name, _ in totals.most_common(_MOST_TABLES)]
    series: dict[str, list[int]] = {name: [] for name in names}
    others: list[int] = []
    for step in shown:
        assert step.summary is not None
        counted = {str(table): counts.total for table, counts in step.summary.tables.items()}
        for name in names:
            series[name].append(counted.get(name, 0))
        others.append(sum(count for name, count in counted.items() if name not in series))
    if any(others):
        series["other tables"] = others
    room = 18 if len(shown) <= _MOST_TITLES else 0
    labels = tuple(
        f"{step.after.id} {line(step.after.short_title, room) if room else ''}".strip()
        for step in shown
    )
    return Bars(
        f"Records changed by each step: {database}",
        labels,
        {name: tuple(values) for name, values in series.items()},
        "step",
        "records",
    )


def values_before_and_after(column: str, before: Sequence[Value], after: Sequence[Value]) -> Bars:
    """What a column held before a step and after it: how often each value, or range of numbers."""
    if _are_numbers(before) and _are_numbers(after):
        groups = _ranges([*map(_number, before), *map(_number, after)])
        labels = tuple(words for words, _, _ in groups)
        counted = [
            tuple(sum(1 for v in values if low <= _number(v) < high) for _, low, high in groups)
            for values in (before, after)
        ]
        x_title = column
    else:
        both = Counter(line(v, 24) for v in (*before, *after))
        names = [name for name, _ in both.most_common(_MOST_VALUES)]
        more = len(both) > len(names)
        labels = (*names, *(("others",) if more else ()))
        counted = []
        for values in (before, after):
            counts = Counter(line(v, 24) for v in values)
            rest = sum(n for name, n in counts.items() if name not in names)
            counted.append((*(counts[name] for name in names), *((rest,) if more else ())))
        x_title = f"value of {column}"
    series = {"before": counted[0], "after": counted[1]}
    return Bars(f"{column} before and after the step", labels, series, x_title, "records")


def actions_over_runs(runs: Sequence[ActionRun]) -> Course:
    """What actions took, and how they went, run by run."""
    names = list(dict.fromkeys(run.action for run in runs))[: len(_MARKS)]
    of = {name: [run for run in runs if run.action == name][-_MOST_STEPS:] for name in names}
    return Course(
        "Duration of the actions, run by run",
        {name: tuple(run.seconds for run in found) for name, found in of.items()},
        {name: tuple(run.met for run in found) for name, found in of.items()},
    )


def _are_numbers(values: Sequence[Value]) -> bool:
    present = [value for value in values if value is not None]
    return len(set(map(_key, present))) > _MOST_VALUES and all(map(is_number, present))


def _key(value: Value) -> object:
    return type(value).__name__, value


def _number(value: Value) -> float:
    if isinstance(value, Exact):
        return float(value.text)
    return float(value) if isinstance(value, int | float) else float("nan")


def _ranges(numbers: Sequence[float]) -> list[tuple[str, float, float]]:
    """Ten ranges of equal width that hold all numbers."""
    present = [number for number in numbers if number == number]
    low, high = min(present), max(present)
    width = (high - low) / 10 or 1.0
    edges = [low + width * place for place in range(11)]
    edges[-1] = high + width * 1e-6 + 1e-12
    return [(f"{a:.4g} to {b:.4g}", a, b) for a, b in pairwise(edges)]


# Drawing


def drawn(chart: Bars | Course) -> Figure:
    """A chart as a figure.

    Raises:
        ExportFailed: the library that draws is not there.
    """
    try:
        from matplotlib.figure import Figure
    except ImportError as error:
        raise ExportFailed(
            "charts are drawn by matplotlib, which is not there; "
            "install it with `pip install 'jondel[reports]'`"
        ) from error
    figure = Figure(figsize=(9, 4.5), layout="constrained")
    axes = figure.add_subplot()
    if isinstance(chart, Bars):
        _draw_bars(axes, chart)
    else:
        _draw_course(axes, chart)
    axes.set_title(_plain(chart.title), fontsize=11)
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(axis="y", linewidth=0.4, color="0.8")
    axes.set_axisbelow(True)
    return figure


def _draw_bars(axes: Axes, chart: Bars) -> None:
    from matplotlib.ticker import MaxNLocator

    side_by_side = set(chart.series) == {"before", "after"}
    places = range(len(chart.labels))
    bottoms = [0] * len(chart.labels)
    for number, (name, heights) in enumerate(chart.series.items()):
        looks: dict[str, Any] = {
            "label": _plain(name),
            "color": _GREYS[number % len(_GREYS)],
            "hatch": _HATCHES[number % len(_HATCHES)],
            "edgecolor": "black",
            "linewidth": 0.6,
        }
        if side_by_side:
            at = [place + (number - 0.5) * 0.4 for place in places]
            axes.bar(at, heights, width=0.38, **looks)
        else:
            axes.bar(list(places), heights, bottom=bottoms, width=0.7, **looks)
            bottoms = [low + height for low, height in zip(bottoms, heights, strict=True)]
    axes.set_xticks(
        list(places), [_plain(label) for label in chart.labels], rotation=35, ha="right", fontsize=8
    )
    axes.set_xlabel(_plain(chart.x_title))
    axes.set_ylabel(_plain(chart.y_title))
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    if chart.series:
        axes.legend(fontsize=8, frameon=False)


def _draw_course(axes: Axes, chart: Course) -> None:
    from matplotlib.ticker import MaxNLocator

    for number, (name, seconds) in enumerate(chart.seconds.items()):
        at = list(range(1, len(seconds) + 1))
        mark = _MARKS[number % len(_MARKS)]
        grey = ("0.15", "0.45")[number % 2]
        axes.plot(at, seconds, _LINES[number % len(_LINES)], color=grey, linewidth=0.9)
        for x, y, met in zip(at, seconds, chart.met[name], strict=True):
            fill = "white" if met is False else grey if met else "0.8"
            axes.plot([x], [y], mark, markerfacecolor=fill, markeredgecolor=grey, markersize=6)
        axes.plot(
            [], [], _LINES[number % len(_LINES)] + mark, color=grey, label=_plain(name),
            markerfacecolor=grey,
        )  # fmt: skip
    axes.plot([], [], "o", markerfacecolor="white", markeredgecolor="0.15", label="not met")
    axes.set_xlabel("run (hollow marks: the expectation was not met)")
    axes.set_ylabel("seconds")
    axes.set_ylim(bottom=0)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.legend(fontsize=8, frameon=False)


def _plain(text: str) -> str:
    """Text that the library does not take for formulas."""
    return text.replace("$", r"\$")


def svg_of(chart: Bars | Course) -> str:
    """A chart as SVG, the same every time. Raises ``ExportFailed``."""
    figure = drawn(chart)
    from matplotlib import rc_context

    out = io.StringIO()
    with rc_context({"svg.hashsalt": "jondel", "svg.fonttype": "none"}):
        figure.savefig(out, format="svg", metadata={"Date": None})
    return out.getvalue()


def write_chart(chart: Bars | Course, path: Path) -> None:
    """Write a chart to a file, by its ending SVG or PDF. Raises ``ExportFailed``."""
    form = path.suffix.lower()
    if form not in FORMS:
        raise ExportFailed(f"{path}: name it {' or '.join(FORMS)}, for what it is to be")
    if form == ".svg":
        data = svg_of(chart).encode()
    else:
        out = io.BytesIO()
        drawn(chart).savefig(out, format="pdf", metadata={"CreationDate": None})
        data = out.getvalue()
    try:
        path.write_bytes(data)
    except OSError as error:
        raise ExportFailed(f"{path}: cannot be written ({error.strerror})") from error


# In a terminal


def chart_lines(chart: Bars | Course, width: int = 80) -> list[str]:
    """A chart as lines of text."""
    lines = [chart.title, ""]
    if isinstance(chart, Course):
        most = max((s for values in chart.seconds.values() for s in values), default=0) or 1
        for name, seconds in chart.seconds.items():
            lines.append(line(name, 60))
            for number, (took, met) in enumerate(zip(seconds, chart.met[name], strict=True), 1):
                sign = {True: "✔", False: "✘", None: "·"}[met]
                bar = _bar(took / most, max(10, width - 24))
                lines.append(f"  {number:>4} {sign} {bar} {took:.3f} s")
        return lines
    most = max((sum(heights) for heights in zip(*chart.series.values(), strict=True)), default=0)
    wide = min(30, max((len(label) for label in chart.labels), default=0))
    for place, label in enumerate(chart.labels):
        for name, heights in chart.series.items():
            if heights[place]:
                bar = _bar(heights[place] / max(1, most), max(10, width - wide - 34))
                lines.append(f"{label[:wide]:<{wide}}  {name[:16]:<16} {bar} {heights[place]}")
                label = ""
    lines.append(f"({chart.y_title})")
    return lines


def _bar(share: float, width: int) -> str:
    cells = share * width
    whole = int(cells)
    part = "▏▎▍▌▋▊▉"[int((cells - whole) * 8) - 1] if cells - whole >= 0.125 else ""
    return "█" * whole + (part or ("▏" if not whole else ""))
