"""What a run will do, or has left to do, found by planning its steps; nothing is written."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace

from emberkeep.errors import EmberKeepError, Fault, Place, Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Change
from emberkeep.fs.trees import FILE
from emberkeep.operations.engine.step import Findings, Plan, Room, Step


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
        warnings = (*last.warnings, f"it would stop here: {fault}")
        found[-1] = replace(last, warnings=warnings, obstacles=(*last.obstacles, fault))
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


def foreseen(room: Room, steps: Sequence[Step]) -> Preview:
    """A preview that leaves ``room`` as it is, so that the same steps can be carried out in it."""
    return preview(replace(room, planned=None, facts={}, findings=Findings(), faults=[]), steps)


def require_possible(room: Room, steps: Sequence[Step]) -> None:
    """Refused where something would stop a run on its way, as far as it can be found before anybody is told."""
    obstacles = foreseen(room, steps).obstacles
    if obstacles:
        raise Refused.gathered(obstacles)


def _check_readable(room: Room, plan: Plan) -> None:
    """Refused beforehand for the same reason."""
    base = room.planned.base if room.planned is not None else None
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
