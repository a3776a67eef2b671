"""Reads configuration files for the databases they name. Nothing in them is executed."""

from __future__ import annotations

import ast
import configparser
import json
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from jondel.core.find.settings import Setting, from_parts, from_url, with_account

_LARGEST_BYTES = 1 << 20
_DEEPEST = 12
_VARIABLE = re.compile(r"\$\{([^}:]+)(?::-?([^}]*))?\}")
_ERB = re.compile(r"<%.*?%>", re.DOTALL)
_IMAGES = re.compile(r"(?:^|/)(postgres|postgis|pgvector|timescaledb|mysql|mariadb)(?:[:@-]|$)")
_CONNECTION_STRING = re.compile(r"\b(host|server|data source)\s*=", re.IGNORECASE)
_PARTS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("engine", ("CONNECTION", "ENGINE", "DRIVER", "DIALECT", "TYPE", "ADAPTER", "CLIENT")),
    ("host", ("HOST", "HOSTNAME", "SERVER")),
    ("port", ("PORT",)),
    ("name", ("DATABASE", "NAME", "DB", "DBNAME", "DATABASE_NAME", "SCHEMA_NAME")),
    ("user", ("USERNAME", "USER", "USER_NAME")),
    ("password", ("PASSWORD", "PASS")),
)
_PREFIXES: tuple[tuple[str, str], ...] = (
    ("DB_", ""), ("DATABASE_", ""), ("POSTGRES_", "postgresql"), ("POSTGRESQL_", "postgresql"),
    ("PG", "postgresql"), ("MYSQL_", "mysql"), ("MARIADB_", "mysql"),
)  # fmt: skip


def settings_in(path: Path) -> list[Setting]:
    """The databases that a file names; none where it cannot be understood."""
    reader = _reader_of(path)
    if reader is None:
        return []
    with suppress(OSError, ValueError, RecursionError, SyntaxError):
        if path.stat().st_size <= _LARGEST_BYTES:
            text = path.read_text("utf-8", errors="replace")
            return _different(reader(text, path))
    return []


def settings_of_variables(variables: Mapping[str, str]) -> list[Setting]:
    """The databases that environment variables, or a file of them, name."""
    found: list[Setting] = []
    for name, value in variables.items():
        url = from_url(value)
        if url:
            found.append(Setting(url, name))
    for prefix, engine in _PREFIXES:
        parts = _parts_of({n[len(prefix) :]: v for n, v in variables.items()
                           if n.startswith(prefix)})  # fmt: skip
        url = from_parts(parts.pop("engine", None) or engine, parts)
        # A lone name is no sign of a database, but of a file's.
        if url and (len(parts) > 1 or url.startswith("sqlite:")):
            found.append(Setting(url, f"{prefix}…"))
    return _different(found)


def _parts_of(values: Mapping[str, Any]) -> dict[str, str | None]:
    known = {str(name).upper(): value for name, value in values.items()}
    parts: dict[str, str | None] = {}
    for part, names in _PARTS:
        value = next((known[n] for n in names if known.get(n) not in (None, "")), None)
        if isinstance(value, str | int):
            parts[part] = str(value)
    return parts


def _different(found: list[Setting] | Iterator[Setting]) -> list[Setting]:
    kept: dict[str, Setting] = {}
    for setting in found:
        kept.setdefault(setting.url, setting)
    return list(kept.values())


_Reader = Callable[[str, Path], Iterator[Setting] | list[Setting]]


def _reader_of(path: Path) -> _Reader | None:
    name = path.name.lower()
    if name == ".env" or name.startswith(".env.") or name.endswith(".env"):
        return _of_variables
    if name.endswith(".properties"):
        return _of_properties
    if name.endswith((".yml", ".yaml")):
        return _of_compose if "compose" in name else _of_yaml
    if name.endswith(".py") and ("settings" in name or path.parent.name in ("settings", "config")
                                 or name in ("config.py", "database.py", "db.py")):  # fmt: skip
        return _of_python
    if name.endswith((".ini", ".cfg")):
        return _of_ini
    if name.endswith(".toml"):
        return lambda text, _: _of_tree(tomllib.loads(text))
    if name.endswith(".json") and not name.endswith("-lock.json"):
        return lambda text, _: _of_tree(json.loads(text))
    return None


def _of_variables(text: str, path: Path) -> list[Setting]:
    from io import StringIO

    from dotenv import dotenv_values  # seldom needed

    values = dotenv_values(stream=StringIO(text))
    return settings_of_variables({name: value for name, value in values.items() if value})


def _of_properties(text: str, path: Path) -> Iterator[Setting]:
    values: dict[str, str] = {}
    for line in map(str.strip, text.splitlines()):
        if line and line[0] not in "#!":
            sign = "=" if "=" in line else ":"
            key, _, given = line.partition(sign)
            values[key.strip()] = _filled_in(given.strip())
    for name, value in values.items():
        url = from_url(value)
        if url:
            stem = name.rpartition(".")[0].removesuffix(".jdbc")
            account = [values.get(f"{stem}.{word}", "") for word in ("username", "password")]
            account[0] = account[0] or values.get(f"{stem}.user", "")
            yield Setting(with_account(url, *account), name)


def _of_yaml(text: str, _: Path) -> Iterator[Setting]:
    import yaml  # seldom needed

    try:
        documents = list(yaml.safe_load_all(_ERB.sub("", text)))
    except yaml.YAMLError as error:
        raise ValueError("no YAML") from error
    for document in documents:
        yield from _of_tree(document)


def _of_compose(text: str, _: Path) -> Iterator[Setting]:
    import yaml  # seldom needed

    try:
        tree = yaml.safe_load(text)
    except yaml.YAMLError as error:
        raise ValueError("no YAML") from error
    services = tree.get("services") if isinstance(tree, dict) else None
    for name, service in (services if isinstance(services, dict) else {}).items():
        image = _IMAGES.search(str(service.get("image", ""))) if isinstance(service, dict) else None
        if image is None:
            continue
        given = service.get("environment") or {}
        if isinstance(given, list):
            given = dict(str(entry).partition("=")[::2] for entry in given)
        variables = {str(k): _filled_in(str(v)) for k, v in given.items() if v is not None}
        engine = "postgresql" if image[1] not in ("mysql", "mariadb") else "mysql"
        prefixes = ("POSTGRES_",) if engine == "postgresql" else ("MYSQL_", "MARIADB_")
        port = _published(service.get("ports"), "5432" if engine == "postgresql" else "3306")
        if port is None:
            continue  # it cannot be reached from here
        parts = _parts_of({n.removeprefix(p): v for p in prefixes
                           for n, v in variables.items() if n.startswith(p)})  # fmt: skip
        user = parts.get("user") or ("postgres" if engine == "postgresql" else "root")
        url = from_parts(
            engine,
            {**parts, "user": user, "name": parts.get("name") or user, "host": "localhost",
             "port": port},
        )  # fmt: skip
        yield Setting(url, f"services.{name}")


def _published(ports: object, inside: str) -> str | None:
    """The port of this machine that leads to one inside."""
    for entry in ports if isinstance(ports, list) else []:
        if isinstance(entry, dict):
            if str(entry.get("target")) == inside and entry.get("published"):
                return str(entry["published"])
            continue
        parts = _filled_in(str(entry)).partition("/")[0].split(":")
        if len(parts) > 1 and parts[-1] == inside:
            return parts[-2]
    return None


def _of_ini(text: str, _: Path) -> Iterator[Setting]:
    parser = configparser.ConfigParser(interpolation=None, strict=False)
    try:
        parser.read_string(text)
    except configparser.Error as error:
        raise ValueError("no INI") from error
    for section in parser.sections():
        for name, value in parser.items(section):
            url = from_url(value)
            if url:
                yield Setting(url, f"{section}.{name}")


def _of_tree(tree: object, place: tuple[str, ...] = ()) -> Iterator[Setting]:
    """URLs, connection strings and groups of parts anywhere in a tree of settings."""
    if len(place) > _DEEPEST:
        return
    if isinstance(tree, dict):
        given = {str(name): value for name, value in tree.items()}
        parts = _parts_of(given)
        account = parts.get("user") or "", parts.get("password") or ""
        url = from_parts(parts.pop("engine", None) or "", parts)
        if url:
            yield Setting(url, ".".join(place))
        for name, value in given.items():
            for setting in _of_tree(value, (*place, name)):
                under = len(setting.place.split(".")) == len(place) + 1
                yield (
                    setting._replace(url=with_account(setting.url, *account)) if under else setting
                )
    elif isinstance(tree, list):
        for number, value in enumerate(tree):
            yield from _of_tree(value, (*place, str(number)))
    elif isinstance(tree, str):
        text = _filled_in(tree)
        url = from_url(text) or _from_connection_string(text)
        if url:
            yield Setting(url, ".".join(place))


def _from_connection_string(text: str) -> str:
    """A URL of ``Host=…;Database=…``, as .NET writes it."""
    if ";" not in text or not _CONNECTION_STRING.search(text):
        return ""
    values = dict(part.strip().partition("=")[::2] for part in text.split(";") if "=" in part)
    known = {
        name.strip().upper().replace(" ", "_"): value.strip() for name, value in values.items()
    }
    if "HOST" not in known:
        return ""  # another engine's
    parts = _parts_of({**known, "USER": known.get("USERNAME") or known.get("USER_ID")})
    return from_parts("postgresql", parts)


def _filled_in(text: str) -> str:
    """A text with the defaults of variables that it mentions."""
    import os

    return _VARIABLE.sub(lambda found: os.environ.get(found[1], found[2] or ""), text)


def _of_python(text: str, path: Path) -> Iterator[Setting]:
    for node in ast.walk(ast.parse(text)):
        if not isinstance(node, ast.Assign | ast.AnnAssign) or node.value is None:
            continue
        targets = node.targets if isinstance(node, ast.Assign) else [node.target]
        names = [t.id if isinstance(t, ast.Name) else getattr(t, "attr", "") for t in targets]
        value = _plain(node.value, path)
        if isinstance(value, str):
            url = from_url(value)
            if url:
                yield Setting(url, names[0])
        elif names[0] == "DATABASES" and isinstance(value, dict):
            for alias, given in value.items():
                yield from _of_tree(given, ("DATABASES", str(alias)))


def _plain(node: ast.expr, path: Path) -> Any:
    """What an expression comes to, as far as that can be told without running it."""
    match node:
        case ast.Constant(value):
            return value
        case ast.Dict(keys, values):
            return {
                _plain(key, path): _plain(value, path)
                for key, value in zip(keys, values, strict=True)
                if key is not None
            }
        case ast.JoinedStr() | ast.Name() | ast.Attribute():
            # Frameworks call the project's folder so: that of the settings' package is in it.
            is_base = getattr(node, "id", "").upper() in ("BASE_DIR", "PROJECT_ROOT", "ROOT_DIR")
            return str(path.resolve().parent.parent) if is_base else None
        case ast.BinOp(left, ast.Div(), right):
            folder, name = _plain(left, path), _plain(right, path)
            return f"{folder}/{name}" if folder and name else None
        case ast.Call(function, arguments):
            return _called(function, [_plain(a, path) for a in arguments], node, path)
    return None


def _called(function: ast.expr, arguments: list[Any], node: ast.Call, path: Path) -> Any:
    """The value of a variable of the environment, else the default that is given for it."""
    import os

    name = ast.unparse(function)
    if name in ("str", "Path", "pathlib.Path"):
        return arguments[0] if arguments else None
    if name.endswith("os.path.join"):
        return "/".join(map(str, arguments)) if all(arguments) else None
    default = next((_plain(k.value, path) for k in node.keywords if k.arg == "default"), None)
    if arguments and isinstance(arguments[0], str):
        fallback = arguments[1] if len(arguments) > 1 else default
        return os.environ.get(arguments[0]) or fallback
    return default
