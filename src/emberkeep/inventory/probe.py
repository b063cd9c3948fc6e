"""First looks at files: what kind of content one has, and which siblings form a family by the shape of their names."""

from __future__ import annotations

import json
import re
import zipfile
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from emberkeep.databases import sqlite
from emberkeep.documents import registry
from emberkeep.documents.encoding import decode
from emberkeep.errors import UnreadableInput, reason
from emberkeep.fs.globs import escape
from emberkeep.fs.trees import Entry, Kind, Skipped, Tree, whole

GLANCE = 4 * 1024
HEAD = 64 * 1024
MOST_TABLES, ROWS_LOOKED_AT = 64, 200
LARGEST_DOCUMENT = 32 << 20
_MAGIC = (
    (b"\x7fELF", "program"),
    (b"MZ", "program"),
    (b"\xcf\xfa\xed\xfe", "program"),
    (b"\xca\xfe\xba\xbe", "program"),
    (b"SQLite format 3\0", "sqlite"),
    (b"PK\x03\x04", "zip"),
    (b"\x1f\x8b", "packed"),
    (b"\x28\xb5\x2f\xfd", "packed"),
    (b"\x89PNG\r\n\x1a\n", "media"),
    (b"\xff\xd8\xff", "media"),
    (b"GIF8", "media"),
    (b"DDS ", "media"),
    (b"OggS", "media"),
    (b"fLaC", "media"),
    (b"ID3", "media"),
    (b"MThd", "media"),
    (b"wvpk", "media"),
    (b"OTTO", "media"),
    (b"wOF", "media"),
)
_RIFF = re.compile(rb"RIFF.{4}(?:WAVE|AVI |WEBP)", re.DOTALL)
_SCRIPTS = (".sh", ".cmd", ".bat", ".ps1", ".command")
_LIBRARIES = re.compile(r"\.(?:so(?:\.\d+)*|dll|dylib|exe|jar)$", re.IGNORECASE)

UUID = r"[0-9a-fA-F]{8}-?[0-9a-fA-F]{4}-?[0-9a-fA-F]{4}-?[0-9a-fA-F]{4}-?[0-9a-fA-F]{12}"
_VARYING = re.compile(rf"(?P<id>{UUID}|[0-9a-fA-F]{{16,}}|\d{{12,}})|(?P<n>-?\d+)")
IDENT = re.compile(rf"{UUID}|\d{{12,20}}")
ADDRESS = re.compile(r"\d{1,3}(?:\.\d{1,3}){3}(?:/\d+)?|[0-9a-fA-F:]*:[0-9a-fA-F:]+:[0-9a-fA-F:]*")


def content_kind(path: str, head: bytes) -> str:
    """program, script, sqlite, zip, packed, media (pictures, sounds, fonts), xml, json, yaml, toml, properties, ini,
    text, binary or empty."""
    if not head:
        return "empty"
    for magic, kind in _MAGIC:
        if head.startswith(magic):
            return kind
    if _RIFF.match(head):
        return "media"
    name = path.rsplit("/", 1)[-1].lower()
    if head.startswith(b"#!") and b"\0" in head:
        return "program"  # a script that carries its program with it
    if head.startswith(b"#!") or name.endswith(_SCRIPTS):
        return "script"
    if _LIBRARIES.search(name):
        return "program"
    source = beginning_of_text(head)
    if source is None or len(_ODD.findall(source, 0, 4096)) > 0.02 * len(source[:4096]):
        return "binary"
    for ending in ("yaml", "yml", "toml"):
        if name.endswith("." + ending):
            return ending.replace("yml", "yaml")
    if name.endswith(".json") or begins_as_json(source):
        return "json"
    return registry.format_of(path, source)


_ODD = re.compile(r"[\x00-\x08\x0b\x0e-\x1a\x1c-\x1f\x7f-\x9f]")


def beginning_of_text(head: bytes) -> str | None:
    """The text that a file begins with, whose last character may have been cut; None where it is none."""
    whole = decode(head)
    if whole is None or whole.codec != "latin-1":
        return whole.text if whole else None
    cut = (decode(head[:-at]) for at in (1, 2, 3) if at < len(head))  # Latin-1 takes any byte, also half a character
    return next((source.text for source in cut if source is not None and source.codec != "latin-1"), whole.text)


def begins_as_json(text: str) -> bool:
    """Whether a text is JSON as far as it goes: one value, or one a line."""
    text = text.lstrip("\ufeff \t\r\n")
    if text[:1] not in ("{", "["):
        return False
    try:
        _, end = json.JSONDecoder().raw_decode(text)
    except json.JSONDecodeError as error:  # cut within a word or text, it is wrong where that begins
        return len(text) >= GLANCE // 4 and error.pos >= len(text) - max(24, len(text) - text.rfind("\n"))
    except RecursionError:
        return False
    return text[end:].lstrip()[:1] in ("", "{", "[")


def json_value(data: bytes) -> Any:
    """The value of a JSON text, of one with a value a line the list of them. ValueError for what is neither."""
    try:
        return json.loads(data)
    except ValueError:
        lines = [line for line in data.splitlines() if line.strip()]
        if len(lines) < 2:
            raise
        return [json.loads(line) for line in lines]


@dataclass
class Family:
    """Files of one folder whose names have the same shape, ``{n}`` for a number and ``{id}`` for an identifier."""

    folder: str
    shape: str
    members: list[str] = field(default_factory=list)

    @property
    def glob(self) -> str:
        """The pattern that matches the members."""
        return escape(self.members[0]) if len(self.members) == 1 else self.open_glob

    @property
    def open_glob(self) -> str:
        """The pattern that matches the members, and others whose names will have the same shape."""
        name = re.sub(r"\{id\}|\{n\}", "*", escape(self.shape))
        return f"{escape(self.folder)}/{name}" if self.folder else name

    def numbers(self) -> list[set[str]]:
        """The values at each varying place of the name."""
        places: list[set[str]] = [set() for _ in re.findall(r"\{id\}|\{n\}", self.shape)]
        for path in self.members:
            for at, found in enumerate(_VARYING.finditer(path.rsplit("/", 1)[-1])):
                places[at].add(found[0])
        return places


def families(entries: Iterable[Entry]) -> list[Family]:
    """All files, grouped. Numbers in a name vary only where siblings differ in them."""
    groups: dict[tuple[str, str], list[str]] = defaultdict(list)
    for entry in entries:
        if entry.kind is Kind.FILE:
            folder, _, name = entry.path.rpartition("/")
            shape = _VARYING.sub(lambda found: "{id}" if found["id"] else "{n}", name)
            groups[folder, shape].append(entry.path)
    return [Family(folder, shape, sorted(members)) for (folder, shape), members in sorted(groups.items())]


def is_identifier(text: str) -> bool:
    """Whether a text looks like a player's id: a UUID or a long number."""
    return IDENT.fullmatch(text) is not None


def _first(chunks: Iterable[bytes], most: int) -> bytes:
    found = b""
    for chunk in chunks:
        found += chunk
        if len(found) >= most:
            break
    return found[:most]


@dataclass
class FileProbe:
    """Reads beginnings of files on demand. ``root``: the folder on the disk, None for a tree that is none.
    ``unreadable``: files that could not be read, and why."""

    tree: Tree
    root: Path | None
    unreadable: dict[str, str] = field(default_factory=dict)
    _kinds: dict[str, str] = field(default_factory=dict)
    _texts: dict[str, str] = field(default_factory=dict)
    _blobs: dict[str, frozenset[str]] = field(default_factory=dict)
    _columns: dict[str, dict[str, dict[str, list[str]]]] = field(default_factory=dict)

    def beginning(self, path: str, most: int = HEAD) -> bytes:
        """The first bytes of a file; empty when it cannot be read."""
        if self.root is None:
            return _first(self.tree.chunks(path), most)
        try:
            with (self.root / path).open("rb") as handle:
                return handle.read(most)
        except OSError as error:
            self.unreadable[path] = f"cannot be read: {reason(error)}"
            return b""

    def require_read(self) -> None:
        """UnreadableInput where a file that was looked at could not be read: it says nothing then, which may matter."""
        whole(self.tree, [Skipped(path, why) for path, why in sorted(self.unreadable.items())])

    def _on_disk(self, path: str) -> Path:
        assert self.root is not None, "only the beginnings of files of a tree that is no folder are looked at"
        return self.root / path

    def kind(self, path: str) -> str:
        """The kind of content of a file."""
        if path not in self._kinds:
            self._kinds[path] = content_kind(path, self.beginning(path, GLANCE))
        return self._kinds[path]

    def size(self, path: str) -> int:
        """Bytes in a file."""
        return self.tree.entries()[path].size

    def text(self, path: str) -> str:
        """The beginning of a file as text."""
        if path not in self._texts:
            self._texts[path] = beginning_of_text(self.beginning(path)) or ""
        return self._texts[path]

    def whole(self, path: str) -> bytes:
        """A file's bytes, if it is not too large to be a document."""
        return self.beginning(path, LARGEST_DOCUMENT) if self.size(path) <= LARGEST_DOCUMENT else b""

    def json(self, path: str) -> Any:
        """The JSON value in a file, of one with a value a line the list of them; None when there is none."""
        try:
            return json_value(self.whole(path))
        except (ValueError, RecursionError):
            return None

    def members(self, path: str) -> list[str]:
        """The names in a zip archive."""
        try:
            if self.root is None:
                return []
            with zipfile.ZipFile(self._on_disk(path)) as archive:
                return [info.filename for info in archive.infolist() if not info.is_dir()]
        except (OSError, zipfile.BadZipFile, ValueError):
            return []

    def member_text(self, path: str, member: str) -> str:
        """The beginning of a member of a zip archive, as text."""
        try:
            with zipfile.ZipFile(self._on_disk(path)) as archive, archive.open(member) as handle:
                return handle.read(HEAD).decode("utf-8", "replace")
        except (OSError, zipfile.BadZipFile, RuntimeError, ValueError, NotImplementedError):
            return ""

    def columns(self, path: str) -> dict[str, dict[str, list[str]]]:
        """Tables of a SQLite file, the columns of each, and some of the texts and whole numbers in each; {} for one
        that is locked or broken."""
        if path not in self._columns:
            found: dict[str, dict[str, list[str]]] = {}
            blobs: set[str] = set()
            try:
                with sqlite.opened(self._on_disk(path), path) as database:
                    for name in sqlite.tables(database)[:MOST_TABLES]:
                        asked = database.execute(f"select * from {sqlite.quoted(name)} limit {ROWS_LOOKED_AT}")
                        labels = [column[0] for column in asked.description]
                        rows = asked.fetchall()
                        held = {label: [row[at] for row in rows] for at, label in enumerate(labels)}
                        if any(isinstance(value, bytes) for row in rows for value in row):
                            blobs.add(name)
                        found[name] = {
                            label: [str(value) for value in values if isinstance(value, (str, int))]
                            for label, values in held.items()
                        }
            except UnreadableInput as error:
                self.unreadable[path] = error.faults[0].what
            self._columns[path] = found
            self._blobs[path] = frozenset(blobs)
        return self._columns[path]

    def blobs(self, path: str) -> frozenset[str]:
        """Tables of a SQLite file in which bytes stand that are no texts."""
        self.columns(path)
        return self._blobs[path]

    def with_referring(self, path: str, tables: Iterable[str]) -> frozenset[str]:
        """Tables of a SQLite file with those whose rows belong to theirs."""
        try:
            with sqlite.opened(self._on_disk(path), path) as database:
                return sqlite.with_referring(database, tables)
        except UnreadableInput:
            return frozenset(tables)
