"""Trees of files as the rest of the product sees them: a folder on disk here; archives and snapshots elsewhere.

A path inside a tree is a ``str`` with ``/`` between its parts, relative to the tree's root, never starting
with ``/`` and never containing ``..``. Names that are not UTF-8 carry surrogates as ``os.fsdecode`` makes them.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
from collections.abc import Iterable, Iterator, Mapping, Set
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import NamedTuple, Protocol

from blake3 import blake3

from emberkeep.errors import UnreadableInput
from emberkeep.fs.scan import Root, Scan

CHUNK = 1 << 20


class Kind(StrEnum):
    """What stands at a path."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"


FILE, FOLDER, LINK = Kind.FILE, Kind.FOLDER, Kind.LINK
"""The same by names that cost nothing to look up, for what is done once for every path of a large tree."""


class Entry(NamedTuple):
    """One path of a tree; a tuple, since trees have very many of them.

    ``mode``: permission bits; ``mtime_ns``: modification time in ns since 1970 UTC; ``owner`` and ``group``:
    numbers, -1 where unknown; ``same_as``: for a further name of one file (a hard link), the first of its names in
    the tree.
    """

    path: str
    kind: Kind
    mode: int
    mtime_ns: int
    size: int = 0
    points_at: str = ""
    owner: int = -1
    group: int = -1
    same_as: str = ""


def fitting(number: int) -> int:
    """A number, or what 64 bits hold that is nearest to it: in ns, times from the year 1677 to 2262 can be told."""
    return min(max(number, -_MOST), _MOST - 1)


_MOST = 1 << 63


Stamp = tuple[int, ...]
"""What the system changes whenever somebody writes to a file: size, mtime, ctime (ns) and inode."""
Hole = tuple[int, int]
"""A stretch of a sparse file that takes no room on disk: start and end in bytes."""


NO_FILE = "neither a file, a folder nor a link"


@dataclass(frozen=True, slots=True)
class Skipped:
    """A path that was not taken into a tree, and why."""

    path: str
    why: str


class Tree(Protocol):
    """A readable set of entries. ``label`` names it in messages."""

    @property
    def label(self) -> str: ...
    @property
    def skipped(self) -> tuple[Skipped, ...]: ...
    @property
    def top(self) -> Entry | None:
        """The root folder itself, with path "", where it has a mode and a time of its own."""
        ...

    def entries(self) -> Mapping[str, Entry]:
        """All entries by path, in the order in which reading them is cheapest."""
        ...

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a file, piece by piece. Raises UnreadableInput or Damage, never gives wrong bytes."""
        ...

    def digest(self, path: str) -> str:
        """BLAKE3 of a file's contents, as 64 hexadecimal digits."""
        ...

    def stamp(self, path: str) -> Stamp | None:
        """What tells that a file was written to meanwhile; None for trees that stand still."""
        ...

    def holes(self, path: str) -> tuple[Hole, ...]:
        """The stretches of a file that take no room where it lies, in order."""
        ...

    def changed(self, path: str) -> None:
        """Hear that a file changed while it was read: a tree that knows a steadier way reads it so the next time."""
        ...

    def on_disk(self, path: str) -> Path | None:
        """Where a file lies with these very contents; None where it has to be read from the tree."""
        ...


class Still:
    """What trees have in common that nobody writes to while they are read."""

    def stamp(self, path: str) -> Stamp | None:
        return None

    def holes(self, path: str) -> tuple[Hole, ...]:
        return ()

    def changed(self, path: str) -> None:
        return

    def on_disk(self, path: str) -> Path | None:
        return None


def read(tree: Tree, path: str) -> bytes:
    """A file's contents whole."""
    return b"".join(tree.chunks(path))


def digest_of(chunks: Iterator[bytes]) -> str:
    """BLAKE3 of bytes that come in pieces."""
    hasher = blake3()
    for chunk in chunks:
        hasher.update(chunk)
    return hasher.hexdigest()


def file_chunks(path: str | Path, expected: int = CHUNK) -> Iterator[bytes]:
    """A file on disk, in pieces of :data:`CHUNK` bytes or, when ``expected`` to be shorter, in pieces of about that.

    OSError as the system raises it.
    """
    return _chunks_of(os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0)), expected)


_AS_IT_IS = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
"""How a file is opened that may have become anything since it was listed: no link is followed, no pipe waited for."""
_SET_ID = stat.S_ISUID | stat.S_ISGID


def _chunks_of(descriptor: int, expected: int) -> Iterator[bytes]:
    size = min(CHUNK, max(expected, 4096))
    try:
        while chunk := os.read(descriptor, size):
            yield chunk
    finally:
        os.close(descriptor)


@dataclass
class FolderTree:
    """A folder on disk, read without ever following a link.

    Devices, sockets, pipes and whatever may not be read are left out and listed in ``skipped``.
    """

    root: Path
    name: str = ""
    stamps: dict[str, tuple[int, int]] = field(default_factory=dict, repr=False)
    """ctime (ns) and inode of each file as the scan found it."""
    copied: dict[str, Path] = field(default_factory=dict, repr=False)
    """Files whose contents are read from a copy."""
    _entries: dict[str, Entry] | None = field(default=None, repr=False)
    _skipped: list[Skipped] = field(default_factory=list, repr=False)
    _names: dict[tuple[int, int], list[str]] = field(default_factory=dict, repr=False)
    _sparse: set[str] = field(default_factory=set, repr=False)
    _scan: Scan | None = field(default=None, repr=False)

    def __post_init__(self) -> None:
        self._way = Root(str(self.root))

    @property
    def label(self) -> str:
        return self.name or str(self.root)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        self.entries()
        return tuple(self._skipped)

    @property
    def top(self) -> Entry | None:
        facts = self.root.stat()
        mode = stat.S_IMODE(facts.st_mode)
        return Entry("", Kind.FOLDER, mode, fitting(facts.st_mtime_ns), 0, "", facts.st_uid, facts.st_gid)

    def on_disk(self, path: str) -> Path | None:
        return self.copied.get(path, self.root / path)

    @property
    def leftovers(self) -> tuple[str, ...]:
        """Temporary files of ours that an interrupted run left behind; they are no entries."""
        return tuple(self.scanned().temporary)

    def entries(self) -> Mapping[str, Entry]:
        if self._entries is None:
            found: dict[str, Entry] = {}
            self.stamps.clear()
            self._names.clear()
            self._sparse.clear()
            scan = self.scanned()
            self._skipped = [Skipped(path, why) for path, why in scan.unread]
            for path, facts in scan.rows:
                try:
                    entry = self._entry(path, facts)
                except OSError as error:
                    self._skipped.append(Skipped(path, f"cannot be read: {error.strerror}"))
                    continue
                if entry is None:
                    self._skipped.append(Skipped(path, NO_FILE))
                    continue
                found[path] = entry
            self._tell_names(found)
            self._entries = {path: found[path] for path in sorted(found)}
        return self._entries

    def now_at(self, path: str) -> Entry | None:
        """What stands at one path now, without a scan; None where nothing does."""
        try:
            return self._entry(path, self._facts(path))
        except OSError:
            return None

    def _facts(self, path: str) -> os.stat_result:
        name, folder = self._way.at(path)
        return os.stat(name, dir_fd=folder, follow_symlinks=False)

    def fingerprint(self) -> str:
        """Of what the scan found, see ``scan``; "" where something could not be read. Many times quicker than making
        the entries."""
        return self.scanned().fingerprint()

    def scanned(self) -> Scan:
        """What the system told of the folder, asked once."""
        if self._scan is None:
            try:
                self._scan = Scan(str(self.root))
            except OSError as error:
                raise UnreadableInput(f"cannot list {self.root}: {error.strerror}") from error
        return self._scan

    def _entry(self, path: str, facts: os.stat_result) -> Entry | None:
        """Every path of a large tree comes through here, so what is common is done without a further call."""
        full, kind, size, target = facts.st_mode, FILE, 0, ""
        form = full & _TYPE
        if form == _REGULAR:
            size = facts.st_size
            self.stamps[path] = (facts.st_ctime_ns, facts.st_ino)
            if facts.st_nlink > 1:
                self._names.setdefault((facts.st_dev, facts.st_ino), []).append(path)
            if sys.platform != "win32" and size > facts.st_blocks * 512:
                self._sparse.add(path)
        elif form == _FOLDER:
            kind = FOLDER
        elif form == _LINK:
            name, folder = self._way.at(path)
            kind, target = LINK, os.readlink(name, dir_fd=folder)
        else:
            return None
        when = facts.st_mtime_ns
        if not -_MOST < when < _MOST:
            when = fitting(when)
        fields = (path, kind, full & 0o7777, when, size, target, facts.st_uid, facts.st_gid, "")
        return tuple.__new__(Entry, fields)

    def _tell_names(self, found: dict[str, Entry]) -> None:
        for paths in self._names.values():
            first, *others = sorted(paths)
            for path in others:
                found[path] = found[path]._replace(same_as=first)

    def chunks(self, path: str) -> Iterator[bytes]:
        try:
            entry = self.entries().get(path)
            yield from _chunks_of(self._open(path, entry), entry.size if entry else CHUNK)
        except OSError as error:
            raise UnreadableInput(f"cannot read {self.root / path}: {error.strerror}") from error

    def _open(self, path: str, entry: Entry | None) -> int:
        """A descriptor of a file, and of nothing else that may stand there by now."""
        try:
            name, folder = self._way.at(path)
            descriptor = os.open(name, _AS_IT_IS, dir_fd=folder)
        except FileNotFoundError:  # perhaps its folder was put in another's place
            self._way.anew()
            name, folder = self._way.at(path)
            descriptor = os.open(name, _AS_IT_IS, dir_fd=folder)
        facts = os.fstat(descriptor)
        wrong = "" if stat.S_ISREG(facts.st_mode) else "it is no file any more"
        if entry is not None and entry.mode & _SET_ID and (entry.owner, entry.group) != (facts.st_uid, facts.st_gid):
            wrong = "it was replaced meanwhile"  # what runs as its owner must be its owner's
        if wrong:
            os.close(descriptor)
            raise OSError(errno.EINVAL, wrong, path)
        return descriptor

    def digest(self, path: str) -> str:
        return digest_of(self.chunks(path))

    def stamp(self, path: str) -> Stamp | None:
        try:
            facts = self._facts(path)
        except OSError:
            return ()  # gone: it can only differ from what it was
        inode = facts.st_ino if _LISTS_INODES else 0
        return facts.st_size, fitting(facts.st_mtime_ns), facts.st_ctime_ns, inode

    def holes(self, path: str) -> tuple[Hole, ...]:
        if sys.platform == "win32" or path not in self._sparse or not hasattr(os, "SEEK_HOLE"):
            return ()
        try:
            descriptor = self._open(path, None)
            try:
                return tuple(_holes(descriptor))
            finally:
                os.close(descriptor)
        except OSError:
            return ()  # a file system that cannot tell; reading it tells what is wrong, if anything is

    def changed(self, path: str) -> None:
        return


_TYPE = 0o170000
"""The bits of a mode that say what kind of thing it is."""
_REGULAR, _FOLDER, _LINK = stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK


_LISTS_INODES = os.name != "nt"
"""Whether listing a folder tells inodes; Windows gives 0 there."""


def _holes(descriptor: int) -> Iterator[Hole]:
    if sys.platform == "win32":  # which tells of none this way
        return
    end, at = os.fstat(descriptor).st_size, 0
    while at < end:
        hole = os.lseek(descriptor, at, os.SEEK_HOLE)
        if hole >= end:
            return
        try:
            at = os.lseek(descriptor, hole, os.SEEK_DATA)
        except OSError:  # ENXIO: nothing but a hole up to the end
            at = end
        yield hole, at


class PartTree:
    """The part of another tree below one of its folders, with paths relative to that folder."""

    def __init__(self, whole: Tree, below: str) -> None:
        self._whole = whole
        self._start = f"{below}/"
        self._entries = {
            path.removeprefix(self._start): entry._replace(
                path=path.removeprefix(self._start), same_as=self._inside(entry.same_as)
            )
            for path, entry in whole.entries().items()
            if path.startswith(self._start)
        }

    def _inside(self, path: str) -> str:
        return path.removeprefix(self._start) if path.startswith(self._start) else ""

    @property
    def label(self) -> str:
        return self._whole.label

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        return self._whole.skipped

    @property
    def top(self) -> Entry | None:
        return None

    def entries(self) -> Mapping[str, Entry]:
        return self._entries

    def chunks(self, path: str) -> Iterator[bytes]:
        return self._whole.chunks(self._start + path)

    def digest(self, path: str) -> str:
        return self._whole.digest(self._start + path)

    def stamp(self, path: str) -> Stamp | None:
        return self._whole.stamp(self._start + path)

    def holes(self, path: str) -> tuple[Hole, ...]:
        return self._whole.holes(self._start + path)

    def changed(self, path: str) -> None:
        self._whole.changed(self._start + path)

    def on_disk(self, path: str) -> Path | None:
        return self._whole.on_disk(self._start + path)


class NoTree(Still):
    """A tree that holds nothing."""

    label = "nothing"
    skipped: tuple[Skipped, ...] = ()
    top: Entry | None = None

    def entries(self) -> Mapping[str, Entry]:
        return {}

    def chunks(self, path: str) -> Iterator[bytes]:
        raise UnreadableInput(f"there is no file {path} in {self.label}")

    def digest(self, path: str) -> str:
        return digest_of(self.chunks(path))


@dataclass(frozen=True)
class FileTree(Still):
    """A single file as a tree of one entry, under its own name or another."""

    path: Path
    name: str = ""

    @property
    def label(self) -> str:
        return str(self.path)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        return ()

    @property
    def top(self) -> Entry | None:
        return None

    def entries(self) -> Mapping[str, Entry]:
        facts = self.path.stat()
        name = self.name or self.path.name
        mode, when = stat.S_IMODE(facts.st_mode), fitting(facts.st_mtime_ns)
        return {name: Entry(name, Kind.FILE, mode, when, facts.st_size)}

    def chunks(self, path: str) -> Iterator[bytes]:
        try:
            yield from file_chunks(self.path)
        except OSError as error:
            raise UnreadableInput(f"cannot read {self.path}: {error.strerror}") from error

    def digest(self, path: str) -> str:
        return digest_of(self.chunks(path))


def best_root(tree: Tree, live: Set[str]) -> str:
    """The folder inside a release that lines up with the live server: "" for the top, or a single folder around all."""
    entries = tree.entries()
    tops = {path.split("/", 1)[0] for path in entries}
    if len(tops) != 1:
        return ""
    top = next(iter(tops))
    if entries[top].kind is not FOLDER:
        return ""
    as_it_is = len(live & entries.keys())
    inside = sum(path.partition("/")[2] in live for path in entries)
    return top if inside > as_it_is or (inside == as_it_is == 0) else ""


def parents(path: str) -> Iterator[str]:
    """The folders that a path stands in, the innermost first; not the top."""
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def deepest_first(entries: Iterable[Entry]) -> list[Entry]:
    """Entries with what lies inside a folder before the folder."""
    return sorted(entries, key=lambda entry: (-entry.path.count("/"), entry.path))
