"""Where contents lie in the store: extents of blocks, and the lists that hold the extents of one file.

::

    list    = item*                               little-endian
    item    = block 32, offset u32, length u64    44 bytes
        block   identity of the block the bytes lie in; 32 bytes of zero: a hole, ``length`` bytes of zero
        offset  where in the block's raw bytes they begin

A :class:`Place` names contents as a manifest does. ``depth`` 0: the bytes of that extent are the contents.
``depth`` 1: they are a list, whose extents behind one another are the contents. ``depth`` 2: they are a list of
where the list lies, and so on.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Literal, NamedTuple, overload

from emberkeep.errors import Damage
from emberkeep.fs.trees import regrouped, zeros
from emberkeep.store.packs import BlockId

HOLE = BlockId(bytes(32))
"""Stands for no block: the bytes are zero and took no room on disk."""
_ITEM = struct.Struct("<32sIQ")

Fetch = Callable[[BlockId], bytes]
"""Gives the checked raw bytes of a block, or raises Damage."""


class Extent(NamedTuple):
    """A stretch of a block: its identity, where it begins in it, how many bytes."""

    block: BlockId
    offset: int
    length: int


class Place(NamedTuple):
    """Where the contents of a file lie; see the module's docstring."""

    block: BlockId
    offset: int
    length: int
    depth: int = 0

    @property
    def extent(self) -> Extent:
        """The stretch that the place itself names."""
        return Extent(self.block, self.offset, self.length)


def serialize(extents: Iterable[Extent]) -> bytes:
    """The bytes of a list."""
    return b"".join(_ITEM.pack(*extent) for extent in extents)


def parse(raw: bytes) -> list[Extent]:
    """The extents in a list; Damage when its length does not fit."""
    if len(raw) % _ITEM.size:
        raise Damage("a list of extents in the store has the wrong length", hint="run 'emberkeep verify'")
    return [Extent(BlockId(block), offset, length) for block, offset, length in _ITEM.iter_unpack(raw)]


def extents_of(place: Place, fetch: Fetch) -> list[Extent]:
    """The extents of the contents at ``place``, in order."""
    extents = [place.extent]
    for _ in range(place.depth):
        extents = parse(b"".join(read(extents, fetch)))
    return extents


def all_extents(place: Place, fetch: Fetch) -> list[Extent]:
    """All extents that the contents at ``place`` need: those of its lists, and its own. Holes are among them."""
    extents = [place.extent]
    found = list(extents)
    for _ in range(place.depth):
        extents = parse(b"".join(read(extents, fetch)))
        found += extents
    return found


@overload
def read(extents: Iterable[Extent], fetch: Fetch, *, views: Literal[False] = False) -> Iterator[bytes]: ...
@overload
def read(extents: Iterable[Extent], fetch: Fetch, *, views: Literal[True]) -> Iterator[bytes | memoryview]: ...
def read(extents: Iterable[Extent], fetch: Fetch, *, views: bool = False) -> Iterator[bytes | memoryview]:
    """The bytes of extents behind one another; Damage when a block is shorter than an extent of it.

    ``views``: parts of blocks come as views of them, not copied.
    """
    at = 0
    for block, offset, length in extents:
        at += length
        if block == HOLE:
            yield from zeros(at - length, at)
            continue
        raw = fetch(block)
        if offset + length > len(raw):
            raise Damage(f"block {block.hex()[:12]} is shorter than a list says", hint="run 'emberkeep verify'")
        if length == len(raw):
            yield raw
        else:
            yield memoryview(raw)[offset : offset + length] if views else raw[offset : offset + length]


def gathered(extents: Iterable[Extent], fetch: Fetch, size: int) -> Iterator[bytes]:
    """The bytes of extents in pieces of ``size`` bytes, only the last of which may be shorter; Damage when a block is
    shorter than an extent of it."""
    return regrouped(read(extents, fetch, views=True), size)


class Within:
    """The extents of one file by position, for finding those of any stretch of it."""

    def __init__(self, extents: Sequence[Extent]) -> None:
        self._extents = extents
        self._starts = [0]
        for extent in extents:
            self._starts.append(self._starts[-1] + extent.length)

    @property
    def length(self) -> int:
        """Bytes of the file."""
        return self._starts[-1]

    def stretch(self, start: int, length: int) -> Iterator[Extent]:
        """The extents of ``length`` bytes from ``start``."""
        at = bisect_right(self._starts, start) - 1
        while length > 0 and at < len(self._extents):
            block, offset, size = self._extents[at]
            skip = start - self._starts[at]
            taken = min(size - skip, length)
            if taken > 0:
                yield Extent(block, 0 if block == HOLE else offset + skip, taken)
            start, length, at = start + taken, length - taken, at + 1


def joined(extents: Iterable[Extent]) -> list[Extent]:
    """The same stretches with neighbours that lie behind one another in a block made one."""
    found: list[Extent] = []
    for extent in extents:
        last = found[-1] if found else None
        if last and last.block == extent.block and (extent.block == HOLE or last.offset + last.length == extent.offset):
            found[-1] = Extent(last.block, last.offset, last.length + extent.length)
        else:
            found.append(extent)
    return found
