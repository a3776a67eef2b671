"""The dialog in which a connection is written, as a URL or in parts: the one shows the other."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from typing import NamedTuple
from urllib.parse import quote, unquote, urlsplit

from textual import on
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import Static

from jondel.core.engines.passwords import tell_password
from jondel.core.engines.registry import create_database, examine, location_of
from jondel.core.errors import JondelError, TargetNotFound
from jondel.core.find.connections import Connections
from jondel.core.find.settings import from_parts
from jondel.tui.frame.dialog import Dialog, foot, heading, problem_line
from jondel.tui.widgets.text_fields import TextField

_PARTS = ("host", "port", "user", "name")
_TITLES = {"host": "host", "port": "port", "user": "user", "name": "database"}


class Connected(NamedTuple):
    """What was entered; the password was told to whoever connects."""

    target: str


class ConnectionDialog(Dialog[Connected | None]):
    """Asks for a connection; tries it out, makes its database, keeps it under a name."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+t", "test", "test"),
        Binding("ctrl+s", "keep", "keep"),
        Binding("ctrl+n", "create", "make the database"),
    ]

    def __init__(self, url: str = "postgresql://localhost/") -> None:
        super().__init__()
        self._url = url
        self._filling = False

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading("Connect to a server")
            yield _row(
                "URL", TextField(self._url, id="url", classes="field", select_on_focus=False)
            )
            for part in _PARTS:
                yield _row(_TITLES[part], TextField("", id=part, classes="field"))
            secret = TextField(
                "", id="password", classes="field", placeholder="neither shown nor kept"
            )
            secret.password = True
            yield _row("password", secret)
            kept = TextField("", id="kept", classes="field", placeholder="a name to keep it under")
            yield _row("kept as", kept)
            yield problem_line("problem")
            yield Static("", id="report", markup=False)
            yield foot(
                "Enter opens · Ctrl+T tests · Ctrl+S keeps · Ctrl+N makes it · Escape closes"
            )

    def opened(self) -> None:
        self._fill_parts()

    def _field(self, name: str) -> TextField:
        return self.query_one(f"#{name}", TextField)

    # The URL and its parts say the same

    @on(TextField.Changed, "#url")
    def _url_changed(self, event: TextField.Changed) -> None:
        event.stop()
        if not self._filling and self.focused is self._field("url"):
            self._fill_parts()

    @on(TextField.Changed, "#host, #port, #user, #name")
    def _part_changed(self, event: TextField.Changed) -> None:
        event.stop()
        if not self._filling and self.focused is event.input:
            parts = {part: self._field(part).entered for part in _PARTS}
            scheme = self._field("url").entered.partition("://")[0] or "postgresql"
            url = from_parts(scheme, {**parts, "name": parts["name"] or "_"})
            if not parts["name"]:
                url = url.replace("/_", "/", 1)
            self._fill({"url": url})

    def _fill_parts(self) -> None:
        """Show the URL in parts; a password that it holds goes to its own field."""
        url = self._field("url").entered
        with suppress(ValueError):
            split = urlsplit(url)
            values = {
                "host": unquote(split.hostname or "") or _option(split.query, "host"),
                "port": str(split.port or ""),
                "user": unquote(split.username or ""),
                "name": unquote(split.path.lstrip("/")),
            }
            if split.password:
                values["password"] = unquote(split.password)
                account = quote(values["user"], safe="")
                values["url"] = url.replace(f"{split.username}:{split.password}@", f"{account}@", 1)
            self._fill(values)

    def _fill(self, values: dict[str, str]) -> None:
        self._filling = True
        with self.prevent(TextField.Changed):
            for name, value in values.items():
                if self._field(name).entered != value:
                    self._field(name).entered = value
        self._filling = False

    # What is done with it

    @on(TextField.Submitted)
    async def _submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        url = self._told()
        if url:
            self.dismiss(Connected(url))

    def _told(self) -> str:
        """The URL, its password told to whoever connects; empty where it is none, which is said."""
        url, password = self._field("url").entered.strip(), self._field("password").entered
        try:
            location = location_of(url)
        except JondelError as error:
            self._say(str(error))
            return ""
        if password:
            tell_password(location, password)
        self._say("")
        return url

    async def action_test(self) -> None:
        """Try the connection out."""
        url = self._told()
        if not url:
            return
        self._say("", "trying …")
        try:
            report = await asyncio.to_thread(examine, url)
        except JondelError as error:
            self._say(str(error).partition(": ")[2] or str(error))
            return
        self._say("", "\n".join(
            [f"{report.server} · {report.encoding} · times in {report.time_zone} · answers in "
             f"{report.round_trip * 1000:.1f} ms",
             f"{report.user}: {report.rights} · {report.tables} tables",
             f"databases: {', '.join(report.databases[:12])}"]))  # fmt: skip

    def action_keep(self) -> None:
        """Keep the connection under its name."""
        name, url = self._field("kept").entered.strip(), self._told()
        if not url:
            return
        try:
            Connections().keep(name, url)
        except JondelError as error:
            self._say(str(error))
        else:
            self._say("", f"kept as {name}, without its password: jondel {name} opens it")

    async def action_create(self) -> None:
        """Make the database on its server, where it is not there yet."""
        url = self._told()
        if not url:
            return
        try:
            await asyncio.to_thread(examine, url)
        except TargetNotFound:
            try:
                await asyncio.to_thread(create_database, url)
            except JondelError as error:
                self._say(str(error))
            else:
                self._say("", f"the database {self._field('name').entered} is made")
        except JondelError as error:
            self._say(str(error).partition(": ")[2] or str(error))
        else:
            self._say(f"the server has a database {self._field('name').entered} already")

    def _say(self, problem: str, report: str = "") -> None:
        self.query_one("#problem", Static).update(problem)
        self.query_one("#report", Static).update(report)
        self.fit_height()


def _row(title: str, field: TextField) -> Horizontal:
    """A field behind its name."""
    return Horizontal(
        Static(f"{title:<9}", classes="row-title", markup=False), field, classes="row"
    )


def _option(query: str, name: str) -> str:
    from urllib.parse import parse_qsl

    return dict(parse_qsl(query)).get(name, "")
