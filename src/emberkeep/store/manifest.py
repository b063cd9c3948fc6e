"""Manifests: what one snapshot holds.

::

    manifest = magic length:u32 about held check
    magic    = b"EMBERMANIFEST 3\\n"
    length   = bytes in ``about``, little-endian
    about    = one zstd frame around a JSON document (ASCII): the fields of :class:`About`
    held     = one zstd frame around the table of entries, see ``table``
    check    = BLAKE3 of all bytes before, 32 bytes

A path that begins with ``/`` is no file of the server folder: ``/NAME.sql`` is the dump of the database that keep.toml
calls NAME, ``/NAME.json`` what was dumped of it (see ``databases.dump``). No other path begins so.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Container, Mapping
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any, NamedTuple

import zstandard
from blake3 import blake3

from emberkeep.errors import Damage
from emberkeep.errors import Place as Where
from emberkeep.fs.trees import Entry, Skipped
from emberkeep.store import table as tables
from emberkeep.store.extents import Place
from emberkeep.store.table import FileRow

MAGIC = b"EMBERMANIFEST 3\n"
ASKED = "asked"
"""``why`` of a snapshot that somebody asked for."""
DEFAULTS = "defaults"
"""``why`` of a release's recorded files."""

LARGEST = 4 << 30
_CHECK = 32
_LENGTH = struct.Struct("<I")


@dataclass(frozen=True)
class About:
    """Facts about a snapshot.

    ``taken``: UTC. ``why``: ``asked``, ``defaults`` or the run it was taken before. ``scope``: the selectors it was
    limited to, () for everything, with the role table and the names of tiles they were read by in ``roles`` and
    ``tiles``. ``new_bytes``: bytes the packs grew by. ``label``: number of a snapshot or version of defaults.
    ``running``: what showed that the server ran, "" when it did not. ``source``: where it was taken from, when not
    from the live server. ``pinned``: no thinning removes it. ``unsettled``: a file went on changing while it was
    read. ``copied``: databases that others had open, copied by SQLite. ``databases``: those of database servers that
    were dumped along.
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
    tiles: str = ""
    pinned: bool = False
    unsettled: bool = False
    copied: tuple[str, ...] = ()
    databases: tuple[str, ...] = ()


BESIDE = "/"
"""What paths begin with that are no files of the server folder: dumps of databases, and what was dumped."""


def beside(name: str, ending: str = "") -> str:
    """The path of what belongs to a database: its dump (``.sql``), what was dumped (``.json``), or, in the journal,
    that a run changes it."""
    return f"{BESIDE}{name}{ending}"


class ManifestName(NamedTuple):
    """What a manifest is called: the number of a snapshot, or the version of recorded ``defaults``. ``keep``: which of
    the keeps that share the store has it, "" for the one by which the store was opened."""

    label: str
    defaults: bool = False
    keep: str = ""

    @property
    def file(self) -> str:
        """The name of its file."""
        return f"{self.label}.manifest" if self.defaults else f"{int(self.label):06d}.manifest"

    def __str__(self) -> str:
        """As people name it: ``7``, ``defaults:4.2``, ``gannet-rock/7``."""
        mine = f"defaults:{self.label}" if self.defaults else self.label
        return f"{self.keep}/{mine}" if self.keep else mine


def name_of(text: str) -> ManifestName:
    """The manifest of this keep that ``7`` or ``defaults:4.2`` names."""
    label = text.removeprefix("defaults:")
    return ManifestName(label, label != text)


@dataclass(frozen=True)
class Manifest:
    """A snapshot: its facts and all it holds, by path, sorted."""

    about: About
    held: Mapping[str, FileRow]
    skipped: tuple[Skipped, ...] = field(default=())
    top: Entry | None = None


def serialize(manifest: Manifest) -> bytes:
    """The bytes of a manifest file."""
    pieces = tables.serialize(manifest.held, manifest.skipped, manifest.top)
    frame = zstandard.ZstdCompressor(level=3).compressobj(size=sum(map(len, pieces)))
    return _whole(manifest.about, *map(frame.compress, pieces), frame.flush())


def amended(data: bytes, about: About) -> bytes:
    """The manifest in ``data`` with other facts about it."""
    return _whole(about, _frames(data, about.label)[1])


def check_of(data: bytes) -> str:
    """What tells what a manifest file holds from what any other does: BLAKE3 of its ``held`` frame, in hex."""
    try:
        return blake3(_frames(data, "")[1]).hexdigest()
    except Damage:
        return ""


def is_sound(data: bytes) -> bool:
    """Whether a manifest file is, byte for byte, what some Ember Keep wrote."""
    return data.startswith(b"EMBERMANIFEST ") and blake3(memoryview(data)[:-_CHECK]).digest() == data[-_CHECK:]


def _whole(about: About, *held: bytes | memoryview) -> bytes:
    facts = asdict(about)
    facts["taken"] = about.taken.astimezone(UTC).isoformat()
    first = zstandard.ZstdCompressor(level=3).compress(_json(facts))
    pieces = [MAGIC, _LENGTH.pack(len(first)), first, *held]
    check = blake3()
    for piece in pieces:
        check.update(piece)
    return b"".join([*pieces, check.digest()])


def _json(document: dict[str, Any]) -> bytes:
    return json.dumps(document, separators=(",", ":"), ensure_ascii=True).encode("ascii")


def parse(data: bytes, name: str) -> Manifest:
    """The manifest in ``data``, read from file ``name``; Damage when it is not what was written."""
    first, second = _frames(data, name)
    parts = tables.parts_of(_decompressed(second, name))
    return Manifest(_about(_document(first, name)), tables.rows_of(parts), parts.skipped, parts.top)


def parse_places(data: bytes, name: str) -> tables.Places:
    """Only where the contents lie that the manifest in ``data`` names; many times quicker than all of it."""
    return tables.places_of(_parts(data, name))


def parse_contents(data: bytes, name: str, sizes: Container[int] | None = None) -> dict[Place, tuple[int, bytes]]:
    """Only the contents that the manifest in ``data`` names, or those of some ``sizes``: by place their size in bytes
    and digest (32 bytes)."""
    return tables.contents_of(_parts(data, name), sizes)


def _parts(data: bytes, name: str) -> tables.Parts:
    return tables.parts_of(_decompressed(_frames(data, name)[1], name))


def parse_about(data: bytes, name: str) -> About:
    """Only the facts of the manifest in ``data``; the check over all bytes is made all the same."""
    return _about(_document(_frames(data, name)[0], name))


def _frames(data: bytes, name: str) -> tuple[memoryview, memoryview]:
    body = memoryview(data)[:-_CHECK]
    sound = is_sound(data)
    if sound and not data.startswith(MAGIC):
        raise Damage("this manifest was written by another Ember Keep", place=Where(name), hint="update Ember Keep")
    if not sound:
        raise Damage("this manifest is damaged", place=Where(name), hint="the other snapshots are not touched by this")
    start = len(MAGIC) + _LENGTH.size
    (length,) = _LENGTH.unpack_from(body, len(MAGIC))
    return body[start : start + length], body[start + length :]


def _decompressed(frame: memoryview, name: str) -> bytes:
    if zstandard.frame_content_size(frame) > LARGEST:
        raise Damage("this manifest is larger than any can be", place=Where(name), hint="run 'emberkeep verify'")
    return zstandard.ZstdDecompressor().decompress(frame)


def _document(frame: memoryview, name: str) -> dict[str, Any]:
    document: dict[str, Any] = json.loads(_decompressed(frame, name))
    return document


def _about(facts: dict[str, Any]) -> About:
    facts = dict(facts)
    facts["taken"] = datetime.fromisoformat(facts["taken"])
    facts["scope"] = tuple(facts["scope"])
    facts["copied"] = tuple(facts["copied"])
    facts["databases"] = tuple(facts.get("databases", ()))
    facts["roles"] = tuple((role, tuple(patterns)) for role, patterns in facts["roles"])
    return About(**facts)
