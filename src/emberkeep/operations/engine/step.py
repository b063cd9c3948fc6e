"""What a run is made of: its steps, what they plan, what they work with and what they find.

A step first *plans*: it says what it will change, and changes a planned folder (``overlay.Planned``) that the steps
behind it build on; nothing is written. Then it *acts*. Planning again from the snapshot taken before gives the same
plan, so a run that was stopped goes on with the step that it stopped in: what is already as planned is left alone.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

from emberkeep.callbacks import Progress, Say, no_op
from emberkeep.errors import Damage, Fault
from emberkeep.fs import system, writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Change, Overlay, What
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, fitness, restore_plan
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.starts import TemporarySetting
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree, snapshot_tree

if TYPE_CHECKING:
    from emberkeep.merging.results import Merge
    from emberkeep.process.announce import Told
    from emberkeep.process.lifecycle import Stopped
    from emberkeep.process.watch import Watched
    from emberkeep.survey.landmarks import Measured, Missed
    from emberkeep.transfer.pool import ConnectionPool
    from emberkeep.wiping.results import WipeResult

Clock = Callable[[], datetime]
FINISHES = "'emberkeep resume --go' finishes it, 'emberkeep undo --go' takes it back"


def leave() -> bool:
    """What becomes of a run that somebody stops: it waits."""
    return False


@dataclass(frozen=True)
class Plan:
    """What a step will do. ``changes``: to files and links; ``notes``: what else there is to know, in words;
    ``warnings``: what wants the admin's eye; ``touched``: every path that becomes otherwise, folders too."""

    changes: tuple[Change, ...] = ()
    notes: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    touched: frozenset[str] = frozenset()
    fingerprint: str = ""
    obstacles: tuple[Fault, ...] = ()
    """What would stop the run at this step, as far as it can be found beforehand."""


@dataclass
class Findings:
    """What steps of a run found that later steps and its report ask for; what must outlive the process is in the
    journal, as a step's facts. ``on_back``: what is done first when the run is taken back; ``restored``: the paths that
    a restore wrote, None where that is not known; ``programs``: which engine files took the place of which; ``pids``:
    of the processes that were started; ``made``: sizes, by path, of what was made by hand; ``waits``: what wants the
    admin's eye, in words; ``laid``: how many files a framework laid over the engine's own; ``verified``: how many
    files were read again on both sides."""

    before: About | None = None
    on_back: list[Callable[[], None]] = field(default_factory=list)
    restored: frozenset[str] | None = None
    stopped: Stopped | None = None
    watched: Watched | None = None
    pids: list[int] = field(default_factory=list)
    once: list[TemporarySetting] = field(default_factory=list)
    measured: Measured | None = None
    missed: tuple[Missed, ...] = ()
    merge: Merge | None = None
    tables: Merge | None = None
    programs: Mapping[str, str] = field(default_factory=dict)
    laid: int = 0
    verified: int = 0
    cleared: WipeResult | None = None
    made: Mapping[str, int] = field(default_factory=dict)
    looked: tuple[str, ...] = ()
    waits: tuple[str, ...] = ()
    announced: tuple[Told, ...] = ()


@dataclass
class RunContext:
    """What the steps of one run work with. ``facts``: what the current step noted for resuming."""

    keep: Keep
    store: Store
    journal: Journal
    run: Run
    clock: Clock
    environment: Mapping[str, str] = field(default_factory=dict)
    progress: Progress = no_op
    say: Say = no_op
    interrupted: Callable[[], bool] = leave
    """Asked when somebody stops the run: whether all of it is to be taken back at once."""
    planned: Overlay | None = None
    at: int = 0
    facts: dict[str, Any] = field(default_factory=dict)
    findings: Findings = field(default_factory=Findings)
    faults: list[Fault] = field(default_factory=list)
    only_planned: bool = False
    """Whether nothing is carried out: that of a preview."""
    pool: ConnectionPool | None = None
    """Connections to the remote host, in a run that changes what lies there."""

    @property
    def moment(self) -> int:
        """The time, in ns, that files made by this run are given."""
        return int(self.run.begun.timestamp() * 1_000_000) * 1000

    @property
    def folder(self) -> Overlay:
        """The planned folder."""
        if self.planned is None:
            self.planned = Overlay(FolderTree(self.keep.server, "live"), self.moment)
        return self.planned

    def before(self) -> SnapshotTree | None:
        """The snapshot that taking this run back puts back, once it has been taken."""
        return snapshot_tree(self.store, self.run.before) if self.run.before else None

    def note(self, **facts: Any) -> None:
        """Have the journal remember facts of the current step."""
        self.facts.update(facts)
        if not self.only_planned:
            self.journal.step_noted(self.run, self.at, self.facts)

    def begin_from(self, label: str) -> None:
        """Plan on from a snapshot."""
        self.planned = Overlay(snapshot_tree(self.store, label), self.moment)


class Step:
    """One step of a run. ``whole``: whether anything in the folder may change, as a program runs in it; ``opaque``:
    whether what it makes of the folder can only be known when it was done."""

    name = ""
    title = ""
    whole = False
    opaque = False

    def plan(self, context: RunContext) -> Plan:
        """What it will do; changes ``context.folder``."""
        return Plan()

    def act(self, context: RunContext, plan: Plan) -> None:
        """Do what is left to do of it."""

    def passed(self, context: RunContext) -> None:
        """Hear, when a run is resumed, that it was done before."""


class FileStep(Step):
    """A step that only changes files: ``change`` changes the planned folder and returns what else there is to say."""

    def __init__(self, name: str, title: str, change: Callable[[RunContext], Notes]) -> None:
        self.name, self.title, self.change = name, title, change

    def plan(self, context: RunContext) -> Plan:
        """What ``change`` does to the planned folder, with a fingerprint of it."""
        folder = context.folder
        mark = folder.mark()
        notes = self.change(context)
        touched = frozenset(folder.touched(mark))
        return Plan(
            folder.since(mark),
            tuple(notes.lines),
            tuple(notes.warnings),
            touched,
            folder.fingerprint(touched),
            tuple(notes.obstacles),
        )

    def act(self, context: RunContext, plan: Plan) -> None:
        """Make the planned changes, file by file."""
        write(context, plan)


@dataclass
class Notes:
    """What a step has to say beside its changes."""

    lines: list[str] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    obstacles: list[Fault] = field(default_factory=list)


def write(context: RunContext, plan: Plan) -> None:
    """Make the server folder as planned, at the paths that a plan touches."""
    server = context.keep.server
    moved = set()
    for change in plan.changes:
        if change.what is not What.RENAME:
            continue
        moved.add(change.path)
        old, new = server / change.was, server / change.path
        if old.exists() and not new.exists():
            writing.make_folder(new.parent)
            system.io.replace(old, new)
    found = restore_plan.plan(context.folder, server, lambda path: path in plan.touched, trusted=moved)
    fitness.check_room(found)
    context.faults += apply.apply(found, context.folder, progress=context.progress)
    if context.faults:
        raise Damage.gathered(tuple(context.faults))
