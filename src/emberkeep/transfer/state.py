"""What a far server folder held when it was last fetched or sent to, and what lay here then.

::

    KEEP/far.db     SQLite
      about (key, value)    address: the far folder it speaks of; fetched: when it was last fetched (ISO 8601, UTC)
      file (path, kind, size, mtime, precision, points_at, mode, digest, here_size, here_mtime)
                            as the listing told it (-1 or null where it told nothing), BLAKE3 of the contents, and size
                            and mtime (ns) of the copy here; paths as bytes
      part (path, size, mtime)
                            files that are half fetched: what the listing told of each when that began
    KEEP/far/       their bytes so far: BLAKE3 of the path in hex, cut to 32 digits, and ".part"

Only told when the bytes are on disk. Without it everything is fetched, or compared, anew.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from emberkeep.errors import Place, UnreadableInput
from emberkeep.fs import private, system, writing
from emberkeep.fs.trees import Kind
from emberkeep.transfer.protocol import RemoteEntry

_TABLES = (
    "create table if not exists about (key text primary key, value text not null)",
    "create table if not exists file (path blob primary key, kind text not null, size integer not null, mtime integer,"
    " precision real not null, points_at text not null, mode integer, digest text not null,"
    " here_size integer not null, here_mtime integer not null) without rowid",
    "create table if not exists part (path blob primary key, size integer not null, mtime integer)",
)


class Known(NamedTuple):
    """A path as it was then. ``here``: size and mtime (ns) of the copy."""

    entry: RemoteEntry
    digest: str = ""
    here: tuple[int, int] = (-1, -1)


class RemoteState:
    """The state in a keep; several threads may use it."""

    def __init__(self, keep: Path) -> None:
        self._file = keep / "far.db"
        self.parts = keep / "far"
        self._guard = threading.Lock()

    @contextmanager
    def _opened(self) -> Iterator[sqlite3.Connection]:
        with self._guard:
            try:
                with private.database(self._file, _TABLES, lasting=False) as database:
                    yield database
            except sqlite3.Error as error:
                raise UnreadableInput(
                    f"what is known of the far folder cannot be read or written: {error}",
                    place=Place(str(self._file)),
                    hint="if it is damaged, move it aside; the next fetch compares all files anew",
                ) from error

    @property
    def address(self) -> str:
        """The far folder that it speaks of; "" when nothing was fetched yet."""
        return self._about("address")

    @property
    def fetched(self) -> datetime | None:
        """When all of it, or a part, was last fetched."""
        moment = self._about("fetched")
        return datetime.fromisoformat(moment) if moment else None

    def was_fetched(self, now: datetime) -> None:
        """Note when it was."""
        with self._opened() as database:
            database.execute("insert or replace into about values ('fetched', ?)", (now.isoformat(),))

    def _about(self, key: str) -> str:
        if not self._file.exists():
            return ""
        with self._opened() as database:
            row = database.execute("select value from about where key = ?", (key,)).fetchone()
        return str(row[0]) if row else ""

    def speaks_of(self, address: str) -> None:
        """Begin to speak of another far folder: what is known of any other is forgotten."""
        if self.address == address:
            return
        with self._opened() as database:
            database.execute("delete from file")
            database.execute("delete from part")
            database.execute("insert or replace into about values ('address', ?)", (address,))

    def known(self) -> dict[str, Known]:
        """All that is known, by path."""
        if not self._file.exists():
            return {}
        with self._opened() as database:
            rows = database.execute("select * from file").fetchall()
        return {(path := _path(row[0])): _known(path, row) for row in rows}

    def put(self, rows: Iterable[Known]) -> None:
        """Note what holds of some paths from now on."""
        with self._opened() as database:
            database.executemany("insert or replace into file values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", map(_row, rows))

    def forget(self, paths: Iterable[str]) -> None:
        """Note that some paths are there no more."""
        with self._opened() as database:
            database.executemany("delete from file where path = ?", [(_bytes(path),) for path in paths])

    # --- halves ----------------------------------------------------------------

    def part(self, entry: RemoteEntry) -> tuple[Path, int]:
        """Where the bytes of a file gather while it is fetched, and how many of them are there from an earlier try of
        the very same file."""
        place = self.parts / f"{blake3(_bytes(entry.path)).hexdigest()[:32]}.part"
        with self._opened() as database:
            row = database.execute("select size, mtime from part where path = ?", (_bytes(entry.path),)).fetchone()
            if row == (entry.size, entry.mtime_ns) and entry.mtime_ns is not None and place.exists():
                return place, place.stat().st_size
            database.execute(
                "insert or replace into part values (?, ?, ?)", (_bytes(entry.path), entry.size, entry.mtime_ns)
            )
        writing.make_folder(self.parts, private=True)
        if place.exists():
            system.io.unlink(place)
        return place, 0

    def whole(self, path: str) -> None:
        """Note that a file is fetched."""
        with self._opened() as database:
            database.execute("delete from part where path = ?", (_bytes(path),))


def _bytes(path: str) -> bytes:
    return path.encode("utf-8", "surrogateescape")


def _path(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")


def _row(known: Known) -> tuple[object, ...]:
    path, kind, size, mtime, precision, points_at, mode = (
        known.entry.path,
        known.entry.kind,
        known.entry.size,
        known.entry.mtime_ns,
        known.entry.precision,
        known.entry.points_at,
        known.entry.mode,
    )
    return (_bytes(path), str(kind), size, mtime, precision, points_at, mode, known.digest, *known.here)


def _known(path: str, row: tuple[object, ...]) -> Known:
    _, kind, size, mtime, precision, points_at, mode, digest, here_size, here_mtime = row
    entry = RemoteEntry(path, Kind(str(kind)), size, mtime, precision, mode, points_at)  # type: ignore[arg-type]
    return Known(entry, str(digest), (here_size, here_mtime))  # type: ignore[arg-type]
