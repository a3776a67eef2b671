"""Arguments that several commands take."""

from __future__ import annotations

import argparse
from collections.abc import Callable

Add = Callable[[str, str, str], argparse.ArgumentParser]
"""Adds a command: its name, the module and the function that do it, and what it is for."""


def target(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", metavar="TARGET", help="path or URL of the database")


def lock(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--lock",
        action="store_true",
        help="read under a lock where the app writes without a pause; the app waits meanwhile",
    )


def as_json(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--json", dest="as_json", action="store_true", help="print JSON and nothing else"
    )


def label(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--label", metavar="TEXT", help="what to call the snapshot")


def with_linked(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--with-linked",
        action="store_true",
        help="remove or change, too, what points at removed records and cascades",
    )


def yes(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--yes", action="store_true", help="do it without asking")


def repeated(
    parser: argparse.ArgumentParser, option: str, metavar: str, about: str, dest: str = ""
) -> None:
    """An option that may be given several times; by default there is none."""
    kept = dest or option.lstrip("-")
    parser.add_argument(option, dest=kept, metavar=metavar, action="append", default=[], help=about)


def showing(parser: argparse.ArgumentParser) -> None:
    repeated(parser, "--table", "TABLE", "only this table; may be repeated", "tables")
    parser.add_argument("--internal", action="store_true", help="engine-internal tables too")
    parser.add_argument("--noise", action="store_true", help="also what noise rules hide")
    parser.add_argument(
        "--limit",
        type=count,
        default=100,
        metavar="N",
        help="records to list for each table, 0 for all (100); not with --json",
    )
    changes_form(parser)


def changes_form(parser: argparse.ArgumentParser) -> None:
    """How changes are printed."""
    parser.set_defaults(shows_changes=True)
    parser.add_argument(
        "--format", dest="form", choices=("text", "markdown", "json"), default="text"
    )
    parser.add_argument(
        "--exit-code", action="store_true", help="exit with 4 where there are changes"
    )
    inside(parser)
    as_json(parser)


def inside(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--inside",
        action="store_true",
        help="with --json: also what differs inside long texts, JSON, blobs and times",
    )


def count(text: str) -> int:
    if not text.isdecimal():
        raise argparse.ArgumentTypeError(f"{text!r} is not a number from 0")
    return int(text)


def seconds(text: str) -> float:
    from jondel.core.trail.watch import MOST_SECONDS

    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 <= seconds <= MOST_SECONDS:
        most = f"{MOST_SECONDS:g}"
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of seconds up to {most}")
    return seconds
