"""Noise rules are kept with the project, in a file that people may write too."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from jondel.core.diff.noise import NoiseRules
from jondel.core.errors import RuleInvalid
from jondel.core.trail.project import Project


def _project(tmp_path: Path, database: str = "app/data/app.db") -> Project:
    path = tmp_path / database
    path.parent.mkdir(parents=True, exist_ok=True)
    return Project(str(path))


def test_rules_are_kept_beside_the_database_and_found_again(tmp_path: Path) -> None:
    project = _project(tmp_path)
    assert not project.noise_rules()
    assert not list(tmp_path.rglob("jondel.toml")), "reading makes nothing"
    rules = NoiseRules(("sessions",), ("*.updated_at",), ("boats.seen_at",))
    assert project.change_noise_rules(lambda _: rules) == tmp_path / "app/data/jondel.toml"
    assert _project(tmp_path).noise_rules() == rules


def test_the_file_is_made_where_version_control_begins(tmp_path: Path) -> None:
    (tmp_path / "app" / ".git").mkdir(parents=True)
    project = _project(tmp_path)
    assert project.change_noise_rules(lambda _: NoiseRules(("a",))) == tmp_path / "app/jondel.toml"
    assert _project(tmp_path, "app/other/b.db").noise_rules() == NoiseRules(("a",))


def test_what_people_wrote_into_the_file_stays(tmp_path: Path) -> None:
    project = _project(tmp_path)
    project.file.write_text(
        '# ours\n[noise]\ntables = ["a"]  # every request\n\n[else]\nx = 1\n', "utf-8"
    )
    project.change_noise_rules(lambda _: project.noise_rules().with_rule("columns", "b.c"))
    text = project.file.read_text("utf-8")
    assert "# ours" in text
    assert "[else]\nx = 1" in text
    assert project.noise_rules() == NoiseRules(("a",), ("b.c",))
    project.change_noise_rules(lambda _: NoiseRules())
    assert not project.noise_rules()


def test_the_times_of_watching_are_kept_with_the_project(tmp_path: Path) -> None:
    project = _project(tmp_path)
    assert project.watch_times() == (0.4, 2.0)
    project.file.write_text("[watch]\nsettle = 1\nlongest = 5.5\n", "utf-8")
    assert project.watch_times() == (1.0, 5.5)
    for wrong in ("'soon'", "-1", "99"):
        project.file.write_text(f"[watch]\nsettle = {wrong}\n", "utf-8")
        with pytest.raises(RuleInvalid, match=r"watch\.settle"):
            project.watch_times()


@pytest.mark.parametrize(
    "content",
    [
        "[noise",
        "[noise]\ntables = 'a'",
        "[noise]\ncolumns = ['a']",
        "noise = 3",
        "[noise]\nonly=[1]",
    ],
)
def test_a_file_that_cannot_be_understood_is_named_and_left_alone(
    tmp_path: Path, content: str
) -> None:
    project = _project(tmp_path)
    project.file.write_text(content, "utf-8")
    with pytest.raises(RuleInvalid, match=r"jondel\.toml"):
        project.noise_rules()
    with pytest.raises(RuleInvalid):
        project.change_noise_rules(lambda _: NoiseRules(("x",)))
    assert project.file.read_text("utf-8") == content


def test_where_nothing_may_be_written_the_rules_are_kept_at_home(
    tmp_path: Path, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "access", lambda path, mode: str(path).startswith(str(home)))
    project = _project(tmp_path)
    kept = project.change_noise_rules(lambda _: NoiseRules(("a",)))
    assert kept.is_relative_to(home)
    assert project.noise_rules() == NoiseRules(("a",))
