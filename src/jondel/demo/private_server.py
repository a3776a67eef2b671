"""A PostgreSQL server of one's own: on a socket in a folder of its own, never as root.

A process keeps it and stops it when whoever asked for it is gone, however that ended; run as a
program, this is that process.
"""

from __future__ import annotations

import json
import os
import pwd
import shutil
import stat
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

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
UNSAFE = "fsync = off\nsynchronous_commit = off\nfull_page_writes = off"
"""For servers whose data nobody needs after a crash."""


class _Wanted(NamedTuple):
    """What the keeping process is told."""

    folder: str
    locale: str
    configuration: str
    database: str


def server_programs() -> Path | None:
    """The folder with the server's programs, the newest one's; None where there is none."""
    found = shutil.which("initdb")
    if found:
        return Path(found).resolve().parent
    programs = [p for place in _PLACES for p in Path(place).glob("*/bin/initdb")]
    newest = max(programs, key=lambda path: path.parent.parent.name, default=None)
    return newest.parent if newest is not None else None


@contextmanager
def private_server(
    folder: Path | None = None,
    *,
    locale: str = "C.UTF-8",
    configuration: str = UNSAFE,
    database: str = "postgres",
) -> Iterator[str]:
    """Have a server while the block lasts; gives the URL of its database.

    ``folder`` keeps its data, made where it is not there; None for one that goes with the server.

    Raises:
        TargetUnavailable: its programs are not installed, or it does not start.
    """
    if server_programs() is None:
        raise TargetUnavailable(
            "PostgreSQL's server is not installed (Debian: apt-get install postgresql)"
        )
    with ExitStack() as stack:
        if folder is None:
            # A socket's path must be short, and the folder one that the user may enter.
            folder = Path(
                stack.enter_context(
                    tempfile.TemporaryDirectory(
                        prefix="jondel-pg-", dir="/tmp", ignore_cleanup_errors=True
                    )
                )
            )
        yield stack.enter_context(_kept(_Wanted(str(folder), locale, configuration, database)))


@contextmanager
def _kept(wanted: _Wanted) -> Iterator[str]:
    keeper = subprocess.Popen(
        [sys.executable, "-m", "jondel.demo.private_server", json.dumps(wanted)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,  # a Ctrl-C is not for it
    )
    assert keeper.stdin is not None
    assert keeper.stdout is not None
    try:
        said = keeper.stdout.readline().strip()
        url, _, problem = said.partition(" ")
        if not url.startswith("postgresql://"):
            raise TargetUnavailable(problem or "PostgreSQL's server did not start")
        yield url
    finally:
        keeper.stdin.close()
        keeper.wait()
        keeper.stdout.close()


def _keep(wanted: _Wanted) -> None:
    """Start the server, say its URL, and stop it at the end of standard input."""
    folder = Path(wanted.folder)
    data = folder / "data"
    user = _unprivileged_user()
    programs = server_programs()
    assert programs is not None, "whoever started this has looked"
    _private(folder, user)
    is_new = not (data / "PG_VERSION").exists()
    if is_new:
        shutil.rmtree(data, ignore_errors=True)
        _run(
            [programs / "initdb", "-D", data, "-U", "jondel", "-A", "trust", "-E", "UTF8",
             f"--locale={wanted.locale}", "--no-sync"],
            user,
        )  # fmt: skip
        more = _CONFIGURATION.format(folder=folder, more=wanted.configuration)
        with (data / "postgresql.conf").open("a") as file:
            file.write(more)
    control: list[str | Path] = [programs / "pg_ctl", "-D", data, "-w", "-s"]
    is_ours = not _runs([*control, "status"], user)
    if is_ours:
        _run([*control, "-l", folder / "log", "-t", str(_START_SECONDS), "start"], user)
    if is_new and wanted.database != "postgres":
        _run([programs / "createdb", "-h", folder, "-U", "jondel", wanted.database], user)
    try:
        sys.stdout.write(f"postgresql://jondel@/{wanted.database}?host={folder}\n")
        sys.stdout.flush()
        while sys.stdin.read(1):
            pass
    finally:
        if is_ours:
            _run([*control, "-m", "immediate" if UNSAFE in wanted.configuration else "fast",
                  "stop"], user)  # fmt: skip


def _private(folder: Path, user: tuple[int, int] | None) -> None:
    """Have the folder be one that only the server's user may enter."""
    owner = user[0] if user is not None else os.geteuid()
    folder.mkdir(mode=0o700, exist_ok=True)
    found = folder.lstat()
    if not stat.S_ISDIR(found.st_mode) or found.st_uid not in (owner, os.geteuid()):
        raise TargetUnavailable(f"{folder}: it belongs to somebody else; remove it, and try again")
    if user is not None:
        os.chown(folder, *user)


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


def _runs(command: list[str | Path], user: tuple[int, int] | None) -> bool:
    try:
        _run(command, user)
    except TargetUnavailable:
        return False
    return True


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


if __name__ == "__main__":
    try:
        _keep(_Wanted(*json.loads(sys.argv[1])))
    except TargetUnavailable as error:
        sys.stdout.write(f"- {error}\n")
