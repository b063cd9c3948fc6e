"""What a run will do, or has left to do, found by planning its steps; nothing is written."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace

from emberkeep.errors import EmberKeepError, Fault, Place, Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Change
from emberkeep.fs.trees import FILE, unread
from emberkeep.operations.engine.step import Findings, Plan, RunContext, Step


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


def preview(context: RunContext, steps: Sequence[Step]) -> Preview:
    """What ``steps`` will do, as far as it can be known before they are done. Writes nothing.

    What cannot be planned behind a step that is opaque is a warning, elsewhere the error it is.
    """
    context.only_planned = True
    found: list[StepPreview] = []
    unknown = False
    left = [f"{one.path}: {one.why}; what is in it counts as not there" for one in unread(context.folder.base)]
    for step in steps:
        try:
            plan = step.plan(context)
            _check_readable(context, plan)
        except EmberKeepError as error:
            if not unknown:
                raise
            plan = Plan(warnings=(f"cannot be known yet: {error}",))
        obstacles = () if unknown else plan.obstacles
        unknown = unknown or step.opaque
        warnings = (*(left if not found else ()), *plan.warnings)
        warnings = (*warnings, *(f"it would stop here: {fault}" for fault in obstacles))
        found.append(StepPreview(step.name, step.title, plan.changes, plan.notes, warnings, obstacles))
    if found and not unknown and (fault := _starts_nothing(context)) is not None:
        last = found[-1]
        warnings = (*last.warnings, f"it would stop here: {fault}")
        found[-1] = replace(last, warnings=warnings, obstacles=(*last.obstacles, fault))
    return Preview(context.run.title, tuple(found))


def _starts_nothing(context: RunContext) -> Fault | None:
    """What is wrong where the launch script executes a program now, and would execute none afterwards."""
    script = context.keep.config.launch.script
    was, will = context.folder.base.entries(), context.folder.entries()
    if script not in was or script not in will or (was[script] == will[script] and was.keys() <= will.keys()):
        return None
    from emberkeep.detection.launch import programs_of  # only where a script is looked at

    before = programs_of(context.folder.base, script)
    if not before or programs_of(context.folder, script):
        return None
    hint = f"have {script} name the program that will be there"
    return Fault(f"{script} would start nothing: {before[0]} will not be there", Place(script), hint)


def left_to_do(context: RunContext, steps: Sequence[Step]) -> Preview:
    """What is left to do of an interrupted run: the steps that are not done."""
    context.only_planned = True
    known = context.journal.steps(context.run)
    found = []
    for context.at, step in enumerate(steps):
        plan = step.plan(context)
        record = known.get(context.at)
        if record is not None and record.ended is not None:
            context.facts = dict(record.facts)
            step.passed(context)
        else:
            found.append(StepPreview(step.name, step.title, plan.changes, plan.notes, plan.warnings))
    return Preview(context.run.title, tuple(found))


def foreseen(context: RunContext, steps: Sequence[Step]) -> Preview:
    """A preview that leaves ``context`` as it is, so that the same steps can be carried out in it."""
    return preview(replace(context, planned=None, facts={}, findings=Findings(), faults=[]), steps)


def require_possible(context: RunContext, steps: Sequence[Step]) -> None:
    """Refused where something would stop a run on its way, as far as it can be found before anybody is told."""
    obstacles = foreseen(context, steps).obstacles
    if obstacles:
        raise Refused.gathered(obstacles)


def _check_readable(context: RunContext, plan: Plan) -> None:
    """Refused beforehand for the same reason."""
    base = context.planned.base if context.planned is not None else None
    if not isinstance(base, FolderTree):
        return
    for path in sorted(plan.touched):
        entry = base.entries().get(path)
        if entry is not None and entry.kind is FILE and not os.access(base.root / path, os.R_OK):
            refuse_unreadable(path)


def refuse_unreadable(path: str) -> None:
    """Refused: a path could not be read, so nothing could give it back."""
    raise Refused(
        f"{path} would be changed, and could not be read: no snapshot could give it back",
        hint="run this as a user who may read it",
    )
