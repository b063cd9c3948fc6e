"""What has to be done so that a folder is what a snapshot, or a planned folder, says."""

from __future__ import annotations

import stat
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from emberkeep.fs import metadata, writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, FOLDER, LINK, NO_FILE, Entry, Skipped, Tree, deepest_first, only, parents
from emberkeep.inventory.roles import RoleTable, selection
from emberkeep.keep.config import Config
from emberkeep.store.earlier import unwritten
from emberkeep.store.manifest import Manifest
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow


@dataclass(frozen=True)
class RestorePlan:
    """What a restore will do, as paths. ``write``: contents (or links) to put there; ``touch``: only mode or time;
    ``make``: folders; ``remove``: what the snapshot lacks within the restored scope; ``replace``: those of
    ``remove`` that stand in the way.
    """

    target: Path
    snapshot: str
    write: tuple[Entry, ...]
    touch: tuple[Entry, ...]
    make: tuple[Entry, ...]
    remove: tuple[Entry, ...]
    replace: tuple[Entry, ...]
    folders: tuple[Entry, ...]
    leftovers: tuple[str, ...] = ()
    """Temporary files of an interrupted run, to be swept."""
    top: Entry | None = None
    """Mode and time of the folder itself, where the whole of it is restored."""
    top_differs: bool = False
    spared: tuple[Skipped, ...] = ()
    """What a snapshot had to leave out, and why: nobody could give it back, so it stays as it stands."""

    @property
    def bytes(self) -> int:
        """Bytes to write."""
        return sum(entry.size for entry in self.write)

    @property
    def nothing(self) -> bool:
        """True when the folder is already as the snapshot says."""
        return not (
            self.write or self.touch or self.make or self.remove or self.replace or self.leftovers or self.top_differs
        )

    def sparing(self, sparing: Sparing) -> RestorePlan:
        """The same, but for what yet another snapshot had to leave out."""
        write, touch, make = (
            tuple(entry for entry in entries if not sparing.spares(entry))
            for entries in (self.write, self.touch, self.make)
        )
        remove, blocking = (
            tuple(entry for entry in entries if not sparing.keeps(entry)) for entries in (self.remove, self.replace)
        )
        return replace(self, write=write, touch=touch, make=make, remove=remove, replace=blocking)


def scope_of(manifest: Manifest, only: Sequence[str], config: Config) -> Callable[[str], bool]:
    """Which paths a restore may touch: what the snapshot was limited to, and what ``only`` selects of that."""
    about = manifest.about
    return within(about.scope, about.roles, about.tiles, only, config)


def within(
    scope: Sequence[str], roles: RoleTable, tiles: str, only: Sequence[str], config: Config
) -> Callable[[str], bool]:
    """The same, by what a snapshot was limited to: its selectors, and the roles and tile names they are read by."""
    taken = selection(scope, roles, tiles) if scope else None
    asked = selection(only, config.roles, config.world.tiles) if only else None
    return lambda path: (taken is None or taken(path)) and (asked is None or asked(path))  # "" is the folder itself


class Source(Tree, Protocol):
    """A tree that a folder can be made to be: a snapshot, or what a run has planned."""

    @property
    def lanes(self) -> int:
        """How many threads may read from it at a time."""
        ...

    def pieces(self, path: str) -> Iterator[writing.Chunk]:
        """The contents of a file; its holes as their lengths."""
        ...


def plan(
    snapshot: Source,
    target: Path,
    wanted: Callable[[str], bool],
    store: Store | None = None,
    trusted: Collection[str] = (),
    before: Tree | None = None,
) -> RestorePlan:
    """Compare ``target`` with the snapshot. Contents are compared by hash, so damage with an old time is found too;
    only with a ``store`` whose server ``target`` is, files that nobody has written to since its last snapshot count
    as known. ``trusted``: paths that are as they should be when size and time are. ``before``: the snapshot that taking
    this back would put back. What that, the snapshot itself or the scan had to leave out is neither written nor
    removed.
    """
    live = FolderTree(target) if target.is_dir() else None
    there = live.entries() if live else {}
    known = unwritten(store, live) if store and live else {}
    sparing = Sparing([tree for tree in (snapshot, before, live) if tree is not None])
    held = only(snapshot.entries(), lambda path, entry: wanted(path) and not sparing.spares(entry))
    anothers = metadata.may_give_away() and live is not None and live.top is not None and bool(live.top.owner)
    write: list[Entry] = []
    touch: list[Entry] = []
    make: list[Entry] = []
    folders: list[Entry] = []
    written: set[str] = set()
    for path, entry in held.items():
        now = there.get(path)
        if anothers:
            entry = _harmless(entry)
        if entry.kind is FOLDER:
            folders.append(entry)
            if now is None or now.kind is not FOLDER:
                make.append(entry)
            elif _facts_differ(entry, now):
                touch.append(entry)
            continue
        row = known.get(path)
        if row is not None and _is_as_told(entry, row, snapshot):
            continue
        first = entry.same_as if entry.same_as in held else ""
        if path in trusted and now is not None and (now.size, now.mtime_ns) == (entry.size, entry.mtime_ns):
            continue
        if now is None or first in written or _differs(entry, now, first, snapshot, live, known):
            write.append(entry._replace(same_as=first))
            written.add(path)
        elif entry.kind is FILE and _facts_differ(entry, now):
            touch.append(entry)
    in_the_way = _in_the_way(held, there)
    make = [*_parents_to_make(held, there, snapshot), *make]
    top = snapshot.top if wanted("") else None
    extra = [entry for path, entry in there.items() if path not in held and wanted(path)]
    extra = [entry for entry in extra if entry.path not in in_the_way and not sparing.keeps(entry)]
    return RestorePlan(
        target,
        snapshot.label,
        tuple(write),
        tuple(touch),
        tuple(make),
        tuple(deepest_first(_removable(extra, there, held, wanted))),
        tuple(deepest_first(in_the_way.values())),
        (*folders, *(entry for entry in make if entry.path not in held)),
        live.leftovers if live else (),
        top,
        top is not None and (live is None or live.top is None or _facts_differ(top, live.top)),
        sparing.notable(wanted),
    )


class Sparing:
    """What some trees had to leave out: files that could not be read, folders that could not be listed, devices."""

    def __init__(self, trees: Iterable[Tree]) -> None:
        found = {}
        for tree in trees:
            entries = tree.entries()
            for one in tree.skipped:
                entry = entries.get(one.path)
                if entry is None or entry.kind is FOLDER:  # a file that is there was read, if not as one would like
                    found[one.path] = one
        self._left = found
        self._above = all_parents(found)

    def spares(self, entry: Entry) -> bool:
        """Whether an entry may not be put where it belongs: there, above or below it stands what was left out."""
        return self._stands_at(entry.path) or (entry.kind is not FOLDER and entry.path in self._above)

    def keeps(self, entry: Entry) -> bool:
        """Whether an entry may not be removed."""
        return self._stands_at(entry.path) or entry.path in self._above

    def _stands_at(self, path: str) -> bool:
        return bool(self._left) and (path in self._left or any(parent in self._left for parent in parents(path)))

    def notable(self, wanted: Callable[[str], bool]) -> tuple[Skipped, ...]:
        """What an admin has to know of it; that devices stay is no news."""
        return tuple(one for path, one in sorted(self._left.items()) if one.why != NO_FILE and wanted(path))


def _parents_to_make(held: Mapping[str, Entry], there: Mapping[str, Entry], snapshot: Source) -> Iterator[Entry]:
    """The folders around what is put back that are neither there nor among it."""
    for path in sorted(all_parents(held) - held.keys()):
        if path not in there:
            latest = max(entry.mtime_ns for entry in held.values() if entry.path.startswith(f"{path}/"))
            yield snapshot.entries().get(path, Entry(path, FOLDER, 0o755, latest))


def _harmless(entry: Entry) -> Entry:
    """An entry without the right to run as its owner: in a folder of somebody else, who could have made it of
    anything, root hands out no such right."""
    return entry._replace(mode=entry.mode & ~_SET_ID) if entry.kind is FILE and entry.mode & _SET_ID else entry


_SET_ID = stat.S_ISUID | stat.S_ISGID


def _is_as_told(entry: Entry, row: FileRow, snapshot: Source) -> bool:
    """Whether a file that nobody has written to since ``row`` told of it is the very one wanted; nearly all are."""
    return row.entry == entry and entry.kind is FILE and not entry.same_as and row.digest == snapshot.digest(entry.path)


def _facts_differ(entry: Entry, now: Entry) -> bool:
    """Whether mode, time or (where this process may set them) the owners differ."""
    if (entry.mode, entry.mtime_ns) != (now.mode, now.mtime_ns):
        return True
    return metadata.may_give_away() and entry.owner >= 0 and (entry.owner, entry.group) != (now.owner, now.group)


def _differs(
    entry: Entry,
    now: Entry,
    first: str,
    snapshot: Source,
    live: FolderTree | None,
    known: Mapping[str, FileRow],
) -> bool:
    if now.kind is not entry.kind:
        return True
    if entry.kind is LINK:
        return now.points_at != entry.points_at
    assert live is not None
    names_differ = now.same_as != first if first or not entry.same_as else now.same_as not in ("", entry.same_as)
    if now.size != entry.size or names_differ:
        return True
    row = known.get(entry.path)
    return (row.digest if row else live.digest(entry.path)) != snapshot.digest(entry.path)


def _in_the_way(held: Mapping[str, Entry], there: Mapping[str, Entry]) -> dict[str, Entry]:
    """What stands where another kind of thing belongs, with all below it."""
    blocking = {
        path
        for path, entry in held.items()
        if (now := there.get(path)) is not None and (now.kind is FOLDER) != (entry.kind is FOLDER)
    }
    blocking |= {path for path in all_parents(held) if path in there and there[path].kind is not FOLDER}
    if not blocking:
        return {}
    return {
        path: entry
        for path, entry in there.items()
        if path in blocking or any(parent in blocking for parent in parents(path))
    }


def all_parents(paths: Iterable[str]) -> set[str]:
    """The folders that paths stand in."""
    found: set[str] = set()
    for folder in {path.rpartition("/")[0] for path in paths}:
        while folder and folder not in found:
            found.add(folder)
            folder = folder.rpartition("/")[0]
    return found


def _removable(
    extra: list[Entry], there: Mapping[str, Entry], held: Mapping[str, Entry], wanted: Callable[[str], bool]
) -> Iterator[Entry]:
    """Extra entries; a folder only when all in it goes too."""
    if not any(entry.kind is FOLDER for entry in extra):
        return iter(extra)
    staying = all_parents((*held, *(path for path in there if not wanted(path))))
    return (entry for entry in extra if entry.kind is not FOLDER or entry.path not in staying)
