"""Taking runs back: the snapshot before a run is put back over all that it may have changed.

Undoing needs the journal and that snapshot, and nothing else: a run of a kind that nobody knows any more can be taken
back like any other.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Interrupted, Refused, UsageError, first_of, system_may_refuse
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, fitness, registry, restore_plan
from emberkeep.operations.engine.step import FINISHES, Clock
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.facts import BEGUN, DONE, UNDO, UNDONE, Run, noted_at
from emberkeep.operations.record.journal import Journal
from emberkeep.process.signs import refuse_if_running
from emberkeep.store import writer
from emberkeep.store.manifest import BESIDE, About, beside
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree, snapshot_tree


@dataclass(frozen=True)
class Undoing:
    """What taking a run back will do. ``plan``: None where nothing stood there before it; ``databases``: those that
    are put back too, where they are not as they were."""

    run: Run
    plan: restore_plan.RestorePlan | None
    databases: tuple[str, ...] = ()


PARTLY = "'emberkeep undo --as-far-as-possible --go' puts back what it can, and lets other runs begin"


def to_undo(keep: Keep, store: Store, number: int | None, *, partly: bool = False) -> Undoing:
    """What taking a run back would do: the interrupted one, the last one, or run ``number``.

    Refused for an older run when something that it left was changed since, and names it. Damage when the snapshot
    before it cannot be read; with ``partly``, all then stays as it is.
    """
    journal = Journal(keep.folder)
    run = select_run(journal, number)
    last = journal.undoable()
    if not run.before:
        if run.state == BEGUN:
            return Undoing(run, None)
        raise Refused(
            f"nothing stood there before run {run.number}, so there is nothing to put back",
            hint="delete what it made by hand, if you do not want it",
        )
    if last is not None and run.number != last.number:
        _check_untouched(keep, journal, run)
        paths = journal.touched(run).keys()
        tree = snapshot_tree(store, run.before)
        return Undoing(run, restore_plan.plan(tree, keep.server, lambda path: path in paths))
    try:
        tree = snapshot_tree(store, run.before)
    except (Damage, UsageError) as error:
        if partly:
            return Undoing(run, None)
        lost = f"snapshot {run.before}, which taking back the {run.words} needs, cannot be read: {error}"
        raise Damage(lost, hint=PARTLY) from None
    return Undoing(run, undo_plan(keep, store, run, journal), tuple(databases_of(run, journal, tree)))


def databases_of(run: Run, journal: Journal, before: SnapshotTree) -> list[str]:
    """The databases that a run may have changed, of those that the snapshot before it holds: all of them, where a
    program or the server itself ran."""
    held = before.manifest.about.databases
    touched = journal.touched(run) if held else {}
    return [name for name in held if run.whole or beside(name) in touched]


def put_databases_back(keep: Keep, tree: SnapshotTree, names: Sequence[str], progress: Progress = no_op) -> None:
    """Put databases back as a snapshot has them."""
    if names:
        from emberkeep.operations.record import databases  # only where there are some

        databases.put_back_all(keep, tree, names, progress)


def select_run(journal: Journal, number: int | None) -> Run:
    """The run that 'undo' means: run ``number``, else the interrupted one or the last."""
    last = journal.undoable()
    if number is None:
        if last is None:
            raise UsageError("there is no run to take back")
        return last
    run = next((run for run in journal.runs() if run.number == number), None)
    if run is None:
        raise UsageError(f"there is no run {number}", hint="'emberkeep history' lists them")
    if run.state not in (BEGUN, DONE):
        raise Refused(f"run {number} ({run.words}) is {run.state} already", hint="'emberkeep history' lists the runs")
    if last is not None and last.state == BEGUN and run.number != last.number:
        raise Refused(f"run {last.number} ({last.words}) was interrupted and comes first", hint=FINISHES)
    return run


MOST_NAMED = 8


def _check_untouched(keep: Keep, journal: Journal, run: Run) -> None:
    live = FolderTree(keep.server)
    named = [path.removeprefix(BESIDE) for path in journal.touched(run) if path.startswith(BESIDE)]
    if named:
        raise Refused(
            f"run {run.number} ({run.words}) changed the database {named[0]}, and what came since then would be lost",
            hint=f"'emberkeep restore {run.before} --only databases/{named[0]}' puts it back all the same",
        )
    changed = [
        path
        for path, after in journal.touched(run).items()
        if path and not after.startswith("folder") and noted_at(live, path) != after
    ]
    if changed:
        raise Refused(
            f"run {run.number} ({run.words}) cannot be taken back: changed since then are "
            f"{first_of(sorted(changed), MOST_NAMED)}",
            hint=f"'emberkeep restore {run.before}' puts back what stood there before it, with what came since lost",
        )


def undo_plan(keep: Keep, store: Store, run: Run, journal: Journal) -> restore_plan.RestorePlan:
    """Putting back what stood there before a run, over all that it may have changed. After one that came to its end,
    files that nobody has written to since the last snapshot need no reading."""
    known = store if run.state == DONE else None
    return restore_plan.plan(snapshot_tree(store, run.before), keep.server, reach(keep, store, run, journal), known)


def reach(keep: Keep, store: Store, run: Run, journal: Journal) -> Callable[[str], bool]:
    """Which paths a run may have changed: of one of a kind that tells, what it tells; else what it noted."""
    if run.whole:
        return lambda path: True
    kind = registry.find(run.kind)
    if kind is not None and kind.reach is not None:
        return kind.reach(keep, store, kind.request_of(run))
    paths = {*journal.touched(run), *run.request.get("paths", ())}
    return lambda path: path in paths


def undo(
    keep: Keep, store: Store, found: Undoing, clock: Clock, progress: Progress = no_op, *, partly: bool = False
) -> About | None:
    """Take a run back. One that had come to its end is snapshotted first, so that this can be taken back too. Damage,
    and nothing touched, when not all can be put back; with ``partly`` what can be is first."""
    run, journal = found.run, Journal(keep.folder)
    if found.plan is None:
        journal.end(run, UNDONE, clock())
        return None
    tree = snapshot_tree(store, run.before)
    check(keep, found.plan, tree, PARTLY, partly=partly)
    before, plan = None, found.plan
    if run.state == DONE:
        note = f"before undoing run {run.number}"
        before = snapshot.take(
            keep, clock(), snapshot.SnapshotRequest(note=note, why=UNDO), store=store, progress=progress
        ).about
        plan = plan.sparing(restore_plan.Sparing([snapshot_tree(store, before.label)]))
        journal.change(replace(run, undoing=True))
        journal.end(run, BEGUN, clock())  # stopped from here on, it waits to be taken back wholly
    hint = "mend that, and 'emberkeep undo --go' again"
    try:
        with system_may_refuse(f"the {run.words} could not be taken back", keep.server, hint):
            faults = apply.apply(plan, tree, progress=progress)
            put_databases_back(keep, tree, found.databases, progress)
    except KeyboardInterrupt:
        raise Interrupted("taking the run back was interrupted", hint="'emberkeep undo --go' goes on with it") from None
    forget_recorded(store, journal, run)
    journal.end(run, UNDONE, clock())
    if faults:
        raise Damage.gathered(tuple(faults))
    return before


def check(
    keep: Keep,
    plan: restore_plan.RestorePlan,
    tree: SnapshotTree,
    hint: str = fitness.ELSEWHERE,
    *,
    partly: bool = False,
) -> None:
    """What must be so before a snapshot is put back in place; ``partly``: damage in it is none of it."""
    refuse_if_running(keep, "it would write over what is put back")
    fitness.check_names(plan, tree)
    fitness.check_room(plan)
    if not partly:
        fitness.check_whole(plan, tree, hint)


def forget_recorded(store: Store, journal: Journal, run: Run) -> None:
    """Defaults that a run recorded go with it."""
    for step in journal.steps(run).values():
        version = step.facts.get("recorded")
        if version in store.versions():
            writer.drop(store, str(version), defaults=True)
