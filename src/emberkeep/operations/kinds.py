"""The kinds of run, each made anew from what the journal knows of it, and gone on with."""

from __future__ import annotations

import importlib
from typing import Any

from emberkeep.errors import Damage, Refused
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import step
from emberkeep.operations.engine.step import Clock, Room, Step
from emberkeep.operations.record.journal import MERGE, RESTORE, Journal, Run
from emberkeep.store.intake import Progress, silent
from emberkeep.store.store import Store

_MODULES = {
    RESTORE: "emberkeep.operations.flows.restore",
    MERGE: "emberkeep.operations.steps.merge",
    "carry": "emberkeep.operations.flows.carry",
    "import": "emberkeep.operations.flows.import_world",
    "player": "emberkeep.operations.flows.person",
    "migrate": "emberkeep.operations.flows.migrate",
    "update": "emberkeep.operations.flows.update",
    "start": "emberkeep.operations.steps.server",
    "back": "emberkeep.operations.steps.server",
    "wipe": "emberkeep.operations.flows.wipe",
}


def _module(kind: str) -> Any:
    """Of a kind; each loads only what it needs. Refused for one that a later Ember Keep began."""
    if kind not in _MODULES:
        raise Refused(f"this Ember Keep does not know how a run of kind '{kind}' goes on", hint="update Ember Keep")
    return importlib.import_module(_MODULES[kind])


def steps_of(keep: Keep, store: Store, found: Run) -> list[Step]:
    """The steps of a run that the journal knows, made anew from what was asked for."""
    steps: list[Step] = _module(found.kind).steps_again(keep, store, found.request)
    return steps


def resume(room: Room, *, stay: bool = False) -> Run:
    """Finish the interrupted run of ``room``: go on with it, or take it back wholly where that had begun."""
    if room.run.undoing:
        step.undo(
            room.keep, room.store, step.to_undo(room.keep, room.store, room.run.number), room.clock, room.progress
        )
        return room.run
    check_again = getattr(_module(room.run.kind), "check_again", None)
    if check_again is not None:
        check_again(room)
    done = step.go_on(room, steps_of(room.keep, room.store, room.run), stay=stay)
    if room.faults:
        raise Damage.gathered(tuple(room.faults))
    return done


def room_of(keep: Keep, store: Store, found: Run, clock: Clock, progress: Progress = silent) -> Room:
    """What the steps of a run that is resumed work with."""
    return Room(keep, store, Journal(keep.folder), found, clock, progress=progress)
