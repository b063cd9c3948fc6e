"""The earlier snapshot that a folder is compared with, and what nobody has written to since."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from emberkeep.errors import Damage, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Entry, only
from emberkeep.store import manifest as manifests
from emberkeep.store import stat_cache
from emberkeep.store.manifest import About, Manifest, ManifestName
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow


class Base(NamedTuple):
    """An earlier snapshot and the bytes of its manifest file."""

    manifest: Manifest
    data: bytes


def base_of(store: Store, remembered: stat_cache.StatCache) -> Base:
    """What a new snapshot is compared with: the one that was scanned last, else the newest that can be read, else that
    of another keep which shares the store: it has the same game, and often the same map."""
    for one, name in _candidates(store, remembered.snapshot):
        with contextlib.suppress(Damage, UsageError):
            data, file = one.manifest_file(name)
            return Base(one.parsed(data, file), data)
    return Base(Manifest(About("", datetime.min.replace(tzinfo=UTC), ""), {}), b"")


def _candidates(store: Store, scanned_last: str) -> Iterator[tuple[Store, ManifestName]]:
    labels = [str(number) for number in store.numbers()]
    for label in (scanned_last, *reversed(labels)):
        if label in labels:
            yield store, ManifestName(label)
    for version in store.versions():
        yield store, ManifestName(version, True)
    newest = []
    for other in store.others():
        for number in other.numbers()[-1:]:
            with contextlib.suppress(Damage, UsageError):
                newest.append((other.about(str(number)).taken, other, ManifestName(str(number))))
    for _, other, name in sorted(newest, key=lambda each: each[0], reverse=True):
        yield other, name


def unwritten(store: Store, tree: FolderTree) -> Mapping[str, FileRow]:
    """What the last snapshot of the live server holds of ``tree``, of the paths that nobody has written to since."""
    remembered = stat_cache.load(store.own / "seen")
    base = base_of(store, remembered)
    if manifests.check_of(base.data) != remembered.check:
        return {}
    held = base.manifest.held
    return unwritten_rows(tree.entries(), held, remembered.stamps(held), tree.stamps)


def unwritten_rows(
    entries: Mapping[str, Entry], held: Mapping[str, FileRow], known: stat_cache.Stamps, stamps: stat_cache.Stamps
) -> Mapping[str, FileRow]:
    """The rows of files that nobody has written to, and of all else that is as it was."""

    def is_as_it_was(path: str, row: FileRow) -> bool:
        entry = entries.get(path)
        if entry is None or row.entry != entry:
            return False
        if entry.kind is not FILE:
            return True
        stamp = stamps.get(path)
        return stamp is not None and stamp == known.get(path)

    return only(held, is_as_it_was)
