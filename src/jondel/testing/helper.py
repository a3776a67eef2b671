"""The process that reads and restores databases for a test run.

The app under test may have the same database open in the test's own process, with another SQLite
library. On POSIX, closing any descriptor of a file drops every lock that the process holds on it:
so nothing of Jondel opens a database there. Requests and answers are pickles on this process's
standard input and output; it ends when its input does.
"""

from __future__ import annotations

import pickle
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import IO, Any

from jondel.core.errors import JondelError


class HelperLost(JondelError):
    """The process that reads databases for the test run has ended."""


class Helper:
    """The test run's side: asks, and waits for the answer."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None

    def ask(self, what: str, *arguments: object) -> Any:
        """Have something done there.

        Raises:
            JondelError: as it was raised there.
            HelperLost: it has ended.
        """
        process = self._process
        if process is None:
            process = self._process = subprocess.Popen(
                [sys.executable, "-m", "jondel.testing.helper"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
            )
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            pickle.dump((what, arguments), process.stdin)
            process.stdin.flush()
            raised, answer = pickle.load(process.stdout)
        except (OSError, EOFError, pickle.UnpicklingError) as error:
            self._process = None
            raise HelperLost(
                f"Jondel's helper process has ended ({error}); run it again"
            ) from error
        if raised:
            raise answer
        return answer

    def close(self) -> None:
        """Have it end."""
        process, self._process = self._process, None
        if process is None:
            return
        for stream in (process.stdin, process.stdout):
            if stream is not None:
                with suppress(OSError):
                    stream.close()
        process.wait()


class _Session:
    """One open database, with the trail of the run."""

    def __init__(self, target: str, folder: Path) -> None:
        from jondel.core.engines.registry import open_database
        from jondel.core.trail.project import Project
        from jondel.core.trail.trail import Trail

        self._database = open_database(target)
        # The trail is the run's own: tests fill nobody's store, and workers share none.
        self._trail = Trail(self._database.location, folder, lasting=False)
        self._project = Project(self._database.location)
        self._observing = ExitStack()
        self._observation: Any = None
        self._ends: tuple[Any, Any] | None = None
        self._last: tuple[Any, Any] | None = None
        """What the database told when a snapshot was last as it is, and that snapshot."""
        self._state: tuple[str, Any] | None = None
        """The state that was restored last, open."""
        self.location = self._database.location

    def snapshot(self) -> Any:
        """A snapshot of how it is now; the last one where nothing was committed since."""
        from jondel.core.engines.needed import commits_of
        from jondel.core.snapshots.catalogue import Trigger

        token = commits_of(self._database).change_token()
        if self._last is None or self._last[0] != token:
            taken = self._trail.take_unless_unchanged(self._database, Trigger())
            self._last = token, taken
        return self._last[1]

    def restore(self, to: Any) -> None:
        from jondel.core.engines.needed import commits_of
        from jondel.core.trail.putting_back import put_back

        commits = commits_of(self._database)
        if self._last == (commits.change_token(), to):
            return
        if self._state is None or self._state[0] != to.image:
            if self._state is not None:
                self._state[1].close()
            self._state = to.image, self._trail.open(to)
        token = commits.change_token()
        wrote = put_back(self._trail, self._database, to, self._state[1])
        # After a write of our own it is not known whether the app has written, too.
        self._last = None if wrote else (token, to)

    def begin(self) -> Any:
        from jondel.core.trail.transactions import observed

        self._observing.close()
        before = self.snapshot()
        self._observation = self._observing.enter_context(observed(self._database))
        self._ends = None
        return before

    def end(self, before: Any, settle: float) -> Any:
        """The snapshot after."""
        from jondel.core.trail.watch import WatchTimes
        from jondel.core.verify.settling import wait_until_settled

        if settle:
            wait_until_settled(self._database, WatchTimes(settle), threading.Event())
        if self._observation is not None:
            self._observation.rest()
        self._last = None
        after = self.snapshot()
        self._ends = before, after
        if self._observation is not None:
            self._observation.pause()
        return after

    def transactions(self, before: Any, after: Any) -> Any:
        """In how many transactions the last step was written; None of an earlier one."""
        from jondel.core.trail.transactions import keep_transactions

        if self._ends != (before, after) or before.number == after.number:
            return self._trail.transactions.of_step(after.number)
        return keep_transactions(self._trail, self._observation, before, after)

    def changes(self, before: Any, after: Any) -> Any:
        from jondel.core.diff.compare import Scope

        rules = self._project.noise_rules()
        return self._trail.changes(before, after, Scope(noise=rules, inside=True))

    def missing_table(self, name: str, at: Any) -> str:
        """Why there is no table of a name, empty where there is."""
        with self._trail.opened(at) as state:
            schema = state.schema()
            if schema.named(name) is not None:
                return ""
            known = ", ".join(sorted(table.title for table in schema.tables)[:12])
        return f"no table {name!r}; there are: {known}"

    def knowledge(self, at: Any) -> Any:
        from jondel.core.verify.run import knowledge_of

        with self._trail.opened(at) as state:
            return knowledge_of(self._project, state, "")

    def close(self) -> None:
        self._observing.close()
        if self._state is not None:
            self._state[1].close()
        self._database.close()
        self._trail.close()


class _Server:
    def __init__(self) -> None:
        self._sessions: dict[int, _Session] = {}
        self._last = 0

    def open(self, target: str, folder: Path) -> tuple[int, str]:
        session = _Session(target, folder)
        self._last += 1
        self._sessions[self._last] = session
        return self._last, session.location

    def close(self, number: int) -> None:
        self._sessions.pop(number).close()

    def answer(self, what: str, arguments: tuple[Any, ...]) -> object:
        if what in ("open", "close"):
            own: Callable[..., object] = getattr(self, what)
            return own(*arguments)
        number, *rest = arguments
        method: Callable[..., object] = getattr(self._sessions[number], what)
        return method(*rest)

    def close_all(self) -> None:
        for session in self._sessions.values():
            session.close()


def _serve(requests: IO[bytes], answers: IO[bytes]) -> None:
    server = _Server()
    try:
        while True:
            try:
                what, arguments = pickle.load(requests)
            except EOFError:
                return
            try:
                answer: tuple[bool, object] = False, server.answer(what, arguments)
            except JondelError as error:
                answer = True, error
            except Exception as error:
                answer = True, HelperLost(f"{what} failed: {type(error).__name__}: {error}")
            pickle.dump(answer, answers)
            answers.flush()
    finally:
        server.close_all()


if __name__ == "__main__":
    # What else is printed here goes where errors go: the output is for answers alone.
    sys.stdout, _answers = sys.stderr, sys.stdout.buffer
    with suppress(KeyboardInterrupt):
        _serve(sys.stdin.buffer, _answers)
