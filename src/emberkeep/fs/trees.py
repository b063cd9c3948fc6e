"""Trees of files as the rest of the product sees them: a folder on disk here; archives and snapshots elsewhere.

A path inside a tree is a ``str`` with ``/`` between its parts, relative to the tree's root, never starting
with ``/`` and never containing ``..``. Names that are not UTF-8 carry surrogates as ``os.fsdecode`` makes them.
"""

from __future__ import annotations

import copy
import os
import stat
from array import array
from collections.abc import Callable, Collection, ItemsView, Iterable, Iterator, Mapping, Set, ValuesView
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import NamedTuple, Protocol, Self, TypeVar

from blake3 import blake3

from emberkeep.errors import Fault, Place, UnreadableInput, reason
from emberkeep.fs.sorted_paths import SortedPaths

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
    return min(max(number, -MOST), MOST - 1)


MOST = 1 << 63


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


T = TypeVar("T")


class OnDemand(Mapping[str, T]):
    """Very many paths, of which each has its value made whenever it is asked for. ``at``: the number by which
    :meth:`made` finds what the value of a path is made of, in the order of paths."""

    def __init__(self, at: Mapping[str, int]) -> None:
        self.at = at

    def made(self, path: str, at: int) -> T:
        """The value of a path."""
        raise NotImplementedError

    def __len__(self) -> int:
        return len(self.at)

    def __iter__(self) -> Iterator[str]:
        return iter(self.at)

    def __contains__(self, path: object) -> bool:
        return path in self.at

    def __getitem__(self, path: str) -> T:
        return self.made(path, self.at[path])

    def only(self, wanted: Callable[[str, T], bool]) -> Self:
        """Those that are ``wanted``."""
        numbers = array("I")

        def chosen() -> Iterator[str]:
            for path, at in self.at.items():
                if wanted(path, self.made(path, at)):
                    numbers.append(at)
                    yield path

        found = copy.copy(self)
        found.at = SortedPaths(chosen(), numbers)
        return found

    def items(self) -> ItemsView[str, T]:
        """Each path with its value."""
        return _Items(self)

    def values(self) -> ValuesView[T]:
        """The values."""
        return _Values(self)


class _Items(ItemsView[str, T]):
    """Without asking for the number of each path once more."""

    _mapping: OnDemand[T]

    def __iter__(self) -> Iterator[tuple[str, T]]:
        made = self._mapping.made
        return ((path, made(path, at)) for path, at in self._mapping.at.items())


class _Values(ValuesView[T]):
    """The same without the paths."""

    _mapping: OnDemand[T]

    def __iter__(self) -> Iterator[T]:
        return (value for _, value in self._mapping.items())


def only(values: Mapping[str, T], wanted: Callable[[str, T], bool]) -> Mapping[str, T]:
    """Those by path that are ``wanted``, as compact as they are."""
    if isinstance(values, OnDemand):
        return values.only(wanted)
    return {path: value for path, value in values.items() if wanted(path, value)}


class Tree(Protocol):
    """A readable set of entries. ``label`` names it in messages."""

    @property
    def label(self) -> str:
        """What it is called in messages."""
        ...

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """What could not be taken into it, and why."""
        ...

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
        """None: nobody writes to it, so there is nothing to tell a change by."""
        return None

    def holes(self, path: str) -> tuple[Hole, ...]:
        """(): it is read whole."""
        return ()

    def changed(self, path: str) -> None:
        """Nothing: it does not change."""
        return

    def on_disk(self, path: str) -> Path | None:
        """None: it has to be read from the tree."""
        return None


def read(tree: Tree, path: str) -> bytes:
    """A file's contents whole."""
    return b"".join(tree.chunks(path))


def stem(path: str) -> str:
    """A file's name up to the first dot."""
    return path.rsplit("/", 1)[-1].split(".", 1)[0]


def content_hasher() -> blake3:
    """BLAKE3 for what may be large: long pieces are hashed on all cores."""
    return blake3(max_threads=blake3.AUTO)


def digest_of(chunks: Iterator[bytes]) -> str:
    """BLAKE3 of bytes that come in pieces."""
    hasher = content_hasher()
    for chunk in chunks:
        hasher.update(chunk)
    return hasher.hexdigest()


def file_chunks(path: str | Path, expected: int = CHUNK) -> Iterator[bytes]:
    """A file on disk, in pieces of :data:`CHUNK` bytes or, when ``expected`` to be shorter, in pieces of about that.

    OSError as the system raises it.
    """
    return chunks_of(os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0)), expected)


AS_IT_IS = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
"""How a file is opened that may have become anything since it was listed: no link is followed, no pipe waited for."""
SET_ID = stat.S_ISUID | stat.S_ISGID


def chunks_of(descriptor: int, expected: int, holes: Iterable[Hole] = ()) -> Iterator[bytes]:
    """What an open file holds, of about ``expected`` bytes; it is closed at the end. Its ``holes`` are not read."""
    size = min(CHUNK, max(expected, 4096))
    at = 0
    try:
        for start, end in holes:
            while chunk := os.read(descriptor, min(_to_boundary(at), start - at)):
                yield chunk
                at += len(chunk)
            if at < start:
                return  # it became shorter meanwhile
            yield from zeros(start, end)
            at = os.lseek(descriptor, end, os.SEEK_SET)
        while chunk := os.read(descriptor, size):
            yield chunk
    finally:
        os.close(descriptor)


def zeros(start: int, end: int) -> Iterator[bytes]:
    """What a hole from ``start`` to ``end`` holds, in pieces that nobody copies who regroups them."""
    while start < end:
        yield _ZEROS[: min(_to_boundary(start), end - start)]
        start += _to_boundary(start)


_ZEROS = bytes(CHUNK)


def _to_boundary(at: int) -> int:
    return CHUNK - at % CHUNK


def regrouped(chunks: Iterable[bytes | memoryview], size: int) -> Iterator[bytes]:
    """The bytes of ``chunks`` in pieces of ``size`` bytes; only the last may be shorter.

    Each byte is copied once at most, and none of a chunk that is such a piece.
    """
    held: list[bytes | memoryview] = []
    room = size
    for chunk in chunks:
        at = 0
        while len(chunk) - at >= room:
            held.append(chunk[at : at + room])
            yield _one(held)
            at, held, room = at + room, [], size
        if at < len(chunk):
            held.append(chunk[at:])
            room -= len(chunk) - at
    if held:
        yield _one(held)


def _one(pieces: list[bytes | memoryview]) -> bytes:
    first = pieces[0]
    return first if len(pieces) == 1 and isinstance(first, bytes) else b"".join(pieces)


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
        """The label of the whole tree."""
        return self._whole.label

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """All that the whole tree left out."""
        return self._whole.skipped

    @property
    def top(self) -> Entry | None:
        """None: it is no root."""
        return None

    def entries(self) -> Mapping[str, Entry]:
        """The entries below the folder, by their path from there."""
        return self._entries

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents that the whole tree has for it."""
        return self._whole.chunks(self._start + path)

    def digest(self, path: str) -> str:
        """The digest that the whole tree has for it."""
        return self._whole.digest(self._start + path)

    def stamp(self, path: str) -> Stamp | None:
        """The stamp that the whole tree has."""
        return self._whole.stamp(self._start + path)

    def holes(self, path: str) -> tuple[Hole, ...]:
        """The holes that the whole tree knows of."""
        return self._whole.holes(self._start + path)

    def changed(self, path: str) -> None:
        """Hand it on to the whole tree."""
        self._whole.changed(self._start + path)

    def on_disk(self, path: str) -> Path | None:
        """Where the file of the whole tree lies."""
        return self._whole.on_disk(self._start + path)


class NoTree(Still):
    """A tree that holds nothing."""

    label = "nothing"
    skipped: tuple[Skipped, ...] = ()
    top: Entry | None = None

    def entries(self) -> Mapping[str, Entry]:
        """{}."""
        return {}

    def chunks(self, path: str) -> Iterator[bytes]:
        """UnreadableInput: there is no file."""
        raise UnreadableInput(f"there is no file {path} in {self.label}")

    def digest(self, path: str) -> str:
        """UnreadableInput: there is no file."""
        return digest_of(self.chunks(path))


@dataclass(frozen=True)
class FileTree(Still):
    """A single file as a tree of one entry, under its own name or another."""

    path: Path
    name: str = ""

    @property
    def label(self) -> str:
        """The path."""
        return str(self.path)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """Nothing: a file that cannot be read is an error."""
        return ()

    @property
    def top(self) -> Entry | None:
        """None: a file stands in no folder of this tree."""
        return None

    def entries(self) -> Mapping[str, Entry]:
        """The one file, under the name it goes by."""
        facts = self.path.stat()
        name = self.name or self.path.name
        mode, when = stat.S_IMODE(facts.st_mode), fitting(facts.st_mtime_ns)
        return {name: Entry(name, Kind.FILE, mode, when, facts.st_size)}

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of the file."""
        try:
            yield from file_chunks(self.path)
        except OSError as error:
            raise UnreadableInput(f"cannot read {self.path}: {reason(error)}") from error

    def digest(self, path: str) -> str:
        """BLAKE3 of the file, read now."""
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


def unread(tree: Tree) -> tuple[Skipped, ...]:
    """What belongs into a tree and could not be listed or read; sockets and devices do not, nor what a file system
    keeps at its top for itself. A file that is in it all the same, as one that would not settle, was read."""
    left = (one for one in tree.skipped if one.why != NO_FILE and one.path != "lost+found")
    return tuple(one for one in left if (held := tree.entries().get(one.path)) is None or held.kind is not FILE)


def hides(left: Collection[str], path: str) -> bool:
    """Whether a path is one of ``left``, or lies below one."""
    return path in left or any(parent in left for parent in parents(path))


W = TypeVar("W", bound=Tree)


def whole(tree: W, more: Iterable[Skipped] = (), *, among: Iterable[str] | None = None) -> W:
    """The tree. UnreadableInput where a part of it could not be listed or read, or there is ``more`` of that kind: who
    acts on what is not in a tree would take it for gone. ``among``: the paths that matter."""
    hint = "run this as a user who may read it"
    left = (*unread(tree), *more)
    if left and among is not None:
        left = tuple(one for one in left if any(hides([one.path], path) for path in among))
    if left:
        raise UnreadableInput.gathered(tuple(Fault(one.why, Place(f"{tree.label}/{one.path}"), hint) for one in left))
    return tree


def parents(path: str) -> Iterator[str]:
    """The folders that a path stands in, the innermost first; not the top."""
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def deepest_first(entries: Iterable[Entry]) -> list[Entry]:
    """Entries with what lies inside a folder before the folder."""
    return sorted(entries, key=lambda entry: (-entry.path.count("/"), entry.path))
