"""What the scan for the latest snapshot saw, so that the next one need not read what nobody has written to since.

::

    seen   = magic document check
    magic  = b"EMBERSEEN 1\\n"
    document = one zstd frame around a JSON document (ASCII)
        snapshot  label of the snapshot, ``check`` (hex): BLAKE3 of its manifest's ``held`` frame
        scan      BLAKE3 (hex) over all that the scan found, see :func:`of_scan`; "" when not all of it is trusted
        packs     number and size of each pack there was: while these are there, so are all blocks of the snapshot
        ctime_ns, inode   columns in the order of the manifest's entries; 0 for what is not trusted
    check  = BLAKE3 of all bytes before, 32 bytes

Only a cache. A file is trusted when its size, mtime, ctime and inode are what they were, and both times lay well
before the scan, so that no later write can have left the same times behind.
"""

from __future__ import annotations

import contextlib
import json
from array import array
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import zstandard
from blake3 import blake3

from emberkeep import files
from emberkeep.store.manifest import LARGEST, Held
from emberkeep.trees import Entry

MAGIC = b"EMBERSEEN 1\n"
SETTLED_NS = 2_000_000_000
"""How long before the scan a file's times must lie; file systems round times to as much as two seconds."""

Stamps = dict[str, tuple[int, int]]
"""ctime (ns) and inode of files by path."""


@dataclass(frozen=True)
class Seen:
    """The cache's contents; ``stamps``: ctime (ns) and inode of the trusted files by path."""

    snapshot: str = ""
    check: str = ""
    scan: str = ""
    packs: Mapping[int, int] = field(default_factory=dict)
    ctimes: tuple[int, ...] = ()
    inodes: tuple[int, ...] = ()

    def stamps(self, held: Mapping[str, Held]) -> Stamps:
        """The stamps of the trusted files of the snapshot's rows."""
        columns = zip(held, self.ctimes, self.inodes, strict=False)
        return {path: (ctime, inode) for path, ctime, inode in columns if ctime}


def of_scan(entries: Mapping[str, Entry], stamps: Stamps, others: Iterable[object]) -> str:
    """A hash over a scan: every entry with its stamp, and ``others``. Two scans with the same hash found the same."""
    none = (0, 0)
    hasher = blake3()
    rows = list(entries.values())
    for text in (
        "\0".join([row.path for row in rows]),
        "\0".join([row.kind for row in rows]),
        "\0".join([f"{row.points_at}\1{row.same_as}" for row in rows if row.points_at or row.same_as]),
        repr(list(others)),
    ):
        hasher.update(text.encode("utf-8", "surrogateescape") + b"\0\0")
    for numbers in zip(*[row[2:5] + row[6:8] + stamps.get(row.path, none) for row in rows], strict=True):
        hasher.update(array("Q", [number & _WORD for number in numbers]).tobytes())
    return hasher.hexdigest()


_WORD = (1 << 64) - 1


def of(held: Mapping[str, Held], stamps: Stamps, taken_ns: int) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """The columns ``ctimes`` and ``inodes`` for a snapshot's rows: zero where a file's times lie too near the scan."""
    until = taken_ns - SETTLED_NS
    none = (0, 0)
    told = []
    for path, row in held.items():
        stamp = stamps.get(path, none)
        told.append(stamp if stamp[0] < until and row.entry.mtime_ns < until else none)
    return tuple(ctime for ctime, _ in told), tuple(inode for _, inode in told)


def save(cache: Path, found: Seen) -> None:
    """Write the cache. A failure is harmless."""
    document = {
        "snapshot": found.snapshot,
        "check": found.check,
        "scan": found.scan,
        "packs": list(found.packs.items()),
        "ctime_ns": found.ctimes,
        "inode": found.inodes,
    }
    text = json.dumps(document, separators=(",", ":")).encode("ascii")
    body = MAGIC + zstandard.ZstdCompressor(level=3).compress(text)
    with contextlib.suppress(OSError):
        files.write_whole(cache, [body, blake3(body).digest()])


def load(cache: Path) -> Seen:
    """The cache, or an empty one when it is missing or not what was written."""
    with contextlib.suppress(OSError, ValueError, KeyError, TypeError, zstandard.ZstdError):
        data = cache.read_bytes()
        body, check = data[:-32], data[-32:]
        frame = body[len(MAGIC) :]
        if body.startswith(MAGIC) and blake3(body).digest() == check and zstandard.frame_content_size(frame) < LARGEST:
            told = json.loads(zstandard.ZstdDecompressor().decompress(frame))
            packs = {int(number): int(size) for number, size in told["packs"]}
            columns = tuple(told["ctime_ns"]), tuple(told["inode"])
            return Seen(told["snapshot"], told["check"], told["scan"], packs, *columns)
    return Seen()
