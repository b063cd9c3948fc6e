"""Pack files: blocks behind one another, each entry describing itself, so that the index can be rebuilt.

::

    pack   = magic entry*
    magic  = b"EMBERPACK 2\\n"                                12 bytes
    entry  = head stored
    head   = b"EKB2" form digest raw stored crc               56 bytes, little-endian
        form    u8       0 as it is, 1 one zstd frame
        (3 bytes of zero)
        digest  32       BLAKE3 of the raw bytes
        raw     u64      length before compression
        stored  u32      length of ``stored``
        crc     u32      CRC-32 of the 52 bytes before

A pack is written as ``NUMBER.pack.part`` and renamed once it is synced; only ``.pack`` files count. No number is given
twice, as whoever reads may still have a pack open that is gone: where the newest goes, ``last`` holds its number.
"""

from __future__ import annotations

import contextlib
import struct
import threading
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, NamedTuple, NewType

import zstandard
from blake3 import blake3

from emberkeep.errors import Damage, Place, reason
from emberkeep.fs import system, writing

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

MAGIC = b"EMBERPACK 2\n"
MARK = b"EKB2"
RAW, ZSTD = 0, 1
_BODY = struct.Struct("<4sB3x32sQI")
_CRC = struct.Struct("<I")
HEAD = _BODY.size + _CRC.size
LARGEST_BLOCK = 16 << 20
LEVEL, LIGHT_LEVEL = 3, -5
"""Of zstd: the usual one, and one for what hardly shrinks; docs/benchmarks.md says how they were chosen."""
_TEXT = 0.4
"""What shrinks to less than this is text of some kind."""
TRIED_EVERY = 16
"""Of so many dense blocks behind one another, one is tried with both levels."""
_ALIKE = 0.01
"""How far apart shares may lie for blocks to count as of one kind."""

EAGER = 64 << 20
"""Bytes of a pack behind which a sync is begun while more is written."""

BlockId = NewType("BlockId", bytes)
"""BLAKE3 of a block's raw bytes, 32 bytes."""


class Location(NamedTuple):
    """Where a block lies: pack number, offset of its head in bytes, stored and raw length in bytes."""

    pack: int
    offset: int
    stored: int
    raw: int


@dataclass(frozen=True, slots=True)
class Head:
    """The decoded head of an entry."""

    form: int
    block: BlockId
    raw: int
    stored: int


def block_id(raw: bytes) -> BlockId:
    """The identity of a block."""
    return BlockId(blake3(raw).digest())


def serialize_head(head: Head) -> bytes:
    """The 56 bytes of ``head``."""
    body = _BODY.pack(MARK, head.form, head.block, head.raw, head.stored)
    return body + _CRC.pack(zlib.crc32(body))


def parse_head(data: bytes) -> Head | None:
    """The head in the first 56 bytes of ``data``; None when these are no sound head."""
    if len(data) < HEAD or data[:4] != MARK:
        return None
    body = data[: _BODY.size]
    if _CRC.unpack(data[_BODY.size : HEAD])[0] != zlib.crc32(body):
        return None
    _, form, block, raw, stored = _BODY.unpack(body)
    return Head(form, BlockId(block), raw, stored)


class Encoded(NamedTuple):
    """A block ready to be written: its head and the bytes behind it."""

    head: Head
    stored: bytes | memoryview


def encode(block: BlockId, raw: bytes, levels: Levels | None = None) -> Encoded:
    """A block compressed, or as it is where that is shorter. Several threads may do this at once."""
    packed = (levels or Levels()).compress(raw) if raw else raw
    form, stored = (ZSTD, packed) if len(packed) < len(raw) else (RAW, raw)
    return Encoded(Head(form, block, len(raw), len(stored)), stored)


class Levels:
    """Chooses the level for each block by what the ones before it came to.

    What is dense (packed chunks, noise with gaps) often comes out smaller with the light level, and in a third of the
    time, since that one wastes nothing on literals that do not shrink. Blocks behind one another are mostly of one
    kind, so one in :data:`TRIED_EVERY` is tried with both. A race between threads costs a trial at most.
    """

    def __init__(self) -> None:
        self._light: float | None = None
        """What the light level made of the last block it was better for; None where it was not."""
        self._since = TRIED_EVERY

    def compress(self, raw: bytes) -> bytes:
        """One zstd frame around a block that is not empty."""
        expected = self._light  # read once: another thread may change it while this one compresses
        if expected is not None and self._since < TRIED_EVERY:
            light = _compressor(LIGHT_LEVEL).compress(raw)
            if abs(len(light) / len(raw) - expected) < _ALIKE:
                self._since += 1
                return light
        packed = _compressor(LEVEL).compress(raw)
        if len(packed) < _TEXT * len(raw):
            return packed
        if expected is None and self._since < TRIED_EVERY:
            self._since += 1
            return packed
        light = _compressor(LIGHT_LEVEL).compress(raw)
        self._since = 0
        self._light = len(light) / len(raw) if len(light) < len(packed) else None
        return min(light, packed, key=len)


_of_thread = threading.local()


def _compressor(level: int) -> zstandard.ZstdCompressor:
    """The compressor of this thread: one may not be shared, and making one costs more than a small block."""
    made: dict[int, zstandard.ZstdCompressor] = _of_thread.__dict__.setdefault("compressors", {})
    if level not in made:
        made[level] = zstandard.ZstdCompressor(compression_params=_parameters(level))
    return made[level]


def _parameters(level: int) -> zstandard.ZstdCompressionParameters:
    """Those of a level; the usual one works on tables that fit into the processor's cache, which is half as fast
    again."""
    if level == LEVEL:
        return zstandard.ZstdCompressionParameters.from_level(level, source_size=128 << 10)
    return zstandard.ZstdCompressionParameters.from_level(level)


def _decompressor() -> zstandard.ZstdDecompressor:
    if not hasattr(_of_thread, "decompressor"):
        _of_thread.decompressor = zstandard.ZstdDecompressor()
    made: zstandard.ZstdDecompressor = _of_thread.decompressor
    return made


def pack_path(folder: Path, number: int) -> Path:
    """The file of pack ``number``."""
    return folder / f"{number:08d}.pack"


def pack_numbers(folder: Path) -> list[int]:
    """The packs that are there, ascending."""
    return sorted(int(path.stem) for path in folder.glob("*.pack") if path.stem.isdigit())


LAST = "last"


def next_number(folder: Path) -> int:
    """A number that no pack has or had."""
    gone = 0
    with contextlib.suppress(OSError, ValueError):
        gone = int((folder / LAST).read_text(encoding="ascii"))
    return max(gone, *pack_numbers(folder), 0) + 1


def remove(folder: Path, numbers: Iterable[int]) -> None:
    """Delete packs; the newest stays where its number cannot be noted, as on a full disk. OSError as the system raises
    it."""
    going = set(numbers)
    newest = max(pack_numbers(folder), default=0)
    if newest in going:
        try:
            writing.write_whole(folder / LAST, [f"{newest}\n".encode("ascii")])
        except OSError:
            going.remove(newest)
    for number in sorted(going):
        system.io.unlink(pack_path(folder, number))
    system.io.sync_folder(folder)


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
    with path.open("rb", buffering=0) as handle:  # a head here and there: reading ahead is wasted
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
    """Reads blocks by location and checks each against its identity. Several threads may read at once."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._handles: dict[int, BinaryIO] = {}
        self._guard = threading.Lock()

    def close(self) -> None:
        """Close all packs."""
        for handle in self._handles.values():
            handle.close()
        self._handles.clear()

    def read(self, block: BlockId, location: Location) -> bytes:
        """The raw bytes of ``block``; Damage, naming pack and offset, when they are not what was stored."""
        encoded = self.encoded(location)
        raw = None if encoded is None else decoded(encoded)
        if raw is None or block_id(raw) != block:
            raise Damage(
                f"the stored block at byte {location.offset} is not what was put there",
                place=Place(f"packs/{pack_path(self._folder, location.pack).name}"),
                hint="run 'emberkeep verify' to see which files and snapshots it touches",
            )
        return raw

    def there(self, pack: int) -> bool:
        """Whether a pack can still be read: another program may have put it together with others."""
        return pack in self._handles or pack_path(self._folder, pack).exists()

    def encoded(self, location: Location) -> Encoded | None:
        """A block as it stands in its pack, unchecked but for its head; None when there is no sound head."""
        try:
            with self._guard:
                data = self._bytes(location.pack, location.offset, HEAD + location.stored)
        except OSError as error:
            name = pack_path(self._folder, location.pack).name
            raise Damage(
                f"cannot read a pack: {reason(error)}",
                place=Place(name),
                hint="see whether the disk is well, then run 'emberkeep verify'",
            ) from error
        head = parse_head(data)
        if head is None or len(data) < HEAD + head.stored:
            return None
        return Encoded(head, memoryview(data)[HEAD : HEAD + head.stored])

    def _bytes(self, pack: int, offset: int, size: int) -> bytes:
        """Some bytes of a pack, by one thread at a time."""
        handle = self._handles.get(pack)
        if handle is None:
            handle = self._handles[pack] = pack_path(self._folder, pack).open("rb", buffering=0)
        handle.seek(offset)
        return handle.read(size)


def decoded(encoded: Encoded) -> bytes | None:
    """The raw bytes of a block, unchecked; None when they cannot be had."""
    head, stored = encoded
    if head.raw > LARGEST_BLOCK:
        return None
    if head.form == RAW:
        return bytes(stored)
    try:
        return _decompressor().decompress(stored, max_output_size=head.raw)
    except zstandard.ZstdError:
        return None


class PackWriter:
    """Appends blocks to one new pack, made with the first of them; nothing counts until :meth:`finish`.

    As a context manager it finishes the pack when the block ends well, and else throws it away.
    """

    def __init__(self, folder: Path) -> None:
        self.number = next_number(folder)
        self._path = pack_path(folder, self.number)
        self._part = self._path.with_name(self._path.name + ".part")
        self._handle: BinaryIO | None = None
        self._offset = self._begun = 0
        self._syncing: Future[None] | None = None
        self._pool: ThreadPoolExecutor | None = None

    def __enter__(self) -> PackWriter:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            try:
                self.finish()
            except BaseException:
                self.abandon()
                raise
        else:
            self.abandon()

    @property
    def size(self) -> int:
        """Bytes written so far."""
        return self._offset

    def add(self, encoded: Encoded) -> Location:
        """Append one block and tell where it will lie."""
        if self._handle is None:
            self._handle = system.io.create(self._part)
            system.io.write(self._handle, MAGIC)
            self._offset = len(MAGIC)
        head, stored = encoded
        system.io.write(self._handle, serialize_head(head))
        system.io.write(self._handle, stored)
        location = Location(self.number, self._offset, len(stored), head.raw)
        self._offset += HEAD + len(stored)
        if self._offset - self._begun >= EAGER and (self._syncing is None or self._syncing.done()):
            self._begin_sync()
        return location

    def _begin_sync(self) -> None:
        """Sync what is there in another thread, so that little is left for the end. What that raises is met there."""
        if self._syncing is not None:
            self._syncing.result()
        if self._pool is None:
            from concurrent.futures import ThreadPoolExecutor

            self._pool = ThreadPoolExecutor(1, "sync")
        assert self._handle is not None
        self._begun = self._offset
        self._syncing = self._pool.submit(system.io.sync, self._handle)

    def finish(self) -> None:
        """Sync the pack and make it count; one that holds nothing was never made."""
        if self._handle is None:
            return
        if self._syncing is not None:
            self._syncing.result()  # a failure is told once only, so it counts though a later sync goes well
        system.io.sync(self._handle)
        self._close()
        system.io.replace(self._part, self._path)
        system.io.sync_folder(self._path.parent)

    def abandon(self) -> None:
        """Throw the half-made pack away. What cannot be removed now, the next writer sweeps."""
        if self._handle is not None:
            self._close()
            with contextlib.suppress(OSError):
                system.io.unlink(self._part)

    def _close(self) -> None:
        if self._pool is not None:
            self._pool.shutdown()
        assert self._handle is not None
        self._handle.close()
