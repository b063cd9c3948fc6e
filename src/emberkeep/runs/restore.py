"""Putting back: a folder made to be what a snapshot says, wholly or in part, writing only what differs."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from emberkeep import files
from emberkeep.errors import Damage, Fault, Place, Refused, RunFailed
from emberkeep.servers.roles import RoleTable, selection
from emberkeep.store.manifest import Manifest
from emberkeep.store.store import Progress, SnapshotTree, silent
from emberkeep.trees import Entry, FolderTree, Kind


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


def scope_of(manifest: Manifest, only: Sequence[str], roles: RoleTable) -> Callable[[str], bool]:
    """Which paths a restore may touch: what the snapshot was limited to, and what ``only`` selects of that."""
    about = manifest.about
    taken = selection(about.scope, about.roles) if about.scope else None
    asked = selection(only, roles) if only else None
    return lambda path: (taken is None or taken(path)) and (asked is None or asked(path))  # "" is the folder itself


def plan(snapshot: SnapshotTree, target: Path, wanted: Callable[[str], bool]) -> RestorePlan:
    """Compare ``target`` with the snapshot; contents are compared by hash, so damage with an old time is found too."""
    live = FolderTree(target) if target.is_dir() else None
    there = live.entries() if live else {}
    held = {path: entry for path, entry in snapshot.entries().items() if wanted(path)}
    write, touch, make, folders = [], [], [], []
    for path, entry in held.items():
        now = there.get(path)
        if entry.kind is Kind.FOLDER:
            folders.append(entry)
            if now is None or now.kind is not Kind.FOLDER:
                make.append(entry)
            elif (now.mode, now.mtime_ns) != (entry.mode, entry.mtime_ns):
                touch.append(entry)
        elif now is None or _differs(entry, now, snapshot, live):
            write.append(entry)
        elif entry.kind is Kind.FILE and (now.mode, now.mtime_ns) != (entry.mode, entry.mtime_ns):
            touch.append(entry)
    in_the_way = _in_the_way(held, there)
    top = snapshot.top if wanted("") else None
    extra = [entry for path, entry in there.items() if path not in held and wanted(path)]
    extra = [entry for entry in extra if entry.path not in in_the_way]
    return RestorePlan(
        target,
        snapshot.label,
        tuple(write),
        tuple(touch),
        tuple(make),
        tuple(deepest_first(_removable(extra, there, held, wanted))),
        tuple(deepest_first(in_the_way.values())),
        tuple(folders),
        live.leftovers if live else (),
        top,
        top is not None and (live is None or top != live.top),
    )


def _differs(entry: Entry, now: Entry, snapshot: SnapshotTree, live: FolderTree | None) -> bool:
    if now.kind is not entry.kind:
        return True
    if entry.kind is Kind.LINK:
        return now.points_at != entry.points_at
    assert live is not None
    return now.size != entry.size or live.digest(entry.path) != snapshot.digest(entry.path)


def _in_the_way(held: dict[str, Entry], there: Mapping[str, Entry]) -> dict[str, Entry]:
    """What stands where another kind of thing belongs, with all below it."""
    blocking = {
        path
        for path, entry in held.items()
        if path in there and (there[path].kind is Kind.FOLDER) != (entry.kind is Kind.FOLDER)
    }
    parents = {parent for path in held for parent in _parents(path)}
    blocking |= {path for path in parents if path in there and there[path].kind is not Kind.FOLDER}
    return {
        path: entry
        for path, entry in there.items()
        if path in blocking or any(parent in blocking for parent in _parents(path))
    }


def _parents(path: str) -> Iterator[str]:
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def _removable(
    extra: list[Entry], there: Mapping[str, Entry], held: dict[str, Entry], wanted: Callable[[str], bool]
) -> Iterator[Entry]:
    """Extra entries; a folder only when all in it goes too."""
    staying = {parent for path in (*held, *(p for p in there if not wanted(p))) for parent in _parents(path)}
    return (entry for entry in extra if entry.kind is not Kind.FOLDER or entry.path not in staying)


def deepest_first(entries: Iterable[Entry]) -> list[Entry]:
    """Entries with what lies inside a folder before the folder."""
    return sorted(entries, key=lambda entry: (-entry.path.count("/"), entry.path))


def check_whole(plan: RestorePlan, snapshot: SnapshotTree) -> None:
    """Read all that will be written; Damage, naming every file, before anything is touched."""
    faults = []
    for entry in plan.write:
        if entry.kind is not Kind.FILE:
            continue
        try:
            for _ in snapshot.chunks(entry.path):
                pass
        except Damage as error:
            faults.append(Fault(str(error), None, "restore the rest with --only, or --into another folder"))
    if faults:
        raise Damage.gathered(tuple(faults))


def apply(plan: RestorePlan, snapshot: SnapshotTree, *, progress: Progress = silent) -> list[Fault]:
    """Carry a plan out. Files that the store cannot give back whole are left out and returned as faults.

    RunFailed, saying where, when the system refuses; what was done until then stays and a new restore goes on from it.
    """
    faults: list[Fault] = []
    try:
        files.make_folder(plan.target)
        for leftover in plan.leftovers:
            files.io.unlink(plan.target / leftover)
        _remove(plan.target, plan.replace)
        for entry in plan.make:
            files.make_folder(plan.target / entry.path)
        _write(plan, snapshot, faults, progress)
        _remove(plan.target, plan.remove)
        _touch(plan)
    except OSError as error:
        raise RunFailed(
            f"the restore stopped: {error.strerror or error}",
            place=Place(str(error.filename or plan.target)),
            hint="mend that and run the same restore again; it writes only what still differs",
        ) from error
    return faults


def _remove(target: Path, entries: Sequence[Entry]) -> None:
    for entry in entries:
        path = target / entry.path
        if entry.kind is Kind.FOLDER:
            if any(path.iterdir()):
                continue  # it holds what no tree shows: sockets, devices
            files.io.rmdir(path)
        else:
            files.io.unlink(path)


def _write(plan: RestorePlan, snapshot: SnapshotTree, faults: list[Fault], progress: Progress) -> None:
    done = 0
    for entry in plan.write:
        path = plan.target / entry.path
        files.make_folder(path.parent)
        if entry.kind is Kind.LINK:
            files.place_link(path, entry.points_at, entry.mtime_ns)
            continue
        try:
            files.write_whole(path, snapshot.chunks(entry.path), mode=entry.mode, mtime_ns=entry.mtime_ns)
        except Damage as error:
            faults.append(error.faults[0])
        done += entry.size
        progress(done, plan.bytes)


def _touch(plan: RestorePlan) -> None:
    """Modes and times, the folders' last: writing into a folder changes its time."""
    for entry in plan.touch:
        if entry.kind is Kind.FILE:
            files.io.chmod(plan.target / entry.path, entry.mode)
            files.io.utime(plan.target / entry.path, entry.mtime_ns)
    for entry in deepest_first(plan.folders):
        files.io.chmod(plan.target / entry.path, entry.mode)
        files.io.utime(plan.target / entry.path, entry.mtime_ns)
    if plan.top is not None:
        files.io.chmod(plan.target, plan.top.mode)
        files.io.utime(plan.target, plan.top.mtime_ns)


def check_target(into: Path, server: Path) -> None:
    """Refused unless ``into`` is new or empty and lies outside the server folder."""
    into = Path(os.path.realpath(into))
    server = Path(os.path.realpath(server))
    if into == server or server in into.parents:
        raise Refused(f"{into} lies in the server folder", hint="leave out --into to restore in place")
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise Refused(f"{into} is not empty", hint="name a folder that is not there yet")
