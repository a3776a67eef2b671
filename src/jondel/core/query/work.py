"""What can be tried out and then be written: a script, or what else comes to statements."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import NamedTuple, Protocol, TypeAlias

from jondel.core.model.outcomes import ScriptStatement
from jondel.core.model.values import StoredValue
from jondel.core.query.lets import NamedValue, values_of
from jondel.core.query.scripts import Script

Questions: TypeAlias = Callable[[str, Mapping[str, NamedValue]], list[StoredValue]]
"""Asks a question with the values that are known; gives the first column of its rows."""


class Prepared(NamedTuple):
    """Statements to run. ``done`` is called once they are, and says what else there is to know."""

    statements: tuple[ScriptStatement, ...]
    done: Callable[[], Sequence[str]] = tuple


class WritingWork(Protocol):
    """Something that writes."""

    @property
    def values(self) -> Mapping[str, StoredValue]:
        """The values that a person gave for it."""

    def prepared(self, ask: Questions, *, for_real: bool) -> AbstractContextManager[Prepared]:
        """Its statements, while the block runs; in the thread that runs them."""


class ScriptWork(NamedTuple):
    """A script, with the values of its parameters."""

    script: Script
    values: Mapping[str, StoredValue]

    @contextmanager
    def prepared(self, ask: Questions, *, for_real: bool) -> Iterator[Prepared]:
        """See ``WritingWork.prepared``."""
        named = values_of(self.script.lets, ask)
        yield Prepared(self.script.with_values({**self.values, **named}))
