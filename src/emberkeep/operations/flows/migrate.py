"""Taking the saves through every recipe between two versions: the steps of it, by themselves and within an update."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from emberkeep.errors import Damage, Place, Refused, RunFailed, UsageError, reason
from emberkeep.fs import globs
from emberkeep.fs.archives import open_source
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Tree, read
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.versions import find, ordering
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import handed_on
from emberkeep.migrating import apply
from emberkeep.migrating.chain import chain, require_known
from emberkeep.migrating.recipe import Program, Recipe, RecipeStep, Renumber, Sql, read_all
from emberkeep.migrating.vendor import natural
from emberkeep.operations.engine import registry
from emberkeep.operations.engine.kind import RunKind, Saves
from emberkeep.operations.engine.restore_plan import within
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext, Step
from emberkeep.operations.flows import restore
from emberkeep.operations.record import defaults, snapshot
from emberkeep.operations.record.facts import DONE
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps.server import LandmarkStep, MeasureStep
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.process.lifecycle import in_words
from emberkeep.store.store import Store
from emberkeep.survey import landmarks


@dataclass(frozen=True)
class Request:
    """From which version the saves are taken to which. ``folders``: where recipes are looked for; ``sql``: the folder
    with the vendor's SQL, None where databases stay as they are."""

    old: str
    new: str
    folders: tuple[Path, ...]
    sql: Path | None = None


def folders(keep: Keep, further: Path | None) -> tuple[Path, ...]:
    """Where recipes are looked for: the keep's own, and what the caller names."""
    return (keep.recipes, *([further] if further else []))


def saves_version(keep: Keep, store: Store, text: str | None, engine: str = "") -> str:
    """The version that the saves are of: told, else what the last migration or update came to, else the newest
    release that reads the number they carry, else the engine's (which a caller may know)."""
    if text:
        return text
    last = _last_raised(keep, store)
    if last:
        return last
    live = FolderTree(keep.require_server())
    engine = engine or engine_version(keep.config, live)
    carried = [number for _, number in apply.numbered(Renumber("", 0, 0), live, keep.config)]
    if carried and keep.config.world.number_pattern:
        reads = {
            version: engine_number(keep.config, defaults.tree_of(store, version))
            for version in defaults.versions(store)
        }
        fitting = [version for version, number in reads.items() if number == max(carried)]
        older = [version for version in fitting if ordering(version) <= ordering(engine)]
        if older:
            return max(older, key=ordering)
    return engine


def _last_raised(keep: Keep, store: Store) -> str:
    """The version that the last migration or update made of the saves, before the moment that they were put back to
    where they were; "" where they came from elsewhere since, or nothing tells."""
    until: datetime | None = None
    for run in reversed(Journal(keep.folder).runs()):
        if run.state != DONE or (until is not None and (run.ended is None or run.ended > until)):
            continue
        kind = registry.find(run.kind)
        if kind is None or kind.saves is Saves.STAY:
            continue
        if kind.saves is Saves.REPLACED:
            return ""
        request = kind.request_of(run)
        if kind.saves is Saves.RAISED:
            return str(request.new)
        if _put_saves_back(keep, request):
            until = _taken(store, request)
            if until is None:
                return ""
    return ""


SAVES = ("world", "players", "progress")
"""Roles whose files are of some version."""


def _put_saves_back(keep: Keep, request: restore.Request) -> bool:
    """Whether a restore may have put saves back."""
    wanted = within(request.scope or (), request.roles, request.tiles, request.only, keep.config)
    roles = Roles(keep.config.roles)
    return any(roles.of(path) in SAVES and wanted(path) for path in FolderTree(keep.server).entries())


def _taken(store: Store, request: restore.Request) -> datetime | None:
    """When the snapshot was taken that a restore put back; None where nothing tells any more."""
    if request.taken is not None:
        return request.taken
    try:
        return store.about(request.target).taken
    except (Damage, UsageError):
        return None


def engine_number(config: Config, tree: Tree) -> int | None:
    """The save number that an engine's own file tells; None where nothing does."""
    world = config.world
    if not world.number_pattern or world.number_in not in tree.entries():
        return None
    found = re.search(world.number_pattern, read(tree, world.number_in).decode("utf-8", "replace"))
    return int(found[1]) if found and found[1].isdigit() else None


def engine_version(config: Config, tree: Tree) -> str:
    """The engine's version, by its own files first and logs last. Refused where nothing tells it."""
    found = [item for item in find(tree, config.versions) if item.name == "engine"]
    logs = config.log.within
    own = [item for item in found if not globs.matches(item.where, list(logs))] or found
    if not own:
        raise Refused("nothing tells which version the engine is", hint=_why_no_version(config, tree))
    return max((item.version for item in own), key=ordering)


def _why_no_version(config: Config, tree: Tree) -> str:
    """What to do about it: set where to look, or mend what is set and finds nothing."""
    sources = [source for source in config.versions if source.name == "engine"]
    if not sources:
        return "set [versions.engine] in keep.toml, or say --from"
    within = ", ".join(sources[0].within)
    there = any(globs.matches(path, sources[0].within) for path in tree.entries())
    what = f"pattern {sources[0].pattern} fits nothing in {within}" if there else f"there is no {within}"
    return f"mend [versions.engine] in keep.toml: {what} ('emberkeep adopt --refresh' looks again)"


def known_recipes(request: Request) -> list[Recipe]:
    """All that are there."""
    known: list[Recipe] = []
    for folder in request.folders:
        if folder.is_dir():
            known += read_all(folder)
            require_known(known, folder)
    return known


def without_recipes(keep: Keep, release: Tree, request: Request) -> str:
    """Why an update needs no recipe, in words: the release reads the number that the saves carry, or they carry none
    and nobody has ever written a recipe for this game. "" where it does."""
    config = keep.config
    if ordering(request.old) > ordering(request.new):
        return ""
    if not config.world.numbered:
        if known_recipes(request):
            return ""
        return "the saves carry no number that keep.toml knows of, and there is no recipe: the engine has to take them"
    live = FolderTree(keep.require_server())
    carried = {number for _, number in apply.numbered(Renumber("", 0, 0), live, config)}
    reads = engine_number(config, release)
    same = reads is not None and carried == {reads}
    return f"no recipe is needed: the saves carry the number {reads}, which {request.new} reads" if same else ""


def recipes_for(request: Request) -> list[Recipe]:
    """The chain of recipes; see ``recipe.chain``."""
    known = known_recipes(request)
    if not known and request.sql is not None:
        return []  # only databases are stepped on
    return chain(known, request.old, request.new)


def allowed(recipes: Sequence[Recipe]) -> tuple[str, ...]:
    """What the recipes say they change of what is measured."""
    return tuple(dict.fromkeys(name for recipe in recipes for step in recipe.steps for name in step.changes))


def recipe_steps(keep: Keep, recipes: Sequence[Recipe]) -> list[Step]:
    """The steps of a chain of recipes, and the guard behind them."""
    found: list[Step] = []
    for recipe in recipes:
        for step in recipe.steps:
            if isinstance(step.act, Sql) and keep.config.databases.named(step.act.database) is not None:
                found += _database_steps(keep, recipe, step, step.act)
            else:
                found.append(ProgramStep(recipe, step) if apply.is_opaque(step) else _file_step(recipe, step))
    return [*found, GuardStep(allowed(recipes))] if found else []


def _database_steps(keep: Keep, recipe: Recipe, step: RecipeStep, act: Sql) -> list[Step]:
    """SQL beside a recipe, run on a database that keep.toml names."""
    from emberkeep.operations.steps import sql  # only where there are databases

    if not apply.applies(step, recipe, FolderTree(keep.require_server())):
        return []
    folder = recipe.path.parent
    paths = sorted(folder.glob(act.files), key=lambda path: natural(path.as_posix()))
    if not paths:
        place = Place(str(recipe.path), step.line)
        raise Refused(
            f"no SQL file fits {act.files} beside the recipe",
            place=place,
            hint="put the SQL files beside the recipe, or see files in this step",
        )
    scripts = tuple(sql.recipe_script(path, folder, recipe.old, recipe.new) for path in paths)
    return sql.steps_of(keep, [(act.database, scripts, f"migrate {recipe.name}: {step.why or act.database}")])


def sql_steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps that take the databases through the vendor's SQL."""
    if request.sql is None:
        return []
    from emberkeep.operations.steps import sql  # only where it is asked for

    source = open_source(request.sql)
    server = FolderTree(keep.require_server())
    return sql.vendor_steps(keep, source, request.old, request.new, server, store.versions())


def _file_step(recipe: Recipe, step: RecipeStep) -> Step:
    kind = type(step.act).__name__.lower()
    words = {
        "renumber": "give the saves their new number",
        "setkey": "set a value",
        "renamekey": "rename a key",
        "removekey": "take a key out",
        "scalekey": "scale a value",
        "records": "give records their new shape",
        "sql": "step the database on",
        "engineconverts": "leave the rest to the engine, which converts at its next start",
    }
    title = f"migrate {recipe.name}: {step.why or words.get(kind, kind)}"

    def change(context: RunContext) -> Notes:
        if not apply.applies(step, recipe, context.folder):
            return Notes([f"not here: '{step.when}' is not so"])
        return Notes(apply.apply(step, recipe, context.folder, context.keep.config))

    return FileStep("migrate", title, change)


class ProgramStep(Step):
    """A converter of the vendor's, run in the server folder; what it made is kept in a snapshot to go on from."""

    name = "program"
    whole = opaque = True

    def __init__(self, recipe: Recipe, step: RecipeStep) -> None:
        assert isinstance(step.act, Program)
        self.recipe, self.step, self.act_of = recipe, step, step.act
        self.title = f"migrate {recipe.name}: {step.why or 'run ' + step.act.command[0]}"

    def plan(self, context: RunContext) -> Plan:
        """The command that would run; what it changes is not known before."""
        if not apply.applies(self.step, self.recipe, context.folder):
            return Plan(notes=(f"not here: '{self.step.when}' is not so",))
        notes = [f"run {' '.join(self.act_of.command)}, for {in_words(self.act_of.limit)} at most"]
        notes += [f"may change {', '.join(self.act_of.changes)}"] if self.act_of.changes else []
        return Plan(notes=(*notes, "what it changes is only known when it has run"))

    def passed(self, context: RunContext) -> None:
        """Plan on from what the program made."""
        if context.facts.get("snapshot"):
            context.begin_from(str(context.facts["snapshot"]))

    def act(self, context: RunContext, plan: Plan) -> None:
        """Run the program where its recipe applies, and take a snapshot of what it made."""
        if not apply.applies(self.step, self.recipe, context.folder):
            return
        self._as_before(context)
        before = FolderTree(context.keep.server)
        before.entries()
        place = Place(str(self.recipe.path), self.step.line)
        command = [part.replace("{recipe}", str(self.recipe.path.parent)) for part in self.act_of.command]
        run_program(context, command, self.act_of.limit, self.act_of.expects, place)
        self._check_kept_to(context, before)
        context.note(snapshot=checkpoint(context, f"after {self.act_of.command[0]}"))

    def _as_before(self, context: RunContext) -> None:
        """What an interrupted run of it may have changed is put back first."""
        from emberkeep.operations.engine import apply as putting
        from emberkeep.operations.engine import restore_plan

        found = restore_plan.plan(context.folder, context.keep.server, lambda path: True)
        if not found.nothing:
            putting.apply(found, context.folder)

    def _check_kept_to(self, context: RunContext, before: FolderTree) -> None:
        """Refused when it changed what the recipe does not say it may."""
        if not self.act_of.changes:
            return
        may = globs.combined(self.act_of.changes)
        now = FolderTree(context.keep.server).entries()
        then = before.entries()
        folder = ("folder",)
        other = [
            path
            for path in sorted(then.keys() | now.keys())
            if then.get(path) != now.get(path)
            and not may.fullmatch(path)
            and str(getattr(now.get(path) or then.get(path), "kind", "")) not in folder
        ]
        if other:
            raise RunFailed(
                f"{self.act_of.command[0]} changed what the recipe does not say it may: {', '.join(other[:4])}",
                place=Place(str(self.recipe.path), self.step.line),
                hint="name it under changes in this step of the recipe, if that is right",
            )


def run_program(
    context: RunContext, command: Sequence[str], limit: timedelta | None, expects: str, place: Place
) -> None:
    """Run a program in the server folder. RunFailed when it cannot be run, ends badly, takes too long or does not
    print what is expected of it."""
    try:
        done = subprocess.run(
            command,
            cwd=context.keep.server,
            env=_environment(context),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=limit.total_seconds() if limit else None,
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        raise RunFailed(
            f"{command[0]} was not done within {in_words(limit or timedelta())}",
            place=place,
            hint="raise limit in this step of the recipe",
        ) from error
    except OSError as error:
        raise RunFailed(
            f"{command[0]} cannot be run: {reason(error)}", place=place, hint="see command in this step of the recipe"
        ) from error
    printed = done.stdout.decode("utf-8", "replace")
    last = printed.strip().splitlines()[-1:] or ["it printed nothing"]
    if done.returncode:
        raise RunFailed(
            f"{command[0]} ended with {done.returncode}: {last[0][:200]}",
            place=place,
            hint="run it by hand in a copy to see what it lacks",
        )
    if expects and not re.search(expects, printed):
        raise RunFailed(
            f"{command[0]} did not print “{expects}”: {last[0][:200]}",
            place=place,
            hint="see expects in this step of the recipe",
        )


def _environment(context: RunContext) -> dict[str, str] | None:
    """What a program of others is given of ours: what the server is given too."""
    start = context.keep.config.running.start
    return handed_on(context.environment, start.environment if start else ()) or None


def checkpoint(context: RunContext, note: str) -> str:
    """Keep what a program made of the folder, and plan on from it; the snapshot's number."""
    taken = snapshot.take(
        context.keep,
        context.clock(),
        snapshot.SnapshotRequest(note=note, why=KIND.name),
        store=context.store,
        progress=context.progress,
    )
    context.begin_from(taken.about.label)
    return taken.about.label


class GuardStep(Step):
    """Seed, size and world pointer stay, and the saves carry the number that the engine reads."""

    name, title = "guard", "check that seed, size, world pointer and save numbers are as they must be"

    def __init__(self, allowed: Sequence[str] = ()) -> None:
        self.allowed = tuple(allowed)

    def plan(self, context: RunContext) -> Plan:
        """Refused where seed, size, pointer or save numbers would not be what they must be."""
        measured = context.findings.measured
        if measured is not None:
            check_facts(measured.facts, context.folder, context.keep.config, self.allowed)
        return Plan(notes=(check_number(context.keep.config, context.folder),))


def check_facts(before: Mapping[str, str], tree: Tree, config: Config, allowed: Sequence[str] = ()) -> None:
    """Refused when seed, size or world pointer of a folder are not as they were, but for those that are ``allowed``."""
    now = landmarks.measure_facts(tree, config)
    for name, was in before.items():
        if now.get(name, "") != was and name not in allowed:
            raise Refused(
                f"the {name} was {was} and would be {now.get(name) or 'gone'}: under a carried map it must not change",
                hint="put it right in the settings and the launch script, or leave it out of the recipe",
            )


def check_number(config: Config, tree: Tree) -> str:
    """Whether the numbered saves are those that the engine reads; Refused when they are not. Returns what is known."""
    world = config.world
    if not world.numbered:
        return "the saves carry no number"
    found = sorted({number for _, number in apply.numbered(Renumber("", 0, 0), tree, config)})
    wanted = engine_number(config, tree)
    if wanted is None:
        return f"saves of number {', '.join(map(str, found)) or 'none'}; which one the engine reads is not told"
    if found and max(found) > wanted:
        raise Refused(
            f"the saves carry the number {max(found)}, and the engine reads {wanted}: it never goes back",
            hint="update the engine first, or restore a snapshot that was taken before",
        )
    if found and wanted not in found:
        raise Refused(
            f"the saves carry the number {max(found)}, and the engine reads {wanted} ({world.number_in}): "
            "it would begin a new world beside them",
            hint="a recipe with a renumber step gives them the new number",
        )
    return f"the saves carry the number {wanted}, which the engine reads"


def steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps of a migration by itself."""
    recipes = recipes_for(request)
    of_databases = sql_steps(keep, store, request)
    if not recipes and not of_databases:
        return []
    return [
        SnapshotStep(
            f"before migrating to {request.new}", KIND.name, rests_on=("world", "players", "progress", "databases")
        ),
        MeasureStep(),
        *recipe_steps(keep, recipes),
        *of_databases,
        LandmarkStep(allowed(recipes), planned=True),
    ]


KIND = RunKind(
    "migrate",
    Request,
    title=lambda request: f"migration to {request.new}",
    steps=steps,
    saves=Saves.RAISED,
)
