"""What only the command line can go wrong with."""

from __future__ import annotations

from jondel.core.errors import JondelError


class UsageProblem(JondelError):
    """The words given to the command are wrong."""


class NoTerminal(JondelError):
    """The interface was asked for where there is no terminal to show it in."""
