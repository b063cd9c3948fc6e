"""What the scan for the latest snapshot saw, so that the next one need not read what nobody has written to since.

::

    seen   = magic length:u32 head stamps check
    magic  = b"EMBERSEEN 2\\n"
    length = bytes in ``head``, little-endian
    head   = one zstd frame around a JSON document (ASCII)
        snapshot  label of the snapshot, ``check`` (hex): BLAKE3 of its manifest's ``held`` frame
        scan      what ``FolderTree.fingerprint`` said of the scan; "" when not all of it is trusted
        packs     number and size of each pack there was: while these are there, so are all blocks of the snapshot
    stamps = one zstd frame around ctimes (ns), then inodes: 64 bits each, signed, little-endian, in the order of the
             manifest's entries; 0 for what is not trusted
    check  = BLAKE3 of all bytes before, 32 bytes

Only a cache. A file is trusted when its size, mtime, ctime and inode are what they were, and both times lay well
before the scan, so that no later write can have left the same times behind.
"""

from __future__ import annotations

import contextlib
import json
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import zstandard
from blake3 import blake3

from emberkeep.fs import writing
from emberkeep.store.manifest import FileRow, packed, unpacked

MAGIC = b"EMBERSEEN 2\n"
_LENGTH = struct.Struct("<I")
SETTLED_NS = 2_000_000_000
"""How long before the scan a file's times must lie; file systems round times to as much as two seconds."""

Stamps = dict[str, tuple[int, int]]
"""ctime (ns) and inode of files by path."""


@dataclass(frozen=True)
class StatCache:
    """The cache's contents; ``frame``: the stamps, compressed."""

    snapshot: str = ""
    check: str = ""
    scan: str = ""
    packs: Mapping[int, int] = field(default_factory=dict)
    frame: bytes = b""

    def speaks_of(self, check: str, packs: Mapping[int, int]) -> bool:
        """Whether it tells of the manifest of that check, and all packs that there were then are there: so are all
        blocks of it. Packs that came since, of this keep or of one that shares the store, do no harm."""
        return bool(check) and check == self.check and self.packs.items() <= packs.items()

    def stamps(self, held: Mapping[str, FileRow]) -> Stamps:
        """The stamps of the trusted files of the snapshot's rows."""
        if not self.frame or zstandard.frame_content_size(self.frame) != 16 * len(held):
            return {}
        numbers = unpacked(zstandard.ZstdDecompressor().decompress(self.frame))
        pairs = zip(numbers[: len(held)], numbers[len(held) :], strict=True)
        return {path: pair for path, pair in zip(held, pairs, strict=True) if pair[0]}


def of(held: Mapping[str, FileRow], stamps: Stamps, taken_ns: int) -> tuple[bytes, int]:
    """The frame of stamps for a snapshot's rows, and how many of them are trusted: none whose times lie too near the
    scan."""
    until = taken_ns - SETTLED_NS
    none = (0, 0)
    known = [stamps.get(path, none) for path in held]
    stamps_of_files = [
        stamp if stamp[0] < until and row.entry.mtime_ns < until and -_MOST <= stamp[1] < _MOST else none
        for stamp, row in zip(known, held.values(), strict=True)
    ]
    numbers = packed([ctime for ctime, _ in stamps_of_files], [inode for _, inode in stamps_of_files])
    return zstandard.ZstdCompressor(level=1).compress(numbers), sum(1 for ctime, _ in stamps_of_files if ctime)


_MOST = 1 << 63


def save(cache: Path, found: StatCache) -> None:
    """Write the cache. A failure is harmless."""
    head = {
        "snapshot": found.snapshot,
        "check": found.check,
        "scan": found.scan,
        "packs": list(found.packs.items()),
    }
    first = zstandard.ZstdCompressor(level=3).compress(json.dumps(head, separators=(",", ":")).encode("ascii"))
    body = MAGIC + _LENGTH.pack(len(first)) + first + found.frame
    with contextlib.suppress(OSError):
        writing.write_whole(cache, [body, blake3(body).digest()])


def load(cache: Path) -> StatCache:
    """The cache, or an empty one when it is missing or not what was written."""
    with contextlib.suppress(OSError, ValueError, KeyError, TypeError, zstandard.ZstdError):
        data = cache.read_bytes()
        body, check = data[:-32], data[-32:]
        if body.startswith(MAGIC) and blake3(body).digest() == check:
            start = len(MAGIC) + _LENGTH.size
            end = start + _LENGTH.unpack_from(body, len(MAGIC))[0]
            header = json.loads(zstandard.ZstdDecompressor().decompress(body[start:end]))
            packs = {int(number): int(size) for number, size in header["packs"]}
            return StatCache(header["snapshot"], header["check"], header["scan"], packs, body[end:])
    return StatCache()
