"""The one module that writes files: nobody else opens for writing, syncs, renames or unlinks.

Every call goes through :data:`io`, a small object whose methods are the operating system's. A test may put
another in its place (``use``) to fail or stop at the n-th call.

Order of durability: the temporary file stands beside its target, is written, given its mode and time, synced, renamed
over the target, and then the folder is synced, so that a power cut leaves the old file or the new one. What makes and
removes many names syncs their folders once, at the end of a :func:`durable` block.
"""

from __future__ import annotations

import contextlib
import errno
import itertools
import os
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO, cast

from emberkeep.fs import system
from emberkeep.fs.metadata import Metadata, give_owner, persist_metadata, set_metadata
from emberkeep.fs.scan import TEMPORARY
from emberkeep.fs.system import PRIVATE, PRIVATE_FOLDER, anchored, opened

_UMASK = os.umask(0)
os.umask(_UMASK)
SHARED = 0o666 & ~_UMASK
"""The mode of a file that is made for others too: as the umask says."""


Chunk = bytes | int
"""A piece of contents: bytes, or the length of a hole, which reads as zeros and takes no room."""


def _write_chunks(path: str | Path, chunks: Iterable[Chunk]) -> None:
    with system.io.create(path) as handle:
        hole = False
        for chunk in chunks:
            hole = isinstance(chunk, int)
            if isinstance(chunk, int):
                system.io.skip(handle, chunk)
            else:
                system.io.write(handle, chunk)
        if hole:
            system.io.truncate(handle)


def write_whole(
    target: Path,
    chunks: Iterable[Chunk],
    *,
    mode: int | None = None,
    mtime_ns: int | None = None,
    otherwise: int = PRIVATE,
) -> None:
    """Write ``chunks`` as ``target``, all or nothing.

    ``mode``: permission bits, those of the file replaced when None, ``otherwise`` those of a new one. ``mtime_ns``:
    modification time.
    Raises OSError as the system does; the target is then as it was. Only where one was replaced already and the disk
    will not keep its new name, it may be the new one.
    """
    if mode is None and target.is_file() and not target.is_symlink():
        mode = stat.S_IMODE(target.stat().st_mode)
    mode = otherwise if mode is None else mode
    with _beside(target) as beside:
        _write_chunks(beside, chunks)
        persist_metadata(beside, Metadata(mode, mtime_ns), ours=True)
        _put_in_place(beside, target)


def _put_in_place(beside: Path, target: Path) -> None:
    """Rename a synced file to its target and have the disk keep that. Who is told that it failed may rely on a new file
    not being there."""
    new = not os.path.lexists(target)
    system.io.replace(beside, target)
    try:
        system.io.sync_folder(target.parent)
    except OSError:
        if new:
            with contextlib.suppress(OSError):
                system.io.unlink(target)
        raise


class _Through:
    """A file opened for writing whose every write goes through :data:`io`, for packages that write archives
    themselves."""

    def __init__(self, handle: BinaryIO) -> None:
        self._handle = handle

    def write(self, data: bytes | bytearray | memoryview) -> int:
        system.io.write(self._handle, bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def tell(self) -> int:
        return self._handle.tell()

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        return self._handle.seek(offset, whence)

    def seekable(self) -> bool:
        return True

    def close(self) -> None:
        """Closed by :func:`writing`."""


@contextlib.contextmanager
def writing(target: Path) -> Iterator[BinaryIO]:
    """A handle to write ``target`` through, all or nothing: it appears, synced, when the block ends well."""
    with _beside(target) as beside:
        with system.io.create(beside) as handle:
            yield cast(BinaryIO, _Through(handle))
            system.io.sync(handle)
        _put_in_place(beside, target)


@contextlib.contextmanager
def appending(path: Path) -> Iterator[BinaryIO]:
    """A handle at the end of a file of ours that other programs write to, as the output of a server."""
    with opened(path, "ab", os.O_CREAT) as handle:
        yield handle


def write_new(target: str, chunks: Iterable[Chunk], facts: Metadata) -> None:
    """Write ``chunks`` as a file that is not there yet, without syncing it; it goes again when that fails. The path is
    text: for tens of thousands of small files, pathlib takes as long as the system."""
    try:
        _write_chunks(target, chunks)
        set_metadata(target, facts)
    except FileExistsError:
        raise
    except BaseException:
        with contextlib.suppress(OSError):
            system.io.unlink(target)
        raise


def persist(folder: Path, paths: Iterable[str]) -> None:
    """Sync files below a folder that were written without: at once where the system can, else one by one, but for those
    that are not there or may not be read."""
    if system.io.sync_disk(folder):
        return
    with anchored(folder):
        for path in paths:
            with contextlib.suppress(FileNotFoundError, PermissionError), system.io.reopen(folder / path) as handle:
                system.io.sync(handle)


class Stage:
    """Several files written beside their targets, synced together, then renamed over them together.

    Syncing many files behind one another costs little more than the first of them does.
    """

    def __init__(self) -> None:
        self._waiting: list[tuple[Path, Path, Metadata]] = []

    def put(self, target: Path, chunks: Iterable[Chunk], facts: Metadata) -> None:
        """Write ``chunks`` beside ``target``. What ``chunks`` or the system raises leaves nothing of it."""
        make_folder(target.parent)
        with _beside(target) as beside:
            _write_chunks(beside, chunks)
        self._waiting.append((beside, target, facts))

    def commit(self) -> None:
        """Sync and rename all. OSError half-way leaves the rest to :meth:`abandon`."""
        for beside, _, facts in self._waiting:
            persist_metadata(beside, facts)
        folders = {target.parent for _, target, _ in self._waiting}
        while self._waiting:
            system.io.replace(*self._waiting[0][:2])
            self._waiting.pop(0)
        for folder in folders:
            system.io.sync_folder(folder)

    def abandon(self) -> None:
        """Remove what was not renamed."""
        for beside, _, _ in self._waiting:
            with contextlib.suppress(OSError):
                system.io.unlink(beside)
        self._waiting.clear()


def place_link(target: Path, points_at: str, facts: Metadata) -> None:
    """Make ``target`` a symbolic link, replacing a file or link that stands there."""
    with _beside(target) as beside:
        system.io.symlink(points_at, beside)
        give_owner(beside, facts)
        if facts.mtime_ns is not None and os.utime in os.supports_follow_symlinks:
            system.io.utime(beside, facts.mtime_ns)
        system.io.replace(beside, target)


def hard_link(target: Path, existing: Path) -> None:
    """Make ``target`` a further name of the file ``existing``, replacing a file or link that stands there."""
    with _beside(target) as beside:
        system.io.link(existing, beside)
        system.io.replace(beside, target)
        with contextlib.suppress(FileNotFoundError):
            system.io.unlink(beside)  # renaming one name of a file over another of its names does nothing


@contextlib.contextmanager
def _beside(target: Path) -> Iterator[Path]:
    """A temporary name beside ``target``; what stands there is taken away when the block fails."""
    beside = _temporary_beside(target)
    try:
        yield beside
    except BaseException:
        with contextlib.suppress(OSError):
            system.io.unlink(beside)
        raise


_RUN = os.urandom(4).hex()
_numbers = itertools.count()


def _temporary_beside(target: Path) -> Path:
    return target.with_name(f"{TEMPORARY}{os.getpid()}-{_RUN}-{next(_numbers)}")


def make_folder(path: Path, *, private: bool = False) -> None:
    """Make a folder and its parents; one that is already there is fine. ``private``: none but its owner may look in.

    It outlasts a power cut from here on, within a :func:`durable` block from its end on.
    """
    if path.is_dir():
        return
    make_folder(path.parent)
    with contextlib.suppress(FileExistsError):
        system.io.mkdir(path, PRIVATE_FOLDER if private else 0o777)
        if system.io.unsynced is None:
            system.io.sync_folder(path.parent)


def sweep(folder: Path) -> None:
    """Remove temporary files that a killed writer left in ``folder``. Only the holder of the lock may call it."""
    for path in folder.glob(f"{TEMPORARY}*"):
        with contextlib.suppress(OSError):
            discard(path)


def discard(path: Path) -> None:
    """Remove a temporary file, or a temporary folder with the files in it."""
    if not path.is_dir():
        system.io.unlink(path)
        return
    for inside in path.iterdir():
        system.io.unlink(inside)
    system.io.rmdir(path)


def move_in(source: Path, target: Path, facts: Metadata) -> None:
    """Give a file that was written and synced elsewhere its place, over what stands there; ``facts`` where it has to
    be written anew, as its place is on another disk."""
    make_folder(target.parent)
    try:
        system.io.replace(source, target)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        with source.open("rb") as handle:
            write_whole(target, iter(lambda: handle.read(1 << 20), b""), mode=facts.mode, mtime_ns=facts.mtime_ns)
        system.io.unlink(source)
