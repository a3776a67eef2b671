"""SQL in source files: found, compiled against the schema, and what is wrong with it told."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import JondelCommand, MakeDatabase
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.engines.sqlite.dialect import DIALECT
from jondel.core.errors import TargetNotFound
from jondel.core.query.source_check import SourceReport, check_sources
from jondel.core.query.source_strings import ENDINGS, strings_in

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
    "CREATE TABLE bookings(id INTEGER PRIMARY KEY, berth_id INT, boat_id INT, status TEXT)",
)


@pytest.fixture
def database(make: MakeDatabase) -> Iterator[Database]:
    with closing(open_database(make(*HARBOUR))) as opened:
        yield opened


def check(database: Database, folder: Path, **files: str) -> SourceReport:
    for name, text in files.items():
        base, _, ending = name.rpartition("_")
        (folder / f"{base}.{ending}").write_text(text, "utf-8")
    return check_sources([folder], database, DIALECT)


def told(report: SourceReport) -> list[tuple[int, str, str, str]]:
    return [(p.line, p.kind, p.name, p.nearest) for p in report.problems]


PYTHON = '''"""Select a boat from the list: words, and no SQL."""
QUERY = """
    SELECT b.id, b.nme
    FROM boats b
"""
def work(cursor, table, id):
    """Update boats set to sail from here."""
    cursor.execute("SELECT * FROM boat WHERE id = ?", (id,))
    cursor.execute("SELECT name " "FROM boats WHERE id = %s AND name = %s", [id])
    cursor.execute("INSERT INTO bookings VALUES (1, 2)")
    cursor.execute(f"SELECT * FROM {table}")
    cursor.execute("SELECT name FROM boats WHERE id = " + id)
    cursor.execute("SELECT lenght(name) FROM boats")
    cursor.execute("UPDATE bookings SET berth = 1 WHERE id = :id", {"id": id})
    cursor.execute("DELETE FROM bookings WHERE")
    cursor.execute("SELECT name FROM boats WHERE id = ?", (id,))
    cursor.execute("CREATE TABLE made_here(a)")
    cursor.execute("SELECT a FROM made_here")
    raise ValueError("Select something from the menu")
    print("select a boat from the list, please")
'''


def test_python(database: Database, tmp_path: Path) -> None:
    report = check(database, tmp_path / "src" if (tmp_path / "src").mkdir() is None else tmp_path,
                   app_py=PYTHON)  # fmt: skip
    assert told(report) == [
        (3, "unknown column", "boats.nme", "name"),
        (8, "unknown table", "boat", "boats"),
        (9, "argument count", "%s", ""),
        (10, "argument count", "bookings", ""),
        (13, "unknown function", "lenght", "length"),
        (14, "unknown column", "bookings.berth", "berth_id"),
        (15, "syntax", "", ""),
    ]
    assert [(e.line, e.why) for e in report.not_followed] == [
        (11, "built at run time: {table}"),
        (12, "built at run time: id"),
    ]
    assert (report.files, report.statements) == (1, 9)


OTHERS = {
    "js": "const a = db.prepare('SELECT nme FROM boats');\n// 'SELECT x FROM nowhere'\n"
          "db.all(`SELECT *\n  FROM bookngs`);\ndb.all(`SELECT * FROM ${t}`);\n"
          'db.all("SELECT id " +\n  "FROM boats WHERE name = \'Gull\'");\n',
    "ts": "const a: string = 'SELECT nme FROM boats';\ndb.all(`SELECT *\n  FROM bookngs`);\n\n"
          "db.all(`SELECT * FROM ${t}`);\nq('SELECT id FROM boats');\n",
    "java": 'var a = c.prepareStatement("SELECT nme FROM boats");\n/* "SELECT 1 FROM x" */\n'
            'var b = """\n  SELECT * FROM bookngs""";\n\nq("SELECT * FROM " + table);\n'
            'q("SELECT id " +\n "FROM boats");',
    "kt": 'val a = q("SELECT nme FROM boats")\nval b = """SELECT *\n\n  FROM bookngs"""\n\n'
          'q("SELECT * FROM $table")\nq("SELECT id FROM boats")',
    "go": 'a := db.Query("SELECT nme FROM boats")\n\nb := `SELECT *\n  FROM bookngs`\n\n'
          'db.Query("SELECT * FROM " + table)\ndb.Query("SELECT id FROM boats")',
    "php": "<?php $a = $db->query('SELECT nme FROM boats');\n\n$b = <<<SQL\n"
           "  SELECT * FROM bookngs\n  SQL;\n$db->query(\"SELECT * FROM $table\");\n"
           "$db->query('SELECT id ' . 'FROM boats');",
    "rb": "a = db.execute('SELECT nme FROM boats')\n\nb = <<~SQL\n  SELECT * FROM bookngs\nSQL\n"
          'db.execute("SELECT * FROM #{table}")\ndb.execute("SELECT id FROM boats") # SELECT x',
    "cs": 'var a = q("SELECT nme FROM boats");\n\nvar b = @"SELECT *\n  FROM bookngs";\n\n'
          'q($"SELECT * FROM {table}");\nq("SELECT id FROM boats WHERE name = @name");',
}  # fmt: skip


@pytest.mark.parametrize("ending", OTHERS)
def test_other_languages(database: Database, tmp_path: Path, ending: str) -> None:
    source = tmp_path / f"app.{ending}"
    source.write_text(OTHERS[ending], "utf-8")
    report = check_sources([source], database, DIALECT)
    found = told(report)
    assert found[0] == (1, "unknown column", "boats.nme", "name")
    assert found[1][1:] == ("unknown table", "bookngs", "bookings")
    assert found[1][0] == 4 or ending == "ts"
    assert len(found) == 2
    assert [entry.why.partition(":")[0] for entry in report.not_followed] == ["built at run time"]
    assert report.statements == 3


def test_files_of_statements(database: Database, tmp_path: Path) -> None:
    script = (
        "CREATE TABLE boats(id);\n-- it is there already\nCREATE TEMP TABLE late(a);\n"
        "INSERT INTO late SELECT id FROM boats;\n\nSELECT nme FROM boats;\nSELEC 1;\n"
        "CREATE TABEL x(a);"
    )
    report = check(database, tmp_path, one_sql=script)
    assert told(report) == [
        (6, "unknown column", "boats.nme", "name"),
        (7, "syntax", "SELEC", ""),
        (8, "syntax", "TABEL", ""),
    ]
    with pytest.raises(TargetNotFound, match=r"nowhere\.py"):
        check_sources([tmp_path / "nowhere.py"], database, DIALECT)


def test_a_broken_file_and_its_kin_are_told(database: Database, tmp_path: Path) -> None:
    report = check(database, tmp_path, bad_py="def (:\n  'SELECT 1 FROM boats'", empty_py="")
    assert [(e.line, e.why) for e in report.not_followed] == [
        (1, "the file cannot be understood as source")
    ]
    (tmp_path / "node_modules").mkdir()
    (tmp_path / "node_modules" / "x.js").write_text("q('SELECT nme FROM boats')", "utf-8")
    assert not check_sources([tmp_path], database, DIALECT).problems


def test_the_command(jondel: JondelCommand, make: MakeDatabase, tmp_path: Path) -> None:
    path = make(*HARBOUR)
    source = tmp_path / "app.py"
    source.write_text("c.execute('SELECT nme FROM boats')\nc.execute('SELECT 1')\n", "utf-8")
    done = jondel("check-sql", str(path), str(source))
    assert done.returncode == 4
    assert done.stdout == f"{source}:1: unknown column boats.nme; did you mean name?\n"
    assert "2 statements checked in 1 file" in done.stderr
    document = json.loads(jondel("check-sql", str(path), str(source), "--json").stdout)
    assert document["statements"] == 2
    assert document["problems"] == [{
        "file": str(source), "line": 1, "kind": "unknown column", "name": "boats.nme",
        "message": "no such column: nme", "nearest": "name",
    }]  # fmt: skip
    source.write_text("c.execute('SELECT name FROM boats')\n", "utf-8")
    assert jondel("check-sql", str(path), str(source)).returncode == 0


@pytest.mark.parametrize("ending", sorted(ENDINGS - {".py"}))
@given(parts=st.lists(st.sampled_from([
    '"', "'", "`", "\\", "\n", "/*", "*/", "//", "#", "SELECT 1 FROM t", "${", "}", "+", '"""', "@",
    "$", "<<~SQL", "SQL", "<<<A", "é", "(", "\0", "\\u00", "\\x4",
]), max_size=30))  # fmt: skip
def test_no_source_fails(ending: str, parts: list[str]) -> None:
    source = "".join(parts)
    for string in strings_in(source, ending):
        assert 1 <= string.line <= source.count("\n") + 1
