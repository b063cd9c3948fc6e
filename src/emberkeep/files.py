"""The one module that writes files: nobody else opens for writing, syncs, renames or unlinks.

Every call goes through :data:`io`, a small object whose methods are the operating system's. A test may put
another in its place (``use``) to fail or stop at the n-th call.

Order of durability: the temporary file stands beside its target, is written, synced, given its mode and
time, renamed over the target, and then the folder is synced, so that a power cut leaves the old file or the new one.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

TEMPORARY = ".emberkeep-"
"""Prefix of our temporary files; scans leave them out and a later writer may sweep them."""


class SystemIO:
    """The writing calls of the operating system, one method each."""

    def create(self, path: Path) -> BinaryIO:
        return path.open("xb")

    def append(self, path: Path) -> BinaryIO:
        return path.open("ab")

    def write(self, handle: BinaryIO, data: bytes) -> None:
        handle.write(data)

    def sync(self, handle: BinaryIO) -> None:
        handle.flush()
        os.fsync(handle.fileno())

    def sync_folder(self, path: Path) -> None:
        if os.name == "nt":  # Windows keeps folders in its journal and cannot open them for syncing.
            return
        descriptor = os.open(path, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)

    def replace(self, source: Path, target: Path) -> None:
        os.replace(source, target)

    def unlink(self, path: Path) -> None:
        path.unlink()

    def rmdir(self, path: Path) -> None:
        path.rmdir()

    def mkdir(self, path: Path) -> None:
        path.mkdir()

    def symlink(self, target: str, path: Path) -> None:
        os.symlink(target, path)

    def chmod(self, path: Path, mode: int) -> None:
        path.chmod(mode)

    def utime(self, path: Path, mtime_ns: int) -> None:
        follow = os.utime not in os.supports_follow_symlinks
        os.utime(path, ns=(mtime_ns, mtime_ns), follow_symlinks=follow)


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


def write_whole(target: Path, chunks: Iterable[bytes], *, mode: int | None = None, mtime_ns: int | None = None) -> None:
    """Write ``chunks`` as ``target``, all or nothing.

    ``mode``: permission bits, those of the file replaced (or the umask's) when None. ``mtime_ns``: modification time.
    Raises OSError as the system does; the target is then as it was.
    """
    if mode is None and target.is_file() and not target.is_symlink():
        mode = stat.S_IMODE(target.stat().st_mode)
    with _beside(target) as beside:
        with io.create(beside) as handle:
            for chunk in chunks:
                io.write(handle, chunk)
            io.sync(handle)
        if mode is not None:
            io.chmod(beside, mode)
        if mtime_ns is not None:
            io.utime(beside, mtime_ns)
        io.replace(beside, target)
    io.sync_folder(target.parent)


class Stage:
    """Several files written beside their targets, then renamed over them together."""

    def __init__(self) -> None:
        self._waiting: list[tuple[Path, Path]] = []

    def put(self, target: Path, data: bytes, mode: int | None) -> None:
        """Write ``data`` beside ``target``, synced, with permission bits ``mode``."""
        make_folder(target.parent)
        beside = _temporary_beside(target)
        with io.create(beside) as handle:
            self._waiting.append((beside, target))
            io.write(handle, data)
            io.sync(handle)
        if mode is not None:
            io.chmod(beside, mode)

    def commit(self) -> None:
        """Rename all. OSError half-way leaves the rest to :meth:`abandon`."""
        folders = {target.parent for _, target in self._waiting}
        while self._waiting:
            io.replace(*self._waiting[0])
            self._waiting.pop(0)
        for folder in folders:
            io.sync_folder(folder)

    def abandon(self) -> None:
        """Remove what was not renamed."""
        for beside, _ in self._waiting:
            with contextlib.suppress(OSError):
                io.unlink(beside)
        self._waiting.clear()


def place_link(target: Path, points_at: str, mtime_ns: int | None = None) -> None:
    """Make ``target`` a symbolic link, replacing a file or link that stands there."""
    with _beside(target) as beside:
        io.symlink(points_at, beside)
        if mtime_ns is not None and os.utime in os.supports_follow_symlinks:
            io.utime(beside, mtime_ns)
        io.replace(beside, target)


@contextlib.contextmanager
def _beside(target: Path) -> Iterator[Path]:
    """A temporary name beside ``target``; what stands there is taken away when the block fails."""
    beside = _temporary_beside(target)
    try:
        yield beside
    except BaseException:
        with contextlib.suppress(OSError):
            io.unlink(beside)
        raise


def _temporary_beside(target: Path) -> Path:
    return target.with_name(f"{TEMPORARY}{os.getpid()}-{os.urandom(4).hex()}")


def make_folder(path: Path) -> None:
    """Make a folder and its parents; one that is already there is fine."""
    if path.is_dir():
        return
    make_folder(path.parent)
    with contextlib.suppress(FileExistsError):
        io.mkdir(path)


def sweep(folder: Path) -> None:
    """Remove temporary files that a killed writer left in ``folder``. Only the holder of the lock may call it."""
    for path in folder.glob(f"{TEMPORARY}*"):
        with contextlib.suppress(OSError):
            io.unlink(path)
