"""Which part may know which: dependencies point inward."""

from __future__ import annotations

import ast
import importlib
import inspect
import pkgutil
import re
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

import jondel
import jondel.tui

_ROOT = Path(jondel.__file__).parent
_CORE_MAY_IMPORT = {
    "errors": {"model"},
    "model": set(),
    "sql": {"model", "errors"},
    "files": {"model", "errors"},
    "engines": {"model", "errors", "sql", "files"},
    "browse": {"model", "errors", "engines", "sql", "files"},
    "diff": {"model", "errors", "engines", "browse"},
    "mirror": {"model", "errors", "engines", "diff", "files", "sql"},
    "snapshots": {"model", "errors", "engines", "files", "mirror"},
    "find": {"model", "errors", "engines", "browse", "files"},
    "trail": {"model", "errors", "engines", "browse", "diff", "mirror", "snapshots", "files"},
    "draft": {"model", "errors", "engines", "browse", "diff", "files", "snapshots", "trail"},
    "query": {
        *("model", "errors", "engines", "sql", "snapshots", "diff", "trail", "files", "mirror"),
        "browse",
    },
    "exports": {
        *("model", "errors", "engines", "browse", "diff", "files", "formats", "query"),
        *("snapshots", "sql"),
    },
    "imports": {
        *("model", "errors", "engines", "browse", "files", "sql", "formats", "query"),
    },
    "verify": {
        *("model", "errors", "engines", "browse", "diff", "files", "snapshots", "trail"),
    },
    "findings": {
        *("model", "errors", "engines", "browse", "diff", "files", "snapshots", "trail"),
    },
    "reports": {
        *("model", "errors", "browse", "diff", "files", "formats", "snapshots", "trail", "verify"),
        *("engines", "findings"),
    },
    "formats": {
        *("model", "errors", "engines", "browse", "diff", "snapshots", "trail", "files", "sql"),
    },
}

_TUI_MAY_IMPORT = {
    "widgets": set(),
    "services": set(),
    "frame": {"services", "widgets"},
    "dialogs": {"frame", "services", "widgets"},
    "views": {"frame", "services", "widgets"},
    "features": {"frame", "services", "widgets", "dialogs", "views"},
    "opening": {"frame", "services", "widgets", "dialogs"},
}
_TABLES = ("jondel.tui.views.table", "jondel.tui.features.table")
"""What the screen is put together from."""


def _imports(path: Path) -> Iterator[str]:
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            assert node.level == 0, f"{path}: relative import"
            yield node.module
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def _modules(part: str) -> list[Path]:
    found = sorted((_ROOT / part).rglob("*.py"))
    assert found, f"nothing in {part}"
    return found


@pytest.mark.parametrize("part", _TUI_MAY_IMPORT)
def test_parts_of_the_interface_import_only_inward(part: str) -> None:
    for path in _modules(f"tui/{part}"):
        for name in _imports(path):
            pieces = name.split(".")
            if pieces[:2] != ["jondel", "tui"] or name in _TABLES or pieces[2] in (part, "theme"):
                continue
            assert pieces[2] in _TUI_MAY_IMPORT[part], f"{path} imports {name}"


def test_no_feature_imports_another_but_what_several_share() -> None:
    shared = {"arranging", "bringing", "comparing", "confirming", "editing", "table"}
    for path in _modules("tui/features"):
        for name in _imports_at_run_time(path):
            if name.startswith("jondel.tui.features."):
                assert name.split(".")[3] in shared, f"{path} imports {name}"


def test_no_class_of_the_interface_inherits_more_than_two_of_ours() -> None:
    for module in pkgutil.walk_packages(jondel.tui.__path__, "jondel.tui."):
        for kind in vars(importlib.import_module(module.name)).values():
            if not inspect.isclass(kind) or issubclass(kind, Exception):
                continue
            if kind.__module__ == module.name:
                ours = [base for base in kind.__mro__[1:] if base.__module__.startswith("jondel.")]
                assert len(ours) <= 2, f"{kind}: {ours}"


def _imports_at_run_time(path: Path) -> Iterator[str]:
    """What a module imports, but for its types alone."""
    tree = ast.parse(path.read_text("utf-8"))
    for node in ast.walk(tree):
        if isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING":
            node.body = []
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def test_core_knows_neither_interface_nor_command_line() -> None:
    """No module of core imports tui, cli, demo, or a library that shows things."""
    foreign = ("jondel.tui", "jondel.cli", "jondel.demo", "textual", "rich", "typer")
    for path in _modules("core"):
        for name in _imports(path):
            assert not name.startswith(foreign), f"{path} imports {name}"


@pytest.mark.parametrize("part", sorted(_CORE_MAY_IMPORT))
def test_parts_of_core_import_only_inward(part: str) -> None:
    files = _modules(f"core/{part}") if part != "errors" else [_ROOT / "core" / "errors.py"]
    for path in files:
        for name in _imports(path):
            pieces = name.split(".")
            if pieces[:2] == ["jondel", "core"] and len(pieces) > 2 and pieces[2] != part:
                assert pieces[2] in _CORE_MAY_IMPORT[part], f"{path} imports {name}"


def test_every_part_of_core_has_its_rule() -> None:
    folders = {path.name for path in (_ROOT / "core").iterdir() if path.is_dir()}
    assert folders - {"__pycache__"} == set(_CORE_MAY_IMPORT) - {"errors"}


def test_the_demo_app_knows_nothing_of_jondels_core_but_where_its_home_is() -> None:
    for path in _modules("demo/harbour_desk"):
        for name in _imports(path):
            assert not name.startswith(("jondel.core", "jondel.tui", "jondel.cli", "apsw")), name


def test_every_library_that_is_imported_is_declared() -> None:
    project = tomllib.loads((_ROOT.parent.parent / "pyproject.toml").read_text("utf-8"))["project"]
    declared = {re.split(r"[<>=]", name)[0] for name in project["dependencies"]}
    declared |= {"rich"}  # comes with textual, whose strips are made of its segments
    declared |= {"dotenv", "yaml"}  # as python-dotenv and pyyaml are imported
    assert {"python-dotenv", "pyyaml"} <= declared
    extras = {
        group: {re.split(r"[<>=\[]", name)[0] for name in names}
        for group, names in project["optional-dependencies"].items()
        if group != "dev"
    }
    for path in sorted(_ROOT.rglob("*.py")):
        # What is not needed by everybody is an extra of the package's or the module's name.
        of_engine = extras.get(path.parent.name, set()) | extras.get(path.stem, set())
        for name in _imports(path):
            top = name.split(".")[0]
            if top in of_engine:
                continue
            known = top in sys.stdlib_module_names or top in declared or top == "jondel"
            assert known, f"{path} imports {name}, which pyproject.toml does not name"


@pytest.mark.parametrize(
    ("statement", "absent"),
    [
        pytest.param(
            "import jondel.core.trail.trail, jondel.core.formats.changes_json, "
            "jondel.core.browse.windows, jondel.core.verify.actions",
            ("textual", "rich", "typer", "sqlite3", "httpx"),
            id="core-loads-no-interface",
        ),
        pytest.param(
            "import jondel.cli.main", ("textual", "apsw", "httpx"), id="help-loads-no-engine"
        ),
        pytest.param("import jondel.tui.app", ("httpx", "sqlite3"), id="interface-loads-no-http"),
    ],
)
def test_a_fresh_interpreter_loads_no_more_than_needed(
    statement: str, absent: tuple[str, ...]
) -> None:
    program = f"import sys; {statement}; print(' '.join(sys.modules))"
    loaded = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, text=True, check=True
    ).stdout.split()
    assert "jondel" in loaded
    assert not set(absent) & set(loaded)
