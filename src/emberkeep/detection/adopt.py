"""Looking over a server folder and inferring what it is, from content first and names second; no game is known by name.

The order of the inferences matters, as each uses what the earlier ones found: tiles and people first, then what
belongs to players, then programs by the launch scripts that name them, extensions, settings, economy, and last
whole folders.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from emberkeep.detection import launch, logs, numbering, players, worlds
from emberkeep.detection.context import A_COPY, Scene, numbered_glob, suffix_glob
from emberkeep.detection.doubts import doubts
from emberkeep.detection.evidence import Hypothesis
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
from emberkeep.detection.leads import is_the_servers
from emberkeep.detection.recurring import value_places
from emberkeep.documents import registry
from emberkeep.documents.edit import named_by_attribute
from emberkeep.documents.formats import lined
from emberkeep.documents.identity import Identities
from emberkeep.documents.model import OWN, TOP, Document, Node, Role
from emberkeep.documents.values import number
from emberkeep.errors import EmberKeepError, Refused
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind, Skipped, Tree, read
from emberkeep.inventory.extensions import MANIFEST_KINDS, read_facts
from emberkeep.inventory.probe import Look
from emberkeep.inventory.roles import Roles
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.process import signs

_LOG_FOLDERS = {"log", "logs", "crash-reports", "crashes", "dumps"}
_SCRATCH_FOLDERS = {"cache", "caches", "tmp", "temp", ".cache"}
_DATA = ("xml", "json", "yaml", "toml", "properties", "ini")
_TABLES = ("xml", "json", "yaml", "toml")
FEW_LOGS = 8
"""Files named alike of which the contents are looked at for a log's."""
MOST_TABLES = 400
"""Files of repeated records that are read whole."""


def adopt(server: Path, releases: Sequence[Tree] = ()) -> Adoption:
    """Infer what stands in ``server``. Reads only; Refused when it is no folder. ``releases``: recorded defaults, whose
    files help to learn how records are recognised."""
    return _adoption(_look_over(server, releases))


def weighed(server: Path) -> list[Hypothesis]:
    """Every hypothesis that was weighed while ``server`` was looked over, for fitting the weights."""
    return _look_over(server, ()).scene.weighed


@dataclass(frozen=True)
class _Seen:
    """What was found. ``folders``: of an extension's own files -> its name."""

    tree: FolderTree
    scene: Scene
    world: WorldFinding
    launch: LaunchFinding | None
    folders: dict[str, str]
    records: tuple[RecordFinding, ...]
    tables: tuple[TableFinding, ...]


def _look_over(server: Path, releases: Sequence[Tree]) -> _Seen:
    if not server.is_dir():
        raise Refused(f"{server} is not a folder", hint="name the folder that holds the game server")
    tree = FolderTree(server)
    scene = Scene(tree, Look(tree, server), opened=signs.opened(server))
    _logs_and_scratch(scene)
    scripts = _scripts(scene)
    _programs(scene, scripts)
    _printed(scene, scripts)
    folders = _extensions(scene)
    every = value_places(scene)
    places = players.find_players(scene, every, logs.called(scene))
    players.lists_of_people(scene, places, every, folders)
    players.player_files(scene, places, folders)
    tables = tuple(players.tables(scene, places))
    _progress(scene, [table for table in tables if not table.of_world])
    _extension_data(scene, folders)
    players.personal_files(scene, places, every)
    scene.saved_texts = worlds.saved_texts(scene)
    records = tuple(_economy(scene, releases))
    _settings(scene, scripts)
    world = worlds.world(scene)
    _progress(scene, tables)
    _databases(scene)
    started = launch.launch(scene, scripts, worlds.all_save_numbers(scene, world))
    return _Seen(tree, scene, world, started, folders, records, tables)


def _adoption(seen: _Seen) -> Adoption:
    scene, world, started = seen.scene, seen.world, seen.launch
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
        seen.tree.root,
        *_name(scene, started, seen.tree.root),
        findings,
        versions,
        world,
        seen.records,
        started,
        logs.log(scene, engine, extensions, seed),
        tuple(players.player_bound(scene, seen.folders)),
        seen.tables,
        extensions,
        len(scene.people),
        (),
        tuple(path for path, entry in entries.items() if entry.kind is not Kind.FOLDER and roles.of(path) == UNSORTED),
        (*seen.tree.skipped, *unreadable),
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


def _name(scene: Scene, started: LaunchFinding | None, folder: Path) -> tuple[str, str]:
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


def _is_passed(scene: Scene, started: LaunchFinding | None, path: str) -> bool:
    """Whether the launch script names a file, or the folder that it lies in, beside what it starts."""
    folder = path.rpartition("/")[0]
    if started is None or (started.program and started.program.startswith(f"{folder}/")):
        return False
    if path in launch.passed_files(scene, started.script):
        return True
    named = rf"(?<![\w./-])(?:\./)?{re.escape(folder)}(?:/{re.escape(path.rpartition('/')[2])})?/?(?![\w./-])"
    return re.search(named, scene.look.text(started.script)) is not None


# --- logs, databases, scripts, programs --------------------------------------


def _logs_and_scratch(scene: Scene) -> None:
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


def _printed(scene: Scene, scripts: Sequence[str]) -> None:
    for script in scripts:
        for path in launch.printed_files(scene, script):
            if not scene.is_covered(path) and scene.look.kind(path) in ("text", "empty", *_DATA):
                scene.cover("logs", globs.escape(path), f"{script} lets the program print into it", Sure.LIKELY)


def _texts_in(scene: Scene, folder: str) -> Iterator[str]:
    """The first texts in a folder."""
    paths = [path for path in scene.below(folder) if path not in scene.dirs and scene.look.kind(path) == "text"]
    return (scene.look.text(path) for path in paths[:FEW_LOGS])


def _progress(scene: Scene, tables: Sequence[TableFinding]) -> None:
    """Databases of which every table is players' and of which some are, others not: ``progress``, too."""
    by_file: dict[str, list[TableFinding]] = defaultdict(list)
    for table in tables:
        by_file[table.database].append(table)
    for path, theirs in by_file.items():
        if scene.is_covered(path):
            continue
        named = ", ".join(table.table for table in theirs)
        others = theirs[0].others
        told = f"SQLite, players' ids in {named}" + (f", not in {', '.join(others)}" if others else "")
        scene.cover("progress", numbered_glob(path), told, Sure.LIKELY)


def _databases(scene: Scene) -> None:
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            if scene.look.kind(path) != "sqlite" or scene.is_covered(path):
                continue
            names = sorted(scene.look.columns(path))
            if names:
                scene.cover("databases", numbered_glob(path), f"SQLite, tables {', '.join(names)}", Sure.LIKELY)
            else:
                scene.cover("databases", numbered_glob(path), "SQLite that could not be read", Sure.GUESS)


def _scripts(scene: Scene) -> list[str]:
    scripts = []
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            if scene.look.kind(path) == "script":
                named = launch.started_files(scene, path)
                scripts.append(path)
                told = f"a script that starts {named[0]}" if named else "a script"
                scene.cover("scripts", globs.escape(path), told, Sure.SURE if named else Sure.LIKELY)
    return scripts


def _programs(scene: Scene, scripts: list[str]) -> None:
    started = {name: script for script in scripts for name in launch.started_files(scene, script)}
    program_folders: dict[str, list[str]] = defaultdict(list)
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            kind = scene.look.kind(path)
            if path in started and path not in scripts:
                scene.programs.append(path)
                scene.cover("engine", numbered_glob(path), f"the program that {started[path]} executes")
                if kind == "zip" and family.folder:
                    told = f"an archive beside {path}"
                    scene.cover("engine", suffix_glob(path), told, Sure.LIKELY)
                if kind == "text":
                    _manifest_of_program(scene, path)
                if kind == "text" and family.folder:  # interpreted: what stands beside it is of it
                    told = f"{started[path]} has {path} interpreted, and this stands beside it"
                    scene.cover("engine", f"{globs.escape(family.folder)}/**", told, Sure.LIKELY)
            elif kind == "program":
                program_folders[family.folder].append(path)
    for folder, paths in program_folders.items():
        _program_folder(scene, folder, [path for path in paths if not scene.is_covered(path)])
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            _version_file(scene, path)
            _overlay(scene, path)


def _manifest_of_program(scene: Scene, path: str) -> None:
    """What tells the version of a program that is interpreted: a manifest beside it, or above it."""
    folder = path
    while folder:
        folder = folder.rpartition("/")[0]
        for other in scene.paths if not folder else scene.below(folder):
            if (
                other.rpartition("/")[0] == folder
                and other not in scene.dirs
                and scene.look.kind(other) in ("json", "toml")
            ):
                told = read_facts(scene.look, other)
                if isinstance(told.get("version"), str) and told.get("name"):
                    scene.manifests_of_programs.append(other)
                    scene.cover("engine", globs.escape(other), f"it tells the version of {path}", Sure.LIKELY)
                    return


def _program_folder(scene: Scene, folder: str, paths: list[str]) -> None:
    beside = sum(len(family.members) for family in scene.families if family.folder == folder)
    if folder and paths and len(paths) >= 0.5 * beside:
        scene.cover("engine", f"{globs.escape(folder)}/**", f"{len(paths)} program files of {beside} in it")
        return
    for path in paths:
        scene.cover("engine", numbered_glob(path), "a program or library", Sure.LIKELY)


def _version_file(scene: Scene, path: str) -> None:
    ours = ["", *(program.rpartition("/")[0] for program in scene.programs)]
    if path.rpartition("/")[0] not in ours or scene.look.size(path) > 2000 or scene.look.kind(path) != "text":
        return
    name = path.rpartition("/")[2].rsplit(".", 1)[0].lower()
    if re.fullmatch(r"version|release|build", name) and numbering.VERSION.search(scene.look.text(path)):
        scene.cover("engine", globs.escape(path), "tells the engine's version")


def _overlay(scene: Scene, path: str) -> None:
    """An archive whose members lie in the folder: a framework laid over the engine."""
    if scene.look.kind(path) != "zip" or scene.is_covered(path):
        return
    members = scene.look.members(path)
    there = [name for name in members if name in scene.tree.entries()]
    if members and len(there) >= max(1, len(members) // 2):
        evidence = f"an overlay: {len(there)} of its {len(members)} files lie in the server folder"
        scene.cover("engine", numbered_glob(path), evidence, Sure.LIKELY)


# --- extensions --------------------------------------------------------------


FEW_WITH_IT = 40
"""Files that came with an extension and are told one by one."""
_CODE = ("text", "script", "program", "binary", "zip", "packed")


def _extensions(scene: Scene) -> dict[str, str]:
    """Folders of an extension's own files -> its name; the extensions are covered on the way."""
    names: set[str] = set()
    families = list(scene.open_families())
    told = Counter(family.folder for family in families for path in scene.sampled(family) if scene.manifest(path))
    for family in families:
        for path in scene.sampled(family):
            manifest = scene.manifest(path)
            if manifest is None:
                continue
            names.add(manifest.name)
            seen = f"{manifest.name} {manifest.version} by its manifest"
            if scene.look.kind(path) == "zip":
                suffix = path[path.rindex(".") :] if "." in path.rsplit("/", 1)[-1] else ""
                glob = f"{globs.escape(family.folder)}/*{suffix}" if family.folder and suffix else globs.escape(path)
                scene.cover("extensions", glob, seen)
            elif scene.look.kind(path) in MANIFEST_KINDS:  # unpacked: what is no data beside its manifest is of it
                scene.cover("extensions", globs.escape(path), seen, Sure.LIKELY)
                for other in scene.below(family.folder) if told[family.folder] == 1 else ():
                    if scene.tree.entries()[other].kind is Kind.FILE and scene.look.kind(other) in _CODE:
                        scene.cover("extensions", suffix_glob(other), f"code beside {path}", Sure.LIKELY)
            else:
                scene.cover(
                    "extensions",
                    globs.escape(path),
                    f"{manifest.name} {manifest.version} by its first lines",
                    Sure.LIKELY,
                )
    lower = {name.lower(): name for name in names}
    return {
        folder: lower[folder.rsplit("/", 1)[-1].lower()]
        for folder in scene.folders
        if folder.rsplit("/", 1)[-1].lower() in lower
    }


def _extension_data(scene: Scene, folders: dict[str, str]) -> None:
    for folder, name in sorted(folders.items()):
        for path in scene.below(folder):
            if scene.tree.entries()[path].kind is not Kind.FILE or path.rpartition("/")[0] != folder:
                continue
            if scene.is_covered(path):
                continue
            if scene.look.kind(path) in ("ini", "properties", "toml", "yaml"):
                scene.cover("settings", globs.escape(path), f"settings of the extension {name}", Sure.LIKELY)
        _what_it_keeps(scene, folder, name)


def _what_it_keeps(scene: Scene, folder: str, name: str) -> None:
    """The rest of an extension's folder: its data, but what came with its manifest is of the extension."""
    there = [path for path in scene.below(folder) if scene.tree.entries()[path].kind is Kind.FILE]
    manifest = next((path for path in there if scene.manifest(path) and path.rpartition("/")[0] == folder), "")
    came = scene.tree.entries()[manifest].mtime_ns + A_COPY if manifest and scene.times_differ else 0
    rest = [path for path in there if not scene.is_covered(path)]
    with_it = [path for path in rest if scene.tree.entries()[path].mtime_ns <= came]
    if rest and len(with_it) == len(rest):
        told = f"as old as the manifest of {name}"
        scene.cover("extensions", f"{globs.escape(folder)}/**", told, Sure.LIKELY)
        return
    for path in with_it if len(with_it) <= FEW_WITH_IT else ():
        scene.cover("extensions", globs.escape(path), f"as old as the manifest of {name}", Sure.LIKELY)
    sure = Sure.LIKELY if manifest else Sure.SURE
    scene.cover("extension-data", f"{globs.escape(folder)}/**", f"what the extension {name} keeps", sure)


# --- economy and settings ----------------------------------------------------


def _economy(scene: Scene, releases: Sequence[Tree]) -> Iterator[RecordFinding]:
    """Files of repeated records with numbers; a folder tree that holds several such files is mission data whole."""
    tables: dict[str, list[str]] = defaultdict(list)
    read = 0
    for family in list(scene.open_families()):
        for path in scene.sampled(family):
            if scene.look.kind(path) in _TABLES and path not in scene.saved_texts and read < MOST_TABLES:
                read += 1
                yield from _table(scene, path, tables, releases)
    for top, paths in tables.items():
        _mission(scene, top, paths)


def _table(scene: Scene, path: str, tables: dict[str, list[str]], releases: Sequence[Tree]) -> Iterator[RecordFinding]:
    document = scene.document(path)
    if document is None or not document.learns_identity:
        return
    identities = Identities(list(_vendors(path, document, releases)), [document])
    repeated = list(_repeated(document.root, (document.root.name,)))
    if not any(count >= SEVERAL or _has_number(node) for _, count in repeated for node in document.root.items[:20]):
        return
    if max(count for _, count in repeated) < SEVERAL and _single_values(document.root):
        return  # settings, a few of which repeat
    if all(_is_named_value(item) for item in document.root.items if item.role is Role.RECORD):
        return  # settings, each by its name in an element of its own
    tables[path.split("/", 1)[0] if "/" in path else ""].append(path)
    for at, count in repeated:
        rule = identities.rule(at).rule
        if not (rule == (".",) or _are_values(document, at)):  # a list of plain words needs no telling
            yield RecordFinding(path, "/".join(at), rule or (), count, Sure.SURE if rule else Sure.LIKELY)


def _is_named_value(item: Node) -> bool:
    return named_by_attribute(item) != "" and len(item.fields) == 2 and not item.items


def _single_values(root: Node) -> int:
    """Plain values that stand by themselves at the top of a document."""
    tops = [item for item in root.items if item.role is Role.RECORD]
    inner = [item for top in tops if top.name == TOP for item in top.items if item.role is Role.RECORD]
    return sum(item.own is not None and not item.items for item in (*tops, *inner))


def _vendors(path: str, mine: Document, releases: Sequence[Tree]) -> Iterator[Document]:
    """The same file as recorded releases ship it, where they do and it is whole."""
    for tree in releases:
        if path not in tree.entries():
            continue
        try:
            document = registry.parse(path, read(tree, path), as_format=mine.format)
        except EmberKeepError:
            continue
        if document is not None:
            yield document


def _are_values(document: Document, at: tuple[str, ...]) -> bool:
    """Whether what repeats here are plain values."""
    nodes = [document.root]
    for name in at[1:]:
        nodes = [item for node in nodes for item in node.items if item.name == name]
    return all(list(node.fields) == [OWN] and not node.items for node in nodes[:20])


FEW_IN_A_MISSION = 4
"""Files of a folder that one table among them makes mission data."""


def _mission(scene: Scene, top: str, paths: list[str]) -> None:
    kinds = [
        (path, scene.look.kind(path))
        for path in (scene.below(top) if top else [])
        if scene.tree.entries()[path].kind is Kind.FILE and not scene.is_covered(path) and path not in scene.saved_texts
    ]
    if (
        top
        and not any(is_the_servers(path, scene.pairs(path), ()) for path, kind in kinds if kind in _DATA)
        and not any(path.startswith(f"{top}/") for path in scene.saved_texts)
        and (len(paths) > 1 or len(kinds) <= FEW_IN_A_MISSION)
        and all(kind in (*_DATA, "text", "script", "empty") for _, kind in kinds)
    ):
        for path, kind in kinds:
            if kind == "text":
                scene.cover("scripts", suffix_glob(path), "a text among mission files", Sure.LIKELY)
        some = f"{len(paths)} file{'s' if len(paths) > 1 else ''}"
        evidence = f"mission data: {some} of repeated records, and what stands beside"
        scene.cover("economy", f"{globs.escape(top)}/**", evidence, Sure.LIKELY)
        return
    for path in paths:
        if not scene.is_covered(path):
            scene.cover("economy", globs.escape(path), "repeated records", Sure.LIKELY)


_SETTINGS_NAME = re.compile(r"(?i)\.(?:ini|cfg|conf|toml|ya?ml|properties|props)$")
_CODE_LINE = re.compile(r"\s*(?:def|class|import|from|for|while|function|elif|else|elseif|end|try|except)\b[^=]*$")
DEEPEST_SETTINGS = 2
"""Folders down to which settings are known by what they hold; farther down, where much of the vendor's lies, by their
names too."""
FEW_ALIKE = 3
"""Files named alike of which each may hold settings; of more the vendor ships translations, or the engine its saves."""
_ENTRY = re.compile(
    r"""^\s*[\w.\-"'\[\]]+\s*[:=]\s*\S.*$|^\s*[\w.-]+\s*=?\s*\{\s*$|^\s*[}\])]+[,;]?\s*$|^\s*return\s*\{\s*$|^\s*(?://|#|--|;).*$"""
)


def _settings(scene: Scene, scripts: Sequence[str]) -> None:
    for script in scripts:
        for path in launch.passed_files(scene, script):
            if not scene.is_covered(path) and scene.look.kind(path) in ("text", *_DATA):
                scene.cover("settings", globs.escape(path), f"{script} passes it to the program", Sure.LIKELY)
    for family in list(scene.open_families()):
        for path in scene.sampled(family) if len(family.members) <= FEW_ALIKE else ():
            kind = scene.look.kind(path)
            if scene.is_covered(path) or path in scene.saved_texts or scene.tells_of_a_save(path):
                continue
            near = path.count("/") <= DEEPEST_SETTINGS or _SETTINGS_NAME.search(path) is not None
            if kind in ("properties", "ini", "toml", "yaml") and near:
                scene.cover("settings", globs.escape(path), f"keys and values ({kind})", Sure.LIKELY)
            elif (
                kind == "json"
                and (path.count("/") < 2 or is_the_servers(path, scene.pairs(path), ()))
                and _is_settings(scene.look.json(path))
            ):
                scene.cover("settings", globs.escape(path), "one JSON object of plain values", Sure.LIKELY)
            elif kind == "json" and path.count("/") < 2 and scene.look.json(path) is None and scene.pairs(path):
                scene.cover("settings", globs.escape(path), "JSON of plain values, with comments", Sure.LIKELY)
            elif kind == "xml" and near and scene.pairs(path):
                scene.cover("settings", globs.escape(path), "XML of plain values", Sure.LIKELY)
            elif kind == "text" and near and _is_pairs(scene.look.text(path)):
                scene.cover("settings", globs.escape(path), "lines of keys and values", Sure.LIKELY)
            elif kind == "text" and near and lined.spaced(None, scene.look.text(path)):
                scene.cover("settings", globs.escape(path), "lines of words and their values", Sure.GUESS)


def _is_settings(value: object) -> bool:
    """Whether a JSON value is an object of plain values, in sections or not."""
    if not isinstance(value, dict) or not value:
        return False
    plain = (str, int, float, bool, type(None))
    return all(
        isinstance(inner, plain)
        or (
            isinstance(inner, dict)
            and all(not isinstance(one, (dict, list)) or len(one) < SEVERAL for one in inner.values())
        )
        or (isinstance(inner, list) and len(inner) < SEVERAL)
        or (isinstance(inner, list) and all(isinstance(one, plain) for one in inner))
        for inner in value.values()
    )


def _is_pairs(text: str) -> bool:
    """Whether most lines are a key with its value, and brackets about such."""
    lines = [line for line in text.splitlines()[:200] if line.strip()]
    if any(_CODE_LINE.match(line) for line in lines):
        return False
    keyed = sum("=" in line or ":" in line for line in lines)
    return keyed >= 2 and sum(_ENTRY.match(line) is not None for line in lines) >= 0.8 * len(lines)


SEVERAL = 5
"""Records without a number in them that are a table all the same."""


def _repeated(node: Node, path: tuple[str, ...], depth: int = 0) -> Iterator[tuple[tuple[str, ...], int]]:
    """Paths of records that repeat within a parent and carry numbers somewhere, with how many there are."""
    counts = Counter(item.name for item in node.items if item.role is Role.RECORD)
    for name, count in counts.items():
        members = [item for item in node.items if item.name == name]
        if count >= 2 and not members[0].named and (depth or any(_has_number(member) for member in members[:20])):
            yield (*path, name), count
        if depth < 6:
            yield from _first_repeated(members[:20], (*path, name), depth + 1)


def _first_repeated(members: list[Node], path: tuple[str, ...], depth: int) -> Iterator[tuple[tuple[str, ...], int]]:
    best: dict[tuple[str, ...], int] = {}
    for member in members:
        for at, count in _repeated(member, path, depth):
            best[at] = max(count, best.get(at, 0))
    yield from best.items()


def _has_number(node: Node) -> bool:
    values = [field.value for field in node.fields.values()]
    values += [item.own for item in node.items if item.own is not None]
    return any(number(value) is not None for value in values) or any(_has_number(item) for item in node.items[:20])
