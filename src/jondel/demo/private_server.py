"""A PostgreSQL server of one's own: in a temporary folder, on a socket there, never as root."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from jondel.core.errors import TargetUnavailable

_PLACES = ("/usr/lib/postgresql", "/opt/homebrew/opt", "/usr/local/opt")
_UNPRIVILEGED = ("postgres", "nobody")
_START_SECONDS = 30
_CONFIGURATION = """
listen_addresses = ''
unix_socket_directories = '{folder}'
max_connections = 50
shared_buffers = 32MB
{more}
"""
_UNSAFE = "fsync = off\nsynchronous_commit = off\nfull_page_writes = off"
"""For servers whose data nobody needs after a crash."""


def server_programs() -> Path | None:
    """The folder with the server's programs, the newest one's; None where there is none."""
    found = shutil.which("initdb")
    if found:
        return Path(found).resolve().parent
    programs = [p for place in _PLACES for p in Path(place).glob("*/bin/initdb")]
    newest = max(programs, key=lambda path: path.parent.parent.name, default=None)
    return newest.parent if newest is not None else None


@contextmanager
def private_server(*, locale: str = "C.UTF-8", configuration: str = _UNSAFE) -> Iterator[str]:
    """Start a server, and stop it when the block ends; gives the URL of its database.

    Raises:
        TargetUnavailable: its programs are not installed, or it does not start.
    """
    programs = server_programs()
    if programs is None:
        raise TargetUnavailable(
            "PostgreSQL's server is not installed (Debian: apt-get install postgresql)"
        )
    user = _unprivileged_user()
    # A socket's path must be short, and the folder one that the user may enter.
    with tempfile.TemporaryDirectory(
        prefix="jondel-pg-", dir="/tmp", ignore_cleanup_errors=True
    ) as name:
        folder = Path(name)
        data = folder / "data"
        if user is not None:
            os.chown(folder, *user)
        _run(
            [programs / "initdb", "-D", data, "-U", "jondel", "-A", "trust", "-E", "UTF8",
             f"--locale={locale}", "--no-sync"],
            user,
        )  # fmt: skip
        more = _CONFIGURATION.format(folder=folder, more=configuration)
        with (data / "postgresql.conf").open("a") as file:
            file.write(more)
        control: list[str | Path] = [programs / "pg_ctl", "-D", data, "-w", "-s"]
        log = folder / "log"
        _run([*control, "-l", log, "-t", str(_START_SECONDS), "start"], user)
        try:
            yield f"postgresql://jondel@/postgres?host={folder}"
        finally:
            _run([*control, "-m", "immediate", "stop"], user)


def _unprivileged_user() -> tuple[int, int] | None:
    """Whom the server runs as where we are root; None where we are not."""
    if os.geteuid() != 0:
        return None
    for name in _UNPRIVILEGED:
        try:
            found = pwd.getpwnam(name)
        except KeyError:
            continue
        return found.pw_uid, found.pw_gid
    raise TargetUnavailable("PostgreSQL never runs as root, and there is no other user to run as")


def _run(command: list[str | Path], user: tuple[int, int] | None) -> None:
    identity = {"user": user[0], "group": user[1], "extra_groups": []} if user else {}
    done = subprocess.run(
        list(map(str, command)),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,  # which the server would keep open
        stderr=subprocess.PIPE if command[-1] != "start" else subprocess.DEVNULL,
        text=True,
        check=False,
        cwd="/",
        env={"PATH": os.environ.get("PATH", ""), "LC_ALL": "C.UTF-8"},
        **identity,  # type: ignore[call-overload]
    )
    if done.returncode:
        said = (done.stderr or "").strip().splitlines()
        raise TargetUnavailable(
            f"{Path(str(command[0])).name} failed: {said[-1] if said else done.returncode}"
        )
