"""Following a server from its start until it is ready, has failed, died, or nothing has moved for too long.

A start that is silent for hours may be converting the world. What tells that apart from a hang: the processor time
and the bytes on disk that the server's processes use, and files of the world that change.
"""

from __future__ import annotations

import contextlib
import os
import re
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path
from typing import IO

from emberkeep.fs import globs
from emberkeep.keep.tables.process import Service
from emberkeep.keep.tables.server import Log
from emberkeep.process.signs import alive, matching

TURN = 0.1
"""Seconds between two looks at the log."""
LOOKS = 2.0
"""Seconds between two looks at processes and files, at least."""
BUSY = 0.02
"""Share of one processor from which on a process counts as working."""
MOST_KEPT = 200
KNOWN_BY = 256
"""Bytes of a log's beginning, and of what was read last, by which it is known again."""
_LARGEST_LINE = 1 << 16


class State(StrEnum):
    """How a start went."""

    WAITING = "waiting"
    READY = "ready"
    DIED = "died"
    SILENT = "silent"
    LATE = "late"


@dataclass(frozen=True)
class Loaded:
    """An extension that the log tells was loaded; ``version`` "" where the line tells none."""

    name: str
    version: str


@dataclass(frozen=True)
class Activity:
    """What moved since the last look: share of one processor, bytes read and written, files of the world changed and
    by how many bytes they grew."""

    processor: float = 0.0
    disk: int = 0
    changed: int = 0
    grown: int = 0

    @property
    def works(self) -> bool:
        """Whether anything moved."""
        return self.processor > BUSY or self.disk > 0 or self.changed > 0


@dataclass(frozen=True)
class Watched:
    """What a watch has seen so far. ``waits_for``: which lines are still to come; ``seconds``: since the start;
    ``quiet``: seconds since the last line; ``still``: seconds since anything moved at all; ``converted``: whether
    the world's files changed before the server was ready."""

    state: State = State.WAITING
    version: str = ""
    ready: str = ""
    loaded: tuple[Loaded, ...] = ()
    failures: tuple[str, ...] = ()
    errors: tuple[str, ...] = ()
    last: str = ""
    waits_for: tuple[str, ...] = ()
    seconds: float = 0.0
    quiet: float = 0.0
    still: float = 0.0
    activity: Activity = Activity()
    converted: bool = False
    seed: str = ""

    @property
    def good(self) -> bool:
        """Ready, and nothing failed."""
        return self.state is State.READY and not self.failures and not self.errors


_Key = tuple[int, int]


@dataclass
class _Read:
    """How far a file was read. ``first``, ``last``: the bytes that it began with, and those before ``at``: a file in
    which others stand there was begun anew, however long it is; ``part``: a line that has no end yet."""

    at: int = 0
    first: bytes = b""
    last: bytes = b""
    changed: int = 0
    part: bytes = b""

    def goes_on(self, handle: IO[bytes], facts: os.stat_result) -> bool:
        """Whether a file is what it was, or more. One as long as before that was written to was begun anew, too."""
        if facts.st_size < self.at or (facts.st_size == self.at and facts.st_mtime_ns != self.changed):
            return False
        if handle.read(len(self.first)) != self.first:
            return False
        handle.seek(self.at - len(self.last))
        return handle.read(len(self.last)) == self.last

    def note(self, handle: IO[bytes], at: int) -> None:
        """Remember the file as it is up to ``at``."""
        handle.seek(0)
        self.at, self.first = at, handle.read(min(at, KNOWN_BY))
        self.changed = os.fstat(handle.fileno()).st_mtime_ns  # when what was just read was written, or later
        handle.seek(max(0, at - KNOWN_BY))
        self.last = handle.read(min(at, KNOWN_BY))


class Follower:
    """New lines of log files, whatever is done to them: written on, cut short, refilled in place, renamed, begun anew.

    ``behind``: only what is written from now on.
    """

    def __init__(self, root: Path, within: Sequence[str], *, behind: bool) -> None:
        self._root, self._within = root, within
        self._read: dict[_Key, _Read] = {}
        for path, facts in self._files() if behind else ():
            read = self._read[facts.st_dev, facts.st_ino] = _Read()
            with contextlib.suppress(OSError), path.open("rb") as handle:
                read.note(handle, facts.st_size)

    def _files(self) -> Iterator[tuple[Path, os.stat_result]]:
        for path in matching(self._root, self._within):
            try:
                yield path, path.stat()
            except OSError:
                continue  # renamed a moment ago: it is met again under its new name

    def lines(self) -> Iterator[str]:
        """Whole lines that have come since the last call, oldest file first."""
        for path, facts in sorted(self._files(), key=lambda item: item[1].st_mtime_ns):
            read = self._read.setdefault((facts.st_dev, facts.st_ino), _Read())
            if facts.st_size == read.at and facts.st_mtime_ns == read.changed:
                continue
            try:
                with path.open("rb") as handle:
                    if not read.goes_on(handle, facts):
                        read.at, read.part = 0, b""
                    handle.seek(read.at)
                    data = handle.read()
                    read.note(handle, read.at + len(data))
            except OSError:
                continue
            *whole, rest = (read.part + data).split(b"\n")
            read.part = rest[-_LARGEST_LINE:]
            for line in whole:
                yield line.decode("utf-8", "replace").rstrip("\r")


@dataclass
class Movement:
    """Looks at what the server's processes use and what changes below ``folders``."""

    server: Path
    folders: Sequence[str]
    pids: Callable[[], Sequence[int]]
    _used: dict[int, tuple[float, int]] = field(default_factory=dict)
    _files: dict[str, tuple[int, int]] | None = None
    _looked: float = 0.0
    _took: float = 0.0

    def due(self) -> bool:
        """Whether it is time for another look: looking itself must cost little."""
        return time.monotonic() - self._looked > max(LOOKS, 20 * self._took)

    def look(self) -> Activity:
        """What moved since the last look; nothing at the first."""
        began = time.monotonic()
        since, first = began - self._looked, self._looked == 0.0
        used = self._usage()
        processor = disk = 0.0
        for pid, (seconds, count) in used.items():
            before = self._used.get(pid, (seconds, count))
            processor += seconds - before[0]
            disk += count - before[1]
        changed, grown = self._world()
        self._used, self._looked = used, began
        self._took = time.monotonic() - began
        return Activity() if first else Activity(round(processor / since, 3), int(disk), changed, grown)

    def _usage(self) -> dict[int, tuple[float, int]]:
        import psutil

        found = {}
        for pid in self.pids():
            try:
                process = psutil.Process(pid)
                for one in (process, *process.children(recursive=True)):
                    times = one.cpu_times()
                    counters = one.io_counters() if hasattr(one, "io_counters") else None
                    disk = counters.read_bytes + counters.write_bytes if counters else 0
                    found[one.pid] = times.user + times.system, disk
            except psutil.Error:
                continue
        return found

    def _world(self) -> tuple[int, int]:
        now: dict[str, tuple[int, int]] = {}
        for folder in self.folders:
            for where, _, names in os.walk(self.server / folder):
                for name in names:
                    path = os.path.join(where, name)
                    try:
                        facts = os.lstat(path)
                    except OSError:
                        continue
                    now[path] = facts.st_mtime_ns, facts.st_size
        before, self._files = self._files, now
        if before is None:
            return 0, 0
        changed = sum(before.get(path) != facts for path, facts in now.items()) + len(before.keys() - now.keys())
        return changed, sum(size for _, size in now.values()) - sum(size for _, size in before.values())


def world_folders(table: Sequence[tuple[str, tuple[str, ...]]]) -> tuple[str, ...]:
    """The folders that hold the world, as the globs of its role begin."""
    found: list[str] = []
    for role, patterns in table:
        if role == "world":
            starts = (re.split(r"[*?\[]", pattern, maxsplit=1)[0].rpartition("/")[0] for pattern in patterns)
            found += [start for start in starts if start]
    return tuple(dict.fromkeys(found))


GONE = 2.0
"""Seconds without any process after which a start has died."""


@dataclass
class Watch:
    """A watch over one start. ``follower`` must have been made before the start; ``moved`` may be None."""

    log: Log
    service: Service
    follower: Follower
    pids: Callable[[], Sequence[int]]
    movement: Movement | None = None
    failed: Callable[[], bool] = lambda: False
    """Whether the command itself has ended with a code that tells a failure: then no other process is to come."""
    began: float = field(default_factory=time.monotonic)
    _watched: Watched = Watched()
    _line_at: float = 0.0
    _moved_at: float = 0.0
    _alive_at: float = 0.0
    _changed: bool = False

    def resume_from(self, watched: Watched) -> None:
        """Count what was seen of this start before the watch began."""
        self._watched = watched

    def run(self, on_watch: Callable[[Watched], None] = lambda _: None) -> Watched:
        """Follow until it is ready or cannot become so any more; ``on_watch`` hears what was seen so far."""
        self._line_at = self._moved_at = self._alive_at = time.monotonic()
        while True:
            watched = self.turn()
            on_watch(watched)
            if watched.state is not State.WAITING:
                return watched
            time.sleep(TURN)

    def turn(self) -> Watched:
        """One look at everything."""
        dead = self._is_dead()  # before the log is read: its last lines count
        for line in self.follower.lines():
            self._line(line)
        now = time.monotonic()
        if self.movement and self.movement.due():
            self._note(self.movement.look(), now)
        watched = replace(
            self._watched,
            waits_for=tuple(self._missing()),
            seconds=now - self.began,
            quiet=now - self._line_at,
            still=now - max(self._line_at, self._moved_at),
            converted=self._changed,
        )
        if not watched.waits_for:
            state = State.READY
        elif dead:
            state = State.DIED
        elif watched.seconds > self.service.limit.total_seconds():
            state = State.LATE
        elif watched.still > self.service.silent.total_seconds():
            state = State.SILENT
        else:
            state = State.WAITING
        self._watched = replace(watched, state=state)
        return self._watched

    def _is_dead(self) -> bool:
        """Whether nothing of it lives, and has not for a while: a script that puts its server into the background ends
        before that shows."""
        now = time.monotonic()
        if any(alive(pid) for pid in self.pids()):
            self._alive_at = now
            return False
        return self.failed() or now - self._alive_at > GONE

    def _note(self, activity: Activity, now: float) -> None:
        self._watched = replace(self._watched, activity=activity)
        if activity.works:
            self._moved_at = now
        self._changed = self._changed or activity.changed > 0

    def _missing(self) -> Iterator[str]:
        if self._patterns().get("version") and not self._watched.version:
            yield "version"
        if not self._watched.ready:
            yield "ready"

    def _patterns(self) -> Mapping[str, str]:
        ready = {"ready": self.service.ready} if self.service.ready else {}
        return {**self.log.patterns, **ready}

    def _line(self, line: str) -> None:
        self._line_at = time.monotonic()
        self._watched = read_line(replace(self._watched, last=line.strip()), line, self._patterns())


LOOKED_AT = 2000
"""Characters of a line that patterns are held against: some take time by the square of them, and a line may be made by
whoever says something to the other players."""


_COLOUR = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]")


def bare_line(line: str) -> str:
    """A line of a log as patterns are held against it: without what colours it on a terminal, and not too long."""
    return _COLOUR.sub("", line[: 2 * LOOKED_AT])[:LOOKED_AT]


def read_line(watched: Watched, line: str, patterns: Mapping[str, str]) -> Watched:
    """What is known after one more line of the log, which is held against every pattern: it may tell several things."""
    line = bare_line(line)
    found = {kind: re.search(pattern, line) for kind, pattern in patterns.items()}
    if version := found.get("version"):
        # A new version line is a new start; what came before it belongs to an earlier one.
        watched = Watched(version=version[1] if version.groups() else version[0], last=watched.last)
    if (seed := found.get("seed")) and not watched.seed:
        watched = replace(watched, seed=seed[1] if seed.groups() else seed[0])
    if found.get("failed"):
        watched = replace(watched, failures=(*watched.failures, line.strip())[-MOST_KEPT:])
    elif loaded := found.get("loaded"):
        named = loaded.groupdict()
        name = named.get("name") or (loaded[1] if loaded.groups() else loaded[0])
        watched = replace(watched, loaded=(*watched.loaded, Loaded(name, named.get("version") or "")))
    if found.get("error") and not found.get("failed"):
        watched = replace(watched, errors=(*watched.errors, line.strip())[-MOST_KEPT:])
    return replace(watched, ready=line.strip()) if found.get("ready") else watched


def last_start(root: Path, log: Log) -> Watched:
    """What the newest log tells of the last start in it, without following."""
    paths = matching(root, log.within)
    if not paths:
        return Watched()
    newest = max(paths, key=lambda path: path.stat().st_mtime_ns)
    only = globs.escape(newest.relative_to(root).as_posix())
    watched = Watched()
    for line in Follower(root, [only], behind=False).lines():
        watched = read_line(replace(watched, last=line.strip()), line, log.patterns)
    missing = [kind for kind, value in (("version", watched.version), ("ready", watched.ready)) if not value]
    return replace(watched, waits_for=tuple(missing), state=State.READY if watched.ready else State.WAITING)
