"""Taking files in, in the order of their paths: what is known is only named, what is new goes into ``pieces``.

A file that changes while it is read is read again. What an earlier version of it holds is found by ``reuse``.
"""

from __future__ import annotations

import os
import re
import time
from bisect import bisect_left, bisect_right
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from blake3 import blake3

from emberkeep.callbacks import Progress
from emberkeep.errors import Damage, EmberKeepError, UnreadableInput
from emberkeep.fs.folder_tree import VERY_MANY
from emberkeep.fs.trees import FILE, Entry, Hole, Skipped, Stamp, Tree, content_hasher, digest_of, regrouped
from emberkeep.store import extents as lists
from emberkeep.store import reuse
from emberkeep.store.extents import HOLE, Extent, Fetch, Place, Within
from emberkeep.store.pieces import BLOCK, Pieces, Unplaced
from emberkeep.store.reuse import PIECE, Chunks, Run
from emberkeep.store.stat_cache import Stamps
from emberkeep.store.table import Builder, FileRow, KnownContents, gathered

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

SMALL = 32 * 1024
"""Files up to this size are stored whole when they changed: their bundle compresses better than a comparison saves."""
SHORTEST = 6 * 1024
"""A file whose extents would be shorter than this on average is stored anew, so that reading it stays quick."""
AT_ONCE = 16 << 20
"""Files up to this size are read once and compared and stored from memory."""
LOOKS = 4
"""Files that may be compared before their turn: bounds memory."""
TRIES = 4
"""How often a file that changes while it is read is read again."""
SIFTED = 10_000
"""Files that may wait for their rows before those are made that can be."""
MOST_KIN = 60
"""More files than this that are called alike are tiles or players, not versions of one another."""


StampOf = Callable[[str], tuple[int, int] | None]
"""Gives ctime (ns) and inode of a file, None where they tell nothing."""


class Stream(NamedTuple):
    """Contents that are no file of the tree and can be read only once, as a dump is: under ``path``, that of which
    begins with ``/``. Streams are read in their order, each when the one before it has come to its end."""

    path: str
    chunks: Callable[[], Iterator[bytes]]
    mtime_ns: int = 0


class _Known(NamedTuple):
    """A stretch of a file that need not be stored, and who tells the extents of any part of it."""

    start: int
    end: int
    extents: Callable[[int, int], Iterable[Extent]]


class _Looked(NamedTuple):
    """A file compared with its earlier version. ``stamp``: its facts before it was read; ``at_hand``: ``source`` gives
    from memory the very bytes that ``digest`` is of."""

    stamp: Stamp | None
    source: Chunks
    digest: str
    known: list[_Known]
    at_hand: bool


@dataclass(slots=True)
class _Contents(Unplaced):
    """What was read of one file. ``digest``: "" where the contents are one whole block, whose identity it is."""

    digest: str = ""
    size: int = 0

    @property
    def identity(self) -> str:
        """The digest, once the contents have a place."""
        return self.digest or (self.place.block.hex() if self.place else "")


@dataclass
class Intake:
    """One pass of taking a tree in. ``base``: rows of an earlier snapshot whose contents are all there; ``fetch``:
    reads a block; ``pieces``: where what is new goes; ``at_once``: several threads may read the tree, as they may a
    folder and not an archive."""

    tree: Tree
    base: Mapping[str, FileRow]
    fetch: Fetch
    pieces: Pieces
    at_once: bool = False
    elsewhere: Mapping[str, FileRow] = field(default_factory=dict)
    """Further contents that are all there, by digest: those of keeps that share the store."""
    scanned: Stamps = field(default_factory=dict)
    """ctime and inode of the files of a live folder as the scan found them."""
    unsettled: list[Skipped] = field(default_factory=list)
    unread: list[Skipped] = field(default_factory=list)
    stamps: dict[str, tuple[int, int]] = field(default_factory=dict)
    """ctime and inode of the files that were read, when their last byte had been, where the scan found others."""
    unstamped: set[str] = field(default_factory=set)
    """Files that were read of which nothing tells whether they are written to afterwards."""

    def __post_init__(self) -> None:
        self._by_digest: dict[bytes, _Contents] = {}
        """Contents that were read, until they have their row."""
        self._earlier: list[KnownContents] = []
        """What is known beforehand."""
        self._sizes: set[int] = set()
        self._taken: dict[str, tuple[Entry, _Contents | None]] = {}
        self._built = Builder()
        self._sifted_at = SIFTED
        self._firsts: dict[str, tuple[Entry, _Contents] | None] = {}
        """Files with several names, by the first of these, once they were read."""
        self._kin: dict[str, str] | None = None
        self._lookers: ThreadPoolExecutor | None = None

    def _with_looks(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Future[_Looked] | None]]:
        """Each entry, with the comparison of what has an earlier version under way in other threads."""
        waiting: deque[tuple[Entry, Future[_Looked] | None]] = deque()
        for entry in entries:
            waiting.append((entry, self._begun(entry)))
            if len(waiting) > LOOKS:
                yield waiting.popleft()
        yield from waiting

    def _begun(self, entry: Entry) -> Future[_Looked] | None:
        if not self.at_once or entry.kind is not FILE or entry.same_as or not SMALL < entry.size <= AT_ONCE:
            return None
        if self._lookers is None:
            from concurrent.futures import ThreadPoolExecutor

            self._lookers = ThreadPoolExecutor(min(LOOKS, os.cpu_count() or 1), "look")
        return self._lookers.submit(self._look, entry, self._base_of(entry))

    def take(
        self,
        entries: Mapping[str, Entry],
        kept: Mapping[str, FileRow],
        progress: Progress,
        streams: Sequence[Stream] = (),
    ) -> Mapping[str, FileRow]:
        """All rows of ``entries``: those of ``kept`` as they are, the others read; and those of ``streams``. Raises
        what reading or writing does."""
        total = sum(held.entry.size for stream in streams if (held := self.base.get(stream.path)))
        sizes = set()
        for path, entry in entries.items():
            if path not in kept:
                sizes.add(entry.size)
                total += entry.size
                if entry.same_as:
                    self._firsts[entry.same_as] = None
        done = 0
        if sizes or streams:
            self._remember(sizes if not streams else None)
        try:
            for entry, look in self._with_looks(entry for path, entry in entries.items() if path not in kept):
                if entry.kind is FILE:
                    self._file(entry, look)
                    done += entry.size
                    progress(done, total)
                else:
                    self._taken[entry.path] = (entry, None)
                if len(self._taken) >= self._sifted_at:
                    self._sift()
            for stream in streams:
                done = self._streamed(stream, done, total, progress)
            return self._finished(kept)
        finally:
            if self._lookers is not None:
                self._lookers.shutdown(cancel_futures=True)
            self.pieces.close()

    def stamp_of(self, path: str) -> tuple[int, int] | None:
        """ctime and inode of a file as it was taken in; None where they tell nothing."""
        return None if path in self.unstamped else self.stamps.get(path) or self.scanned.get(path)

    def _remember(self, sizes: set[int] | None) -> None:
        """What is known of contents of some ``sizes`` (all for None), by digest: a file that moved, or was only
        touched, needs no room."""
        self._earlier = [KnownContents(self.base, sizes), KnownContents(self.elsewhere, None)]
        self._sizes = self._earlier[0].sizes | self._earlier[1].sizes

    def _known_as(self, digest: str) -> _Contents | None:
        """Contents of this digest that were read before, or that are known beforehand."""
        key = bytes.fromhex(digest)
        if key in self._by_digest:
            return self._by_digest[key]
        tellers: tuple[Builder | KnownContents, ...] = (self._built, *self._earlier)
        for teller in tellers:
            found = teller.get(key)
            if found is not None:
                place, size = found
                return _Contents([], place, 0, digest, size)
        return None

    def _sift(self) -> None:
        """Make rows of what has its place, which take less room than what they are made of."""
        self.pieces.sift(found for _, found in self._taken.values() if found is not None)
        waiting: dict[str, tuple[Entry, _Contents | None]] = {}
        for path, (entry, found) in self._taken.items():
            if found is not None and found.place is None and found.extents:
                waiting[path] = (entry, found)
                continue
            row = FileRow(entry, found.identity, found.place) if found else FileRow(entry)
            if found is not None and found.digest and self._by_digest.get(bytes.fromhex(found.digest)) is found:
                del self._by_digest[bytes.fromhex(found.digest)]
            self._built.add(row)
        self._taken = waiting
        self._sifted_at = SIFTED + 2 * len(waiting)

    # --- one file ------------------------------------------------------------

    def _file(self, entry: Entry, look: Future[_Looked] | None) -> None:
        path = entry.path
        first = self._firsts.get(entry.same_as)
        if first is not None:
            self._taken[path] = (entry._replace(size=first[0].size), first[1])
            self._note_stamp(path, self.stamp_of(entry.same_as))
            return
        for attempt in range(TRIES):
            looked = _come(look) if attempt == 0 else None
            before = looked.stamp if looked else self.tree.stamp(path)
            try:
                found = self._read(entry, looked)
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
        self._note_stamp(path, (after[2], after[3]) if after else None)
        mtime_ns = after[1] if after else entry.mtime_ns
        if (entry.mtime_ns, entry.size, entry.same_as) != (mtime_ns, found.size, ""):
            entry = entry._replace(mtime_ns=mtime_ns, size=found.size, same_as="")
        if found.digest:
            self._by_digest.setdefault(bytes.fromhex(found.digest), found)
        self._taken[path] = (entry, found)
        if path in self._firsts:
            self._firsts[path] = (entry, found)

    def _note_stamp(self, path: str, stamp: tuple[int, int] | None) -> None:
        if stamp is None:
            self.unstamped.add(path)
        elif stamp != self.scanned.get(path):
            self.stamps[path] = stamp

    # --- what comes only once ------------------------------------------------------

    def _streamed(self, stream: Stream, done: int, total: int, progress: Progress) -> int:
        """Take a stream in; the bytes done with it.

        It is cut by content, and each cut is looked for among those of the same stream in the base.
        """
        base = self.base.get(stream.path)
        cut, known, earlier = 0, {}, None
        if base is not None and base.place is not None:
            cut = reuse.cut_of(base.entry.size)
            try:
                earlier = Within(lists.extents_of(base.place, self.fetch))
                known = reuse.cuts_by_hash(self._bytes_of(earlier), cut)
            except Damage:  # the earlier one cannot be read whole, so nothing may lean on it
                known = {}
        hasher = content_hasher()
        found: list[Extent] = []
        size = 0
        pieces = _hashed(stream.chunks(), hasher)
        for piece in reuse.cuts(pieces, cut) if known else regrouped(pieces, PIECE):
            at = known.get(blake3(piece).digest()) if known else None
            found += self.pieces.store(piece) if at is None or earlier is None else earlier.stretch(at, len(piece))
            size += len(piece)
            progress(done + size, max(total, done + size))
        digest = hasher.hexdigest()
        entry = Entry(stream.path, FILE, 0o600, stream.mtime_ns, size)
        self._taken[stream.path] = (
            entry,
            self._known_as(digest) or _Contents(lists.joined(found), None, 0, digest, size),
        )
        return done + size

    def _base_of(self, entry: Entry) -> FileRow | None:
        return self.base.get(entry.path) or self.base.get(self._kin_of(entry.path))

    def _read(self, entry: Entry, looked: _Looked | None) -> _Contents | None:
        """The contents of a file; None when it was seen to change meanwhile."""
        if looked is not None:
            return self._taken_over(looked)
        if entry.size <= SMALL:
            return self._whole(entry)
        holes = self.tree.holes(entry.path)
        base = self._base_of(entry)
        if base is None and not holes and entry.size <= BLOCK:
            return self._whole(entry)
        source = self._source(entry)
        if base is None or base.place is None:
            known = self._known_as(digest_of(source())) if entry.size in self._sizes else None
            return known or self._stored(source, _as_known(holes))
        try:
            return self._taken_over(self._look(entry, base))
        except Damage:  # the earlier version cannot be read whole, so nothing may lean on it
            return self._stored(source, _as_known(holes))

    def _look(self, entry: Entry, base: FileRow | None) -> _Looked:
        """A file read, and compared with its earlier version where there is one. Other threads may do this; Damage
        when that one is damaged."""
        stamp = self.tree.stamp(entry.path)
        source = self._source(entry)
        holes = self.tree.holes(entry.path)
        if base is None or base.place is None:
            digest, stretches = digest_of(source()), _as_known(holes)
        else:
            digest, stretches = self._compared(source, entry.size, base.place, holes)
        return _Looked(stamp, source, digest, stretches, entry.size <= AT_ONCE)

    def _taken_over(self, looked: _Looked) -> _Contents | None:
        """What was new of a file that was compared, stored; None when it was seen to change meanwhile."""
        known = self._known_as(looked.digest)
        if known is not None:
            return known
        found = self._stored(looked.source, looked.known, looked.digest if looked.at_hand else "")
        return found if found.digest == looked.digest else None

    def _source(self, entry: Entry) -> Chunks:
        """Reads a file from its beginning as often as it is asked to: from memory, where it is not too large for
        that."""
        if entry.size > AT_ONCE:
            return lambda: self.tree.chunks(entry.path)
        pieces = list(self.tree.chunks(entry.path))
        return lambda: iter(pieces)

    def _whole(self, entry: Entry) -> _Contents:
        """A file that fits into a block, read at once."""
        data = b"".join(self.tree.chunks(entry.path))
        if len(data) == BLOCK and BLOCK not in self._sizes:
            return _Contents(self.pieces.store(data), size=BLOCK)
        digest = blake3(data).hexdigest()
        return self._known_as(digest) or _Contents(self.pieces.store(data), digest=digest, size=len(data))

    def _compared(self, source: Chunks, size: int, base: Place, holes: Sequence[Hole]) -> tuple[str, list[_Known]]:
        """The digest of a file, and the stretches that the base's file holds, by place or else by content; and its
        holes."""
        earlier = Within(lists.extents_of(base, self.fetch))
        hasher = content_hasher()
        runs = list(reuse.in_place(_hashed(source(), hasher), self._bytes_of(earlier), reuse.sector_of(size)))
        digest = hasher.hexdigest()
        key = bytes.fromhex(digest)
        is_known = any(known.get(key) for known in self._earlier)
        if not is_known and _sum(runs) * 2 < size and not holes:  # cutting holes would take long
            moved = reuse.by_content(source(), self._bytes_of(earlier), size)
            runs = max(runs, moved, key=_sum)
        known = [_of_run(run, earlier) for run in runs]
        count = sum(1 for item in known for _ in item.extents(item.start, item.end - item.start)) + len(known)
        if count * SHORTEST > max(size, 16 * SHORTEST):
            known = []
        return digest, _holes_and(_as_known(holes), known) if holes else known

    def _bytes_of(self, within: Within) -> Iterator[bytes]:
        return lists.gathered(within.stretch(0, within.length), self.fetch, PIECE)

    def _kin_of(self, path: str) -> str:
        """The file of the base that is called alike but for its numbers, as dated dumps and rolled logs are."""
        if self._kin is None:
            kin: dict[str, list[str]] = {}
            for held in self.base.values():
                if held.entry.size > SMALL:
                    kin.setdefault(_shape(held.entry.path), []).append(held.entry.path)
            self._kin = {shape: paths[-1] for shape, paths in kin.items() if len(paths) <= MOST_KIN}
        return self._kin.get(_shape(path), "")

    def _stored(self, source: Chunks, known: list[_Known], digest: str = "") -> _Contents:
        """A file read to its end; what is not ``known`` goes into blocks. ``digest``: where that is told already."""
        hasher = content_hasher()
        found: list[Extent] = []
        at = next_known = 0
        for piece in regrouped(source() if digest else _hashed(source(), hasher), PIECE):
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
                    found += self.pieces.store(piece[low:high])
                low = high
            at += len(piece)
        return _Contents(lists.joined(found), digest=digest or hasher.hexdigest(), size=at)

    # --- the end -------------------------------------------------------------

    def _finished(self, kept: Mapping[str, FileRow]) -> Mapping[str, FileRow]:
        self.pieces.settle([found for _, found in self._taken.values() if found is not None])
        self._sift()
        if not self._built.paths:
            return kept
        for known in (self._by_digest, self._earlier, self._firsts):  # which the rows need no more
            known.clear()
        if not kept and len(self._built.paths) > VERY_MANY:
            return self._built.sorted_table()
        built = self._built.table()
        paths = sorted([*built, *(path for path in kept if path not in built)])
        return gathered((built[path] if path in built else kept[path] for path in paths), len(paths))


def _come(look: Future[_Looked] | None) -> _Looked | None:
    """What came of a look; None where there was none, or it failed: whoever reads the file next meets that, and
    tells."""
    try:
        return look.result() if look is not None else None
    except EmberKeepError:
        return None


def _hashed(chunks: Iterable[bytes], hasher: blake3) -> Iterator[bytes]:
    for chunk in chunks:
        hasher.update(chunk)
        yield chunk


def _hole(start: int, length: int) -> Iterable[Extent]:
    return (Extent(HOLE, 0, length),)


def _as_known(holes: Iterable[Hole]) -> list[_Known]:
    return [_Known(start, end, _hole) for start, end in holes]


def _holes_and(holes: Sequence[_Known], known: Sequence[_Known]) -> list[_Known]:
    """All ``holes``, and of the ``known`` stretches what lies between these; all in order."""
    found = list(holes)
    for start, end, extents in known:
        first = bisect_right(holes, start, key=lambda hole: hole.end)
        for hole in holes[first : bisect_left(holes, end, key=lambda hole: hole.start)]:
            if start < hole.start:
                found.append(_Known(start, hole.start, extents))
            start = hole.end
        if start < end:
            found.append(_Known(start, end, extents))
    return sorted(found, key=lambda stretch: stretch.start)


def _of_run(run: Run, earlier: Within) -> _Known:
    return _Known(
        run.start, run.start + run.length, lambda start, length: earlier.stretch(run.base + start - run.start, length)
    )


def _sum(runs: Iterable[Run]) -> int:
    return sum(run.length for run in runs)


_NUMBERS = re.compile(r"\d+")


def _shape(path: str) -> str:
    return _NUMBERS.sub("0", path)
