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
from array import array
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import zstandard
from blake3 import blake3

from emberkeep.fs import writing
from emberkeep.store.table import FileRow, Table, mtimes_of, packed, unpacked

MAGIC = b"EMBERSEEN 2\n"
_LENGTH = struct.Struct("<I")
SETTLED_NS = 2_000_000_000
"""How long before the scan a file's times must lie; file systems round times to as much as two seconds."""

Stamps = Mapping[str, tuple[int, int]]
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
        ctimes, inodes = numbers[: len(held)], numbers[len(held) :]
        if isinstance(held, Table) and held.is_whole:
            return _Stamps(held, ctimes, inodes)
        return {path: (ctime, inode) for path, ctime, inode in zip(held, ctimes, inodes, strict=True) if ctime}


class _Stamps(Mapping[str, tuple[int, int]]):
    """The stamps of the trusted files of a long table, made when they are asked for."""

    def __init__(self, held: Table, ctimes: Sequence[int], inodes: Sequence[int]) -> None:
        self._at, self._ctimes, self._inodes = held.at, ctimes, inodes

    def __getitem__(self, path: str) -> tuple[int, int]:
        at = self._at[path]
        if not self._ctimes[at]:
            raise KeyError(path)
        return self._ctimes[at], self._inodes[at]

    def __iter__(self) -> Iterator[str]:
        return (path for path, at in self._at.items() if self._ctimes[at])

    def __len__(self) -> int:
        return sum(1 for _ in self)


def of(
    held: Mapping[str, FileRow], stamp_of: Callable[[str], tuple[int, int] | None], taken_ns: int
) -> tuple[bytes, int]:
    """The frame of stamps for a snapshot's rows, and how many of them are trusted: none whose times lie too near the
    scan."""
    until = taken_ns - SETTLED_NS
    ctimes, inodes = array("q"), array("q")
    for path, mtime_ns in mtimes_of(held):
        ctime, inode = stamp_of(path) or (0, 0)
        settled = ctime < until and mtime_ns < until and -_MOST <= inode < _MOST
        ctimes.append(ctime if settled else 0)
        inodes.append(inode if settled else 0)
    trusted = sum(1 for ctime in ctimes if ctime)
    return zstandard.ZstdCompressor(level=1).compress(packed(ctimes, inodes)), trusted


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
