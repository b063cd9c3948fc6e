"""Carrying runs out: each step planned, noted in the journal, and done; a step that fails takes the run back."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import datetime

from emberkeep.errors import Damage, EmberKeepError, Interrupted, Place, Refused, RunFailed, UsageError, reason
from emberkeep.fs import system
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Entry
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, registry, restore_plan
from emberkeep.operations.engine.preview import refuse_unreadable, require_possible
from emberkeep.operations.engine.step import FINISHES, Plan, RunContext, Step
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


def carry_out(context: RunContext, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Do a new run. RunFailed, with all put back, when a step cannot be done; ``stay``: it then stays as it is, to be
    looked at. Interrupted when somebody stops it."""
    context.journal.refuse_if_waiting()
    remember_written(context.keep)
    context.run = context.journal.begin(context.run)
    return _through(context, steps, stay)


def carried_out(context: RunContext, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Carry out a run; Damage where the store could not give all back whole.

    All of it is planned first, over the live files: what can be refused beforehand is, before anybody is warned or
    anything stopped.
    """
    context.journal.refuse_if_waiting()
    require_possible(context, steps)
    done = carry_out(context, steps, stay=stay)
    if context.faults:
        raise Damage.gathered(tuple(context.faults))
    return done


def go_on(context: RunContext, steps: Sequence[Step], *, stay: bool = False) -> Run:
    """Finish a run that was interrupted."""
    return _through(context, steps, stay)


def resume(context: RunContext, *, stay: bool = False) -> Run:
    """Finish the interrupted run of ``context``: go on with it, or take it back wholly where that had begun."""
    if context.run.undoing:
        _go_on_undoing(context)
        return context.run
    kind = registry.kind_of(context.run.kind)
    kind.before_resuming(context)
    done = go_on(context, kind.steps_of(context.keep, context.store, context.run), stay=stay)
    if context.faults:
        raise Damage.gathered(tuple(context.faults))
    return done


def _go_on_undoing(context: RunContext) -> None:
    kind = registry.find(context.run.kind)
    if kind is not None and kind.undo is not None:
        kind.undo(context)
    else:
        undo(
            context.keep,
            context.store,
            to_undo(context.keep, context.store, context.run.number),
            context.clock,
            context.progress,
        )


def waiting(keep: Keep) -> Run:
    """The interrupted run; UsageError when there is none."""
    run = Journal(keep.folder).waiting()
    if run is None:
        raise UsageError("no run was interrupted; there is nothing to resume")
    return run


def _through(context: RunContext, steps: Sequence[Step], stay: bool) -> Run:
    known = context.journal.steps(context.run)
    step: Step = Step()
    try:
        for context.at, step in enumerate(steps):
            record = known.get(context.at)
            context.facts = dict(record.facts) if record else {}
            begun = context.clock()
            plan = step.plan(context)
            if record is not None and record.ended is not None:
                step.passed(context)
                continue
            _check_same(context, plan)
            _check_given_back(context, plan)
            _one(context, step, plan, begun)
    except KeyboardInterrupt:
        raise _stopped(context) from None
    except (EmberKeepError, OSError) as error:
        if isinstance(error, Interrupted):
            raise
        raise _failed(context, step, error, stay) from error
    except Exception as error:  # a fault of ours: what the run did so far goes back like any other's
        raise _failed(context, step, _fault_of_ours(error), stay) from error
    return _ended(context)


def _ended(context: RunContext) -> Run:
    """The run as done, once the journal has it so. It is told twice where it fails: a failed write may stand."""
    for again in (True, False):
        try:
            _record_left(context)
            context.journal.end(context.run, DONE, context.clock())
            break
        except (EmberKeepError, OSError) as error:
            if not again:
                raise RunFailed(
                    f"the {context.run.words} did all its work, but the journal cannot note it: {error}", hint=FINISHES
                ) from error
    return replace(context.run, state=DONE)


def _one(context: RunContext, step: Step, plan: Plan, begun: datetime) -> None:
    context.journal.step_begun(context.run, context.at, step.name, step.title, begun)
    if plan.fingerprint:
        context.note(plan=plan.fingerprint)
    if plan.touched:
        context.journal.touch(context.run, ((path, noted_at(context.folder, path)) for path in plan.touched))
    if step.whole and not context.run.whole:
        context.run = context.journal.change(replace(context.run, whole=True))
    context.say(step.title)
    # durable before the journal says that it is done
    with system.durable(), system.anchored(context.keep.server):
        step.act(context, plan)
    context.journal.step_done(context.run, context.at, context.clock())


def _check_same(context: RunContext, plan: Plan) -> None:
    planned = context.facts.get("plan", "")
    if planned and planned != plan.fingerprint:
        raise Refused(
            "what this run began from is not there any more as it was (a source, keep.toml, answers or orders changed)",
            hint="'emberkeep undo --go' takes the run back; then begin it again",
        )


def _check_given_back(context: RunContext, plan: Plan) -> None:
    """Refused where a step would change what the snapshot before had to leave out."""
    before = context.before()
    if before is None or not before.skipped:
        return
    sparing = restore_plan.Sparing([before])
    for path in sorted(plan.touched):
        if path and path not in before.entries() and sparing.keeps(Entry(path, FILE, 0, 0)):
            refuse_unreadable(path)


def _record_left(context: RunContext) -> None:
    """Note what the run left wherever the folder differs from the snapshot taken before; where all was planned, that
    is known already."""
    kind = registry.find(context.run.kind)
    if not context.run.before or not (context.run.whole or (kind is not None and kind.reach is not None)):
        return
    now = FolderTree(context.keep.server)
    restored = context.findings.restored
    if restored is not None:
        context.journal.touch(context.run, [(path, noted(now.now_at(path))) for path in sorted(restored)])
        return
    before = snapshot_tree(context.store, context.run.before)
    wanted = reach(context.keep, context.store, context.run, context.journal)
    known = context.journal.touched(context.run)
    there, then = now.entries(), before.entries()
    paths = {path for path in there.keys() | then.keys() if there.get(path) != then.get(path)} | {"", *known}
    left = ((path, noted_at(now, path)) for path in paths if wanted(path))
    context.journal.touch(context.run, [(path, after) for path, after in left if known.get(path) != after])


def _stopped(context: RunContext) -> EmberKeepError:
    """What a run that somebody stopped comes to: taken back, or waiting."""
    with suppress(KeyboardInterrupt):
        if not context.interrupted():
            return Interrupted(f"the {context.run.words} was interrupted half-way", hint=FINISHES)
    if _taken_back(context):
        return Interrupted(f"the {context.run.words} was interrupted; all was put back as it was")
    return Interrupted(f"the {context.run.words} was interrupted, and not all could be put back", hint=FINISHES)


def _fault_of_ours(error: Exception) -> EmberKeepError:
    what = f"a fault in Ember Keep itself: {type(error).__name__}: {error}"
    return RunFailed(what, hint="run the same with --debug and send what it prints")


def _failed(context: RunContext, step: Step, error: EmberKeepError | OSError, stay: bool) -> EmberKeepError:
    if isinstance(error, OSError):
        what, place, hint = reason(error), Place(str(error.filename or context.keep.server)), ""
    else:
        fault = error.faults[0]
        what, place, hint = fault.what, fault.place or Place(str(context.keep.server)), fault.hint
    if stay:
        return RunFailed(
            f"the {context.run.words} stopped at “{step.title or step.name}”: {what}; it stays as it is",
            place=place,
            hint=FINISHES,
        )
    back = _taken_back(context)
    if isinstance(error, Damage) and back:
        return error
    end = "all was put back as it was" if back else "NOT all could be put back"
    stopped = context.findings.stopped
    if back and stopped is not None and stopped.signs:
        hint = f"{hint}; the server is stopped, 'emberkeep start --go' starts it".removeprefix("; ")
    return RunFailed(
        f"the {context.run.words} stopped: {what}; {end}",
        place=place,
        hint=hint if back else f"mend that; then {FINISHES}",
    )


def _taken_back(context: RunContext) -> bool:
    """Put back what stood there before; False when that cannot be done."""
    try:
        for act in reversed(context.findings.on_back):
            act()
        if context.run.before:
            found = undo_plan(context.keep, context.store, context.run, context.journal)
            tree = snapshot_tree(context.store, context.run.before)
            if apply.apply(found, tree):
                return False
            put_databases_back(context.keep, tree, databases_of(context.run, context.journal, tree))
        forget_recorded(context.store, context.journal, context.run)
    except (EmberKeepError, OSError):
        return False
    context.journal.end(context.run, TAKEN_BACK, context.clock())
    return True
