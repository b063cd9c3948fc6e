"""What a fetch would bring: what changed there, what changed here, and what did on both sides."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from emberkeep.errors import Place, Refused, first_of
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Entry, Kind
from emberkeep.keep.keep import Keep
from emberkeep.transfer.protocol import RemoteEntry, SkippedEntry
from emberkeep.transfer.state import Known, RemoteState
from emberkeep.transfer.walk import Listing

LEAST_ALIKE = 0.3
"""Least share of what is known that a far folder still holds, to be the same server."""


@dataclass(frozen=True)
class FetchPlan:
    """What a fetch will do. ``get``: files to fetch; ``folders`` and ``links`` to make; ``remove``: what is there no
    more; ``unsent``: paths changed here and not sent yet, which stay; ``clashes``: those that changed on both sides."""

    get: tuple[RemoteEntry, ...]
    folders: tuple[RemoteEntry, ...]
    links: tuple[RemoteEntry, ...]
    remove: tuple[str, ...]
    unsent: tuple[str, ...]
    clashes: tuple[str, ...]
    odd: tuple[SkippedEntry, ...]
    files: int
    forgotten: tuple[str, ...] = ()
    """What is gone there and was changed here: from now on it is new here."""
    met: tuple[Known, ...] = ()
    """Files that are here already, of that size and time, though nobody noted that they were fetched."""
    kept: tuple[Known, ...] = ()
    """What changed on both sides and stays as it is here, to be sent over theirs."""
    timeless: bool = False

    @property
    def bytes(self) -> int:
        """Bytes to fetch, as far as the listing tells."""
        return sum(max(0, entry.size) for entry in self.get)


class Local:
    """The copy, and what of it was changed since it was fetched."""

    def __init__(self, folder: Path, known: Mapping[str, Known]) -> None:
        self.tree = FolderTree(folder) if folder.is_dir() else None
        self.entries: Mapping[str, Entry] = self.tree.entries() if self.tree else {}
        self._known = known

    def changed(self, path: str) -> bool:
        """Whether a path differs from what was fetched: by size and time, and where these differ by contents."""
        now, then = self.entries.get(path), self._known.get(path)
        if now is None or then is None:
            return (now is None) != (then is None)
        if now.kind is not then.entry.kind:
            return True
        if now.kind is Kind.LINK:
            return now.points_at != then.entry.points_at
        if now.kind is Kind.FOLDER or (now.size, now.mtime_ns) == then.here:
            return False
        assert self.tree is not None
        return self.tree.digest(path) != then.digest


def fetch_plan(
    listing: Listing,
    known: Mapping[str, Known],
    local: Local,
    wanted: Callable[[str], bool],
    *,
    whose: str = "",
    rehash: bool = False,
) -> FetchPlan:
    """Compare a listing with what is known and what lies here. ``whose``: "theirs" where what changed on both sides
    comes from there, "mine" where it stays; ``rehash``: every file is fetched, whatever its size and time."""
    plan = _Planning(known, local, whose, rehash)
    there = {path: entry for path, entry in listing.entries.items() if wanted(path)}
    for path, entry in there.items():
        plan.stands_there(path, entry)
    unseen = tuple(f"{item.path}/" for item in listing.odd)  # of what cannot be listed nobody knows whether it is gone
    for path in (*known, *(path for path in local.entries if path not in known)):
        if path not in listing.entries and wanted(path) and not path.startswith(unseen):
            plan.is_not_there(path)
    return FetchPlan(
        tuple(plan.get),
        tuple(plan.folders),
        tuple(plan.links),
        tuple(sorted(plan.remove, reverse=True)),
        tuple(sorted(plan.unsent)),
        tuple(plan.clashes),
        tuple(item for item in listing.odd if wanted(item.path)),
        sum(1 for entry in there.values() if entry.kind is Kind.FILE),
        tuple(plan.forgotten),
        tuple(plan.met),
        tuple(plan.kept),
        listing.timeless,
    )


@dataclass
class _Planning:
    known: Mapping[str, Known]
    local: Local
    whose: str
    rehash: bool
    get: list[RemoteEntry] = field(default_factory=list)
    folders: list[RemoteEntry] = field(default_factory=list)
    links: list[RemoteEntry] = field(default_factory=list)
    remove: list[str] = field(default_factory=list)
    unsent: list[str] = field(default_factory=list)
    clashes: list[str] = field(default_factory=list)
    forgotten: list[str] = field(default_factory=list)
    met: list[Known] = field(default_factory=list)
    kept: list[Known] = field(default_factory=list)

    def stands_there(self, path: str, entry: RemoteEntry) -> None:
        then, now = self.known.get(path), self.local.entries.get(path)
        if entry.kind is Kind.FOLDER:
            if now is None or now.kind is not Kind.FOLDER:
                self.folders.append(entry)
            return
        if then is None and now is not None and self._met(entry, now):
            return
        there_changed = then is None or not entry.same_as(then.entry)
        here_changed = self.local.changed(path) if then is not None else now is not None
        if here_changed and not there_changed:
            self.unsent.append(path)
            return
        if here_changed and self.whose != "theirs":
            if self.whose == "mine":
                self.kept.append(Known(entry, then.digest if then else ""))
            else:
                self.clashes.append(path)
            return
        if there_changed or (self.rehash and entry.kind is Kind.FILE):
            (self.links if entry.kind is Kind.LINK else self.get).append(entry)

    def _met(self, entry: RemoteEntry, now: Entry) -> bool:
        """Whether a file is here already: a fetch that was killed had no time to note it."""
        here = RemoteEntry(entry.path, now.kind, now.size, now.mtime_ns)
        if entry.kind is not Kind.FILE or entry.mtime_ns is None or not entry.same_as(here):
            return False
        assert self.local.tree is not None
        self.met.append(Known(entry, self.local.tree.digest(entry.path), (now.size, now.mtime_ns)))
        return True

    def is_not_there(self, path: str) -> None:
        now = self.local.entries.get(path)
        if path in self.known and not self.local.changed(path):
            self.remove += [path] if now is not None else []
            return
        if path in self.known:
            self.forgotten.append(path)
        if now is not None and now.kind is not Kind.FOLDER:
            self.unsent.append(path)


def refuse_another(listing: Listing, known: Mapping[str, Known], address: object) -> None:
    """Refused where a far folder holds too little of what it held before to be the same server."""
    paths = [path for path, then in known.items() if then.entry.kind is Kind.FILE]
    still = sum(1 for path in paths if path in listing.entries)
    if len(paths) >= 5 and still < LEAST_ALIKE * len(paths):
        raise Refused(
            f"of {len(paths)} files known of this server, {still} are there: is it another one?",
            place=Place(str(address)),
            hint="see the folder in the address; if the server was really set up anew, --another fetches all the same",
        )


def refuse_clashes(plan: FetchPlan) -> None:
    """Refused where something changed on both sides."""
    if plan.clashes:
        raise Refused(
            f"changed both here and there since the last fetch: {first_of(plan.clashes, 5)}",
            hint="'mirror fetch --theirs' takes a snapshot of yours first and fetches theirs; '--mine' keeps yours, "
            "to be sent over theirs",
        )


@dataclass(frozen=True)
class Standing:
    """How the copy stands to the far side, as far as is known without asking it. ``fetched``: when it was last fetched;
    ``unsent``: paths changed here since."""

    address: str
    fetched: datetime | None
    unsent: tuple[str, ...]


def standing(keep: Keep) -> Standing | None:
    """How the copy stands; None where the server folder is none."""
    if keep.config.remote.address is None:
        return None
    state = RemoteState(keep.folder)
    known = state.known()
    local = Local(keep.server, known)
    changed = (path for path in sorted({*known, *local.entries}) if local.changed(path))
    folders = {path for path, entry in local.entries.items() if entry.kind is Kind.FOLDER}
    return Standing(
        str(keep.config.remote.address), state.fetched, tuple(path for path in changed if path not in folders)
    )


def stays_inside(entry: RemoteEntry) -> bool:
    """Whether a link there leads to somewhere within the server folder."""
    target = entry.points_at
    if not target or target.startswith("/") or "\\" in target or "\0" in target:
        return False
    landed = os.path.normpath(f"{entry.path}/../{target}")
    return not landed.startswith("..")
