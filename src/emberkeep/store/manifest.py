"""Manifests: what one snapshot holds.

::

    manifest = magic length:u32 about held check
    magic    = b"EMBERMANIFEST 1\\n"
    length   = bytes in ``about``, little-endian
    about    = one zstd frame around a JSON document (ASCII): the fields of :class:`About`
    held     = one zstd frame around a JSON document (ASCII): ``top``, ``skipped`` and ``entries``
    check    = BLAKE3 of all bytes before, 32 bytes

``top`` is mode and mtime_ns of the root folder, or null. ``skipped`` lists path and reason. ``entries`` is a table
by columns of equal length: ``path``, ``kind`` (f file, d folder, l link), ``mode``, ``mtime_ns``, ``size``,
``digest`` (BLAKE3 of the whole contents, hex, files only), ``blocks`` (the block that holds the contents, or ``*`` and
the list block when there are several; hex; empty for an empty file), ``points_at`` (links only). Names that are not
UTF-8 stand as lone surrogates (``\\udcXX``).
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterable
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any

import zstandard
from blake3 import blake3

from emberkeep.errors import Damage, Place
from emberkeep.store.packs import BlockId
from emberkeep.trees import Entry, Kind, Skipped

MAGIC = b"EMBERMANIFEST 1\n"
ASKED = "asked"
"""``why`` of a snapshot that somebody asked for."""

LARGEST = 4 << 30
_LENGTH = struct.Struct("<I")
_LETTERS = {Kind.FILE: "f", Kind.FOLDER: "d", Kind.LINK: "l"}
_KINDS = {letter: kind for kind, letter in _LETTERS.items()}


@dataclass(frozen=True)
class About:
    """Facts about a snapshot.

    ``taken``: UTC. ``why``: ``asked``, ``defaults`` or the run it was taken before. ``scope``: the selectors it was
    limited to, () for everything, with the role table they were read by in ``roles``. ``new_bytes``: bytes the
    packs grew by. ``label``: number of a snapshot or version of defaults.
    """

    label: str
    taken: datetime
    why: str
    note: str = ""
    scope: tuple[str, ...] = ()
    roles: tuple[tuple[str, tuple[str, ...]], ...] = ()
    files: int = 0
    bytes: int = 0
    new_bytes: int = 0
    running: str = ""
    source: str = ""


@dataclass(frozen=True, slots=True)
class Held:
    """An entry with where its contents lie; ``digest`` and ``blocks`` are hex and empty for folders and links."""

    entry: Entry
    digest: str = ""
    blocks: str = ""
    several: bool = False

    @property
    def block(self) -> BlockId:
        """The identity of the block named by ``blocks``."""
        return BlockId(bytes.fromhex(self.blocks))


@dataclass(frozen=True)
class Manifest:
    """A snapshot: its facts and all it holds, by path."""

    about: About
    held: dict[str, Held]
    skipped: tuple[Skipped, ...] = field(default=())
    top: Entry | None = None


def serialize(manifest: Manifest) -> bytes:
    """The bytes of a manifest file."""
    about = asdict(manifest.about)
    about["taken"] = manifest.about.taken.astimezone(UTC).isoformat()
    held = {
        "top": [manifest.top.mode, manifest.top.mtime_ns] if manifest.top else None,
        "skipped": [[item.path, item.why] for item in manifest.skipped],
        "entries": _columns(manifest.held.values()),
    }
    first = _frame(about)
    body = MAGIC + _LENGTH.pack(len(first)) + first + _frame(held)
    return body + blake3(body).digest()


def _frame(document: dict[str, Any]) -> bytes:
    text = json.dumps(document, separators=(",", ":"), ensure_ascii=True)
    return zstandard.ZstdCompressor(level=3).compress(text.encode("ascii"))


def _columns(held: Iterable[Held]) -> dict[str, list[Any]]:
    rows = list(held)
    return {
        "path": [row.entry.path for row in rows],
        "kind": [_LETTERS[row.entry.kind] for row in rows],
        "mode": [row.entry.mode for row in rows],
        "mtime_ns": [row.entry.mtime_ns for row in rows],
        "size": [row.entry.size for row in rows],
        "digest": [row.digest for row in rows],
        "blocks": [("*" if row.several else "") + row.blocks for row in rows],
        "points_at": [row.entry.points_at for row in rows],
    }


def parse(data: bytes, name: str) -> Manifest:
    """The manifest in ``data``, read from file ``name``; Damage when it is not what was written."""
    first, second = _frames(data, name)
    held = _document(second, name)
    return Manifest(
        _about(_document(first, name)),
        {row.entry.path: row for row in _rows(held["entries"])},
        tuple(Skipped(path, why) for path, why in held["skipped"]),
        Entry("", Kind.FOLDER, *held["top"]) if held["top"] else None,
    )


def parse_about(data: bytes, name: str) -> About:
    """Only the facts of the manifest in ``data``; the check over all bytes is made all the same."""
    return _about(_document(_frames(data, name)[0], name))


def _frames(data: bytes, name: str) -> tuple[bytes, bytes]:
    body, check = data[:-32], data[-32:]
    if not body.startswith(MAGIC) and body.startswith(b"EMBERMANIFEST ") and blake3(body).digest() == check:
        raise Damage("this manifest was written by a newer Ember Keep", place=Place(name), hint="update Ember Keep")
    if not body.startswith(MAGIC) or blake3(body).digest() != check:
        raise Damage("this manifest is damaged", place=Place(name), hint="the other snapshots are not touched by this")
    start = len(MAGIC) + _LENGTH.size
    (length,) = _LENGTH.unpack_from(body, len(MAGIC))
    return body[start : start + length], body[start + length :]


def _document(frame: bytes, name: str) -> dict[str, Any]:
    if zstandard.frame_content_size(frame) > LARGEST:
        raise Damage("this manifest is larger than any can be", place=Place(name))
    document: dict[str, Any] = json.loads(zstandard.ZstdDecompressor().decompress(frame))
    return document


def _about(facts: dict[str, Any]) -> About:
    facts = dict(facts)
    facts["taken"] = datetime.fromisoformat(facts["taken"])
    facts["scope"] = tuple(facts["scope"])
    facts["roles"] = tuple((role, tuple(patterns)) for role, patterns in facts["roles"])
    return About(**facts)


def _rows(columns: dict[str, list[Any]]) -> Iterable[Held]:
    names = ("path", "kind", "mode", "mtime_ns", "size", "digest", "blocks", "points_at")
    for path, kind, mode, mtime, size, digest, blocks, points_at in zip(
        *(columns[name] for name in names), strict=True
    ):
        entry = Entry(path, _KINDS[kind], mode, mtime, size, points_at)
        several = blocks.startswith("*")
        yield Held(entry, digest, blocks[1:] if several else blocks, several)
