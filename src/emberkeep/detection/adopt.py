"""Looking over a server folder and inferring what it is, from content first and names second; no game is known by name.

The order of the inferences matters, as each uses what the earlier ones found: tiles and people first, then what
belongs to players, then programs by the launch scripts that name them, extensions, settings, economy, and last
whole folders.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from emberkeep.detection import (
    candidates,
    launch,
    logs,
    numbering,
    player_files,
    player_lists,
    players,
    world_facts,
    worlds,
)
from emberkeep.detection.context import InferenceContext, numbered_glob
from emberkeep.detection.doubts import doubts
from emberkeep.detection.economy import find_economy
from emberkeep.detection.evidence import Hypothesis
from emberkeep.detection.extension_folders import find_extension_data, find_extensions
from emberkeep.detection.findings import (
    ORDER,
    Adoption,
    LaunchFinding,
    RecordFinding,
    Sure,
    TableFinding,
    WorldFinding,
    log_glob,
)
from emberkeep.detection.programs import find_programs, find_scripts
from emberkeep.detection.recurring import value_places
from emberkeep.detection.settings import DATA, find_settings
from emberkeep.errors import Refused
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind, Skipped, Tree
from emberkeep.inventory.probe import FileProbe
from emberkeep.inventory.roles import Roles
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.process import signs

_LOG_FOLDERS = {"log", "logs", "crash-reports", "crashes", "dumps"}
_SCRATCH_FOLDERS = {"cache", "caches", "tmp", "temp", ".cache"}
FEW_LOGS = 8
"""Files named alike of which the contents are looked at for a log's."""


def adopt(server: Path, releases: Sequence[Tree] = ()) -> Adoption:
    """Infer what stands in ``server``. Reads only; Refused when it is no folder. ``releases``: recorded defaults, whose
    files help to learn how records are recognised."""
    return _adoption(_look_over(server, releases))


def weighed(server: Path) -> list[Hypothesis]:
    """Every hypothesis that was weighed while ``server`` was looked over, for fitting the weights."""
    return _look_over(server, ()).scene.weighed


@dataclass(frozen=True)
class _Observed:
    """What was found. ``folders``: of an extension's own files -> its name."""

    tree: FolderTree
    scene: InferenceContext
    world: WorldFinding
    launch: LaunchFinding | None
    folders: dict[str, str]
    records: tuple[RecordFinding, ...]
    tables: tuple[TableFinding, ...]


def _look_over(server: Path, releases: Sequence[Tree]) -> _Observed:
    if not server.is_dir():
        raise Refused(f"{server} is not a folder", hint="name the folder that holds the game server")
    tree = FolderTree(server)
    scene = InferenceContext(tree, FileProbe(tree, server), opened=signs.opened(server))
    _logs_and_scratch(scene)
    scripts = find_scripts(scene)
    find_programs(scene, scripts)
    _printed(scene, scripts)
    folders = find_extensions(scene)
    every = value_places(scene)
    places = players.find_players(scene, every, logs.called(scene))
    player_lists.lists_of_people(scene, places, every, folders)
    player_files.player_files(scene, places, folders)
    tables = tuple(player_files.tables(scene, places))
    _progress(scene, [table for table in tables if not table.of_world])
    find_extension_data(scene, folders)
    player_files.personal_files(scene, places, every)
    scene.saved_texts = candidates.saved_texts(scene)
    records = tuple(find_economy(scene, releases))
    find_settings(scene, scripts)
    world = worlds.world(scene)
    _progress(scene, tables)
    _databases(scene)
    started = launch.launch(scene, scripts, world_facts.all_save_numbers(scene, world))
    return _Observed(tree, scene, world, started, folders, records, tables)


def _adoption(observed: _Observed) -> Adoption:
    scene, world, started = observed.scene, observed.world, observed.launch
    entries = scene.tree.entries()
    findings = tuple(sorted(dict.fromkeys(scene.findings), key=lambda found: ORDER.index(found.role)))
    roles = Roles([(role, [found.glob for found in findings if found.role == role]) for role in ORDER])
    manifests = (scene.manifest(path) for path in scene.of_role("extensions"))
    extensions = tuple(manifest for manifest in manifests if manifest is not None)
    versions = tuple(numbering.versions(scene, world, extensions))
    engine = next((found for found in versions if found.name == "engine"), None)
    seed = next((item.value for item in started.arguments if item.purpose == "seed"), "") if started else ""
    unreadable = tuple(Skipped(path, why) for path, why in sorted(scene.look.unreadable.items()))
    found = Adoption(
        observed.tree.root,
        *_name(scene, started, observed.tree.root),
        findings,
        versions,
        world,
        observed.records,
        started,
        logs.log(scene, engine, extensions, seed),
        tuple(player_files.player_bound(scene, observed.folders)),
        observed.tables,
        extensions,
        len(scene.people),
        (),
        tuple(path for path, entry in entries.items() if entry.kind is not Kind.FOLDER and roles.of(path) == UNSORTED),
        (*observed.tree.skipped, *unreadable),
        tuple(scene.faults),
        sum(entry.kind is Kind.FILE for entry in entries.values()),
        sum(entry.size for entry in entries.values()),
    )
    return replace(found, questions=tuple(one.text for one in doubts(found)))


_CALLED = ("title", "name", "servername", "hostname", "displayname")
_OF_SERVER = re.compile(r"(?i)server|host|title|display")
_OF_OTHERS = re.compile(r"(?i)player|user|account|profile")


def _last(key: str) -> str:
    """The last word on the way to a value, but for one that stands for any value, in small letters alone."""
    words = [re.sub(r"[^a-z]", "", word.lower()) for word in re.split(r"[./@]", key)]
    return next((word for word in reversed(words) if word not in ("", "value", "text")), "")


def _calls_it(key: str) -> bool:
    """Whether a key says what something is called, and not somebody."""
    return _last(key) in _CALLED and not _OF_OTHERS.search(key)


def _name(scene: InferenceContext, started: LaunchFinding | None, folder: Path) -> tuple[str, str]:
    """What the server calls itself in its settings or launch script, else the folder's name; and what says so."""
    settings = sorted(scene.of_role("settings"), key=lambda path: (path.count("/"), path))
    given = [item for item in started.arguments if item.purpose == "name"] if started else []
    for path in settings:
        if "/" in path and given and started:  # further down much of the vendor's lies
            break
        pairs = scene.pairs(path)
        ours = "/" not in path or _is_passed(scene, started, path)
        ours = ours or any(re.search(r"(?i)(?:^|[._-])(?:server)?_?port$", key) for key, _ in pairs)
        named = [(key, value) for key, value in pairs if _calls_it(key) and value.lower() != _last(key)] if ours else []
        if named:
            key, value = min(named, key=lambda pair: not _OF_SERVER.search(pair[0]))
            return re.split(r"\s+[—|-]\s+", value)[0], f"{Sure.LIKELY}: {key} in {path}"
    if given and started:
        return given[0].value, f"{Sure.LIKELY}: {given[0].key} in {started.script}"
    return folder.resolve().name, f"{Sure.GUESS}: the folder's name"


def _is_passed(scene: InferenceContext, started: LaunchFinding | None, path: str) -> bool:
    """Whether the launch script names a file, or the folder that it lies in, beside what it starts."""
    folder = path.rpartition("/")[0]
    if started is None or (started.program and started.program.startswith(f"{folder}/")):
        return False
    if path in launch.passed_files(scene, started.script):
        return True
    named = rf"(?<![\w./-])(?:\./)?{re.escape(folder)}(?:/{re.escape(path.rpartition('/')[2])})?/?(?![\w./-])"
    return re.search(named, scene.look.text(started.script)) is not None


def _logs_and_scratch(scene: InferenceContext) -> None:
    for folder in scene.folders:
        name = folder.rsplit("/", 1)[-1].lower()
        if scene.is_covered(folder):
            continue
        if name in _LOG_FOLDERS:
            sure = Sure.SURE if any(logs.is_log(text) for text in _texts_in(scene, folder)) else Sure.LIKELY
            scene.cover("logs", f"{globs.escape(folder)}/**", f"the folder is called {name}", sure)
        elif name in _SCRATCH_FOLDERS:
            scene.cover("scratch", f"{globs.escape(folder)}/**", f"the folder is called {name}", Sure.LIKELY)
    for path, entry in scene.tree.entries().items():
        if entry.kind is Kind.FOLDER or scene.is_covered(path):
            continue
        if path.lower().endswith((".log", ".log.gz")) and scene.look.kind(path) in ("text", "packed", "empty", "json"):
            scene.cover("logs", log_glob(path), "its name ends as a log's does")
        elif path.lower().endswith((".pid", ".lock", ".lck")):
            scene.cover("scratch", globs.escape(path), "a mark of a running program")
    for family in list(scene.open_families()):
        for path in family.members if len(family.members) <= FEW_LOGS else ():
            if not scene.is_covered(path) and scene.look.kind(path) == "text" and logs.is_log(scene.look.text(path)):
                scene.cover("logs", log_glob(path), "its lines begin with times", Sure.LIKELY)


def _printed(scene: InferenceContext, scripts: Sequence[str]) -> None:
    for script in scripts:
        for path in launch.printed_files(scene, script):
            if not scene.is_covered(path) and scene.look.kind(path) in ("text", "empty", *DATA):
                scene.cover("logs", globs.escape(path), f"{script} lets the program print into it", Sure.LIKELY)


def _texts_in(scene: InferenceContext, folder: str) -> Iterator[str]:
    """The first texts in a folder."""
    paths = [path for path in scene.below(folder) if path not in scene.dirs and scene.look.kind(path) == "text"]
    return (scene.look.text(path) for path in paths[:FEW_LOGS])


def _progress(scene: InferenceContext, tables: Sequence[TableFinding]) -> None:
    """Databases of which every table is players' and of which some are, others not: ``progress``, too."""
    by_file: dict[str, list[TableFinding]] = defaultdict(list)
    for table in tables:
        by_file[table.database].append(table)
    for path, theirs in by_file.items():
        if scene.is_covered(path):
            continue
        named = ", ".join(table.table for table in theirs)
        others = theirs[0].others
        evidence = f"SQLite, players' ids in {named}" + (f", not in {', '.join(others)}" if others else "")
        scene.cover("progress", numbered_glob(path), evidence, Sure.LIKELY)


def _databases(scene: InferenceContext) -> None:
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            if scene.look.kind(path) != "sqlite" or scene.is_covered(path):
                continue
            names = sorted(scene.look.columns(path))
            if names:
                scene.cover("databases", numbered_glob(path), f"SQLite, tables {', '.join(names)}", Sure.LIKELY)
            else:
                scene.cover("databases", numbered_glob(path), "SQLite that could not be read", Sure.GUESS)
