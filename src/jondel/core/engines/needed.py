"""The roles that not every database plays, for whoever cannot do without.

Each function raises ``FeatureMissing``, which says what the database cannot do and why.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database, Feature

if TYPE_CHECKING:
    from jondel.core.engines.roles import (
        Capturer,
        Commits,
        Rehearser,
        Restorer,
        ScriptRunner,
        StatementRunner,
        Writer,
    )


def commits_of(database: Database) -> Commits:
    return database.features.require(Feature.COMMITS, database.commits)


def capturer_of(database: Database) -> Capturer:
    return database.features.require(Feature.CAPTURE, database.capturer)


def writer_of(database: Database) -> Writer:
    return database.features.require(Feature.WRITING, database.writer)


def restorer_of(database: Database) -> Restorer:
    return database.features.require(Feature.RESTORING, database.restorer)


def statements_of(database: Database) -> StatementRunner:
    return database.features.require(Feature.STATEMENTS, database.statements)


def scripts_of(database: Database) -> ScriptRunner:
    return database.features.require(Feature.SCRIPTS, database.scripts)


def rehearser_of(database: Database) -> Rehearser:
    return database.features.require(Feature.REHEARSING, database.rehearser)
