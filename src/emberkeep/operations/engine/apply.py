"""Putting back: a folder made to be what a snapshot says, wholly or in part, writing only what differs."""

from __future__ import annotations

import contextlib
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from threading import Event, Lock

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Fault
from emberkeep.fs import metadata, system, writing
from emberkeep.fs.trees import FILE, FOLDER, LINK, Entry, deepest_first, parents
from emberkeep.operations.engine.restore_plan import RestorePlan, Source


def apply(plan: RestorePlan, snapshot: Source, *, fresh: bool = False, progress: Progress = no_op) -> list[Fault]:
    """Carry a plan out. Files that the store cannot give back whole are left out and returned as faults.

    ``fresh``: the target is a new folder that nothing leans on yet, so what is written is not synced.
    OSError when the system refuses; what was done until then stays, and the same restore goes on from it.
    """
    writing.make_folder(plan.target)
    with system.fleeting() if fresh else system.durable(), system.anchored(plan.target):
        return _applied(plan, snapshot, fresh, progress)


def elsewhere(plan: RestorePlan, snapshot: Source, progress: Progress = no_op) -> list[Fault]:
    """Carry a plan out in a folder that is new or empty, as :func:`apply` does; all of it is synced at the end. What
    stops it half-way leaves nothing of it, as far as the system lets it be removed."""
    with or_nothing(plan.target, [entry.path for entry in plan.write], [entry.path for entry in plan.make]):
        with system.durable():
            faults = apply(plan, snapshot, fresh=True, progress=progress)
            writing.persist(plan.target, (entry.path for entry in plan.write if entry.kind is FILE))
        return faults


@contextlib.contextmanager
def or_nothing(target: Path, files: Iterable[str], folders: Iterable[str] = ()) -> Iterator[None]:
    """A block that makes files and folders in a folder that is new or empty. Where it does not end well, they are
    removed again, and the folder with them where it was not there."""
    new = [folder for folder in (target, *target.parents) if not folder.is_dir()]
    try:
        yield
    except BaseException:
        files = list(files)
        inside = {parent for path in (*files, *folders) for parent in (path, *parents(path))} - set(files)
        if target.is_dir():
            with contextlib.suppress(OSError), system.anchored(target):
                for path in files:
                    _gone(system.io.unlink, target / path)
                for path in sorted(inside, key=lambda path: path.count("/"), reverse=True):
                    _gone(system.io.rmdir, target / path)
        for folder in new:
            _gone(system.io.rmdir, folder)
        raise


def _gone(remove: Callable[[Path], object], path: Path) -> None:
    with contextlib.suppress(OSError):
        remove(path)


def _applied(plan: RestorePlan, snapshot: Source, fresh: bool, progress: Progress) -> list[Fault]:
    faults: list[Fault] = []
    for leftover in plan.leftovers:
        system.io.unlink(plan.target / leftover)
    _remove(plan.target, plan.replace)
    for entry in plan.make:
        writing.make_folder(plan.target / entry.path)
    _write(plan, snapshot, faults, fresh, progress)
    _remove(plan.target, plan.remove)
    _touch(plan)
    return faults


def _remove(target: Path, entries: Sequence[Entry]) -> None:
    for entry in entries:
        path = target / entry.path
        if entry.kind is FOLDER:
            if any(path.iterdir()):
                continue  # it holds what no tree shows: sockets, devices
            system.io.rmdir(path)
        else:
            system.io.unlink(path)


def _facts(entry: Entry) -> metadata.Metadata:
    return metadata.Metadata(entry.mode, entry.mtime_ns, entry.owner, entry.group)


def _write(plan: RestorePlan, snapshot: Source, faults: list[Fault], fresh: bool, progress: Progress) -> None:
    stage = writing.Stage()
    done, total, guard = 0, plan.bytes, Lock()
    start = f"{plan.target}{os.sep}"

    def put(entry: Entry) -> None:
        nonlocal done
        try:
            if fresh:
                writing.write_new(start + entry.path, snapshot.pieces(entry.path), _facts(entry))
            else:
                stage.put(plan.target / entry.path, snapshot.pieces(entry.path), _facts(entry))
        except Damage as error:
            faults.extend(error.faults)
        with guard:
            done += entry.size
            progress(done, total)

    contents = [entry for entry in plan.write if entry.kind is FILE and not entry.same_as]
    try:
        for batch in [contents] if fresh else grouped(contents, BATCH):
            in_lanes(batch, put, snapshot.lanes)
            stage.commit()
    except BaseException:
        stage.abandon()
        raise
    for entry in plan.write:
        path = plan.target / entry.path
        if entry.kind is LINK:
            writing.make_folder(path.parent)
            writing.place_link(path, entry.points_at, _facts(entry))
        elif entry.same_as and (plan.target / entry.same_as).exists():
            writing.hard_link(path, plan.target / entry.same_as)


def grouped(entries: Iterable[Entry], size: int) -> Iterator[list[Entry]]:
    """Entries in their order, together about ``size`` bytes each time."""
    group: list[Entry] = []
    waiting = 0
    for entry in entries:
        group.append(entry)
        waiting += entry.size + _EACH
        if waiting > size:
            yield group
            group, waiting = [], 0
    if group:
        yield group


def in_lanes(entries: Sequence[Entry], act: Callable[[Entry], None], lanes: int) -> None:
    """``act`` on every entry: one after the other, or, where there is much to do and the source can, in two threads,
    one from the large files on and one from the small ones, which keep the disk and the processor busy by turns.

    What ``act`` raises stops both.
    """
    if lanes < 2 or sum(entry.size + _EACH for entry in entries) < WORTH_LANES:
        for entry in entries:
            act(entry)
        return
    from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait

    sizes = sorted(entries, key=lambda entry: entry.size < _LARGE)  # within these, neighbours share blocks
    waiting = deque(grouped(sizes, LANE))
    stopped = Event()

    def lane(take: Callable[[], list[Entry]]) -> None:
        while not stopped.is_set():
            try:
                group = take()
            except IndexError:
                return
            for entry in group:
                if stopped.is_set():
                    return
                act(entry)

    with ThreadPoolExecutor(2, "lane") as pool:
        try:
            both = [pool.submit(lane, waiting.popleft), pool.submit(lane, waiting.pop)]
            wait(both, return_when=FIRST_EXCEPTION)
        finally:
            stopped.set()
    for one in both:
        one.result()


BATCH = 64 << 20
"""Bytes that are written beside their targets before they are synced and renamed together."""
_EACH = 128 << 10
"""What a file counts towards a batch beside its bytes."""
WORTH_LANES = 32 << 20
"""Bytes (and files, by what each counts) from which on two threads write."""
LANE = 8 << 20
_LARGE = 256 << 10


def _touch(plan: RestorePlan) -> None:
    """Modes and times, the folders' last: writing into a folder changes its time."""
    for entry in plan.touch:
        if entry.kind is FILE:
            metadata.persist_metadata(plan.target / entry.path, _facts(entry))
    for entry in deepest_first(plan.folders):
        metadata.set_folder_metadata(plan.target / entry.path, _facts(entry))
    if plan.top is not None:
        metadata.set_folder_metadata(plan.target, _facts(plan.top))
