"""Letting snapshots go and freeing their space.

Blocks that no remaining manifest needs leave the packs. Of a block of which little is still needed, as bundles are
after a while, that little moves into a new block, and the manifests then name the new place.

Order: the manifests that go are removed; what moves is written into a new pack, synced and renamed; the manifests
that name it are replaced one by one; the blocks still needed are copied out of packs that hold little else; only
then do old packs go. Stopped anywhere, every remaining manifest still finds all its bytes, and the next time frees
what is left.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import deque
from collections.abc import Iterable, Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, field, replace
from datetime import timedelta

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import system_may_refuse
from emberkeep.fs import system, writing
from emberkeep.store import extents as lists
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store.extents import Extent, Place
from emberkeep.store.index import Index
from emberkeep.store.manifest import ManifestName
from emberkeep.store.needs import Needs, needed, places_in
from emberkeep.store.packs import (
    HEAD,
    BlockId,
    Gap,
    Head,
    Location,
    PackReader,
    PackWriter,
    block_id,
    decoded,
    pack_path,
    remove,
    scan,
)
from emberkeep.store.pieces import Pieces
from emberkeep.store.store import HOLDER, Store
from emberkeep.store.table import FileRow
from emberkeep.store.writer import keep_trust

IDLE = 0.05
"""A pack is put together anew when more than this share of it is of no use."""
SPARSE = 0.6
"""What is needed of a block moves when it is less than this share."""
SMALL_PACK, MOST_SMALL = 4 << 20, 24
"""More packs than this below this size are put together into one."""
LARGEST_PACK = 2 << 30
IDLE_MARK = ".idle"
"""Ends the name of an empty file beside a pack in which nothing was needed any more when it was written."""
GRACE = timedelta(hours=1)
"""How long a pack that nothing needs stays in a store that several keeps share."""

Found = list[tuple[Head, Location]]


@dataclass(frozen=True)
class Freed:
    """What letting snapshots go came to: bytes of the whole store before and after."""

    before: int
    after: int
    left_alone: tuple[str, ...] = ()
    """Packs that are damaged and therefore stay as they are."""
    later: int = 0
    """Bytes of packs that nothing needs any more, and that the next thinning deletes, in :data:`GRACE` at the earliest:
    another keep that shares the store may be reading there."""

    @property
    def bytes(self) -> int:
        """Bytes freed; none where a note of our own took a few."""
        return max(0, self.before - self.after)


def release(store: Store, labels: Sequence[str], progress: Progress = no_op) -> Freed:
    """Let the snapshots ``labels`` go and free what only they needed.

    Refused, before anything is touched, while a manifest that stays cannot be read: what it needs would not be known.
    RunFailed when the system refuses half-way; what stays is whole in any case.
    """
    with store.writing():
        store.forget_index()
        names = _staying(store, labels)
        needs = needed(store, names, progress)
        before = store.size()
        hint = "the remaining snapshots are whole; thin again to go on"
        with system_may_refuse("the space could not be freed", store.folder, hint):
            _drop(store, labels)
            if _move_out_of_sparse_blocks(store, names, needs):
                needs = needed(store, names, progress)
            left, later = compact(store, needs, progress)
        keep_trust(store)
    return Freed(before, store.size(), left, later)


def freed_by(store: Store, labels: Sequence[str], progress: Progress = no_op) -> int:
    """About how many bytes letting the snapshots ``labels`` go would free."""
    needs = needed(store, _staying(store, labels), progress)
    freed: float = sum(store.manifest_path(label).stat().st_size for label in labels)
    for pack in _packs(store, needs):
        if pack.torn:
            continue
        freed += pack.idle
        for head, location in pack.needed:
            share = needs.share(head.block, location)
            freed += location.stored * (1 - share) if share < SPARSE else 0
    return int(freed)


def _staying(store: Store, labels: Sequence[str]) -> list[ManifestName]:
    """All that lies in the store but for snapshots of this keep."""
    going = {ManifestName(label) for label in labels}
    return [name for name in store.all_names() if name not in going]


def _drop(store: Store, labels: Iterable[str]) -> None:
    for label in labels:
        system.io.unlink(store.manifest_path(label))
    system.io.sync_folder(store.own / "snapshots")


# --- blocks of which little is needed ----------------------------------------


def _move_out_of_sparse_blocks(store: Store, names: Sequence[ManifestName], needs: Needs) -> bool:
    """Write what is needed of sparse blocks into new ones, and have the manifests name these; False when none is
    sparse."""
    sparse = {block for block in needs.stretches if needs.share(block, store.location(block)) < SPARSE}
    if not sparse:
        return False
    with PackWriter(store.packs) as writer:
        pieces = Pieces(lambda block: block in store.index and block not in sparse, writer)
        moved = Moved(pieces, store, needs, sparse)
        places = pieces.place(
            {
                place: [moved.extent(extent) for extent in lists.extents_of(place, store.block)]
                for place in places_in(store, names, sparse)
            }
        )
    store.replace_index({**store.index, **pieces.fresh})
    for name in names:
        manifest = store.manifest_of(name)
        held = renamed(manifest.held, places)
        if held != manifest.held:
            writing.write_whole(store.path_of(name), [manifests.serialize(replace(manifest, held=held))])
    return True


class Moved:
    """Where the stretches of sparse blocks lie, once they went into ``pieces``."""

    def __init__(self, pieces: Pieces, store: Store, needs: Needs, sparse: Iterable[BlockId]) -> None:
        self._starts: dict[BlockId, list[int]] = {}
        self._now: dict[BlockId, list[Extent]] = {}
        for block in sorted(sparse, key=store.location):
            raw = store.block(block)
            stretches = needs.stretches[block]
            self._starts[block] = [start for start, _ in stretches]
            self._now[block] = [pieces.bundled(raw[start:end]) for start, end in stretches]

    def extent(self, extent: Extent) -> Extent:
        """The same bytes at their new place, when they moved."""
        if extent.block not in self._now:
            return extent
        starts = self._starts[extent.block]
        at = bisect_right(starts, extent.offset) - 1
        now = self._now[extent.block][at]
        return Extent(now.block, now.offset + extent.offset - starts[at], extent.length)


def renamed(held: Mapping[str, FileRow], places: Mapping[Place, Place]) -> dict[str, FileRow]:
    """Rows that name the new places of what has one."""
    return {
        path: row._replace(place=places.get(row.place, row.place)) if row.place else row for path, row in held.items()
    }


# --- packs -------------------------------------------------------------------


@dataclass
class _Pack:
    number: int
    size: int
    needed: Found = field(default_factory=list)
    torn: bool = False

    @property
    def idle(self) -> int:
        """Bytes that nothing needs."""
        return self.size - sum(HEAD + location.stored for _, location in self.needed)


def _packs(store: Store, needs: Needs) -> list[_Pack]:
    """What each pack holds of use; a block that lies in two packs counts where the index has it."""
    index = store.index
    found = []
    for number, size in indexes.sizes(store.packs).items():
        pack = _Pack(number, size)
        for item in scan(store.packs, number):
            if isinstance(item, Gap):
                pack.torn = True
            elif item[0].block in needs.stretches and index.get(item[0].block) == item[1]:
                pack.needed.append(item)
        found.append(pack)
    return found


def compact(store: Store, needs: Needs, progress: Progress = no_op) -> tuple[tuple[str, ...], int]:
    """Put the packs together so that they hold little but what is needed; names of damaged ones, which are left
    alone, and bytes of those that go later."""
    packs = _packs(store, needs)
    sound = [pack for pack in packs if not pack.torn]
    small = [pack for pack in sound if pack.size < SMALL_PACK]
    chosen = [pack for pack in sound if pack.idle > pack.size * IDLE or (len(small) > MOST_SMALL and pack in small)]
    wanted = [(head.block, location) for pack in chosen for head, location in pack.needed]
    moved, spoilt = copied(store, store, wanted, progress)
    idle = {pack.number for pack in chosen} - spoilt
    for pack in packs:
        if pack.number not in idle:
            _unmark(store, pack.number)
    gone = _long_idle(store, idle) if store.member else idle
    index = {block: at for block, at in store.index.items() if at.pack not in idle}
    store.replace_index(index | moved, without=gone)
    remove(store.packs, gone)
    for number in gone:
        _unmark(store, number)
    left = {pack.number for pack in packs if pack.torn} | spoilt
    later = sum(pack.size for pack in chosen if pack.number in idle - gone)
    return tuple(f"packs/{number:08d}.pack" for number in sorted(left)), later


def _unmark(store: Store, number: int) -> None:
    with suppress(FileNotFoundError):
        system.io.unlink(pack_path(store.packs, number).with_suffix(IDLE_MARK))


def _long_idle(store: Store, idle: Iterable[int]) -> set[int]:
    """The packs of those that nothing needs which were found so :data:`GRACE` ago; the others are marked as found."""
    found = set()
    now = (store.folder / HOLDER).stat().st_mtime  # written when this thinning began
    for number in idle:
        mark = pack_path(store.packs, number).with_suffix(IDLE_MARK)
        if not mark.exists():
            writing.write_whole(mark, [b""])
        elif now - mark.stat().st_mtime >= GRACE.total_seconds():
            found.add(number)
    return found


def copied(
    source: Store, target: Store, wanted: Sequence[tuple[BlockId, Location]], progress: Progress
) -> tuple[Index, set[int]]:
    """Blocks of one store, each checked, in new packs of another or the same: where they lie there, and the packs in
    which one was damaged."""
    total = sum(location.stored for _, location in wanted)
    moved: Index = {}
    spoilt: set[int] = set()
    left = deque(wanted)
    done = 0
    with closing(PackReader(source.packs)) as reader:
        while left:
            with PackWriter(target.packs) as writer:
                while left and writer.size < LARGEST_PACK:
                    block, location = left.popleft()
                    encoded = reader.encoded(location)
                    raw = None if encoded is None else decoded(encoded)
                    if encoded is None or raw is None or block_id(raw) != block:
                        spoilt.add(location.pack)
                        continue
                    moved[block] = writer.add(encoded)
                    done += location.stored
                    progress(done, total)
    return moved, spoilt
