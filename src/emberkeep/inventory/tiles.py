"""Tile files of a world: names with two varying integers, the tile's coordinates."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from emberkeep.fs.trees import Entry
from emberkeep.inventory.probe import Family, families

SECTOR = 4096
"""Bytes; the unit in which tiles are compared where nothing else is told."""


class Place(NamedTuple):
    """Where a tile file stands: the folder of its world or dimension, and its coordinates."""

    folder: str
    x: int
    y: int


@dataclass(frozen=True)
class TileNames:
    """How tile files are named. ``names``: a path with ``{x}`` and ``{y}``, the end of theirs; ``*`` any text."""

    names: str
    sector: int = SECTOR

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        parts = re.split(r"(\{x\}|\{y\}|\*)", self.names)
        meaning = {"{x}": r"(?P<x>-?\d+)", "{y}": r"(?P<y>-?\d+)", "*": r"[^/]*"}
        return re.compile(r"(?:(?P<folder>.*)/)?" + "".join(meaning.get(part) or re.escape(part) for part in parts))

    def place(self, path: str) -> Place | None:
        """The tile that a file holds, None when it is no tile file."""
        found = self._pattern.fullmatch(path)
        return Place(found["folder"] or "", int(found["x"]), int(found["y"])) if found else None


def tile_places(family: Family) -> tuple[int, int] | None:
    """Which two of the varying places of a family's names are coordinates; None when it is no tile family.

    Coordinates are integers that vary independently: at least two values each, and fewer of each than files.
    """
    if len(family.members) < 4 or "{id}" in family.shape:
        return None
    places = family.numbers()
    varying = [at for at, values in enumerate(places) if len(values) > 1]
    if len(varying) != 2 or any(len(places[at]) >= len(family.members) for at in varying):
        return None
    return varying[0], varying[1]


def tile_names(family: Family, places: tuple[int, int]) -> str:
    """The family's name with {x} and {y} at the two coordinates, and other numbers left open."""
    labels = {places[0]: "{x}", places[1]: "{y}"}
    at = -1
    parts = []
    for part in re.split(r"(\{n\})", family.shape):
        at += part == "{n}"
        parts.append(labels.get(at, "*") if part == "{n}" else part)
    return "".join(parts)


def seen_tiles(entries: Iterable[Entry]) -> TileNames | None:
    """How the tiles of a tree are named, by the largest family of names that look like tiles; None when none do."""
    found = [(family, places) for family in families(entries) if (places := tile_places(family)) is not None]
    if not found:
        return None
    family, places = max(found, key=lambda item: len(item[0].members))
    return TileNames(tile_names(family, places))


def whole_sectors(sizes: Iterable[int]) -> int:
    """The largest usual sector size of which every tile is a whole number; 0 when there is none."""
    every = list(sizes)
    return next((unit for unit in (4096, 1024, 512) if every and all(size % unit == 0 for size in every)), 0)
