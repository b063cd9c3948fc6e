"""Taking files in: what is known is only named, what is new goes into blocks, compressed on all cores.

Contents of :data:`BLOCK` bytes and more fill blocks of their own; what is shorter (small files, changed sectors,
the tails of files) is bundled with its neighbours, which compresses far better. All writing happens in one thread,
in the order of the paths, so that the same tree gives the same pack.
"""

from __future__ import annotations

import os
import re
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import NamedTuple

from blake3 import blake3

from emberkeep.errors import Damage, UnreadableInput
from emberkeep.store import extents as lists
from emberkeep.store import reuse
from emberkeep.store.extents import HOLE, Extent, Fetch, Place, Within
from emberkeep.store.index import Index
from emberkeep.store.manifest import Held
from emberkeep.store.packs import DEEP_SHARE, BlockId, Encoded, PackWriter, block_id, encode
from emberkeep.store.reuse import PIECE, Chunks, Run
from emberkeep.store.seen import Stamps
from emberkeep.trees import FILE, Entry, Skipped, Still, Tree, digest_of

BLOCK = 1 << 20
"""Raw bytes of a block; only bundles may be longer, by less than one more block."""
DEEP = 96 << 20
"""So many bytes of what compresses well are compressed harder: text is little, and a world of it would take too
long."""
SMALL = 32 * 1024
"""Files up to this size are stored whole when they changed: their bundle compresses better than a comparison saves."""
SHORTEST = 6 * 1024
"""A file whose extents would be shorter than this on average is stored anew, so that reading it stays quick."""
AT_ONCE = 16 << 20
"""Files up to this size are read once and compared and stored from memory."""
TRIES = 4
"""How often a file that changes while it is read is read again."""
MOST_KIN = 60
"""More files than this that are called alike are tiles or players, not versions of one another."""
_IN_FLIGHT = 12
"""Blocks that may wait to be compressed or written: bounds memory."""

Progress = Callable[[int, int], None]
"""Called with bytes done and bytes in all."""


def silent(done: int, total: int) -> None:
    """A progress that shows nothing."""


class _Known(NamedTuple):
    """A stretch of a file that need not be stored, and who tells the extents of any part of it."""

    start: int
    end: int
    extents: Callable[[int, int], Iterable[Extent]]


@dataclass
class _Contents:
    """What was read of one file. Extents in a bundle that is not full yet name it by a stand-in."""

    digest: str
    size: int
    extents: list[Extent]
    place: Place | None = None
    depth: int = 0


@dataclass
class Intake:
    """One pass of taking a tree in. ``base``: rows of an earlier snapshot whose contents are all there; ``has``:
    whether the store holds a block; ``fetch``: reads one."""

    tree: Tree
    base: Mapping[str, Held]
    has: Callable[[BlockId], bool]
    fetch: Fetch
    writer: PackWriter
    fresh: Index = field(default_factory=dict)
    """Where the blocks lie that were written."""
    unsettled: list[Skipped] = field(default_factory=list)
    unread: list[Skipped] = field(default_factory=list)
    stamps: Stamps = field(default_factory=dict)
    """ctime and inode of the files that were read, when their last byte had been."""

    def __post_init__(self) -> None:
        self._blocks = _Blocks(self)
        self._bundle = _Bundle(self._blocks)
        self._by_digest: dict[str, _Contents] = {}
        self._sizes: set[int] = set()
        self._taken: dict[str, tuple[Entry, _Contents | None]] = {}
        self._kin: dict[str, str] | None = None

    def take(self, entries: Mapping[str, Entry], kept: Mapping[str, Held], progress: Progress) -> dict[str, Held]:
        """All rows of ``entries``: those of ``kept`` as they are, the others read. Raises what reading or writing
        does."""
        total = sum(entry.size for path, entry in entries.items() if path not in kept)
        done = 0
        if total:
            self._remember()
        try:
            for path, entry in entries.items():
                if path in kept:
                    continue
                if entry.kind is FILE:
                    self._file(entry)
                    done += entry.size
                    progress(done, total)
                else:
                    self._taken[path] = (entry, None)
            return self._finished(kept)
        finally:
            self._blocks.close()

    def _remember(self) -> None:
        """What the base holds, by digest: a file that moved, or was only touched, needs no room."""
        for held in self.base.values():
            if held.place is not None:
                self._by_digest[held.digest] = _Contents(held.digest, held.entry.size, [], held.place)
                self._sizes.add(held.entry.size)

    # --- pieces that are no files --------------------------------------------

    @classmethod
    def of_pieces(cls, has: Callable[[BlockId], bool], fetch: Fetch, writer: PackWriter) -> Intake:
        """One that takes pieces in by :meth:`bundled` and :meth:`place` instead of a tree."""
        return cls(_Nothing(), {}, has, fetch, writer)

    def bundled(self, data: bytes) -> Extent:
        """Where a piece will lie; only :meth:`place` makes the extent good for anything else."""
        return self._bundle.put(data)

    def place(self, contents: Mapping[Place, list[Extent]]) -> dict[Place, Place]:
        """Where contents given by their extents lie from now on, by where they lay; all is written then."""
        made = {place: _Contents("", 0, extents) for place, extents in contents.items()}
        try:
            self._place(made.values())
        finally:
            self._blocks.close()
        return {place: found.place for place, found in made.items() if found.place is not None}

    # --- one file ------------------------------------------------------------

    def _file(self, entry: Entry) -> None:
        path = entry.path
        first = self._taken.get(entry.same_as)
        if first is not None and first[1] is not None:
            self._taken[path] = (entry._replace(size=first[0].size), first[1])
            if entry.same_as in self.stamps:
                self.stamps[path] = self.stamps[entry.same_as]
            return
        for attempt in range(TRIES):
            before = self.tree.stamp(path)
            try:
                found = self._read(entry)
            except UnreadableInput as error:
                if before is None:
                    raise  # an archive that cannot be read is no snapshot; a file of a live folder can be left out
                self.unread.append(Skipped(path, str(error)))
                return
            after = self.tree.stamp(path)
            if found is not None and before == after:
                break
            self.tree.changed(path)
            time.sleep(0.01 * 4**attempt)
        else:
            found = found or self._stored(self._source(entry), [])
            self.unsettled.append(Skipped(path, "went on changing while it was read"))
        if after:
            entry = entry._replace(mtime_ns=after[1])
            self.stamps[path] = (after[2], after[3])
        self._by_digest.setdefault(found.digest, found)
        self._taken[path] = (entry._replace(size=found.size, same_as=""), found)

    def _read(self, entry: Entry) -> _Contents | None:
        """The contents of a file; None when it was seen to change meanwhile."""
        if entry.size <= SMALL:
            return self._whole(entry)
        holes = self.tree.holes(entry.path)
        base = self.base.get(entry.path) or self.base.get(self._kin_of(entry.path))
        if base is None and not holes and entry.size <= BLOCK:
            return self._whole(entry)
        source = self._source(entry)
        if holes or base is None or base.place is None:
            known = self._by_digest.get(digest_of(source())) if entry.size in self._sizes else None
            return known or self._stored(source, [_Known(start, end, _hole) for start, end in holes])
        try:
            digest, stretches = self._compared(source, entry.size, base.place)
        except Damage:  # the earlier version cannot be read whole, so nothing may lean on it
            return self._stored(source, [])
        if digest in self._by_digest:
            return self._by_digest[digest]
        found = self._stored(source, stretches)
        return found if found.digest == digest else None

    def _source(self, entry: Entry) -> Chunks:
        """Reads a file from its beginning as often as it is asked to: from memory, where it is not too large for
        that."""
        if entry.size > AT_ONCE:
            return lambda: self.tree.chunks(entry.path)
        data = b"".join(self.tree.chunks(entry.path))
        return lambda: iter((data,))

    def _whole(self, entry: Entry) -> _Contents:
        """A file that fits into a block, read at once."""
        data = b"".join(self.tree.chunks(entry.path))
        digest = blake3(data)
        known = self._by_digest.get(digest.hexdigest())
        if known is None and len(data) == BLOCK:
            stand_in = self._blocks.reserve()
            self._blocks.put(data, stand_in, BlockId(digest.digest()))
            known = _Contents(digest.hexdigest(), BLOCK, [Extent(stand_in, 0, BLOCK)])
        return known or _Contents(digest.hexdigest(), len(data), self._store(data))

    def _compared(self, source: Chunks, size: int, base: Place) -> tuple[str, list[_Known]]:
        """The digest of a file, and the stretches that the base's file holds, by place or else by content."""
        earlier = Within(lists.extents_of(base, self.fetch))
        hasher = blake3()
        runs = list(reuse.in_place(_hashed(source(), hasher), self._bytes_of(earlier), reuse.sector_of(size)))
        digest = hasher.hexdigest()
        if digest not in self._by_digest and _sum(runs) * 2 < size:
            moved = reuse.by_content(source(), self._bytes_of(earlier), size)
            runs = max(runs, moved, key=_sum)
        known = [_of_run(run, earlier) for run in runs]
        count = sum(1 for item in known for _ in item.extents(item.start, item.end - item.start)) + len(known)
        return digest, known if count * SHORTEST <= max(size, 16 * SHORTEST) else []

    def _bytes_of(self, within: Within) -> Iterator[bytes]:
        return lists.read(within.stretch(0, within.length), self.fetch)

    def _kin_of(self, path: str) -> str:
        """The file of the base that is called alike but for its numbers, as dated dumps and rolled logs are."""
        if self._kin is None:
            kin: dict[str, list[str]] = {}
            for held in self.base.values():
                if held.entry.size > SMALL:
                    kin.setdefault(_shape(held.entry.path), []).append(held.entry.path)
            self._kin = {shape: paths[-1] for shape, paths in kin.items() if len(paths) <= MOST_KIN}
        return self._kin.get(_shape(path), "")

    def _stored(self, source: Chunks, known: list[_Known]) -> _Contents:
        """A file read to its end; what is not ``known`` goes into blocks."""
        hasher = blake3()
        found: list[Extent] = []
        at = next_known = 0
        for piece in reuse.regrouped(_hashed(source(), hasher), PIECE):
            low = 0
            while low < len(piece):
                while next_known < len(known) and known[next_known].end <= at + low:
                    next_known += 1
                item = known[next_known] if next_known < len(known) else None
                if item is not None and item.start <= at + low:
                    high = min(len(piece), item.end - at)
                    found += item.extents(at + low, high - low)
                else:
                    high = min(len(piece), item.start - at) if item is not None else len(piece)
                    found += self._store(piece[low:high])
                low = high
            at += len(piece)
        return _Contents(hasher.hexdigest(), at, lists.joined(found))

    def _store(self, data: bytes) -> list[Extent]:
        """The extents of new bytes: whole blocks of their own, the rest in the bundle."""
        if len(data) < BLOCK:
            return [self._bundle.put(data)] if data else []
        whole = len(data) - len(data) % BLOCK
        found = []
        for start in range(0, whole, BLOCK):
            stand_in = self._blocks.reserve()
            self._blocks.put(data[start : start + BLOCK], stand_in)
            found.append(Extent(stand_in, 0, BLOCK))
        return found + self._store(data[whole:])

    # --- the end -------------------------------------------------------------

    def _finished(self, kept: Mapping[str, Held]) -> dict[str, Held]:
        contents = {id(found): found for _, found in self._taken.values() if found is not None}
        self._place(contents.values())
        rows = {
            path: Held(entry, found.digest, found.place) if found else Held(entry)
            for path, (entry, found) in self._taken.items()
        }
        if not rows:
            return dict(kept)
        rows.update(kept)
        return {path: rows[path] for path in sorted(rows)}

    def _place(self, contents: Iterable[_Contents]) -> None:
        """Give each contents its place: its one extent, or the list of them, which is stored like any contents."""
        waiting = [found for found in contents if found.place is None and found.extents]
        while waiting:
            self._bundle.flush()
            self._blocks.finish()
            for found in waiting:
                found.extents = self._blocks.resolved(found.extents)
            several = [found for found in waiting if len(found.extents) > 1]
            for found in waiting:
                if len(found.extents) == 1:
                    found.place = Place(*found.extents[0], found.depth)
            for found in several:
                found.extents = self._store(lists.serialize(found.extents))
                found.depth += 1
            waiting = several


class _Nothing(Still):
    """A tree without entries."""

    label = ""
    skipped = ()
    top = None

    def entries(self) -> Mapping[str, Entry]:
        return {}

    def chunks(self, path: str) -> Iterator[bytes]:
        return iter(())

    def digest(self, path: str) -> str:
        return ""


@dataclass
class _Blocks:
    """Blocks on their way into the pack: hashed and compressed in threads, written in order.

    A block's identity is known only when its thread is done; until then a stand-in names it.
    """

    intake: Intake
    _waiting: deque[tuple[BlockId, Future[_Made]]] = field(default_factory=deque)
    _pool: ThreadPoolExecutor | None = None
    _count: int = 0
    _deep: int = 0
    _named: dict[BlockId, BlockId] = field(default_factory=dict)

    def reserve(self) -> BlockId:
        """A stand-in for a block that is to come."""
        self._count += 1
        return BlockId(b"stand-in %d" % self._count)

    def put(self, raw: bytes, stand_in: BlockId, block: BlockId | None = None) -> None:
        """Write a block unless the store has it; ``block``: its identity where that is known already."""
        if self._pool is None:
            self.intake.has(stand_in)  # loads the index here, before threads ask for it
            self._pool = ThreadPoolExecutor(min(4, os.cpu_count() or 1), "compress")
        self._waiting.append((stand_in, self._pool.submit(_make, raw, block, self.intake.has, self._deep < DEEP)))
        while len(self._waiting) > _IN_FLIGHT or (self._waiting and self._waiting[0][1].done()):
            self._write_next()

    def _write_next(self) -> None:
        stand_in, future = self._waiting.popleft()
        block, encoded = future.result()
        self._named[stand_in] = block
        if encoded is not None and encoded.head.stored < DEEP_SHARE * encoded.head.raw:
            self._deep += encoded.head.raw
        if encoded is not None and block not in self.intake.fresh:
            self.intake.fresh[block] = self.intake.writer.add(encoded)

    def finish(self) -> None:
        """Write all that waits."""
        while self._waiting:
            self._write_next()

    def resolved(self, extents: Iterable[Extent]) -> list[Extent]:
        """The same extents with the identities of blocks in place of stand-ins."""
        return lists.joined(Extent(self._named.get(item.block, item.block), *item[1:]) for item in extents)

    def close(self) -> None:
        """Stop the threads, whatever they still had to do."""
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)


_Made = tuple[BlockId, Encoded | None]


def _make(raw: bytes, block: BlockId | None, has: Callable[[BlockId], bool], deep: bool) -> _Made:
    """The identity of a block, and its stored form unless the store has it."""
    block = block or block_id(raw)
    return block, None if has(block) else encode(block, raw, deep=deep)


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


def _hashed(chunks: Iterable[bytes], hasher: blake3) -> Iterator[bytes]:
    for chunk in chunks:
        hasher.update(chunk)
        yield chunk


def _hole(start: int, length: int) -> Iterable[Extent]:
    return (Extent(HOLE, 0, length),)


def _of_run(run: Run, earlier: Within) -> _Known:
    return _Known(
        run.start, run.start + run.length, lambda start, length: earlier.stretch(run.base + start - run.start, length)
    )


def _sum(runs: Iterable[Run]) -> int:
    return sum(run.length for run in runs)


_NUMBERS = re.compile(r"\d+")


def _shape(path: str) -> str:
    return _NUMBERS.sub("0", path)
