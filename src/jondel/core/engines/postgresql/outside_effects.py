"""Recognises what a statement does outside of its transaction, which no rollback undoes.

By its words and by the functions that it calls, also within the bodies of functions written in SQL
or PL/pgSQL (https://www.postgresql.org/docs/current/functions-admin.html lists the server's own).
SQL that a function puts together as it runs cannot be looked into.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.dialect import DIALECT
from jondel.core.sql.tokens import Token, without_comments

_KINDS: dict[str, str] = {
    "pg_notify": "sends a notification",
    "nextval": "moves a sequence",
    "setval": "moves a sequence",
    "lo_export": "writes a file of the server",
    "pg_file_write": "writes a file of the server",
    "pg_file_unlink": "removes a file of the server",
    "pg_file_rename": "renames a file of the server",
    "pg_file_sync": "writes a file of the server",
    "pg_logical_emit_message": "writes to the replication log",
    "pg_reload_conf": "has the server read its settings again",
    "pg_rotate_logfile": "turns over the server's log",
    "pg_cancel_backend": "stops another session",
    "pg_terminate_backend": "ends another session",
    "pg_promote": "makes a standby the primary",
    "pg_switch_wal": "turns over the server's log of changes",
    "pg_create_restore_point": "writes to the server's log of changes",
    "pg_log_backend_memory_contexts": "writes to the server's log",
    "pg_logical_slot_get_changes": "moves a replication slot",
    "pg_logical_slot_get_binary_changes": "moves a replication slot",
    "pg_prewarm": "fills the server's memory",
}
_PATTERNS = (
    (re.compile(r"pg_(try_)?advisory_\w+"), "takes or frees an advisory lock"),
    (re.compile(r"dblink\w*"), "works on another server"),
    (re.compile(r"postgres_fdw_disconnect\w*"), "ends connections to other servers"),
    (re.compile(r"pg_(create|drop|copy)_\w*replication_slot\w*|pg_replication_slot_advance"),
     "makes, moves or removes a replication slot"),
    (re.compile(r"pg_replication_origin_\w+"), "changes what is known of a replication"),
    (re.compile(r"pg_(backup_|start_backup|stop_backup|wal_replay_)\w*"),
     "begins or ends a mode of the whole server"),
    (re.compile(r"pg_stat\w*_reset\w*"), "sets statistics back"),
)  # fmt: skip
_FIRST_WORDS: dict[str, str] = {
    "NOTIFY": "sends a notification",
    "LOAD": "loads a library into the server",
    "VACUUM": "cannot be rolled back",
    "CLUSTER": "cannot be rolled back",
    "CHECKPOINT": "cannot be rolled back",
}
_TWO_WORDS: dict[tuple[str, str], str] = {
    ("ALTER", "SYSTEM"): "changes settings of the server",
    ("CREATE", "DATABASE"): "cannot be rolled back",
    ("DROP", "DATABASE"): "cannot be rolled back",
    ("ALTER", "DATABASE"): "cannot be rolled back",
    ("CREATE", "TABLESPACE"): "cannot be rolled back",
    ("DROP", "TABLESPACE"): "cannot be rolled back",
    ("CREATE", "SUBSCRIPTION"): "works on another server",
    ("ALTER", "SUBSCRIPTION"): "works on another server",
    ("DROP", "SUBSCRIPTION"): "works on another server",
    ("PREPARE", "TRANSACTION"): "outlives a rollback",
}
_KNOWN_LANGUAGES = frozenset({"sql", "plpgsql"})
_FUNCTIONS = """
SELECT p.proname, n.nspname, l.lanname, coalesce(p.prosrc, ''),
    EXISTS (SELECT 1 FROM pg_trigger t WHERE t.tgfoid = p.oid AND NOT t.tgisinternal
        AND t.tgenabled <> 'D')
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace JOIN pg_language l ON l.oid = p.prolang
WHERE n.nspname NOT IN ('pg_catalog', 'information_schema') AND NOT EXISTS
    (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid
        AND d.deptype = 'e')
"""


def outside_effect(sql: str) -> str:
    """What a statement itself does outside of its transaction, as in "COPY runs a program".

    Empty where nothing is recognised.
    """
    tokens = without_comments(sql, DIALECT.lexis)
    return _of_words(tokens) or _of_calls(_run_by(tokens)) or _of_block(tokens)


@dataclass
class OutsideEffects:
    """What the statements of a script do outside of their transaction, in one database."""

    functions: Mapping[str, list[tuple[str, str, str, bool]]]
    """By name: schema, language, body, and whether a trigger calls it."""
    _made: dict[str, str] = field(default_factory=dict)

    @classmethod
    def known_to(cls, connection: Connection) -> OutsideEffects:
        """With the functions that a database declares."""
        found: dict[str, list[tuple[str, str, str, bool]]] = {}
        for row in connection.execute(_FUNCTIONS).fetchall():
            name, schema, language, body, of_trigger = (part.decode("utf-8", "replace")
                                                        for part in row)  # fmt: skip
            found.setdefault(name, []).append((schema, language, body, of_trigger == "t"))
        return cls(found)

    def of(self, sql: str) -> str:
        """What a statement does, also by the functions that it calls; empty where nothing is
        recognised."""
        effect = outside_effect(sql)
        if effect:
            return effect
        tokens = without_comments(sql, DIALECT.lexis)
        for name in _run_by(tokens):
            effect = self._made.get(name, "") or self._by_function(name, frozenset())
            if effect:
                return f"{name}() is called: {effect}"
        self._take_note_of(tokens)
        return ""

    def unknown(self, scripts: Iterable[str]) -> list[str]:
        """What cannot be recognised, a line each: functions that cannot be looked into."""
        called = {name for sql in scripts for name in _run_by(without_comments(sql, DIALECT.lexis))}
        opaque, triggers = [], []
        for name, alike in self.functions.items():
            for schema, language, body, of_trigger in alike:
                effect = _of_body(body) if language in _KNOWN_LANGUAGES else ""
                if of_trigger and (effect or language not in _KNOWN_LANGUAGES):
                    triggers.append(f"{schema}.{name}()" + (f" ({effect})" if effect else ""))
                if name in called and (language not in _KNOWN_LANGUAGES or _is_dynamic(body)):
                    opaque.append(f"{schema}.{name}()")
        notes = []
        if opaque:
            notes.append(f"what {', '.join(sorted(opaque))} may do outside of the transaction is "
                         "not known, and would not be undone")  # fmt: skip
        if triggers:
            notes.append(f"triggers call {', '.join(sorted(triggers))}: what these do outside of "
                         "the transaction is not undone")  # fmt: skip
        return notes

    def _by_function(self, name: str, on_the_way: frozenset[str]) -> str:
        """What a function of the database does, or one that it calls."""
        if name in on_the_way:
            return ""
        for _, language, body, _ in self.functions.get(name, ()):
            if language not in _KNOWN_LANGUAGES:
                continue
            effect = _of_body(body)
            if effect:
                return effect
            for other in _called(without_comments(body, DIALECT.lexis)):
                effect = self._by_function(other, on_the_way | {name})
                if effect:
                    return effect
        return ""

    def _take_note_of(self, tokens: Sequence[Token]) -> None:
        """Remember a function that the script makes: it may be called further on."""
        if not tokens or not tokens[0].says("CREATE"):
            return
        kinds = [n for n, token in enumerate(tokens[:6]) if token.says("FUNCTION", "PROCEDURE")]
        name = _name_from(tokens, kinds[0] + 1) if kinds else ""
        effect = next(filter(None, map(_of_body, _strings(tokens))), "")
        if name and effect:
            self._made[name] = effect


def _of_words(tokens: Sequence[Token]) -> str:
    words = [token.text.upper() for token in tokens]
    if not words:
        return ""
    first, two = words[0], (words[0], words[1] if len(words) > 1 else "")
    if first == "COPY" and "PROGRAM" in words:
        return "COPY runs a program on the server"
    if first == "COPY" and "TO" in words and "STDOUT" not in words:
        return "COPY to a file writes a file of the server"
    if "CONCURRENTLY" in words[:6]:
        return "what is done CONCURRENTLY cannot be rolled back; without that word it can"
    if two in _TWO_WORDS:
        return f"{' '.join(two)} {_TWO_WORDS[two]}"
    if "PREPARED" in words[1:2]:
        return f"{first} PREPARED outlives a rollback"
    return f"{first} {_FIRST_WORDS[first]}" if first in _FIRST_WORDS else ""


def _of_calls(names: Collection[str]) -> str:
    for name in names:
        kind = _KINDS.get(name)
        if kind is None:
            kind = next((k for pattern, k in _PATTERNS if pattern.fullmatch(name)), "")
        if kind:
            return f"{name}() {kind}"
    return ""


def _of_block(tokens: Sequence[Token]) -> str:
    """What a DO does by its body."""
    if not tokens or not tokens[0].says("DO"):
        return ""
    languages = [tokens[n + 1].name.lower().strip("'") for n, token in enumerate(tokens[:-1])
                 if token.says("LANGUAGE")]  # fmt: skip
    if languages and languages[0] not in _KNOWN_LANGUAGES:
        return f"DO runs {languages[0]}, which may do anything on the server"
    return next(filter(None, map(_of_body, _strings(tokens))), "")


def _of_body(body: str) -> str:
    """What the body of a function in SQL or PL/pgSQL does."""
    tokens = without_comments(body, DIALECT.lexis)
    for statement in _pieces(tokens):
        # Within an expression a piece may begin with any name.
        is_one = statement and statement[0].says("COPY", "NOTIFY", "CREATE", "ALTER", "DROP")
        effect = (_of_words(statement) if is_one else "") or _of_calls(_called(statement))
        if effect:
            return effect
    if _is_dynamic(body):
        return next(filter(None, map(_of_body, _strings(tokens))), "")
    return ""


def _pieces(tokens: Sequence[Token]) -> Iterator[list[Token]]:
    """The statements of a body, and the parts of those that hold others."""
    piece: list[Token] = []
    for token in tokens:
        if token.text == ";" or token.says("BEGIN", "THEN", "ELSE", "LOOP", "DECLARE"):
            yield piece
            piece = []
        else:
            piece.append(token)
    yield piece


def _run_by(tokens: Sequence[Token]) -> list[str]:
    """The names of the functions that a statement calls when it is run: not those that it only
    declares something with."""
    words = [token.text.upper() for token in tokens]
    if words[:1] == ["CREATE"]:
        fills = "SELECT" in words and not {"TABLE", "MATERIALIZED"}.isdisjoint(words[:5])
        return _called(tokens) if fills else []
    return [] if words[:1] in (["ALTER"], ["COMMENT"], ["GRANT"], ["REVOKE"]) else _called(tokens)


def _called(tokens: Sequence[Token]) -> list[str]:
    """The names of the functions that are called, without their schemas."""
    called = []
    for token, after in pairwise(tokens):
        if token.is_name and after.text == "(":
            called.append(token.name if token.kind == "name" else token.text.lower())
    return list(dict.fromkeys(called))


def _name_from(tokens: Sequence[Token], at: int) -> str:
    """The last part of the name that begins at a token."""
    name = ""
    while at < len(tokens) and (tokens[at].is_name or tokens[at].text == "."):
        if tokens[at].is_name:
            name = tokens[at].name if tokens[at].kind == "name" else tokens[at].text.lower()
        at += 1
    return name


def _strings(tokens: Sequence[Token]) -> list[str]:
    """What stands in the strings of a statement."""
    return [_unquoted(token.text) for token in tokens if token.kind == "string"]


def _unquoted(text: str) -> str:
    if text.startswith("$"):
        tag = text[: text.index("$", 1) + 1]
        return text[len(tag) : -len(tag)]
    return text[text.index("'") + 1 : -1].replace("''", "'")


def _is_dynamic(body: str) -> bool:
    """Whether a body runs SQL that it puts together."""
    return any(token.says("EXECUTE") for token in without_comments(body, DIALECT.lexis))
