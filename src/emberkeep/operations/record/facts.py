"""What the journal knows of a run and its steps, and how it writes down what stands at a path."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from emberkeep.fs.trees import LINK, Entry, Tree

BEGUN, DONE, TAKEN_BACK, UNDONE = "begun", "done", "taken back", "undone"


UNDO = "undo"
"""Why a snapshot was taken before a run was taken back."""


@dataclass(frozen=True)
class StepRecord:
    """A step of a run as the journal knows it. ``facts``: what the step noted for resuming."""

    at: int
    name: str
    title: str
    begun: datetime
    ended: datetime | None = None
    facts: Mapping[str, Any] = field(default_factory=dict)

    @property
    def seconds(self) -> float | None:
        """How long it took; None while it is not done."""
        return (self.ended - self.begun).total_seconds() if self.ended else None


@dataclass(frozen=True)
class Run:
    """One run. ``title``: what it does, in words; ``before``: the snapshot of the whole server folder taken before it;
    ``request``: what was asked for, which resuming begins from; ``whole``: whether anything in the folder may have
    changed, as a program ran in it, and not only the paths that were noted; ``undoing``: whether it is being taken
    back; ``aside``: whether it leaves the server folder alone."""

    number: int
    kind: str
    begun: datetime
    before: str = ""
    title: str = ""
    request: Mapping[str, Any] = field(default_factory=dict)
    whole: bool = False
    undoing: bool = False
    aside: bool = False
    ended: datetime | None = None
    state: str = BEGUN
    steps: tuple[StepRecord, ...] = ()

    @property
    def words(self) -> str:
        """What it is, for messages."""
        return self.title or self.kind

    @property
    def how_it_went(self) -> str:
        """Its state, for messages."""
        return "interrupted" if self.state == BEGUN else self.state


def noted_at(tree: Tree, path: str) -> str:
    """What stands at a path, as ``touched`` has it."""
    return noted(tree.entries().get(path) if path else tree.top)


def noted(entry: Entry | None) -> str:
    """An entry as ``touched`` has it; "" for none."""
    if entry is None:
        return ""
    if entry.kind is LINK:
        return f"link {entry.points_at}"
    return f"{entry.kind} {entry.mode:o} {entry.mtime_ns} {entry.size}"
