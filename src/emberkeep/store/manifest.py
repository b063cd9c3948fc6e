"""Manifests: what one snapshot holds.

::

    manifest = magic length:u32 about held check
    magic    = b"EMBERMANIFEST 3\\n"
    length   = bytes in ``about``, little-endian
    about    = one zstd frame around a JSON document (ASCII): the fields of :class:`About`
    held     = one zstd frame around: length:u32 few paths kinds columns blocks digests
    length   = bytes in ``few``, little-endian
    check    = BLAKE3 of all bytes before, 32 bytes

What stands in ``held`` is a table of entries, sorted by path. ``few`` is a JSON document (ASCII):

* ``top``: mode, mtime_ns, owner and group of the root folder, or null;
* ``skipped``: lists path and reason;
* ``entries``, ``paths``, ``blocks``: number of entries, bytes in ``paths``, number of blocks;
* ``points_at`` (targets of links) and ``same_as`` (further names of one file: its first name) have the row, as text,
  as key. Names that are not UTF-8 stand as lone surrogates (``\\udcXX``).

``paths`` are the names as the system's bytes or UTF-8, joined by NUL. ``kinds`` has a letter for each entry: f file,
d folder, l link. ``columns``, one after the other, each with a number for each entry, 64 bits, signed, little-endian:
mode, mtime_ns, size, owner, group (-1 where unknown), block (position in ``blocks``, -1 where there are no bytes),
offset, length, depth (see ``extents``). ``blocks`` are the identities of all blocks that the entries name, 32 bytes
each; ``digests`` the BLAKE3 of the whole contents of each entry of kind f, 32 bytes each.

A path that begins with ``/`` is no file of the server folder: ``/NAME.sql`` is the dump of the database that keep.toml
calls NAME, ``/NAME.json`` what was dumped of it (see ``databases.dump``). No other path begins so.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Container, Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from itertools import accumulate, pairwise, repeat
from typing import Any, NamedTuple

import zstandard
from blake3 import blake3

from emberkeep.errors import Damage
from emberkeep.errors import Place as Where
from emberkeep.fs.trees import FILE, Entry, Kind, Skipped
from emberkeep.store.extents import HOLE, Place
from emberkeep.store.packs import BlockId

MAGIC = b"EMBERMANIFEST 3\n"
ASKED = "asked"
"""``why`` of a snapshot that somebody asked for."""
DEFAULTS = "defaults"
"""``why`` of a release's recorded files."""

LARGEST = 4 << 30
_CHECK = 32
_LENGTH = struct.Struct("<I")
_LETTERS = {Kind.FILE: "f", Kind.FOLDER: "d", Kind.LINK: "l"}
_KINDS = {letter: kind for kind, letter in _LETTERS.items()}


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


class FileRow(NamedTuple):
    """An entry with the digest (hex) and the place of its contents: "" and None where there are none."""

    entry: Entry
    digest: str = ""
    place: Place | None = None


@dataclass(frozen=True)
class Manifest:
    """A snapshot: its facts and all it holds, by path, sorted."""

    about: About
    held: dict[str, FileRow]
    skipped: tuple[Skipped, ...] = field(default=())
    top: Entry | None = None


def serialize(manifest: Manifest) -> bytes:
    """The bytes of a manifest file."""
    return _whole(manifest.about, zstandard.ZstdCompressor(level=3).compress(_table(manifest)))


def amended(data: bytes, about: About) -> bytes:
    """The manifest in ``data`` with other facts about it."""
    return _whole(about, bytes(_frames(data, about.label)[1]))


def check_of(data: bytes) -> str:
    """What tells what a manifest file holds from what any other does: BLAKE3 of its ``held`` frame, in hex."""
    try:
        return blake3(_frames(data, "")[1]).hexdigest()
    except Damage:
        return ""


def is_sound(data: bytes) -> bool:
    """Whether a manifest file is, byte for byte, what some Ember Keep wrote."""
    return data.startswith(b"EMBERMANIFEST ") and blake3(memoryview(data)[:-_CHECK]).digest() == data[-_CHECK:]


def _whole(about: About, held: bytes) -> bytes:
    facts = asdict(about)
    facts["taken"] = about.taken.astimezone(UTC).isoformat()
    first = zstandard.ZstdCompressor(level=3).compress(_json(facts))
    body = MAGIC + _LENGTH.pack(len(first)) + first + held
    return body + blake3(body).digest()


def _json(document: dict[str, Any]) -> bytes:
    return json.dumps(document, separators=(",", ":"), ensure_ascii=True).encode("ascii")


def _table(manifest: Manifest) -> bytes:
    rows = list(manifest.held.values())
    entries = [row.entry for row in rows]
    blocks: dict[BlockId, int] = {}
    places = [row.place or _NOWHERE for row in rows]
    numbers = [-1 if row.place is None else blocks.setdefault(row.place.block, len(blocks)) for row in rows]
    top = manifest.top
    paths = "\0".join([entry.path for entry in entries]).encode("utf-8", "surrogateescape")
    few = {
        "top": [top.mode, top.mtime_ns, top.owner, top.group] if top else None,
        "skipped": [[item.path, item.why] for item in manifest.skipped],
        "entries": len(rows),
        "paths": len(paths),
        "blocks": len(blocks),
        "points_at": {str(at): entry.points_at for at, entry in enumerate(entries) if entry.points_at},
        "same_as": {str(at): entry.same_as for at, entry in enumerate(entries) if entry.same_as},
    }
    head = _json(few)
    columns = packed(
        [entry.mode for entry in entries],
        [entry.mtime_ns for entry in entries],
        [entry.size for entry in entries],
        [entry.owner for entry in entries],
        [entry.group for entry in entries],
        numbers,
        [place.offset for place in places],
        [place.length for place in places],
        [place.depth for place in places],
    )
    kinds = "".join([_LETTERS[entry.kind] for entry in entries]).encode("ascii")
    digests = bytes.fromhex("".join([row.digest for row in rows]))
    return b"".join([_LENGTH.pack(len(head)), head, paths, kinds, columns, *blocks, digests])


_NOWHERE = Place(HOLE, 0, 0)
_COLUMNS = 9


def packed(*columns: Sequence[int]) -> bytes:
    """Columns of numbers, one after the other: 64 bits each, signed, little-endian."""
    return b"".join([struct.pack(f"<{len(column)}q", *column) for column in columns])


def unpacked(data: bytes) -> tuple[int, ...]:
    """The numbers in what :func:`packed` made."""
    return struct.unpack(f"<{len(data) // 8}q", data)


class _Parts(NamedTuple):
    """A table taken apart, its rows not yet made."""

    few: dict[str, Any]
    paths: bytes
    kinds: str
    columns: list[bytes]
    blocks: list[BlockId]
    digests: bytes


def _parts(frame: memoryview, name: str) -> _Parts:
    data = _decompressed(frame, name)
    at = _LENGTH.size + _LENGTH.unpack_from(data)[0]
    few = json.loads(data[_LENGTH.size : at])
    count = few["entries"]
    lengths = (few["paths"], count, *[8 * count] * _COLUMNS, 32 * few["blocks"])
    ends = list(accumulate(lengths, initial=at))
    paths, kinds, *columns, blocks = (data[start:end] for start, end in pairwise(ends))
    named = [BlockId(blocks[at : at + 32]) for at in range(0, len(blocks), 32)]
    return _Parts(few, paths, kinds.decode("ascii"), columns, named, data[ends[-1] :])


def parse(data: bytes, name: str) -> Manifest:
    """The manifest in ``data``, read from file ``name``; Damage when it is not what was written."""
    first, second = _frames(data, name)
    parts = _parts(second, name)
    few = parts.few
    return Manifest(
        _about(_document(first, name)),
        _rows(parts),
        tuple(Skipped(path, why) for path, why in few["skipped"]),
        _top(*few["top"]) if few["top"] else None,
    )


def _top(mode: int, mtime_ns: int, owner: int, group: int) -> Entry:
    return Entry("", Kind.FOLDER, mode, mtime_ns, 0, "", owner, group)


def parse_places(data: bytes, name: str) -> set[tuple[BlockId, int, int, int]]:
    """Only where the contents lie that the manifest in ``data`` names, each once, as what makes a :class:`Place`; many
    times quicker than all of it."""
    parts = _parts(_frames(data, name)[1], name)
    numbers, *rest = map(unpacked, parts.columns[-4:])
    blocks = [*parts.blocks, HOLE]  # -1 names the last, which stands for none
    return set(zip([blocks[at] for at in numbers], *rest, strict=True)) - {_NOWHERE}


def parse_contents(data: bytes, name: str, sizes: Container[int] | None = None) -> dict[Place, tuple[int, bytes]]:
    """Only the contents that the manifest in ``data`` names, or those of some ``sizes``: by place their size in bytes
    and digest (32 bytes)."""
    parts = _parts(_frames(data, name)[1], name)
    size = unpacked(parts.columns[2])
    numbers, *rest = map(unpacked, parts.columns[-4:])
    files = [at for at, letter in enumerate(parts.kinds) if letter == _LETTERS[FILE]]
    return {
        Place(parts.blocks[numbers[at]], *(column[at] for column in rest)): (
            size[at],
            parts.digests[32 * file : 32 * file + 32],
        )
        for file, at in enumerate(files)
        if numbers[at] >= 0 and (sizes is None or size[at] in sizes)
    }


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


def _rows(parts: _Parts) -> dict[str, FileRow]:
    """The table's rows. Snapshots of large servers have very many, so tuples are made without a call of ours each."""
    few, count = parts.few, parts.few["entries"]
    if not count:
        return {}
    points_at, same_as = ([""] * count for _ in range(2))
    for rare, name in ((points_at, "points_at"), (same_as, "same_as")):
        for at, value in few[name].items():
            rare[int(at)] = value
    paths = parts.paths.decode("utf-8", "surrogateescape").split("\0")
    kinds = [_KINDS[letter] for letter in parts.kinds]
    mode, mtime_ns, size, owner, group, block, offset, length, depth = map(unpacked, parts.columns)
    blocks = [*parts.blocks, HOLE]  # -1 names the last, which stands for none
    hexes = parts.digests.hex()
    starts = iter(range(0, len(hexes), 64))
    digests = [hexes[(at := next(starts)) : at + 64] if kind is FILE else "" for kind in kinds]
    new = tuple.__new__
    entries = map(
        new,
        repeat(Entry),
        zip(paths, kinds, mode, mtime_ns, size, points_at, owner, group, same_as, strict=True),
    )
    places = map(new, repeat(Place), zip([blocks[at] for at in block], offset, length, depth, strict=True))
    named = [None if at < 0 else place for at, place in zip(block, places, strict=True)]
    return dict(zip(paths, map(new, repeat(FileRow), zip(entries, digests, named, strict=True)), strict=True))
