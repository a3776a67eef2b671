"""Statements as an app's code has them: with literals, with marks, as a call of a common driver."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import NamedTuple

from jondel.core.model.statements import Statement
from jondel.core.model.values import Exact, InvalidText, StoredValue
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.values_in_sql import MarkStyle, literal, styled


class CodeForm(NamedTuple):
    """A way to carry a statement into code."""

    title: str
    write: Callable[[Statement, Dialect], str]


def _literals(statement: Statement, dialect: Dialect) -> str:
    parts = [statement.texts[0]]
    for argument, text in zip(statement.arguments, statement.texts[1:], strict=True):
        parts += [literal(argument.value, dialect.forms), text]
    return "".join(parts)


def _marked(style: MarkStyle) -> Callable[[Statement, Dialect], str]:
    def write(statement: Statement, dialect: Dialect) -> str:
        text, arguments = styled(statement, style)
        if not arguments:
            return text
        listed = ", ".join(literal(value, dialect.forms) for _, value in arguments)
        return f"{text}\n-- values: {listed}"

    return write


def _call(
    style: MarkStyle,
    call: Callable[[str, Sequence[str]], str],
    text_of: Callable[[str], str],
    value_of: Callable[[StoredValue], str],
) -> Callable[[Statement, Dialect], str]:
    def write(statement: Statement, dialect: Dialect) -> str:
        text, arguments = styled(statement, style)
        return call(text_of(text), [value_of(value) for _, value in arguments])  # type: ignore[arg-type]

    return write


def _json_text(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def _python_text(text: str) -> str:
    if "\n" in text and '"""' not in text and "\\" not in text and not text.endswith('"'):
        return f'"""\n{text}\n"""'
    return repr(text)


def _python_value(value: StoredValue) -> str:
    if isinstance(value, Exact | InvalidText):
        return repr(value.text if isinstance(value, Exact) else value.raw)
    return repr(value)


def _script_text(text: str) -> str:
    if "\n" in text and "`" not in text and "\\" not in text and "${" not in text:
        return f"`\n{text}\n`"
    return _json_text(text)


def _number_or_text(value: StoredValue, null: str, blob: Callable[[bytes], str],
                    text: Callable[[str], str] = _json_text) -> str:  # fmt: skip
    match value:
        case None:
            return null
        case bytes() | InvalidText():
            return blob(value if isinstance(value, bytes) else value.raw)
        case int() | float():
            return repr(value)
        case Exact("boolean", words):
            return words
        case _:
            return text(str(value))


def _hex(value: bytes) -> str:
    return value.hex()


def _java_text(text: str) -> str:
    return " +\n    ".join(_json_text(line) for line in text.splitlines(keepends=True)) or '""'


def _php_text(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace("'", "\\'")
    return f"'{escaped}'"


def _ruby_text(text: str) -> str:
    return _json_text(text).replace("#{", "\\#{")


def _go_text(text: str) -> str:
    return f"`{text}`" if "`" not in text and "\n" in text else _json_text(text)


def _cs_text(text: str) -> str:
    doubled = text.replace('"', '""')
    return f'@"{doubled}"'


def _list(values: Sequence[str]) -> str:
    return ", ".join(values)


def _python_call(text: str, values: Sequence[str]) -> str:
    given = f", ({_list(values)}{',' if len(values) == 1 else ''})" if values else ""
    return f"cursor.execute({text}{given})"


def _javascript_call(text: str, values: Sequence[str]) -> str:
    return f"const rows = db.prepare({text}).all({_list(values)});"


def _java_call(text: str, values: Sequence[str]) -> str:
    sets = "".join(f"statement.setObject({n}, {v});\n" for n, v in enumerate(values, 1))
    return f"var statement = connection.prepareStatement(\n    {text});\n{sets}statement.execute();"


def _go_call(text: str, values: Sequence[str]) -> str:
    return f"rows, err := db.Query({', '.join([text, *values])})"


def _php_call(text: str, values: Sequence[str]) -> str:
    return f"$statement = $pdo->prepare({text});\n$statement->execute([{_list(values)}]);"


def _ruby_call(text: str, values: Sequence[str]) -> str:
    return f"rows = db.execute({text}, [{_list(values)}])"


def _cs_call(text: str, values: Sequence[str]) -> str:
    adds = "".join(
        f'command.Parameters.AddWithValue("${n}", {v});\n' for n, v in enumerate(values, 1)
    )
    return f"command.CommandText = {text};\n{adds}using var reader = command.ExecuteReader();"


CODE_FORMS: tuple[CodeForm, ...] = (
    CodeForm("SQL with literals", _literals),
    CodeForm("SQL with ? and the values", _marked("?")),
    CodeForm("SQL with :names and the values", _marked(":name")),
    CodeForm("SQL with $1 and the values", _marked("$1")),
    CodeForm("SQL with %s and the values", _marked("%s")),
    CodeForm("Python", _call("?", _python_call, _python_text, _python_value)),
    CodeForm("Python, with %s", _call("%s", _python_call, _python_text, _python_value)),
    CodeForm("JavaScript", _call("?", _javascript_call, _script_text, lambda v: _number_or_text(
        v, "null", lambda b: f"Buffer.from({_json_text(_hex(b))}, 'hex')"))),
    CodeForm("Java", _call("?", _java_call, _java_text, lambda v: _number_or_text(
        v, "null", lambda b: f"HexFormat.of().parseHex({_json_text(_hex(b))})"))),
    CodeForm("Go", _call("?", _go_call, _go_text, lambda v: _number_or_text(
        v, "nil", lambda b: "[]byte{" + ", ".join(f"0x{x:02x}" for x in b) + "}"))),
    CodeForm("PHP", _call("?", _php_call, _php_text, lambda v: _number_or_text(
        v, "null", lambda b: f"hex2bin('{_hex(b)}')", _php_text))),
    CodeForm("Ruby", _call("?", _ruby_call, _ruby_text, lambda v: _number_or_text(
        v, "nil", lambda b: f"[{_json_text(_hex(b))}].pack('H*')", _ruby_text))),
    CodeForm("C#", _call("$1", _cs_call, _cs_text, lambda v: _number_or_text(
        v, "DBNull.Value", lambda b: f"Convert.FromHexString({_json_text(_hex(b))})", _cs_text))),
)  # fmt: skip
