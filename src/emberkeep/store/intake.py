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
from emberkeep.fs.trees import FILE, Entry, Hole, Skipped, Stamp, Tree, content_hasher, digest_of, regrouped
from emberkeep.store import extents as lists
from emberkeep.store import reuse
from emberkeep.store.extents import HOLE, Extent, Fetch, Place, Within
from emberkeep.store.manifest import FileRow
from emberkeep.store.pieces import BLOCK, Pieces, Unplaced
from emberkeep.store.reuse import PIECE, Chunks, Run
from emberkeep.store.stat_cache import Stamps

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
MOST_KIN = 60
"""More files than this that are called alike are tiles or players, not versions of one another."""


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
    unsettled: list[Skipped] = field(default_factory=list)
    unread: list[Skipped] = field(default_factory=list)
    stamps: Stamps = field(default_factory=dict)
    """ctime and inode of the files that were read, when their last byte had been."""

    def __post_init__(self) -> None:
        self._by_digest: dict[str, _Contents] = {}
        self._earlier: Mapping[str, FileRow] = {}
        self._sizes: set[int] = set()
        self._taken: dict[str, tuple[Entry, _Contents | None]] = {}
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
    ) -> dict[str, FileRow]:
        """All rows of ``entries``: those of ``kept`` as they are, the others read; and those of ``streams``. Raises
        what reading or writing does."""
        streamed = sum(held.entry.size for stream in streams if (held := self.base.get(stream.path)))
        total = sum(entry.size for path, entry in entries.items() if path not in kept) + streamed
        done = 0
        if total or streams:
            self._remember()
        try:
            for entry, look in self._with_looks(entry for path, entry in entries.items() if path not in kept):
                if entry.kind is FILE:
                    self._file(entry, look)
                    done += entry.size
                    progress(done, total)
                else:
                    self._taken[entry.path] = (entry, None)
            for stream in streams:
                done = self._streamed(stream, done, total, progress)
            return self._finished(kept)
        finally:
            if self._lookers is not None:
                self._lookers.shutdown(cancel_futures=True)
            self.pieces.close()

    def _remember(self) -> None:
        """What the base holds, by digest: a file that moved, or was only touched, needs no room."""
        rows = [held for held in (*self.elsewhere.values(), *self.base.values()) if held.place is not None]
        self._earlier = {held.digest: held for held in rows}
        self._sizes = {held.entry.size for held in rows}

    def _known_as(self, digest: str) -> _Contents | None:
        """Contents of this digest that were read before, or that the base holds."""
        found = self._by_digest.get(digest)
        if found is None and digest in self._earlier:
            held = self._earlier[digest]
            found = self._by_digest[digest] = _Contents([], held.place, 0, digest, held.entry.size)
        return found

    # --- one file ------------------------------------------------------------

    def _file(self, entry: Entry, look: Future[_Looked] | None) -> None:
        path = entry.path
        first = self._taken.get(entry.same_as)
        if first is not None and first[1] is not None:
            self._taken[path] = (entry._replace(size=first[0].size), first[1])
            if entry.same_as in self.stamps:
                self.stamps[path] = self.stamps[entry.same_as]
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
        if after:
            entry = entry._replace(mtime_ns=after[1])
            self.stamps[path] = (after[2], after[3])
        if found.digest:
            self._by_digest.setdefault(found.digest, found)
        self._taken[path] = (entry._replace(size=found.size, same_as=""), found)

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
        if digest not in self._earlier and _sum(runs) * 2 < size and not holes:  # cutting holes would take long
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

    def _finished(self, kept: Mapping[str, FileRow]) -> dict[str, FileRow]:
        self.pieces.settle([found for _, found in self._taken.values() if found is not None])
        rows = {
            path: FileRow(entry, found.identity, found.place) if found else FileRow(entry)
            for path, (entry, found) in self._taken.items()
        }
        if not rows:
            return dict(kept)
        rows.update(kept)
        return {path: rows[path] for path in sorted(rows)}


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
