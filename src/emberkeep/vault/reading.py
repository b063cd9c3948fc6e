"""Reading snapshots where they lie in a vault: of its packs, only the blocks that are asked for are fetched."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from emberkeep.errors import Damage, Place, Refused, UsageError
from emberkeep.fs import writing
from emberkeep.keep.keep import Keep
from emberkeep.store import damage
from emberkeep.store import index as indexes
from emberkeep.store.packs import PackReader, pack_path
from emberkeep.store.store import Store
from emberkeep.vault.vault import INDEX, KEEP, Listed, Vault, members_in, prefix_of

AHEAD = 8 << 20
"""Bytes fetched at once where blocks are asked for that lie near one another: fewer requests, and little memory."""
_STRETCHES, _TOUCHED = 5, 12
"""How many stretches of packs are kept at hand, and of how many it is known that they were read from: a file's blocks
may lie in several packs, and several threads read."""


class VaultPacks(PackReader):
    """The packs of a vault."""

    def __init__(self, vault: Vault, listed: Mapping[str, Listed]) -> None:
        super().__init__(Path("packs"))
        self._vault = vault
        self._listed = {int(Path(name).stem): row for name, row in listed.items() if name.startswith("packs/")}
        self._stretches: dict[tuple[int, int], bytes] = {}
        self._touched: list[tuple[int, int]] = []

    @property
    def sizes(self) -> dict[int, int]:
        """The packs by number, with their bytes."""
        return {number: row.size for number, row in sorted(self._listed.items())}

    def there(self, pack: int) -> bool:
        """Whether the vault's list names it."""
        return pack in self._listed

    def _bytes(self, pack: int, offset: int, size: int) -> bytes:
        end, row = offset + size, self._listed[pack]
        if end > row.size:
            raise Damage(
                "the vault's index names bytes that its pack does not have",
                place=self._place(pack),
                hint="'emberkeep mirror vault' writes it anew from the keep",
            )
        first, last = offset // AHEAD, (end - 1) // AHEAD
        near = any((pack, at) in self._touched for at in (first - 1, first, last))
        self._touched = [*self._touched[1 - _TOUCHED :], (pack, last)]
        if not near:
            return self._vault.part(row, offset, end)
        data = b"".join(self._stretch(pack, at) for at in range(first, last + 1))
        return data[offset - first * AHEAD : end - first * AHEAD]

    def _stretch(self, pack: int, number: int) -> bytes:
        """One of the stretches of :data:`AHEAD` bytes that a pack is made of."""
        data = self._stretches.pop((pack, number), b"")
        if not data:
            row = self._listed[pack]
            data = self._vault.part(row, number * AHEAD, min((number + 1) * AHEAD, row.size))
            while len(self._stretches) >= _STRETCHES:
                self._stretches.pop(next(iter(self._stretches)))
        self._stretches[pack, number] = data  # as the one that was used last
        return data

    def _place(self, pack: int) -> Place:
        return Place(f"{self._vault.place.label}/packs/{pack_path(Path(), pack).name}")


class VaultStore(Store):
    """The store that a vault holds, to be read from. ``room``: an empty folder, which stays so; ``member``: the keep
    that is meant of those that share it. Refused where the vault has no index."""

    def __init__(self, vault: Vault, listed: Mapping[str, Listed], room: Path, member: str = "") -> None:
        self._packs_there = VaultPacks(vault, listed)
        super().__init__(room / "store", self._packs_there, member=member)
        self._prefix = prefix_of(member)
        self._vault, self._listed = vault, listed
        self._fetched: dict[str, bytes] = {}
        self._index = self._loaded()  # now, so that nothing is begun that cannot be done

    def _loaded(self) -> indexes.Index:
        row = self._listed.get(INDEX)
        if row is not None:
            with suppress(ValueError):
                return indexes.parse(self._whole(INDEX, row), self._packs_there.sizes)
        raise Refused(
            "this vault has no index of its packs: an earlier Ember Keep wrote it",
            place=Place(self._vault.place.label),
            hint="'emberkeep mirror vault' adds it; without the keep, use 'mirror vault TARGET --bring-back'",
        )

    @property
    def damaged(self) -> set[damage.Spot]:
        """None are known: each block is checked when it is read."""
        return set()

    def numbers(self) -> list[int]:
        """Those of the vault's list."""
        stems = (Path(name).stem for name in self._listed if name.startswith(f"{self._prefix}snapshots/"))
        return sorted(int(stem) for stem in stems if stem.isdigit())

    def versions(self) -> list[str]:
        """Those of the vault's list."""
        folder = f"{self._prefix}defaults/"
        names = (name for name in self._listed if name.startswith(folder))
        return [name.removeprefix(folder).removesuffix(".manifest") for name in names]

    def bytes_of(self, path: Path) -> bytes:
        """A manifest file as the vault has it."""
        name = path.relative_to(self.folder).as_posix()
        row = self._listed.get(name)
        if row is None:
            raise UsageError(f"there is no {path.stem.lstrip('0')} in the vault", place=Place(self._vault.place.label))
        return self._whole(name, row)

    def _whole(self, name: str, row: Listed) -> bytes:
        if name not in self._fetched:
            self._fetched[name] = b"".join(self._vault.get(name, row))
        return self._fetched[name]


def member_of(listed: Mapping[str, Listed], named: str) -> str:
    """The keep that is meant of those that a vault holds: the one that is ``named``, or its only one. UsageError where
    that is none."""
    members = members_in(listed)
    if named in members:
        return named
    if not named and len(members) == 1:
        return members[0]
    names = ", ".join(name for name in members if name) or "only one keep, which has no name there"
    what = f"the vault holds no keep called '{named}'" if named else "which keep? the vault holds several"
    raise UsageError(what, hint=f"--of NAME says which; it holds {names}")


def keep_of(vault: Vault, listed: Mapping[str, Listed], room: Path, member: str = "") -> Keep:
    """What the vault knows of its keep: keep.toml and what is beside it, written into an empty folder."""
    below = f"{prefix_of(member)}{KEEP}/"
    for name, row in listed.items():
        if name.startswith(below):
            target = room / name.removeprefix(below)
            writing.make_folder(target.parent)
            writing.write_whole(target, vault.get(name, row))
    return Keep(room)
