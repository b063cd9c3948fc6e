"""The store's one writer: snapshots and recorded defaults taken in, changed, forgotten."""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Place, Refused, UsageError, system_may_refuse
from emberkeep.fs import system, writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Entry, Skipped, Tree, only, whole
from emberkeep.store import damage, stat_cache
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store.earlier import base_of, unwritten_rows
from emberkeep.store.extents import HOLE
from emberkeep.store.intake import Intake, StampOf, Stream
from emberkeep.store.manifest import BESIDE, DEFAULTS, About, Manifest
from emberkeep.store.packs import PackWriter
from emberkeep.store.pieces import Pieces
from emberkeep.store.shared import elsewhere
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow, file_sizes

_SHRINKS = 0.25
"""Worlds and text rarely shrink to less than this share."""


class Dumped(NamedTuple):
    """A database that a snapshot holds: rows in all, and bytes of its dump."""

    name: str
    tables: int
    rows: int
    bytes: int


class SnapshotResult(NamedTuple):
    """A snapshot just taken: its facts, what could not be taken or would not settle, and what was dumped along."""

    about: About
    skipped: tuple[Skipped, ...]
    dumped: tuple[Dumped, ...] = ()


def add(
    store: Store,
    tree: Tree,
    about: About,
    *,
    wanted: Callable[[str], bool] | None = None,
    live: FolderTree | None = None,
    rehash: bool = False,
    streams: Sequence[Stream] = (),
    progress: Progress = no_op,
    glimpse: str = "",
) -> SnapshotResult:
    """Take ``tree`` (or what ``wanted`` says of it) in as a snapshot, or as defaults where ``about.why`` says so.

    A snapshot's label is its new number; ``about`` tells the rest. ``live``: the live server folder, when
    ``tree`` is that; what nobody has written to since the last snapshot of it is not read again, unless
    ``rehash``. ``streams``: dumps that are taken along. ``glimpse``: the fingerprint of a look at the live
    folder begun before, which is enough where it tells that nothing has changed. All or nothing: RunFailed when the
    system refuses to write.
    """
    with store.writing():
        hint = "the store is as it was before; make room or mend that, and try again"
        with system_may_refuse("the snapshot could not be written", store.folder, hint):
            return _Addition(store, tree, about, wanted, live, rehash, streams, progress, glimpse).taken()


def amend(store: Store, about: About) -> None:
    """Write other facts about the snapshot ``about.label``."""
    with store.writing():
        path = store.manifest_path(about.label, defaults=about.why == DEFAULTS)
        write_manifest(store, about, manifests.amended(store.bytes_of(path), about))


def drop(store: Store, label: str, *, defaults: bool = False) -> None:
    """Forget a manifest. Its blocks stay until the store is thinned."""
    with store.writing():
        path = store.manifest_path(label, defaults=defaults)
        store.bytes_of(path)
        system.io.unlink(path)
        system.io.sync_folder(path.parent)


def keep_trust(store: Store) -> None:
    """Go on trusting what the last scans saw, after blocks were moved and manifests rewritten by us.

    Only whoever made sure that every block is still there may call it.
    """
    packs = indexes.sizes(store.packs)
    for one in (store, *store.others()):
        remembered = stat_cache.load(one.own / "seen")
        with contextlib.suppress(Damage, UsageError):
            check = manifests.check_of(one.bytes_of(one.manifest_path(remembered.snapshot or "0")))
            stat_cache.save(one.own / "seen", replace(remembered, check=check, packs=packs))


def next_label(store: Store) -> str:
    """The number of the next snapshot."""
    return str(max(store.numbers(), default=0) + 1)


def write_manifest(store: Store, about: About, data: bytes) -> None:
    """Write a manifest file, all or nothing: from then on the snapshot is there."""
    writing.write_whole(store.manifest_path(about.label, defaults=about.why == DEFAULTS), [data])


@dataclass
class _Addition:
    """What is to be taken in, and how; see :func:`add`."""

    store: Store
    tree: Tree
    about: About
    wanted: Callable[[str], bool] | None
    live: FolderTree | None
    rehash: bool
    streams: Sequence[Stream]
    progress: Progress
    glimpse: str

    def taken(self) -> SnapshotResult:
        """The snapshot, once it is there."""
        tree, wanted, live, streams = self.tree, self.wanted, self.live, self.streams
        about = self.about
        self.store.forget_index()
        remembered = stat_cache.load(self.store.own / "seen")
        scan = ""
        if live is not None and wanted is None and not streams:
            trusted = stat_cache.StatCache() if self.rehash else remembered
            same = self._as_before(about, trusted, self.glimpse, ahead=True)
            if same is None:
                scan = live.fingerprint()
                same = self._as_before(about, trusted, scan)
            if same is not None:
                return same
        entries = tree.entries()
        if wanted is not None:
            entries = {path: entry for path, entry in entries.items() if wanted(path)}
        if not entries and wanted is not None and not streams:
            raise UsageError(f"nothing in {tree.label} is selected by {', '.join(about.scope)}; no snapshot was taken")
        kept, earlier = self._known(entries, remembered, None if self.rehash else live)
        sizes = Counter(entry.size for path, entry in entries.items() if path not in kept)
        self._check_room(sum(size * count for size, count in sizes.items()))
        earlier = self._with_streams(earlier)
        suspect = len(self.store.damaged)
        held, intake = self._taken_in(entries, kept, earlier, streams)
        if len(self.store.damaged) > suspect:
            held = self._without_damage(entries, held, intake)
        own = file_sizes(held, BESIDE)
        about = replace(
            about,
            label=about.label or next_label(self.store),
            files=len(own),
            bytes=sum(own),
            new_bytes=intake.pieces.writer.size,
            unsettled=bool(intake.unsettled),
            copied=tuple(sorted(live.copied)) if live else (),
        )
        if about.why == DEFAULTS:
            whole(tree, intake.unread)  # what a release lacks would count as dropped by it
        skipped = (*tree.skipped, *intake.unread, *intake.unsettled)
        manifest = Manifest(about, held, skipped, tree.top if wanted is None else None)
        data = manifests.serialize(manifest)
        write_manifest(self.store, about, data)
        self.store.keep_at_hand(
            manifests.check_of(data), manifest
        )  # a run plans on from the snapshot that it has just taken
        if self.store.damaged:  # also what was only met while files were compared with it
            damage.save(self.store.folder / "damaged", self.store.damaged)
        if intake.pieces.fresh:
            self.store.index.update(intake.pieces.fresh)
            indexes.save(self.store.folder / "index", self.store.packs, self.store.index)
        if live is not None and wanted is None:
            scan = "" if intake.unread or intake.unsettled or live.copied else scan
            self._save_seen(manifest, data, intake.stamp_of, scan)
        return SnapshotResult(about, skipped)

    def _without_damage(
        self, entries: Mapping[str, Entry], held: Mapping[str, FileRow], intake: Intake
    ) -> Mapping[str, FileRow]:
        """The rows of a snapshot in the making, where damage was met only while it was made: what leans on that is
        taken in once more."""
        fresh = intake.pieces.fresh
        self.store.index.update(fresh)
        whole = self._there(held)
        lacking = {path: entry for path, entry in entries.items() if path in held and path not in whole}
        again, further = self._taken_in(lacking, {}, whole, ())
        fresh.update(further.pieces.fresh)
        intake.stamps.update(further.stamps)
        intake.unstamped |= further.unstamped
        intake.unread += further.unread
        intake.unsettled += further.unsettled
        lost = lacking.keys() - again.keys()
        return {path: again.get(path, row) for path, row in held.items() if path not in lost}

    def _with_streams(self, earlier: Mapping[str, FileRow]) -> Mapping[str, FileRow]:
        """What a new snapshot is compared with, and each stream's newest earlier one where that has none."""
        lacking = {stream.path for stream in self.streams} - earlier.keys()
        found: dict[str, FileRow] = {}
        for number in reversed(self.store.numbers()):
            if lacking <= found.keys():
                break
            with contextlib.suppress(Damage):
                if self.store.about(str(number)).databases:
                    held = self.store.manifest(str(number)).held
                    found.update({path: held[path] for path in lacking - found.keys() if path in held})
        return {**earlier, **self._there(found)} if found else earlier

    def _known(
        self, entries: Mapping[str, Entry], remembered: stat_cache.StatCache, live: FolderTree | None
    ) -> tuple[Mapping[str, FileRow], Mapping[str, FileRow]]:
        """The rows of what nobody has written to since the last scan of ``live``, and all rows of an earlier
        snapshot."""
        base = base_of(self.store, remembered)
        earlier: Mapping[str, FileRow] = base.manifest.held
        kept: Mapping[str, FileRow] = {}
        check = manifests.check_of(base.data)
        if live is not None and check == remembered.check:
            kept = unwritten_rows(entries, earlier, remembered.stamps(earlier), live.stamps)
        if not remembered.speaks_of(check, indexes.sizes(self.store.packs)) or self.store.damaged:
            kept, earlier = self._there(kept), self._there(earlier)
        return kept, earlier

    def _taken_in(
        self,
        entries: Mapping[str, Entry],
        kept: Mapping[str, FileRow],
        earlier: Mapping[str, FileRow],
        streams: Sequence[Stream],
    ) -> tuple[Mapping[str, FileRow], Intake]:
        """All rows of ``entries``, with what was new in a pack that counts from now on."""
        sizes = {entry.size for path, entry in entries.items() if path not in kept}
        with PackWriter(self.store.packs) as writer:
            intake = Intake(
                self.tree,
                earlier,
                self.store.block,
                Pieces(lambda block: block in self.store.index, writer),
                isinstance(self.tree, FolderTree),
                elsewhere(self.store, sizes),
                self.live.stamps if self.live else {},
            )
            return intake.take(entries, kept, self.progress, streams), intake

    def _as_before(
        self, about: About, remembered: stat_cache.StatCache, scan: str, *, ahead: bool = False
    ) -> SnapshotResult | None:
        """A snapshot of just what the last one holds; None when the scan, that one or a pack is not what it was.
        ``ahead``: the scan was begun before it was known that no server runs."""
        if not scan or scan != remembered.scan:
            return None
        if self.store.damaged:
            return None
        try:
            data = self.store.bytes_of(self.store.manifest_path(remembered.snapshot))
            if not remembered.speaks_of(manifests.check_of(data), indexes.sizes(self.store.packs)):
                return None
            before = manifests.parse_about(data, remembered.snapshot)
        except (Damage, UsageError):
            return None
        if ahead and before.running:  # that server may have saved, and ended, since the look began
            return None
        about = replace(about, label=next_label(self.store), files=before.files, bytes=before.bytes)
        write_manifest(self.store, about, manifests.amended(data, about))
        return SnapshotResult(about, ())

    def _check_room(self, to_read: int) -> None:
        """Refused when what must be read cannot fit even if it shrinks to :data:`_SHRINKS`; running out later is
        survived."""
        needed = int(to_read * _SHRINKS)
        free = self.store.free()
        if needed > free:
            raise Refused(
                f"{to_read} bytes are to be taken in, and the disk has room for {free}",
                place=Place(str(self.store.folder)),
                hint="make room first; 'emberkeep thin' lets old snapshots go",
            )

    def _save_seen(self, manifest: Manifest, data: bytes, stamp_of: StampOf, scan: str) -> None:
        about = manifest.about
        frame, trusted = stat_cache.of(manifest.held, stamp_of, int(about.taken.timestamp() * 1e9))
        if about.files != trusted or manifest.skipped:
            scan = ""  # what is not trusted, or was left out, is looked at again
        check, packs = manifests.check_of(data), indexes.sizes(self.store.packs)
        stat_cache.save(self.store.own / "seen", stat_cache.StatCache(about.label, check, scan, packs, frame))

    def _there(self, held: Mapping[str, FileRow]) -> Mapping[str, FileRow]:
        """The rows whose blocks the store has, those behind lists included."""

        def is_there(path: str, row: FileRow) -> bool:
            with contextlib.suppress(Damage):
                return all(
                    extent.block in self.store.index or extent.block == HOLE for extent in self.store.extents(row)
                )
            return False

        return only(held, is_there)
