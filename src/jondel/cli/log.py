"""Jondel's log: a file in its home, of what was done and how."""

from __future__ import annotations

import logging
import os
from typing import Any

from jondel.cli.output import visible_lines
from jondel.core.browse.display import visible
from jondel.core.files.home import jondel_home

_LARGEST_LOG_BYTES = 1_000_000


class _SafeFormatter(logging.Formatter):
    """Messages may quote data, and a log is looked at in a terminal."""

    def formatMessage(self, record: logging.LogRecord) -> str:
        return visible(super().formatMessage(record))

    def formatException(self, ei: Any) -> str:
        return visible_lines(super().formatException(ei))


def start_log() -> None:
    """Have Jondel's log written to a file in its home, if that is possible."""
    path = jondel_home() / "jondel.log"
    try:
        if path.exists() and path.stat().st_size > _LARGEST_LOG_BYTES:
            path.replace(path.with_suffix(".log.old"))
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    except OSError:
        return
    handler = logging.StreamHandler(os.fdopen(descriptor, "a", encoding="utf-8"))
    handler.setFormatter(_SafeFormatter("%(asctime)s %(name)s %(message)s"))
    for name in ("jondel", "psycopg"):
        _keep(logging.getLogger(name), handler)


def _keep(logger: logging.Logger, handler: logging.Handler) -> None:
    """Write what a logger is told with a handler, and nowhere else."""
    logger.handlers = [handler]
    logger.setLevel(logging.INFO)
    logger.propagate = False
