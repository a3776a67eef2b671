"""Guesses which columns point at records of which table, where no foreign key says so.

Names suggest links, and values decide: a link is only offered where the values seen do lead
somewhere. A name that spells a table out is believed when they do; one that only hints at a table,
by initials, an abbreviation or a role, also has to have more than one value, and to fit no other
table that it hints at.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from jondel.core.browse.links import Link, declared_links
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.schema import Schema, Table

_SAMPLED_VALUES = 40
_MOST_KINDS = 24
_LEAST_SHARE = 0.9
_LEAST_HINTED = 2
"""So many different values must lead somewhere where a name is but a hint."""
_SHORTEST_ABBREVIATION = 3
_KEY_ENDINGS = ("id", "key", "no", "nr", "code", "ref", "uuid", "fk")
_PEOPLE = frozenset(
    {"user", "account", "person", "people", "member", "employee", "staff", "profile", "skipper"}
)
_DOERS = frozenset(
    {
        "creator",
        "author",
        "owner",
        "editor",
        "reviewer",
        "approver",
        "assignee",
        "reporter",
        "manager",
        "sender",
        "receiver",
        "recipient",
        "operator",
        "supervisor",
        "uploader",
        "requester",
        "inviter",
        "updater",
        "modifier",
        "user",
    }
)
"""What a person is to a record."""
_OWN = frozenset(
    ("parent", "previous", "prev", "next", "root", "original", "predecessor", "successor")
)
"""What a record is to another one of its own table."""


class _Target(NamedTuple):
    """A table that can be pointed at, by a key of one column."""

    table: Table
    key: str
    words: tuple[str, ...]

    @property
    def initials(self) -> str:
        return "".join(word[0] for word in self.words)


class _Targets:
    """The tables that can be pointed at, by how they may be called."""

    def __init__(self, tables: Iterable[Table]) -> None:
        self.all = [
            _Target(table, table.primary_key[0], _words(table.name))
            for table in tables
            if len(table.primary_key) == 1
        ]
        self.people: list[_Target] = []
        self._by_form: dict[str, list[tuple[int, _Target]]] = {}
        for target in self.all:
            for start in range(len(target.words)):
                for form in _forms("".join(target.words[start:])):
                    self._by_form.setdefault(form, []).append((start, target))
            if any(target in self.called(form) for form in _PEOPLE):
                self.people.append(target)

    def called(self, name: str) -> list[_Target]:
        """The tables of a name in one or in many, whole ones before those that end with it."""
        found = sorted(self._by_form.get(name, ()), key=lambda entry: entry[0])
        return [target for _, target in found]


def guessed_links(database: Database, schema: Schema) -> Iterator[Link]:
    """The links that names suggest and values bear out, one after the other.

    Reads a few values of each column whose name suggests one.
    """
    declared = declared_links(schema)
    taken = {(link.child, column) for link in declared for column in link.columns}
    tables = [t for t in schema.tables if not t.internal and not t.unreadable and t.kind == "table"]
    targets = _Targets(tables)
    for child in tables:
        for column in child.column_names:
            if (child.id, column) in taken:
                continue
            link = _spelled_out(database, child, column, targets)
            kinds = [] if link else list(_by_kind(database, child, column, targets))
            if link is None and not kinds:
                link = _hinted(database, child, column, targets)
            yield from kinds
            if link is not None:
                yield link


# What names suggest


def _words(name: str) -> tuple[str, ...]:
    """A name's words in small letters, whatever parts them."""
    apart = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name)
    return tuple(part.casefold() for part in re.findall(r"[^\W_]+", apart))


def _forms(plain: str) -> set[str]:
    """A word in one and in many."""
    forms = {plain}
    if plain.endswith("ies"):
        forms.add(plain[:-3] + "y")
    if plain.endswith("es"):
        forms.add(plain[:-2])
    if plain.endswith("s"):
        forms.add(plain[:-1])
    if plain.endswith("y"):
        forms.add(plain[:-1] + "ies")
    return forms | {f"{plain}s", f"{plain}es"}


def _plain(name: str) -> str:
    return re.sub(r"[\W_]+", "", name).casefold()


def _spelled_out(database: Database, child: Table, column: str, targets: _Targets) -> Link | None:
    """The link to a table that a column's name spells out, wholly or in its last words."""
    words = _words(column)
    found: list[_Target] = [t for t in targets.called(_plain(column)) if t.table is not child]
    for start in range(len(words)):
        rest = "".join(words[start:])
        for end in range(len(rest) - 1, 1, -1):
            ending = rest[end:]
            found += [
                target
                for target in targets.called(rest[:end])
                if ending in _KEY_ENDINGS or ending == _plain(target.key)
            ]
    for target in dict.fromkeys(t for t in found if _may_point(child, column, t)):
        link = _link(child, column, target)
        if _leads_somewhere(database, child, target.table, link, least=1):
            return link
    return None


def _hinted(database: Database, child: Table, column: str, targets: _Targets) -> Link | None:
    """The one link that a column's name hints at and its values bear out."""
    borne_out = []
    for target in dict.fromkeys(_hints(child, column, targets)):
        link = _link(child, column, target)
        if _may_point(child, column, target) and _leads_somewhere(
            database, child, target.table, link, least=_LEAST_HINTED
        ):
            borne_out.append(link)
    return borne_out[0] if len(borne_out) == 1 else None


def _hints(child: Table, column: str, targets: _Targets) -> Iterator[_Target]:
    words = tuple(word for word in _words(column) if word not in _KEY_ENDINGS)
    plain = _plain(column)
    if words and words[0] in _OWN:
        yield from (target for target in targets.all if target.table is child)
    elif words and (words[-1] == "by" or words[-1] in _DOERS):
        yield from targets.people
    for ending in _KEY_ENDINGS:
        stem = plain.removesuffix(ending)
        if stem == plain or not stem:
            continue
        for target in targets.all:
            if stem == target.initials or _abbreviates(stem, target):
                yield target


def _abbreviates(stem: str, target: _Target) -> bool:
    """Whether a stem is the beginning of a table's name, or of its last word."""
    if len(stem) < _SHORTEST_ABBREVIATION:
        return False
    return "".join(target.words).startswith(stem) or target.words[-1].startswith(stem)


def _may_point(child: Table, column: str, target: _Target) -> bool:
    """Whether a column's type allows it, and it is not the table's own key."""
    declared, key = child.column(column), target.table.column(target.key)
    if target.table is child and column == target.key:
        return False
    if declared is None or key is None or "any" in (declared.type.kind, key.type.kind):
        return True
    return declared.type.is_number == key.type.is_number


def _link(child: Table, column: str, target: _Target) -> Link:
    return Link(child.id, (column,), target.table.id, (target.key,))


# What values say


def _leads_somewhere(
    database: Database, child: Table, parent: Table, link: Link, *, least: int
) -> bool:
    """Whether nearly all of the values seen, and so many at least, are keys of the parent."""
    try:
        values = database.rows.distinct_values(
            child, link.columns[0], _SAMPLED_VALUES, link.when and (link.when,)
        )
        hits = sum(
            database.rows.count_matching(parent, ((link.parent_columns[0], value),), 1)
            for value in values
        )
    except Cancelled:
        raise
    except JondelError:
        return False
    return len(values) >= least and hits >= _LEAST_SHARE * len(values)


def _by_kind(database: Database, child: Table, column: str, targets: _Targets) -> Iterator[Link]:
    """Links of an id column beside a column that says into which table it points."""
    plain = _plain(column)
    if not plain.endswith("id") or plain == "id":
        return
    stem = plain[:-2]
    kinds = {f"{stem}{end}" for end in ("type", "kind", "table", "class", "entity", "model")}
    beside = next((name for name in child.column_names if _plain(name) in kinds), None)
    if beside is None:
        return
    try:
        found = database.rows.distinct_values(child, beside, _MOST_KINDS)
    except Cancelled:
        raise
    except JondelError:
        return
    for kind in found:
        if not isinstance(kind, str):
            continue
        for target in targets.called(_plain(kind.rsplit(".", 1)[-1])):
            link = _link(child, column, target)._replace(when=(beside, kind))
            if _leads_somewhere(database, child, target.table, link, least=1):
                yield link
                break
