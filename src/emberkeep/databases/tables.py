"""Contents of tables as XML, so that they are merged as any file of records is; and what a merged one means in SQL.

::

    <TABLE>
      <row COLUMN="value" …/>      one a row, in the order of the primary key; null: no such attribute

Names are spelled as SQL/XML maps identifiers (ISO 9075-14, ``_xHHHH_`` for what XML allows in no name). A value is
text; binary ones are in hex; a backslash is doubled, and what XML cannot hold is ``\\uHHHH``.
"""

from __future__ import annotations

import re
import sqlite3
import xml.etree.ElementTree as ET
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol
from xml.sax.saxutils import quoteattr

from emberkeep.databases import mariadb, sqlite
from emberkeep.databases.mariadb import Connection, Value
from emberkeep.errors import Place, UnreadableInput

_START = re.compile(r"[A-Za-z_]")
_NAME = re.compile(r"[\w.-]", re.ASCII)
_MAPPED = re.compile(r"_x([0-9A-Fa-f]{4,6})_")
_NO_XML = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]|\\")
_ESCAPED = re.compile(r"\\(?:\\|u([0-9a-f]{4}))")


@dataclass(frozen=True)
class Shape:
    """A table's columns that may be written, which of them are binary, and its primary key."""

    name: str
    columns: tuple[str, ...]
    binary: frozenset[str]
    key: tuple[str, ...]


Row = dict[str, Value]


class Source(Protocol):
    """A database whose tables are read and written row by row."""

    def names(self) -> list[str]:
        """Its tables."""
        ...

    def shape(self, table: str) -> Shape:
        """A table's columns and key."""
        ...

    def rows(self, shape: Shape) -> Iterator[Row]:
        """The rows of a table, with the columns of ``shape``, in the order of its key."""
        ...

    def write(self, sql: str, values: Sequence[Value]) -> int:
        """Run one statement of :func:`statements`; how many rows it met."""
        ...

    def quoted(self, name: str) -> str:
        """A name as its SQL spells it."""
        ...

    @property
    def mark(self) -> str:
        """What stands for a value in its SQL."""
        ...


@dataclass(frozen=True)
class Served:
    """A database of a server."""

    connection: Connection
    mark: str = "%s"
    only: frozenset[str] | None = None
    """The tables that count; None for all."""

    def names(self) -> list[str]:
        """Tables of the schema."""
        return [one.name for one in self.connection.tables() if self.only is None or one.name in self.only]

    def shape(self, table: str) -> Shape:
        """Columns and primary key, from information_schema."""
        columns = [column for column in self.connection.columns(table) if not column.made]
        binary = frozenset(column.name for column in columns if column.binary)
        names = tuple(column.name for column in columns)
        return Shape(table, names, binary, tuple(self.connection.key(table)))

    def rows(self, shape: Shape) -> Iterator[Row]:
        """Rows in the order of the key, values as the connection gives them."""
        order = ", ".join(map(mariadb.quoted, shape.key))
        columns = ", ".join(map(mariadb.quoted, shape.columns))
        for row in self.connection.rows(f"select {columns} from {mariadb.quoted(shape.name)} order by {order}"):
            yield dict(zip(shape.columns, row, strict=True))

    def write(self, sql: str, values: Sequence[Value]) -> int:
        """Run one statement with values; how many rows it changed."""
        return self.connection.execute(sql, values)

    def quoted(self, name: str) -> str:
        """A name between backticks."""
        return mariadb.quoted(name)


@dataclass(frozen=True)
class InFile:
    """A SQLite database."""

    database: sqlite3.Connection
    mark: str = "?"
    only: frozenset[str] | None = None

    def names(self) -> list[str]:
        """Tables of the file, SQLite's own left out."""
        return [name for name in sqlite.tables(self.database) if self.only is None or name in self.only]

    def shape(self, table: str) -> Shape:
        """Columns and primary key, from table_info."""
        rows = self.database.execute(f"pragma table_info({sqlite.quoted(table)})").fetchall()
        if not rows:
            raise UnreadableInput(f"there is no table {table}", place=Place("SQLite database"))
        key = tuple(row[1] for row in sorted(rows, key=lambda row: int(row[5])) if row[5])
        binary = frozenset(row[1] for row in rows if "blob" in str(row[2]).lower())
        return Shape(table, tuple(row[1] for row in rows), binary, key)

    def rows(self, shape: Shape) -> Iterator[Row]:
        """Rows in the order of the key; values as text, but for blobs."""
        order = ", ".join(map(sqlite.quoted, shape.key))
        columns = ", ".join(map(sqlite.quoted, shape.columns))
        for row in self.database.execute(f"select {columns} from {sqlite.quoted(shape.name)} order by {order}"):
            yield {name: _plain(value) for name, value in zip(shape.columns, row, strict=True)}

    def write(self, sql: str, values: Sequence[Value]) -> int:
        """Run one statement with values; how many rows it changed."""
        return self.database.execute(sql, list(values)).rowcount

    def quoted(self, name: str) -> str:
        """A name between double quotes."""
        return sqlite.quoted(name)


def _plain(value: object) -> Value:
    return value if value is None or isinstance(value, bytes) else str(value)


# --- to XML and back -------------------------------------------------------------


def xml_name(name: str) -> str:
    """An identifier as XML spells it."""
    made = _MAPPED.sub(lambda found: f"_x005F_{found[0][1:]}", name)
    first = made[:1] if _START.match(made) else f"_x{ord(made[:1]):04X}_"
    return first + "".join(sign if _NAME.match(sign) else f"_x{ord(sign):04X}_" for sign in made[1:])


def plain_name(name: str) -> str:
    """The identifier again."""
    return _MAPPED.sub(lambda found: chr(int(found[1], 16)), name)


def to_xml(source: Source, shape: Shape, further: Mapping[tuple[object, ...], Row] | None = None) -> bytes:
    """The contents of a table, of the columns of ``shape``. ``further``: what other columns hold, by key."""
    lines = [f"<{xml_name(shape.name)}>"]
    more = [*next(iter(further.values()), {})] if further else []
    names = {column: xml_name(column) for column in (*shape.columns, *more)}
    for row in source.rows(shape):
        if further:
            row = {**row, **further.get(tuple(row[name] for name in shape.key), {})}
        attributes = " ".join(
            f"{names[column]}={_spelled(value)}" for column, value in row.items() if value is not None
        )
        lines.append(f"  <row {attributes}/>")
    lines.append(f"</{xml_name(shape.name)}>\n")
    return "\n".join(lines).encode("utf-8")


def _spelled(value: Value) -> str:
    text = value.hex() if isinstance(value, bytes) else str(value)
    text = _NO_XML.sub(lambda found: "\\\\" if found[0] == "\\" else f"\\u{ord(found[0]):04x}", text)
    return quoteattr(text, {"\n": "&#10;", "\r": "&#13;", "\t": "&#9;", '"': "&quot;"})


def from_xml(data: bytes, shape: Shape, place: str) -> list[Row]:
    """The rows of a merged table. UnreadableInput for what is none."""
    try:
        root = ET.fromstring(data)
    except ET.ParseError as error:
        raise UnreadableInput(f"this merged table cannot be read: {error}", place=Place(place)) from error
    found = []
    for element in root:
        texts = {plain_name(name): value for name, value in element.attrib.items()}
        odd = [name for name in texts if name not in shape.columns]
        if element.tag != "row" or odd:
            raise UnreadableInput(
                f"this merged table has a column {odd[0] if odd else element.tag}", place=Place(place)
            )
        found.append(
            {name: _value(texts[name], name in shape.binary) if name in texts else None for name in shape.columns}
        )
    return found


def _value(text: str, binary: bool) -> Value:
    plain = _ESCAPED.sub(lambda found: chr(int(found[1], 16)) if found[1] else "\\", text)
    return bytes.fromhex(plain) if binary else plain


# --- what it means -----------------------------------------------------------------


@dataclass(frozen=True)
class Writing:
    """A statement that changes one row."""

    sql: str
    values: tuple[Value, ...]


def statements(source: Source, shape: Shape, mine: Sequence[Row], merged: Sequence[Row]) -> list[Writing]:
    """What makes the rows ``mine`` the rows ``merged``: rows that go first, then those that change, then new ones."""
    before, after = _by_key(mine, shape), _by_key(merged, shape)
    table, mark = source.quoted(shape.name), source.mark
    where = " and ".join(f"{source.quoted(name)} = {mark}" for name in shape.key)
    gone = [Writing(f"delete from {table} where {where}", key) for key in before if key not in after]
    changed, new = [], []
    for key, row in after.items():
        old = before.get(key)
        if old is None:
            names = ", ".join(map(source.quoted, row))
            new.append(
                Writing(f"insert into {table} ({names}) values ({', '.join([mark] * len(row))})", tuple(row.values()))
            )
            continue
        other = {name: value for name, value in row.items() if value != old[name]}
        if other:
            sets = ", ".join(f"{source.quoted(name)} = {mark}" for name in other)
            changed.append(Writing(f"update {table} set {sets} where {where}", (*other.values(), *key)))
    return [*gone, *changed, *new]


def _by_key(rows: Sequence[Row], shape: Shape) -> Mapping[tuple[Value, ...], Row]:
    found: dict[tuple[Value, ...], Row] = {}
    for row in rows:
        key = tuple(row[name] for name in shape.key)
        if key in found:
            shown = ", ".join(map(str, key))
            raise UnreadableInput(f"two rows have the key {shown}", place=Place(shape.name))
        found[key] = row
    return found
