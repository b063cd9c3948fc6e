"""What a server folder will hold: a tree, with changes to it that are not made yet.

Steps of a run change it one after the other, and what each of them changed is known before anything is written. The
times of what is written are told beforehand, so that a run that was stopped and resumed ends as one that was not.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, MutableMapping, Sequence, Set
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from blake3 import blake3

from emberkeep.fs.trees import FILE, FOLDER, LINK, Entry, Hole, Skipped, Still, Tree, parents
from emberkeep.fs.writing import Chunk


class What(StrEnum):
    """What becomes of a path."""

    WRITE = "write"
    REPLACE = "replace"
    DELETE = "delete"
    RENAME = "rename"


@dataclass(frozen=True)
class Change:
    """What becomes of one file or link. ``size`` and ``before``: bytes afterwards and before; ``was``: its old path,
    where it is renamed."""

    path: str
    what: What
    size: int = 0
    before: int = 0
    was: str = ""


class Overlay(Still):
    """``base`` with changes; ``moment``: the modification time (ns) of what is made on the way; ``name``: what messages
    call it, "" as ``base``."""

    def __init__(self, base: Tree, moment: int, name: str = "") -> None:
        self.base, self.name = base, name
        self.moment = moment
        self._entries = _Entries(base.entries())
        self._top = base.top
        self._from: dict[str, tuple[Tree, str]] = {}
        self._data: dict[str, bytes] = {}
        self.moves: dict[str, str] = {}
        """New path -> the path in ``base`` whose file is renamed to it."""

    # --- as a tree -----------------------------------------------------------

    @property
    def label(self) -> str:
        """The label of the tree that it changes."""
        return self.name or self.base.label

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """What the tree that it changes left out."""
        return self.base.skipped

    @property
    def top(self) -> Entry | None:
        """The folder itself, as it is."""
        return self._top

    def entries(self) -> Mapping[str, Entry]:
        """What the folder would hold, by path."""
        return self._entries

    def _origin(self, path: str) -> tuple[Tree, str]:
        return self._from.get(path, (self.base, path))

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents that the path would have."""
        if path in self._data:
            yield self._data[path]
            return
        tree, at = self._origin(path)
        yield from tree.chunks(at)

    def digest(self, path: str) -> str:
        """BLAKE3 of what the path would hold."""
        if path in self._data:
            return str(blake3(self._data[path]).hexdigest())
        tree, at = self._origin(path)
        return tree.digest(at)

    def holes(self, path: str) -> tuple[Hole, ...]:
        """Holes of a file that comes from another tree; () for one written here."""
        tree, at = self._origin(path)
        return () if path in self._data else tree.holes(at)

    def on_disk(self, path: str) -> Path | None:
        """Where a file with these contents lies; None for one written here."""
        tree, at = self._origin(path)
        return None if path in self._data else tree.on_disk(at)

    lanes = 1
    """The trees it leans on may be archives, which are read from their beginning to their end."""

    def pieces(self, path: str) -> Iterator[Chunk]:
        """The contents of a file; its holes as their lengths."""
        holes = self.holes(path)
        return _with_holes(self.chunks(path), holes) if holes else self.chunks(path)

    # --- changes ---------------------------------------------------------------

    def write(self, path: str, data: bytes, mode: int | None = None) -> None:
        """A file's new contents. ``mode``: that of the file replaced when None."""
        before = self._entries.get(path)
        if before is not None and before.kind is FILE and before.size == len(data):
            digest = blake3(data).hexdigest()
            if mode in (None, before.mode) and self.digest(path) == digest:
                return
        bits = mode if mode is not None else before.mode if before is not None and before.kind is FILE else 0o644
        owner, group = (before.owner, before.group) if before is not None else (-1, -1)
        self._put(Entry(path, FILE, bits, self.moment, len(data), "", owner, group))
        self._data[path] = data

    def take(self, path: str, tree: Tree, at: str | None = None) -> None:
        """The file, link or folder ``at`` of another tree, with its mode and time; nothing when the same is there."""
        at = path if at is None else at
        there = tree.entries()[at]
        before = self._entries.get(path)
        if there.kind is FOLDER:
            if before is None or before.kind is not FOLDER:
                self._put(there._replace(path=path))
            return
        if before is not None and _same(self, before, tree, there):
            return
        self._put(there._replace(path=path, same_as=""))
        if there.kind is FILE:
            self._from[path] = (tree, at)

    def remove(self, path: str) -> None:
        """Take a file, link or empty folder out."""
        self._forget(path)
        del self._entries[path]
        self._stir(path)

    def remove_emptied(self, gone: Iterable[str], may: Callable[[str], bool]) -> list[str]:
        """Take out the folders that held what is gone and hold nothing any more, where they ``may``; the innermost
        first."""
        above = {parent for path in gone for parent in parents(path)}
        holding = Counter(path.rpartition("/")[0] for path in self._entries) if above else Counter()
        found = []
        for folder in sorted(above, reverse=True):
            if not holding[folder] and folder in self._entries and may(folder):
                self.remove(folder)
                holding[folder.rpartition("/")[0]] -= 1
                found.append(folder)
        return found

    def rename(self, old: str, new: str) -> None:
        """Give a file another path; its contents need not be written anew."""
        entry = self._entries[old]
        origin, data = self._origin(old), self._data.get(old)
        source = self.moves.get(old, old if origin == (self.base, old) and data is None else "")
        self.remove(old)
        self._put(entry._replace(path=new))
        if data is not None:
            self._data[new] = data
        elif entry.kind is FILE:
            self._from[new] = origin
        if source and entry.kind is FILE:
            self.moves[new] = source

    def _put(self, entry: Entry) -> None:
        self._forget(entry.path)
        self._make_parents(entry.path)
        self._entries[entry.path] = entry
        self._stir(entry.path)

    def _forget(self, path: str) -> None:
        self._from.pop(path, None)
        self._data.pop(path, None)
        self.moves.pop(path, None)

    def _make_parents(self, path: str) -> None:
        parent = path.rpartition("/")[0]
        if parent and (parent not in self._entries or self._entries[parent].kind is not FOLDER):
            self._make_parents(parent)
            self._entries[parent] = Entry(parent, FOLDER, 0o755, self.moment)
            self._stir(parent)

    def _stir(self, path: str) -> None:
        """Note that the listing of a path's folder changes, which gives that folder a new time."""
        parent = path.rpartition("/")[0]
        if parent:
            self._entries[parent] = self._entries[parent]._replace(mtime_ns=self.moment)
        elif self._top is not None:
            self._top = self._top._replace(mtime_ns=self.moment)

    # --- what changed --------------------------------------------------------

    def mark(self) -> Mark:
        """How it stands now, to be compared with later."""
        return Mark(self._entries.as_they_are(), self._top, dict(self.moves), dict(self._data), dict(self._from))

    def _otherwise(self, mark: Mark) -> set[str]:
        """The paths that are otherwise than at ``mark``; contents of the same size and time count too."""
        before, now = mark.entries, self._entries
        found = {path for path in before.changed | now.changed if before.get(path) != now.get(path)}
        made = {path for path in mark.data.keys() | self._data.keys() if mark.data.get(path) != self._data.get(path)}
        taken = {path for path in mark.taken.keys() | self._from.keys() if mark.taken.get(path) != self._from.get(path)}
        return found | made | taken

    def since(self, mark: Mark) -> tuple[Change, ...]:
        """What became of files and links since ``mark``, in the order of their paths."""
        before, now = mark.entries, self._entries
        moved = {new: old for new, old in self.moves.items() if mark.moves.get(new) != old}
        gone = {old for old in moved.values() if old not in now}
        found = []
        for path in sorted(self._otherwise(mark)):
            was, there = before.get(path), now.get(path)
            if (there or was).kind is FOLDER:  # type: ignore[union-attr]
                continue
            if there is None and was is not None:
                if path not in gone:
                    found.append(Change(path, What.DELETE, 0, was.size))
            elif path in moved and there is not None:
                found.append(Change(path, What.RENAME, there.size, there.size, moved[path]))
            elif there is not None:
                kind = What.WRITE if was is None else What.REPLACE
                found.append(Change(path, kind, there.size, was.size if was else 0))
        return tuple(found)

    def touched(self, mark: Mark) -> set[str]:
        """Every path that is otherwise than at ``mark``, and the folders they are in ("" the root), whose times writing
        there changes."""
        paths = self._otherwise(mark)
        folders = {path.rpartition("/")[0] for path in paths if path}
        return paths | folders

    def fingerprint(self, paths: Collection[str]) -> str:
        """A hash over what ``paths`` will be; of contents that are made, not carried, the bytes too."""
        chosen = sorted(paths)
        entries = [self._entries.get(path) if path else self._top for path in chosen]
        lines = [
            f"{path}\0{entry.kind}\0{entry.mode}\0{entry.mtime_ns}\0{entry.size}\0{entry.points_at}" if entry else path
            for path, entry in zip(chosen, entries, strict=True)
        ]
        hasher = blake3("\n".join(lines).encode("utf-8", "surrogateescape"))
        for path in chosen:
            if path in self._data:
                hasher.update(self._data[path])
        return str(hasher.hexdigest())


class _Entries(MutableMapping[str, Entry]):
    """The entries of a tree, ``base``, with ``changes``: None for those taken out. The tree may be a very long one, of
    which a second copy takes much room."""

    def __init__(self, base: Mapping[str, Entry], changes: Mapping[str, Entry | None] | None = None) -> None:
        self._base = base
        self._changes = dict(changes or {})

    def as_they_are(self) -> _Entries:
        """The same, which changes do not reach any more."""
        return _Entries(self._base, self._changes)

    @property
    def changed(self) -> Set[str]:
        """All paths that may be otherwise than in the tree."""
        return self._changes.keys()

    def __getitem__(self, path: str) -> Entry:
        found = self._changes[path] if path in self._changes else self._base[path]
        if found is None:
            raise KeyError(path)
        return found

    def __setitem__(self, path: str, entry: Entry) -> None:
        self._changes[path] = entry

    def __delitem__(self, path: str) -> None:
        self._changes[path] = None

    def __iter__(self) -> Iterator[str]:
        changes, base = self._changes, self._base
        yield from (path for path in base if path not in changes or changes[path] is not None)
        yield from (path for path, entry in changes.items() if entry is not None and path not in base)

    def __len__(self) -> int:
        return sum(1 for _ in self)


@dataclass(frozen=True)
class Mark:
    """How a planned folder stood at one moment."""

    entries: _Entries
    top: Entry | None
    moves: Mapping[str, str]
    data: Mapping[str, bytes]
    taken: Mapping[str, tuple[Tree, str]]


def _with_holes(chunks: Iterable[bytes], holes: Sequence[Hole]) -> Iterator[Chunk]:
    """Pieces of a sparse file, what lies wholly in a hole given as its length."""
    at = 0
    for chunk in chunks:
        end = at + len(chunk)
        start = at
        for low, high in holes:
            low, high = max(low, start), min(high, end)
            if low >= high:
                continue
            if low > start:
                yield chunk[start - at : low - at]
            yield high - low
            start = high
        if start < end:
            yield chunk[start - at :]
        at = end


def _same(one: Overlay, entry: Entry, tree: Tree, other: Entry) -> bool:
    """Whether a file or link says the same in two trees, mode included."""
    if (entry.kind, entry.size, entry.mode) != (other.kind, other.size, other.mode):
        return False
    if entry.kind is LINK:
        return entry.points_at == other.points_at
    return one.digest(entry.path) == tree.digest(other.path)
