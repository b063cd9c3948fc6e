"""A release's engine in place of the old one: by us, by the admin's own updater, with a framework laid over it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from emberkeep.detection import launch
from emberkeep.documents.encoding import decode
from emberkeep.errors import Place, Refused
from emberkeep.fs import globs
from emberkeep.fs.archives import open_source
from emberkeep.fs.trees import FILE, FOLDER, Tree, read
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.versions import ordering
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows import migrate
from emberkeep.operations.flows.update_request import Request
from emberkeep.operations.record import defaults

_NUMBER = re.compile(r"\d+(?:\.\d+)*")


@dataclass
class EnginePlaced:
    """The release's engine files take the place of those of the old one; what only the old one had goes."""

    request: Request
    source: Tree

    def __call__(self, context: RunContext) -> Notes:
        """Change the planned folder. Refused where the release holds no engine."""
        folder, config = context.folder, context.keep.config
        roles = Roles(config.roles)
        new = [path for path in self.source.entries() if roles.of(path) == "engine"]
        if not new:
            raise Refused(f"no file in {self.source.label} has the role engine", hint="see [roles] engine in keep.toml")
        gone = self._gone(context, roles, set(new))
        context.findings.programs = {path: _successor(path, new) for path in gone}
        for path in new:
            folder.take(path, self.source)
        for path in gone:
            folder.remove(path)
        shipped = self.source.entries()
        emptied = folder.remove_emptied(gone, lambda path: path not in shipped)
        notes = [f"the old ones are in the snapshot: {', '.join(gone[:4])}"] if gone else []
        return Notes([*notes, *([f"folders that are empty now go, too: {', '.join(emptied[:4])}"] if emptied else [])])

    def _gone(self, context: RunContext, roles: Roles, new: set[str]) -> list[str]:
        """Engine files of the old release: those it shipped, and those named as a new one but for their version."""
        shapes = {_shape(path) for path in new}
        shipped: set[str] = set()
        if self.request.old and self.request.old in context.store.versions():
            shipped = set(defaults.tree_of(context.store, self.request.old).entries())
        return [
            path
            for path, entry in context.folder.entries().items()
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

    def __init__(self, command: tuple[str, ...], expected: EnginePlaced) -> None:
        self.command, self.expected = command, expected
        self.title = f"run {' '.join(command)}"

    def plan(self, context: RunContext) -> Plan:
        """Nothing that is known before it ran; a preview plans on with the release itself."""
        if context.only_planned:
            self.expected(context)  # so that the steps behind it have something to plan on
        return Plan(notes=("what it changes is only known when it has run",))

    def passed(self, context: RunContext) -> None:
        """Plan on from what the updater made."""
        if context.facts.get("snapshot"):
            context.begin_from(str(context.facts["snapshot"]))
            self._see_programs(context)

    def act(self, context: RunContext, plan: Plan) -> None:
        """Run the updater, and take a snapshot of what it made of the folder."""
        migrate.run_program(context, self.command, None, "", Place(self.command[0]))
        context.note(snapshot=migrate.checkpoint(context, f"after {self.command[0]}"))
        self._see_programs(context)

    def _see_programs(self, context: RunContext) -> None:
        """Which engine files took the place of which, for the launch script."""
        before, roles = context.before(), Roles(context.keep.config.roles)
        then = [path for path in before.entries() if roles.of(path) == "engine"] if before is not None else []
        now = [path for path in context.folder.entries() if roles.of(path) == "engine"]
        fresh = sorted({*now}.difference(then))
        context.findings.programs = {
            path: _successor(path, fresh) for path in then if path not in context.folder.entries()
        }


class OverlayStep(FileStep):
    """Lay the framework's archive over the engine again."""

    def __init__(self, source: Tree) -> None:
        self.source = source
        super().__init__("overlay", "lay the framework over the engine again", self._lay)

    def _lay(self, context: RunContext) -> Notes:
        folder, config = context.folder, context.keep.config
        archives = [path for path in folder.entries() if globs.matches(path, [config.updating.overlay])]
        if not archives:
            raise Refused(f"no archive fits {config.updating.overlay}", hint="see [update] overlay in keep.toml")
        archive = max(archives, key=ordering)
        laid = _open_inside(context, archive)
        members = [path for path, entry in laid.entries().items() if entry.kind is not FOLDER]
        replaced = sum(path in self.source.entries() for path in members)
        for path in members:
            folder.take(path, laid)
        before = _laid_last_time(context)
        last = f" ({before} last time)" if before is not None else ""
        context.findings.laid = replaced
        return Notes([f"{archive}: {len(members)} files, {replaced} of them over the engine's own{last}"])

    def act(self, context: RunContext, plan: Plan) -> None:
        """Lay the archive's files, and note how many of the engine's own they replaced."""
        super().act(context, plan)
        context.note(replaced=context.findings.laid)


def _open_inside(context: RunContext, path: str) -> Tree:
    """An archive that lies in the planned folder, as a tree."""
    there = context.keep.server / path
    if there.is_file():
        return open_source(there)
    raise Refused(f"{path} is not in the server folder", hint="see script and program in [launch] of keep.toml")


def _laid_last_time(context: RunContext) -> int | None:
    for run in reversed(context.journal.runs()):
        for step in run.steps:
            if step.name == "overlay" and run.number != context.run.number and "replaced" in step.facts:
                return int(step.facts["replaced"])
    return None


def relaunch(context: RunContext) -> Notes:
    """Where the launch script still names a program that has gone, it names the one that took its place."""
    folder, config = context.folder, context.keep.config
    script = config.launch.script
    if not script or script not in folder.entries():
        return Notes(["keep.toml names no launch script"])
    source = decode(read(folder, script))
    if source is None:
        return Notes([f"{script} is no text"])
    programs = context.findings.programs
    text = launch.renamed(source.text, programs)
    if text == source.text:
        return Notes([f"{script} names the new program already"] if programs else [])
    folder.write(script, source.encode(text))
    return Notes([f"{script} names {', '.join(new for new in programs.values() if new)}"])
