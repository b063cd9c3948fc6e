"""Taking files in, in the order of their paths: what is known is only named, what is new goes into ``pieces``.

A file that changes while it is read is read again. What an earlier version of it holds is found by ``reuse``.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from blake3 import blake3

from emberkeep.errors import Damage, UnreadableInput
from emberkeep.store import extents as lists
from emberkeep.store import reuse
from emberkeep.store.extents import HOLE, Extent, Fetch, Place, Within
from emberkeep.store.manifest import Held
from emberkeep.store.packs import BlockId
from emberkeep.store.pieces import BLOCK, Pieces, Unplaced
from emberkeep.store.reuse import PIECE, Chunks, Run
from emberkeep.store.seen import Stamps
from emberkeep.trees import FILE, Entry, Skipped, Tree, digest_of

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
class _Contents(Unplaced):
    """What was read of one file."""

    digest: str = ""
    size: int = 0


@dataclass
class Intake:
    """One pass of taking a tree in. ``base``: rows of an earlier snapshot whose contents are all there; ``fetch``:
    reads a block; ``pieces``: where what is new goes."""

    tree: Tree
    base: Mapping[str, Held]
    fetch: Fetch
    pieces: Pieces
    unsettled: list[Skipped] = field(default_factory=list)
    unread: list[Skipped] = field(default_factory=list)
    stamps: Stamps = field(default_factory=dict)
    """ctime and inode of the files that were read, when their last byte had been."""

    def __post_init__(self) -> None:
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
            self.pieces.close()

    def _remember(self) -> None:
        """What the base holds, by digest: a file that moved, or was only touched, needs no room."""
        for held in self.base.values():
            if held.place is not None:
                self._by_digest[held.digest] = _Contents([], held.place, 0, held.digest, held.entry.size)
                self._sizes.add(held.entry.size)

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
        if known is not None:
            return known
        block = BlockId(digest.digest()) if len(data) == BLOCK else None
        return _Contents(self.pieces.store(data, block), digest=digest.hexdigest(), size=len(data))

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
                    found += self.pieces.store(piece[low:high])
                low = high
            at += len(piece)
        return _Contents(lists.joined(found), digest=hasher.hexdigest(), size=at)

    # --- the end -------------------------------------------------------------

    def _finished(self, kept: Mapping[str, Held]) -> dict[str, Held]:
        self.pieces.settle([found for _, found in self._taken.values() if found is not None])
        rows = {
            path: Held(entry, found.digest, found.place) if found else Held(entry)
            for path, (entry, found) in self._taken.items()
        }
        if not rows:
            return dict(kept)
        rows.update(kept)
        return {path: rows[path] for path in sorted(rows)}


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
