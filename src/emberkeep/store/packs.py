"""Pack files: blocks behind one another, each entry describing itself, so that the index can be rebuilt.

::

    pack   = magic entry*
    magic  = b"EMBERPACK 1\\n"                                12 bytes
    entry  = head stored
    head   = b"EKB1" type form digest raw stored crc          56 bytes, little-endian
        type    u8       1 data, 2 list of blocks
        form    u8       0 as it is, 1 one zstd frame
        (2 bytes of zero)
        digest  32       BLAKE3 of the raw bytes
        raw     u64      length before compression
        stored  u32      length of ``stored``
        crc     u32      CRC-32 of the 52 bytes before

A list block holds the blocks of a larger file in order: per block ``length u32`` and ``digest 32``.
A pack is written as ``NUMBER.pack.part`` and renamed once it is synced; only ``.pack`` files count.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, NewType

import zstandard
from blake3 import blake3

from emberkeep import files
from emberkeep.errors import Damage, Place

MAGIC = b"EMBERPACK 1\n"
MARK = b"EKB1"
DATA, LIST = 1, 2
RAW, ZSTD = 0, 1
_BODY = struct.Struct("<4sBBH32sQI")
_CRC = struct.Struct("<I")
HEAD = _BODY.size + _CRC.size
_LIST_ITEM = struct.Struct("<I32s")
LARGEST_BLOCK = 16 << 20

BlockId = NewType("BlockId", bytes)
"""BLAKE3 of a block's raw bytes, 32 bytes."""


@dataclass(frozen=True, slots=True)
class Location:
    """Where a block lies: pack number, offset of its head in bytes, stored and raw length in bytes."""

    pack: int
    offset: int
    stored: int
    raw: int


@dataclass(frozen=True, slots=True)
class Head:
    """The decoded head of an entry."""

    type: int
    form: int
    block: BlockId
    raw: int
    stored: int


def block_id(raw: bytes) -> BlockId:
    """The identity of a block."""
    return BlockId(blake3(raw).digest())


def serialize_head(head: Head) -> bytes:
    """The 56 bytes of ``head``."""
    body = _BODY.pack(MARK, head.type, head.form, 0, head.block, head.raw, head.stored)
    return body + _CRC.pack(zlib.crc32(body))


def parse_head(data: bytes) -> Head | None:
    """The head in the first 56 bytes of ``data``; None when these are no sound head."""
    if len(data) < HEAD or data[:4] != MARK:
        return None
    body = data[: _BODY.size]
    if _CRC.unpack(data[_BODY.size : HEAD])[0] != zlib.crc32(body):
        return None
    _, kind, form, _, block, raw, stored = _BODY.unpack(body)
    return Head(kind, form, BlockId(block), raw, stored)


def serialize_list(items: list[tuple[int, BlockId]]) -> bytes:
    """The raw bytes of a list block."""
    return b"".join(_LIST_ITEM.pack(length, block) for length, block in items)


def parse_list(raw: bytes) -> list[tuple[int, BlockId]]:
    """Length and identity of each block in a list block; Damage when its length does not fit."""
    if len(raw) % _LIST_ITEM.size:
        raise Damage("a block list in the store has the wrong length")
    return [(length, BlockId(block)) for length, block in _LIST_ITEM.iter_unpack(raw)]


def pack_path(folder: Path, number: int) -> Path:
    """The file of pack ``number``."""
    return folder / f"{number:08d}.pack"


def pack_numbers(folder: Path) -> list[int]:
    """The packs that are there, ascending."""
    return sorted(int(path.stem) for path in folder.glob("*.pack") if path.stem.isdigit())


@dataclass(frozen=True, slots=True)
class Gap:
    """A stretch of a pack that holds no sound entry: ``start`` and ``end`` in bytes."""

    pack: int
    start: int
    end: int


def scan(folder: Path, number: int) -> Iterator[tuple[Head, Location] | Gap]:
    """All entries of a pack by their heads alone; damaged stretches are stepped over and told as gaps."""
    path = pack_path(folder, number)
    size = path.stat().st_size
    with path.open("rb") as handle:
        offset = len(MAGIC)
        if handle.read(len(MAGIC)) != MAGIC:
            yield Gap(number, 0, min(size, len(MAGIC)))
        while offset < size:
            handle.seek(offset)
            head = parse_head(handle.read(HEAD))
            if head is not None and offset + HEAD + head.stored <= size:
                yield head, Location(number, offset, head.stored, head.raw)
                offset += HEAD + head.stored
                continue
            following = _next_head(handle, offset + 1, size)
            yield Gap(number, offset, following)
            offset = following


def _next_head(handle: BinaryIO, start: int, size: int) -> int:
    handle.seek(start)
    rest = handle.read()
    at = rest.find(MARK)
    while at >= 0:
        if parse_head(rest[at : at + HEAD]) is not None:
            return start + at
        at = rest.find(MARK, at + 1)
    return size


class PackReader:
    """Reads blocks by location and checks each against its identity."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._handles: dict[int, BinaryIO] = {}
        self._zstd = zstandard.ZstdDecompressor()

    def close(self) -> None:
        """Close all packs."""
        for handle in self._handles.values():
            handle.close()
        self._handles.clear()

    def read(self, block: BlockId, location: Location) -> bytes:
        """The raw bytes of ``block``; Damage, naming pack and offset, when they are not what was stored."""
        path = pack_path(self._folder, location.pack)
        try:
            handle = self._handles.get(location.pack)
            if handle is None:
                handle = self._handles[location.pack] = path.open("rb")
            handle.seek(location.offset)
            data = handle.read(HEAD + location.stored)
        except OSError as error:
            raise Damage(f"cannot read a pack: {error.strerror}", place=Place(path.name)) from error
        raw = self._decode(data)
        if raw is None or block_id(raw) != block:
            raise Damage(
                f"the stored block at byte {location.offset} is not what was put there",
                place=Place(f"packs/{path.name}"),
                hint="run 'emberkeep verify' to see which files and snapshots it touches",
            )
        return raw

    def _decode(self, data: bytes) -> bytes | None:
        head = parse_head(data)
        if head is None or head.raw > LARGEST_BLOCK or len(data) < HEAD + head.stored:
            return None
        stored = data[HEAD : HEAD + head.stored]
        if head.form == RAW:
            return stored
        try:
            return self._zstd.decompress(stored, max_output_size=head.raw)
        except zstandard.ZstdError:
            return None


class PackWriter:
    """Appends blocks to one new pack; nothing counts until :meth:`finish`."""

    def __init__(self, folder: Path, number: int, level: int = 3) -> None:
        self.number = number
        self._path = pack_path(folder, number)
        self._part = self._path.with_name(self._path.name + ".part")
        self._zstd = zstandard.ZstdCompressor(level=level)
        self._handle = files.io.create(self._part)
        files.io.write(self._handle, MAGIC)
        self._offset = len(MAGIC)

    @property
    def size(self) -> int:
        """Bytes written so far."""
        return self._offset

    def add(self, kind: int, block: BlockId, raw: bytes) -> Location:
        """Append one block and tell where it will lie."""
        packed = self._zstd.compress(raw)
        form, stored = (ZSTD, packed) if len(packed) < len(raw) else (RAW, raw)
        files.io.write(self._handle, serialize_head(Head(kind, form, block, len(raw), len(stored))) + stored)
        location = Location(self.number, self._offset, len(stored), len(raw))
        self._offset += HEAD + len(stored)
        return location

    def finish(self) -> None:
        """Sync the pack and make it count; an empty one is thrown away."""
        if self._offset == len(MAGIC):
            self.abandon()
            return
        files.io.sync(self._handle)
        self._handle.close()
        files.io.replace(self._part, self._path)

    def abandon(self) -> None:
        """Throw the half-made pack away."""
        self._handle.close()
        files.io.unlink(self._part)
