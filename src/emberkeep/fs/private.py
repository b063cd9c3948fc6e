"""Files and folders of our own: closed to others, databases of them, and locks."""

from __future__ import annotations

import contextlib
import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from emberkeep.errors import Place, Refused
from emberkeep.fs import system
from emberkeep.fs.system import PRIVATE, PRIVATE_FOLDER

if TYPE_CHECKING:
    import sqlite3


def close_to_others(folder: Path) -> bool:
    """Take from all others the right to look into a folder of ours; whether somebody had it and has it no more."""
    if not is_open_to_others(folder):
        return False
    with contextlib.suppress(OSError):  # a disk that is only read
        system.io.chmod(folder, PRIVATE_FOLDER)
    return not is_open_to_others(folder)


def is_open_to_others(folder: Path) -> bool:
    """Whether others may look into a folder of ours."""
    facts = folder.stat()
    return sys.platform != "win32" and bool(facts.st_mode & 0o077) and facts.st_uid == os.geteuid()


def make_private(path: Path) -> None:
    """Make an empty file that only its owner may read, unless it is there: for SQLite, which makes and syncs what it
    writes itself, and would make it as the umask says."""
    if not path.exists():
        with contextlib.suppress(FileExistsError):
            os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PRIVATE))


_LOG_VERSION = 18
"""Where a SQLite file says how it is written: 2 with a log beside it (SQLite file format, section 1.3.3)."""


def has_log(path: Path) -> bool:
    """Whether a SQLite file is written with a log beside it."""
    with path.open("rb") as handle:
        return handle.read(_LOG_VERSION + 1)[_LOG_VERSION:] == b"\x02"


@contextlib.contextmanager
def database(path: Path, tables: Iterable[str], *, lasting: bool = True) -> Iterator[sqlite3.Connection]:
    """A SQLite database of ours, made with its ``tables`` where it is not there, in a transaction that ends with the
    block. ``lasting``: it outlasts a power cut once it has ended; else it is whole, but may be as before.

    It is written with a rollback journal, as a log beside it (as earlier versions had) needs memory shared between
    processes, which some disks and network shares do not have. sqlite3.Error where it cannot be opened or written.
    """
    import sqlite3  # only where something is noted

    make_private(path)
    with contextlib.closing(sqlite3.connect(path, timeout=10)) as opened, opened:
        if has_log(path):
            opened.execute("pragma locking_mode = exclusive")  # then the log needs no shared memory
            opened.execute("pragma journal_mode = delete")
            opened.execute("pragma locking_mode = normal")
            with contextlib.suppress(OSError):
                system.io.unlink(f"{path}-shm")  # that memory, which nobody needs any more
        opened.execute(f"pragma synchronous = {'extra' if lasting else 'normal'}")
        opened.execute("begin immediate")  # all tables or none; of two that begin at once, one waits
        for table in tables:
            opened.execute(table)
        opened.commit()
        yield opened


@contextlib.contextmanager
def exclusive_lock(
    lock: Path, held: Callable[[], Refused], patience: float = 0.0, on_wait: Callable[[], None] = lambda: None
) -> Iterator[None]:
    """Hold a lock; raises what ``held`` gives when another process has it, and Refused when there can be none.
    ``patience``: seconds to wait for the other one, in which ``on_wait`` is called once.

    It is SQLite's exclusive lock on an empty database, which works on every system and goes away with its holder.
    """
    import sqlite3  # only where something is locked

    with contextlib.ExitStack() as stack:
        try:
            make_private(lock)
            opened = stack.enter_context(contextlib.closing(sqlite3.connect(lock, timeout=0, isolation_level=None)))
            _begin(opened, patience, on_wait)
        except (sqlite3.Error, OSError) as error:
            if "locked" in str(error):
                raise held() from None
            raise Refused(
                f"the keep cannot be written to: {error}",
                place=Place(str(lock)),
                hint="it must be yours to write in; a lock that is no empty file holds nothing and may be removed",
            ) from error
        yield


LOOKS_AGAIN = 0.1
"""Seconds between two looks whether a lock is free."""
_SILENT = 5
"""Looks before somebody hears that a lock is waited for."""


def _begin(opened: sqlite3.Connection, patience: float, on_wait: Callable[[], None]) -> None:
    """Take SQLite's exclusive lock; its own error, which says "locked", where another still has it in the end."""
    import sqlite3

    looks = max(1, round(patience / LOOKS_AGAIN))
    for look in range(1, looks + 1):
        try:
            opened.execute("begin exclusive")
        except sqlite3.OperationalError as error:
            if look == looks or "locked" not in str(error):
                raise
            if look == _SILENT:
                on_wait()
            time.sleep(LOOKS_AGAIN)
        else:
            return
