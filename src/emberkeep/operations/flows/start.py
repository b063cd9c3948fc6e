"""A start of the server by itself: a run of its own only where it changes files first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from emberkeep.callbacks import no_op
from emberkeep.documents import edit, registry
from emberkeep.errors import Refused
from emberkeep.fs import writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import read
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.kind import RunKind
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows import set_back
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.starts import Starts, TemporarySetting
from emberkeep.operations.steps.server import OnWatch, StartStep
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process.signs import signs
from emberkeep.store.store import Store


@dataclass(frozen=True)
class OnceRequest:
    """A setting for exactly one start."""

    file: str
    key: str
    value: str


class OnceStep(FileStep):
    """Set values for one start; the journal remembers what they are set back to."""

    def __init__(self, wanted: Sequence[OnceRequest]) -> None:
        self.wanted = tuple(wanted)
        super().__init__("once", "set for this one start", self._set)

    def _set(self, context: RunContext) -> Notes:
        notes = Notes()
        for one in self.wanted:
            if one.file not in context.folder.entries():
                raise Refused(
                    f"there is no file {one.file}", hint="name a file of the server folder: --once FILE:KEY=VALUE"
                )
            data = read(context.folder, one.file)
            before = edit.value(one.file, data, one.key)
            if before is None:
                raise Refused(
                    f"there is no {one.key} in {one.file}", hint="name a key that the file has: --once FILE:KEY=VALUE"
                )
            context.folder.write(one.file, edit.set_value(one.file, data, one.key, one.value))
            notes.lines.append(f"{one.file}: {one.key} = {one.value}, and back to {before} after the first good start")
            context.findings.once.append(TemporarySetting(one.file, one.key, one.value, before))
        return notes

    def act(self, context: RunContext, plan: Plan) -> None:
        """Set the values once the journal knows what they are set back to."""
        starts = Starts(context.keep.folder)
        for one in context.findings.once:
            starts.add_temporary(one)
            context.findings.on_back.append(partial(starts.remove_temporary, one))
        super().act(context, plan)


@dataclass(frozen=True)
class Request:
    """What is set for this one start."""

    once: tuple[OnceRequest, ...] = ()


class BackStep(Step):
    """Set back what held for the start that just went well. A server that writes its settings when it exits may bring
    it again, so the journal remembers it until the server has stopped."""

    name, title = "back", "set back what held for this one start"
    whole = True

    def act(self, context: RunContext, plan: Plan) -> None:
        """Set back in the live files whatever still has the value of one start."""
        for path, data in set_back.files(Starts(context.keep.folder), FolderTree(context.keep.server)).items():
            writing.write_whole(context.keep.server / path, [data])


def checked(keep: Keep, store: Store) -> list[str]:
    """Where the live files break what the recorded releases teach; nothing where none is recorded."""
    from emberkeep.merging.results import FileMerge, Merge, Outcome
    from emberkeep.operations.record import defaults
    from emberkeep.operations.steps import merge as merging

    known = defaults.versions(store)
    if not known:
        return []
    live, newest = FolderTree(keep.server, "live"), defaults.tree_of(store, known[-1])
    paths = [path for path in defaults.merged_paths(keep, newest) if path in live.entries()]
    items = tuple(FileMerge(path, Outcome.SAME, registry.kind_of(path, read(live, path))) for path in paths)
    found = merging.check(keep, store, Merge(live.label, newest.label, items), live, known[-1], newest)
    return [f"{breach.check.file}:{breach.line}: {breach.record} {breach.what}" for breach in found]


def steps(keep: Keep, store: Store, request: Request, on_watch: OnWatch = no_op) -> list[Step]:
    """The steps of a start that changes files first."""
    before = SnapshotStep("before a start with settings for it alone", KIND.name)
    return [before, OnceStep(request.once), StartStep(on_watch), BackStep()]


def require_idle(keep: Keep) -> None:
    """Refused while a run waits or the server runs."""
    Journal(keep.folder).refuse_if_waiting()
    found = next(signs(keep.server, keep.config), None)
    if found is not None:
        raise Refused(f"the server is running already ({found.words})", hint="'emberkeep watch' follows its log")


def _from_earlier(request: Mapping[str, Any]) -> Mapping[str, Any]:
    """Settings were lists of three before."""
    once = [
        dict(zip(("file", "key", "value"), one, strict=True)) if isinstance(one, list) else one
        for one in request["once"]
    ]
    return {**request, "once": once}


KIND = RunKind("start", Request, title=lambda request: "start", steps=steps, from_earlier=_from_earlier)
