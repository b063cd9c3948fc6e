"""A merge into the live files, as a run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Refused, UnreadableInput
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.merging import answers as answer_files
from emberkeep.merging.answers import Answer
from emberkeep.merging.results import Merge
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.runner import carry_out
from emberkeep.operations.engine.step import Clock, RunContext, Step
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps import merge as merging
from emberkeep.operations.steps.merge import MergeStep, tables_step
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process.signs import refuse_if_running
from emberkeep.store.manifest import About
from emberkeep.store.store import Store


@dataclass(frozen=True)
class Request(merging.Request):
    """A merge, the answers given for it, and what the files were when it was looked at: digests by path."""

    answers: tuple[Answer, ...] = ()
    based_on: Mapping[str, str | None] = field(default_factory=dict)


def steps(keep: Keep, store: Store, request: Request, known: Merge | None = None) -> list[Step]:
    """The steps of a merge in a keep. ``known``: what it comes to, where that was worked out already."""
    first = SnapshotStep(f"before merging {request.new}", KIND.name)
    merge = MergeStep(request, request.answers, request.based_on, known)
    return [first, merge, *tables_step(keep, request, request.answers, known)]


def write_merge(
    keep: Keep,
    store: Store,
    merge: Merge,
    wanted: merging.Request,
    given: Path | None,
    clock: Clock,
    progress: Progress = no_op,
) -> About | None:
    """Write a merge into the live files as a run; returns the snapshot taken before, None when there is nothing to
    write.

    Refused when a file changed since the merge was worked out or the server runs. RunFailed when the system refuses
    half-way: the files are then put back.
    """
    if merge.faults:
        raise UnreadableInput.gathered(merge.faults)
    if not merge.to_write and not merge.tables_to_write:
        merging.remember(keep, merge)
        return None
    refuse_if_running(keep, "it would overwrite edited settings when it exits")
    answers = answer_files.read(given) if given and given.exists() else []
    based_on = {item.path: item.based_on for item in merge.to_write}
    merging.check_unchanged(FolderTree(keep.require_server()), based_on)
    request = Request(wanted.old, wanted.new, wanted.only, wanted.checked, tuple(answers), based_on)
    context = RunContext(keep, store, Journal(keep.folder), KIND.run(request, clock()), clock, progress=progress)
    carry_out(context, steps(keep, store, request, merge))
    return context.findings.before


def _from_earlier(request: Mapping[str, Any]) -> Mapping[str, Any]:
    if "new" not in request:
        raise Refused(
            "a merge that an earlier Ember Keep began cannot go on",
            hint="'emberkeep undo --go' takes it back; then merge again",
        )
    return request


KIND = RunKind(
    "merge",
    Request,
    title=lambda request: f"merge of the defaults of {request.new}",
    steps=steps,
    from_earlier=_from_earlier,
)
