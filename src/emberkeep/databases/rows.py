"""Reading dumps: which tables, with which columns and keys, what stands around them, and the rows line by line.

Only what :mod:`dump` writes is read so: one row a line, with or without the ``INSERT`` on that line, strings with
backslash escapes, binary values in hex.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from emberkeep.databases.mariadb import Value
from emberkeep.databases.statements import Splitter, lines
from emberkeep.errors import Place, UnreadableInput

_NAME = rb"`((?:``|[^`])*)`"
_COLUMN = re.compile(rb"\s+" + _NAME + rb" (.*?),?\n")
_CREATE = re.compile(rb"CREATE TABLE " + _NAME + rb" \(\n")
_PRIMARY = re.compile(rb"\s+PRIMARY KEY \((.*)\)")
_IN_KEY = re.compile(_NAME)
_PART = re.compile(rb"\s+(?:PRIMARY KEY|(?:UNIQUE |FULLTEXT |SPATIAL )?(?:KEY|INDEX)|CONSTRAINT|PERIOD)\b")
_COUNTER = re.compile(rb" AUTO_INCREMENT=\d+")
_MADE = re.compile(
    rb"\b(TRIGGER|FUNCTION|PROCEDURE|EVENT|VIEW)\s+(?:IF NOT EXISTS\s+)?(`(?:``|[^`])+`|[\w$]+)", re.IGNORECASE
)
_SETTING = re.compile(rb"(?:/\*!\d+ )?(?:SET|DROP|DELIMITER)\b", re.IGNORECASE)
_INSERT = re.compile(rb"INSERT INTO " + _NAME + rb" (?:\((.*?)\) )?VALUES(?:\n|( \())")
_TOKEN = re.compile(
    rb"(?P<string>(?:_\w+ )?'(?P<body>(?:[^'\\]|\\.|'')*)')|(?P<hex>0x[0-9A-Fa-f]*)|(?P<null>NULL)|(?P<plain>[^,()']+)",
    re.DOTALL,
)
_ESCAPED = re.compile(rb"\\(.)|''", re.DOTALL)
_ESCAPES = {b"0": b"\0", b"n": b"\n", b"r": b"\r", b"t": b"\t", b"Z": b"\x1a", b"b": b"\b"}


@dataclass(frozen=True)
class Table:
    """A table of a dump. ``columns``: how each is told, in order; ``parts``: keys and constraints as they are told;
    ``options``: what stands behind the bracket, without the counter of its keys."""

    name: str
    columns: dict[str, str] = field(default_factory=dict)
    key: tuple[str, ...] = ()
    parts: tuple[str, ...] = ()
    options: str = ""


class Row(NamedTuple):
    """A row of a dump: of which table, its values as ``(…)``, and the columns they are of, where the dump tells."""

    table: str
    line: bytes
    names: bytes = b""


Made = dict[tuple[str, str], str]
"""What stands around tables, by kind (``view trigger function procedure event``) and name: as it is told."""


@dataclass
class Structure:
    """The structure of a dump, once its rows have been read."""

    tables: dict[str, Table] = field(default_factory=dict)
    made: Made = field(default_factory=dict)


def unquoted(name: bytes) -> str:
    """A name as it is, without backticks."""
    if name.startswith(b"`"):
        name = name[1:-1]
    return name.replace(b"``", b"`").decode("utf-8", "backslashreplace")


def rows(chunks: Iterable[bytes], structure: Structure) -> Iterator[Row]:
    """The rows of a dump; what is no row goes into ``structure``."""
    splitter = Splitter()
    table, names = "", b""
    head = b""  # what a row's line begins with; "" between statements
    for line in lines(chunks):
        if head and line.startswith(head):
            splitter.line += 1
            end = -2 if line.endswith((b");\n", b"),\n")) else len(line)
            yield Row(table, line[len(head) - 1 : end], names)
            if head == b"(" and line.endswith(b");\n"):
                head = b""
            continue
        found = _INSERT.match(line) if splitter.between else None
        if found is not None:
            table, names = unquoted(found[1]), found[2] or b""
            head = found[0] if found[3] else b"("
            splitter.line += 1
            if found[3]:
                yield Row(table, line[len(head) - 1 : -2], names)
            continue
        head = b""
        for statement in splitter.feed(line):
            _record_statement(statement.text, structure)


def _record_statement(text: bytes, structure: Structure) -> None:
    if text.startswith(b"CREATE TABLE "):
        table = table_of(text)
        if table is not None:
            structure.tables[table.name] = table
        return
    if _SETTING.match(text):
        return
    found = _MADE.search(text)
    if found is not None and b"CREATE" in text[: found.start()].upper():
        statement = " ".join(re.sub(rb"\*/|/\*!\d+", b" ", text).decode("utf-8", "backslashreplace").split())
        structure.made[found[1].decode().lower(), unquoted(found[2])] = statement


def table_of(text: bytes) -> Table | None:
    """A table from the statement that makes it, as the server tells it; None for one told otherwise."""
    begun = _CREATE.match(text)
    if begun is None:
        return None
    columns: dict[str, str] = {}
    parts: list[str] = []
    key: tuple[str, ...] = ()
    rest = b""
    for line in lines([text[begun.end() :] + b"\n"]):
        if line.startswith(b")"):
            rest = _COUNTER.sub(b"", line[1:])
        elif _PART.match(line):
            primary = _PRIMARY.match(line)
            key = tuple(unquoted(name) for name in _IN_KEY.findall(primary[1])) if primary else key
            parts.append(line.decode("utf-8", "backslashreplace").strip().rstrip(","))
        elif column := _COLUMN.match(line):
            columns[unquoted(column[1])] = column[2].decode("utf-8", "backslashreplace")
        else:
            parts.append(line.decode("utf-8", "backslashreplace").strip().rstrip(","))
    return Table(unquoted(begun[1]), columns, key, tuple(parts), rest.decode("utf-8", "backslashreplace").strip())


def values(row: Row, columns: Iterable[str]) -> dict[str, Value]:
    """The values of a row by column: text as ``str``, hex as ``bytes``, numbers as they are told. UnreadableInput for
    what is no such row."""
    line = row.line
    names = [unquoted(name) for name in re.findall(rb"`(?:``|[^`])*`", row.names)] if row.names else list(columns)
    found: list[Value] = []
    at = 1
    while True:
        token = _TOKEN.match(line, at)
        if token is None:
            raise UnreadableInput("a value in this line of the dump cannot be read", place=Place("dump"))
        found.append(_value(token))
        at = token.end()
        if line[at : at + 1] != b",":
            break
        at += 1
    if len(found) != len(names):
        raise UnreadableInput("a row of the dump has other columns than its table", place=Place("dump"))
    return dict(zip(names, found, strict=True))


def _value(token: re.Match[bytes]) -> Value:
    if token["null"]:
        return None
    if token["hex"]:
        digits = token["hex"][2:]
        return bytes.fromhex((digits if len(digits) % 2 == 0 else b"0" + digits).decode())
    if token["plain"]:
        return token["plain"].decode("ascii", "backslashreplace").strip()
    return unescaped(token["body"]).decode("utf-8", "backslashreplace")


def unescaped(body: bytes) -> bytes:
    """A string's contents as they are."""
    if b"\\" not in body and b"''" not in body:
        return body
    return _ESCAPED.sub(lambda found: _ESCAPES.get(found[1], found[1]) if found[1] else b"'", body)
