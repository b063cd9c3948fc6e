"""All that one keep has in a store, moved into another store: into one that several keeps share, or out of it again.

What the target holds already, by its contents, is only named. A block of which much is needed is copied as it stands,
checked; of others, only what is needed goes into new ones. Manifests are written last, and looked through once more:
until the keep is told that its snapshots lie there, they count as nobody's.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage
from emberkeep.fs import system
from emberkeep.store import extents as lists
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store import stat_cache, writer
from emberkeep.store.compact import SPARSE, Moved, copied, renamed
from emberkeep.store.extents import Place
from emberkeep.store.needs import Needs, needed, places_in
from emberkeep.store.packs import BlockId, PackWriter
from emberkeep.store.pieces import Pieces
from emberkeep.store.shared import OWNER, contents_of
from emberkeep.store.store import Store


@dataclass(frozen=True)
class Moving:
    """What moving comes to: ``snapshots`` and recorded ``defaults`` that move, ``stored`` bytes that they need where
    they lie, and of these about how many must be ``copied``."""

    snapshots: int
    defaults: int
    stored: int
    copied: int


@dataclass
class Move:
    """What one keep has in ``source``, on its way into ``target``. Both are to be held by the caller while it lasts."""

    source: Store
    target: Store
    progress: Progress = no_op

    @cached_property
    def there(self) -> dict[Place, Place]:
        """The contents that the target holds already: by their place here, their place there."""
        mine: dict[Place, tuple[int, bytes]] = {}
        for name in self.source.names():
            mine.update(manifests.parse_contents(*self.source.manifest_file(name)))
        known = contents_of(self.target, self.target.all_names(), {size for size, _ in mine.values()})
        found = {}
        for here, (_, digest) in mine.items():
            row = known.get(digest.hex())
            if row is not None and row.place is not None:
                found[here] = row.place
        return found

    @cached_property
    def needs(self) -> Needs:
        """What else is needed. Refused where a manifest cannot be read or a block is missing."""
        return needed(self.source, self.source.names(), self.progress, self.there)

    @property
    def _lacking(self) -> Iterator[tuple[BlockId, float]]:
        """The blocks that the target lacks, and how much of each is needed, 0 to 1."""
        for block in self.needs.stretches:
            if block not in self.target.index:
                yield block, self.needs.share(block, self.source.location(block))

    def foreseen(self) -> Moving:
        """What it comes to; nothing is written."""
        everything = needed(self.source, self.source.names()) if self.there else self.needs
        at = {block: self.source.location(block) for block in everything.stretches}
        stored = sum(location.stored * everything.share(block, location) for block, location in at.items())
        new = sum(at[block].stored * share for block, share in self._lacking)
        return Moving(len(self.source.numbers()), len(self.source.versions()), int(stored), int(new))

    def carry_out(self) -> None:
        """Copy all of it. Damage, with nothing in the target that counts, where a block is not what was stored."""
        self.target.forget_index()
        lacking = dict(self._lacking)
        whole = sorted((self.source.location(block), block) for block, share in lacking.items() if share >= SPARSE)
        fresh, spoilt = copied(
            self.source, self.target, [(block, location) for location, block in whole], self.progress
        )
        if spoilt:
            raise Damage(
                f"pack {min(spoilt)} of {self.source.folder} is damaged; nothing was moved",
                hint="run 'emberkeep verify', and 'emberkeep verify --repair'",
            )
        self.target.replace_index({**self.target.index, **fresh})
        places = self._placed({block for block, share in lacking.items() if share < SPARSE})
        self._write_manifests({**places, **self.there})
        needed(self.target, self.target.names())  # nothing is lacking there

    def _placed(self, sparse: set[BlockId]) -> dict[Place, Place]:
        """The new places of all that lies partly in ``sparse`` blocks, once that is written."""
        if not sparse:
            return {}
        with PackWriter(self.target.packs) as pack:
            pieces = Pieces(lambda block: block in self.target.index, pack)
            moved = Moved(pieces, self.source, self.needs, sparse)
            places = pieces.place(
                {
                    place: [moved.extent(extent) for extent in lists.extents_of(place, self.source.block)]
                    for place in places_in(self.source, self.source.names(), sparse, self.there)
                }
            )
        self.target.replace_index({**self.target.index, **pieces.fresh})
        return places

    def _write_manifests(self, places: dict[Place, Place]) -> None:
        remembered = stat_cache.load(self.source.own / "seen")
        check = ""
        for name in self.source.names():
            manifest = self.source.manifest_of(name)
            data = manifests.serialize(replace(manifest, held=renamed(manifest.held, places)))
            writer.write_manifest(self.target, manifest.about, data)
            if not name.defaults and name.label == remembered.snapshot:
                check = manifests.check_of(data)
        if check:  # the next snapshot need not read all files again
            packs = indexes.sizes(self.target.packs)
            stat_cache.save(self.target.own / "seen", replace(remembered, check=check, packs=packs))


def clear_own(store: Store) -> None:
    """Have a store know nothing of a keep, which is about to move in."""
    for path in (*map(store.path_of, store.names()), store.own / "seen"):
        with suppress(FileNotFoundError):
            system.io.unlink(path)


def remove_own(store: Store) -> None:
    """Delete what a keep had in a store: all of a store of its own, its part of a shared one. OSError as the system
    raises it; called again, it goes on."""
    with suppress(FileNotFoundError):
        _remove(store.own)
        system.io.sync_folder(store.own.parent)


def _remove(folder: Path) -> None:
    for inside in sorted(folder.iterdir(), key=lambda path: path.name == OWNER):  # whose it is stays to the last
        if inside.is_dir() and not inside.is_symlink():
            _remove(inside)
        else:
            system.io.unlink(inside)
    system.io.rmdir(folder)
