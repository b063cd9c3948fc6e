"""Update day as one run: the engine replaced, the framework laid over it again, defaults recorded and merged in,
extensions replaced, saves migrated, the launch script set right, the server started and looked at; or all back."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from emberkeep.callbacks import no_op
from emberkeep.errors import Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, read
from emberkeep.inventory.extensions import Extension, read_manifest
from emberkeep.inventory.probe import FileProbe
from emberkeep.inventory.roles import Roles
from emberkeep.keep import edit as keep_edit
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.kind import RunKind, Saves
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows import migrate
from emberkeep.operations.flows.update_engine import EnginePlaced, OverlayStep, UpdaterStep, relaunch
from emberkeep.operations.flows.update_request import REMOVE, CheckStep, Request, builds_in, release
from emberkeep.operations.record import defaults
from emberkeep.operations.record.facts import Run
from emberkeep.operations.steps import merge as merging
from emberkeep.operations.steps import server
from emberkeep.operations.steps.server import LandmarkStep, MeasureStep, OnWatch, StartStep, StopStep, WarnStep
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process.forecast import lasting
from emberkeep.process.watch import Watched
from emberkeep.store.store import Store
from emberkeep.survey.landmarks import Missed


def steps(keep: Keep, store: Store, request: Request, on_watch: OnWatch = no_op) -> list[Step]:
    """The steps of an update."""
    migration = migrate.Request(request.saves, request.new, request.recipes, None if request.rehearsal else request.sql)
    source = release(keep, store, request)
    needless = ""
    try:
        recipes = migrate.recipes_for(migration)
    except Refused:
        recipes, needless = [], migrate.without_recipes(keep, source, migration)
        if not needless:
            raise
    allowed = migrate.allowed(recipes)
    wanted = merging.Request(request.old, request.new)
    found: list[Step] = [CheckStep(request, source, needless)]
    if not request.rehearsal:
        found += [WarnStep(), StopStep()]
    found += [SnapshotStep(f"before {request.new}", KIND.name), MeasureStep()]
    if request.rehearsal:
        found.append(FileStep("rehearsal", "set what differs in a rehearsal", _rehearse))
    engine = EnginePlaced(request, source)
    if keep.config.updating.command:
        found.append(UpdaterStep(keep.config.updating.command, engine))
    else:
        found.append(FileStep("engine", f"put the engine {request.new} in place", engine))
    if keep.config.updating.overlay:
        found.append(OverlayStep(source))
    found += [
        DefaultsStep(request.new, request.source),
        merging.MergeStep(wanted, request.answers, after=source),
    ]
    if request.builds:
        found.append(FileStep("extensions", "replace the extensions by their new builds", _Builds(request)))
    found += migrate.recipe_steps(keep, recipes) or [migrate.GuardStep()]
    found += migrate.sql_steps(keep, store, migration)
    found += merging.tables_step(keep, wanted, request.answers, after=source)
    found.append(FileStep("launch", "have the launch script name the new program", relaunch))
    if request.start:
        found.append(StartStep(on_watch, request.new if request.strict else ""))
    found.append(LandmarkStep(allowed, planned=not request.start))
    return found


# --- defaults, extensions, launch script ----------------------------------------------


class DefaultsStep(Step):
    """Record the release's untouched files, where that was not done before."""

    name = "defaults"

    def __init__(self, version: str, source: Path | None) -> None:
        self.version, self.source = version, source
        self.title = f"record the untouched files of {version}"

    def plan(self, context: RunContext) -> Plan:
        """Whether they are recorded already."""
        return Plan(notes=("they are recorded already",) if self.version in context.store.versions() else ())

    def act(self, context: RunContext, plan: Plan) -> None:
        """Record the release, unless it is recorded already."""
        if self.version in context.store.versions() or self.source is None:
            return
        context.note(recorded=self.version)
        defaults.record(context.keep, context.store, self.version, self.source, context.clock(), context.progress)


@dataclass
class _Builds:
    """New builds take the place of the installed ones of the same name; those without one stay or go as was said."""

    request: Request

    def __call__(self, context: RunContext) -> Notes:
        assert self.request.builds is not None
        folder, config = context.folder, context.keep.config
        source = FolderTree(self.request.builds)
        builds = {item.name.lower(): item for item in builds_in(self.request.builds)}
        installed = _installed(context)
        choices = {**config.updating.remember, **self.request.choices}
        notes = Notes()
        for item in installed:
            build = builds.pop(item.name.lower(), None)
            if build is not None:
                target = f"{item.path.rpartition('/')[0]}/{build.path.rpartition('/')[2]}".lstrip("/")
                if target != item.path:
                    folder.remove(item.path)
                folder.take(target, source, build.path)
                notes.lines.append(f"{item.name}: {build.version} instead of {item.version}")
            elif choices.get(item.name) == REMOVE:
                folder.remove(item.path)
                notes.lines.append(f"{item.name} {item.version} is taken out for now; it is in the snapshot")
        there = {item.name.lower() for item in installed}
        for item in builds.values():
            notes.warnings.append(f"{item.name} {item.version} is not installed, and is not put in")
        names = {need.lower(): item for item in installed for need in item.needs}
        for need, item in names.items():
            if need not in there:
                notes.warnings.append(f"{item.name} needs {need}, which is not installed")
        return notes


def _installed(context: RunContext) -> list[Extension]:
    """The extensions of the planned folder, by the manifests inside them."""
    roles = Roles(context.keep.config.roles)
    entries = context.folder.entries()
    paths = [path for path, entry in entries.items() if entry.kind is FILE and roles.of(path) == "extensions"]
    found = []
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as place:
        for number, path in enumerate(paths):
            (Path(place) / str(number)).write_bytes(read(context.folder, path))
        look = FileProbe(FolderTree(Path(place)), Path(place))
        for number, path in enumerate(paths):
            extension = read_manifest(look, str(number))
            if extension is not None:
                found.append(replace(extension, path=path))
        look.require_read()
    return found


def _rehearse(context: RunContext) -> Notes:
    from emberkeep.documents import edit

    notes = Notes()
    for path, key, value in context.keep.config.updating.set_for_rehearsal:
        if path not in context.folder.entries():
            raise Refused(f"there is no {path} to be set for a rehearsal", hint="see [rehearse] in keep.toml")
        context.folder.write(path, edit.set_value(path, read(context.folder, path), key, value))
        notes.lines.append(f"{path}: {key} = {value}")
    return notes


# --- what came of it ---------------------------------------------------------------


@dataclass(frozen=True)
class StepReport:
    """What one step did, and how long it took in seconds."""

    title: str
    seconds: float | None


@dataclass(frozen=True)
class Report:
    """What an update came to. ``waits``: what is left for the admin, in words."""

    run: int
    before: str
    steps: tuple[StepReport, ...]
    measured: str
    missed: tuple[Missed, ...]
    watched: Watched | None
    questions: int
    waits: tuple[str, ...]

    @property
    def lasting(self) -> str:
        """How long all of it took, in words."""
        return lasting(sum(step.seconds or 0.0 for step in self.steps))


def report(context: RunContext, done: Run) -> Report:
    """What a run that was carried out came to."""
    found = context.findings
    watched, merged, missed = found.watched, found.merge, found.missed
    questions = sum(len(one.open) for one in (merged, found.tables) if one is not None)
    several = f"{questions} questions of the merge are open; yours stay until they are answered"
    one = "one question of the merge is open; yours stays until it is answered"
    waits = [one if questions == 1 else several] if questions else []
    waits += (
        [f"learned check broken: {breach.record}: {breach.what}" for breach in merged.breaches[:5]] if merged else []
    )
    other = server.another_version(context.keep, watched, KIND.request_of(done).new) if watched else ""
    waits += [other] if other else []
    waits += list(watched.failures) + list(watched.errors) if watched else []
    waits += [f"changed as the recipe says: {item.words}" for item in missed if item.allowed][:3]
    steps = context.journal.steps(done).values()
    return Report(
        done.number,
        done.before,
        tuple(StepReport(step.title, step.seconds) for step in steps),
        found.measured.words if found.measured else "",
        missed,
        watched,
        questions,
        tuple(waits),
    )


def remember(keep: Keep, choices: Mapping[str, str]) -> None:
    """Write into keep.toml what is done with extensions without a new build."""
    if choices:
        keep_edit.remember(keep, ("update", "remember"), choices)


def _title(request: Request) -> str:
    return f"{'rehearsal of the ' if request.rehearsal else ''}update to {request.new}"


KIND = RunKind("update", Request, title=_title, steps=steps, saves=Saves.RAISED)
