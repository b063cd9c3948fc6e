"""Places in packs that are known to be damaged: a snapshot taken later leans on none of them.

::

    damaged  = line*                      beside the packs
    line     = PACK OFFSET BLOCK \\n       decimal, decimal, 64 hexadecimal digits

Whoever reads a block and finds something else notes where. A line counts only as long as the block is still not there,
so one that is wrong, or of a pack that was written anew since, does no harm.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

from emberkeep.errors import Damage
from emberkeep.fs import system, writing
from emberkeep.store.packs import LARGEST_BLOCK, BlockId, Location, PackReader, pack_numbers


class Spot(NamedTuple):
    """Where a damaged block lies: pack number, offset in bytes, and the block that should be there."""

    pack: int
    offset: int
    block: BlockId


def load(path: Path, packs: Path, reader: PackReader) -> set[Spot]:
    """The noted places that are still damaged; none where nothing was noted."""
    try:
        lines = path.read_text("ascii", errors="replace").splitlines()
    except FileNotFoundError:
        return set()
    there = set(pack_numbers(packs))
    return {spot for spot in _parsed(lines) if spot.pack in there and _is_damaged(spot, reader)}


def _parsed(lines: Iterable[str]) -> Iterator[Spot]:
    for line in lines:
        with contextlib.suppress(ValueError):
            pack, offset, block = line.split(" ")
            yield Spot(int(pack), int(offset), BlockId(bytes.fromhex(block)))


def _is_damaged(spot: Spot, reader: PackReader) -> bool:
    try:
        reader.read(spot.block, Location(spot.pack, spot.offset, LARGEST_BLOCK, 0))  # its head tells how long it is
    except Damage:
        return True
    return False


def save(path: Path, spots: Iterable[Spot]) -> None:
    """Note places; the file goes when there are none. OSError as the system raises it."""
    lines = [f"{spot.pack} {spot.offset} {spot.block.hex()}\n" for spot in sorted(spots)]
    if lines:
        writing.write_whole(path, ["".join(lines).encode("ascii")])
    else:
        with contextlib.suppress(FileNotFoundError):
            system.io.unlink(path)
