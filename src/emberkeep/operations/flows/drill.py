"""A drill: a snapshot given back elsewhere, its server really started there, and every landmark looked for.

A backup that was never tried is none. The copy is made by the means of a rehearsal: it takes other ports, names itself
where it named the live folder, and is given no console of the live server. It is ended and removed afterwards.
"""

from __future__ import annotations

import random
import shutil
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from emberkeep.callbacks import Progress, no_op
from emberkeep.documents import edit
from emberkeep.errors import EmberKeepError, Place, Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import fitness
from emberkeep.operations.flows import rehearsal
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.drills import DrillRecord, Drills
from emberkeep.process import lifecycle
from emberkeep.process.lifecycle import Hear
from emberkeep.process.signs import signs
from emberkeep.process.watch import State, Watched
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.survey import landmarks
from emberkeep.survey.landmarks import Missed

FOLDER = "drill"
"""What the folder of drills is called, when nobody says otherwise."""
Clock = Callable[[], datetime]


@dataclass(frozen=True)
class Request:
    """Which snapshot is tried. ``into``: the folder that the copy is made in; ``leave``: whether it stays."""

    about: About
    into: Path
    leave: bool = False


@dataclass(frozen=True)
class Drill:
    """What came of one. ``given_back``, ``started``: seconds; ``measured``: what was looked for, in words; ``missed``:
    landmarks that did not hold; ``seen``: the start, None where it could not be tried; ``wrong``: what went wrong
    besides, in words."""

    snapshot: str
    taken: datetime
    given_back: float
    started: float
    measured: str
    missed: tuple[Missed, ...]
    seen: Watched | None
    wrong: str = ""

    @property
    def proven(self) -> bool:
        """Whether the server became ready on it and every landmark held."""
        return self.seen is not None and self.seen.state is State.READY and not self.missed and not self.wrong

    @property
    def complaints(self) -> tuple[str, ...]:
        """What its log told that wants the admin's eye."""
        return (*self.seen.failures, *self.seen.errors) if self.seen else ()

    @property
    def words(self) -> str:
        """How it went, in a few words."""
        if self.proven:
            return f"ready after {self.started:.0f} s, {self.measured}"
        if self.wrong:
            return self.wrong
        assert self.seen is not None
        if self.missed:
            return f"{len(self.missed)} landmarks are missed: {'; '.join(item.words for item in self.missed[:3])}"
        return f"the server was {self.seen.state}"


def chosen(store: Store, keep: Keep, ref: str, now: datetime, *, by_chance: bool = False) -> About:
    """The snapshot that is tried: the one that is meant, the newest, or one drawn by chance. Refused where there is
    none of the whole folder."""
    if ref:
        about = snapshot.meant(store, keep, ref, now)
        if about.scope:
            raise Refused(
                f"snapshot {about.label} holds only {', '.join(about.scope)}: no server starts on that",
                hint="name a snapshot of the whole folder",
            )
        return about
    whole = [about for about in snapshot.snapshots(store)[0] if not about.scope and not about.unsettled]
    if not whole:
        raise Refused("there is no snapshot of the whole folder to try", hint="emberkeep snapshot")
    return random.SystemRandom().choice(whole) if by_chance else whole[-1]


def request_of(keep: Keep, about: About, into: Path | None, *, leave: bool = False) -> Request:
    """What is asked for. Refused where the copy of an earlier drill is still at work."""
    place = into or _own_place(keep)
    if into is None and place.exists():
        _remove_left(place)
    return Request(about, place, leave)


def _own_place(keep: Keep) -> Path:
    """Where drills are made: in the keep, or beside the server folder where its user may not enter the keep."""
    within = keep.folder / FOLDER
    try:
        lifecycle.require_entry(keep.config, within)
    except Refused:
        return keep.server.with_name(f"{keep.server.name}.{FOLDER}")
    return within


def _remove_left(place: Path) -> None:
    """Remove what a drill left that was broken off."""
    for server in [path for path in place.iterdir() if path.is_dir() and not path.name.endswith(".keep")]:
        sign = next(signs(server, None), None)
        if sign is not None:
            what = f"the server of an earlier drill still runs ({sign.words})"
            raise Refused(what, place=Place(str(server)), hint="end it first")
    shutil.rmtree(place)


def drill(
    keep: Keep,
    store: Store,
    request: Request,
    clock: Clock,
    environment: Mapping[str, str],
    hear: Hear | None = None,
    progress: Progress = no_op,
) -> Drill:
    """Try a snapshot, and note in the journal how it went. Refused, and UsageError, where it cannot be tried at all."""
    lifecycle.how_to_start(keep.config)
    fitness.check_target(request.into, keep.server)  # what stands there already is not ours to remove
    began = clock()
    tree = snapshot.find(store, keep, request.about.label, began)
    try:
        found = _tried(keep, store, request, tree, environment, hear or Hear(), progress)
    finally:
        if not request.leave:
            shutil.rmtree(request.into, ignore_errors=True)
    record = DrillRecord(began, found.snapshot, found.taken, found.proven, found.started, found.words)
    Drills(keep.folder).add(record)
    return found


def _tried(
    keep: Keep,
    store: Store,
    request: Request,
    tree: SnapshotTree,
    environment: Mapping[str, str],
    hear: Hear,
    progress: Progress,
) -> Drill:
    began = time.monotonic()
    copy = rehearsal.prepare(keep, store, request.into, progress, source=tree)
    rehearsal.rehouse(keep, copy)
    for path, key, value in copy.config.updating.set_for_rehearsal:
        place = copy.server / path
        if place.is_file():
            place.write_bytes(edit.set_value(path, place.read_bytes(), key, value))
    before = landmarks.measure(tree, keep.config)
    about = request.about
    found = Drill(about.label, about.taken, time.monotonic() - began, 0.0, before.words, (), None)
    pids: list[int] = []
    begun = time.monotonic()
    try:
        watched = _started(copy, environment, hear, pids)
        missed = landmarks.compare(before, landmarks.measure(FolderTree(copy.server), copy.config))
        return replace(found, seen=watched, started=time.monotonic() - begun, missed=missed)
    except EmberKeepError as error:
        return replace(found, started=time.monotonic() - begun, wrong="; ".join(map(str, error.faults[:3])))
    finally:
        _end(copy, environment, pids)


def _started(copy: Keep, environment: Mapping[str, str], hear: Hear, pids: list[int]) -> Watched:
    def launched(pid: int) -> None:
        pids.append(pid)
        hear.launched(pid)

    return lifecycle.start(copy, environment, copy.output, Hear(launched, hear.on_watch))[-1].watched


def _end(copy: Keep, environment: Mapping[str, str], pids: list[int]) -> None:
    """End the copy's server, whatever it takes: nothing of it is needed any more."""
    try:
        if lifecycle.is_running(copy):
            lifecycle.stop(copy, environment)
    except EmberKeepError:
        lifecycle.end(copy, [*pids, *(sign.pid for sign in signs(copy.server, copy.config) if sign.pid)])
