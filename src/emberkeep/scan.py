"""What the system tells of everything in a folder, as quickly as Python can ask; also ahead, by a process of its own.

A *fingerprint* is a hash over all that a scan found, times and inodes included: two scans with the same one found the
same. More is true of a scan that found just what an earlier one had: as nothing was written to until it was asked
about, the folder was, at the moment when the scan *began*, all as it had been, whatever is written while it goes on.
That is why a look ahead, begun before anything is locked, may say that nothing has changed; and why it may say nothing
else. (Where a server ran at the last snapshot, whoever asks must not be content with that: it may have saved since.)

This is loaded before all else, so it loads next to nothing itself.
"""

from __future__ import annotations

import marshal
import os
import signal
import sys
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, closing, nullcontext, suppress

TEMPORARY = ".emberkeep-"
"""Prefix of our temporary files; scans leave them out and a later writer may sweep them."""
FORKS = hasattr(os, "fork") and sys.platform != "darwin"
"""Whether there are looks ahead. (On macOS a process that was forked may not use all of the system.)"""

Row = tuple[str, os.stat_result]
"""A path from the folder on, and what the system tells of it."""

BY_FOLDER = os.stat in os.supports_dir_fd and os.listdir in os.supports_fd
"""Whether names can be asked about in an open folder, which takes three quarters of the time that whole paths take."""
_TYPE, _FOLDER = 0o170000, 0o040000
"""The bits of a mode that say what kind of thing it is, and those of a folder."""


class Scan:
    """All that stands in a folder, links not followed. ``unread``: what the system would not tell of, and its words;
    ``temporary``: what an interrupted run of ours left behind. OSError when the folder itself cannot be listed."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.rows: list[Row] = []
        self.unread: list[tuple[str, str]] = []
        self.temporary: list[str] = []
        waiting = [""]
        while waiting:
            folder = waiting.pop()
            try:
                waiting += self._list(folder)
            except OSError as error:
                if not folder:
                    raise
                self.unread.append((folder, f"cannot be listed: {error.strerror}"))

    def fingerprint(self) -> str:
        """See above; "" where something could not be read."""
        from blake3 import blake3

        if self.unread:
            return ""
        rows = [("", os.stat(self.root)), *self.rows]  # noqa: PTH116 - loads no pathlib
        told = [(path, facts[:7], facts.st_mtime_ns, facts.st_ctime_ns) for path, facts in rows]
        return blake3(marshal.dumps(told, 2)).hexdigest()  # version 2 writes what is equal alike, later ones may not

    def _list(self, folder: str) -> list[str]:
        """Add what stands in one folder; the folders among it."""
        rows = self._in_open(folder) if BY_FOLDER else self._in_named(folder)
        self.rows += rows
        return [path for path, facts in rows if facts[0] & _TYPE == _FOLDER]

    def _in_open(self, folder: str) -> list[Row]:
        # a folder below that was just made a link of is not followed
        flags = os.O_RDONLY | os.O_DIRECTORY | (os.O_NOFOLLOW if folder else 0)
        descriptor = os.open(f"{self.root}/{folder}", flags)
        try:
            start, names = self._ours(folder, os.listdir(descriptor))
            ask = os.stat
            try:
                facts = [ask(name, dir_fd=descriptor, follow_symlinks=False) for name in names]
            except OSError:  # one of them: which, is found out one by one
                return self._each(start, names, lambda name: ask(name, dir_fd=descriptor, follow_symlinks=False))
            return list(zip([start + name for name in names], facts, strict=True))
        finally:
            os.close(descriptor)

    def _in_named(self, folder: str) -> list[Row]:
        """Where the listing of a folder tells all (Windows), or nothing better is known."""
        with os.scandir(f"{self.root}/{folder}") as listing:
            items = {item.name: item for item in listing}
        start, names = self._ours(folder, list(items))
        return self._each(start, names, lambda name: items[name].stat(follow_symlinks=False))

    def _ours(self, folder: str, names: list[str]) -> tuple[str, list[str]]:
        """What paths in a folder begin with, and the names in it that count."""
        start = f"{folder}/" if folder else ""
        self.temporary += [start + name for name in names if name.startswith(TEMPORARY)]
        return start, [name for name in names if not name.startswith(TEMPORARY)]

    def _each(self, start: str, names: Sequence[str], ask: Callable[[str], os.stat_result]) -> list[Row]:
        found = []
        for name in names:
            try:
                found.append((start + name, ask(name)))
            except OSError as error:
                self.unread.append((start + name, f"cannot be read: {error.strerror}"))
        return found


def ahead(root: str, witnesses: Sequence[str] = ()) -> AbstractContextManager[Ahead | None]:
    """A look ahead at a folder, ended on leaving; None where there can be none, which is never worse than slower."""
    if root and FORKS:
        with suppress(OSError):  # no room for another process
            return closing(Ahead(root, witnesses))
    return nullcontext()


class Ahead:
    """A look at a folder by a process of its own, while this one still loads what it needs; to be closed.

    ``witnesses``: files that are written to by whoever of us changes the folder; when they are not as they were, the
    look counts for nothing.
    """

    def __init__(self, root: str, witnesses: Sequence[str] = ()) -> None:
        self.root = root
        self._witnesses = witnesses
        self._before = [_stamp(path) for path in witnesses]
        self._told: str | None = None
        self._end, end = os.pipe()
        try:
            self.process = os.fork()
            if self.process == 0:
                _look(root, end)
        except OSError:
            os.close(self._end)
            raise
        finally:
            os.close(end)

    def fingerprint(self, root: str) -> str:
        """Of the folder as it was when the look began; "" when that cannot be told, or another folder is meant."""
        if self._told is None:
            with open(self._end, "rb", closefd=False) as answer:
                self._told = answer.read().decode("ascii")
        still = [_stamp(path) for path in self._witnesses] == self._before
        return self._told if still and root == self.root else ""

    def close(self) -> None:
        """End the process, whether or not it has."""
        os.close(self._end)
        os.kill(self.process, signal.SIGKILL)
        os.waitpid(self.process, 0)


def _look(root: str, end: int) -> None:
    """The process of a look ahead: one line into the pipe, and never back to the caller."""
    try:
        os.write(end, Scan(root).fingerprint().encode("ascii"))
    finally:  # whatever it is: no answer is one, and nothing that the caller has begun is to be ended twice
        os._exit(0)


def _stamp(path: str) -> tuple[int, ...]:
    try:
        facts = os.stat(path)  # noqa: PTH116 - loads no pathlib
    except OSError:
        return ()
    return facts.st_size, facts.st_mtime_ns, facts.st_ino
