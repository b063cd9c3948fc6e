"""Update day as one run: the engine replaced, the framework laid over it again, defaults recorded and merged in,
extensions replaced, saves migrated, the launch script set right, the server started and looked at; or all back."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from emberkeep.detection import launch
from emberkeep.documents.encoding import decode
from emberkeep.errors import Place, Refused, UsageError
from emberkeep.fs import globs
from emberkeep.fs.archives import open_source
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, FOLDER, PartTree, Tree, best_root, read
from emberkeep.inventory.extensions import Extension, fits_engine, read_manifest
from emberkeep.inventory.probe import Look
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.versions import ordering
from emberkeep.keep import edit as keep_edit
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.merging.answers import Answer
from emberkeep.migrating.chain import is_of
from emberkeep.operations.engine.kind import RunKind, Saves
from emberkeep.operations.engine.step import FileStep, Notes, Plan, Room, Step
from emberkeep.operations.flows import migrate
from emberkeep.operations.record import defaults
from emberkeep.operations.record.facts import Run
from emberkeep.operations.steps import merge as merging
from emberkeep.operations.steps import server
from emberkeep.operations.steps.server import LandmarkStep, MeasureStep, StartStep, StopStep, Told, WarnStep, deaf
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process.forecast import lasting
from emberkeep.process.watch import Watched
from emberkeep.store.store import Store
from emberkeep.survey.landmarks import Missed

KEEP, REMOVE, STOP = "keep", "remove", "stop"
_NUMBER = re.compile(r"\d+(?:\.\d+)*")


@dataclass(frozen=True)
class Request:
    """What an update is asked to do. ``source``: the new release, None where the admin's own updater brings it and its
    defaults are recorded; ``old``: the release the live files began from, None
    to merge without one; ``saves``: the version of the saves; ``builds``: a folder of new builds of extensions;
    ``choices``: what is done with an extension without one (keep or remove); ``start``: whether it is started;
    ``sql``: the folder with the vendor's SQL; ``strict``: whether all is taken back where another version runs then."""

    source: Path | None
    new: str
    engine: str
    old: str | None
    saves: str
    recipes: tuple[Path, ...] = ()
    builds: Path | None = None
    choices: Mapping[str, str] = field(default_factory=dict)
    answers: tuple[Answer, ...] = ()
    start: bool = True
    rehearsal: bool = False
    sql: Path | None = None
    strict: bool = False


def request_of(keep: Keep, store: Store, source: Path | None, new: str, **further: Any) -> Request:
    """An update to ``new``, with what the keep knows of what is there; ``further``: the request's other fields, where
    None leaves ``old`` and ``saves`` to what is known."""
    live = FolderTree(keep.require_server(), "live")
    said = further.pop("old", None)
    try:
        engine = migrate.engine_version(keep.config, live)
    except Refused:
        if not said:
            raise
        engine = said  # no file and no log tells: then it is what the files began from
    old = said or merging.began_from(keep, store, live)
    saves = migrate.saves_version(keep, store, further.pop("saves", None), engine)
    return Request(source, new, engine, old, saves, **further)


def steps(keep: Keep, store: Store, request: Request, told: Told = deaf) -> list[Step]:
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
    engine = _Engine(request, source)
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
    found.append(FileStep("launch", "have the launch script name the new program", _relaunch))
    if request.start:
        found.append(StartStep(told, request.new if request.strict else ""))
    found.append(LandmarkStep(allowed, planned=not request.start))
    return found


def release(keep: Keep, store: Store, request: Request) -> Tree:
    """The vendor's release, lined up with the server folder. UsageError where nothing brings it."""
    if request.source is None:
        if not keep.config.updating.command:
            raise UsageError("a SOURCE is wanted: the vendor's release", hint="or [update] command in keep.toml")
        return defaults.tree_of(store, request.new)
    whole = open_source(request.source)
    below = best_root(whole, defaults.keep_paths(keep))
    return PartTree(whole, below) if below else whole


# --- before anything is done -----------------------------------------------------


class CheckStep(Step):
    """Versions, room on the disk, extensions; Refused where the update cannot go well."""

    name, title = "check", "check versions, room and extensions"

    def __init__(self, request: Request, source: Tree, needless: str = "") -> None:
        self.request, self.source, self.needless = request, source, needless

    def plan(self, room: Room) -> Plan:
        config, request = room.keep.config, self.request
        notes = [_check_versions(config, request, self.source), _check_room(room, self.source)]
        notes += [self.needless] if self.needless else []
        warnings: list[str] = []
        if request.rehearsal and request.sql is not None:
            warnings.append("the vendor's SQL is not rehearsed: there is only one of each database")
        installed = server.installed(room.keep) if room.only_planned or not room.run.before else []
        if installed:
            notes.append(f"{len(installed)} extensions are installed")
            warnings += list(_without_build(config, request, installed))
        return Plan(notes=tuple(notes), warnings=tuple(warnings))


def _check_versions(config: Config, request: Request, source: Tree) -> str:
    if ordering(request.new) < ordering(request.engine):
        raise Refused(
            f"the engine is {request.engine}, newer than {request.new}: an update only goes forward",
            hint="to go back, restore a snapshot that was taken before",
        )
    try:
        shipped = migrate.engine_version(config, source)
    except Refused:
        return f"from {request.engine} to {request.new}; the source does not tell its version"
    if not is_of(shipped, request.new):
        raise Refused(f"{source.label} is release {shipped}, not {request.new}", hint=f"--to {shipped}?")
    return f"from {request.engine} to {shipped}"


def _check_room(room: Room, source: Tree) -> str:
    needed = sum(entry.size for entry in source.entries().values())
    free = shutil.disk_usage(room.keep.server.parent).free
    if needed * 2 > free:
        raise Refused(
            f"the release has {needed} bytes, and the disk has room for {free}: both old and new must find room",
            place=Place(str(room.keep.server)),
        )
    return f"{free // (1 << 20)} MiB are free; the release has {max(1, needed // (1 << 20))} MiB"


def _without_build(config: Config, request: Request, installed: Sequence[Extension]) -> Sequence[str]:
    """What is done with extensions that have no new build; Refused for those that the update is to stop for."""
    builds = _by_name(request)
    choices = {**config.updating.remember, **request.choices}
    warnings = []
    for extension in installed:
        build = builds.get(extension.name.lower())
        if build is not None:
            if not fits_engine(build, request.new):
                warnings.append(f"the new build {build.path} was built for {build.built_for}, not for {request.new}")
            continue
        choice = choices.get(extension.name, "")
        if choice == STOP:
            raise Refused(
                f"{extension.name} {extension.version} has no new build, and the update is to stop for it",
                hint=f"--without-build {extension.name}=keep or =remove",
            )
        if not choice and not fits_engine(extension, request.new):
            warnings.append(
                f"{extension.name} {extension.version} has no new build and was built for {extension.built_for}; it is "
                f"kept (--without-build {extension.name}=remove takes it out for now)"
            )
    return warnings


def _by_name(request: Request) -> dict[str, Extension]:
    return {item.name.lower(): item for item in _builds_in(request.builds)} if request.builds else {}


def undecided(keep: Keep, request: Request) -> list[Extension]:
    """Installed extensions without a new build, built for another engine, of which nobody has said what to do."""
    builds = _by_name(request)
    choices = {**keep.config.updating.remember, **request.choices}
    return [
        item
        for item in server.installed(keep)
        if item.name.lower() not in builds and item.name not in choices and not fits_engine(item, request.new)
    ]


def _builds_in(folder: Path) -> list[Extension]:
    if not folder.is_dir():
        raise UsageError(f"{folder} is no folder of builds")
    tree = FolderTree(folder)
    look = Look(tree, folder)
    return [
        found
        for path, entry in tree.entries().items()
        if entry.kind is FILE and (found := read_manifest(look, path)) is not None
    ]


# --- the engine -------------------------------------------------------------------


@dataclass
class _Engine:
    """The release's engine files take the place of those of the old one; what only the old one had goes."""

    request: Request
    source: Tree

    def __call__(self, room: Room) -> Notes:
        folder, config = room.folder, room.keep.config
        roles = Roles(config.roles)
        new = [path for path in self.source.entries() if roles.of(path) == "engine"]
        if not new:
            raise Refused(f"no file in {self.source.label} has the role engine", hint="see [roles] engine in keep.toml")
        gone = self._gone(room, roles, set(new))
        room.findings.programs = {path: _successor(path, new) for path in gone}
        for path in new:
            folder.take(path, self.source)
        for path in gone:
            folder.remove(path)
        shipped = self.source.entries()
        emptied = folder.remove_emptied(gone, lambda path: path not in shipped)
        notes = [f"the old ones are in the snapshot: {', '.join(gone[:4])}"] if gone else []
        return Notes([*notes, *([f"folders that are empty now go, too: {', '.join(emptied[:4])}"] if emptied else [])])

    def _gone(self, room: Room, roles: Roles, new: set[str]) -> list[str]:
        """Engine files of the old release: those it shipped, and those named as a new one but for their version."""
        shapes = {_shape(path) for path in new}
        shipped: set[str] = set()
        if self.request.old and self.request.old in room.store.versions():
            shipped = set(defaults.tree_of(room.store, self.request.old).entries())
        return [
            path
            for path, entry in room.folder.entries().items()
            if entry.kind is FILE
            and path not in new
            and roles.of(path) == "engine"
            and (path in shipped or (_NUMBER.search(path.rpartition("/")[2]) and _shape(path) in shapes))
        ]


def _shape(path: str) -> str:
    """A path with the numbers in its name left open."""
    parent, mark, name = path.rpartition("/")
    return parent + mark + _NUMBER.sub("#", name)


def _successor(path: str, new: Sequence[str]) -> str:
    return next((other for other in new if _shape(other) == _shape(path)), "")


class UpdaterStep(Step):
    """The admin's own updater, run in the server folder."""

    name = "engine"
    whole = opaque = True

    def __init__(self, command: tuple[str, ...], expected: _Engine) -> None:
        self.command, self.expected = command, expected
        self.title = f"run {' '.join(command)}"

    def plan(self, room: Room) -> Plan:
        if room.only_planned:
            self.expected(room)  # so that the steps behind it have something to plan on
        return Plan(notes=("what it changes is only known when it has run",))

    def passed(self, room: Room) -> None:
        if room.facts.get("snapshot"):
            room.begin_from(str(room.facts["snapshot"]))
            self._see_programs(room)

    def act(self, room: Room, plan: Plan) -> None:
        migrate.run_program(room, self.command, None, "", Place(self.command[0]))
        room.note(snapshot=migrate.checkpoint(room, f"after {self.command[0]}"))
        self._see_programs(room)

    def _see_programs(self, room: Room) -> None:
        """Which engine files took the place of which, for the launch script."""
        before, roles = room.before(), Roles(room.keep.config.roles)
        then = [path for path in before.entries() if roles.of(path) == "engine"] if before is not None else []
        now = [path for path in room.folder.entries() if roles.of(path) == "engine"]
        fresh = sorted({*now}.difference(then))
        room.findings.programs = {path: _successor(path, fresh) for path in then if path not in room.folder.entries()}


class OverlayStep(FileStep):
    """Lay the framework's archive over the engine again."""

    def __init__(self, source: Tree) -> None:
        self.source = source
        super().__init__("overlay", "lay the framework over the engine again", self._lay)

    def _lay(self, room: Room) -> Notes:
        folder, config = room.folder, room.keep.config
        archives = [path for path in folder.entries() if globs.matches(path, [config.updating.overlay])]
        if not archives:
            raise Refused(f"no archive fits {config.updating.overlay}", hint="see [update] overlay in keep.toml")
        archive = max(archives, key=ordering)
        laid = _open_inside(room, archive)
        members = [path for path, entry in laid.entries().items() if entry.kind is not FOLDER]
        replaced = sum(path in self.source.entries() for path in members)
        for path in members:
            folder.take(path, laid)
        before = _laid_last_time(room)
        last = f" ({before} last time)" if before is not None else ""
        room.findings.laid = replaced
        return Notes([f"{archive}: {len(members)} files, {replaced} of them over the engine's own{last}"])

    def act(self, room: Room, plan: Plan) -> None:
        super().act(room, plan)
        room.note(replaced=room.findings.laid)


def _open_inside(room: Room, path: str) -> Tree:
    """An archive that lies in the planned folder, as a tree."""
    there = room.keep.server / path
    if there.is_file():
        return open_source(there)
    raise Refused(f"{path} is not in the server folder")


def _laid_last_time(room: Room) -> int | None:
    for run in reversed(room.journal.runs()):
        for step in run.steps:
            if step.name == "overlay" and run.number != room.run.number and "replaced" in step.facts:
                return int(step.facts["replaced"])
    return None


# --- defaults, extensions, launch script ----------------------------------------------


class DefaultsStep(Step):
    """Record the release's untouched files, where that was not done before."""

    name = "defaults"

    def __init__(self, version: str, source: Path | None) -> None:
        self.version, self.source = version, source
        self.title = f"record the untouched files of {version}"

    def plan(self, room: Room) -> Plan:
        return Plan(notes=("they are recorded already",) if self.version in room.store.versions() else ())

    def act(self, room: Room, plan: Plan) -> None:
        if self.version in room.store.versions() or self.source is None:
            return
        room.note(recorded=self.version)
        defaults.record(room.keep, room.store, self.version, self.source, room.clock(), room.progress)


@dataclass
class _Builds:
    """New builds take the place of the installed ones of the same name; those without one stay or go as was said."""

    request: Request

    def __call__(self, room: Room) -> Notes:
        assert self.request.builds is not None
        folder, config = room.folder, room.keep.config
        source = FolderTree(self.request.builds)
        builds = {item.name.lower(): item for item in _builds_in(self.request.builds)}
        installed = _installed(room)
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


def _installed(room: Room) -> list[Extension]:
    """The extensions of the planned folder, by the manifests inside them."""
    roles = Roles(room.keep.config.roles)
    entries = room.folder.entries()
    paths = [path for path, entry in entries.items() if entry.kind is FILE and roles.of(path) == "extensions"]
    found = []
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as place:
        for number, path in enumerate(paths):
            (Path(place) / str(number)).write_bytes(read(room.folder, path))
        look = Look(FolderTree(Path(place)), Path(place))
        for number, path in enumerate(paths):
            told = read_manifest(look, str(number))
            if told is not None:
                found.append(replace(told, path=path))
    return found


def _relaunch(room: Room) -> Notes:
    """Where the launch script still names a program that has gone, it names the one that took its place."""
    folder, config = room.folder, room.keep.config
    script = config.launch.script
    if not script or script not in folder.entries():
        return Notes(["keep.toml names no launch script"])
    source = decode(read(folder, script))
    if source is None:
        return Notes([f"{script} is no text"])
    programs = room.findings.programs
    text = launch.renamed(source.text, programs)
    if text == source.text:
        return Notes([f"{script} names the new program already"] if programs else [])
    folder.write(script, source.encode(text))
    return Notes([f"{script} names {', '.join(new for new in programs.values() if new)}"])


def _rehearse(room: Room) -> Notes:
    from emberkeep.documents import edit

    notes = Notes()
    for path, key, value in room.keep.config.updating.set_for_rehearsal:
        if path not in room.folder.entries():
            raise Refused(f"there is no {path} to be set for a rehearsal", hint="see [rehearse] in keep.toml")
        room.folder.write(path, edit.set_value(path, read(room.folder, path), key, value))
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


def report(room: Room, done: Run) -> Report:
    """What a run that was carried out came to."""
    found = room.findings
    watched, merged, missed = found.watched, found.merge, found.missed
    questions = sum(len(one.open) for one in (merged, found.tables) if one is not None)
    waits = [f"{questions} questions of the merge are open; yours stay until they are answered"] if questions else []
    waits += (
        [f"learned check broken: {breach.record}: {breach.what}" for breach in merged.breaches[:5]] if merged else []
    )
    other = server.another_version(room.keep, watched, KIND.request_of(done).new) if watched else ""
    waits += [other] if other else []
    waits += list(watched.failures) + list(watched.errors) if watched else []
    waits += [f"changed as the recipe says: {item.words}" for item in missed if item.allowed][:3]
    steps = room.journal.steps(done).values()
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
