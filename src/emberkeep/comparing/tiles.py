"""Which tiles of a world changed, appeared or vanished, and how much of each: sector by sector."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from emberkeep.comparing.records import Kind
from emberkeep.fs.trees import Tree
from emberkeep.inventory.tiles import TileNames


@dataclass(frozen=True)
class Tile:
    """A tile that differs. ``share``: changed sectors of all its sectors, 0 to 1; 1 when it came or went."""

    x: int
    y: int
    kind: Kind
    share: float
    path: str


@dataclass(frozen=True)
class TileMap:
    """One world's or dimension's tiles. ``tiles``: those that differ, by y and x; ``same``: places of the others."""

    folder: str
    sector: int
    tiles: tuple[Tile, ...]
    same: frozenset[tuple[int, int]]

    @property
    def bounds(self) -> tuple[int, int, int, int]:
        """Least x, least y, greatest x, greatest y of all tiles."""
        xs = [tile.x for tile in self.tiles] + [x for x, _ in self.same]
        ys = [tile.y for tile in self.tiles] + [y for _, y in self.same]
        return min(xs), min(ys), max(xs), max(ys)


def tile_maps(left: Tree, right: Tree, paths: Iterable[str], changed: set[str], names: TileNames) -> list[TileMap]:
    """Maps of all tile files among ``paths``, one for each folder in which a tile differs. ``changed``: the paths whose
    contents differ, or that stand on one side only."""
    tiles: dict[str, list[Tile]] = defaultdict(list)
    same: dict[str, set[tuple[int, int]]] = defaultdict(set)
    for path in paths:
        place = names.place(path)
        if place is None:
            continue
        if path not in changed:
            same[place.folder].add((place.x, place.y))
            continue
        here, there = path in left.entries(), path in right.entries()
        kind = Kind.CHANGED if here and there else Kind.REMOVED if here else Kind.ADDED
        share = changed_share(left.chunks(path), right.chunks(path), names.sector) if here and there else 1.0
        tiles[place.folder].append(Tile(place.x, place.y, kind, share, path))
    return [
        TileMap(folder, names.sector, tuple(sorted(found, key=lambda tile: (tile.y, tile.x))), frozenset(same[folder]))
        for folder, found in sorted(tiles.items())
    ]


def changed_share(left: Iterable[bytes], right: Iterable[bytes], sector: int) -> float:
    """Sectors that differ, of all sectors of the longer side; reads both sides once, a sector at a time."""
    changed = total = 0
    lefts, rights = _sectors(left, sector), _sectors(right, sector)
    while True:
        first, second = next(lefts, b""), next(rights, b"")
        if not first and not second:
            return changed / total if total else 0.0
        total += 1
        changed += first != second


def _sectors(chunks: Iterable[bytes], sector: int) -> Iterator[bytes]:
    left = b""
    for chunk in chunks:
        data = left + chunk
        whole = len(data) - len(data) % sector
        for at in range(0, whole, sector):
            yield data[at : at + sector]
        left = data[whole:]
    if left:
        yield left
