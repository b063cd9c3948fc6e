"""Mending a store: what is damaged leaves the packs, and what the live folder still has of it is read again.

A block is read again where a file still stands that it came from; a file whose whole contents are still those of a
snapshot is stored anew, and the snapshot's manifest then names the new place. What cannot be had again stays named
as damaged.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass, field, replace

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, UnreadableInput, system_may_refuse
from emberkeep.fs import system, writing
from emberkeep.fs.trees import Entry, Kind, Tree
from emberkeep.store import manifest as manifests
from emberkeep.store.extents import HOLE
from emberkeep.store.index import Index
from emberkeep.store.intake import Intake
from emberkeep.store.manifest import ManifestName
from emberkeep.store.packs import BlockId, PackReader, PackWriter, block_id, encode, remove
from emberkeep.store.pieces import Pieces
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow
from emberkeep.store.verify import Finder, Packs, Verification, check_packs, verify

_MOST_READ = 16 << 20
_Rows = dict[ManifestName, dict[str, FileRow]]
"""Rows of manifests that name a new place, by path."""


@dataclass(frozen=True)
class Repair:
    """What a repair came to. ``dropped``: damaged places that left the packs; ``blocks``: read again; ``files``:
    stored anew, as snapshot and path; ``aside``: manifests that cannot be read, renamed to end in ``.damaged``;
    ``after``: what a verify finds now."""

    dropped: int
    blocks: int
    files: tuple[tuple[str, str], ...]
    aside: tuple[str, ...]
    after: Verification


def repair(store: Store, live: Tree, progress: Progress = no_op) -> Repair:
    """Mend what can be mended; the rest is in the result's ``after``. RunFailed when the system refuses; nothing that
    was whole is lost by that."""
    with store.writing():
        store.forget_index()
        hint = "make room or mend that, and repair again"
        with system_may_refuse("the store could not be mended", store.folder, hint):
            format_line = store.format_mended
            packs = check_packs(store, lambda block: True, progress)
            store.replace_index(dict(packs.sound))
            aside = _put_aside(store)
            mending = _Mending(store, live, packs)
            mending.run()
    after = verify(store, progress=progress)
    dropped = len(packs.faults) + format_line
    return Repair(dropped, mending.blocks, tuple(mending.mended), aside, after)


def _put_aside(store: Store) -> tuple[str, ...]:
    """Rename manifests that are not what was written: nobody can read them, and they would stand in the way of
    thinning."""
    found = []
    for name in store.all_names():
        path = store.path_of(name)
        if not manifests.is_sound(path.read_bytes()):
            system.io.replace(path, path.with_name(path.name + ".damaged"))
            system.io.sync_folder(path.parent)
            found.append(str(name))
    return tuple(found)


@dataclass
class _Mending:
    store: Store
    live: Tree
    packs: Packs
    blocks: int = 0
    mended: list[tuple[str, str]] = field(default_factory=list)

    def run(self) -> None:
        damaged = self._damaged()
        fresh = self._saved_blocks()
        if damaged:
            fresh |= self._read_again(damaged)
            self.store.replace_index({**self.packs.sound, **fresh})
            rows, stored = self._stored_anew(self._damaged())
            fresh |= stored
            self._write_manifests(rows)
        self.store.replace_index({**self.packs.sound, **fresh}, without=self.packs.torn)
        remove(self.store.packs, self.packs.torn)
        seen = [one.own / "seen" for one in (self.store, *self.store.others())]
        for path in (*seen, self.store.folder / "damaged"):  # no scan must lean on what was damaged; that is gone now
            with contextlib.suppress(FileNotFoundError):
                system.io.unlink(path)
        system.io.sync_folder(self.store.packs)
        self.store.forget_index()

    def _damaged(self) -> dict[ManifestName, list[str]]:
        """Paths of the damaged files by manifest; manifests that cannot be read are beyond help here."""
        finder = Finder(self.store, self.store.index)
        found: dict[ManifestName, list[str]] = {}
        for name in self.store.all_names():
            with contextlib.suppress(Damage):
                paths = [path for path, _ in finder.damaged(name)]
                if paths:
                    found[name] = paths
        return found

    def _saved_blocks(self) -> Index:
        """The sound blocks of torn packs, copied into a new one."""
        found: Index = {}
        with closing(PackReader(self.store.packs)) as reader, PackWriter(self.store.packs) as writer:
            for block, location in self.packs.sound.items():
                encoded = reader.encoded(location) if location.pack in self.packs.torn else None
                if encoded is not None:
                    found[block] = writer.add(encoded)
        return found

    def _read_again(self, damaged: Mapping[ManifestName, list[str]]) -> Index:
        """Missing blocks, from the files of the live folder that they came from."""
        found: Index = {}
        with PackWriter(self.store.packs) as writer:
            for name, paths in damaged.items():
                held = self.store.manifest_of(name).held
                for path in paths:
                    for block, raw in self._wanted_of(path, held[path]):
                        if block not in found:
                            found[block] = writer.add(encode(block, raw))
                            self.blocks += 1
        return found

    def _wanted_of(self, path: str, held: FileRow) -> Iterator[tuple[BlockId, bytes]]:
        """Missing blocks that begin in a file, where the live file still has their bytes."""
        entry = self.live.entries().get(path)
        if entry is None or entry.kind is not Kind.FILE:
            return
        try:
            extents = self.store.extents(held)
        except Damage:
            return
        wanted = []
        at = 0
        for extent in extents:
            if extent.block != HOLE and extent.block not in self.store.index and extent.offset == 0:
                wanted.append((at, extent.length, extent.block))
            at += extent.length
        for start, length, block in wanted:
            raw = _part(self.live, path, start, min(length, _MOST_READ))
            if block_id(raw) == block:
                yield block, raw

    def _stored_anew(self, damaged: Mapping[ManifestName, list[str]]) -> tuple[_Rows, Index]:
        """New places for the damaged files whose whole contents still stand in the live folder."""
        there = self.live.entries()
        paths = {path for names in damaged.values() for path in names if path in there}
        chosen: dict[str, Entry] = {path: there[path]._replace(same_as="") for path in sorted(paths)}
        try:
            with PackWriter(self.store.packs) as writer:
                pieces = Pieces(lambda block: block in self.store.index, writer)
                rows = Intake(self.live, {}, self.store.block, pieces).take(chosen, {}, no_op)
        except UnreadableInput:
            return {}, {}
        found: _Rows = {}
        for name, names in damaged.items():
            held = self.store.manifest_of(name).held
            same = {p: rows[p].place for p in names if p in rows and rows[p].digest == held[p].digest}
            found[name] = {path: held[path]._replace(place=place) for path, place in same.items()}
        return found, pieces.fresh

    def _write_manifests(self, rows: _Rows) -> None:
        for name, changed in rows.items():
            if not changed:
                continue
            manifest = self.store.manifest_of(name)
            mended = replace(manifest, held={**manifest.held, **changed})
            writing.write_whole(self.store.path_of(name), [manifests.serialize(mended)])
            self.mended += [(str(name), path) for path in changed]


def _part(tree: Tree, path: str, start: int, length: int) -> bytes:
    found = bytearray()
    at = 0
    try:
        for chunk in tree.chunks(path):
            low, high = max(start - at, 0), min(start + length - at, len(chunk))
            if low < high:
                found += chunk[low:high]
            at += len(chunk)
            if at >= start + length:
                break
    except UnreadableInput:
        return b""
    return bytes(found)
