"""Putting a snapshot back over the server folder as a run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

from emberkeep.callbacks import Progress
from emberkeep.databases.access import meant
from emberkeep.errors import Damage, Refused, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Change, What
from emberkeep.inventory.roles import require_some
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, restore_plan, runner, undo
from emberkeep.operations.engine.kind import RunKind, Saves
from emberkeep.operations.engine.restore_plan import RestorePlan
from emberkeep.operations.engine.step import Clock, Plan, RunContext, Step
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.store.manifest import About, beside
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree, snapshot_tree

if TYPE_CHECKING:
    from emberkeep.operations.record.databases import DatabasePlan


@dataclass(frozen=True)
class Request:
    """Which snapshot is put back, by its number; ``only``: selectors of what of it; ``databases``: those that are put
    back too. ``scope``, ``roles``, ``tiles`` and ``taken``: what the snapshot was limited to and how that is read, and
    when it was taken, so that undoing does not need it; ``scope`` is None in a journal of before they were noted."""

    target: str
    only: tuple[str, ...] = ()
    databases: tuple[str, ...] = ()
    scope: tuple[str, ...] | None = None
    roles: tuple[tuple[str, tuple[str, ...]], ...] = ()
    tiles: str = ""
    taken: datetime | None = None


@dataclass(frozen=True)
class Recovery:
    """A restore in place, planned or done. ``run``: None while it is only planned; ``before``: the snapshot taken
    first."""

    plan: RestorePlan
    tree: SnapshotTree
    databases: tuple[DatabasePlan, ...] = ()
    run: Run | None = None
    before: About | None = None

    @property
    def nothing(self) -> bool:
        """True when all is already as the snapshot says."""
        return self.plan.nothing and all(one.same for one in self.databases)


def planned(keep: Keep, store: Store, tree: SnapshotTree, only: tuple[str, ...], *, rehash: bool = False) -> Recovery:
    """What putting ``tree`` back, or what ``only`` selects of it, would do; databases are read whole."""
    wanted = restore_plan.scope_of(tree.manifest, only, keep.config)
    found = restore_plan.plan(tree, keep.server, wanted, None if rehash else store)
    if found.nothing and not selected(keep, tree, only):
        live = FolderTree(keep.server).entries() if keep.server.is_dir() else {}
        require_some(only, wanted, (*tree.entries(), *live), tree.label)
    return Recovery(found, tree, tuple(_planned_databases(keep, tree, only)))


def _planned_databases(keep: Keep, tree: SnapshotTree, only: tuple[str, ...]) -> list[DatabasePlan]:
    if not tree.manifest.about.databases:
        return []
    from emberkeep.operations.record import databases  # only where there are some

    return [databases.plan(keep, tree, name) for name in selected(keep, tree, only)]


def selected(keep: Keep, tree: SnapshotTree, only: tuple[str, ...]) -> list[str]:
    """The databases that a snapshot holds and ``only`` selects."""
    wanted = [one.name for one in meant(only, keep.config.databases)]
    return [name for name in tree.manifest.about.databases if name in wanted]


def target_of(context: RunContext) -> SnapshotTree:
    """The snapshot that a restore puts back. Refused, with the way out, when it is gone or damaged."""
    label = KIND.request_of(context.run).target
    try:
        return snapshot_tree(context.store, label)
    except (Damage, UsageError) as error:
        raise Refused(
            f"the {context.run.words} cannot be finished: {error}",
            hint="'emberkeep undo --go' takes back what it has done so far; that does not need it",
        ) from None


class RestoreStep(Step):
    """Make the folder, or a part of it, what a snapshot says. ``found``: the plan made beforehand, where there is
    one."""

    name = "restore"

    def __init__(
        self,
        request: Request,
        found: RestorePlan | None = None,
    ) -> None:
        only = f", only {', '.join(request.only)}" if request.only else ""
        self.title = f"put back snapshot {request.target}{only}"
        self.only, self.found, self.databases = request.only, found, request.databases
        self.foreseen = found is not None

    def plan(self, context: RunContext) -> Plan:
        """What differs from the snapshot, and the databases that are put back."""
        tree = target_of(context)
        wanted = restore_plan.scope_of(tree.manifest, self.only, context.keep.config)
        before = context.before()
        found = self.found
        if found is None or (before is not None and before.skipped):
            found = restore_plan.plan(tree, context.keep.server, wanted, before=before)
        self.found = found
        changes = [Change(entry.path, What.WRITE, entry.size) for entry in found.write]
        changes += [Change(entry.path, What.DELETE, 0, entry.size) for entry in (*found.replace, *found.remove)]
        notes = tuple(f"database {name} as it was dumped" for name in self.databases)
        return Plan(tuple(changes), notes, touched=frozenset(map(beside, self.databases)))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Make the folder as planned, then put databases back."""
        assert self.found is not None
        context.faults += apply.apply(self.found, target_of(context), progress=context.progress)
        if self.databases:
            from emberkeep.operations.record import databases  # only where there are some

            databases.put_back_all(context.keep, target_of(context), self.databases, context.progress)
        if self.foreseen:  # else a part of it may have been done before the run was stopped
            found = self.found
            changed = (*found.write, *found.touch, *found.make, *found.replace, *found.remove)
            paths = {entry.path for entry in changed}
            context.findings.restored = frozenset({"", *paths, *restore_plan.all_parents(paths)})


def steps(keep: Keep, store: Store, request: Request, found: RestorePlan | None = None) -> list[Step]:
    """The steps of a restore in place. ``found``: its plan, where it was made already."""
    return [SnapshotStep(f"before restoring {request.target}", KIND.name), RestoreStep(request, found)]


def put_back(
    keep: Keep, store: Store, found: Recovery, only: tuple[str, ...], clock: Clock, progress: Progress
) -> Recovery:
    """Carry a planned restore out as a run. Refused while the server runs or another run waits.

    RunFailed when the system refuses: all is then put back as it was, as far as it lets us. Interrupted when
    somebody stops it.
    """
    journal = Journal(keep.folder)
    journal.refuse_if_waiting()
    undo.check(keep, found.plan, found.tree)
    label = found.tree.manifest.about.label
    names = tuple(one.name for one in found.databases)
    about = found.tree.manifest.about
    roles = tuple((role, tuple(patterns)) for role, patterns in about.roles)
    request = Request(label, only, names, tuple(about.scope), roles, about.tiles, about.taken)
    context = RunContext(keep, store, journal, KIND.run(request, clock()), clock, progress=progress)
    carried = steps(keep, store, request, found.plan)
    done = runner.carry_out(context, carried)
    if context.faults:
        raise Damage.gathered(tuple(context.faults))
    plan = next((step.found for step in carried if isinstance(step, RestoreStep) and step.found), found.plan)
    return replace(found, plan=plan, run=done, before=context.findings.before)


def reach(keep: Keep, store: Store, request: Request) -> Callable[[str], bool]:
    """Which paths a restore may have touched: by what the journal noted, as its snapshot may be gone."""
    if request.scope is None:
        return restore_plan.scope_of(store.manifest(request.target), request.only, keep.config)
    return restore_plan.within(request.scope, request.roles, request.tiles, request.only, keep.config)


def _require_possible_still(context: RunContext) -> None:
    """What must be so before an interrupted restore goes on."""
    tree = target_of(context)
    wanted = restore_plan.scope_of(tree.manifest, KIND.request_of(context.run).only, context.keep.config)
    undo.check(context.keep, restore_plan.plan(tree, context.keep.server, wanted), tree)


KIND = RunKind(
    "restore",
    Request,
    title=lambda request: f"restore of snapshot {request.target}",
    steps=steps,
    before_resuming=_require_possible_still,
    reach=reach,
    saves=Saves.PUT_BACK,
)
