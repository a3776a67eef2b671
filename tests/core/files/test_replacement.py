"""Files that are put in the place of others: whole or not at all."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from jondel.core.files.replacement import replace_text, replacing, sweep_unfinished


def test_a_file_is_there_whole_with_the_mode_that_was_asked_for(tmp_path: Path) -> None:
    path = tmp_path / "kept"
    replace_text(path, "first", durable=True)
    assert path.read_text() == "first"
    assert path.stat().st_mode & 0o777 == 0o600
    path.chmod(0o640)
    replace_text(path, "second")
    assert (path.read_text(), path.stat().st_mode & 0o777) == ("second", 0o640)
    assert os.listdir(tmp_path) == ["kept"]


def test_what_fails_leaves_the_old_file_and_nothing_else(tmp_path: Path) -> None:
    path = tmp_path / "kept"
    replace_text(path, "old")

    def fail_halfway() -> None:
        with replacing(path) as file:
            file.write(b"half")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail_halfway()
    assert path.read_text() == "old"
    assert os.listdir(tmp_path) == ["kept"]


def test_a_link_goes_on_leading_to_the_file(tmp_path: Path) -> None:
    path, link = tmp_path / "kept", tmp_path / "link"
    path.write_text("old")
    link.symlink_to(path)
    replace_text(link, "new")
    assert link.is_symlink()
    assert path.read_text() == "new"


def test_a_killed_process_leaves_the_old_file_and_what_is_swept_away(tmp_path: Path) -> None:
    path = tmp_path / "kept"
    replace_text(path, "old")
    program = (
        "import os, signal, sys\nfrom pathlib import Path\n"
        "from jondel.core.files.replacement import replacing\n"
        "with replacing(Path(sys.argv[1])) as file:\n"
        "    file.write(b'half'); file.flush(); os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    subprocess.run([sys.executable, "-c", program, str(path)], check=False)
    assert path.read_text() == "old"
    assert len(os.listdir(tmp_path)) == 2
    sweep_unfinished(tmp_path)
    assert os.listdir(tmp_path) == ["kept"]
