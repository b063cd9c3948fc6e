"""The live server folder as a snapshot reads it: SQLite databases that others have open come as consistent copies.

A database with a log or journal beside it that another process has open is copied by SQLite's own backup, its log
included; the log's files are then no part of the tree. One that changes while it is read is copied so at the next
try. Where nobody has it open (a server that crashed), database and log are taken byte for byte, as they belong
together.
"""

from __future__ import annotations

import os
import sqlite3
import sys
from collections.abc import Iterator, Mapping
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path

from emberkeep.databases.sqlite import MAGIC
from emberkeep.errors import UnreadableInput, reason
from emberkeep.fs import writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.scan import Scan
from emberkeep.fs.trees import FILE, Entry, Hole, Skipped, Stamp, file_chunks

BESIDE = ("-wal", "-shm", "-journal")
"""What SQLite calls the files that it keeps beside an open database."""
WAITS = 10.0
"""Seconds that a backup waits for a writer to finish."""
_PAGES = 4096
"""Pages copied in one go, so that the database's own users are not held up for long."""


@dataclass
class LiveTree(FolderTree):
    """``room``: a folder for the copies, which belong to whoever made the tree."""

    room: Path = Path()

    def entries(self) -> Mapping[str, Entry]:
        """What stands there, with databases as their copies are."""
        if self._entries is None:
            found = super().entries()
            copied = [path for path in self._open_elsewhere(found) if self._copy(path)]
            if copied:
                gone = {path + end for path in copied for end in BESIDE}
                found = {path: entry for path, entry in found.items() if path not in gone}
            self._entries = found
        return self._entries

    def _fingerprint_of(self, scan: Scan) -> str:
        """As of any folder; "" also where databases may have to be copied."""
        return "" if any(path.endswith(BESIDE) for path in scan.paths) else super()._fingerprint_of(scan)

    def _open_elsewhere(self, found: Mapping[str, Entry]) -> list[str]:
        beside = {path.rpartition("-")[0] for path in found if path.endswith(BESIDE)}
        there = [path for path in sorted(beside) if path in found and found[path].kind is FILE]
        return [path for path in there if self._is_one(path) and _is_held(self.root / path)]

    def _is_one(self, path: str) -> bool:
        with suppress(OSError):
            return next(file_chunks(self.root / path, len(MAGIC)), b"").startswith(MAGIC)
        return False

    def _copy(self, path: str) -> bool:
        copy = self.room / f"{len(self.copied)}.db"
        try:
            writing.make_folder(self.room, private=True)
            backup(self.root / path, copy)
        except (sqlite3.Error, OSError) as error:
            self._skipped.append(
                Skipped(path, f"SQLite could not copy it ({error}); its bytes were taken as they stood")
            )
            return False
        self.copied[path] = copy
        self.stamps = {other: stamp for other, stamp in self.stamps.items() if other != path}
        return True

    def changed(self, path: str) -> None:
        """Copy a database by SQLite that changed while it was read as a file."""
        if path not in self.copied and self._is_one(path):
            self._copy(path)

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a file; of an open database, those of a copy made by SQLite."""
        if path not in self.copied:
            yield from super().chunks(path)
            return
        try:
            yield from file_chunks(self.copied[path])
        except OSError as error:
            raise UnreadableInput(f"cannot read the copy of {path}: {reason(error)}") from error

    def stamp(self, path: str) -> Stamp | None:
        """() for a database that was copied, which is thus read again next time."""
        return () if path in self.copied else super().stamp(path)

    def holes(self, path: str) -> tuple[Hole, ...]:
        """() for a database that was copied: its copy is read."""
        return () if path in self.copied else super().holes(path)


def backup(source: Path, target: Path) -> None:
    """Copy a database that others may be using, as of one moment, its write-ahead log included.

    sqlite3.Error when it is no sound database, or a writer does not finish within :data:`WAITS`.
    """
    uri = source.resolve().as_uri() + "?mode=ro"
    with (
        closing(sqlite3.connect(uri, uri=True, timeout=WAITS)) as live,
        closing(sqlite3.connect(target)) as copy,
    ):
        live.backup(copy, pages=_PAGES)


def _is_held(path: Path) -> bool:
    """Whether another process has a database open whose log or journal lies beside it, by the locks that SQLite takes.

    A connection in write-ahead mode holds a byte of the ``-shm`` file, a writer with a journal bytes of the
    database itself (SQLite, "os_unix.c", UNIX_SHM_DMS and PENDING_BYTE). Where locks cannot be asked for (Windows),
    it counts as open.
    """
    if sys.platform == "win32":
        return True
    import fcntl

    for place, start, length in ((path.with_name(path.name + "-shm"), 128, 1), (path, 0x40000000, 512)):
        try:
            descriptor = os.open(place, os.O_RDWR)
        except FileNotFoundError:
            continue
        except OSError:
            return True
        try:
            fcntl.lockf(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB, length, start)
        except OSError:
            return True
        finally:
            os.close(descriptor)  # which lets the lock go
    return False
