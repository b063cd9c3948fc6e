"""The file of a keep's journal: which runs changed the server folder, step by step, and whether each came to its end.

::

    KEEP/journal.db   SQLite, synced at every commit
      run (number, kind, begun, ended, state, facts)
        state   begun | done | taken back | undone
        facts   JSON: what resuming and undoing need; see Run
      step (run, at, name, title, begun, ended, facts)
        at      its place in the run, from 0; ended is null while it is being done
      touched (run, path, after)
        after   what the run leaves at a path: "", or "kind mode mtime size" and what a link points at
      start (number, begun, run, version, world, seconds, converted, state)
        starts of the server: bytes of its world, and how long it took until it was ready
      drill (number, begun, snapshot, taken, proven, seconds, words)
        snapshots that a server was started on to try them, and how that went
      once (file, key, value, back)
        settings that hold for one start only, and what they are set back to
      told (path, size, mtime, digest)
        files of the keep that the admin writes, as they were when something was last carried out: BLAKE3 in hex
      preview (asked, made, told)
        what the last preview of a wipe said, until a run is done
      due (event, planned, part, state, begun, ended, said)
        what came round: planned: its moment in UTC; part: "" the event itself, else the announcement; state: begun |
        done | failed | missed | waits; a row is there before anything is done, so that nothing is done twice

A run's intent is on disk before its first act, its outcome after its last; so are those of each step. A run that is
``begun`` was interrupted: nothing else may change the server folder until it was resumed or undone.
"""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

from emberkeep.errors import Place, UnreadableInput
from emberkeep.fs import private, system

_TABLES = (
    "create table if not exists run (number integer primary key, kind text not null,"
    " begun text not null, ended text, state text not null, facts text not null)",
    "create table if not exists step (run integer not null, at integer not null, name text not null,"
    " title text not null, begun text not null, ended text, facts text not null, primary key (run, at))",
    "create table if not exists touched (run integer not null, path text not null, after text not null,"
    " primary key (run, path)) without rowid",
    "create table if not exists start (number integer primary key, begun text not null, run integer,"
    " version text not null, world integer not null, seconds real not null, converted integer not null,"
    " state text not null)",
    "create table if not exists drill (number integer primary key, begun text not null, snapshot text not null,"
    " taken text not null, proven integer not null, seconds real not null, words text not null)",
    "create table if not exists once (file text not null, key text not null, value text not null,"
    " back text not null, primary key (file, key))",
    "create table if not exists told (path text primary key, size integer not null, mtime integer not null,"
    " digest text not null)",
    "create table if not exists preview (asked text primary key, made text not null, told text not null)",
    "create table if not exists due (event text not null, planned text not null, part text not null,"
    " state text not null, begun text not null, ended text, said text not null, primary key (event, planned, part))",
)

_COPIES = 5
"""How often a journal is copied that somebody else is just writing to."""


def _rows(uri: str, query: str, values: Sequence[object]) -> list[Any]:
    with closing(sqlite3.connect(uri, timeout=10, uri=True)) as database:
        try:
            return database.execute(query, values).fetchall()
        except sqlite3.OperationalError as error:
            if "no such table" in str(error):
                return []  # of an earlier version, that had none, or never begun
            raise


class JournalFile:
    """The journal's file in ``keep``; reading one that is not there yet finds nothing."""

    def __init__(self, keep: Path) -> None:
        self.file = keep / "journal.db"

    @contextmanager
    def opened(self) -> Iterator[sqlite3.Connection]:
        """The journal's database, made where it is not there, in a transaction that ends with the block.
        UnreadableInput where it cannot be written."""
        try:
            with private.database(self.file, _TABLES) as database:
                yield database
        except (sqlite3.Error, OSError) as error:
            raise self._unusable("written", error) from error

    def _unusable(self, what: str, error: Exception) -> UnreadableInput:
        return UnreadableInput(
            f"the journal cannot be {what}: {error}",
            place=Place(str(self.file)),
            hint="no snapshot depends on it: 'emberkeep restore REF --into DIR' gives back what each of them holds",
        )

    def ask(self, query: str, *values: object) -> list[Any]:
        """Rows of the journal, which is only read: also where it may not be written to, and beside who writes."""
        if not self.file.exists():
            return []
        try:
            with suppress(sqlite3.OperationalError):
                return _rows(f"{self.file.absolute().as_uri()}?mode=ro", query, values)
            with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
                return _rows(self._copied(Path(room)).as_uri(), query, values)
        except (sqlite3.Error, OSError) as error:
            raise self._unusable("read", error) from error

    def _copied(self, room: Path) -> Path:
        """The journal in a folder of ours: one that was not written to its end is set right when it is read."""
        copy = room / self.file.name
        for _ in range(_COPIES):
            before = self._stands()
            for path in self._parts():
                if path.exists():
                    shutil.copyfile(path, room / path.name)
            if self._stands() == before:
                break
        return copy

    def _stands(self) -> list[tuple[int, int]]:
        return [(path.stat().st_size, path.stat().st_mtime_ns) for path in self._parts() if path.exists()]

    def _parts(self) -> list[Path]:
        """The journal, what takes back a change of it that was broken off, and the log that earlier versions wrote."""
        return [self.file.with_name(self.file.name + end) for end in ("", "-journal", "-wal")]

    def note(self, statement: str, *values: object) -> None:
        """Write one statement to the disk."""
        with self.opened() as database:
            database.execute(statement, values)

    def require_file(self) -> None:
        """Make the journal's file where it is not there, so that its name outlasts a power cut too."""
        if not self.file.exists():
            with self.opened():
                system.io.sync_folder(self.file.parent)
