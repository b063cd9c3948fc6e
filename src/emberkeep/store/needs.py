"""What of the blocks in a store manifests need: their stretches, joined where they meet.

The stretches of all blocks lie on one line of numbers, each block :data:`_ROOM` from the one before, so that those of a
million files are sorted and joined as columns and never stand in memory one by one.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import TYPE_CHECKING

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Refused
from emberkeep.store import extents as lists
from emberkeep.store import manifest as manifests
from emberkeep.store.extents import HOLE, Extent, Place
from emberkeep.store.manifest import ManifestName
from emberkeep.store.packs import BlockId, Location
from emberkeep.store.store import Store

if TYPE_CHECKING:
    import numpy as np

    from emberkeep.store.table import Places

_ROOM = 1 << 33
"""More than any block has bytes, so that the end of one is not the beginning of the next."""

Stretch = tuple[int, int]


@dataclass(frozen=True)
class Needs:
    """Of each block the stretches (from, to) that manifests need, sorted and joined."""

    stretches: Mapping[BlockId, Sequence[Stretch]]

    def share(self, block: BlockId, location: Location) -> float:
        """How much of a block is needed, 0 to 1."""
        stretches = self.stretches.get(block, ())
        return sum(end - start for start, end in stretches) / location.raw if location.raw else 1.0


def needed(
    store: Store, names: Sequence[ManifestName], progress: Progress = no_op, but: Container[Place] = ()
) -> Needs:
    """What the manifests ``names`` need, ``but`` the contents at some places. Refused when one of them, or a list of
    extents, cannot be read, or a block is missing."""
    found, seen = _Joined(), set[Place]()
    total = sum(path.stat().st_size for name in names if (path := store.path_of(name)).exists())
    done = 0
    for name in names:
        try:
            data, file = store.manifest_file(name)
            places = manifests.parse_places(data, file)
            if but:
                places = _without(places, but)
            found.add(places)
            for _, extents in _looked_into(places, seen, store):
                found.add_extents(extents)
        except Damage as error:
            raise Refused(
                f"{name} is damaged, so what it needs cannot be known; nothing was deleted",
                hint="run 'emberkeep verify', and 'emberkeep verify --repair'",
            ) from error
        done += len(data)
        progress(done, total)
    stretches = found.by_block()
    if any(block not in store.index for block in stretches):
        raise Refused(
            "blocks that snapshots need are missing from the store; nothing was deleted",
            hint="run 'emberkeep verify', and 'emberkeep verify --repair'",
        )
    return Needs(stretches)


def places_in(
    store: Store, names: Sequence[ManifestName], blocks: Container[BlockId], but: Container[Place] = ()
) -> list[Place]:
    """The places that the manifests ``names`` name of which some lies in ``blocks``, sorted; ``but`` some."""
    import numpy as np

    found, seen = set[Place](), set[Place]()
    for name in names:
        places = manifests.parse_places(*store.manifest_file(name))
        inside = np.array([*(block in blocks for block in places.blocks), False])[places.block]  # -1 names the last
        found.update(map(places.place, (inside & (places.depth == 0)).nonzero()[0].tolist()))
        for place, extents in _looked_into(places, seen, store):
            if any(extent.block in blocks for extent in extents):
                found.add(place)
    return sorted(place for place in found if place not in but)


def _looked_into(places: Places, seen: set[Place], store: Store) -> Iterator[tuple[Place, Sequence[Extent]]]:
    """The lists of extents that were not ``seen`` before, and all extents that they need."""
    for place in places.lists():
        if place not in seen:
            seen.add(place)
            yield place, lists.all_extents(place, store.block)


def _without(places: Places, but: Container[Place]) -> Places:
    kept = [at for at, block in enumerate(places.block) if block >= 0 and places.place(at) not in but]
    return places._replace(**{name: getattr(places, name)[kept] for name in places._fields[1:]})


class _Joined:
    """Stretches of blocks, joined each time some more are added."""

    def __init__(self) -> None:
        import numpy as np

        self._numbers: dict[BlockId, int] = {}
        self._starts = self._ends = np.empty(0, np.int64)

    def add(self, places: Places) -> None:
        """Those that places name themselves."""
        self._add(places.blocks, places.block, places.offset, places.length)

    def add_extents(self, extents: Sequence[Extent]) -> None:
        """Some extents."""
        import numpy as np

        numbers = (np.array([extent[part] for extent in extents], np.int64) for part in (1, 2))
        self._add([extent.block for extent in extents], np.arange(len(extents)), *numbers)

    def _add(self, blocks: Iterable[BlockId], block: np.ndarray, offset: np.ndarray, length: np.ndarray) -> None:
        import numpy as np

        numbered = [-1 if one == HOLE else self._numbers.setdefault(one, len(self._numbers)) for one in blocks]
        number = np.array([*numbered, -1], np.int64)[block]  # -1 names the last: no bytes
        there = number >= 0
        new = number[there] * _ROOM + offset[there]
        starts, ends = np.concatenate([self._starts, new]), np.concatenate([self._ends, new + length[there]])
        order = np.argsort(starts, kind="stable")
        starts, ends = starts[order], np.maximum.accumulate(ends[order])
        apart = np.flatnonzero(starts[1:] > ends[:-1]) + 1
        if len(starts):
            self._starts, self._ends = starts[[0, *apart]], ends[[*(apart - 1), -1]]

    def by_block(self) -> dict[BlockId, list[Stretch]]:
        """The stretches of each block."""
        blocks = list(self._numbers)
        line = zip(self._starts.tolist(), self._ends.tolist(), strict=True)
        return {
            blocks[number]: [(start - number * _ROOM, end - number * _ROOM) for start, end in some]
            for number, some in groupby(line, lambda stretch: stretch[0] // _ROOM)
        }
