"""Manifests: what one snapshot holds.

::

    manifest = magic length:u32 about held check
    magic    = b"EMBERMANIFEST 2\\n"
    length   = bytes in ``about``, little-endian
    about    = one zstd frame around a JSON document (ASCII): the fields of :class:`About`
    held     = one zstd frame around a JSON document (ASCII): ``top``, ``skipped``, ``blocks`` and ``entries``
    check    = BLAKE3 of all bytes before, 32 bytes

``top`` is mode, mtime_ns, owner and group of the root folder, or null. ``skipped`` lists path and reason.
``blocks`` lists the identities (hex) of all blocks that the entries name. ``entries`` is a table by columns of
equal length, sorted by ``path``: ``kind`` (f file, d folder, l link), ``mode``, ``mtime_ns``, ``size``, ``owner``,
``group`` (-1 where unknown), ``digest`` (BLAKE3 of the whole contents, hex, files only), ``block`` (position in
``blocks``, -1 where there are no bytes), ``offset``, ``length``, ``depth`` (see ``extents``; ``length`` 0 stands
for the size). Two more tables name few paths: ``points_at`` (targets of links) and ``same_as`` (further names of
one file: its first name) have the row, as text, as key. Names that are not UTF-8 stand as lone surrogates
(``\\udcXX``).
"""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any, NamedTuple

import zstandard
from blake3 import blake3

from emberkeep.errors import Damage
from emberkeep.errors import Place as Where
from emberkeep.store.extents import HOLE, Place
from emberkeep.store.packs import BlockId
from emberkeep.trees import Entry, Kind, Skipped

MAGIC = b"EMBERMANIFEST 2\n"
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
    read. ``copied``: databases that others had open, copied by SQLite.
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


class Held(NamedTuple):
    """An entry with the digest (hex) and the place of its contents: "" and None where there are none."""

    entry: Entry
    digest: str = ""
    place: Place | None = None


@dataclass(frozen=True)
class Manifest:
    """A snapshot: its facts and all it holds, by path, sorted."""

    about: About
    held: dict[str, Held]
    skipped: tuple[Skipped, ...] = field(default=())
    top: Entry | None = None


def serialize(manifest: Manifest) -> bytes:
    """The bytes of a manifest file."""
    top = manifest.top
    blocks: dict[BlockId, int] = {}
    entries = _columns(list(manifest.held.values()), blocks)
    held = {
        "top": [top.mode, top.mtime_ns, top.owner, top.group] if top else None,
        "skipped": [[item.path, item.why] for item in manifest.skipped],
        "blocks": [block.hex() for block in blocks],
        "entries": entries,
    }
    return _whole(manifest.about, _frame(held))


def amended(data: bytes, about: About) -> bytes:
    """The manifest in ``data`` with other facts about it."""
    return _whole(about, _frames(data, about.label)[1])


def check_of(data: bytes) -> str:
    """What tells what a manifest file holds from what any other does: BLAKE3 of its ``held`` frame, in hex."""
    if not is_sound(data):
        return ""
    return blake3(_frames(data, "")[1]).hexdigest()


def is_sound(data: bytes) -> bool:
    """Whether a manifest file is, byte for byte, what some Ember Keep wrote."""
    return data.startswith(b"EMBERMANIFEST ") and blake3(data[:-_CHECK]).digest() == data[-_CHECK:]


def _whole(about: About, held: bytes) -> bytes:
    facts = asdict(about)
    facts["taken"] = about.taken.astimezone(UTC).isoformat()
    first = _frame(facts)
    body = MAGIC + _LENGTH.pack(len(first)) + first + held
    return body + blake3(body).digest()


def _frame(document: dict[str, Any]) -> bytes:
    text = json.dumps(document, separators=(",", ":"), ensure_ascii=True)
    return zstandard.ZstdCompressor(level=3).compress(text.encode("ascii"))


def _columns(held: Sequence[Held], blocks: dict[BlockId, int]) -> dict[str, Any]:
    entries = [row.entry for row in held]
    places = [row.place or _NOWHERE for row in held]
    return {
        "path": [entry.path for entry in entries],
        "kind": "".join([_LETTERS[entry.kind] for entry in entries]),
        "mode": [entry.mode for entry in entries],
        "mtime_ns": [entry.mtime_ns for entry in entries],
        "size": [entry.size for entry in entries],
        "owner": [entry.owner for entry in entries],
        "group": [entry.group for entry in entries],
        "digest": [row.digest for row in held],
        "block": [-1 if row.place is None else blocks.setdefault(row.place.block, len(blocks)) for row in held],
        "offset": [place.offset for place in places],
        "length": [place.length if place.depth else 0 for place in places],
        "depth": [place.depth for place in places],
        "points_at": {str(at): entry.points_at for at, entry in enumerate(entries) if entry.points_at},
        "same_as": {str(at): entry.same_as for at, entry in enumerate(entries) if entry.same_as},
    }


_NOWHERE = Place(HOLE, 0, 0)


def parse(data: bytes, name: str) -> Manifest:
    """The manifest in ``data``, read from file ``name``; Damage when it is not what was written."""
    first, second = _frames(data, name)
    held = _document(second, name)
    return Manifest(
        _about(_document(first, name)),
        _rows(held["entries"], [BlockId(bytes.fromhex(block)) for block in held["blocks"]]),
        tuple(Skipped(path, why) for path, why in held["skipped"]),
        _top(*held["top"]) if held["top"] else None,
    )


def _top(mode: int, mtime_ns: int, owner: int, group: int) -> Entry:
    return Entry("", Kind.FOLDER, mode, mtime_ns, 0, "", owner, group)


def parse_places(data: bytes, name: str) -> set[Place]:
    """Only where the contents lie that the manifest in ``data`` names, each once; many times quicker than all of it."""
    held = _document(_frames(data, name)[1], name)
    blocks = [BlockId(bytes.fromhex(block)) for block in held["blocks"]]
    columns = (held["entries"][name] for name in ("block", "offset", "length", "depth", "size"))
    return {
        Place(blocks[block], offset, length if depth else size, depth)
        for block, offset, length, depth, size in set(zip(*columns, strict=True))
        if block >= 0
    }


def parse_about(data: bytes, name: str) -> About:
    """Only the facts of the manifest in ``data``; the check over all bytes is made all the same."""
    return _about(_document(_frames(data, name)[0], name))


def _frames(data: bytes, name: str) -> tuple[bytes, bytes]:
    body = data[:-_CHECK]
    sound = is_sound(data)
    if sound and not body.startswith(MAGIC):
        raise Damage("this manifest was written by another Ember Keep", place=Where(name), hint="update Ember Keep")
    if not sound:
        raise Damage("this manifest is damaged", place=Where(name), hint="the other snapshots are not touched by this")
    start = len(MAGIC) + _LENGTH.size
    (length,) = _LENGTH.unpack_from(body, len(MAGIC))
    return body[start : start + length], body[start + length :]


def _document(frame: bytes, name: str) -> dict[str, Any]:
    if zstandard.frame_content_size(frame) > LARGEST:
        raise Damage("this manifest is larger than any can be", place=Where(name))
    document: dict[str, Any] = json.loads(zstandard.ZstdDecompressor().decompress(frame))
    return document


def _about(facts: dict[str, Any]) -> About:
    facts = dict(facts)
    facts["taken"] = datetime.fromisoformat(facts["taken"])
    facts["scope"] = tuple(facts["scope"])
    facts["copied"] = tuple(facts["copied"])
    facts["roles"] = tuple((role, tuple(patterns)) for role, patterns in facts["roles"])
    return About(**facts)


def _rows(columns: dict[str, Any], blocks: list[BlockId]) -> dict[str, Held]:
    """The table's rows. Snapshots of large servers have very many, so tuples are made without a call of ours each."""
    count = len(columns["path"])
    points_at, same_as = ([""] * count for _ in range(2))
    for few, name in ((points_at, "points_at"), (same_as, "same_as")):
        for at, value in columns[name].items():
            few[int(at)] = value
    kinds = [_KINDS[letter] for letter in columns["kind"]]
    plain = (columns[name] for name in ("mode", "mtime_ns", "size"))
    people = (columns[name] for name in ("owner", "group"))
    new = tuple.__new__
    rows = zip(columns["path"], kinds, *plain, points_at, *people, same_as, strict=True)
    entries = [new(Entry, row) for row in rows]
    places = zip(*(columns[name] for name in ("block", "offset", "length", "depth")), strict=True)
    found: dict[str, Held] = {}
    for entry, digest, (block, offset, length, depth) in zip(entries, columns["digest"], places, strict=True):
        place = None if block < 0 else new(Place, (blocks[block], offset, length if depth else entry.size, depth))
        found[entry.path] = new(Held, (entry, digest, place))
    return found
