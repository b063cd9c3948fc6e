"""Setting back, as a run, what held for one start and what a server that has stopped left of it."""

from __future__ import annotations

from dataclasses import dataclass

from emberkeep.documents import edit
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Tree, read
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.runner import carry_out
from emberkeep.operations.engine.step import FileStep, Notes, RunContext, Step
from emberkeep.operations.record.starts import Starts
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.store.store import Store


@dataclass(frozen=True)
class Request:
    """All that the journal knows to hold for one start."""


def files(starts: Starts, tree: Tree) -> dict[str, bytes]:
    """The files in which something still has the value of one start, as they are with it set back."""
    found: dict[str, bytes] = {}
    for one in starts.temporary():
        if one.file not in tree.entries():
            continue
        data = found.get(one.file) or read(tree, one.file)
        if edit.value(one.file, data, one.key) == one.value:
            found[one.file] = edit.set_value(one.file, data, one.key, one.back)
    return found


def _set_back(context: RunContext) -> Notes:
    for path, data in files(Starts(context.keep.folder), context.folder).items():
        context.folder.write(path, data)
    return Notes()


def steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps of setting back what held for one start, once the server has stopped."""
    before = SnapshotStep("before setting back what held for one start", KIND.name)
    return [before, FileStep("back", "set back what held for one start", _set_back)]


def set_back(context: RunContext) -> bool:
    """Set back, as a run, what a server that has stopped left of a start with settings for it alone; whether there was
    anything. What is back is forgotten."""
    waits = bool(files(Starts(context.keep.folder), FolderTree(context.keep.server)))
    if waits:
        carry_out(context, steps(context.keep, context.store, Request()))
    starts = Starts(context.keep.folder)
    for one in starts.temporary():
        starts.remove_temporary(one)
    return waits


KIND = RunKind("back", Request, title=lambda request: "setting back what held for one start", steps=steps)
