"""Runs the command that ``record`` records."""

from __future__ import annotations

import signal
import subprocess
import sys
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from types import FrameType

from jondel.core.errors import ActionFailed

_GRACE_SECONDS = 5.0
"""How long a command may take to end after it was asked to."""
_PASSED_ON = (signal.SIGTERM, signal.SIGHUP)


def run_command(command: Sequence[str], *, quiet: bool) -> int:
    """Run a command to its end and return its exit status, as a shell would give it.

    ``quiet`` keeps its output off stdout, which is for JSON alone. Who asks Jondel to end asks the
    command: what that has written by then is still recorded.

    Raises:
        ActionFailed: it cannot be run.
    """
    try:
        running = subprocess.Popen(command, stdout=sys.stderr if quiet else None)
    except OSError as error:
        raise ActionFailed(f"{command[0]}: cannot be run ({error.strerror})") from None
    with _passing_signals_on(running):
        status = running.wait()
    return 128 - status if status < 0 else status


@contextmanager
def _passing_signals_on(running: subprocess.Popen[bytes]) -> Iterator[None]:
    killing: list[threading.Timer] = []

    def pass_on(number: int, _: FrameType | None) -> None:
        running.send_signal(number)
        if not killing:
            killing.append(threading.Timer(_GRACE_SECONDS, running.kill))
            killing[0].daemon = True
            killing[0].start()

    # Ctrl-C reaches the command by itself, as it is in the same terminal.
    previous = {signal.SIGINT: signal.signal(signal.SIGINT, signal.SIG_IGN)}
    previous |= {number: signal.signal(number, pass_on) for number in _PASSED_ON}
    try:
        yield
    finally:
        for number, handler in previous.items():
            signal.signal(number, handler)
        for timer in killing:
            timer.cancel()
