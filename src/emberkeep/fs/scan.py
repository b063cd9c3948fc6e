"""What the system tells of everything in a folder, as quickly as Python can ask; also ahead, by a process of its own.

A *fingerprint* is a hash over all that a scan found, times and inodes included: two scans with the same one found the
same. More is true of a scan that found just what an earlier one had: as nothing was written to until it was asked
about, the folder was, at the moment when the scan *began*, all as it had been, whatever is written while it goes on.
That is why a look ahead, begun before anything is locked, may say that nothing has changed; and why it may say nothing
else. (Where a server ran at the last snapshot, whoever asks must not be content with that: it may have saved since.)

This is loaded before all else, so it loads next to nothing itself.
"""

from __future__ import annotations

import errno
import os
import signal
import struct
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, closing, nullcontext, suppress

TEMPORARY = ".emberkeep-"
"""Prefix of our temporary files; scans leave them out and a later writer may sweep them."""
FORKS = hasattr(os, "fork") and sys.platform != "darwin"
"""Whether there are looks ahead. (On macOS a process that was forked may not use all of the system.)"""

Facts = tuple[int, int, int, int, int, int, int, int, int]
"""What the system tells of a path: mode, inode, device, links, owner, group, size, mtime and ctime in ns."""
FACTS = struct.Struct("<IQQIIIqqq")
"""The same in 56 bytes: what the system's own answers take, over half a kB each, is too much for very many paths."""

BY_FOLDER = os.stat in os.supports_dir_fd and os.listdir in os.supports_fd
"""Whether names can be asked about in an open folder, which takes three quarters of the time that whole paths take."""
NOFOLLOW: int = getattr(os, "O_NOFOLLOW", 0)
_DIRECTORY: int = getattr(os, "O_DIRECTORY", 0)
_DOWN = os.O_RDONLY | _DIRECTORY | getattr(os, "O_PATH", 0)
_TYPE, _FOLDER, _FILE = 0o170000, 0o040000, 0o100000
"""The bits of a mode that say what kind of thing it is, those of a folder and of a file."""


class Root:
    """A folder in which everything is reached by descriptors from here on, and no part of a path is followed that is a
    link: whoever may write in it can put one in a folder's place at any moment, and leads nobody elsewhere by that.

    Several threads may use it; each has a way down of its own, of which the last one is kept open. Where a system knows
    no descriptors of folders (Windows), every folder on the way is looked at instead, which leaves a moment between.
    """

    def __init__(self, path: str) -> None:
        self.path = path
        self.start = path.rstrip(os.sep) + os.sep
        self._ways: dict[int, tuple[list[str], list[int]]] = {}

    def holds(self, path: str) -> bool:
        """Whether a whole path lies in it."""
        return path.startswith(self.start)

    def at(self, inside: str) -> tuple[str, int | None]:
        """The last name of a path from the folder on, and the descriptor of the folder that it stands in, until this
        thread asks again; on Windows the whole path. OSError where a part before the last is no folder."""
        folder, _, name = inside.rpartition("/")
        return (name, self.folder(folder)) if BY_FOLDER else (self._looked_at(folder, inside), None)

    def folder(self, inside: str) -> int:
        """The descriptor of a folder from here on ("" for itself)."""
        names, descriptors = self._ways.setdefault(threading.get_ident(), ([], []))
        wanted = inside.split("/") if inside else []
        if not descriptors:
            descriptors.append(os.open(self.path, _DOWN))
        common = 0
        while common < min(len(names), len(wanted)) and names[common] == wanted[common]:
            common += 1
        while len(names) > common:
            names.pop()
            os.close(descriptors.pop())
        for name in wanted[common:]:
            try:
                descriptors.append(os.open(name, _DOWN | NOFOLLOW, dir_fd=descriptors[-1]))
            except OSError as error:
                if error.errno in (errno.ELOOP, errno.ENOTDIR):
                    raise _led_away(f"{self.start}{inside}") from None
                error.filename = f"{self.start}{inside}"
                raise
            names.append(name)
        return descriptors[-1]

    def _looked_at(self, folder: str, inside: str) -> str:
        at = self.path
        for name in folder.split("/") if folder else ():
            at = f"{at}{os.sep}{name}"
            there = extended(at)
            if os.path.islink(there) or getattr(os.path, "isjunction", _no)(there):
                raise _led_away(at)
        return self.whole(inside)

    def whole(self, inside: str) -> str:
        """The whole path, as the system takes one that may be long."""
        path = f"{self.start}{inside}"
        return extended(path) if os.name == "nt" else path

    def anew(self) -> None:
        """Have this thread go down anew when it next asks: folders may have been moved or removed."""
        names, descriptors = self._ways.pop(threading.get_ident(), ([], []))
        names.clear()
        while descriptors:
            os.close(descriptors.pop())

    def forget(self) -> None:
        """Have all go down anew; nobody may be on the way just then."""
        for names, descriptors in self._ways.values():
            names.clear()
            while descriptors:
                os.close(descriptors.pop())
        self._ways.clear()

    __del__ = forget


def extended(path: str) -> str:
    """A whole path as Windows takes it though it be longer than 260 characters: behind ``\\\\?\\``, with no slash of
    ours in it. (Microsoft, "Naming Files, Paths, and Namespaces"; a folder may have 12 characters less.)"""
    if len(path) < _LONG or path.startswith("\\\\?\\"):
        return path
    path = path.replace("/", "\\")
    return f"\\\\?\\UNC\\{path[2:]}" if path.startswith("\\\\") else f"\\\\?\\{path}"


_LONG = 248


def _led_away(path: str) -> OSError:
    return OSError(errno.ELOOP, "a link stands where a folder was: somebody changes the folder meanwhile", path)


def _no(path: str) -> bool:
    return False


def facts_of(status: os.stat_result) -> Facts:
    """What counts of what the system tells of a path."""
    return (*status[:7], status.st_mtime_ns, status.st_ctime_ns)


def _packed(status: os.stat_result) -> bytes:
    facts = facts_of(status)
    try:
        return FACTS.pack(*facts)
    except struct.error:  # a time that no clock shows, a number of more bits
        few = [number % (1 << 32) for number in facts]
        long = [number % (1 << 64) for number in facts]
        near = [min(max(number, -(1 << 63)), (1 << 63) - 1) for number in facts]
        return FACTS.pack(few[0], long[1], long[2], few[3], few[4], few[5], near[6], near[7], near[8])


class Scan:
    """All that stands in a folder, links not followed. ``paths``: from the folder on; ``facts``: of each of them,
    packed (see :data:`FACTS`); ``sparse``: files that take less room than they are long; ``unread``: what the system
    would not tell of, and its words; ``temporary``: what an interrupted run of ours left behind. OSError when the
    folder itself cannot be listed."""

    def __init__(self, root: str) -> None:
        self.root = root
        self._way = Root(root)
        self.paths: list[str] = []
        self.facts = bytearray()
        self.sparse: list[str] = []
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
        self._way.forget()

    @property
    def rows(self) -> Iterator[tuple[str, Facts]]:
        """Each path with its facts."""
        return zip(self.paths, FACTS.iter_unpack(self.facts), strict=True)

    def fingerprint(self) -> str:
        """See above; "" where something could not be read."""
        from blake3 import blake3

        if self.unread:
            return ""
        found = blake3(_packed(os.stat(self.root)))  # noqa: PTH116 - loads no pathlib
        found.update(self.facts)
        found.update("\0".join(self.paths).encode("utf-8", "surrogateescape"))
        return found.hexdigest()

    def _list(self, folder: str) -> list[str]:
        """Add what stands in one folder; the folders among it."""
        start, names, stats = self._in_open(folder) if BY_FOLDER else self._in_named(folder)
        paths = [start + name for name in names] if start else names
        self.paths += paths
        self.facts += b"".join(map(_packed, stats))
        self.sparse += [path for path, one in zip(paths, stats, strict=True) if _is_sparse(one)]
        return [path for path, one in zip(paths, stats, strict=True) if one[0] & _TYPE == _FOLDER]

    def _in_open(self, folder: str) -> _Listed:
        # a folder below that was just made a link of is not followed
        name, above = self._way.at(folder) if folder else (self.root, None)
        descriptor = os.open(name, os.O_RDONLY | _DIRECTORY | (NOFOLLOW if folder else 0), dir_fd=above)
        try:
            start, names = self._ours(folder, os.listdir(descriptor))
            ask = os.stat
            try:
                return start, names, [ask(name, dir_fd=descriptor, follow_symlinks=False) for name in names]
            except OSError:  # one of them: which, is found out one by one
                return self._each(start, names, lambda name: ask(name, dir_fd=descriptor, follow_symlinks=False))
        finally:
            os.close(descriptor)

    def _in_named(self, folder: str) -> _Listed:
        """Where the listing of a folder tells all (Windows), or nothing better is known."""
        with os.scandir(self._way.whole(folder)) as listing:
            items = {item.name: item for item in listing}
        start, names = self._ours(folder, list(items))
        return self._each(start, names, lambda name: items[name].stat(follow_symlinks=False))

    def _ours(self, folder: str, names: list[str]) -> tuple[str, list[str]]:
        """What paths in a folder begin with, and the names in it that count."""
        start = f"{folder}/" if folder else ""
        self.temporary += [start + name for name in names if name.startswith(TEMPORARY)]
        return start, [name for name in names if not name.startswith(TEMPORARY)]

    def _each(self, start: str, names: Sequence[str], ask: Callable[[str], os.stat_result]) -> _Listed:
        found, stats = [], []
        for name in names:
            try:
                stats.append(ask(name))
                found.append(name)
            except OSError as error:
                self.unread.append((start + name, f"cannot be read: {error.strerror}"))
        return start, found, stats


_Listed = tuple[str, list[str], list[os.stat_result]]
"""What paths in a folder begin with, the names in it, and what the system tells of each."""


def _is_sparse(status: os.stat_result) -> bool:
    if sys.platform == "win32":
        return False
    return status[6] > status.st_blocks * 512 and status[0] & _TYPE == _FILE


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

    root: str
    process: int
    _witnesses: Sequence[str]
    _before: list[tuple[int, ...]]
    _told: str | None
    _end: int

    def __init__(self, root: str, witnesses: Sequence[str] = ()) -> None:
        if sys.platform == "win32":
            raise OSError(errno.ENOSYS, "this system forks no process")
        self.root = root
        self._witnesses = witnesses
        self._before = [_stamp(path) for path in witnesses]
        self._told = None
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
        with suppress(PermissionError):  # it was begun as root, which we are no more; it ends by itself
            if sys.platform != "win32":
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
    # a log of SQLite's that holds nothing is made by whoever only reads
    return (facts.st_size, facts.st_mtime_ns, facts.st_ino) if facts.st_size else ()
