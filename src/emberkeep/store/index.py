"""The index: where each block lies. Only a cache; whatever is wrong with it, it is rebuilt from the packs.

::

    index  = magic packs:u32 (number:u32 size:u64)* blocks:u64 block* check
    magic  = b"EMBERINDEX 2\\n"
    block  = digest 32, pack u32, offset u64, stored u32, raw u64     little-endian
    check  = BLAKE3 of all bytes before, 32 bytes

It counts only while the packs it names are those in the folder, with the same sizes.
"""

from __future__ import annotations

import contextlib
import struct
from collections.abc import Collection
from pathlib import Path

from blake3 import blake3

from emberkeep.fs import writing
from emberkeep.store.packs import BlockId, Gap, Location, pack_numbers, pack_path, scan

MAGIC = b"EMBERINDEX 2\n"
_PACK = struct.Struct("<IQ")
_BLOCK = struct.Struct("<32sIQIQ")
_COUNT32 = struct.Struct("<I")
_COUNT64 = struct.Struct("<Q")

Index = dict[BlockId, Location]


def load(cache: Path, packs: Path) -> Index:
    """The index from its cache, or from the packs when the cache is missing, stale or damaged."""
    there = sizes(packs)
    with contextlib.suppress(OSError, ValueError, struct.error):
        return parse(cache.read_bytes(), there)
    return rebuild(packs)


def is_current(cache: Path, packs: Path) -> bool:
    """Whether the cache is whole and of the packs that are there."""
    try:
        parse(cache.read_bytes(), sizes(packs))
    except (OSError, ValueError, struct.error):
        return False
    return True


def save(cache: Path, packs: Path, index: Index, without: Collection[int] = ()) -> None:
    """Write the cache for the packs that are there, but for those of numbers ``without``, which are about to go.

    A failure is harmless, so a store that may not be written to is left alone.
    """
    with contextlib.suppress(OSError):
        there = {number: size for number, size in sizes(packs).items() if number not in without}
        writing.write_whole(cache, [serialize(index, there)])


def sizes(packs: Path) -> dict[int, int]:
    """The packs that are there, by number, with their sizes in bytes."""
    found = {}
    for number in pack_numbers(packs):
        with contextlib.suppress(FileNotFoundError):  # another program thins just now
            found[number] = pack_path(packs, number).stat().st_size
    return found


def rebuild(packs: Path, but: Collection[tuple[int, int]] = ()) -> Index:
    """The index as the packs themselves tell it; damaged stretches are left out (``verify`` reports them), and so are
    the places ``but`` (pack and offset)."""
    index: Index = {}
    for number in pack_numbers(packs):
        for found in scan(packs, number):
            if not isinstance(found, Gap):
                head, location = found
                if (location.pack, location.offset) not in but:
                    index.setdefault(head.block, location)
    return index


def serialize(index: Index, packs: dict[int, int]) -> bytes:
    """The bytes of the cache."""
    parts = [MAGIC, _COUNT32.pack(len(packs))]
    parts += [_PACK.pack(number, size) for number, size in packs.items()]
    parts.append(_COUNT64.pack(len(index)))
    parts += [_BLOCK.pack(block, at.pack, at.offset, at.stored, at.raw) for block, at in index.items()]
    body = b"".join(parts)
    return body + blake3(body).digest()


def parse(data: bytes, packs: dict[int, int]) -> Index:
    """The index in ``data``; ValueError when it is damaged or speaks of other packs than ``packs``."""
    body, check = data[:-32], data[-32:]
    if not body.startswith(MAGIC) or blake3(body).digest() != check:
        raise ValueError("not a sound index")
    at = len(MAGIC)
    (count,) = _COUNT32.unpack_from(body, at)
    at += _COUNT32.size
    recorded = dict(_PACK.iter_unpack(body[at : at + count * _PACK.size]))
    at += count * _PACK.size
    if recorded != packs:
        raise ValueError("the index is of other packs")
    (blocks,) = _COUNT64.unpack_from(body, at)
    at += _COUNT64.size
    if len(body) - at != blocks * _BLOCK.size:
        raise ValueError("the index has the wrong length")
    new = tuple.__new__
    return {
        BlockId(block): new(Location, (pack, offset, stored, raw))
        for block, pack, offset, stored, raw in _BLOCK.iter_unpack(body[at:])
    }
