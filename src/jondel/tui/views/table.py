"""The views there are. A new one is a folder, and an entry here."""

from __future__ import annotations

from jondel.tui.frame.view_set import ViewEntry

VIEWS = (
    ViewEntry(
        "records",
        "r",
        "Records",
        "Records: the rows of a table",
        "jondel.tui.views.records.view:RecordsView",
    ),
    ViewEntry(
        "changes",
        "c",
        "Changes",
        "Changes: what was written",
        "jondel.tui.views.changes.view:ChangesView",
    ),
    ViewEntry(
        "query",
        "Q",
        "Query",
        "Query: ask the database, and try out what writes",
        "jondel.tui.views.query.view:QueryView",
    ),
    ViewEntry(
        "verify",
        "V",
        "Verify",
        "Verify: actions, what they should write, and findings",
        "jondel.tui.views.verify.view:VerifyView",
    ),
)
