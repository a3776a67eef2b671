"""The Tab key in a shell: commands, databases, labels, tables."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import JondelCommand, MakeDatabase


def _offered(folder: Path, words: str) -> list[str]:
    """What is offered behind these words, as a shell asks for it."""
    answer = folder / "answer"
    subprocess.run(
        [sys.executable, "-m", "jondel"],
        cwd=folder,
        env={
            **os.environ,
            "_ARGCOMPLETE": "1",
            "_ARGCOMPLETE_STDOUT_FILENAME": str(answer),
            "_ARGCOMPLETE_IFS": "\n",
            "COMP_LINE": f"jondel {words}",
            "COMP_POINT": str(len(f"jondel {words}".encode())),
        },
        check=True,
        timeout=60,
    )
    return sorted(entry.strip() for entry in answer.read_text().split("\n"))


def test_commands_databases_labels_and_tables_are_offered(
    make: MakeDatabase, jondel: JondelCommand, tmp_path: Path
) -> None:
    path = make("CREATE TABLE berths(id)", "CREATE TABLE boats(id)")
    (tmp_path / "apple.txt").write_text("no database")
    (tmp_path / "apps").mkdir()
    jondel("snapshot", path, "--label", "moored")
    jondel("snapshot", path)
    assert {"diff", "snapshot", "trail"} <= set(_offered(tmp_path, ""))
    assert _offered(tmp_path, "dem") == ["demo"]
    assert _offered(tmp_path, "ap") == ["app.db", "apps/"]
    assert _offered(tmp_path, "diff a") == ["app.db", "apps/"]
    assert _offered(tmp_path, "diff app.db mo") == ["moored"]
    assert {"moored", "s1", "s2", "last"} <= set(_offered(tmp_path, "diff app.db "))
    assert _offered(tmp_path, "diff app.db moored now --table b") == ["berths", "boats"]


@pytest.mark.parametrize(
    ("shell", "file"),
    [
        ("bash", ".local/share/bash-completion/completions/jondel"),
        ("zsh", ".local/share/zsh/site-functions/_jondel"),
        ("fish", ".config/fish/completions/jondel.fish"),
    ],
)
def test_it_is_installed_for_a_shell(
    jondel: JondelCommand, tmp_path: Path, shell: str, file: str
) -> None:
    environment = {**os.environ, "HOME": str(tmp_path), "SHELL": f"/bin/{shell}"}
    for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME"):
        environment.pop(name, None)
    done = jondel("--install-completion", env=environment)
    assert (done.returncode, done.stderr) == (0, "")
    assert str(tmp_path / file) in done.stdout
    assert "jondel" in (tmp_path / file).read_text()


def test_an_unknown_shell_is_told_which_there_are(jondel: JondelCommand) -> None:
    done = jondel("--install-completion", "csh")
    assert (done.returncode, done.stdout) == (2, "")
    assert "bash, zsh, fish" in done.stderr
