"""Letting snapshots go and freeing their space: blocks that no remaining manifest needs leave the packs.

Order: the manifests go first, then the blocks still needed are copied into new packs, these are synced and renamed,
the index is written, and only then do the old packs go. Stopped anywhere, every remaining manifest still finds all
its blocks; the next time frees what is left.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from emberkeep import files
from emberkeep.errors import Damage, Refused, RunFailed
from emberkeep.errors import Place as Where
from emberkeep.store import extents as lists
from emberkeep.store import index as indexes
from emberkeep.store.extents import Place
from emberkeep.store.index import Index
from emberkeep.store.intake import Progress, silent
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
    scan,
)
from emberkeep.store.store import Store
from emberkeep.store.verify import load, manifest_names

IDLE = 0.05
"""A pack is put together anew when more than this share of it is of no use."""
SMALL_PACK, MOST_SMALL = 4 << 20, 24
"""More packs than this below this size are put together into one."""
LARGEST_PACK = 2 << 30

Found = list[tuple[Head, Location]]


@dataclass(frozen=True)
class Freed:
    """What letting snapshots go came to: bytes of all packs before and after."""

    before: int
    after: int
    left_alone: tuple[str, ...] = ()
    """Packs that are damaged and therefore stay as they are."""

    @property
    def bytes(self) -> int:
        """Bytes freed."""
        return self.before - self.after


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


def release(store: Store, labels: Sequence[str], progress: Progress = silent) -> Freed:
    """Let the snapshots ``labels`` go and free what only they needed.

    Refused, before anything is touched, while a manifest that stays cannot be read: what it needs would not be known.
    RunFailed when the system refuses half-way; what stays is whole in any case.
    """
    with store.writing():
        store.forget_index()
        used = needed_blocks(store, [name for name in manifest_names(store) if name not in labels])
        try:
            _drop(store, labels)
            return compact(store, used, progress)
        except OSError as error:
            raise RunFailed(
                f"the space could not be freed: {error.strerror or error}",
                place=Where(str(error.filename or store.folder)),
                hint="the remaining snapshots are whole; thin again to go on",
            ) from error


def freed_by(store: Store, labels: Sequence[str]) -> int:
    """About how many bytes letting the snapshots ``labels`` go would free."""
    used = needed_blocks(store, [name for name in manifest_names(store) if name not in labels])
    return sum(pack.idle for pack in _packs(store, used) if not pack.torn)


def needed_blocks(store: Store, names: Iterable[str]) -> set[BlockId]:
    """All blocks that the manifests ``names`` need."""
    used: set[BlockId] = set()
    known: set[Place] = set()
    for name in names:
        try:
            for held in load(store, name).held.values():
                if held.place is not None and held.place not in known:
                    known.add(held.place)
                    used |= lists.blocks_under(held.place, store.block)
        except Damage as error:
            raise Refused(
                f"{name} is damaged, so what it needs cannot be known; nothing was let go",
                hint="run 'emberkeep verify', and 'emberkeep verify --repair --go'",
            ) from error
    return used


def _drop(store: Store, labels: Iterable[str]) -> None:
    for label in labels:
        files.io.unlink(store.manifest_path(label))
    files.io.sync_folder(store.folder / "snapshots")


def _packs(store: Store, used: set[BlockId]) -> list[_Pack]:
    """What each pack holds of use; a block that lies in two packs counts where the index has it."""
    index = store.index
    found = []
    for number, size in indexes.sizes(store.packs).items():
        pack = _Pack(number, size)
        for item in scan(store.packs, number):
            if isinstance(item, Gap):
                pack.torn = True
            elif item[0].block in used and index.get(item[0].block) == item[1]:
                pack.needed.append(item)
        found.append(pack)
    return found


def compact(store: Store, used: set[BlockId], progress: Progress = silent) -> Freed:
    """Put the packs together so that they hold little but ``used``. Only the holder of the writer's place may call
    it."""
    packs = _packs(store, used)
    sound = [pack for pack in packs if not pack.torn]
    small = [pack for pack in sound if pack.size < SMALL_PACK]
    chosen = [pack for pack in sound if pack.idle > pack.size * IDLE or (len(small) > MOST_SMALL and pack in small)]
    moved, spoilt = _copied(store, chosen, progress)
    going = [pack for pack in chosen if pack.number not in spoilt]
    gone = {pack.number for pack in going}
    index = {block: at for block, at in store.index.items() if at.pack not in gone or block in moved} | moved
    store.replace_index(index, without=gone)
    for pack in going:
        files.io.unlink(pack_path(store.packs, pack.number))
    if going:
        files.io.sync_folder(store.packs)
    left = {pack.number for pack in packs if pack.torn} | spoilt
    before, after = sum(pack.size for pack in packs), sum(indexes.sizes(store.packs).values())
    return Freed(before, after, tuple(f"packs/{number:08d}.pack" for number in sorted(left)))


def _copied(store: Store, chosen: Sequence[_Pack], progress: Progress) -> tuple[Index, set[int]]:
    """The needed blocks of some packs in new packs: where they lie now, and packs in which one was damaged."""
    total = sum(location.stored for pack in chosen for _, location in pack.needed)
    reader = PackReader(store.packs)
    number = max((*indexes.sizes(store.packs), 0)) + 1
    writer = PackWriter(store.packs, number)
    moved: Index = {}
    spoilt: set[int] = set()
    done = 0
    try:
        for pack in chosen:
            for head, location in pack.needed:
                encoded = reader.encoded(location)
                raw = None if encoded is None else decoded(encoded)
                if encoded is None or raw is None or block_id(raw) != head.block:
                    spoilt.add(pack.number)
                    continue
                moved[head.block] = writer.add(encoded)
                done += location.stored
                progress(done, total)
                if writer.size > LARGEST_PACK:
                    writer.finish()
                    number += 1
                    writer = PackWriter(store.packs, number)
        writer.finish()
    except BaseException:
        writer.abandon()
        raise
    finally:
        reader.close()
    return moved, spoilt
