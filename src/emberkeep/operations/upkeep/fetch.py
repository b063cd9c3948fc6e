"""A far server folder brought here: what a fetch would do, and doing it. The copy is ours, the far side only read.

Every file comes whole or not at all: its bytes gather in the keep, are counted, synced and then moved in. A large one
that was broken off goes on where it stopped. What was changed here and not sent yet is never overwritten.
"""

from __future__ import annotations

import itertools
import os
import socket
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs import writing
from emberkeep.fs.trees import Entry, FolderTree, Kind, Skipped
from emberkeep.inventory.roles import selection
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import secret
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import ASKED, About
from emberkeep.store.store import Store, Taken
from emberkeep.transfer.pool import Line, Lines
from emberkeep.transfer.protocol import Denied, Door, FarEntry, Odd, Trust, Want, nobody
from emberkeep.transfer.state import FarState, Known
from emberkeep.transfer.walk import FarTree, Listing, now_there, walk

LARGE = 4 << 20
"""Files from this size on go on where they stopped."""
TRIES = 3
"""How often a file is fetched that has another size than its listing told."""
LEAST_ALIKE = 0.3
"""Least share of what is known that a far folder still holds, to be the same server."""
_BATCH, _BATCH_BYTES = 400, 64 << 20
"""Files that are put into their places together, and their bytes."""
_NEW = ".new"
"""How the names end under which small files gather."""
_Given = tuple[Path, int, Iterator[bytes]]


def door_of(keep: Keep, environment: Mapping[str, str], trust: Trust = nobody) -> Door:
    """The way to the keep's far server folder. Refused where its folder is none, or the secret is not to be had."""
    far = keep.config.far
    if far.address is None:
        raise Refused(
            f"the server folder {keep.config.folder} is not far away",
            place=Place(str(keep.folder / "keep.toml")),
            hint='an address is, as folder = "sftp://USER@HOST/FOLDER" under [server]',
        )
    word = secret(far.secret_env, far.secret_file, environment, "the far host's secret")
    return Door(far, word, str(keep.folder / "known_hosts"), trust)


# --- is anybody writing there ----------------------------------------------------


@dataclass(frozen=True)
class Look:
    """What was seen of a far folder. ``signs``: what speaks for a server that runs there."""

    listing: Listing
    signs: tuple[str, ...]


def look(keep: Keep, lines: Lines, *, twice: bool = True, wait: Callable[[float], None] = time.sleep) -> Look:
    """List the far folder, and see whether the server runs there: by its console, where it has one, else (``twice``)
    by what changes between two looks."""
    console = keep.config.running.console
    listing = walk(lines)
    if console is not None and console.kind in ("line", "packet"):
        host, _, port = console.address.rpartition(":")
        answers = _answers(host, int(port))
        return Look(listing, (f"its console answers at {console.address}",) if answers else ())
    if not twice:
        return Look(listing, ())
    wait(keep.config.far.still.total_seconds())
    again = walk(lines)
    changed = [
        path
        for path in sorted({*listing.entries, *again.entries})
        if (one := listing.entries.get(path)) is None
        or (other := again.entries.get(path)) is None
        or (one.kind is Kind.FILE and not one.same_as(other))
    ]
    return Look(again, tuple(f"{path} changed between two looks" for path in changed))


def _answers(host: str, port: int) -> bool:
    with suppress(OSError), socket.create_connection((host, port), timeout=3):
        return True
    return False


def refuse_if_written_to(found: Look, address: object) -> None:
    """Refused where the server seems to run there."""
    if found.signs:
        more = f", and {len(found.signs) - 1} more" if len(found.signs) > 1 else ""
        raise Refused(
            f"the far server is running ({found.signs[0]}{more}); a copy taken now would be torn",
            place=Place(str(address)),
            hint="stop it and try again, or say --while-running",
        )


# --- what a fetch would do -------------------------------------------------------


@dataclass(frozen=True)
class FetchPlan:
    """What a fetch will do. ``get``: files to fetch; ``folders`` and ``links`` to make; ``remove``: what is there no
    more; ``unsent``: paths changed here and not sent yet, which stay; ``clashes``: those that changed on both sides."""

    get: tuple[FarEntry, ...]
    folders: tuple[FarEntry, ...]
    links: tuple[FarEntry, ...]
    remove: tuple[str, ...]
    unsent: tuple[str, ...]
    clashes: tuple[str, ...]
    odd: tuple[Odd, ...]
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
    get: list[FarEntry] = field(default_factory=list)
    folders: list[FarEntry] = field(default_factory=list)
    links: list[FarEntry] = field(default_factory=list)
    remove: list[str] = field(default_factory=list)
    unsent: list[str] = field(default_factory=list)
    clashes: list[str] = field(default_factory=list)
    forgotten: list[str] = field(default_factory=list)
    met: list[Known] = field(default_factory=list)
    kept: list[Known] = field(default_factory=list)

    def stands_there(self, path: str, entry: FarEntry) -> None:
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

    def _met(self, entry: FarEntry, now: Entry) -> bool:
        """Whether a file is here already: a fetch that was killed had no time to note it."""
        here = FarEntry(entry.path, now.kind, now.size, now.mtime_ns)
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
        named = ", ".join(plan.clashes[:5]) + (f" and {len(plan.clashes) - 5} more" if len(plan.clashes) > 5 else "")
        raise Refused(
            f"changed both here and there since the last fetch: {named}",
            hint="'mirror fetch --theirs' takes a snapshot of yours first and fetches theirs; '--mine' keeps yours, "
            "to be sent over theirs",
        )


# --- doing it --------------------------------------------------------------------


@dataclass(frozen=True)
class Fetched:
    """What came of a fetch. ``failed``: files that could not be had, or would not settle, and why."""

    files: int
    bytes: int
    removed: int
    failed: tuple[Skipped, ...]


@dataclass(frozen=True)
class Standing:
    """How the copy stands to the far side, as far as is known without asking it. ``fetched``: when it was last fetched;
    ``unsent``: paths changed here since."""

    address: str
    fetched: datetime | None
    unsent: tuple[str, ...]


def standing(keep: Keep) -> Standing | None:
    """How the copy stands; None where the server folder is none."""
    if keep.config.far.address is None:
        return None
    state = FarState(keep.folder)
    known = state.known()
    local = Local(keep.server, known)
    changed = (path for path in sorted({*known, *local.entries}) if local.changed(path))
    folders = {path for path, entry in local.entries.items() if entry.kind is Kind.FOLDER}
    return Standing(str(keep.config.far.address), state.fetched, tuple(path for path in changed if path not in folders))


class _Whole(NamedTuple):
    """A file whose bytes are all here, and not in its place yet. ``entry``: with its size as it came."""

    part: Path
    entry: FarEntry
    digest: str


@dataclass
class _Fetch:
    keep: Keep
    lines: Lines
    state: FarState
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

    def all(self, entries: Sequence[FarEntry]) -> None:
        """Fetch files. What is here when that is broken off is put into its place all the same."""
        writing.make_folder(self.state.parts, private=True)
        self._sweep()  # after a fetch that was killed
        try:
            if entries and self.lines.reads_many():
                at_once = max(1, self.lines.door.far.connections // 2)  # each takes a second one for the bytes
                self.lines.each(list(_grouped(entries)), self._in_turn, most=at_once)
            else:
                self.lines.each(entries, self.each)
        finally:
            with self._settler:
                self._settle_full(least=0)
            if self._settling is not None:
                self._settling.result()
        self._sweep()

    def _sweep(self) -> None:
        for left in self.state.parts.glob(f"*{_NEW}"):
            writing.io.unlink(left)

    def _in_turn(self, line: Line, entries: Sequence[FarEntry]) -> None:
        parts = [self._part(entry) for entry in entries]
        wants = [Want(entry.path, start, entry.size) for entry, (_, start) in zip(entries, parts, strict=True)]
        for number, chunks in line.many(wants, "cannot fetch"):
            self.each(line, entries[number], (*parts[number], chunks))

    def each(self, line: Line, entry: FarEntry, given: _Given | None = None) -> None:
        """Fetch one file. ``given``: where its bytes gather, how many of them are there, and the rest as it comes."""
        try:
            for _ in range(TRIES):
                found = self._bring(line, entry, given)
                if isinstance(found, _Whole):
                    break
                entry, given = found, None
            else:
                raise UnreadableInput(f"it goes on changing, or the host tells another size ({entry.size}) than it has")
        except Denied as error:
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

    def _part(self, entry: FarEntry) -> tuple[Path, int]:
        """Where a file's bytes gather, and how many are there from an earlier try."""
        if entry.size >= LARGE:
            return self.state.part(entry)
        return self.state.parts / f"{next(self._numbers)}{_NEW}", 0

    def _bring(self, line: Line, entry: FarEntry, given: _Given | None) -> _Whole | FarEntry:
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
                writing.io.write(handle, chunk)
                hasher.update(chunk)
                size += len(chunk)
                self._told(len(chunk))
        fresh = now_there_of(line, entry.path) if size != entry.size else entry
        if fresh is None or fresh.size not in (size, -1):
            writing.io.unlink(part)
            self._told(start - size)
            if fresh is None:
                raise UnreadableInput("it was taken away meanwhile")
            return fresh
        return _Whole(part, fresh._replace(size=size), hasher.hexdigest())

    def _check_way(self, path: str) -> None:
        folder = path.rpartition("/")[0]
        if folder not in self._ways:
            _check_way(self.keep.server, path)
            self._ways.add(folder)

    def _told(self, count: int) -> None:
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
            writing.persist_metadata(one.part, _facts(one.entry))
        with writing.durable():
            known = self._moved_in(rows)
        self.state.put(known)
        for one in rows:
            if one.entry.size >= LARGE:
                self.state.whole(one.entry.path)
        with self._guard:
            self.fetched += len(known)


def _grouped(entries: Sequence[FarEntry]) -> Iterator[list[FarEntry]]:
    """Files in groups that one connection fetches."""
    group: list[FarEntry] = []
    size = 0
    for entry in entries:
        group.append(entry)
        size += max(0, entry.size)
        if len(group) >= _BATCH or size >= _BATCH_BYTES:
            yield group
            group, size = [], 0
    if group:
        yield group


def now_there_of(line: Line, path: str) -> FarEntry | None:
    """What a fresh listing tells of one path."""
    return line.do(lambda host: now_there(host, path), f"cannot list {path}")


def _facts(entry: FarEntry) -> writing.Facts:
    mode = None if entry.mode is None else entry.mode & 0o777 | 0o600
    return writing.Facts(0o644 if mode is None else mode, entry.mtime_ns)


def _check_way(top: Path, path: str) -> None:
    """UnreadableInput where a link, or a file, stands where a folder on the way to a path belongs."""
    place = top
    for part in path.split("/")[:-1]:
        place /= part
        if place.is_symlink() or (place.exists() and not place.is_dir()):
            raise UnreadableInput(f"{place} stands here where a folder belongs")


def fetch(keep: Keep, lines: Lines, plan: FetchPlan, progress: Progress = silent) -> Fetched:
    """Carry a plan out. What was fetched until it is broken off stays, and the next fetch goes on from it.

    UnreadableInput when the host cannot be reached any more.
    """
    writing.make_folder(keep.server)
    with writing.anchored(keep.server):
        return _fetched(keep, lines, plan, progress)


def _fetched(keep: Keep, lines: Lines, plan: FetchPlan, progress: Progress) -> Fetched:
    server, state = keep.server, FarState(keep.folder)
    state.speaks_of(str(lines.door.address))
    with writing.durable():
        removed = _remove(server, plan)
    state.forget(removed)
    state.forget(plan.forgotten)
    state.put((*plan.met, *plan.kept))
    work = _Fetch(keep, lines, state, progress, plan.bytes)
    with writing.durable():
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
        if not _stays_inside(entry):
            work.failed.append(Skipped(entry.path, f"a link that leads out of the folder, to {entry.points_at}"))
            continue
        try:
            _check_way(server, entry.path)
            writing.make_folder((server / entry.path).parent)
            writing.place_link(server / entry.path, entry.points_at, writing.Facts())
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
            writing.io.rmdir(place)
        else:
            writing.io.unlink(place)
        gone.append(path)
    return gone


def _stays_inside(entry: FarEntry) -> bool:
    target = entry.points_at
    if not target or target.startswith("/") or "\\" in target or "\0" in target:
        return False
    landed = os.path.normpath(f"{entry.path}/../{target}")
    return not landed.startswith("..")


def wanted_of(keep: Keep, only: tuple[str, ...]) -> Callable[[str], bool]:
    """Which paths ``--only`` means."""
    return selection(only, keep.config.roles, keep.config.world.tiles) if only else lambda path: True


def snapshot_of(
    keep: Keep,
    lines: Lines,
    found: Look,
    now: datetime,
    *,
    note: str = "",
    only: tuple[str, ...] = (),
    pin: bool = False,
    progress: Progress = silent,
) -> Taken:
    """A snapshot of the far side itself, or of what ``only`` selects of it, past the copy here."""
    about = About(
        "", now, ASKED, note, only, running="; ".join(found.signs), source=str(lines.door.address), pinned=pin
    )
    if only:
        about = replace(about, roles=keep.config.roles, tiles=keep.config.world.tiles)
    with closing(Store(keep.store_folder)) as store:
        return store.add(FarTree(lines.first, found.listing, wanted_of(keep, only)), about, progress=progress)
