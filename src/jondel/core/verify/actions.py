"""Actions: saved ways to make the app do something."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.values import StoredValue

USUAL_TIMEOUT_SECONDS = 30.0
LONGEST_TIMEOUT_SECONDS = 3600.0


@dataclass(frozen=True)
class Command:
    """A command line: the program and its arguments, never a shell's text.

    ``folder`` is where it runs, seen from the project's folder.
    """

    words: tuple[str, ...]
    folder: str = ""

    @property
    def what(self) -> str:
        return " ".join(self.words)


@dataclass(frozen=True)
class Request:
    """An HTTP request. ``json`` is a body to be written as JSON; else ``body`` is sent as it is."""

    method: str
    url: str
    headers: tuple[tuple[str, str], ...] = ()
    body: str = ""
    json: object = None

    @property
    def what(self) -> str:
        return f"{self.method} {self.url}"


@dataclass(frozen=True)
class ByHand:
    """What a person is to do in the app."""

    instruction: str

    @property
    def what(self) -> str:
        return f"by hand: {self.instruction}"


Way: TypeAlias = Command | Request | ByHand


@dataclass(frozen=True)
class RecordAddress:
    """The record whose cells an action fills in where no other is current."""

    table: TableId
    key: tuple[StoredValue, ...]


@dataclass(frozen=True)
class Action:
    """A way to make the app do something, and from where.

    ``start`` is the snapshot that is restored first; ``copy`` says that it runs on a copy of the
    database, whose path or URL ``${database}`` gives. ``status`` is the exit or HTTP status it is
    to end with; None for what usually means success. ``settle`` are the seconds without a commit
    after which it is over, None for the project's. ``expects`` is the name of its expectation, its
    own name where nothing is said.
    """

    name: str
    way: Way
    start: str = ""
    repeat: int = 1
    timeout: float = USUAL_TIMEOUT_SECONDS
    settle: float | None = None
    status: int | None = None
    copy: bool = False
    environment: tuple[tuple[str, str], ...] = ()
    record: RecordAddress | None = None
    expects: str = ""

    @property
    def expectation(self) -> str:
        """The name of what it is to write."""
        return self.expects or self.name

    @property
    def given(self) -> str:
        """All the words of it: what is said here does not vary."""
        way = self.way
        parts: list[object] = [value for _, value in self.environment]
        if isinstance(way, Command):
            parts += way.words
        elif isinstance(way, Request):
            parts += [way.url, *(value for _, value in way.headers), way.body, way.json or ""]
        return " ".join(map(str, parts))


@dataclass(frozen=True)
class Outcome:
    """What came of running an action.

    ``status`` is the exit or HTTP status, None where it did not come to one. ``said`` is one line
    of what the app said, ``output`` all of it, as far as that is kept; secrets are masked in both.
    ``failure`` says why it failed, empty where it did not.
    """

    status: int | None
    said: str
    output: str
    seconds: float
    failure: str = ""
    answer: object = field(default=None, compare=False)
    """What an HTTP request was answered, as JSON has it; never kept."""

    @property
    def ok(self) -> bool:
        return not self.failure
