"""Carrying runs out: each step planned, noted in the journal, and done; a step that fails takes the run back."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import datetime

from emberkeep.errors import Damage, EmberKeepError, Interrupted, Place, Refused, RunFailed, UsageError
from emberkeep.fs import system
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Entry
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, registry, restore_plan
from emberkeep.operations.engine.preview import refuse_unreadable, require_possible
from emberkeep.operations.engine.step import FINISHES, Plan, Room, Step
from emberkeep.operations.engine.undo import (
    databases_of,
    forget_recorded,
    put_databases_back,
    reach,
    to_undo,
    undo,
    undo_plan,
)
from emberkeep.operations.record.facts import DONE, TAKEN_BACK, Run, noted, noted_at
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.written import remember_written
from emberkeep.store.tree import snapshot_tree


def carry_out(room: Room, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Do a new run. RunFailed, with all put back, when a step cannot be done; ``stay``: it then stays as it is, to be
    looked at. Interrupted when somebody stops it."""
    room.journal.refuse_if_waiting()
    remember_written(room.keep)
    room.run = room.journal.begin(room.run)
    return _through(room, steps, stay)


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


def resume(room: Room, *, stay: bool = False) -> Run:
    """Finish the interrupted run of ``room``: go on with it, or take it back wholly where that had begun."""
    if room.run.undoing:
        _go_on_undoing(room)
        return room.run
    kind = registry.kind_of(room.run.kind)
    kind.before_resuming(room)
    done = go_on(room, kind.steps_of(room.keep, room.store, room.run), stay=stay)
    if room.faults:
        raise Damage.gathered(tuple(room.faults))
    return done


def _go_on_undoing(room: Room) -> None:
    kind = registry.find(room.run.kind)
    if kind is not None and kind.undo is not None:
        kind.undo(room)
    else:
        undo(room.keep, room.store, to_undo(room.keep, room.store, room.run.number), room.clock, room.progress)


def waiting(keep: Keep) -> Run:
    """The interrupted run; UsageError when there is none."""
    run = Journal(keep.folder).waiting()
    if run is None:
        raise UsageError("no run was interrupted; there is nothing to resume")
    return run


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
        room.journal.touch(room.run, ((path, noted_at(room.folder, path)) for path in plan.touched))
    if step.whole and not room.run.whole:
        room.run = room.journal.change(replace(room.run, whole=True))
    room.say(step.title)
    # durable before the journal says that it is done
    with system.durable(), system.anchored(room.keep.server):
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
    sparing = restore_plan.Sparing([before])
    for path in sorted(plan.touched):
        if path and path not in before.entries() and sparing.keeps(Entry(path, FILE, 0, 0)):
            refuse_unreadable(path)


def _record_left(room: Room) -> None:
    """Note what the run left wherever the folder differs from the snapshot taken before; where all was planned, that
    is known already."""
    kind = registry.find(room.run.kind)
    if not room.run.before or not (room.run.whole or (kind is not None and kind.reach is not None)):
        return
    now = FolderTree(room.keep.server)
    restored = room.findings.restored
    if restored is not None:
        room.journal.touch(room.run, [(path, noted(now.now_at(path))) for path in sorted(restored)])
        return
    before = snapshot_tree(room.store, room.run.before)
    wanted = reach(room.keep, room.store, room.run, room.journal)
    known = room.journal.touched(room.run)
    there, then = now.entries(), before.entries()
    paths = {path for path in there.keys() | then.keys() if there.get(path) != then.get(path)} | {"", *known}
    left = ((path, noted_at(now, path)) for path in paths if wanted(path))
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
    stopped = room.findings.stopped
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
        for act in reversed(room.findings.on_back):
            act()
        if room.run.before:
            found = undo_plan(room.keep, room.store, room.run, room.journal)
            tree = snapshot_tree(room.store, room.run.before)
            if apply.apply(found, tree):
                return False
            put_databases_back(room.keep, tree, databases_of(room.run, room.journal, tree))
        forget_recorded(room.store, room.journal, room.run)
    except (EmberKeepError, OSError):
        return False
    room.journal.end(room.run, TAKEN_BACK, room.clock())
    return True
