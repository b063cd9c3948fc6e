"""The table of entries that a manifest holds: on disk, and in memory as rows by path.

::

    table  = length:u32 few paths kinds columns blocks digests
    length = bytes in ``few``, little-endian

Sorted by path. ``few`` is a JSON document (ASCII):

* ``top``: mode, mtime_ns, owner and group of the root folder, or null;
* ``skipped``: lists path and reason;
* ``entries``, ``paths``, ``blocks``: number of entries, bytes in ``paths``, number of blocks;
* ``points_at`` (targets of links) and ``same_as`` (further names of one file: its first name) have the row, as text,
  as key. Names that are not UTF-8 stand as lone surrogates (``\\udcXX``).

``paths`` are the names as the system's bytes or UTF-8, joined by NUL. ``kinds`` has a letter for each entry: f file,
d folder, l link. ``columns``, one after the other, each with a number for each entry, 64 bits, signed, little-endian:
mode, mtime_ns, size, owner, group (-1 where unknown), block (position in ``blocks``, -1 where there are no bytes),
offset, length, depth (see ``extents``). ``blocks`` are the identities of all blocks that the entries name, 32 bytes
each; ``digests`` the BLAKE3 of the whole contents of each entry of kind f, 32 bytes each.

In memory a table of up to :data:`VERY_MANY` entries is a ``dict`` of rows. A longer one is a :class:`Table`: the
columns as they stand on disk, of which rows are made when they are asked for, a fifth of what rows take.
"""

from __future__ import annotations

import json
import struct
import sys
from array import array
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from itertools import accumulate, count, islice, pairwise, repeat
from operator import lt
from typing import TYPE_CHECKING, Any, NamedTuple

from emberkeep.fs.folder_tree import VERY_MANY
from emberkeep.fs.sorted_paths import SortedPaths
from emberkeep.fs.trees import FILE, Entry, Kind, OnDemand, Skipped
from emberkeep.store.extents import HOLE, Place
from emberkeep.store.packs import BlockId

if TYPE_CHECKING:
    import numpy as np

_LENGTH = struct.Struct("<I")
_LETTERS = {Kind.FILE: "f", Kind.FOLDER: "d", Kind.LINK: "l"}
_KINDS = {letter: kind for kind, letter in _LETTERS.items()}
_KIND_OF = {ord(letter): kind for letter, kind in _KINDS.items()}
_FILE = ord(_LETTERS[Kind.FILE])
_COLUMNS = 9
_MODE, _MTIME, _SIZE, _OWNER, _GROUP, _BLOCK, _OFFSET, _LENGTHS, _DEPTH = range(_COLUMNS)
_DIGEST = 32


class FileRow(NamedTuple):
    """An entry with the digest (hex) and the place of its contents: "" and None where there are none."""

    entry: Entry
    digest: str = ""
    place: Place | None = None


Column = Sequence[int]


class Parts(NamedTuple):
    """A table taken apart, its rows not yet made."""

    few: dict[str, Any]
    paths: memoryview
    kinds: bytes
    columns: tuple[Column, ...]
    blocks: list[BlockId]
    digests: memoryview

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """What could not be taken into the snapshot, and why."""
        return tuple(Skipped(path, why) for path, why in self.few["skipped"])

    @property
    def top(self) -> Entry | None:
        """The root folder itself, where it is told."""
        top = self.few["top"]
        return Entry("", Kind.FOLDER, top[0], top[1], 0, "", top[2], top[3]) if top else None


def parts_of(data: bytes) -> Parts:
    """A table from its bytes, which it goes on using."""
    at = _LENGTH.size + _LENGTH.unpack_from(data)[0]
    few = json.loads(data[_LENGTH.size : at])
    rows = few["entries"]
    lengths = (few["paths"], rows, *[8 * rows] * _COLUMNS, _DIGEST * few["blocks"])
    ends = list(accumulate(lengths, initial=at))
    whole = memoryview(data)
    paths, kinds, *columns, blocks = (whole[start:end] for start, end in pairwise(ends))
    named = [BlockId(bytes(blocks[at : at + _DIGEST])) for at in range(0, len(blocks), _DIGEST)]
    return Parts(few, paths, bytes(kinds), tuple(map(unpacked, columns)), named, whole[ends[-1] :])


def packed(*columns: Column) -> bytes:
    """Columns of numbers, one after the other: 64 bits each, signed, little-endian."""
    return b"".join(map(_little, columns))


def _little(column: Column) -> memoryview:
    """The bytes of a column, which are its own where the machine is little-endian."""
    if sys.byteorder == "little" and isinstance(column, array | memoryview):
        return memoryview(column).cast("B")
    numbers = array("q", column)
    if sys.byteorder == "big":
        numbers.byteswap()
    return memoryview(numbers).cast("B")


def unpacked(data: bytes | memoryview) -> Column:
    """The numbers in what :func:`packed` made, which go on using it."""
    if sys.byteorder == "big":
        numbers = array("q", bytes(data))
        numbers.byteswap()
        return numbers
    return memoryview(data).cast("q")


class Places(NamedTuple):
    """Where the contents lie that a table names, a number for each row in each column: ``block`` is the position in
    ``blocks``, -1 where there are no bytes; the rest is as :class:`Place` has it."""

    blocks: list[BlockId]
    block: np.ndarray
    offset: np.ndarray
    length: np.ndarray
    depth: np.ndarray

    def place(self, at: int) -> Place:
        """That of a row which has one."""
        block, *rest = (int(column[at]) for column in self[1:])
        return Place(self.blocks[block], *rest)

    def lists(self) -> Iterator[Place]:
        """The places of lists of extents, those of which rows name the same as often as they do."""
        return map(self.place, self.depth.nonzero()[0].tolist())


def places_of(parts: Parts) -> Places:
    """Where the contents lie that a table names."""
    import numpy as np

    return Places(parts.blocks, *(np.asarray(column, np.int64) for column in parts.columns[_BLOCK:]))


_NOWHERE = Place(HOLE, 0, 0)


def contents_of(parts: Parts, sizes: Container[int] | None) -> dict[Place, tuple[int, bytes]]:
    """The contents that a table names, or those of some ``sizes``: by place their size in bytes and digest."""
    size, numbers, *rest = parts.columns[_SIZE], *parts.columns[_BLOCK:]
    files = [at for at, letter in enumerate(parts.kinds) if _KIND_OF[letter] is FILE]
    return {
        Place(parts.blocks[numbers[at]], *(column[at] for column in rest)): (
            size[at],
            bytes(parts.digests[_DIGEST * file : _DIGEST * (file + 1)]),
        )
        for file, at in enumerate(files)
        if numbers[at] >= 0 and (sizes is None or size[at] in sizes)
    }


def rows_of(parts: Parts) -> Mapping[str, FileRow]:
    """The rows of a table by path, in its order."""
    rows = parts.few["entries"]
    if not rows:
        return {}
    if rows > VERY_MANY:
        return Table(parts, SortedPaths(_paths_in(parts)))
    paths = list(_paths_in(parts))
    points_at, same_as = ([""] * rows for _ in range(2))
    for rare, name in ((points_at, "points_at"), (same_as, "same_as")):
        for at, value in parts.few[name].items():
            rare[int(at)] = value
    kinds = [_KIND_OF[letter] for letter in parts.kinds]
    mode, mtime_ns, size, owner, group, block, offset, length, depth = parts.columns
    blocks = [*parts.blocks, HOLE]
    hexes = parts.digests.hex()
    starts = iter(range(0, len(hexes), 64))
    digests = [hexes[(at := next(starts)) : at + 64] if kind is FILE else "" for kind in kinds]
    new = tuple.__new__  # a call of ours for each row would take several times as long
    entries = map(
        new,
        repeat(Entry),
        zip(paths, kinds, mode, mtime_ns, size, points_at, owner, group, same_as, strict=True),
    )
    places = map(new, repeat(Place), zip([blocks[at] for at in block], offset, length, depth, strict=True))
    named = [None if at < 0 else place for at, place in zip(block, places, strict=True)]
    return dict(zip(paths, map(new, repeat(FileRow), zip(entries, digests, named, strict=True)), strict=True))


def _joined(paths: Iterable[str]) -> Iterator[bytes]:
    """Paths as they stand on disk, some at a time."""
    waiting, between = iter(paths), ""
    while some := list(islice(waiting, 1000)):
        yield (between + "\0".join(some)).encode("utf-8", "surrogateescape")
        between = "\0"


def _paths_in(parts: Parts) -> Iterator[str]:
    """The paths of a table, some at a time: all as strings take several times the room."""
    rest = b""
    for at in range(0, len(parts.paths), _AT_ONCE):
        *whole, rest = (rest + parts.paths[at : at + _AT_ONCE]).split(b"\0")
        yield from (path.decode("utf-8", "surrogateescape") for path in whole)
    yield rest.decode("utf-8", "surrogateescape")


_AT_ONCE = 64 * 1024


class Table(OnDemand[FileRow]):
    """Rows by path, made of columns. ``at``: where each path stands in these, which may hold more."""

    def __init__(self, parts: Parts, at: Mapping[str, int], file: Sequence[int] | None = None) -> None:
        super().__init__(at)
        self.parts = parts
        self._file = file if file is not None else _files_before(parts.kinds)
        self._rare = [{int(at): value for at, value in parts.few[name].items()} for name in ("points_at", "same_as")]

    def made(self, path: str, at: int) -> FileRow:
        """The row of a path."""
        entry = self.entry(path, at)
        digest = self.digest(at).hex() if entry.kind is FILE else ""
        return FileRow(entry, digest, _place(self.parts.columns, self.parts.blocks, at))

    def digest(self, at: int) -> memoryview:
        """That of a file's contents, by the number of its row."""
        start = self._file[at] * _DIGEST
        return self.parts.digests[start : start + _DIGEST]

    def contents(self, at: int) -> tuple[Place | None, int]:
        """Where a file's contents lie, by the number of its row, and their size in bytes."""
        return _place(self.parts.columns, self.parts.blocks, at), self.parts.columns[_SIZE][at]

    def entry(self, path: str, at: int) -> Entry:
        """The entry of a row alone."""
        mode, mtime_ns, size, owner, group = [column[at] for column in self.parts.columns[:_BLOCK]]
        points_at, same_as = self._rare
        kind = _KIND_OF[self.parts.kinds[at]]
        fields = (path, kind, mode, mtime_ns, size, points_at.get(at, ""), owner, group, same_as.get(at, ""))
        return tuple.__new__(Entry, fields)

    @property
    def is_whole(self) -> bool:
        """Whether it names all that its columns hold, in their order."""
        return len(self.at) == len(self.parts.kinds) and all(map(int.__eq__, self.at.values(), count()))


def _place(columns: Sequence[Column], blocks: Sequence[BlockId], at: int) -> Place | None:
    block, offset, length, depth = [column[at] for column in columns[_BLOCK:]]
    return None if block < 0 else Place(blocks[block], offset, length, depth)


class _Entries(OnDemand[Entry]):
    """The entries of a table's rows."""

    def __init__(self, table: Table, at: Mapping[str, int]) -> None:
        super().__init__(at)
        self._table = table

    def made(self, path: str, at: int) -> Entry:
        """The entry at a path."""
        return self._table.entry(path, at)


def _files_before(kinds: bytes | bytearray) -> Sequence[int]:
    """How many files stand before each entry."""
    return array("I", accumulate((letter == _FILE for letter in kinds[:-1]), initial=0))


def entries_of(held: Mapping[str, FileRow], without: str) -> Mapping[str, Entry]:
    """The entries of rows, as compact as they are; ``without`` those whose paths begin so."""
    if not isinstance(held, Table):
        return {path: row.entry for path, row in held.items() if not path.startswith(without)}
    entries = _Entries(held, held.at)
    if any(path.startswith(without) for path in held.at):
        return entries.only(lambda path, _: not path.startswith(without))
    return entries


class _ByDigest:
    """Numbers of rows by the digest of their contents, which ``digest_at`` gives: open addressing, so that a row takes
    8 to 16 bytes, a tenth of what it takes in a ``dict``."""

    def __init__(self, digest_at: Callable[[int], bytes | bytearray | memoryview]) -> None:
        self._digest_at = digest_at
        self._slots = array("I", bytes(4 * _SLOTS))
        self._many = 0

    def add(self, number: int, digest: bytes | bytearray | memoryview) -> None:
        """A row; of several with the same contents the first counts."""
        slot, found = self._found(digest)
        if found is not None:
            return
        self._slots[slot] = number + 1
        self._many += 1
        if 2 * self._many > len(self._slots):
            before, self._slots = self._slots, array("I", bytes(8 * len(self._slots)))
            for one in filter(None, before):
                self._slots[self._found(self._digest_at(one - 1))[0]] = one

    def get(self, digest: bytes | bytearray | memoryview) -> int | None:
        """The row with such contents."""
        return self._found(digest)[1]

    def _found(self, digest: bytes | bytearray | memoryview) -> tuple[int, int | None]:
        slots, last = self._slots, len(self._slots) - 1
        slot = int.from_bytes(digest[:8], "little") & last
        while one := slots[slot]:
            if self._digest_at(one - 1) == digest:
                return slot, one - 1
            slot = (slot + 1) & last
        return slot, None


_SLOTS = 1024
"""How many there are at first, a power of two."""


class KnownContents:
    """The contents that rows name, or those of some ``sizes``. ``sizes``: of those that there are."""

    def __init__(self, held: Mapping[str, FileRow], sizes: Container[int] | None) -> None:
        self.sizes: set[int] = set()
        self._table = held if isinstance(held, Table) else None
        self._numbers = _ByDigest(self._table.digest) if self._table else None
        self._places: dict[bytes, tuple[Place | None, int]] = {}
        if self._table and self._numbers:
            blocks, of = self._table.parts.columns[_BLOCK], self._table.parts.columns[_SIZE]
            for at in self._table.at.values():
                if blocks[at] >= 0 and (sizes is None or of[at] in sizes):
                    self._numbers.add(at, self._table.digest(at))
                    self.sizes.add(of[at])
            return
        for row in held.values():
            size = row.entry.size
            if row.place is not None and (sizes is None or size in sizes):
                self._places[bytes.fromhex(row.digest)] = row.place, size
                self.sizes.add(size)

    def get(self, digest: bytes) -> tuple[Place | None, int] | None:
        """Where contents of this digest lie, and their size in bytes."""
        if self._table is None or self._numbers is None:
            return self._places.get(digest)
        at = self._numbers.get(digest)
        return None if at is None else self._table.contents(at)


class Builder:
    """A table in the making, its rows added one by one."""

    def __init__(self) -> None:
        self.paths: list[str] = []
        self._columns = tuple(array("q") for _ in range(_COLUMNS))
        self._kinds, self._digests = bytearray(), bytearray()
        self._files = array("I")
        self._blocks: dict[BlockId, int] = {}
        self._named: list[BlockId] = []
        self._points_at: dict[str, str] = {}
        self._same_as: dict[str, str] = {}
        self._numbers, self._looked_at = _ByDigest(self._digest), 0

    def add(self, row: FileRow) -> None:
        """The next row."""
        (path, kind, mode, mtime_ns, size, points_at, owner, group, same_as), digest, place = row
        at = len(self.paths)
        self.paths.append(path)
        self._kinds += _LETTERS[kind].encode("ascii")
        self._files.append(len(self._digests) // _DIGEST)
        self._digests += bytes.fromhex(digest)
        block = -1
        if place is not None:
            block = self._blocks.setdefault(place.block, len(self._named))
            if block == len(self._named):
                self._named.append(place.block)
        _, offset, length, depth = place or _NOWHERE
        numbers = (mode, mtime_ns, size, owner, group, block, offset, length, depth)
        for column, number in zip(self._columns, numbers, strict=True):
            column.append(number)
        if points_at:
            self._points_at[str(at)] = points_at
        if same_as:
            self._same_as[str(at)] = same_as

    def get(self, digest: bytes) -> tuple[Place | None, int] | None:
        """Where contents of this digest lie that a row tells of, and their size in bytes."""
        for at in range(self._looked_at, len(self.paths)):
            if self._kinds[at] == _FILE:
                self._numbers.add(at, self._digest(at))
        self._looked_at = len(self.paths)
        number = self._numbers.get(digest)
        return None if number is None else (_place(self._columns, self._named, number), self._columns[_SIZE][number])

    def _digest(self, at: int) -> bytearray:
        start = _DIGEST * self._files[at]
        return self._digests[start : start + _DIGEST]

    def parts(self) -> Parts:
        """What was added, but for the paths."""
        few = {"entries": len(self.paths), "points_at": self._points_at, "same_as": self._same_as}
        return Parts(few, memoryview(b""), bytes(self._kinds), self._columns, self._named, memoryview(self._digests))

    def table(self) -> Table:
        """What was added; of a path that was added twice, the last. Nothing is added or asked for afterwards."""
        ascend = all(map(lt, self.paths, islice(self.paths, 1, None)))
        at = SortedPaths(self.paths) if ascend else {path: number for number, path in enumerate(self.paths)}
        parts, self.paths = self.parts(), []
        return Table(parts, at, self._files)

    def sorted_table(self) -> Table:
        """What was added, none twice, in the order of its paths."""
        order = array("I", sorted(range(len(self.paths)), key=self.paths.__getitem__))
        if any(map(int.__ne__, order, count())):
            self._rearrange(order)
        return self.table()

    def _rearrange(self, order: Sequence[int]) -> None:
        """Put the rows into an order, one column after the other: two copies of all would take too much room."""
        few = {int(at) for at in (*self._points_at, *self._same_as)}
        now = {was: at for at, was in enumerate(order) if was in few}
        for rare in (self._points_at, self._same_as):
            moved = {str(now[int(was)]): value for was, value in rare.items()}
            rare.clear()
            rare.update(moved)
        for column in self._columns:
            column[:] = array("q", map(column.__getitem__, order))
        first: dict[int, int] = {}  # blocks are told in the order in which rows name them
        for at, block in enumerate(self._columns[_BLOCK]):
            if block >= 0:
                self._columns[_BLOCK][at] = first.setdefault(block, len(first))
        self._named = [self._named[block] for block in first]
        digests = bytearray()
        for was in order:
            if self._kinds[was] == _FILE:
                digests += self._digest(was)
        self._digests = digests
        self._kinds = bytearray(map(self._kinds.__getitem__, order))
        self._files = array("I", _files_before(self._kinds))
        self.paths = list(map(self.paths.__getitem__, order))


def file_sizes(held: Mapping[str, FileRow], without: str) -> list[int]:
    """The sizes of all files in rows, in bytes, ``without`` those whose paths begin so."""
    if isinstance(held, Table) and held.is_whole:
        columns = zip(held.at, held.parts.kinds, held.parts.columns[_SIZE], strict=True)
        return [size for path, kind, size in columns if kind == _FILE and not path.startswith(without)]
    rows = (row.entry for row in held.values() if not row.entry.path.startswith(without))
    return [entry.size for entry in rows if entry.kind is FILE]


def mtimes_of(held: Mapping[str, FileRow]) -> Iterator[tuple[str, int]]:
    """Each path with its modification time in ns."""
    if isinstance(held, Table) and held.is_whole:
        return zip(held.at, held.parts.columns[_MTIME], strict=True)
    return ((path, row.entry.mtime_ns) for path, row in held.items())


def gathered(rows: Iterable[FileRow], expected: int) -> Mapping[str, FileRow]:
    """Rows by path, in their order; about as many as ``expected``."""
    if expected <= VERY_MANY:
        return {row.entry.path: row for row in rows}
    builder = Builder()
    for row in rows:
        builder.add(row)
    return builder.table()


def serialize(held: Mapping[str, FileRow], skipped: Iterable[Skipped], top: Entry | None) -> list[bytes | memoryview]:
    """The bytes of a table, piece by piece."""
    if isinstance(held, Table) and held.is_whole:
        parts = held.parts
    else:
        builder = Builder()
        for row in held.values():
            builder.add(row)
        parts = builder.parts()
    paths = list(_joined(held))
    few = {
        "top": [top.mode, top.mtime_ns, top.owner, top.group] if top else None,
        "skipped": [[item.path, item.why] for item in skipped],
        "entries": len(parts.kinds),
        "paths": sum(map(len, paths)),
        "blocks": len(parts.blocks),
        "points_at": parts.few["points_at"],
        "same_as": parts.few["same_as"],
    }
    head = json.dumps(few, separators=(",", ":"), ensure_ascii=True).encode("ascii")
    columns = map(_little, parts.columns)
    return [_LENGTH.pack(len(head)), head, *paths, parts.kinds, *columns, *parts.blocks, parts.digests]
