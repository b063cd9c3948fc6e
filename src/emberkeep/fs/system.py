"""The calls by which anything is written, behind one seam: ``io``, which fault tests replace.

What is written in an ``anchored`` folder is reached from it by descriptors. In a ``durable`` block the folders in which
names changed are synced at its end, in a ``fleeting`` one not at all.
"""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO, cast

from emberkeep.errors import DENIED, IN_USE
from emberkeep.fs.scan import NOFOLLOW, Root

PRIVATE, PRIVATE_FOLDER = 0o600, 0o700
"""Modes of what only its owner may read: all that we make, until it is given another."""


_KNOWS_NO_FOLDER_SYNC = (errno.EINVAL, errno.ENOTSUP)
"""What a file system says that syncs files alone, as some network shares and shared folders of virtual machines do."""


_SHUT = (DENIED, *IN_USE)
_PAUSES = (0.05, 0.1, 0.2, 0.4, 0.8)


def _patiently(call: Callable[[], None]) -> None:
    """On Windows a file that a program has open can be neither replaced nor removed, and virus scanners and searches
    look into each new file for a moment: what fails so is tried again for a second and a half."""
    for pause in _PAUSES:
        try:
            return call()
        except PermissionError as error:
            if getattr(error, "winerror", 0) not in _SHUT:
                raise
            time.sleep(pause)
    return call()


class SystemIO:
    """The writing calls of the operating system, one method each. Within an :func:`anchored` folder they go by
    descriptors from there, and follow nothing."""

    unsynced: set[str] | None = None
    """Within a :func:`durable` block: folders in which names came, went or changed since they were last synced."""

    def _changed(self, path: str | Path) -> None:
        if self.unsynced is not None:
            self.unsynced.add(os.path.dirname(path))  # noqa: PTH120 - called for every file

    def create(self, path: str | Path) -> BinaryIO:
        """A new file, private, opened for writing. FileExistsError when there is one."""
        self._changed(path)
        return opened(path, "xb", os.O_CREAT | os.O_EXCL)

    def write(self, handle: BinaryIO, data: bytes | memoryview) -> None:
        """Write all of some bytes."""
        left = memoryview(data)
        while left:  # a file without a buffer may take less than it was given
            left = left[handle.write(left) :]

    def sync(self, handle: BinaryIO) -> None:
        """Have the disk keep what was written to a file."""
        os.fsync(handle.fileno())

    def skip(self, handle: BinaryIO, length: int) -> None:
        """Leave a hole of ``length`` bytes, where the file system knows holes."""
        handle.seek(length, os.SEEK_CUR)

    def truncate(self, handle: BinaryIO) -> None:
        """End the file where the handle stands."""
        handle.truncate()

    def reopen(self, path: str | Path) -> BinaryIO:
        """A file that was written and closed before, to be synced."""
        # only Windows asks for the right to write of who syncs
        return opened(path, "r+b" if os.name == "nt" else "rb", 0)

    def sync_folder(self, path: str | Path) -> None:
        """Have the disk keep which names stand in a folder."""
        if self.unsynced is not None:
            self.unsynced.discard(str(path))
        if os.name == "nt":  # Windows keeps folders in its journal and cannot open them for syncing.
            return
        name, folder = _at(path)
        descriptor = os.open(name, os.O_RDONLY | _nofollow(folder), dir_fd=folder)
        try:
            os.fsync(descriptor)
        except OSError as error:
            if error.errno not in _KNOWS_NO_FOLDER_SYNC:
                raise
        finally:
            os.close(descriptor)

    def sync_disk(self, folder: Path) -> bool:
        """Sync all that was written to the file system that a folder is on; False where the system has no such call."""
        if sys.platform != "linux":
            return False
        import ctypes  # only where a folder is synced as a whole

        sync = getattr(ctypes.CDLL(None, use_errno=True), "syncfs", None)
        if sync is None:
            return False
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            if sync(descriptor):
                number = ctypes.get_errno()
                raise OSError(number, os.strerror(number), str(folder))
        finally:
            os.close(descriptor)
        return True

    def replace(self, source: Path, target: Path) -> None:
        """Rename a file over another."""
        self._changed(source)
        self._changed(target)
        old, old_folder = _at(source, keep=True)
        new, new_folder = _at(target)
        try:
            _patiently(lambda: os.replace(old, new, src_dir_fd=old_folder, dst_dir_fd=new_folder))
        finally:
            _let_go(old_folder)

    def unlink(self, path: str | Path) -> None:
        """Remove a file or link."""
        self._changed(path)
        name, folder = _at(path)
        _patiently(lambda: os.unlink(name, dir_fd=folder))

    def rmdir(self, path: Path) -> None:
        """Remove an empty folder."""
        self._changed(path)
        name, folder = _at(path)
        _patiently(lambda: os.rmdir(name, dir_fd=folder))
        _gone_down_anew()

    def mkdir(self, path: Path, mode: int = 0o777) -> None:
        """Make a folder."""
        self._changed(path)
        name, folder = _at(path)
        os.mkdir(name, mode, dir_fd=folder)

    def symlink(self, target: str, path: Path) -> None:
        """Make a link."""
        self._changed(path)
        name, folder = _at(path)
        os.symlink(target, name, dir_fd=folder)

    def link(self, existing: Path, path: Path) -> None:
        """Give a file a further name."""
        self._changed(path)
        old, old_folder = _at(existing, keep=True)
        new, new_folder = _at(path)
        follow = os.link not in os.supports_follow_symlinks
        try:
            os.link(old, new, src_dir_fd=old_folder, dst_dir_fd=new_folder, follow_symlinks=follow)
        finally:
            _let_go(old_folder)

    def chmod(self, path: str | Path, mode: int) -> None:
        """Set permission bits; no link is followed in an anchored folder."""
        name, folder = _at(path)
        if folder is None:
            os.chmod(name, mode)  # noqa: PTH101
            return
        if os.chmod in os.supports_follow_symlinks:  # macOS
            os.chmod(name, mode, dir_fd=folder, follow_symlinks=False)
            return
        descriptor = os.open(name, _ANY | NOFOLLOW, dir_fd=folder)
        try:
            if stat.S_ISLNK(os.fstat(descriptor).st_mode):
                raise OSError(errno.ELOOP, _LINK, path)
            if sys.platform == "win32" or _BY_NUMBER:
                os.chmod(f"/proc/self/fd/{descriptor}", mode)  # noqa: PTH101
            else:
                os.fchmod(descriptor, mode)
        finally:
            os.close(descriptor)

    def chown(self, path: str | Path, owner: int, group: int) -> None:
        """Set owner and group, of a link itself."""
        name, folder = _at(path)
        if sys.platform != "win32":
            os.chown(name, owner, group, dir_fd=folder, follow_symlinks=False)

    def utime(self, path: str | Path, mtime_ns: int) -> None:
        """Set the modification time, in ns."""
        follow = os.utime not in os.supports_follow_symlinks
        name, folder = _at(path)
        os.utime(name, ns=(mtime_ns, mtime_ns), dir_fd=folder, follow_symlinks=follow)


_BY_NUMBER = hasattr(os, "O_PATH") and Path("/proc/self/fd").is_dir()
"""Whether a descriptor that gives no right to read can be changed by its number."""


_ANY = getattr(os, "O_PATH", 0) if _BY_NUMBER else os.O_RDONLY | getattr(os, "O_NONBLOCK", 0)


_LINK = "a link stands where a file was: somebody changes the folder meanwhile"


_anchors: list[Root] = []


@contextlib.contextmanager
def anchored(folder: Path) -> Iterator[None]:
    """Within the block, what is written in a folder is reached from it by descriptors: a folder in it that somebody
    puts a link in the place of leads nowhere. The path to the folder itself is the caller's own."""
    root = Root(str(folder))
    _anchors.append(root)
    try:
        yield
    finally:
        _anchors.remove(root)
        root.forget()


def _at(path: str | Path, *, keep: bool = False) -> tuple[str, int | None]:
    """How the system is told of a path: as it is, or, in an anchored folder, by its last name and the descriptor of the
    folder that holds it. ``keep``: a descriptor of its own, which is to be let go."""
    text = os.fspath(path)
    for root in reversed(_anchors):
        if root.holds(text):
            name, folder = root.at(text[len(root.start) :])
            return name, os.dup(folder) if keep and folder is not None else folder
    return text, None


def _let_go(descriptor: int | None) -> None:
    if descriptor is not None:
        os.close(descriptor)


def _gone_down_anew() -> None:
    for root in _anchors:
        root.anew()


def _nofollow(folder: int | None) -> int:
    return NOFOLLOW if folder is not None else 0


def opened(path: str | Path, mode: str, further: int) -> BinaryIO:
    """A file opened as the anchored folders have it; a link is not followed there."""
    name, folder = _at(path)

    def opener(_: str, flags: int) -> int:
        return os.open(name, flags | further | _nofollow(folder), PRIVATE, dir_fd=folder)

    return cast(BinaryIO, open(path, mode, buffering=0, opener=opener))


io = SystemIO()


@contextlib.contextmanager
def use(other: SystemIO) -> Iterator[None]:
    """Put another set of calls in place for a while, for fault tests."""
    global io  # noqa: PLW0603 - the single seam for every write of the product
    before, io = io, other
    try:
        yield
    finally:
        io = before


@contextlib.contextmanager
def _noted() -> Iterator[set[str]]:
    """The folders in which names came, went or changed in the block; none within another such block, which has them."""
    if io.unsynced is not None:
        yield set()
        return
    io.unsynced = set()
    try:
        yield io.unsynced
    finally:
        io.unsynced = None


@contextlib.contextmanager
def durable() -> Iterator[None]:
    """What the block makes, renames and removes stays so through a power cut once the block has ended well: every
    folder in which that happened is synced, once, at the end. Within another such block that one's end counts."""
    with _noted() as folders:
        yield
        for folder in sorted(folders, reverse=True):
            with contextlib.suppress(FileNotFoundError, NotADirectoryError):  # gone since: a change of the folder above
                io.sync_folder(folder)


@contextlib.contextmanager
def fleeting() -> Iterator[None]:
    """What the block makes may be gone after a power cut, as nothing leans on it: no folder is synced. Within a
    :func:`durable` block that one's end counts."""
    with _noted():
        yield
