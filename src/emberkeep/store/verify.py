"""Checking every byte of a store, and naming what damage touches."""

from __future__ import annotations

import os
import random
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Refused, UsageError
from emberkeep.errors import Place as ErrorPlace
from emberkeep.store import extents as lists
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store.damage import Spot
from emberkeep.store.extents import HOLE, Place
from emberkeep.store.index import Index
from emberkeep.store.manifest import ManifestName, name_of
from emberkeep.store.packs import (
    BlockId,
    Gap,
    Head,
    Location,
    PackReader,
    block_id,
    decoded,
    pack_numbers,
    pack_path,
    scan,
)
from emberkeep.store.store import Store
from emberkeep.store.table import Places

_IN_FLIGHT = 48
"""Blocks that may wait to be checked: bounds memory."""


@dataclass(frozen=True)
class DamagedFile:
    """A file that cannot be restored whole. ``snapshot``: its number, or ``defaults:VERSION``; that of another keep,
    which shares the store, with the keep's name and a slash before it."""

    snapshot: str
    path: str
    why: str


@dataclass(frozen=True)
class Verification:
    """What a verify found. ``blocks`` and ``bytes`` (raw): read and checked; ``faults``: damage in the store's own
    files; ``files``: what that touches; ``share``: of the blocks that were read, 1 for all."""

    snapshots: int
    blocks: int
    bytes: int
    faults: tuple[str, ...]
    files: tuple[DamagedFile, ...]
    share: float = 1.0

    @property
    def sound(self) -> bool:
        """True when every byte is what was put there."""
        return not self.faults and not self.files


def verify(
    store: Store,
    only: str | None = None,
    *,
    share: float = 1.0,
    chance: random.Random | None = None,
    progress: Progress = no_op,
) -> Verification:
    """Read every block of every pack, and check that each manifest finds all it names.

    ``only``: check the files of that snapshot (``"7"`` or ``"defaults:4.2"``) and the blocks they use. ``share``:
    of the blocks, drawn with ``chance``, for a quick look; the heads of all are checked.
    """
    for _ in range(_TRIES):
        before = _state(store)
        try:
            found, packs = _looked(store, only, share, chance or random.Random(), progress)
        except (FileNotFoundError, UsageError):  # what another program has just thinned, or put together with others
            if _state(store) == before:
                raise
            store.forget_index()
            continue
        if found.sound or _state(store) == before:
            store.note_damage({*packs.spots, *_within(packs.gaps, store.index)})
            if found.sound and only is None and share == 1.0:
                store.note_verified()
            return found
        store.forget_index()
    raise Refused(
        "another Ember Keep goes on changing this store, so it could not be looked at whole",
        place=ErrorPlace(str(store.folder)),
        hint="verify again when that has finished",
    )


_TRIES = 4


def _state(store: Store) -> tuple[object, ...]:
    """What a writer changes."""
    names = store.all_names()
    return indexes.sizes(store.packs), names, [store.path_of(name).stat().st_ino for name in names]


def _looked(
    store: Store, only: str | None, share: float, draw: random.Random, progress: Progress
) -> tuple[Verification, Packs]:
    names = store.all_names() if only is None else [name_of(only)]
    wanted = None if only is None else _used(store, name_of(only))
    packs = check_packs(store, lambda block: (wanted is None or block in wanted) and draw.random() < share, progress)
    faults = list(packs.faults)
    if store.format_damaged:
        faults.append("format: this line is not what was put there")
    files: list[DamagedFile] = []
    finder = Finder(store, packs.sound)
    for name in names:
        try:
            files += [DamagedFile(str(name), path, why) for path, why in finder.damaged(name)]
        except Damage as error:
            faults.insert(0, str(error))
            files.append(DamagedFile(str(name), "(all of it)", "its manifest is damaged"))
    return Verification(len(names), packs.blocks, packs.bytes, tuple(faults), tuple(files), share), packs


def _used(store: Store, name: ManifestName) -> set[BlockId]:
    try:
        places = manifests.parse_places(*store.manifest_file(name))
    except Damage:
        return set()
    used = set(places.blocks)
    for place in set(places.lists()):
        with suppress(Damage):  # told by name when the files are looked at
            used.update(extent.block for extent in lists.all_extents(place, store.block))
    return used


@dataclass
class Packs:
    """What the packs hold: sound blocks, and those found damaged with the pack each lies in."""

    sound: Index = field(default_factory=dict)
    blocks: int = 0
    bytes: int = 0
    faults: list[str] = field(default_factory=list)
    torn: set[int] = field(default_factory=set)
    """Packs with something in them that is not what was put there."""
    spots: set[Spot] = field(default_factory=set)
    """The blocks that are not what was put there."""
    gaps: list[Gap] = field(default_factory=list)


def check_packs(
    store: Store, wanted: Callable[[BlockId], bool], progress: Progress, numbers: Sequence[int] | None = None
) -> Packs:
    """Read the blocks that are ``wanted``; the others count as sound when their heads are. ``numbers``: of the packs
    that are looked at, instead of all."""
    found = Packs()
    numbers = pack_numbers(store.packs) if numbers is None else numbers
    total = sum(pack_path(store.packs, number).stat().st_size for number in numbers)
    reader = PackReader(store.packs)
    done = 0
    try:
        with ThreadPoolExecutor(min(4, os.cpu_count() or 1), "verify") as pool:
            waiting: deque[tuple[Head, Location, Future[bool]]] = deque()
            for number in numbers:
                for item in _entries(store, number, found):
                    head, location = item
                    done += location.stored
                    if not wanted(head.block):
                        found.sound.setdefault(head.block, location)
                        continue
                    waiting.append((head, location, pool.submit(_is_sound, reader, head, location)))
                    if len(waiting) > _IN_FLIGHT:
                        _settle(found, *waiting.popleft())
                        progress(done, total)
            for checked in waiting:
                _settle(found, *checked)
    finally:
        reader.close()
    return found


def _entries(store: Store, number: int, found: Packs) -> Iterator[tuple[Head, Location]]:
    for item in scan(store.packs, number):
        if isinstance(item, Gap):
            found.faults.append(f"packs/{number:08d}.pack: bytes {item.start} to {item.end} hold no sound entry")
            found.torn.add(number)
            found.gaps.append(item)
            continue
        yield item


def _is_sound(reader: PackReader, head: Head, location: Location) -> bool:
    encoded = reader.encoded(location)
    raw = None if encoded is None else decoded(encoded)
    return raw is not None and len(raw) == head.raw and block_id(raw) == head.block


def _settle(found: Packs, head: Head, location: Location, sound: Future[bool]) -> None:
    if sound.result():
        found.sound.setdefault(head.block, location)
        found.blocks += 1
        found.bytes += head.raw
        return
    name = f"packs/{location.pack:08d}.pack"
    found.faults.append(f"{name}: the block at byte {location.offset} is not what was put there")
    found.torn.add(location.pack)
    found.spots.add(Spot(location.pack, location.offset, head.block))


def _within(gaps: Sequence[Gap], index: Index) -> Iterator[Spot]:
    """The blocks that an index tells of where a pack holds no sound entry."""
    for block, at in index.items() if gaps else ():
        if any(gap.pack == at.pack and gap.start <= at.offset < gap.end for gap in gaps):
            yield Spot(at.pack, at.offset, block)


class Finder:
    """Finds the files of snapshots that sound blocks do not give whole. Lists of extents that snapshots share are
    looked at once."""

    def __init__(self, store: Store, sound: Index) -> None:
        self._store = store
        self._sound = sound
        self._whole: set[Place] = set()
        self._why_not: dict[Place, str] = {}
        self._clean: set[str] = set()

    def damaged(self, name: ManifestName) -> list[tuple[str, str]]:
        """Path and reason of each damaged file of the manifest ``name``. Damage when it cannot be read itself."""
        data, file = self._store.manifest_file(name)
        check = manifests.check_of(data)
        if check in self._clean:
            return []
        places = manifests.parse_places(data, file)
        self._why_not.update((place, "its block is damaged or missing") for place in self._beyond(places))
        for place in places.lists():
            if place not in self._whole and place not in self._why_not:
                self._look(place)
        if not self._why_not:
            self._clean.add(check)
            return []
        held = self._store.manifest_of(name).held.items()
        return [(path, self._why_not[row.place]) for path, row in held if row.place in self._why_not]

    def _beyond(self, places: Places) -> Iterator[Place]:
        """The places that no sound block gives."""
        import numpy as np

        ends = np.array([*map(self._end, places.blocks), _HUGE], np.int64)[places.block]  # -1 names the last: no bytes
        return map(places.place, (places.offset + places.length > ends).nonzero()[0].tolist())

    def _end(self, block: BlockId) -> int:
        """How many bytes there are of a block; -1 where it is not sound."""
        if block == HOLE:
            return _HUGE
        location = self._sound.get(block)
        return -1 if location is None else location.raw

    def _look(self, place: Place) -> None:
        try:
            extents = lists.extents_of(place, self._store.block)
        except Damage:
            self._why_not[place] = "its list of extents is damaged"
            return
        bad = sum(extent.offset + extent.length > self._end(extent.block) for extent in extents)
        if bad:
            self._why_not[place] = f"{bad} of its {len(extents)} stretches are damaged or missing"
        else:
            self._whole.add(place)


_HUGE = (1 << 63) - 1
