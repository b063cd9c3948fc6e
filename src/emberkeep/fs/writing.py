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
import sys
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, NamedTuple, cast

from emberkeep.errors import Place, Refused
from emberkeep.fs.scan import NOFOLLOW, TEMPORARY, Root

if TYPE_CHECKING:
    import sqlite3

PRIVATE, PRIVATE_FOLDER = 0o600, 0o700
"""Modes of what only its owner may read: all that we make, until it is given another."""
_UMASK = os.umask(0)
os.umask(_UMASK)
SHARED = 0o666 & ~_UMASK
"""The mode of a file that is made for others too: as the umask says."""


_KNOWS_NO_FOLDER_SYNC = (errno.EINVAL, errno.ENOTSUP)
"""What a file system says that syncs files alone, as some network shares and shared folders of virtual machines do."""


class SystemIO:
    """The writing calls of the operating system, one method each. Within an :func:`anchored` folder they go by
    descriptors from there, and follow nothing."""

    unsynced: set[str] | None = None
    """Within a :func:`durable` block: folders in which names came, went or changed since they were last synced."""

    def _changed(self, path: str | Path) -> None:
        if self.unsynced is not None:
            self.unsynced.add(os.path.dirname(path))  # noqa: PTH120 - called for every file

    def create(self, path: str | Path) -> BinaryIO:
        self._changed(path)
        return _opened(path, "xb", os.O_CREAT | os.O_EXCL)

    def write(self, handle: BinaryIO, data: bytes) -> None:
        left = memoryview(data)
        while left:  # a file without a buffer may take less than it was given
            left = left[handle.write(left) :]

    def sync(self, handle: BinaryIO) -> None:
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
        return _opened(path, "r+b" if os.name == "nt" else "rb", 0)

    def sync_folder(self, path: str | Path) -> None:
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
        self._changed(source)
        self._changed(target)
        old, old_folder = _at(source, keep=True)
        new, new_folder = _at(target)
        try:
            os.replace(old, new, src_dir_fd=old_folder, dst_dir_fd=new_folder)
        finally:
            _let_go(old_folder)

    def unlink(self, path: str | Path) -> None:
        self._changed(path)
        name, folder = _at(path)
        os.unlink(name, dir_fd=folder)

    def rmdir(self, path: Path) -> None:
        self._changed(path)
        name, folder = _at(path)
        os.rmdir(name, dir_fd=folder)
        _gone_down_anew()

    def mkdir(self, path: Path, mode: int = 0o777) -> None:
        self._changed(path)
        name, folder = _at(path)
        os.mkdir(name, mode, dir_fd=folder)

    def symlink(self, target: str, path: Path) -> None:
        self._changed(path)
        name, folder = _at(path)
        os.symlink(target, name, dir_fd=folder)

    def link(self, existing: Path, path: Path) -> None:
        self._changed(path)
        old, old_folder = _at(existing, keep=True)
        new, new_folder = _at(path)
        follow = os.link not in os.supports_follow_symlinks
        try:
            os.link(old, new, src_dir_fd=old_folder, dst_dir_fd=new_folder, follow_symlinks=follow)
        finally:
            _let_go(old_folder)

    def chmod(self, path: str | Path, mode: int) -> None:
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
        name, folder = _at(path)
        if sys.platform != "win32":
            os.chown(name, owner, group, dir_fd=folder, follow_symlinks=False)

    def utime(self, path: str | Path, mtime_ns: int) -> None:
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


def _opened(path: str | Path, mode: str, further: int) -> BinaryIO:
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


Chunk = bytes | int
"""A piece of contents: bytes, or the length of a hole, which reads as zeros and takes no room."""


class Facts(NamedTuple):
    """What a file or folder has beside its contents; what is None (or, for numbers of people, negative) is left
    alone."""

    mode: int | None = None
    mtime_ns: int | None = None
    owner: int = -1
    group: int = -1


def may_give_away() -> bool:
    """Whether this process may set owners and groups as it likes."""
    return sys.platform != "win32" and os.geteuid() == 0


def set_facts(path: str | Path, facts: Facts, *, ours: bool = False) -> None:
    """Give a file or folder owner and group (where permitted), mode and time, in the order in which each survives
    the next. A disk that keeps no owners or no modes, as FAT, is given none: :func:`not_given` tells, but
    for files of ``ours`` ('emberkeep check' tells of these)."""
    _give_owner(path, facts)
    if facts.mode is not None:
        mode = facts.mode
        _give(lambda: io.chmod(path, mode), lambda: io.chmod(path, stat.S_IMODE(os.lstat(path).st_mode)))
        if not ours and os.name != "nt" and stat.S_IMODE(os.lstat(path).st_mode) != mode:
            _not_given.append(MODES)
    if facts.mtime_ns is not None:
        io.utime(path, facts.mtime_ns)


OWNERS, MODES = "owners", "modes"
_not_given: list[str] = []


def not_given() -> Counter[str]:
    """How many files and folders did not take their :data:`OWNERS` or :data:`MODES` since this was asked last: their
    disk keeps none, or this process may not set them."""
    found = Counter(_not_given)
    _not_given.clear()
    return found


def _give_owner(path: str | Path, facts: Facts) -> None:
    wanted = facts.owner, facts.group
    if facts.owner < 0 or not may_give_away():
        return
    now = os.lstat(path)
    _give(lambda: io.chown(path, *wanted), lambda: io.chown(path, now.st_uid, now.st_gid))
    now = os.lstat(path)
    if now.st_uid != facts.owner or facts.group not in (-1, now.st_gid):
        _not_given.append(OWNERS)


_NOT_KEPT = (errno.EPERM, errno.ENOSYS, errno.ENOTSUP)
"""What a system says of a fact that a disk does not keep; also, in part, of one that this user may not give."""


def _give(new: Callable[[], None], same: Callable[[], None]) -> None:
    """Give a file a fact that its disk may not keep: then what it has already can be given, or none can be at all."""
    try:
        new()
    except OSError as error:
        if error.errno not in _NOT_KEPT:
            raise
        try:
            same()
        except OSError as again:
            if again.errno not in (errno.ENOSYS, errno.ENOTSUP):
                raise error from None


def persist_metadata(path: str | Path, facts: Facts, *, ours: bool = False) -> None:
    """Give a written file its facts, and sync both; facts alone where it may not be read. ``ours``: see
    :func:`set_facts`."""
    try:
        handle = io.reopen(path)  # before its mode may forbid that
    except PermissionError:
        set_facts(path, facts, ours=ours)
        return
    with handle:
        set_facts(path, facts, ours=ours)
        io.sync(handle)


def has_metadata(path: str | Path, facts: Facts) -> bool:
    """Whether a file or folder has its facts already."""
    now = os.lstat(path)
    mode = facts.mode is None or stat.S_IMODE(now.st_mode) == facts.mode
    time = facts.mtime_ns is None or now.st_mtime_ns == facts.mtime_ns
    people = facts.owner < 0 or not may_give_away() or (now.st_uid, now.st_gid) == (facts.owner, facts.group)
    return mode and time and people


def set_folder_metadata(path: str | Path, facts: Facts) -> None:
    """Give a folder the facts that it lacks; they are synced at the end of the :func:`durable` block."""
    if has_metadata(path, facts):
        return
    set_facts(path, facts)
    if io.unsynced is not None:
        io.unsynced.add(str(path))


def _write_chunks(path: str | Path, chunks: Iterable[Chunk]) -> None:
    with io.create(path) as handle:
        hole = False
        for chunk in chunks:
            hole = isinstance(chunk, int)
            if isinstance(chunk, int):
                io.skip(handle, chunk)
            else:
                io.write(handle, chunk)
        if hole:
            io.truncate(handle)


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
    Raises OSError as the system does; the target is then as it was.
    """
    if mode is None and target.is_file() and not target.is_symlink():
        mode = stat.S_IMODE(target.stat().st_mode)
    mode = otherwise if mode is None else mode
    with _beside(target) as beside:
        _write_chunks(beside, chunks)
        persist_metadata(beside, Facts(mode, mtime_ns), ours=True)
        io.replace(beside, target)
    io.sync_folder(target.parent)


class _Through:
    """A file opened for writing whose every write goes through :data:`io`, for packages that write archives
    themselves."""

    def __init__(self, handle: BinaryIO) -> None:
        self._handle = handle

    def write(self, data: bytes | bytearray | memoryview) -> int:
        io.write(self._handle, bytes(data))
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
        with io.create(beside) as handle:
            yield cast(BinaryIO, _Through(handle))
            io.sync(handle)
        io.replace(beside, target)
    io.sync_folder(target.parent)


@contextlib.contextmanager
def appending(path: Path) -> Iterator[BinaryIO]:
    """A handle at the end of a file of ours that other programs write to, as the output of a server."""
    with _opened(path, "ab", os.O_CREAT) as handle:
        yield handle


def write_new(target: str, chunks: Iterable[Chunk], facts: Facts) -> None:
    """Write ``chunks`` as a file that is not there yet, without syncing it; it goes again when that fails. The path is
    text: for tens of thousands of small files, pathlib takes as long as the system."""
    try:
        _write_chunks(target, chunks)
        set_facts(target, facts)
    except FileExistsError:
        raise
    except BaseException:
        with contextlib.suppress(OSError):
            io.unlink(target)
        raise


def persist(folder: Path, paths: Iterable[str]) -> None:
    """Sync files below a folder that were written without: at once where the system can, else one by one, but for those
    that are not there or may not be read."""
    if io.sync_disk(folder):
        return
    with anchored(folder):
        for path in paths:
            with contextlib.suppress(FileNotFoundError, PermissionError), io.reopen(folder / path) as handle:
                io.sync(handle)


class Stage:
    """Several files written beside their targets, synced together, then renamed over them together.

    Syncing many files behind one another costs little more than the first of them does.
    """

    def __init__(self) -> None:
        self._waiting: list[tuple[Path, Path, Facts]] = []

    def put(self, target: Path, chunks: Iterable[Chunk], facts: Facts) -> None:
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
            io.replace(*self._waiting[0][:2])
            self._waiting.pop(0)
        for folder in folders:
            io.sync_folder(folder)

    def abandon(self) -> None:
        """Remove what was not renamed."""
        for beside, _, _ in self._waiting:
            with contextlib.suppress(OSError):
                io.unlink(beside)
        self._waiting.clear()


def place_link(target: Path, points_at: str, facts: Facts) -> None:
    """Make ``target`` a symbolic link, replacing a file or link that stands there."""
    with _beside(target) as beside:
        io.symlink(points_at, beside)
        _give_owner(beside, facts)
        if facts.mtime_ns is not None and os.utime in os.supports_follow_symlinks:
            io.utime(beside, facts.mtime_ns)
        io.replace(beside, target)


def place_name(target: Path, existing: Path) -> None:
    """Make ``target`` a further name of the file ``existing``, replacing a file or link that stands there."""
    with _beside(target) as beside:
        io.link(existing, beside)
        io.replace(beside, target)
        with contextlib.suppress(FileNotFoundError):
            io.unlink(beside)  # renaming one name of a file over another of its names does nothing


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
        io.mkdir(path, PRIVATE_FOLDER if private else 0o777)
        if io.unsynced is None:
            io.sync_folder(path.parent)


def close_to_others(folder: Path) -> bool:
    """Take from all others the right to look into a folder of ours; whether somebody had it and has it no more."""
    if not is_open_to_others(folder):
        return False
    with contextlib.suppress(OSError):  # a disk that is only read
        io.chmod(folder, PRIVATE_FOLDER)
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
"""Where a SQLite file says how it is written: 2 with a log beside it."""


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
        with path.open("rb") as handle:
            logged = handle.read(_LOG_VERSION + 1)[_LOG_VERSION:] == b"\x02"
        if logged:
            opened.execute("pragma locking_mode = exclusive")  # then the log needs no shared memory
            opened.execute("pragma journal_mode = delete")
            opened.execute("pragma locking_mode = normal")
            with contextlib.suppress(OSError):
                io.unlink(f"{path}-shm")  # that memory, which nobody needs any more
        opened.execute(f"pragma synchronous = {'extra' if lasting else 'normal'}")
        opened.execute("begin immediate")  # all tables or none; of two that begin at once, one waits
        for table in tables:
            opened.execute(table)
        opened.commit()
        yield opened


@contextlib.contextmanager
def alone(lock: Path, held: Callable[[], Refused]) -> Iterator[None]:
    """Hold a lock; raises what ``held`` gives when another process has it, and Refused when there can be none.

    It is SQLite's exclusive lock on an empty database, which works on every system and goes away with its holder.
    """
    import sqlite3  # only where something is locked

    with contextlib.ExitStack() as stack:
        try:
            make_private(lock)
            opened = stack.enter_context(contextlib.closing(sqlite3.connect(lock, timeout=0, isolation_level=None)))
            opened.execute("begin exclusive")
        except (sqlite3.Error, OSError) as error:
            if "locked" in str(error):
                raise held() from None
            raise Refused(
                f"the keep cannot be written to: {error}",
                place=Place(str(lock)),
                hint="it must be yours to write in; a lock that is no empty file holds nothing and may be removed",
            ) from error
        yield


def sweep(folder: Path) -> None:
    """Remove temporary files that a killed writer left in ``folder``. Only the holder of the lock may call it."""
    for path in folder.glob(f"{TEMPORARY}*"):
        with contextlib.suppress(OSError):
            discard(path)


def discard(path: Path) -> None:
    """Remove a temporary file, or a temporary folder with the files in it."""
    if not path.is_dir():
        io.unlink(path)
        return
    for inside in path.iterdir():
        io.unlink(inside)
    io.rmdir(path)


def move_in(source: Path, target: Path, facts: Facts) -> None:
    """Give a file that was written and synced elsewhere its place, over what stands there; ``facts`` where it has to
    be written anew, as its place is on another disk."""
    make_folder(target.parent)
    try:
        io.replace(source, target)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        with source.open("rb") as handle:
            write_whole(target, iter(lambda: handle.read(1 << 20), b""), mode=facts.mode, mtime_ns=facts.mtime_ns)
        io.unlink(source)
