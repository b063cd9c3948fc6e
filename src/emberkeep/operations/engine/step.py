"""Runs: ordered steps that change a server folder, written down in the journal, resumable and undoable.

A step first *plans*: it says what it will change, and changes a planned folder (``overlay.Planned``) that the steps
behind it build on; nothing is written. Then it *acts*. Planning again from the snapshot taken before gives the same
plan, so a run that was stopped goes on with the step that it stopped in: what is already as planned is left alone.
Undoing puts that snapshot back over what the run touched.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from emberkeep.errors import (
    Damage,
    EmberKeepError,
    Fault,
    Interrupted,
    Place,
    Refused,
    RunFailed,
    UsageError,
    system_may_refuse,
)
from emberkeep.fs import writing
from emberkeep.fs.overlay import Change, Planned, What
from emberkeep.fs.trees import FILE, LINK, Entry, FolderTree, Tree
from emberkeep.keep.keep import Config, Keep
from emberkeep.operations.engine import apply
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.journal import (
    BEGUN,
    DONE,
    RESTORE,
    TAKEN_BACK,
    UNDO,
    UNDONE,
    Journal,
    Run,
    remember_written,
)
from emberkeep.process.signs import refuse_if_running
from emberkeep.store.intake import Progress, silent
from emberkeep.store.manifest import BESIDE, About, beside
from emberkeep.store.store import SnapshotTree, Store

Clock = Callable[[], datetime]
Say = Callable[[str], None]
FINISHES = "'emberkeep resume --go' finishes it, 'emberkeep undo --go' takes it back"


def quiet(text: str) -> None:
    """Says nothing."""


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
class Room:
    """What the steps of one run work with. ``facts``: what the current step noted for resuming; ``told``: results
    that later steps and the report ask for, by name."""

    keep: Keep
    store: Store
    journal: Journal
    run: Run
    clock: Clock
    environment: Mapping[str, str] = field(default_factory=dict)
    progress: Progress = silent
    say: Say = quiet
    interrupted: Callable[[], bool] = leave
    """Asked when somebody stops the run: whether all of it is to be taken back at once."""
    planned: Planned | None = None
    at: int = 0
    facts: dict[str, Any] = field(default_factory=dict)
    told: dict[str, Any] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    only_planned: bool = False
    """Whether nothing is carried out: the room of a preview."""

    @property
    def moment(self) -> int:
        """The time, in ns, that files made by this run are given."""
        return int(self.run.begun.timestamp() * 1_000_000) * 1000

    @property
    def folder(self) -> Planned:
        """The planned folder."""
        if self.planned is None:
            self.planned = Planned(FolderTree(self.keep.server, "live"), self.moment)
        return self.planned

    def before(self) -> SnapshotTree | None:
        """The snapshot that taking this run back puts back, once it has been taken."""
        return _tree(self.store, self.run.before) if self.run.before else None

    def note(self, **facts: Any) -> None:
        """Have the journal remember facts of the current step."""
        self.facts.update(facts)
        if not self.only_planned:
            self.journal.step_noted(self.run, self.at, self.facts)

    def begin_from(self, label: str) -> None:
        """Plan on from a snapshot."""
        self.planned = Planned(_tree(self.store, label), self.moment)


class Step:
    """One step of a run. ``whole``: whether anything in the folder may change, as a program runs in it; ``opaque``:
    whether what it makes of the folder can only be known when it was done."""

    name = ""
    title = ""
    whole = False
    opaque = False

    def plan(self, room: Room) -> Plan:
        """What it will do; changes ``room.folder``."""
        return Plan()

    def act(self, room: Room, plan: Plan) -> None:
        """Do what is left to do of it."""

    def passed(self, room: Room) -> None:
        """Hear, when a run is resumed, that it was done before."""


class FileStep(Step):
    """A step that only changes files: ``change`` changes the planned folder and returns what else there is to say."""

    def __init__(self, name: str, title: str, change: Callable[[Room], Notes]) -> None:
        self.name, self.title, self.change = name, title, change

    def plan(self, room: Room) -> Plan:
        folder = room.folder
        mark = folder.mark()
        notes = self.change(room)
        touched = frozenset(folder.touched(mark))
        return Plan(
            folder.since(mark),
            tuple(notes.lines),
            tuple(notes.warnings),
            touched,
            folder.fingerprint(touched),
            tuple(notes.obstacles),
        )

    def act(self, room: Room, plan: Plan) -> None:
        write(room, plan)


@dataclass
class Notes:
    """What a step has to say beside its changes."""

    lines: list[str] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    obstacles: list[Fault] = field(default_factory=list)


def write(room: Room, plan: Plan) -> None:
    """Make the server folder as planned, at the paths that a plan touches."""
    server = room.keep.server
    moved = set()
    for change in plan.changes:
        if change.what is not What.RENAME:
            continue
        moved.add(change.path)
        old, new = server / change.was, server / change.path
        if old.exists() and not new.exists():
            writing.make_folder(new.parent)
            writing.io.replace(old, new)
    found = apply.plan(room.folder, server, lambda path: path in plan.touched, trusted=moved)
    apply.check_room(found)
    room.faults += apply.apply(found, room.folder, progress=room.progress)
    if room.faults:
        raise Damage.gathered(tuple(room.faults))


def unconfirmed(config: Config, roles: Sequence[str]) -> Iterator[Fault]:
    """What a run that goes by ``roles`` would do on the strength of a guess that nobody has confirmed."""
    for role, question in config.guesses:
        if role in roles:
            yield Fault(
                f"this rests on a guess that is not confirmed: {question}",
                hint="'emberkeep adopt --ask' puts the question to you; or strike it out of keep.toml",
            )


class SnapshotStep(Step):
    """The snapshot of the whole folder that undoing puts back; pinned until the run is done with. ``rests_on``: the
    roles on which the run deletes something or leaves it behind; none of them may be a guess."""

    name = "snapshot"

    def __init__(self, note: str, why: str, *, pin: bool = False, rests_on: Sequence[str] = ()) -> None:
        self.title = "take a snapshot of the whole server folder"
        self.note, self.why, self.pin, self.rests_on = note, why, pin, rests_on

    def plan(self, room: Room) -> Plan:
        pinned = ", pinned: no thinning takes it" if self.pin else ""
        guesses = tuple(unconfirmed(room.keep.config, self.rests_on))
        return Plan(notes=(f"called “{self.note}”{pinned}",), obstacles=guesses)

    def act(self, room: Room, plan: Plan) -> None:
        if room.keep.server.is_dir():
            refuse_if_running(room.keep, "it would write while it is copied and changed")
            taken = snapshot.take(
                room.keep,
                room.clock(),
                note=self.note,
                why=self.why,
                pin=self.pin,
                store=room.store,
                progress=room.progress,
            )
            room.told["before"] = taken.about
            room.run = room.journal.change(replace(room.run, before=taken.about.label))
            room.begin_from(taken.about.label)
        else:
            writing.make_folder(room.keep.server)

    def passed(self, room: Room) -> None:
        if room.run.before:
            room.begin_from(room.run.before)


# --- what will be done ----------------------------------------------------------


@dataclass(frozen=True)
class StepPreview:
    """What one step will do."""

    name: str
    title: str
    changes: tuple[Change, ...]
    notes: tuple[str, ...]
    warnings: tuple[str, ...]
    obstacles: tuple[Fault, ...] = ()


@dataclass(frozen=True)
class Preview:
    """What a run will do, step by step."""

    title: str
    steps: tuple[StepPreview, ...]

    @property
    def changes(self) -> tuple[Change, ...]:
        """All changes to files."""
        return tuple(change for step in self.steps for change in step.changes)

    @property
    def obstacles(self) -> tuple[Fault, ...]:
        """All that would stop it."""
        return tuple(fault for step in self.steps for fault in step.obstacles)

    @property
    def warnings(self) -> tuple[str, ...]:
        """All that wants the admin's eye."""
        return tuple(warning for step in self.steps for warning in step.warnings)


def preview(room: Room, steps: Sequence[Step]) -> Preview:
    """What ``steps`` will do, as far as it can be known before they are done. Writes nothing.

    What cannot be planned behind a step that is opaque is a warning, elsewhere the error it is.
    """
    room.only_planned = True
    found = []
    unknown = False
    for step in steps:
        try:
            plan = step.plan(room)
            _check_readable(room, plan)
        except EmberKeepError as error:
            if not unknown:
                raise
            plan = Plan(warnings=(f"cannot be known yet: {error}",))
        obstacles = () if unknown else plan.obstacles
        unknown = unknown or step.opaque
        warnings = (*plan.warnings, *(f"it would stop here: {fault}" for fault in obstacles))
        found.append(StepPreview(step.name, step.title, plan.changes, plan.notes, warnings, obstacles))
    if found and not unknown and (fault := _starts_nothing(room)) is not None:
        last = found[-1]
        told = (*last.warnings, f"it would stop here: {fault}")
        found[-1] = replace(last, warnings=told, obstacles=(*last.obstacles, fault))
    return Preview(room.run.title, tuple(found))


def _starts_nothing(room: Room) -> Fault | None:
    """What is wrong where the launch script executes a program now, and would execute none afterwards."""
    script = room.keep.config.launch.script
    was, will = room.folder.base.entries(), room.folder.entries()
    if script not in was or script not in will or (was[script] == will[script] and was.keys() <= will.keys()):
        return None
    from emberkeep.detection.launch import programs_of  # only where a script is looked at

    before = programs_of(room.folder.base, script)
    if not before or programs_of(room.folder, script):
        return None
    hint = f"have {script} name the program that will be there"
    return Fault(f"{script} would start nothing: {before[0]} will not be there", Place(script), hint)


def left_to_do(room: Room, steps: Sequence[Step]) -> Preview:
    """What is left to do of an interrupted run: the steps that are not done."""
    room.only_planned = True
    known = room.journal.steps(room.run)
    found = []
    for room.at, step in enumerate(steps):
        plan = step.plan(room)
        record = known.get(room.at)
        if record is not None and record.ended is not None:
            room.facts = dict(record.facts)
            step.passed(room)
        else:
            found.append(StepPreview(step.name, step.title, plan.changes, plan.notes, plan.warnings))
    return Preview(room.run.title, tuple(found))


# --- doing it -------------------------------------------------------------------


def carry_out(room: Room, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Do a new run. RunFailed, with all put back, when a step cannot be done; ``stay``: it then stays as it is, to be
    looked at. Interrupted when somebody stops it."""
    room.journal.refuse_if_waiting()
    remember_written(room.keep)
    room.run = room.journal.begin(room.run)
    return _through(room, steps, stay)


def foreseen(room: Room, steps: Sequence[Step]) -> Preview:
    """A preview that leaves ``room`` as it is, so that the same steps can be carried out in it."""
    return preview(replace(room, planned=None, facts={}, told={}, faults=[]), steps)


def require_possible(room: Room, steps: Sequence[Step]) -> None:
    """Refused where something would stop a run on its way, as far as it can be found before anybody is told."""
    obstacles = foreseen(room, steps).obstacles
    if obstacles:
        raise Refused.gathered(obstacles)


def carried_out(room: Room, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Carry out a run; Damage where the store could not give all back whole.

    All of it is planned first, over the live files: what can be refused beforehand is, before anybody is warned or
    anything stopped.
    """
    room.journal.refuse_if_waiting()
    require_possible(room, steps)
    done = carry_out(room, steps, stay=stay)
    if room.faults:
        raise Damage.gathered(tuple(room.faults))
    return done


def go_on(room: Room, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Finish a run that was interrupted."""
    return _through(room, steps, stay)


def _through(room: Room, steps: Sequence[Step], stay: bool) -> Run:
    known = room.journal.steps(room.run)
    step: Step = Step()
    try:
        for room.at, step in enumerate(steps):
            record = known.get(room.at)
            room.facts = dict(record.facts) if record else {}
            begun = room.clock()
            plan = step.plan(room)
            if record is not None and record.ended is not None:
                step.passed(room)
                continue
            _check_same(room, plan)
            _check_given_back(room, plan)
            _one(room, step, plan, begun)
    except KeyboardInterrupt:
        raise _stopped(room) from None
    except (EmberKeepError, OSError) as error:
        if isinstance(error, Interrupted):
            raise
        raise _failed(room, step, error, stay) from error
    except Exception as error:  # a fault of ours: what the run did so far goes back like any other's
        raise _failed(room, step, _fault_of_ours(error), stay) from error
    return _ended(room)


def _ended(room: Room) -> Run:
    """The run as done, once the journal has it so. It is told twice where it fails: a failed write may stand."""
    for again in (True, False):
        try:
            _record_left(room)
            room.journal.end(room.run, DONE, room.clock())
            break
        except (EmberKeepError, OSError) as error:
            if not again:
                raise RunFailed(
                    f"the {room.run.words} did all its work, but the journal cannot note it: {error}", hint=FINISHES
                ) from error
    return replace(room.run, state=DONE)


def _one(room: Room, step: Step, plan: Plan, begun: datetime) -> None:
    room.journal.step_begun(room.run, room.at, step.name, step.title, begun)
    if plan.fingerprint:
        room.note(plan=plan.fingerprint)
    if plan.touched:
        room.journal.touch(room.run, ((path, _left(room.folder, path)) for path in plan.touched))
    if step.whole and not room.run.whole:
        room.run = room.journal.change(replace(room.run, whole=True))
    room.say(step.title)
    # durable before the journal says that it is done
    with writing.durable(), writing.anchored(room.keep.server):
        step.act(room, plan)
    room.journal.step_done(room.run, room.at, room.clock())


def _check_same(room: Room, plan: Plan) -> None:
    told = room.facts.get("plan", "")
    if told and told != plan.fingerprint:
        raise Refused(
            "what this run began from is not there any more as it was (a source, keep.toml, answers or orders changed)",
            hint="'emberkeep undo --go' takes the run back; then begin it again",
        )


def _check_given_back(room: Room, plan: Plan) -> None:
    """Refused where a step would change what the snapshot before had to leave out."""
    before = room.before()
    if before is None or not before.skipped:
        return
    sparing = apply.Sparing([before])
    for path in sorted(plan.touched):
        if path and path not in before.entries() and sparing.keeps(Entry(path, FILE, 0, 0)):
            _refuse_unreadable(path)


def _refuse_unreadable(path: str) -> None:
    raise Refused(
        f"{path} would be changed, and could not be read: no snapshot could give it back",
        hint="run this as a user who may read it",
    )


def _check_readable(room: Room, plan: Plan) -> None:
    """Refused beforehand for the same reason."""
    base = room.planned.base if room.planned is not None else None
    if not isinstance(base, FolderTree):
        return
    for path in sorted(plan.touched):
        entry = base.entries().get(path)
        if entry is not None and entry.kind is FILE and not os.access(base.root / path, os.R_OK):
            _refuse_unreadable(path)


def _left(tree: Tree, path: str) -> str:
    """What stands at a path, as the journal notes it."""
    entry = tree.entries().get(path) if path else tree.top
    return _told(entry)


def _told(entry: Entry | None) -> str:
    if entry is None:
        return ""
    if entry.kind is LINK:
        return f"link {entry.points_at}"
    return f"{entry.kind} {entry.mode:o} {entry.mtime_ns} {entry.size}"


def _record_left(room: Room) -> None:
    """Note what the run left wherever the folder differs from the snapshot taken before; where all was planned, that
    is known already."""
    if not room.run.before or not (room.run.whole or room.run.kind == RESTORE):
        return
    now = FolderTree(room.keep.server)
    if "restored" in room.told:
        room.journal.touch(room.run, [(path, _told(now.now_at(path))) for path in sorted(room.told["restored"])])
        return
    before = _tree(room.store, room.run.before)
    wanted = _scope(room.keep, room.store, room.run, room.journal)
    known = room.journal.touched(room.run)
    there, then = now.entries(), before.entries()
    paths = {path for path in there.keys() | then.keys() if there.get(path) != then.get(path)} | {"", *known}
    left = ((path, _left(now, path)) for path in paths if wanted(path))
    room.journal.touch(room.run, [(path, after) for path, after in left if known.get(path) != after])


def _stopped(room: Room) -> EmberKeepError:
    """What a run that somebody stopped comes to: taken back, or waiting."""
    with suppress(KeyboardInterrupt):
        if not room.interrupted():
            return Interrupted(f"the {room.run.words} was interrupted half-way", hint=FINISHES)
    if _taken_back(room):
        return Interrupted(f"the {room.run.words} was interrupted; all was put back as it was")
    return Interrupted(f"the {room.run.words} was interrupted, and not all could be put back", hint=FINISHES)


def _fault_of_ours(error: Exception) -> EmberKeepError:
    what = f"a fault in Ember Keep itself: {type(error).__name__}: {error}"
    return RunFailed(what, hint="run the same with --debug and send what it prints")


def _failed(room: Room, step: Step, error: EmberKeepError | OSError, stay: bool) -> EmberKeepError:
    if isinstance(error, OSError):
        what, place, hint = error.strerror or str(error), Place(str(error.filename or room.keep.server)), ""
    else:
        fault = error.faults[0]
        what, place, hint = fault.what, fault.place or Place(str(room.keep.server)), fault.hint
    if stay:
        return RunFailed(
            f"the {room.run.words} stopped at “{step.title or step.name}”: {what}; it stays as it is",
            place=place,
            hint=FINISHES,
        )
    back = _taken_back(room)
    if isinstance(error, Damage) and back:
        return error
    end = "all was put back as it was" if back else "NOT all could be put back"
    stopped = room.told.get("stopped")
    if back and stopped is not None and stopped.signs:
        hint = f"{hint}; the server is stopped, 'emberkeep start --go' starts it".removeprefix("; ")
    return RunFailed(
        f"the {room.run.words} stopped: {what}; {end}",
        place=place,
        hint=hint if back else f"mend that; then {FINISHES}",
    )


def _taken_back(room: Room) -> bool:
    """Put back what stood there before; False when that cannot be done."""
    try:
        for act in reversed(room.told.get("on_back", [])):
            act()
        if room.run.before:
            found = undo_plan(room.keep, room.store, room.run, room.journal)
            tree = _tree(room.store, room.run.before)
            if apply.apply(found, tree):
                return False
            _put_databases_back(room.keep, tree, databases_of(room.run, room.journal, tree))
        _forget_recorded(room.store, room.journal, room.run)
    except (EmberKeepError, OSError):
        return False
    room.journal.end(room.run, TAKEN_BACK, room.clock())
    return True


def _forget_recorded(store: Store, journal: Journal, run: Run) -> None:
    """Defaults that a run recorded go with it."""
    for step in journal.steps(run).values():
        version = step.facts.get("recorded")
        if version in store.versions():
            store.drop(str(version), defaults=True)


# --- resuming and undoing -------------------------------------------------------


def waiting(keep: Keep) -> Run:
    """The interrupted run; UsageError when there is none."""
    run = Journal(keep.folder).waiting()
    if run is None:
        raise UsageError("no run was interrupted; there is nothing to resume")
    return run


@dataclass(frozen=True)
class Undoing:
    """What taking a run back will do. ``plan``: None where nothing stood there before it; ``databases``: those that
    are put back too, where they are not as they were."""

    run: Run
    plan: apply.RestorePlan | None
    databases: tuple[str, ...] = ()


PARTLY = "'emberkeep undo --as-far-as-possible --go' puts back what it can, and lets other runs begin"


def to_undo(keep: Keep, store: Store, number: int | None, *, partly: bool = False) -> Undoing:
    """What taking a run back would do: the interrupted one, the last one, or run ``number``.

    Refused for an older run when something that it left was changed since, and names it. Damage when the snapshot
    before it cannot be read; with ``partly``, all then stays as it is.
    """
    journal = Journal(keep.folder)
    run = which(journal, number)
    last = journal.undoable()
    if not run.before:
        if run.state == BEGUN:
            return Undoing(run, None)
        raise Refused(f"nothing stood there before run {run.number}, so there is nothing to put back")
    if last is not None and run.number != last.number:
        _check_untouched(keep, journal, run)
        paths = journal.touched(run).keys()
        tree = _tree(store, run.before)
        return Undoing(run, apply.plan(tree, keep.server, lambda path: path in paths))
    try:
        tree = _tree(store, run.before)
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


def _put_databases_back(keep: Keep, tree: SnapshotTree, names: Sequence[str], progress: Progress = silent) -> None:
    if names:
        from emberkeep.operations.record import databases  # only where there are some

        databases.put_back_all(keep, tree, names, progress)


def which(journal: Journal, number: int | None) -> Run:
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
        raise Refused(f"run {number} ({run.words}) is {run.state} already")
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
        if path and not after.startswith("folder") and _left(live, path) != after
    ]
    if changed:
        more = f" and {len(changed) - MOST_NAMED} more" if len(changed) > MOST_NAMED else ""
        raise Refused(
            f"run {run.number} ({run.words}) cannot be taken back: changed since then are "
            f"{', '.join(sorted(changed)[:MOST_NAMED])}{more}",
            hint=f"'emberkeep restore {run.before}' puts back what stood there before it, with what came since lost",
        )


def undo_plan(keep: Keep, store: Store, run: Run, journal: Journal) -> apply.RestorePlan:
    """Putting back what stood there before a run, over all that it may have changed. After one that came to its end,
    files that nobody has written to since the last snapshot need no reading."""
    known = store if run.state == DONE else None
    return apply.plan(_tree(store, run.before), keep.server, _scope(keep, store, run, journal), known)


def _scope(keep: Keep, store: Store, run: Run, journal: Journal) -> Callable[[str], bool]:
    if run.whole:
        return lambda path: True
    if run.kind == RESTORE:
        return _restored(keep, store, run)
    paths = {*journal.touched(run), *run.request.get("paths", ())}
    return lambda path: path in paths


def _restored(keep: Keep, store: Store, run: Run) -> Callable[[str], bool]:
    """What a restore may have touched: by the journal alone, as its snapshot may be gone."""
    limits, only = run.request, tuple(run.request.get("only", ()))
    if "scope" not in limits:  # a journal of before it told them
        return apply.scope_of(store.manifest(str(limits["target"])), only, keep.config)
    return apply.within(limits["scope"], limits["roles"], limits["tiles"], only, keep.config)


def undo(
    keep: Keep, store: Store, found: Undoing, clock: Clock, progress: Progress = silent, *, partly: bool = False
) -> About | None:
    """Take a run back. One that had come to its end is snapshotted first, so that this can be taken back too. Damage,
    and nothing touched, when not all can be put back; with ``partly`` what can be is first."""
    run, journal = found.run, Journal(keep.folder)
    if found.plan is None:
        journal.end(run, UNDONE, clock())
        return None
    tree = _tree(store, run.before)
    check(keep, found.plan, tree, PARTLY, partly=partly)
    before, plan = None, found.plan
    if run.state == DONE:
        note = f"before undoing run {run.number}"
        before = snapshot.take(keep, clock(), note=note, why=UNDO, store=store, progress=progress).about
        plan = plan.sparing(apply.Sparing([_tree(store, before.label)]))
        journal.change(replace(run, undoing=True))
        journal.end(run, BEGUN, clock())  # stopped from here on, it waits to be taken back wholly
    hint = "mend that, and 'emberkeep undo --go' again"
    try:
        with system_may_refuse(f"the {run.words} could not be taken back", keep.server, hint):
            faults = apply.apply(plan, tree, progress=progress)
            _put_databases_back(keep, tree, found.databases, progress)
    except KeyboardInterrupt:
        raise Interrupted("taking the run back was interrupted", hint="'emberkeep undo --go' goes on with it") from None
    _forget_recorded(store, journal, run)
    journal.end(run, UNDONE, clock())
    if faults:
        raise Damage.gathered(tuple(faults))
    return before


def check(
    keep: Keep,
    plan: apply.RestorePlan,
    tree: SnapshotTree,
    hint: str = apply.ELSEWHERE,
    *,
    partly: bool = False,
) -> None:
    """What must be so before a snapshot is put back in place; ``partly``: damage in it is none of it."""
    refuse_if_running(keep, "it would write over what is put back")
    apply.check_names(plan, tree)
    apply.check_room(plan)
    if not partly:
        apply.check_whole(plan, tree, hint)


def _tree(store: Store, label: str) -> SnapshotTree:
    return SnapshotTree(store, store.manifest(label), f"snapshot {label}")
