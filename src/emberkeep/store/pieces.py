"""Pieces of contents on their way into a pack: blocks, compressed on all cores, and bundles of what is short.

Contents of :data:`BLOCK` bytes and more fill blocks of their own; what is shorter is bundled with its neighbours, which
compresses far better. All writing happens in one thread, in the order in which pieces come.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from emberkeep.store import extents as lists
from emberkeep.store.extents import HOLE, Extent, Place
from emberkeep.store.index import Index
from emberkeep.store.packs import BlockId, Encoded, Levels, PackWriter, block_id, encode

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

BLOCK = 1 << 20
"""Raw bytes of a block; only bundles may be longer, by less than one more block."""
_IN_FLIGHT = 12
"""Blocks that may wait to be compressed or written: bounds memory."""


@dataclass(slots=True)
class Unplaced:
    """Contents by their extents, and their place once :meth:`Pieces.settle` gave them one. Until then an extent may
    name its block by a stand-in."""

    extents: list[Extent]
    place: Place | None = None
    depth: int = 0


class Pieces:
    """Takes pieces in and tells where they will lie. ``has``: whether the store holds a block already."""

    def __init__(self, has: Callable[[BlockId], bool], writer: PackWriter) -> None:
        self.writer = writer
        self._blocks = _Blocks(has, writer)
        self._bundle = _Bundle(self._blocks)

    @property
    def fresh(self) -> Index:
        """Where the blocks lie that were written."""
        return self._blocks.fresh

    def store(self, data: bytes) -> list[Extent]:
        """The extents of new bytes: whole blocks of their own, the rest in the bundle."""
        if len(data) < BLOCK:
            return [self.bundled(data)] if data else []
        whole = len(data) - len(data) % BLOCK
        found = []
        for start in range(0, whole, BLOCK):
            stand_in = self._blocks.reserve()
            self._blocks.put(data[start : start + BLOCK], stand_in)
            found.append(Extent(stand_in, 0, BLOCK))
        return found + self.store(data[whole:])

    def bundled(self, data: bytes) -> Extent:
        """Where a short piece will lie."""
        return self._bundle.put(data)

    def place(self, contents: Mapping[Place, list[Extent]]) -> dict[Place, Place]:
        """Where contents given by their extents lie from now on, by where they lay; all is written then."""
        made = {place: Unplaced(extents) for place, extents in contents.items()}
        try:
            self.settle(list(made.values()))
        finally:
            self.close()
        return {place: found.place for place, found in made.items() if found.place is not None}

    def settle(self, contents: Sequence[Unplaced]) -> None:
        """Give each contents its place: its one extent, or the list of them, which is stored like any contents."""
        once = {id(found): found for found in contents}.values()  # files with the same contents share them
        waiting = [found for found in once if found.place is None and found.extents]
        while waiting:
            self._bundle.flush()
            self._blocks.finish()
            for found in waiting:
                found.extents = self._blocks.resolved(found.extents)
            several = [found for found in waiting if len(found.extents) > 1]
            for found in waiting:
                if len(found.extents) == 1:
                    found.place = Place(*found.extents.pop(), found.depth)
            for found in several:
                found.extents = self.store(lists.serialize(found.extents))
                found.depth += 1
            waiting = several

    def sift(self, contents: Iterable[Unplaced]) -> None:
        """Give those contents their place whose one extent is written by now; nothing is cut short for it."""
        for found in contents:
            if found.place is None and len(found.extents) == 1 and self._blocks.is_named(found.extents[0].block):
                found.place = Place(*self._blocks.resolved(found.extents)[0], found.depth)
                found.extents = []

    def close(self) -> None:
        """Stop the threads, whatever they still had to do."""
        self._blocks.close()


_STAND_IN = b"stand-in "


@dataclass
class _Blocks:
    """Blocks on their way into the pack: hashed and compressed in threads, written in order.

    A block's identity is known only when its thread is done; until then a stand-in names it.
    """

    has: Callable[[BlockId], bool]
    writer: PackWriter
    fresh: Index = field(default_factory=dict)
    _waiting: deque[tuple[BlockId, Future[_Made]]] = field(default_factory=deque)
    _pool: ThreadPoolExecutor | None = None
    _count: int = 0
    _named: dict[BlockId, BlockId] = field(default_factory=dict)
    _levels: Levels = field(default_factory=Levels)

    def reserve(self) -> BlockId:
        """A stand-in for a block that is to come."""
        self._count += 1
        return BlockId(_STAND_IN + b"%d" % self._count)

    def put(self, raw: bytes, stand_in: BlockId) -> None:
        """Write a block unless the store has it."""
        if self._pool is None:
            self.has(stand_in)  # loads the index here, before threads ask for it
            from concurrent.futures import ThreadPoolExecutor

            self._pool = ThreadPoolExecutor(min(4, os.cpu_count() or 1), "compress")
        self._waiting.append((stand_in, self._pool.submit(self._make, raw)))
        while len(self._waiting) > _IN_FLIGHT or (self._waiting and self._waiting[0][1].done()):
            self._write_next()

    def _make(self, raw: bytes) -> _Made:
        """The identity of a block, and its stored form unless the store has it."""
        block = block_id(raw)
        return block, None if self.has(block) else encode(block, raw, self._levels)

    def _write_next(self) -> None:
        stand_in, future = self._waiting.popleft()
        block, encoded = future.result()
        self._named[stand_in] = block
        if encoded is not None and block not in self.fresh:
            self.fresh[block] = self.writer.add(encoded)

    def finish(self) -> None:
        """Write all that waits."""
        while self._waiting:
            self._write_next()

    def is_named(self, block: BlockId) -> bool:
        """Whether the identity of a block is known, which a stand-in may name."""
        return block in self._named or not block.startswith(_STAND_IN)

    def resolved(self, extents: Iterable[Extent]) -> list[Extent]:
        """The same extents with the identities of blocks in place of stand-ins."""
        return lists.joined(Extent(self._named.get(item.block, item.block), *item[1:]) for item in extents)

    def close(self) -> None:
        """Stop the threads, whatever they still had to do."""
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)


_Made = tuple[BlockId, Encoded | None]


@dataclass
class _Bundle:
    """Short contents gathered into one block."""

    blocks: _Blocks
    _held: list[bytes] = field(default_factory=list)
    _size: int = 0
    _stand_in: BlockId = HOLE

    def put(self, data: bytes) -> Extent:
        """Where short contents will lie."""
        if not self._held:
            self._stand_in = self.blocks.reserve()
        extent = Extent(self._stand_in, self._size, len(data))
        self._held.append(data)
        self._size += len(data)
        if self._size >= BLOCK:
            self.flush()
        return extent

    def flush(self) -> None:
        """Make a block of what is held."""
        if self._held:
            self.blocks.put(b"".join(self._held), self._stand_in)
            self._held, self._size = [], 0
