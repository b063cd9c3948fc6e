"""The kinds of run, each made anew from what the journal knows of it."""

from __future__ import annotations

import importlib

from emberkeep.errors import Refused
from emberkeep.keep import Keep
from emberkeep.runs.journal import MERGE, Run
from emberkeep.runs.run import Step
from emberkeep.store.store import Store

_MODULES = {
    "carry": "emberkeep.runs.carry",
    "import": "emberkeep.runs.bring",
    "player": "emberkeep.runs.person",
    "migrate": "emberkeep.runs.migrate",
    "update": "emberkeep.runs.update",
    "start": "emberkeep.runs.serving",
    "back": "emberkeep.runs.serving",
    "wipe": "emberkeep.runs.wipe",
}


def steps_of(keep: Keep, store: Store, found: Run) -> list[Step]:
    """The steps of an interrupted run. Refused for a kind that a later Ember Keep began."""
    if found.kind == MERGE:
        from emberkeep.runs import merge

        return merge.steps_again(keep, found.request)
    if found.kind not in _MODULES:
        raise Refused(
            f"this Ember Keep does not know how a run of kind '{found.kind}' goes on", hint="update Ember Keep"
        )
    module = importlib.import_module(_MODULES[found.kind])
    steps: list[Step] = module.steps_again(keep, store, found.request)
    return steps
