"""The kinds of run, each made anew from what the journal knows of it, and gone on with."""

from __future__ import annotations

import importlib
from typing import Any

from emberkeep.errors import Damage, Refused
from emberkeep.keep import Keep
from emberkeep.runs import run
from emberkeep.runs.journal import MERGE, RESTORE, Journal, Run
from emberkeep.runs.run import Clock, Room, Step
from emberkeep.store.intake import Progress, silent
from emberkeep.store.store import Store

_MODULES = {
    RESTORE: "emberkeep.runs.recovery",
    MERGE: "emberkeep.runs.merge",
    "carry": "emberkeep.runs.carry",
    "import": "emberkeep.runs.bring",
    "player": "emberkeep.runs.person",
    "migrate": "emberkeep.runs.migrate",
    "update": "emberkeep.runs.update",
    "start": "emberkeep.runs.serving",
    "back": "emberkeep.runs.serving",
    "wipe": "emberkeep.runs.wipe",
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
        run.undo(room.keep, room.store, run.to_undo(room.keep, room.store, room.run.number), room.clock, room.progress)
        return room.run
    check_again = getattr(_module(room.run.kind), "check_again", None)
    if check_again is not None:
        check_again(room)
    done = run.go_on(room, steps_of(room.keep, room.store, room.run), stay=stay)
    if room.faults:
        raise Damage.gathered(tuple(room.faults))
    return done


def room_of(keep: Keep, store: Store, found: Run, clock: Clock, progress: Progress = silent) -> Room:
    """What the steps of a run that is resumed work with."""
    return Room(keep, store, Journal(keep.folder), found, clock, progress=progress)
