"""Trees of files as the rest of the product sees them: a folder on disk here; archives and snapshots elsewhere.

A path inside a tree is a ``str`` with ``/`` between its parts, relative to the tree's root, never starting
with ``/`` and never containing ``..``. Names that are not UTF-8 carry surrogates as ``os.fsdecode`` makes them.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path
from typing import Protocol

from blake3 import blake3

from emberkeep.errors import UnreadableInput
from emberkeep.files import TEMPORARY

CHUNK = 1 << 20


class Kind(StrEnum):
    """What stands at a path."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"


@dataclass(frozen=True, slots=True)
class Entry:
    """One path of a tree. ``mode``: permission bits; ``mtime_ns``: modification time in ns since 1970 UTC."""

    path: str
    kind: Kind
    mode: int
    mtime_ns: int
    size: int = 0
    points_at: str = ""


@dataclass(frozen=True, slots=True)
class Skipped:
    """A path that was not taken into a tree, and why."""

    path: str
    why: str


class Tree(Protocol):
    """A readable set of entries. ``label`` names it in messages."""

    @property
    def label(self) -> str: ...
    @property
    def skipped(self) -> tuple[Skipped, ...]: ...
    @property
    def top(self) -> Entry | None:
        """The root folder itself, with path "", where it has a mode and a time of its own."""
        ...

    def entries(self) -> Mapping[str, Entry]:
        """All entries by path, in the order in which reading them is cheapest."""
        ...

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a file, piece by piece. Raises UnreadableInput or Damage, never gives wrong bytes."""
        ...

    def digest(self, path: str) -> str:
        """BLAKE3 of a file's contents, as 64 hexadecimal digits."""
        ...


def read(tree: Tree, path: str) -> bytes:
    """A file's contents whole."""
    return b"".join(tree.chunks(path))


def digest_of(chunks: Iterator[bytes]) -> str:
    """BLAKE3 of bytes that come in pieces."""
    hasher = blake3()
    for chunk in chunks:
        hasher.update(chunk)
    return hasher.hexdigest()


def file_chunks(path: Path) -> Iterator[bytes]:
    """A file on disk, in pieces of :data:`CHUNK` bytes; OSError as the system raises it."""
    with path.open("rb") as handle:
        while chunk := handle.read(CHUNK):
            yield chunk


@dataclass
class FolderTree:
    """A folder on disk, read without ever following a link.

    Devices, sockets, pipes and whatever may not be read are left out and listed in ``skipped``.
    """

    root: Path
    name: str = ""
    _entries: dict[str, Entry] | None = field(default=None, repr=False)
    _skipped: list[Skipped] = field(default_factory=list, repr=False)
    _leftovers: list[str] = field(default_factory=list, repr=False)

    @property
    def label(self) -> str:
        return self.name or str(self.root)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        self.entries()
        return tuple(self._skipped)

    @property
    def top(self) -> Entry | None:
        facts = self.root.stat()
        return Entry("", Kind.FOLDER, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns)

    @property
    def leftovers(self) -> tuple[str, ...]:
        """Temporary files of ours that an interrupted run left behind; they are no entries."""
        self.entries()
        return tuple(self._leftovers)

    def entries(self) -> Mapping[str, Entry]:
        if self._entries is None:
            found: dict[str, Entry] = {}
            self._skipped, self._leftovers = [], []
            try:
                self._scan("", found)
            except OSError as error:
                raise UnreadableInput(f"cannot list {self.root}: {error.strerror}") from error
            self._entries = {path: found[path] for path in sorted(found)}
        return self._entries

    def _scan(self, prefix: str, found: dict[str, Entry]) -> None:
        waiting = [prefix]
        while waiting:
            folder = waiting.pop()
            try:
                with os.scandir(self.root / folder) as listing:
                    items = list(listing)
            except OSError as error:
                if not folder:
                    raise
                self._skipped.append(Skipped(folder, f"cannot be listed: {error.strerror}"))
                continue
            for item in items:
                path = f"{folder}/{item.name}" if folder else item.name
                if item.name.startswith(TEMPORARY):
                    self._leftovers.append(path)
                    continue
                entry = self._entry(path, item)
                if entry is None:
                    continue
                found[path] = entry
                if entry.kind is Kind.FOLDER:
                    waiting.append(path)

    def _entry(self, path: str, item: os.DirEntry[str]) -> Entry | None:
        try:
            facts = item.stat(follow_symlinks=False)
            mode = stat.S_IMODE(facts.st_mode)
            if stat.S_ISREG(facts.st_mode):
                return Entry(path, Kind.FILE, mode, facts.st_mtime_ns, facts.st_size)
            if stat.S_ISDIR(facts.st_mode):
                return Entry(path, Kind.FOLDER, mode, facts.st_mtime_ns)
            if stat.S_ISLNK(facts.st_mode):
                return Entry(path, Kind.LINK, mode, facts.st_mtime_ns, 0, os.readlink(self.root / path))
        except OSError as error:
            self._skipped.append(Skipped(path, f"cannot be read: {error.strerror}"))
            return None
        self._skipped.append(Skipped(path, "neither a file, a folder nor a link"))
        return None

    def chunks(self, path: str) -> Iterator[bytes]:
        try:
            yield from file_chunks(self.root / path)
        except OSError as error:
            raise UnreadableInput(f"cannot read {self.root / path}: {error.strerror}") from error

    def digest(self, path: str) -> str:
        return digest_of(self.chunks(path))


class PartTree:
    """The part of another tree below one of its folders, with paths relative to that folder."""

    def __init__(self, whole: Tree, below: str) -> None:
        self._whole = whole
        self._start = f"{below}/"
        self._entries = {
            path.removeprefix(self._start): replace(entry, path=path.removeprefix(self._start))
            for path, entry in whole.entries().items()
            if path.startswith(self._start)
        }

    @property
    def label(self) -> str:
        return self._whole.label

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        return self._whole.skipped

    @property
    def top(self) -> Entry | None:
        return None

    def entries(self) -> Mapping[str, Entry]:
        return self._entries

    def chunks(self, path: str) -> Iterator[bytes]:
        return self._whole.chunks(self._start + path)

    def digest(self, path: str) -> str:
        return self._whole.digest(self._start + path)


@dataclass(frozen=True)
class FileTree:
    """A single file as a tree of one entry, under its own name or another."""

    path: Path
    name: str = ""

    @property
    def label(self) -> str:
        return str(self.path)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        return ()

    @property
    def top(self) -> Entry | None:
        return None

    def entries(self) -> Mapping[str, Entry]:
        facts = self.path.stat()
        name = self.name or self.path.name
        return {name: Entry(name, Kind.FILE, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns, facts.st_size)}

    def chunks(self, path: str) -> Iterator[bytes]:
        try:
            yield from file_chunks(self.path)
        except OSError as error:
            raise UnreadableInput(f"cannot read {self.path}: {error.strerror}") from error

    def digest(self, path: str) -> str:
        return digest_of(self.chunks(path))
