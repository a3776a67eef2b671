"""The views of one interface, each loaded when it is first gone to."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from jondel.tui.frame.desk import Desk
    from jondel.tui.frame.view import View


class ViewEntry(NamedTuple):
    """A view, and where it is found: ``path`` is a module and a class in it."""

    name: str
    key: str
    title: str
    help: str
    path: str


class ViewSet:
    """The views of one interface."""

    def __init__(
        self,
        desk: Desk,
        entries: Sequence[ViewEntry],
        mount: Callable[[View], Awaitable[None] | None],
    ) -> None:
        """``mount`` puts a view on the screen, where it is not seen yet; what it returns is awaited
        until all of the view is there."""
        self.entries = entries
        self._desk = desk
        self._mount = mount
        self._opened: dict[str, View] = {}
        self._mounting: dict[str, Awaitable[None]] = {}

    def entry(self, name: str) -> ViewEntry | None:
        return next((entry for entry in self.entries if entry.name == name), None)

    def require(self, name: str) -> View:
        """A view, loaded and mounted now where it was not yet."""
        view = self._opened.get(name)
        if view is None:
            entry = self.entry(name)
            assert entry is not None, f"there is no view {name}"
            module, _, kind = entry.path.partition(":")
            view = self._opened[name] = getattr(import_module(module), kind)(self._desk)
            mounting = self._mount(view)
            if mounting is not None:
                self._mounting[name] = mounting
        return view

    async def open(self, name: str) -> View:
        """A view, once all of it is there."""
        view = self.require(name)
        if name in self._mounting:
            await self._mounting[name]
            self._mounting.pop(name, None)
        return view

    def if_opened(self, name: str) -> View | None:
        """A view, if it has been opened."""
        return self._opened.get(name)

    @property
    def opened(self) -> Sequence[View]:
        """The views that have been opened."""
        return list(self._opened.values())
