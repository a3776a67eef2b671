"""Takes the pictures in docs/screenshots from the demo data, in a real terminal window.

    scripts/screenshots.py             all of them
    scripts/screenshots.py NAME…       only these
    scripts/screenshots.py --to DIR    somewhere else

Needs Xvfb, xterm, xdotool, ImageMagick's `import` and the DejaVu fonts; the window is of 160×47
cells (1280×800 pixels), or of 80×24.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote, unquote

ROOT = Path(__file__).resolve().parent.parent
PROGRAMS = {"Xvfb": "xvfb", "xterm": "xterm", "xdotool": "xdotool", "import": "imagemagick"}
CLOCK = "2026-06-14T14:02:11"
_TICK = 0.1
_QUIET = 0.8
_LONGEST_WAIT = 30.0
_LONGEST_SETTLING = 6.0
"""A cursor that blinks never comes to rest."""


@dataclass(frozen=True)
class Picture:
    """A picture: the keys to press on a fresh demo, and the terminal's size in cells; or on
    another ``command`` of ours, run in a made-up project."""

    keys: str
    columns: int = 160
    lines: int = 47
    command: tuple[str, ...] = ("demo", "--clock", CLOCK)
    waits: float = 4.0
    """Seconds until it is there."""


# `a Return` is the first action, book a berth; each Down goes to the next one.
_TWO_STEPS = "s a Return a Down Down Return"
_TYPE = "type="


def typed(text: str) -> str:
    """What types a text, among the keys of a picture."""
    return " Return ".join(_TYPE + quote(line) for line in text.split("\n"))


_ASK = typed(
    "SELECT bo.id, b.name, bo.status, bo.total\n"
    "FROM bookings bo JOIN boats b ON b.id = bo.boat_id\n"
    "WHERE bo.total > 200"
)
_TRY = typed("UPDATE bookings SET status = 'held' WHERE id < 4")

PICTURES = {
    "records": Picture("a Return n r t b o o k Return End"),
    "changes": Picture(f"{_TWO_STEPS} ["),
    "changes-light": Picture(f"{_TWO_STEPS} T"),
    "watching": Picture("N w a Return"),
    "trail": Picture(f"{_TWO_STEPS} g"),
    "history": Picture("N w a Return a Down Return h"),
    "restore": Picture(f"{_TWO_STEPS} [ R"),
    "filter": Picture("t b o o k Return f h e l d Tab"),
    "links": Picture("t b o o k Return v End Right Up Up Right"),
    "beside": Picture("t b o a t s Return t b e r Return bar"),
    "write": Picture("t b o a t s Return Right e 1 2 Return Down Delete W s"),
    "import": Picture(f"t b o a t s Return G {_TYPE}visit Return Down Down Down"),
    "open": Picture("Down Down", command=()),
    "compared": Picture("a Return a Down Down Return n ctrl+o Return F3 M"),
    "query": Picture(f"Q {_ASK} ctrl+g F7 Delete {_TRY} ctrl+g"),
    "server": Picture(
        "t b o o k Return w a Return",
        command=("demo", "--clock", CLOCK, "--engine", "postgresql"),
        waits=20.0,
    ),
    "verify": Picture("V Down Down Down Return Y Return Escape Return"),
    "records-80x24": Picture(f"{_TWO_STEPS} ] r Down", 80, 24),
    "changes-80x24": Picture(f"{_TWO_STEPS} [ Down", 80, 24),
}


def main() -> None:
    parser = argparse.ArgumentParser(description="Takes the pictures in docs/screenshots.")
    parser.add_argument("names", nargs="*", metavar="NAME", help=", ".join(PICTURES))
    parser.add_argument("--to", type=Path, default=ROOT / "docs" / "screenshots")
    given = parser.parse_args()
    missing = [package for name, package in PROGRAMS.items() if not shutil.which(name)]
    if missing:
        sys.exit(f"screenshots: missing; install: {' '.join(missing)} fonts-dejavu-core")
    given.to.mkdir(parents=True, exist_ok=True)
    with display(1290, 810) as environment, tempfile.TemporaryDirectory() as made:
        make_harbour(environment, made)
        for name in given.names or PICTURES:
            with tempfile.TemporaryDirectory() as home:
                shutil.copytree(made, home, dirs_exist_ok=True)
                take(PICTURES[name], given.to / f"{name}.png", environment, home)
            print(f"{name}.png")


@contextmanager
def display(width: int, height: int) -> Iterator[dict[str, str]]:
    """Run a virtual display while the block lasts; gives the environment for its clients."""
    reading, writing = os.pipe()
    server = subprocess.Popen(
        [
            "Xvfb",
            *("-displayfd", str(writing), "-nolisten", "tcp"),
            *("-screen", "0", f"{width}x{height}x24"),
        ],
        pass_fds=[writing],
        stderr=subprocess.DEVNULL,
    )
    os.close(writing)
    try:
        with os.fdopen(reading) as pipe:
            number = pipe.readline().strip()
        if not number:
            sys.exit("screenshots: Xvfb did not start")
        yield {
            **os.environ,
            "DISPLAY": f":{number}",
            "TZ": "UTC",
        }
    finally:
        server.terminate()
        server.wait()


def make_harbour(environment: dict[str, str], home: str) -> None:
    """Make the demo's database beforehand, for that takes a moment in which keys would be lost."""
    program = (
        "from jondel.demo.launch import make_database; "
        "from jondel.demo.place import demo_database; make_database(demo_database())"
    )
    variables = {**environment, "JONDEL_HOME": home}
    subprocess.run([sys.executable, "-c", program], env=variables, check=True)


def make_project(home: Path) -> Path:
    """An app's folder, with the demo's database and what its configuration says of others."""
    project = home / "harbour-office"
    (project / "config").mkdir(parents=True)
    database = home / "demo" / "saltmarsh.db"
    if database.exists():
        shutil.copy(database, project / "saltmarsh.db")
    (project / ".env").write_text("DATABASE_URL=postgresql://desk:x@localhost:5999/saltmarsh\n")
    (project / "config" / "database.yml").write_text(
        "office:\n  adapter: postgresql\n  host: pontoon.example.org\n  username: desk\n"
        "  database: tides\ntest:\n  adapter: sqlite3\n  database: saltmarsh.db\n"
    )
    return project


def take(picture: Picture, path: Path, environment: dict[str, str], home: str) -> None:
    """Run the demo in a terminal, press the keys, and write what the window shows."""
    command = [
        "env",
        "COLORTERM=truecolor",
        sys.executable,
        "-m",
        "jondel",
        *picture.command,
    ]
    terminal = subprocess.Popen(
        [
            *("xterm", "-tn", "xterm-256color", "-fa", "DejaVu Sans Mono", "-fs", "10"),
            *("-b", "0", "+sb", "-bg", "#101820", "-xrm", "xterm*allowBoldFonts: true"),
            *("-geometry", f"{picture.columns}x{picture.lines}+0+0", "-e", *command),
        ],
        env={**environment, "JONDEL_HOME": home},
        cwd=make_project(Path(home)),
        start_new_session=True,
    )
    try:
        window = wait_for_window(environment)
        settle(window, environment, least=picture.waits)
        for key in picture.keys.split():
            if key.startswith(_TYPE):
                text = unquote(key.removeprefix(_TYPE))
                xdotool(environment, "type", "--delay", "20", "--window", window, text)
            else:
                name = {"[": "bracketleft", "]": "bracketright"}.get(key, key)
                xdotool(environment, "key", "--window", window, name)
            settle(window, environment)
        time.sleep(1.0)
        settle(window, environment)
        subprocess.run(["import", "-window", window, str(path)], env=environment, check=True)
    finally:
        terminal.terminate()
        terminal.wait()


def wait_for_window(environment: dict[str, str]) -> str:
    started = time.monotonic()
    while time.monotonic() - started < _LONGEST_WAIT:
        found = xdotool(
            environment, "search", "--onlyvisible", "--class", "xterm", check=False
        ).split()
        if found:
            xdotool(environment, "mousemove", "--window", found[-1], "20", "3")
            xdotool(environment, "windowfocus", found[-1], check=False)
            return found[-1]
        time.sleep(_TICK)
    sys.exit("screenshots: the terminal did not open")


def settle(window: str, environment: dict[str, str], least: float = 0.0) -> None:
    """Wait until the window has not changed for a while, and at least for ``least`` seconds."""
    started, last, changed = time.monotonic(), b"", time.monotonic()
    while time.monotonic() - started < max(least, _LONGEST_SETTLING):
        time.sleep(_TICK)
        found = subprocess.run(
            ["import", "-window", window, "rgb:-"],
            env=environment,
            capture_output=True,
            check=True,
            timeout=_LONGEST_WAIT,
        ).stdout
        now = time.monotonic()
        if found != last:
            last, changed = found, now
        if now - changed >= _QUIET and now - started >= least:
            return


def xdotool(environment: dict[str, str], *arguments: str, check: bool = True) -> str:
    return subprocess.run(
        ["xdotool", *arguments], env=environment, check=check, capture_output=True, text=True
    ).stdout


if __name__ == "__main__":
    main()
