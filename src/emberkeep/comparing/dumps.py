"""Differences of two dumps of a database: structure, and rows by primary key.

Rows are told apart by a 64-bit hash of their lines; only those that the other side does not have are read further.
The hashes lie on disk and are compared part by part, so memory is a byte a row; what differs is compared by SQLite,
as two SQLite databases are.
"""

from __future__ import annotations

import sqlite3
import tempfile
from array import array
from collections import Counter
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


_BATCH = 1 << 16
AT_A_TIME = 1 << 20
"""Rows of a table that are compared at a time, about."""


@dataclass(frozen=True)
class Side:
    """One of two states of a database. ``read``: its dump, which is the same each time; ``tables``: what it holds, as
    counted when it was dumped."""

    label: str
    read: Callable[[], Iterator[bytes]]
    tables: Mapping[str, TableDump]


def compare_dumps(left: Side, right: Side) -> list[Difference]:
    """All differences from ``left`` to ``right``."""
    shared = [name for name in left.tables if name in right.tables]
    names = [name for name in shared if left.tables[name] != right.tables[name]]
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as name:
        room = Path(name)
        reads = [_hashed(side, names, room / str(at)) for at, side in enumerate((left, right))]
        structures = (reads[0].structure, reads[1].structure)
        found = list(_structure(structures, (left.tables, right.tables)))
        if not names:
            return found
        alone = {name: unmatched(*(read.hashes(name) for read in reads)) for name in names}
        paths = room / "left.db", room / "right.db"
        for at, side in enumerate((left, right)):
            _kept(side, names, {name: both[at] for name, both in alone.items()}, structures, paths[at])
        return found + in_sqlite.compare_rows(*paths)


# --- which rows differ -------------------------------------------------------------


@dataclass
class _Read:
    """A dump read once. In ``folder``, a file for each table with the hashes of its rows, in their order."""

    folder: Path
    structure: Structure = field(default_factory=Structure)
    _files: dict[str, Path] = field(default_factory=dict)

    def keep(self, table: str, hashes: array[int]) -> None:
        """Write down what is known of a table, behind what was."""
        path = self._files.setdefault(table, self.folder / str(len(self._files)))
        with path.open("ab") as handle:
            hashes.tofile(handle)

    def hashes(self, table: str) -> np.ndarray:
        """The hashes of a table's rows, which the system reads as they are asked for."""
        import numpy as np

        path = self._files.get(table)
        return np.zeros(0, np.int64) if path is None else np.memmap(path, np.int64, "r")


def _hashed(side: Side, names: Sequence[str], folder: Path) -> _Read:
    folder.mkdir()
    found, wanted = _Read(folder), frozenset(names)
    hashes, table = array("q"), ""
    for row in rows.rows(side.read(), found.structure):
        if row.table != table or len(hashes) >= _BATCH:
            if hashes:
                found.keep(table, hashes)
            hashes, table = array("q"), row.table
        if table in wanted:
            hashes.append(hash(row.line))
    if hashes:
        found.keep(table, hashes)
    return found


def unmatched(left: np.ndarray, right: np.ndarray) -> tuple[bytes, bytes]:
    """For each row of each side a byte: whether the other side does not have it just so often."""
    import numpy as np

    found = np.zeros(len(left), np.uint8), np.zeros(len(right), np.uint8)
    parts = 1
    while max(len(left), len(right)) > parts * AT_A_TIME:
        parts *= 2
    for part in range(parts):  # rows that are alike fall into the same part
        places = [_places(side, parts - 1, part) for side in (left, right)]
        one, other = (side[place] for side, place in zip((left, right), places, strict=True))
        for at, (mine, theirs) in enumerate(((one, other), (other, one))):
            found[at][places[at][_times(mine, mine) != _times(theirs, mine)]] = 1
    return found[0].tobytes(), found[1].tobytes()


def _places(side: np.ndarray, mask: int, part: int) -> np.ndarray:
    """Where the hashes of one part stand."""
    import numpy as np

    starts = range(0, len(side), AT_A_TIME)
    some = [start + np.flatnonzero((side[start : start + AT_A_TIME] & mask) == part) for start in starts]
    found: np.ndarray = np.concatenate(some) if some else np.zeros(0, np.int64)
    return found


def _times(among: np.ndarray, hashes: np.ndarray) -> np.ndarray:
    """How often each hash stands among others."""
    import numpy as np

    ordered = np.sort(among)
    times: np.ndarray = np.searchsorted(ordered, hashes, "right") - np.searchsorted(ordered, hashes, "left")
    return times


def _kept(
    side: Side, names: Sequence[str], wanted: Mapping[str, bytes], structures: tuple[Structure, ...], path: Path
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
            listed = [quoted(column) for column in columns]
            keyed = [f"primary key ({', '.join(map(quoted, key))})"] if key and set(key) <= set(columns) else []
            database.execute(f"create table {quoted(name)} ({', '.join([*listed, *keyed])})")
        structure = Structure()
        numbers: Counter[str] = Counter()
        kept = frozenset(both)
        for row in rows.rows(side.read(), structure):
            number = numbers[row.table]
            numbers[row.table] += 1
            if row.table in kept and wanted[row.table][number]:
                _insert(database, structure.tables[row.table], row, structures)
        database.execute("commit")


def _insert(database: sqlite3.Connection, table: Table, row: Row, structures: tuple[Structure, ...]) -> None:
    values = rows.values(row, table.columns)
    shared = [name for name in values if all(name in one.tables[table.name].columns for one in structures)]
    marks = ", ".join("?" * len(shared))
    names = ", ".join(map(quoted, shared))
    database.execute(
        f"insert into {quoted(table.name)} ({names}) values ({marks})",
        [values[name] for name in shared],
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
            counted = f"{rows_there.rows} row{'' if rows_there.rows == 1 else 's'}"
            yield Difference(value_text(name), ROWS, kind, *_on_side(kind, counted), None)
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
        yield from _if_differs(name, f"column {column}", old.columns.get(column), new.columns.get(column))
    for part in dict.fromkeys([*old.parts, *new.parts]):
        yield from _if_differs(name, "key", part if part in old.parts else None, part if part in new.parts else None)
    yield from _if_differs(name, "options", old.options, new.options)


def _if_differs(name: str, what: str, old: str | None, new: str | None) -> Iterator[Difference]:
    if old != new:
        kind = Kind.ADDED if old is None else Kind.REMOVED if new is None else Kind.CHANGED
        yield Difference(name, what, kind, old, new, None)
