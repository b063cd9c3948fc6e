"""A far server folder brought here: what a fetch would do, and doing it. The copy is ours, the far side only read.

Every file comes whole or not at all: its bytes gather in the keep, are counted, synced and then moved in. A large one
that was broken off goes on where it stopped. What was changed here and not sent yet is never overwritten.
"""

from __future__ import annotations

import itertools
import threading
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import UnreadableInput
from emberkeep.fs import metadata, system, writing
from emberkeep.fs.trees import Skipped
from emberkeep.keep.keep import Keep
from emberkeep.operations.upkeep.fetch_plan import FetchPlan, stays_inside
from emberkeep.operations.upkeep.transfer_access import Look, wanted_of
from emberkeep.store import writer
from emberkeep.store.manifest import ASKED, About
from emberkeep.store.shared import store_of
from emberkeep.store.writer import SnapshotResult
from emberkeep.transfer.pool import ConnectionPool, RemoteConnection
from emberkeep.transfer.protocol import ReadRequest, RemoteEntry, RemoteError
from emberkeep.transfer.state import Known, RemoteState
from emberkeep.transfer.walk import RemoteTree, now_there

LARGE = 4 << 20
"""Files from this size on go on where they stopped."""
TRIES = 3
"""How often a file is fetched that has another size than its listing told."""
_BATCH, _BATCH_BYTES = 400, 64 << 20
"""Files that are put into their places together, and their bytes."""
_NEW = ".new"
"""How the names end under which small files gather."""
_Given = tuple[Path, int, Iterator[bytes]]


@dataclass(frozen=True)
class Fetched:
    """What came of a fetch. ``failed``: files that could not be had, or would not settle, and why."""

    files: int
    bytes: int
    removed: int
    failed: tuple[Skipped, ...]


class _Whole(NamedTuple):
    """A file whose bytes are all here, and not in its place yet. ``entry``: with its size as it came."""

    part: Path
    entry: RemoteEntry
    digest: str


@dataclass
class _Fetch:
    keep: Keep
    pool: ConnectionPool
    state: RemoteState
    progress: Progress
    total: int
    done: int = 0
    fetched: int = 0
    failed: list[Skipped] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._guard = threading.Lock()
        self._waiting: list[_Whole] = []
        self._waiting_bytes = 0
        self._ways: set[str] = set()
        self._numbers = itertools.count()
        self._settler = ThreadPoolExecutor(1, "settle")
        self._settling: Future[None] | None = None

    def all(self, entries: Sequence[RemoteEntry]) -> None:
        """Fetch files. What is here when that is broken off is put into its place all the same."""
        writing.make_folder(self.state.parts, private=True)
        self._sweep()  # after a fetch that was killed
        try:
            if entries and self.pool.reads_many():
                at_once = max(1, self.pool.settings.remote.connections // 2)  # each takes a second one for the bytes
                self.pool.each(list(_grouped(entries)), self._in_turn, most=at_once)
            else:
                self.pool.each(entries, self.each)
        finally:
            with self._settler:
                self._settle_full(least=0)
            if self._settling is not None:
                self._settling.result()
        self._sweep()

    def _sweep(self) -> None:
        for left in self.state.parts.glob(f"*{_NEW}"):
            system.io.unlink(left)

    def _in_turn(self, line: RemoteConnection, entries: Sequence[RemoteEntry]) -> None:
        parts = [self._part(entry) for entry in entries]
        wants = [ReadRequest(entry.path, start, entry.size) for entry, (_, start) in zip(entries, parts, strict=True)]
        for number, chunks in line.many(wants, "cannot fetch"):
            self.each(line, entries[number], (*parts[number], chunks))

    def each(self, line: RemoteConnection, entry: RemoteEntry, given: _Given | None = None) -> None:
        """Fetch one file. ``given``: where its bytes gather, how many of them are there, and the rest as it comes."""
        try:
            for _ in range(TRIES):
                found = self._bring(line, entry, given)
                if isinstance(found, _Whole):
                    break
                entry, given = found, None
            else:
                raise UnreadableInput(f"it goes on changing, or the host tells another size ({entry.size}) than it has")
        except RemoteError as error:
            self.failed.append(Skipped(entry.path, str(error)))
            return
        except UnreadableInput as error:
            if line.stopped.is_set() or not line.opens():
                raise
            self.failed.append(Skipped(entry.path, error.faults[0].what))
            return
        with self._guard:
            self._waiting.append(found)
            self._waiting_bytes += found.entry.size
        self._settle_full()

    def _part(self, entry: RemoteEntry) -> tuple[Path, int]:
        """Where a file's bytes gather, and how many are there from an earlier try."""
        if entry.size >= LARGE:
            return self.state.part(entry)
        return self.state.parts / f"{next(self._numbers)}{_NEW}", 0

    def _bring(self, line: RemoteConnection, entry: RemoteEntry, given: _Given | None) -> _Whole | RemoteEntry:
        """Fetch a file's bytes; what a fresh listing tells of it where there are not as many as told."""
        self._check_way(entry.path)
        part, start, chunks = given or (*self._part(entry), None)
        if chunks is None:
            chunks = line.steady(entry.path, start, entry.size, f"cannot fetch {entry.path}")
        hasher, size = blake3(), start
        if start:
            hasher.update_mmap(part)
        with writing.appending(part) as handle:
            for chunk in chunks:
                system.io.write(handle, chunk)
                hasher.update(chunk)
                size += len(chunk)
                self._report_progress(len(chunk))
        fresh = now_there_of(line, entry.path) if size != entry.size else entry
        if fresh is None or fresh.size not in (size, -1):
            system.io.unlink(part)
            self._report_progress(start - size)
            if fresh is None:
                raise UnreadableInput("it was taken away meanwhile")
            return fresh
        return _Whole(part, fresh._replace(size=size), hasher.hexdigest())

    def _check_way(self, path: str) -> None:
        folder = path.rpartition("/")[0]
        if folder not in self._ways:
            _check_way(self.keep.server, path)
            self._ways.add(folder)

    def _report_progress(self, count: int) -> None:
        with self._guard:
            self.done += count
            self.progress(min(self.done, self.total), self.total)

    def _moved_in(self, rows: Sequence[_Whole]) -> list[Known]:
        ways: set[str] = set()
        known = []
        for one in rows:
            path = one.entry.path
            copy = self.keep.server / path
            folder = path.rpartition("/")[0]
            if folder not in ways:
                _check_way(self.keep.server, path)
                ways.add(folder)
            writing.move_in(one.part, copy, _facts(one.entry))
            facts = copy.stat()
            known.append(Known(one.entry, one.digest, (facts.st_size, facts.st_mtime_ns)))
        return known

    def _settle_full(self, least: int = 1) -> None:
        """Have what is whole put into its place once there is much of it, while further files come."""
        with self._guard:
            full = len(self._waiting) >= _BATCH or self._waiting_bytes >= _BATCH_BYTES
            if not full and (least or not self._waiting):
                return
            rows, self._waiting, self._waiting_bytes = self._waiting, [], 0
            before, self._ways = self._settling, set()
            self._settling = self._settler.submit(self._settle, rows)
        if before is not None:
            before.result()

    def _settle(self, rows: Sequence[_Whole]) -> None:
        """Put files into their places together: syncing many behind one another costs little more than the first of
        them does."""
        for one in rows:
            metadata.persist_metadata(one.part, _facts(one.entry))
        with system.durable():
            known = self._moved_in(rows)
        self.state.put(known)
        for one in rows:
            if one.entry.size >= LARGE:
                self.state.whole(one.entry.path)
        with self._guard:
            self.fetched += len(known)


def _grouped(entries: Sequence[RemoteEntry]) -> Iterator[list[RemoteEntry]]:
    """Files in groups that one connection fetches."""
    group: list[RemoteEntry] = []
    size = 0
    for entry in entries:
        group.append(entry)
        size += max(0, entry.size)
        if len(group) >= _BATCH or size >= _BATCH_BYTES:
            yield group
            group, size = [], 0
    if group:
        yield group


def now_there_of(line: RemoteConnection, path: str) -> RemoteEntry | None:
    """What a fresh listing tells of one path."""
    return line.do(lambda host: now_there(host, path), f"cannot list {path}")


def _facts(entry: RemoteEntry) -> metadata.Metadata:
    mode = None if entry.mode is None else entry.mode & 0o777 | 0o600
    return metadata.Metadata(0o644 if mode is None else mode, entry.mtime_ns)


def _check_way(top: Path, path: str) -> None:
    """UnreadableInput where a link, or a file, stands where a folder on the way to a path belongs."""
    place = top
    for part in path.split("/")[:-1]:
        place /= part
        if place.is_symlink() or (place.exists() and not place.is_dir()):
            raise UnreadableInput(f"{place} stands here where a folder belongs")


def fetch(keep: Keep, pool: ConnectionPool, plan: FetchPlan, progress: Progress = no_op) -> Fetched:
    """Carry a plan out. What was fetched until it is broken off stays, and the next fetch goes on from it.

    UnreadableInput when the host cannot be reached any more.
    """
    writing.make_folder(keep.server)
    with system.anchored(keep.server):
        return _fetched(keep, pool, plan, progress)


def _fetched(keep: Keep, pool: ConnectionPool, plan: FetchPlan, progress: Progress) -> Fetched:
    server, state = keep.server, RemoteState(keep.folder)
    state.speaks_of(str(pool.settings.address))
    with system.durable():
        removed = _remove(server, plan)
    state.forget(removed)
    state.forget(plan.forgotten)
    state.put((*plan.met, *plan.kept))
    work = _Fetch(keep, pool, state, progress, plan.bytes)
    with system.durable():
        rows = _made(server, plan, work)
    state.put(rows)
    work.all(plan.get)
    return Fetched(work.fetched, work.done, len(removed), tuple(sorted(work.failed, key=lambda item: item.path)))


def _made(server: Path, plan: FetchPlan, work: _Fetch) -> list[Known]:
    """Make the folders and links of a plan; what stands now."""
    rows = []
    for entry in plan.folders:
        try:
            _check_way(server, f"{entry.path}/x")
            writing.make_folder(server / entry.path)
            rows.append(Known(entry))
        except UnreadableInput as error:
            work.failed.append(Skipped(entry.path, error.faults[0].what))
    for entry in plan.links:
        if not stays_inside(entry):
            work.failed.append(Skipped(entry.path, f"a link that leads out of the folder, to {entry.points_at}"))
            continue
        try:
            _check_way(server, entry.path)
            writing.make_folder((server / entry.path).parent)
            writing.place_link(server / entry.path, entry.points_at, metadata.Metadata())
            rows.append(Known(entry))
        except (UnreadableInput, OSError) as error:
            work.failed.append(Skipped(entry.path, str(error)))
    return rows


def _remove(server: Path, plan: FetchPlan) -> list[str]:
    """Remove what is gone there; its paths."""
    gone = []
    for path in plan.remove:
        place = server / path
        if place.is_dir() and not place.is_symlink():
            if any(place.iterdir()):
                continue
            system.io.rmdir(place)
        else:
            system.io.unlink(place)
        gone.append(path)
    return gone


def snapshot_of(
    keep: Keep,
    pool: ConnectionPool,
    found: Look,
    now: datetime,
    *,
    note: str = "",
    only: tuple[str, ...] = (),
    pin: bool = False,
    progress: Progress = no_op,
) -> SnapshotResult:
    """A snapshot of the far side itself, or of what ``only`` selects of it, past the copy here."""
    about = About(
        "", now, ASKED, note, only, running="; ".join(found.signs), source=str(pool.settings.address), pinned=pin
    )
    if only:
        about = replace(about, roles=keep.config.roles, tiles=keep.config.world.tiles)
    with closing(store_of(keep)) as store:
        return writer.add(store, RemoteTree(pool.first, found.listing, wanted_of(keep, only)), about, progress=progress)
