"""A kind of run: all that tells it apart from others, in one place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import Enum
from typing import Any, Generic, TypeVar

from emberkeep.callbacks import no_op
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.codec import from_json, to_json
from emberkeep.operations.engine.step import RunContext, Step
from emberkeep.operations.record.facts import Run
from emberkeep.store.store import Store

R = TypeVar("R")


class Saves(Enum):
    """What a run makes of the version of the saves: nothing, that of its request's ``new``, one from elsewhere that
    nobody told, or that of the snapshot that it puts back."""

    STAY = "stay"
    RAISED = "raised"
    REPLACED = "replaced"
    PUT_BACK = "put back"


Json = Mapping[str, Any]


def as_it_is(request: Json) -> Json:
    """A request that every Ember Keep wrote alike."""
    return request


@dataclass(frozen=True)
class RunKind(Generic[R]):
    """One kind of run.

    ``name``: as the journal has it; ``request``: a frozen dataclass of what can be asked for, kept in the journal as
    JSON; ``title``: a request in words; ``steps``: what is done for it. ``from_earlier``: a request of an earlier Ember
    Keep as this one would write it; ``before_resuming``: raises where an interrupted run cannot go on;
    ``reach``: which paths one may have changed, where the journal's notes do not tell; ``saves``: what it makes of the
    version of the saves; ``undo``: takes one back whose changes do not lie in the server folder; None where they do.
    ``remote``: whether going on and undoing need the context's connections to a remote host; ``aside``: whether it
    leaves the server folder alone, so that 'undo' without a number goes on meaning the run before it.
    """

    name: str
    request: type[R]
    title: Callable[[R], str]
    steps: Callable[[Keep, Store, R], list[Step]]
    from_earlier: Callable[[Json], Json] = as_it_is
    before_resuming: Callable[[RunContext], None] = no_op
    reach: Callable[[Keep, Store, R], Callable[[str], bool]] | None = None
    saves: Saves = Saves.STAY
    undo: Callable[[RunContext], None] | None = None
    remote: bool = False
    aside: bool = False

    def run(self, request: R, begun: datetime) -> Run:
        """A new run, not in the journal yet."""
        return Run(0, self.name, begun, title=self.title(request), request=to_json(request), aside=self.aside)

    def request_of(self, run: Run) -> R:
        """What a run that the journal knows was asked for. UnreadableInput where that cannot be read."""
        return self.read(run.request, f"what run {run.number} ({run.words}) was asked for")

    def read(self, request: Json, what: str) -> R:
        """A request from JSON; ``what`` names it in a fault."""
        return from_json(self.request, self.from_earlier(request), what)

    def steps_of(self, keep: Keep, store: Store, run: Run) -> list[Step]:
        """The steps of a run that the journal knows, made anew."""
        return self.steps(keep, store, self.request_of(run))
