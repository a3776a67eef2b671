"""Connections that are kept under names of one's own, without their passwords."""

from __future__ import annotations

import os
import re

from jondel.core.engines.registry import is_on_server
from jondel.core.errors import StoreUnavailable
from jondel.core.files.claims import held
from jondel.core.files.home import jondel_home, private_folder
from jondel.core.files.replacement import replace_text
from jondel.core.files.toml_files import read_toml, section

_FILE = "connections.toml"
_NAME = re.compile(r"[^\s/\\:]{1,60}")


class Connections:
    """The kept connections, in a file of Jondel's home that can be edited by hand."""

    def __init__(self) -> None:
        self._folder = jondel_home()
        self.path = self._folder / _FILE

    def all(self) -> dict[str, str]:
        """URLs by name, in their order.

        Raises:
            StoreUnavailable: the file cannot be understood.
        """
        tables = read_toml(self.path, StoreUnavailable)
        kept = section(self.path, tables, "connections", dict[str, str], StoreUnavailable)
        return kept or {}

    def keep(self, name: str, url: str) -> None:
        """Keep a connection under a name; its password is left out.

        Raises:
            StoreUnavailable: the name cannot be one, or the file cannot be written.
        """
        if not _NAME.fullmatch(name) or os.path.exists(name):
            raise StoreUnavailable(
                f"{name!r} cannot name a connection; choose a word that no file here is called"
            )
        from jondel.core.engines.server_addresses import without_secrets  # slow to load

        self._change(lambda kept: {**kept, name: without_secrets(url)})

    def forget(self, name: str) -> None:
        """Keep a connection no longer."""
        self._change(lambda kept: {n: url for n, url in kept.items() if n != name})

    def _change(self, change) -> None:  # type: ignore[no-untyped-def]
        import tomlkit  # slow to load, and seldom needed

        private_folder(self._folder)
        with held(self._folder / "connections.lock"):
            kept = change(self.all())
            document = tomlkit.parse(self.path.read_text("utf-8")) if self.path.exists() else (
                tomlkit.document())  # fmt: skip
            document["connections"] = kept
            replace_text(self.path, tomlkit.dumps(document))


def target_named(words: str) -> str:
    """The target that words mean: the URL of a kept connection of that name, else the words."""
    if "/" in words or os.path.exists(words) or is_on_server(words) or not _NAME.fullmatch(words):
        return words
    try:
        return Connections().all().get(words, words)
    except StoreUnavailable:
        return words
