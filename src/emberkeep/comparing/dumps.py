"""Differences of two dumps of a database: structure, and rows by primary key.

Rows are told apart by a 64-bit hash of their lines; only those that the other side does not have are read further.
So memory is 8 bytes a row and side, and what differs is compared by SQLite on disk, as two SQLite databases are.
"""

from __future__ import annotations

import sqlite3
import tempfile
from array import array
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from emberkeep.comparing import rows as in_sqlite
from emberkeep.comparing.records import Difference, Kind
from emberkeep.comparing.rows import ROWS, SCHEMA
from emberkeep.databases import rows
from emberkeep.databases.dump import TableDump
from emberkeep.databases.rows import Row, Structure, Table
from emberkeep.databases.sqlite import quoted
from emberkeep.documents.identity import value_text

if TYPE_CHECKING:
    import numpy as np


@dataclass(frozen=True)
class Side:
    """One of two states of a database. ``read``: its dump, which is the same each time; ``tables``: what it holds, as
    counted when it was dumped."""

    label: str
    read: Callable[[], Iterator[bytes]]
    tables: Mapping[str, TableDump]


@dataclass
class _Read:
    """A dump read once. ``hashes``: of the lines of each table, in their order."""

    structure: Structure = field(default_factory=Structure)
    hashes: dict[str, array[int]] = field(default_factory=lambda: defaultdict(lambda: array("q")))


def compare_dumps(left: Side, right: Side) -> list[Difference]:
    """All differences from ``left`` to ``right``."""
    shared = [name for name in left.tables if name in right.tables]
    names = [name for name in shared if left.tables[name] != right.tables[name]]
    reads = [_hashed(side, names) for side in (left, right)]
    structures = (reads[0].structure, reads[1].structure)
    found = list(_structure(structures, (left.tables, right.tables)))
    if not names:
        return found
    alone = {name: _alone(*(read.hashes[name] for read in reads)) for name in names}
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
        paths = Path(room) / "left.db", Path(room) / "right.db"
        for at, side in enumerate((left, right)):
            _kept(side, names, {name: both[at] for name, both in alone.items()}, structures, paths[at])
        found += in_sqlite.compare_rows(*paths)
    return found


def _hashed(side: Side, names: Sequence[str]) -> _Read:
    found = _Read()
    tables, wanted = found.hashes, frozenset(names)
    for row in rows.rows(side.read(), found.structure):
        if row.table in wanted:
            tables[row.table].append(hash(row.line))
    return found


def _alone(left: array[int], right: array[int]) -> tuple[np.ndarray, np.ndarray]:
    """Which rows of each side the other one does not have just so often; their numbers, ascending."""
    import numpy as np

    sides = [np.frombuffer(side, np.int64) if len(side) else np.zeros(0, np.int64) for side in (left, right)]
    counts = [np.unique(side, return_counts=True) for side in sides]
    both, first, second = np.intersect1d(counts[0][0], counts[1][0], assume_unique=True, return_indices=True)
    alike = both[counts[0][1][first] == counts[1][1][second]]
    one, other = (np.flatnonzero(~np.isin(side, alike)) for side in sides)
    return one, other


def _kept(
    side: Side, names: Sequence[str], wanted: Mapping[str, np.ndarray], structures: tuple[Structure, ...], path: Path
) -> None:
    """The rows of a side that are wanted, as a SQLite database."""
    own = structures[0].tables
    both = [name for name in names if name in own and name in structures[1].tables]
    with closing(sqlite3.connect(path, isolation_level=None)) as database:
        database.execute("pragma journal_mode = off")
        database.execute("pragma synchronous = off")
        database.execute("begin")
        for name in both:
            columns = [column for column in own[name].columns if column in structures[1].tables[name].columns]
            key = own[name].key if own[name].key == structures[1].tables[name].key else ()
            told = [quoted(column) for column in columns]
            keyed = [f"primary key ({', '.join(map(quoted, key))})"] if key and set(key) <= set(columns) else []
            database.execute(f"create table {quoted(name)} ({', '.join([*told, *keyed])})")
        structure = Structure()
        numbers: Counter[str] = Counter()
        places = dict.fromkeys(both, 0)
        for row in rows.rows(side.read(), structure):
            number = numbers[row.table]
            numbers[row.table] += 1
            place = places.get(row.table)
            if place is None or place >= len(wanted[row.table]) or wanted[row.table][place] != number:
                continue
            places[row.table] = place + 1
            _insert(database, structure.tables[row.table], row, structures)
        database.execute("commit")


def _insert(database: sqlite3.Connection, table: Table, row: Row, structures: tuple[Structure, ...]) -> None:
    told = rows.values(row, table.columns)
    shared = [name for name in told if all(name in one.tables[table.name].columns for one in structures)]
    marks = ", ".join("?" * len(shared))
    names = ", ".join(map(quoted, shared))
    database.execute(
        f"insert into {quoted(table.name)} ({names}) values ({marks})",
        [told[name] for name in shared],
    )


# --- structure -------------------------------------------------------------------


def _structure(
    sides: tuple[Structure, Structure], counts: tuple[Mapping[str, TableDump], Mapping[str, TableDump]]
) -> Iterator[Difference]:
    left, right = sides
    for name in sorted({*left.tables, *right.tables}):
        old, new = left.tables.get(name), right.tables.get(name)
        if old is not None and new is not None:
            yield from _table(old, new)
            continue
        kind = Kind.ADDED if old is None else Kind.REMOVED
        yield Difference(f"table {value_text(name)}", SCHEMA, kind, *_on_side(kind, _columns(new or old)), None)
        rows_there = counts[0 if new is None else 1].get(name)
        if rows_there is not None and rows_there.rows:
            told = f"{rows_there.rows} row{'' if rows_there.rows == 1 else 's'}"
            yield Difference(value_text(name), ROWS, kind, *_on_side(kind, told), None)
    for key in sorted({*left.made, *right.made}):
        before, after = left.made.get(key), right.made.get(key)
        if before != after:
            kind = Kind.ADDED if before is None else Kind.REMOVED if after is None else Kind.CHANGED
            yield Difference(f"{key[0]} {value_text(key[1])}", SCHEMA, kind, before, after, None)


def _columns(table: Table | None) -> str:
    return ", ".join(table.columns) if table is not None else ""


def _on_side(kind: Kind, text: str) -> tuple[str | None, str | None]:
    return (None, text) if kind is Kind.ADDED else (text, None)


def _table(old: Table, new: Table) -> Iterator[Difference]:
    name = f"table {value_text(old.name)}"
    for column in dict.fromkeys([*old.columns, *new.columns]):
        yield from _told(name, f"column {column}", old.columns.get(column), new.columns.get(column))
    for part in dict.fromkeys([*old.parts, *new.parts]):
        yield from _told(name, "key", part if part in old.parts else None, part if part in new.parts else None)
    yield from _told(name, "options", old.options, new.options)


def _told(name: str, what: str, old: str | None, new: str | None) -> Iterator[Difference]:
    if old != new:
        kind = Kind.ADDED if old is None else Kind.REMOVED if new is None else Kind.CHANGED
        yield Difference(name, what, kind, old, new, None)
