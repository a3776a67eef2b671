"""Reports and charts: everything escaped, columns masked, nothing fetched or run."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime, timedelta
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree

import pytest

from conftest import JondelCommand
from jondel.core.errors import ExportFailed
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeCounts, Changes, RecordChange, TableChanges
from jondel.core.model.values import Value
from jondel.core.reports.charts import (
    actions_over_runs,
    chart_lines,
    svg_of,
    values_before_and_after,
    write_chart,
)
from jondel.core.reports.masked import Masks
from jondel.core.reports.page import changes_html, page
from jondel.core.snapshots.action_runs import ActionRun

_HOSTILE = (
    "<script>alert(1)</script>",
    "</pre><img src=x onerror=alert(1)>",
    '"><a href="javascript:x">',
    "&lt;",
    "\x1b[31mred\x00",
    "| a | b |",
    "$\\frac{1}{2}$",
)


class _Reader(HTMLParser):
    """Collects the elements of a page and what is written in it."""

    def __init__(self) -> None:
        super().__init__()
        self.elements: set[str] = set()
        self.attributes: set[str] = set()
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.add(tag)
        self.attributes.update(name for name, _ in attrs)

    def handle_data(self, data: str) -> None:
        self.text += data


def _changes(*rows: tuple[Value, ...]) -> Changes:
    records = tuple(RecordChange("added", (row[0],), None, row) for row in rows)  # type: ignore[arg-type]
    table = TableChanges(
        "", TableId("<b>boats</b>"), ("id",), False, (), ("id", "na<me"), records,
        ChangeCounts(added=len(records)),
    )  # fmt: skip
    return Changes((table,))


def test_whatever_is_in_the_data_is_text_in_a_page() -> None:
    changes = _changes(*enumerate(_HOSTILE))
    document = page("<i>title</i>", changes_html(changes))
    reader = _Reader()
    reader.feed(document)
    assert not reader.elements & {"script", "img", "a", "b", "i", "iframe", "link"}
    assert not {name for name in reader.attributes if name.startswith("on")}
    assert "src" not in reader.attributes
    for text in _HOSTILE[:4]:
        assert text in reader.text
    assert "\x1b" not in document
    assert "\x00" not in document
    assert "default-src 'none'" in document


def test_masked_columns_say_that_they_changed_and_not_what_they_are() -> None:
    masks = Masks(frozenset({(TableId("<b>boats</b>"), "na<me")}))
    masked = masks.changes(_changes((1, "Curlew"), (2, "Wigeon"), (3, "Curlew"), (4, None)))
    rows = [record.after for record in masked.tables[0].records]
    assert rows == [(1, "masked 1"), (2, "masked 2"), (3, "masked 1"), (4, None)]


def _runs() -> list[ActionRun]:
    began = datetime(2026, 6, 14, tzinfo=UTC)
    return [
        ActionRun(n, f"{_HOSTILE[n % 2]}", began, began + timedelta(seconds=1), 0.1 * n, 0, "", "",
                  "", "met" if n % 3 else "1 missing")
        for n in range(1, 9)
    ]  # fmt: skip


def test_charts_are_drawings_with_titles_and_units(tmp_path: Path) -> None:
    chart = actions_over_runs(_runs())
    svg = svg_of(chart)
    root = ElementTree.fromstring(svg)
    words = " ".join(root.itertext())
    assert "Duration of the actions" in words
    assert "seconds" in words
    assert "<script>alert(1)</script>" in words, "as text"
    assert "script" not in {element.tag.rpartition("}")[2] for element in root.iter()}
    assert svg == svg_of(chart), "the same every time"
    write_chart(chart, tmp_path / "chart.pdf")
    assert (tmp_path / "chart.pdf").read_bytes().startswith(b"%PDF-")
    with pytest.raises(ExportFailed, match=r"name it \.svg or \.pdf"):
        write_chart(chart, tmp_path / "chart.bmp")


def test_a_column_of_numbers_is_shown_by_ranges_and_another_by_its_values() -> None:
    numbers = values_before_and_after("boats.length", list(range(100)), list(range(50, 150)))
    assert len(numbers.labels) == 10
    assert [sum(heights) for heights in numbers.series.values()] == [100, 100]
    words = values_before_and_after("boats.kind", ["a", "b", "a", None], ["a", "b", "b", None])
    assert dict(zip(words.labels, words.series["after"], strict=True)) == {"a": 1, "b": 2, "∅": 1}
    assert any("█" in line for line in chart_lines(words))


def test_a_chart_of_nothing_but_the_same_is_drawn_too() -> None:
    chart = values_before_and_after("a.b", [1] * 3, [])
    assert "<svg" in svg_of(chart)
    assert "<svg" in svg_of(values_before_and_after("a.b", [], []))


def test_the_commands_write_reports_of_a_step_and_a_range(
    jondel: JondelCommand, harbour: Path, tmp_path: Path
) -> None:
    import sys

    desk = [sys.executable, "-m", "jondel.demo.harbour_desk"]
    for action in ("sell-fuel", "settle-invoice"):
        jondel("record", harbour, "--", *desk, action, "--database", str(harbour))
    done = jondel("report", harbour, "s1", "last", "-o", "out/week.html",
                  "--mask", "payments.reference")  # fmt: skip
    assert done.returncode == 0, done.stderr
    text = (tmp_path / "out/week.html").read_text()
    assert "<svg" in text
    assert "empty text" in text
    assert "SH90000341" in text, "in the column that it got into by mistake"
    assert "masked 1" in text
    assert not re.search(r'(src|href)="http', text)
    assert jondel("report", harbour, "last", "-o", "step.json").returncode == 0
    (step,) = json.loads((tmp_path / "step.json").read_text())["steps"]
    assert {table["table"] for table in step["tables"]} >= {"payments", "invoices"}
    assert jondel("report", harbour, "last", "-o", "step.md").returncode == 0
    assert "### payments" in (tmp_path / "step.md").read_text()
    assert "name it .html" in jondel("report", harbour, "last", "-o", "step.doc").stderr
    assert (
        "no column boats.nme"
        in jondel("report", harbour, "last", "-o", "x.md", "--mask", "boats.nme").stderr
    )
    assert "█" in jondel("chart", harbour, "changes").stdout
    assert jondel("chart", harbour, "changes", "-o", "c.svg").returncode == 0


def test_a_step_is_taken_back_by_its_statements_backward(
    jondel: JondelCommand, harbour: Path, tmp_path: Path
) -> None:
    import sqlite3
    import sys
    from contextlib import closing

    desk = [sys.executable, "-m", "jondel.demo.harbour_desk"]
    jondel("record", harbour, "--", *desk, "cancel-booking", "--database", str(harbour))
    for way, changed in (("--backward", True), ("", False)):
        name = "back.sql" if way else "forth.sql"
        arguments = ["export", harbour, "--changes", "last", "-o", name, *([way] if way else [])]
        assert jondel(*arguments).returncode == 0
        with closing(sqlite3.connect(harbour)) as connection:
            connection.executescript((tmp_path / name).read_text())
        since = jondel("diff", harbour, "s1", "--json")
        assert bool(json.loads(since.stdout)["tables"]) is not changed
