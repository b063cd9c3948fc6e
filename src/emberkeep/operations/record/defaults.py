"""Recording the vendor's untouched files of a release, and finding the release that live files come from."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from emberkeep.callbacks import Progress, no_op
from emberkeep.comparing import fit
from emberkeep.comparing.fit import Fit
from emberkeep.errors import Refused, UsageError
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, PartTree, Tree, best_root
from emberkeep.inventory.roles import SHIPPED, Roles
from emberkeep.inventory.versions import ordering
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree

_VERSION = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,63}")
WHY = "defaults"


@dataclass(frozen=True)
class Recorded:
    """Defaults just recorded. ``below``: the folder inside the source that was taken as its root; ``shared``: files
    that the live server has too."""

    about: About
    below: str
    shared: int


def record(keep: Keep, store: Store, version: str, source: Path, now: datetime, progress: Progress = no_op) -> Recorded:
    """Take a release's files into the store. Refused when that version is recorded already."""
    if not _VERSION.fullmatch(version):
        raise UsageError(f"'{version}' cannot name a release", hint="letters, digits and . _ + - are wanted, as 4.3")
    if version in store.versions():
        raise Refused(
            f"defaults of {version} are recorded already",
            hint=f"'emberkeep defaults drop {version}' forgets them first",
        )
    from emberkeep.fs.archives import open_source  # only where a release is recorded
    from emberkeep.store import writer

    whole = open_source(source)
    live = keep_paths(keep)
    below = best_root(whole, live)
    tree = PartTree(whole, below) if below else whole
    shared = len(live & tree.entries().keys())
    about = About(version, now, WHY, source=source.name)
    manifest = writer.add(store, tree, about, progress=progress)
    return Recorded(manifest.about, below, shared)


def keep_paths(keep: Keep) -> set[str]:
    """The files of the live server, by path."""
    if not keep.server.is_dir():
        return set()
    return {path for path, entry in FolderTree(keep.server).entries().items() if entry.kind is FILE}


def versions(store: Store) -> list[str]:
    """Recorded versions, oldest first."""
    return sorted(store.versions(), key=ordering)


def tree_of(store: Store, version: str) -> SnapshotTree:
    """Recorded defaults as a tree. UsageError, with what there is, when that version is not recorded."""
    known = versions(store)
    if version not in known:
        there = f"recorded are {', '.join(known)}" if known else "none are recorded yet"
        raise UsageError(
            f"there are no defaults of {version}; {there}",
            hint=f"'emberkeep defaults record {version} SOURCE' records them",
        )
    return SnapshotTree(store, store.manifest(version, defaults=True), f"defaults:{version}")


def merged_paths(keep: Keep, *trees: Tree) -> list[str]:
    """The vendor's files that are merged: by role, unsorted ones and extensions that a release ships included, since
    nothing may be dropped unseen; but for those that hold the contents of tables, which are merged as such."""
    roles = Roles(keep.config.roles)
    wanted = {*SHIPPED}
    paths = {p for tree in trees for p, entry in tree.entries().items() if entry.kind is FILE}
    databases = keep.config.databases.all if keep.config.databases_table else ()
    contents = globs.combined([glob for one in databases for glob in one.defaults])
    found = [(path, roles.of(path)) for path in paths]
    return sorted(p for p, role in found if role in wanted and not (role == UNSORTED and contents.fullmatch(p)))


def passed_over(keep: Keep, before: Tree, after: Tree, live: Tree) -> list[tuple[str, str]]:
    """What a release ships that differs from the earlier one, and a merge leaves alone, with its role: the world,
    players and what else a server writes itself."""
    roles = Roles(keep.config.roles)
    found = [(path, roles.of(path)) for path, entry in sorted(after.entries().items()) if entry.kind is FILE]
    return [
        (path, role)
        for path, role in found
        if role not in (*SHIPPED, "engine") and not _is_alike(after, before, path) and not _is_alike(after, live, path)
    ]


def _is_alike(one: Tree, other: Tree, path: str) -> bool:
    there = other.entries().get(path)
    return there is not None and there.size == one.entries()[path].size and one.digest(path) == other.digest(path)


def fits(keep: Keep, store: Store, live: Tree, among: Iterable[str] | None = None) -> list[Fit]:
    """How well each recorded release fits the live files, best first."""
    chosen = versions(store) if among is None else list(among)
    trees = {version: tree_of(store, version) for version in chosen}
    paths = merged_paths(keep, *trees.values())
    found = fit.fits(trees, live, paths, keep.config.record_rules)
    return sorted(found, key=lambda item: (-item.share, ordering(item.version)))
