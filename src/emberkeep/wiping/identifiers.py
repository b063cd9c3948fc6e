"""Identifiers of players, items and places, in whatever spelling: found in names, texts, binary data and databases.

A UUID's canonical form is its 32 lower-case hexadecimal digits (RFC 9562 without dashes), a long number's its digits.
Known spellings: with and without dashes, any case; base64 of the 16 bytes or of the text (RFC 4648, either alphabet,
padded or not); the 16 bytes themselves, in network order or with the first three fields turned round; a number's
eight bytes in either order. Besides, what people are called, where it stands as a whole key, value or name of a file.
"""

from __future__ import annotations

import base64
import binascii
import codecs
import re
import sqlite3
import struct
import uuid
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from emberkeep.databases import sqlite
from emberkeep.detection.people import listed_people
from emberkeep.detection.recurring import varying
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.fs.trees import FILE, Tree
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import Config

_LETTERS = frozenset(b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz+/_-")
"""Of which identifiers are spelled, in base64 too."""
_SHAPE = bytes(b"a"[0] if char in _LETTERS else b" "[0] for char in range(256))
_UUID = re.compile(r"[0-9a-fA-F]{8}(-?)[0-9a-fA-F]{4}\1[0-9a-fA-F]{4}\1[0-9a-fA-F]{4}\1[0-9a-fA-F]{12}")
_WHOLE = re.compile(rb"(?<![0-9A-Za-z])" + _UUID.pattern.encode() + rb"(?![0-9A-Za-z])")
_INSIDE = re.compile(rf"(?<![0-9A-Za-z])(?:{_UUID.pattern}|\d{{12,20}})(?![0-9A-Za-z])")
_NAME = re.compile(rb"(?<![\w.-])[\w\x80-\xff]{3,32}(?![\w-])")
_MARKS = b"\"'`:=,[]{}()<>|;\r\n"
"""Between two of these a word is a whole key or value."""
FEWEST_ALIKE = 3
SHORTEST = 12
"""Characters of the shortest spelling."""
LONGEST_PACKED = 48
"""Characters of the longest spelling in base64: of a UUID's text."""
LARGEST_UNPACKED = 64 << 20
"""Bytes of what a gzip file unpacks to that are looked through."""
PACKED = b"\x1f\x8b"


def canonical(text: str) -> str:
    """The canonical form of an identifier; "" for what is none."""
    if _UUID.fullmatch(text):
        return text.replace("-", "").lower()
    return text if text.isascii() and text.isdigit() and 12 <= len(text) <= 20 else ""


def dashed(ident: str) -> str:
    """A UUID of 32 digits with its dashes."""
    return "-".join((ident[:8], ident[8:12], ident[12:16], ident[16:20], ident[20:]))


class Mention(NamedTuple):
    """An identifier in a stretch of bytes: ``at`` the offset, ``spelled`` as it stands there."""

    at: int
    known: str
    spelled: str


@dataclass(frozen=True)
class Known:
    """The identifiers looked for. ``names``: what people are called -> canonical identifier."""

    ids: frozenset[str]
    names: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def _raw(self) -> dict[bytes, str]:
        """The binary spellings."""
        found: dict[bytes, str] = {}
        for ident in filter(canonical, self.ids):
            if len(ident) == 32:
                parsed = uuid.UUID(ident)
                found[parsed.bytes] = found[parsed.bytes_le] = ident
            elif int(ident) < 1 << 64 and int(ident) > 1 << 40:
                found[struct.pack(">Q", int(ident))] = found[struct.pack("<Q", int(ident))] = ident
        return found

    @cached_property
    def _beginnings(self) -> tuple[bytes, bytes]:
        """Whether a binary spelling begins with four bytes, read as a number in little order: by its upper 20 bits, a
        table that fits a processor's cache, and by its lower 24."""
        upper, lower = bytearray(1 << 20), bytearray(1 << 24)
        for raw in self._raw:
            key = int.from_bytes(raw[:4], "little")
            upper[key >> 12] = lower[key & 0xFFFFFF] = 1
        return bytes(upper), bytes(lower)

    @cached_property
    def _usual(self) -> dict[str, str]:
        """The identifiers as they are mostly spelled."""
        found = {ident: ident for ident in self.ids}
        found.update({dashed(ident): ident for ident in self.ids if len(ident) == 32 and canonical(ident)})
        return found

    def whole(self, text: str) -> str:
        """The identifier that a whole text is; "" when it is none of those known. A name counts."""
        found = self._usual.get(text) or self.names.get(text, "")
        return found if found or len(text) < SHORTEST else self._spelled(text)

    def _spelled(self, text: str) -> str:
        found = self._usual.get(text)
        if found:
            return found
        found = canonical(text)
        if found in self.ids:
            return found
        return self._unpacked(text) if 16 <= len(text) <= LONGEST_PACKED else ""

    def _unpacked(self, text: str) -> str:
        """A base64 spelling."""
        bare = text.rstrip("=").replace("-", "+").replace("_", "/")
        if len(bare) % 4 == 1:
            return ""
        try:
            raw = base64.b64decode(bare + "=" * (-len(bare) % 4), validate=True)
        except (binascii.Error, ValueError):
            return ""
        if raw in self._raw:
            return self._raw[raw]
        ident = canonical(raw.decode("ascii", "replace")) if 12 <= len(raw) <= 36 else ""
        return ident if ident in self.ids else ""

    def in_text(self, data: bytes, *, names: bool = True) -> Iterator[Mention]:
        """Mentions in a text or in the texts of binary data, in no particular order."""
        for start, text in _runs(data):
            yield from self._in_run(start, text)
        if names and self.names:
            yield from self._names_in(data)

    def _in_run(self, at: int, text: str) -> Iterator[Mention]:
        known = self._spelled(text)
        if known:
            yield Mention(at, known, text)
            return
        for found in _INSIDE.finditer(text):
            known = canonical(found[0])
            if known in self.ids:
                yield Mention(at + found.start(), known, found[0])
        if "/" in text or "-" in text or "_" in text or "+" in text:  # several words, or one in base64
            start = 0
            for part in re.split(r"([/_+-])", text):
                known = self._unpacked(part) if 16 <= len(part) <= LONGEST_PACKED else ""
                if known:
                    yield Mention(at + start, known, part)
                start += len(part)

    def _names_in(self, data: bytes) -> Iterator[Mention]:
        """Names that stand by themselves: a word within a sentence is no mention."""
        for found in _NAME.finditer(data):
            name = found[0].decode("utf-8", "replace")
            known = self.names.get(name)
            if known and _stands_alone(data, found.start(), found.end()):
                yield Mention(found.start(), known, name)

    def in_binary(self, data: bytes) -> Iterator[Mention]:
        """Mentions of binary spellings."""
        import numpy  # only where there is binary data

        if not self._raw or len(data) < 8:
            return
        upper, lower = (numpy.frombuffer(table, numpy.uint8) for table in self._beginnings)
        step = 1 << 20
        for start in range(0, len(data), step):
            some = data[start : start + step + 3]
            for offset in range(4):  # four bytes read as one number, from every offset
                count = (len(some) - offset) // 4
                if not count:
                    continue
                keys = numpy.frombuffer(some, "<u4", count, offset)
                likely = numpy.flatnonzero(upper[keys >> 12])
                likely = likely[lower[keys[likely] & 0xFFFFFF] != 0]
                for at in (likely * 4 + offset).tolist():
                    yield from self._raw_at(data, start + at)

    def _raw_at(self, data: bytes, at: int) -> Iterator[Mention]:
        for length in (16, 8):
            known = self._raw.get(data[at : at + length])
            if known:
                yield Mention(at, known, data[at : at + length].hex())

    def owner(self, path: str) -> str:
        """Whose file it is by its name, spelled as usual; a quick look before ``in_name``."""
        return self._usual.get(path.rpartition("/")[2].partition(".")[0], "")

    def in_name(self, path: str) -> Iterator[Mention]:
        """Mentions in a path: in any part, the last one with and without its suffixes."""
        yield from self.in_text(path.encode("utf-8", "surrogateescape"), names=False)
        for part in path.split("/"):
            stem = part.partition(".")[0]
            if stem in self.names:
                yield Mention(0, self.names[stem], stem)


def _runs(data: bytes) -> Iterator[tuple[int, str]]:
    """Stretches of letters that are long enough for an identifier, with their offsets."""
    shape, least = data.translate(_SHAPE), b"a" * SHORTEST
    at = shape.find(least)
    while at >= 0:
        end = shape.find(b" ", at)
        end = len(data) if end < 0 else end
        padded = end + len(data[end : end + 2]) - len(data[end : end + 2].lstrip(b"="))
        yield at, data[at:padded].decode("ascii")
        at = shape.find(least, end)


def _stands_alone(data: bytes, start: int, end: int) -> bool:
    """Whether a word is a whole key or value: nothing but white space lies between it and a mark or a line's end."""
    before = data[max(0, start - 40) : start].rstrip(b" \t")
    behind = data[end : end + 40].lstrip(b" \t")
    opened = not before or before[-1:] in _MARKS or before.rpartition(b"\n")[2].strip() == b"-"
    return opened and (not behind or behind[:1] in _MARKS or behind[:1] == b"#")


def identifiers(data: bytes) -> set[str]:
    """All UUIDs that a text spells, in their canonical form."""
    return {match[0].replace(b"-", b"").lower().decode() for match in _WHOLE.finditer(data)}


def people(tree: Tree, config: Config) -> dict[str, str]:
    """The players that are known: canonical identifier -> what they are called, "" where nothing tells.

    By the lists of people (role ``access``), by files and folders named by them (role ``players``), by the tables
    that keep.toml calls players', and by files of ``progress`` that are records with an id and a name each. An id that
    is neither a UUID nor a long number is as it is spelled.
    """
    roles = Roles(config.roles)
    by_role: dict[str, list[str]] = {"access": [], "players": [], "progress": []}
    for path, entry in tree.entries().items():
        role = roles.of(path)
        if entry.kind is FILE and role in by_role:
            by_role[role].append(path)
    listed = listed_people(tree, by_role["access"])
    patterns = [pattern for role, glob in config.roles if role == "players" for pattern in glob]
    found = dict.fromkeys(_in_tables(tree, config), "")
    found.update(
        {
            known: name
            for ident, name in listed_people(tree, by_role["progress"], lists_alone=True).items()
            if name and (known := canonical(ident))
        }
    )
    for path in by_role["players"]:
        known = canonical(path.rpartition("/")[2].partition(".")[0])
        if known:
            found[known] = ""
    named, rest = _named(by_role["players"], patterns)
    if named and not named & ({*listed} | {*listed.values()}):  # odd words of lists that are none of those who play
        listed = {ident: name for ident, name in listed.items() if canonical(ident)}
    named |= {stem for stem in _odd_stems(rest) if not listed or stem in listed}
    called = {name for name in listed.values() if name}
    found.update({canonical(stem) or stem: "" for stem in named if stem not in called})
    found.update({canonical(ident) or ident: name for ident, name in listed.items()})
    return found


def _in_tables(tree: Tree, config: Config) -> Iterator[str]:
    """Identifiers in the tables that scopes of players name, of SQLite files."""
    for scope in config.wiping.scopes:
        for pick in scope.picked.rows if scope.name in ("players", "progress", "extension-data") else ():
            for path in [path for path in tree.entries() if globs.matches(path, [pick.database])]:
                yield from _identifiers_of(tree, path, pick.table)


def _identifiers_of(tree: Tree, path: str, table: str) -> Iterator[str]:
    try:
        with sqlite.of_tree(tree, path) as database:
            for row in database.execute(f"select * from {sqlite.quoted(table)}"):
                yield from (known for value in row if (known := canonical(str(value))))
    except (EmberKeepError, sqlite3.Error):
        return


def _named(paths: Sequence[str], patterns: Sequence[str]) -> tuple[set[str], list[str]]:
    """What stands for the star of patterns in the names of players' files and folders, and the files of patterns
    without one."""
    rest, found = set(paths), set()
    for pattern in patterns:
        parts = pattern.split("/")
        at = max((n for n, part in enumerate(parts) if "*" in part and part != "**"), default=-1)
        if at < 0 or "**" in parts[:at] or "[" in parts[at] or parts[at].count("*") > 1:
            continue
        before, _, behind = parts[at].partition("*")
        theirs = [path for path in rest if globs.matches(path, [pattern])]
        rest.difference_update(theirs)
        names = {path.split("/")[at] for path in theirs}
        found |= {name[len(before) : len(name) - len(behind)] for name in names}
    return found, sorted(rest)


def _odd_stems(paths: Iterable[str]) -> Iterator[str]:
    """The part of the names of players' files that varies, where it is no identifier by its looks."""
    together: dict[tuple[str, str], list[str]] = {}
    for path in paths:
        folder, _, name = path.rpartition("/")
        together.setdefault((folder, name[name.rfind(".") :] if "." in name else ""), []).append(name)
    for names in together.values():
        if len(names) >= FEWEST_ALIKE:
            before, behind = varying(names)
            stems = (name[len(before) : len(name) - len(behind)] for name in names)
            yield from (stem for stem in stems if not canonical(stem))


def known_people(entries: Mapping[str, str], but: Iterable[str] = ()) -> Known:
    """What to look for so as to find players. ``but``: names that are words of the game as well."""
    words = set(but)
    ids = frozenset(ident for ident in entries if canonical(ident))
    spelled = {ident: ident for ident in entries if ident not in ids}
    spelled.update({name: ident for ident, name in entries.items() if name})
    return Known(ids, {name: ident for name, ident in spelled.items() if len(name) >= 3 and name not in words})


def unpacked(data: bytes) -> bytes:
    """The contents of a gzip file, up to :data:`LARGEST_UNPACKED`; a text in UTF-16 as UTF-8; other data as it is."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", "replace").encode()
    if not data.startswith(PACKED):
        return data
    try:
        return zlib.decompressobj(wbits=zlib.MAX_WBITS | 16).decompress(data, LARGEST_UNPACKED)
    except zlib.error:
        return data
