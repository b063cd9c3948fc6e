"""Runs that put a snapshot back over the server folder: restore in place, and resuming and undoing a run.

Each takes a snapshot of the whole folder first and puts its intent into the journal. Stopped anywhere, ``resume``
works out anew what still differs and goes on; ``undo`` puts that first snapshot back over the same part.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime

from emberkeep.errors import Damage, Interrupted, Place, Refused, RunFailed, UsageError, system_may_refuse
from emberkeep.keep import Keep
from emberkeep.runs import restore, snapshot
from emberkeep.runs.journal import BEGUN, DONE, MERGE, RESTORE, TAKEN_BACK, UNDO, UNDONE, Journal, Run
from emberkeep.runs.restore import RestorePlan
from emberkeep.servers.process import refuse_if_running
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import About
from emberkeep.store.store import SnapshotTree, Store

Clock = Callable[[], datetime]


@dataclass(frozen=True)
class Recovery:
    """A restore in place, planned or done. ``run``: None while it is only planned; ``before``: the snapshot taken
    first."""

    plan: RestorePlan
    tree: SnapshotTree
    run: Run | None = None
    before: About | None = None


def planned(keep: Keep, store: Store, tree: SnapshotTree, only: tuple[str, ...], *, rehash: bool = False) -> Recovery:
    """What putting ``tree`` back, or what ``only`` selects of it, would do."""
    wanted = restore.scope_of(tree.manifest, only, keep.config)
    return Recovery(restore.plan(tree, keep.server, wanted, None if rehash else store), tree)


def put_back(
    keep: Keep, store: Store, found: Recovery, only: tuple[str, ...], clock: Clock, progress: Progress
) -> Recovery:
    """Carry a planned restore out as a run. Refused while the server runs or another run waits.

    RunFailed when the system refuses: all is then put back as it was, as far as it lets us. Interrupted when
    somebody stops it.
    """
    journal = Journal(keep.folder)
    journal.refuse_if_waiting()
    _check(keep, found)
    label = found.tree.manifest.about.label
    before = None
    if keep.server.is_dir():
        before = snapshot.take(
            keep, clock(), note=f"before restoring {label}", why=RESTORE, store=store, progress=progress
        ).about
    run = journal.begin(Run(0, RESTORE, clock(), before.label if before else "", label, only))
    _carry_out(keep, store, journal, run, found, clock, progress)
    return replace(found, run=run, before=before)


def _check(keep: Keep, found: Recovery) -> None:
    refuse_if_running(keep.server, "it would write over what is put back")
    restore.check_names(found.plan, found.tree)
    restore.check_room(found.plan)
    restore.check_whole(found.plan, found.tree)


def _carry_out(
    keep: Keep, store: Store, journal: Journal, run: Run, found: Recovery, clock: Clock, progress: Progress
) -> None:
    try:
        faults = restore.apply(found.plan, found.tree, progress=progress)
    except OSError as error:
        back = _taken_back(keep, store, run)
        if back:
            journal.end(run, TAKEN_BACK, clock())
        raise RunFailed(
            f"the {run.words} stopped: {error.strerror or error}; "
            + ("all was put back as it was" if back else "not all could be put back"),
            place=Place(str(error.filename or keep.server)),
            hint="mend that and restore again" if back else "mend that; then 'emberkeep resume --go' or 'undo --go'",
        ) from error
    except KeyboardInterrupt:
        raise Interrupted(
            f"the {run.words} was interrupted half-way",
            hint="'emberkeep resume --go' finishes it, 'emberkeep undo --go' takes it back",
        ) from None
    journal.end(run, DONE, clock())
    if faults:
        raise Damage.gathered(tuple(faults))


def _taken_back(keep: Keep, store: Store, run: Run) -> bool:
    """Put back what stood there before a run that failed; False when that fails too."""
    if not run.before:
        return False
    try:
        found = _undoing(keep, store, run)
        return not restore.apply(found.plan, found.tree)
    except (OSError, Damage):
        return False


def waiting(keep: Keep) -> Run:
    """The interrupted run; UsageError when there is none."""
    run = Journal(keep.folder).waiting()
    if run is None:
        raise UsageError("no run was interrupted; there is nothing to resume")
    return run


def to_resume(keep: Keep, store: Store, run: Run) -> Recovery:
    """What is left to do of an interrupted run. Refused for a merge, which can only be taken back."""
    if run.kind == MERGE:
        raise Refused(
            "a merge that was interrupted cannot go on", hint="'emberkeep undo --go' takes it back; then merge again"
        )
    tree = _tree(store, run.target)
    return replace(planned(keep, store, tree, run.only, rehash=True), run=run)


def resume(keep: Keep, store: Store, found: Recovery, clock: Clock, progress: Progress = silent) -> None:
    """Finish an interrupted run."""
    assert found.run is not None
    _check(keep, found)
    _carry_out(keep, store, Journal(keep.folder), found.run, found, clock, progress)


def to_undo(keep: Keep, store: Store, number: int | None) -> Recovery:
    """What taking a run back would do: the interrupted one, the last one, or run ``number``, which must be one of
    these."""
    run = Journal(keep.folder).undoable()
    if run is None:
        raise UsageError("there is no run to take back")
    if number is not None and run.number != number:
        raise Refused(
            f"only run {run.number} ({run.words}) can be taken back now",
            hint=f"what stood there before run {number} is in its snapshot; see 'emberkeep history'",
        )
    if not run.before:
        raise Refused(f"nothing stood there before run {run.number}, so there is nothing to put back")
    return replace(_undoing(keep, store, run), run=run)


def _undoing(keep: Keep, store: Store, run: Run) -> Recovery:
    tree = _tree(store, run.before)
    if run.kind == MERGE:
        paths = set(run.paths)
        return Recovery(restore.plan(tree, keep.server, lambda path: path in paths), tree)
    wanted = restore.scope_of(_tree(store, run.target).manifest, run.only, keep.config)
    return Recovery(restore.plan(tree, keep.server, wanted), tree)


def undo(keep: Keep, store: Store, found: Recovery, clock: Clock, progress: Progress = silent) -> About | None:
    """Take a run back. One that had come to its end is snapshotted first, so that this can be taken back too."""
    assert found.run is not None
    _check(keep, found)
    journal = Journal(keep.folder)
    interrupted = found.run.state != DONE
    before = None
    if not interrupted:
        note = f"before undoing run {found.run.number}"
        before = snapshot.take(keep, clock(), note=note, why=UNDO, store=store, progress=progress).about
        journal.end(found.run, BEGUN, clock())  # stopped from here on, it waits to be resumed or undone
    hint = "mend that, and 'emberkeep undo --go' again"
    try:
        with system_may_refuse(f"the {found.run.words} could not be taken back", keep.server, hint):
            faults = restore.apply(found.plan, found.tree, progress=progress)
    except KeyboardInterrupt:
        raise Interrupted("taking the run back was interrupted", hint="'emberkeep undo --go' goes on with it") from None
    journal.end(found.run, UNDONE, clock())
    if faults:
        raise Damage.gathered(tuple(faults))
    return before


def _tree(store: Store, label: str) -> SnapshotTree:
    return SnapshotTree(store, store.manifest(label), f"snapshot {label}")
