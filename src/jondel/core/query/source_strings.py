"""The strings in source files of several languages, with what is filled into them at run time."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple


class SourceString(NamedTuple):
    """A text that a source file has as literals.

    ``line`` is where it begins, from 1. ``hole`` says what is filled in at run time, empty where
    nothing is. ``called`` is the function that it is handed to, where that can be told, and
    ``arguments`` how many values go with it there. ``is_script``: it is all of a file of SQL.
    """

    text: str
    line: int
    hole: str = ""
    called: str = ""
    arguments: int | None = None
    is_script: bool = False


class Language(NamedTuple):
    """How a language writes strings.

    ``comments`` and ``strings`` are patterns; a string's has the groups ``body`` and, where it can
    hold them, ``raw`` for one without escapes. ``hole`` is what is filled in within a string, in
    those kinds that ``holds`` names by how they begin. ``joins`` puts two strings together.
    """

    comments: str
    strings: Sequence[tuple[str, str]]
    hole: str = r"(?!)"
    joins: str = r"\+"
    escapes: bool = True


_DOUBLE = r'"(?P<{0}>(?:[^"\\\n]|\\.)*)"'
_SINGLE = r"'(?P<{0}>(?:[^'\\\n]|\\.)*)'"
_BACKTICK = r"`(?P<{0}>(?:[^`\\]|\\.)*)`"
_RAW_BACKTICK = r"`(?P<{0}>[^`]*)`"
_TRIPLE = r'"""(?P<{0}>.*?)"""'
_C_COMMENTS = r"//[^\n]*|/\*.*?(?:\*/|\Z)"
_HERE = r"[^\n]*\n(?P<{0}>.*?)\n\s*(?P={0}tag)\b"
_LANGUAGES: dict[str, Language] = {
    "javascript": Language(_C_COMMENTS, (("plain", _DOUBLE), ("plain", _SINGLE),
                                         ("filled", _BACKTICK)), r"\$\{"),
    "java": Language(_C_COMMENTS, (("block", _TRIPLE), ("plain", _DOUBLE))),
    "kotlin": Language(_C_COMMENTS, (("block filled", _TRIPLE), ("filled", _DOUBLE)),
                       r"\$(?:\{|[A-Za-z_])"),
    "go": Language(_C_COMMENTS, (("raw", _RAW_BACKTICK), ("plain", _DOUBLE))),
    "php": Language(rf"{_C_COMMENTS}|#[^\n]*",
                    (("raw filled", r"<<<\"?(?P<{0}tag>\w+)\"?\n(?P<{0}>.*?)\n\s*(?P={0}tag)\b"),
                     ("raw", r"<<<'(?P<{0}tag>\w+)'\n(?P<{0}>.*?)\n\s*(?P={0}tag)\b"),
                     ("filled", r'"(?P<{0}>(?:[^"\\]|\\.)*)"'),
                     ("plain", r"'(?P<{0}>(?:[^'\\]|\\.)*)'")),
                    r"\$(?:\{|[A-Za-z_])|\{\$", r"\."),
    "ruby": Language(r"#(?!\{)[^\n]*",
                     (("raw filled", r"<<[~-]?(?P<{0}tag>[A-Z]\w*)\b" + _HERE),
                      ("raw", r"<<[~-]?'(?P<{0}tag>\w+)'" + _HERE),
                      ("filled", r'"(?P<{0}>(?:[^"\\]|\\.)*)"'),
                      ("plain", r"'(?P<{0}>(?:[^'\\]|\\.)*)'")), r"#\{", r"\+|\\\n"),
    "csharp": Language(_C_COMMENTS,
                       (("raw filled", r'\$+"""(?P<{0}>.*?)"""'), ("raw", _TRIPLE),
                        ("verbatim filled", r'(?:\$@|@\$)"(?P<{0}>(?:[^"]|"")*)"'),
                        ("verbatim", r'@"(?P<{0}>(?:[^"]|"")*)"'),
                        ("filled", r'\$"(?P<{0}>(?:[^"\\\n]|\\.)*)"'), ("plain", _DOUBLE)),
                       r"\{(?!\{)"),
}  # fmt: skip
_BY_ENDING = {
    ".js": "javascript", ".mjs": "javascript", ".cjs": "javascript", ".jsx": "javascript",
    ".ts": "javascript", ".tsx": "javascript", ".mts": "javascript", ".java": "java",
    ".kt": "kotlin", ".kts": "kotlin", ".go": "go", ".php": "php", ".rb": "ruby", ".cs": "csharp",
}  # fmt: skip
ENDINGS = frozenset((*_BY_ENDING, ".py"))
"""Of files whose strings can be found."""
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "0": "\0", "b": "\b", "f": "\f", "v": "\v", "a": "\a"}
_CALL = re.compile(r"([A-Za-z_]\w*)\s*(?:<[^<>()]*>)?\s*\(\s*(?:[\w.]+\s*,\s*)?\Z")


def strings_in(source: str, ending: str) -> list[SourceString]:
    """The strings of a source file, by the ending of its name.

    Raises:
        SyntaxError: it cannot be understood.
    """
    if ending == ".py":
        return _of_python(source)
    return list(_of_others(source, _LANGUAGES[_BY_ENDING[ending]]))


# Python has its own reader of its source


def _of_python(source: str) -> list[SourceString]:
    try:
        tree = ast.parse(source)
    except (ValueError, RecursionError, MemoryError) as error:
        raise SyntaxError(str(error)) from error
    found: list[SourceString] = []
    _visit(tree, found)
    return sorted(found, key=lambda string: string.line)


def _visit(node: ast.AST, found: list[SourceString]) -> None:
    stack: list[tuple[ast.AST, str, int | None]] = [(node, "", None)]
    while stack:
        current, called, arguments = stack.pop()
        text = _python_text(current)
        if text is not None:
            words, hole = text
            line = getattr(current, "lineno", 1)
            found.append(SourceString(words, line, hole, called, None if hole else arguments))
            continue
        if isinstance(current, ast.Expr) and isinstance(current.value, ast.Constant):
            continue  # says something to people
        if isinstance(current, ast.Call):
            name = _called(current.func)
            count = _argument_count(current)
            for number, argument in enumerate(current.args):
                stack.append((argument, name, count if number == 0 else None))
            stack += [(keyword.value, name, None) for keyword in current.keywords]
            stack.append((current.func, "", None))
            continue
        for name in current._fields:
            child = getattr(current, name, None)
            if isinstance(child, list):
                stack += [(one, "", None) for one in child if isinstance(one, ast.AST)]
            elif isinstance(child, ast.AST) and not isinstance(child, _WITHOUT_STRINGS):
                stack.append((child, "", None))


_WITHOUT_STRINGS = (ast.Name, ast.expr_context, ast.operator, ast.cmpop, ast.boolop, ast.unaryop)


def _called(function: ast.expr) -> str:
    if isinstance(function, ast.Attribute):
        return function.attr
    return function.id if isinstance(function, ast.Name) else ""


def _argument_count(call: ast.Call) -> int | None:
    """How many values are given in order with a statement, where they are written there."""
    if not call.args or _called(call.func) not in ("execute", "raw", "query", "fetch", "fetchrow"):
        return None
    if len(call.args) == 1:
        return None if call.keywords else 0
    given = call.args[1]
    if isinstance(given, ast.Tuple | ast.List) and not any(
        isinstance(item, ast.Starred) for item in given.elts
    ):
        return len(given.elts)
    return None


def _python_text(node: ast.AST) -> tuple[str, str] | None:
    """A text that is written as literals, and what is filled into it; None for anything else."""
    if isinstance(node, ast.Constant):
        return (node.value, "") if isinstance(node.value, str) else None
    if isinstance(node, ast.JoinedStr):
        parts, hole = [], ""
        for value in node.values:
            if isinstance(value, ast.Constant):
                parts.append(str(value.value))
            else:
                hole = hole or _shown(value)
                parts.append("{}")
        return "".join(parts), hole
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        left, right = _python_text(node.left), _python_text(node.right)
        if left is None and right is None:
            return None
        words = (left or ("", ""))[0] + (right or ("", ""))[0]
        hole = (left or ("", ""))[1] or (right or ("", ""))[1]
        if left is None or right is None:
            hole = hole or _shown(node.left if left is None else node.right)
        return words, hole
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mod):
        left = _python_text(node.left)
        return None if left is None else (left[0], _shown(node.right))
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
        inner = _python_text(node.func.value)
        if inner is not None and node.func.attr in ("format", "format_map", "join"):
            return inner[0], f".{node.func.attr}(…)"
        if inner is not None and node.func.attr in ("strip", "lstrip", "rstrip"):
            return inner
    return None


def _shown(node: ast.AST) -> str:
    try:
        return ast.unparse(node)[:60]
    except (ValueError, RecursionError):
        return "an expression"


# Others by their tokens


def _of_others(source: str, language: Language) -> Iterator[SourceString]:
    pattern, kinds = _pattern(language)
    position, line_at, line = 0, 0, 1
    current: list[tuple[str, str]] = []
    began, first_line, last_end = 0, 1, -1
    for match in pattern.finditer(source):
        if match["comment"] is not None:
            continue
        name = next(group for group in kinds if match[group] is not None)
        line += source.count("\n", line_at, match.start(name))
        line_at = match.start(name)
        text, hole = _decoded(match[name], kinds[name], language)
        between = source[last_end : match.start()] if last_end >= 0 else ""
        joined = bool(current) and re.fullmatch(
            rf"\s*(?:{language.joins})\s*", between, re.DOTALL
        ) is not None  # fmt: skip
        if current and not joined:
            yield _whole(source, current, began, first_line, last_end, language)
            current = []
        if not current:
            began, first_line = match.start(), line
        current.append((text, hole))
        last_end = match.end()
        position = match.end()
    if current:
        yield _whole(source, current, began, first_line, position, language)


def _whole(
    source: str,
    parts: Sequence[tuple[str, str]],
    began: int,
    line: int,
    end: int,
    language: Language,
) -> SourceString:
    text = "".join(words for words, _ in parts)
    hole = next((hole for _, hole in parts if hole), "")
    before, after = source[max(0, began - 200) : began], source[end : end + 80]
    if not hole and re.match(rf"\s*(?:{language.joins})\s*[^\s\"'`]", after):
        hole = after.strip().splitlines()[0][:60]
    if not hole and re.search(rf"[\w)\]]\s*(?:{language.joins})\s*\Z", before):
        hole = "what stands before it"
    if not hole and re.match(r"\s*\.\s*(?:format|formatted|replace|concat|sprintf)\b", after):
        hole = after.strip()[:60]
    called = _CALL.search(before)
    return SourceString(text, line, hole, called[1] if called else "")


def _pattern(language: Language) -> tuple[re.Pattern[str], dict[str, str]]:
    known = _patterns.get(language.comments + repr(language.strings))
    if known is None:
        parts, kinds = [f"(?P<comment>{language.comments})"], {}
        for number, (kind, form) in enumerate(language.strings):
            name = f"s{number}"
            kinds[name] = kind
            parts.append(form.replace("{0}", name))
        known = re.compile("|".join(parts), re.DOTALL), kinds
        _patterns[language.comments + repr(language.strings)] = known
    return known


_patterns: dict[str, tuple[re.Pattern[str], dict[str, str]]] = {}


def _decoded(body: str, kind: str, language: Language) -> tuple[str, str]:
    """A string's text, and what is filled into it."""
    hole = ""
    if "filled" in kind:
        found = re.search(rf"(?<!\\)(?:{language.hole})", body)
        hole = body[found.start() : found.start() + 40].split("\n")[0] if found else ""
    if kind.startswith("verbatim"):
        return body.replace('""', '"'), hole
    if kind.startswith("raw"):
        return body, hole
    return re.sub(r"\\(u[0-9a-fA-F]{4}|x[0-9a-fA-F]{2}|\n|.)", _escape, body, flags=re.DOTALL), hole


def _escape(match: re.Match[str]) -> str:
    code = match[1]
    if len(code) > 1:
        return chr(int(code[1:], 16))
    return "" if code == "\n" else _ESCAPES.get(code, code)
