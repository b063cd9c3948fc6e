"""Which kinds of run there are. A module of a kind is loaded when a run of it is looked at."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from emberkeep.errors import Refused

if TYPE_CHECKING:
    from emberkeep.operations.engine.kind import RunKind

_FLOWS = "emberkeep.operations.flows."
KINDS = {
    "restore": "restore",
    "player": "person",
    "merge": "merge",
    "update": "update",
    "migrate": "migrate",
    "carry": "carry",
    "import": "import_world",
    "wipe": "wipe",
    "send": "send",
    "start": "start",
    "back": "set_back",
    "store": "move_store",
}
"""By the name that the journal has: the module of ``operations/flows`` that has it as ``KIND``."""


def find(name: str) -> RunKind[Any] | None:
    """The kind of a name; None for one that a later Ember Keep knows."""
    if name not in KINDS:
        return None
    kind: RunKind[Any] = importlib.import_module(_FLOWS + KINDS[name]).KIND
    return kind


def kind_of(name: str) -> RunKind[Any]:
    """The kind of a name. Refused for one that a later Ember Keep knows."""
    kind = find(name)
    if kind is None:
        raise Refused(f"this Ember Keep does not know how a run of kind '{name}' goes on", hint="update Ember Keep")
    return kind
