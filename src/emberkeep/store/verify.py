"""Checking every byte of a store, and naming what damage touches."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from emberkeep.errors import Damage
from emberkeep.store.manifest import Manifest
from emberkeep.store.packs import BlockId, Gap, PackReader, pack_numbers, pack_path, parse_list, scan
from emberkeep.store.store import Progress, Store, silent


@dataclass(frozen=True)
class DamagedFile:
    """A file that cannot be given back whole. ``snapshot``: its number, or ``defaults:VERSION``."""

    snapshot: str
    path: str
    why: str


@dataclass(frozen=True)
class Verification:
    """What a verify found. ``faults``: damage in the store's own files; ``files``: what that touches."""

    snapshots: int
    blocks: int
    bytes: int
    faults: tuple[str, ...]
    files: tuple[DamagedFile, ...]

    @property
    def sound(self) -> bool:
        """True when every byte is what was put there."""
        return not self.faults and not self.files


def verify(store: Store, only: str | None = None, progress: Progress = silent) -> Verification:
    """Read every block of every pack, and check that each manifest finds all it names.

    ``only``: check the files of that snapshot (``"7"`` or ``"defaults:4.2"``) and the blocks they use.
    """
    loaded, faults, broken = _manifests(store, only)
    checker = _Checker(store)
    wanted = None if only is None else checker.used_by(loaded.values())
    checker.read_packs(progress, wanted)
    files = broken + [item for name, manifest in loaded.items() for item in checker.damaged(name, manifest)]
    return Verification(
        len(loaded) + len(broken), len(checker.sound), checker.bytes, (*faults, *checker.faults), tuple(files)
    )


def _manifests(store: Store, only: str | None) -> tuple[dict[str, Manifest], list[str], list[DamagedFile]]:
    names = [str(number) for number in store.numbers()]
    names += [f"defaults:{version}" for version in sorted(store.versions())]
    loaded: dict[str, Manifest] = {}
    faults: list[str] = []
    broken: list[DamagedFile] = []
    for name in names if only is None else [only]:
        label = name.removeprefix("defaults:")
        try:
            loaded[name] = store.manifest(label, defaults=name != label)
        except Damage as error:
            faults.append(str(error))
            broken.append(DamagedFile(name, "(all of it)", "its manifest is damaged"))
    return loaded, faults, broken


class _Checker:
    def __init__(self, store: Store) -> None:
        self.store = store
        self.sound: set[BlockId] = set()
        self.faults: list[str] = []
        self.bytes = 0
        self._reader = PackReader(store.packs)
        self._lists: dict[BlockId, list[BlockId] | None] = {}

    def read_packs(self, progress: Progress, wanted: set[BlockId] | None) -> None:
        numbers = pack_numbers(self.store.packs)
        total = sum(pack_path(self.store.packs, number).stat().st_size for number in numbers)
        done = 0
        for number in numbers:
            for found in scan(self.store.packs, number):
                if isinstance(found, Gap):
                    self.faults.append(_gap(found))
                    done += found.end - found.start
                    continue
                head, location = found
                done += location.stored
                if wanted is not None and head.block not in wanted:
                    continue
                try:
                    self.bytes += len(self._reader.read(head.block, location))
                    self.sound.add(head.block)
                except Damage as error:
                    self.faults.append(str(error))
                progress(done, total)
        self._reader.close()

    def used_by(self, chosen: Iterable[Manifest]) -> set[BlockId]:
        used: set[BlockId] = set()
        for manifest in chosen:
            for held in manifest.held.values():
                if not held.blocks:
                    continue
                used.add(held.block)
                if held.several:
                    used.update(self._list(held.block) or ())
        return used

    def _list(self, block: BlockId) -> list[BlockId] | None:
        if block not in self._lists:
            self._lists[block] = self._read_list(block)
        return self._lists[block]

    def _read_list(self, block: BlockId) -> list[BlockId] | None:
        try:
            return [item for _, item in parse_list(self.store.block(block))]
        except Damage:
            return None

    def damaged(self, name: str, manifest: Manifest) -> list[DamagedFile]:
        by_why: dict[str, list[str]] = defaultdict(list)
        for path, held in manifest.held.items():
            why = "" if not held.blocks else self._why(held.block, held.several)
            if why:
                by_why[why].append(path)
        return [DamagedFile(name, path, why) for why, paths in by_why.items() for path in paths]

    def _why(self, block: BlockId, several: bool) -> str:
        if block not in self.sound:
            return "its block is damaged or missing"
        if not several:
            return ""
        parts = self._list(block)
        if parts is None:
            return "its list of blocks is damaged"
        bad = sum(part not in self.sound for part in parts)
        return f"{bad} of its {len(parts)} blocks are damaged or missing" if bad else ""


def _gap(gap: Gap) -> str:
    return f"packs/{gap.pack:08d}.pack: bytes {gap.start} to {gap.end} hold no sound entry"
