"""Differences of two SQLite databases: schema, and rows by primary key. SQLite itself compares: memory stays small."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from emberkeep.comparing.records import Difference, Kind
from emberkeep.databases import sqlite
from emberkeep.databases.sqlite import quoted
from emberkeep.documents.identity import value_text

SAMPLE = 20
"""Rows shown of each kind and table; all are counted."""
SCHEMA = "(schema)"
ROWS = "(rows)"
ROW = "(row)"
_LONGEST = 200


@dataclass(frozen=True)
class _Table:
    """A table's columns, and those that identify a row: its primary key, none when it has no key."""

    name: str
    columns: tuple[str, ...]
    key: tuple[str, ...]


def compare_databases(left: Path, right: Path, name: str) -> list[Difference]:
    """All differences from ``left`` to ``right``. UnreadableInput when one is locked, torn or no database."""
    with sqlite.opened(left, f"{name} (left)") as first, sqlite.opened(right, f"{name} (right)") as second:
        return [*_schema(first, second), *_all_rows(first, second)]


def compare_rows(left: Path, right: Path) -> list[Difference]:
    """The same of rows alone."""
    with sqlite.opened(left) as first, sqlite.opened(right) as second:
        return _all_rows(first, second)


def _all_rows(first: sqlite3.Connection, second: sqlite3.Connection) -> list[Difference]:
    """Differences of the rows of the tables that both have."""
    found: list[Difference] = []
    shared = [table for table in sqlite.tables(first) if table in sqlite.tables(second)]
    sides = {table: (_table(first, table), _table(second, table)) for table in shared}
    database_file = second.execute("pragma database_list").fetchone()[2]
    first.execute("pragma temp_store = file")
    first.execute("attach ? as other", (Path(database_file).as_uri() + "?mode=ro",))
    for here, there in sides.values():
        columns = tuple(column for column in here.columns if column in there.columns)
        key = here.key if here.key == there.key else ()
        found += _rows(first, _Table(here.name, columns, key))
    return found


def _schema(left: sqlite3.Connection, right: sqlite3.Connection) -> Iterator[Difference]:
    """Tables, indexes, views and triggers that came, went or are told otherwise; a table's columns one by one."""
    lefts, rights = _definitions(left), _definitions(right)
    for key in sorted({*lefts, *rights}):
        kind, name = key
        old, new = lefts.get(key), rights.get(key)
        if old == new:
            continue
        if old is not None and new is not None and kind == "table":
            columns = list(_columns(left, right, name))
            yield from columns
            if columns:
                continue
        which = Kind.ADDED if old is None else Kind.REMOVED if new is None else Kind.CHANGED
        yield Difference(f"{kind} {value_text(name)}", SCHEMA, which, old, new, None)
        if kind == "table" and which is not Kind.CHANGED:
            side = right if old is None else left
            count = _counted(side.execute(f"select count(*) from {quoted(name)}").fetchone()[0])
            before, after = _on_side(which, count)
            yield Difference(value_text(name), ROWS, which, before, after, None)


def _definitions(database: sqlite3.Connection) -> dict[tuple[str, str], str]:
    rows = database.execute("select type, name, sql from sqlite_master where sql is not null").fetchall()
    return {(kind, name): " ".join(sql.split()) for kind, name, sql in rows if not name.startswith("sqlite_")}


def _columns(left: sqlite3.Connection, right: sqlite3.Connection, table: str) -> Iterator[Difference]:
    sides = []
    for database in (left, right):
        rows = database.execute(f"pragma table_info({quoted(table)})").fetchall()
        sides.append(
            {row[1]: " ".join(str(part) for part in (row[2], "not null" if row[3] else "") if part) for row in rows}
        )
    for name in dict.fromkeys([*sides[0], *sides[1]]):
        old, new = sides[0].get(name), sides[1].get(name)
        if old != new:
            kind = Kind.ADDED if old is None else Kind.REMOVED if new is None else Kind.CHANGED
            yield Difference(f"table {value_text(table)}", f"column {name}", kind, old, new, None)


def _table(database: sqlite3.Connection, name: str) -> _Table:
    rows = database.execute(f"pragma table_info({quoted(name)})").fetchall()
    key = [row[1] for row in sorted(rows, key=lambda row: int(row[5])) if row[5]]
    return _Table(name, tuple(row[1] for row in rows), tuple(key))


def _rows(database: sqlite3.Connection, table: _Table) -> list[Difference]:
    if not table.columns:
        return []
    return list(_keyed(database, table) if table.key else _unkeyed(database, table))


def _keyed(database: sqlite3.Connection, table: _Table) -> Iterator[Difference]:
    """Rows by primary key."""
    name = quoted(table.name)
    same_key = " and ".join(f"a.{quoted(column)} is b.{quoted(column)}" for column in table.key)
    for kind, here, there in ((Kind.REMOVED, "main", "other"), (Kind.ADDED, "other", "main")):
        where = f"from {here}.{name} a where not exists (select 1 from {there}.{name} b where {same_key})"
        yield from _sampled(database, table, kind, where)
    rest = [column for column in table.columns if column not in table.key]
    if not rest:
        return
    differs = " or ".join(f"a.{quoted(column)} is not b.{quoted(column)}" for column in rest)
    joined = f"from main.{name} a join other.{name} b on {same_key} where {differs}"
    count = database.execute(f"select count(*) {joined}").fetchone()[0]
    if not count:
        return
    yield Difference(value_text(table.name), ROWS, Kind.CHANGED, None, _counted(count), None)
    wanted = ", ".join(f"a.{quoted(c)}" for c in table.key)
    values = ", ".join(f"a.{quoted(c)}, b.{quoted(c)}" for c in rest)
    for row in database.execute(f"select {wanted}, {values} {joined} order by {_key_order(table)} limit {SAMPLE}"):
        label = _label(table, row[: len(table.key)])
        pairs = row[len(table.key) :]
        for at, column in enumerate(rest):
            old, new = pairs[2 * at], pairs[2 * at + 1]
            if old != new or type(old) is not type(new):
                yield Difference(label, column, Kind.CHANGED, _shown(old), _shown(new), None)


def _sampled(database: sqlite3.Connection, table: _Table, kind: Kind, where: str) -> Iterator[Difference]:
    count = database.execute(f"select count(*) {where}").fetchone()[0]
    if not count:
        return
    counted = _counted(count)
    yield Difference(value_text(table.name), ROWS, kind, *_on_side(kind, counted), None)
    columns = ", ".join(f"a.{quoted(column)}" for column in table.columns)
    for row in database.execute(f"select {columns} {where} order by {_key_order(table)} limit {SAMPLE}"):
        values = dict(zip(table.columns, row, strict=True))
        label = _label(table, [values[column] for column in table.key])
        text = ", ".join(f"{column} {_shown(value)}" for column, value in values.items() if column not in table.key)
        yield Difference(label, ROW, kind, *_on_side(kind, text), None)


def _unkeyed(database: sqlite3.Connection, table: _Table) -> Iterator[Difference]:
    """A table without primary key is a heap of rows: which values it holds more or less often."""
    columns = ", ".join(quoted(column) for column in table.columns)
    name = quoted(table.name)
    heaps = {side: f"select {columns}, count(*) from {side}.{name} group by {columns}" for side in ("main", "other")}
    for kind, here, there in ((Kind.REMOVED, "main", "other"), (Kind.ADDED, "other", "main")):
        only = f"{heaps[here]} except {heaps[there]}"
        count = database.execute(f"select count(*) from ({only})").fetchone()[0]
        if not count:
            continue
        counted = f"{_counted(count)} of different values"
        yield Difference(value_text(table.name), ROWS, kind, *_on_side(kind, counted), None)
        for row in database.execute(f"{only} order by {columns} limit {SAMPLE}"):
            text = ", ".join(f"{c} {_shown(value)}" for c, value in zip(table.columns, row[:-1], strict=True))
            again = f" ({row[-1]} times)" if row[-1] > 1 else ""
            yield Difference(f"{value_text(table.name)}[]", ROW, kind, *_on_side(kind, text + again), None)


def _key_order(table: _Table) -> str:
    return ", ".join(f"a.{quoted(column)}" for column in table.key)


def _counted(rows: int) -> str:
    return f"{rows} row{'' if rows == 1 else 's'}"


def _on_side(kind: Kind, text: str) -> tuple[str | None, str | None]:
    return (None, text) if kind is Kind.ADDED else (text, None)


def _label(table: _Table, key: object) -> str:
    values = list(key) if isinstance(key, (list, tuple)) else [key]
    parts = [f"{column}={value_text(_shown(value))}" for column, value in zip(table.key, values, strict=True)]
    return f"{value_text(table.name)}[{','.join(parts)}]"


def _shown(value: object) -> str:
    if value is None:
        return "null"
    if isinstance(value, bytes):
        return f"x'{value[:16].hex()}{'…' if len(value) > 16 else ''}'"
    text = str(value)
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"
