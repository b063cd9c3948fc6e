"""What keep.toml may hold: what its readers ask for, joined with the words of ``reference.toml``.

``reference.toml`` is a keep.toml that holds every key once. Its readers are run over it, and note each key that they
ask for, with its type, default and choices; the comments above the keys are the words. So neither can name what the
other does not know, and a test sees to it that none lacks.
"""

from __future__ import annotations

import importlib.resources
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any

from emberkeep.keep.config import config_of
from emberkeep.keep.locate import SCHEMA
from emberkeep.keep.toml_reader import TEXT, Ask, Asked, parsed, parts_of

CHOSEN = "*"
"""Stands in a path for a name that the admin chooses."""


@dataclass(frozen=True)
class Key:
    """One key. ``name``: with dots, where it stands within a value that is a table; ``path``: below its table;
    ``what``: its type in words; ``default``: in words, "" for none; ``example``: a line of keep.toml; ``others``: other
    ways to write it."""

    name: str
    path: tuple[str, ...]
    words: str
    what: str
    default: str = ""
    choices: tuple[str, ...] = ()
    required: bool = False
    example: str = ""
    others: tuple[str, ...] = ()


@dataclass(frozen=True)
class Table:
    """One table, with its keys in the order in which they are best read. ``header``: as it stands in keep.toml, with
    NAME or GLOB for what the admin chooses, "" for what stands above all tables; ``example``: with a name instead."""

    header: str
    example: str
    path: tuple[str, ...]
    words: str
    used_by: str
    keys: tuple[Key, ...]

    @property
    def name(self) -> str:
        """Its header without what the admin chooses."""
        return self.path[0] if self.path else ""


@dataclass
class _Comment:
    """The comment above a header or a key, taken apart."""

    words: str = ""
    used_by: str = ""
    inner: dict[tuple[str, ...], str] = field(default_factory=dict)
    others: list[str] = field(default_factory=list)


@dataclass
class _Line:
    """A header or a key of the reference, by its full path."""

    path: tuple[str, ...]
    text: str
    comment: _Comment
    header: bool


_HEADER = re.compile(r"(\[\[?)([^\[\]]+)\]\]?$")
_INNER = re.compile(r"#   \.([\w.-]+): (.+)")


@cache
def tables() -> tuple[Table, ...]:
    """Every table of keep.toml."""
    text = _text()
    lines = list(_lines(text))
    asked = _asked(text, lines)
    chosen = {path for path, asks in asked.items() if any(ask.chosen for ask in asks)}
    asks = _joined(asked, chosen)
    found: dict[tuple[str, ...], Table] = {(): Table("", "", (), "", "", ())}
    for line in lines:
        path = _general(line.path, chosen)
        if line.header:
            comment = line.comment
            found.setdefault(path, Table(_header(line, path), line.text, path, comment.words, comment.used_by, ()))
            continue
        table = next(found[path[:end]] for end in range(len(path), -1, -1) if path[:end] in found)
        known = {key.path for key in table.keys}
        further = tuple(key for key in _keys(line, path, len(table.path), asks) if key.path not in known)
        found[table.path] = replace(table, keys=(*table.keys, *further))
    return tuple(found.values())


def _header(line: _Line, path: tuple[str, ...]) -> str:
    if CHOSEN not in path:
        return line.text
    return f'[{path[0]}."GLOB"]' if "*" in line.path[1] else f"[{path[0]}.NAME]"


def asked_for() -> dict[tuple[str, ...], Ask]:
    """All that the readers of keep.toml ask for, by path; names that the admin chooses are ``CHOSEN``."""
    text = _text()
    asked = _asked(text, list(_lines(text)))
    return _joined(asked, {path for path, asks in asked.items() if any(ask.chosen for ask in asks)})


def shipped_schema() -> bytes:
    """:func:`schema` as it is shipped, so that nobody waits for it to be made."""
    return importlib.resources.files("emberkeep.keep").joinpath(SCHEMA).read_bytes()


def schema() -> dict[str, Any]:
    """A JSON Schema (draft 2020-12) of keep.toml, by which editors complete and check it."""
    words = {(*table.path, *key.path): key.words for table in tables() for key in table.keys}
    words |= {table.path: table.words for table in tables()}
    root = _node((), asked_for(), words)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "keep.toml of Ember Keep",
        **root,
        "required": ["format", "server"],
    }


def _text() -> str:
    return importlib.resources.files("emberkeep.keep").joinpath("reference.toml").read_text(encoding="utf-8")


def _lines(text: str) -> Iterator[_Line]:
    """Headers and keys, each on a line of its own, with the comments directly above them."""
    table: tuple[str, ...] = ()
    above: list[str] = []
    for line in text.splitlines():
        if line.startswith("#"):
            above.append(line)
        elif header := _HEADER.match(line):
            table = parts_of(header[2])
            yield _Line(table, line, _comment(above), True)
            above = []
        elif " = " in line:
            yield _Line((*table, *parts_of(line.partition(" = ")[0])), line, _comment(above), False)
            above = []
        else:
            above = []


def _comment(lines: Sequence[str]) -> _Comment:
    found = _Comment()
    words = []
    for line in lines:
        if inner := _INNER.match(line):
            found.inner[tuple(inner[1].split("."))] = inner[2]
        elif line.startswith("# Or: "):
            found.others.append(line.removeprefix("# Or: "))
        elif line.startswith("# Used by: "):
            found.used_by = line.removeprefix("# Used by: ")
        else:
            words.append(line.removeprefix("# "))
    found.words = " ".join(words)
    return found


def _asked(text: str, lines: Sequence[_Line]) -> Asked:
    """What is asked for by any reader: of the reference as it stands, and with each other way to write a key."""
    asked: Asked = {}
    texts = [text, *(text.replace(line.text, other, 1) for line in lines for other in line.comment.others)]
    for one in texts:
        config_of(parsed(one, "reference.toml"), one, Path("reference.keep/keep.toml"), asked)
    return asked


def _general(path: tuple[str, ...], chosen: set[tuple[str, ...]]) -> tuple[str, ...]:
    return tuple(CHOSEN if path[: end + 1] in chosen else part for end, part in enumerate(path))


def _joined(asked: Asked, chosen: set[tuple[str, ...]]) -> dict[tuple[str, ...], Ask]:
    gathered: dict[tuple[str, ...], list[Ask]] = {}
    for path, asks in asked.items():
        gathered.setdefault(_general(path, chosen), []).extend(asks)
    return {path: _one(asks) for path, asks in gathered.items()}


def _one(asks: Sequence[Ask]) -> Ask:
    """What is known of a key that was asked for in several ways: a text that must fit a pattern is no mere text."""
    kinds = {ask.what: ask for ask in asks}
    closer = {ask.kind for ask in asks if ask.what not in _PLAIN}
    left = [ask for what, ask in kinds.items() if what not in _PLAIN or ask.kind not in closer]
    choices = next((ask.choices for ask in asks if ask.choices), ())
    default = next((ask.default for ask in asks if ask.default is not None), None)
    every = tuple(kind for ask in left for kind in (ask.kind if isinstance(ask.kind, tuple) else (ask.kind,)))
    what = " or ".join(dict.fromkeys(ask.what for ask in left))
    return Ask(what, every[0] if len(every) == 1 else every, default, choices, any(ask.required for ask in asks))


_PLAIN = (TEXT, "a list of texts")


def _keys(line: _Line, path: tuple[str, ...], depth: int, asks: Mapping[tuple[str, ...], Ask]) -> Iterator[Key]:
    comment = line.comment
    name, ask = line.text.partition(" = ")[0], asks[path]
    default = _in_words(ask.default)
    others = tuple(comment.others)
    yield Key(name, path[depth:], comment.words, ask.what, default, ask.choices, ask.required, line.text, others)
    for inner, words in comment.inner.items():
        there = (*path, *(CHOSEN if part.isupper() else part for part in inner))
        ask = asks[there]
        shown = ".".join((name, *inner))
        yield Key(shown, there[depth:], words, ask.what, _in_words(ask.default), ask.choices, ask.required)


def _in_words(default: object) -> str:
    """A default as it would stand in keep.toml; "" for none."""
    if isinstance(default, timedelta):
        seconds = default.total_seconds()
        minutes, rest = divmod(seconds, 60)
        return "" if not seconds else f'"{seconds:g} s"' if rest or seconds < 60 else f'"{minutes:g} min"'
    if isinstance(default, bool):
        return "true" if default else "false"
    return f'"{default}"' if isinstance(default, str) and default else str(default) if default else ""


_TYPES: dict[type, str] = {str: "string", int: "integer", bool: "boolean", list: "array", dict: "object"}
_TYPES |= {date: "string", datetime: "string"}


def _node(path: tuple[str, ...], asks: Mapping[tuple[str, ...], Ask], words: Mapping[tuple[str, ...], str]) -> Any:
    """The schema of what stands at ``path``."""
    ask = asks.get(path)
    below = [other for other in asks if len(other) == len(path) + 1 and other[: len(path)] == path]
    kinds = [dict] if ask is None else [ask.kind] if isinstance(ask.kind, type) else list(ask.kind)
    found: dict[str, Any] = {"description": words[path]} if words.get(path) else {}
    types = list(dict.fromkeys(_TYPES[kind] for kind in kinds))
    found["type"] = types[0] if len(types) == 1 else types
    if ask and ask.choices:
        found["enum"] = list(ask.choices)
    if ask and ("list of texts" in ask.what or "list of lengths" in ask.what):
        found["items"] = {"type": "string"}
    if not below:
        return found
    inner = {other[-1]: _node(other, asks, words) for other in below}
    table = {"type": "object", **_members(inner, [other[-1] for other in below if asks[other].required])}
    return {**found, "items": table} if types == ["array"] else {**found, **table, "type": found["type"]}


def _members(inner: Mapping[str, Any], required: Iterable[str]) -> dict[str, Any]:
    fixed = {name: node for name, node in inner.items() if name != CHOSEN}
    found: dict[str, Any] = {"properties": fixed, "additionalProperties": inner.get(CHOSEN, False)}
    needed = sorted(name for name in required if name != CHOSEN)
    return {**found, "required": needed} if needed else found
