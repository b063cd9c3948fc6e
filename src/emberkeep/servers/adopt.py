"""Looking over a server folder and inferring what it is, from content first and names second; no game is known by name.

The order of the inferences matters, as each uses what the earlier ones found: tiles and people first, then what
belongs to players, then programs by the launch scripts that name them, extensions, settings, economy, and last
whole folders.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path

from emberkeep import globs
from emberkeep.documents import formats
from emberkeep.documents.identity import Identities
from emberkeep.documents.model import Document, Node, Role
from emberkeep.documents.values import number
from emberkeep.errors import EmberKeepError, Fault, Refused
from emberkeep.keep import UNSORTED
from emberkeep.servers.extensions import Extension, read_manifest
from emberkeep.servers.looking import Family, Look, families, is_identifier, people
from emberkeep.servers.roles import Roles
from emberkeep.trees import FolderTree, Kind, Skipped


class Sure(StrEnum):
    """How sure an inference is."""

    SURE = "sure"
    LIKELY = "likely"
    GUESS = "guess"


@dataclass(frozen=True)
class Finding:
    """A pattern of files that has a role, with what speaks for it."""

    role: str
    glob: str
    evidence: str
    sure: Sure


@dataclass(frozen=True)
class VersionFinding:
    """A version number, the pattern that finds it, and where."""

    name: str
    pattern: str
    within: tuple[str, ...]
    version: str
    evidence: str
    sure: Sure


@dataclass(frozen=True)
class WorldFinding:
    """The world: settings key that points at it, tile names, numbered save. Empty texts where nothing was found."""

    folder: str = ""
    pointer_file: str = ""
    pointer_key: str = ""
    tiles: str = ""
    sector: int = 0
    numbered: str = ""
    evidence: str = ""


@dataclass(frozen=True)
class RecordFinding:
    """How repeated records of a file are recognised. An empty rule: by what they hold."""

    file: str
    path: str
    rule: tuple[str, ...]
    count: int


@dataclass(frozen=True)
class Adoption:
    """All that adopt inferred. ``roles``: in the order of keep.toml; ``unsorted``: files that no role covers."""

    server: Path
    name: str
    roles: tuple[Finding, ...]
    versions: tuple[VersionFinding, ...]
    world: WorldFinding
    records: tuple[RecordFinding, ...]
    unsorted: tuple[str, ...]
    skipped: tuple[Skipped, ...]
    faults: tuple[Fault, ...]
    files: int
    bytes: int


ORDER = (
    "logs",
    "scratch",
    "players",
    "progress",
    "databases",
    "access",
    "scripts",
    "settings",
    "extensions",
    "extension-data",
    "economy",
    "engine",
    "world",
)
_LOG_FOLDERS = {"log", "logs", "crash-reports", "crashes", "dumps"}
_SCRATCH_FOLDERS = {"cache", "caches", "tmp", "temp", ".cache"}
_DATA = ("xml", "json", "yaml", "toml", "properties", "ini")
_VERSION = re.compile(r"(?<![\d.])(\d+(?:\.\d+){1,3})(?![\d.]*\d)")


def adopt(server: Path) -> Adoption:
    """Infer what stands in ``server``. Reads only; Refused when it is no folder."""
    if not server.is_dir():
        raise Refused(f"{server} is not a folder", hint="name the folder that holds the game server")
    tree = FolderTree(server)
    return _Inference(tree, Look(tree, server)).run()


@dataclass
class _Inference:
    tree: FolderTree
    look: Look
    findings: list[Finding] = field(default_factory=list)
    covered: set[str] = field(default_factory=set)
    people: Counter[str] = field(default_factory=Counter)
    world: WorldFinding = WorldFinding()

    def run(self) -> Adoption:
        self.all = families(self.tree.entries().values())
        self._logs_and_scratch()
        self._people()
        tiles = self._tiles()
        extensions = self._extension_folders()
        self._players(extensions)
        self._databases()
        scripts = self._scripts()
        self._programs(scripts)
        self._extension_data(extensions)
        records = list(self._economy())
        self._settings()
        self._world_folders(tiles)
        self.world = self._pointer(self.world)
        versions = tuple(self._versions())
        return self._adoption(tuple(records), versions)

    def _adoption(self, records: tuple[RecordFinding, ...], versions: tuple[VersionFinding, ...]) -> Adoption:
        entries = self.tree.entries()
        findings = tuple(sorted(dict.fromkeys(self.findings), key=lambda found: ORDER.index(found.role)))
        table = [(role, [found.glob for found in findings if found.role == role]) for role in ORDER]
        roles = Roles(table)
        unsorted = [p for p, e in entries.items() if e.kind is not Kind.FOLDER and roles.of(p) == UNSORTED]
        return Adoption(
            self.tree.root,
            self._name(),
            findings,
            versions,
            self.world,
            records,
            tuple(unsorted),
            self.tree.skipped,
            tuple(self.faults),
            sum(entry.kind is Kind.FILE for entry in entries.values()),
            sum(entry.size for entry in entries.values()),
        )

    def __post_init__(self) -> None:
        self.faults: list[Fault] = []
        self.documents: dict[str, Document] = {}
        self.manifests: dict[str, Extension | None] = {}

    # --- helpers -------------------------------------------------------------

    def _cover(self, role: str, glob: str, evidence: str, sure: Sure = Sure.SURE) -> None:
        self.findings.append(Finding(role, glob, evidence, sure))
        pattern = globs.compiled(glob)
        self.covered.update(path for path in self.tree.entries() if pattern.fullmatch(path))

    def _open(self) -> Iterator[Family]:
        """Families of which no member has a role yet."""
        for family in self.all:
            if family.members[0] not in self.covered:
                yield family

    def _name(self) -> str:
        title = self.world.folder and self._settings_value(("title", "name", "server-name", "servername", "hostname"))
        return title or self.tree.root.resolve().name

    def _settings_value(self, keys: tuple[str, ...]) -> str:
        for path in self._of_role("settings", "scripts"):
            for key, value in self._pairs(path):
                if key.lower() in keys and value:
                    return re.split(r"\s+[—|-]\s+", value)[0]
        return ""

    def _of_role(self, *roles: str) -> list[str]:
        patterns = [found.glob for found in self.findings if found.role in roles]
        return [p for p, e in self.tree.entries().items() if e.kind is Kind.FILE and globs.matches(p, patterns)]

    def _pairs(self, path: str) -> list[tuple[str, str]]:
        """Keys and values of a settings file."""
        document = self._document(path)
        if document is None or document.learns_identity:
            return re.findall(r'^\s*"?([\w.-]+)"?\s*[:=]\s*"?([^"\n#]*?)"?,?\s*$', self.look.text(path), re.MULTILINE)
        found = []
        for node in document.root.items:
            for item in [node, *node.items]:
                if item.role is Role.RECORD and item.own is not None:
                    found.append((item.name, item.own))
        return found

    def _document(self, path: str) -> Document | None:
        if path not in self.documents:
            try:
                document = formats.parse(path, self.look.whole(path))
            except EmberKeepError as error:
                self.faults.extend(error.faults)
                return None
            if document is None:
                return None
            self.documents[path] = document
        return self.documents[path]

    # --- logs, people, tiles -------------------------------------------------

    def _logs_and_scratch(self) -> None:
        folders = [path for path, entry in self.tree.entries().items() if entry.kind is Kind.FOLDER]
        for folder in folders:
            name = folder.rsplit("/", 1)[-1].lower()
            if folder in self.covered:
                continue
            if name in _LOG_FOLDERS:
                self._cover("logs", f"{globs.escape(folder)}/**", f"the folder is called {name}")
            elif name in _SCRATCH_FOLDERS:
                self._cover("scratch", f"{globs.escape(folder)}/**", f"the folder is called {name}")
        for path, entry in self.tree.entries().items():
            if path in self.covered or entry.kind is Kind.FOLDER:
                continue
            if path.lower().endswith((".log", ".log.gz")):
                self._cover("logs", globs.escape(path), "its name ends as a log's does")
            elif path.lower().endswith((".pid", ".lock", ".lck")):
                self._cover("scratch", globs.escape(path), "a mark of a running program")

    def _people(self) -> None:
        lists = []
        for family in self._open():
            for path in family.members[:4]:
                if self.look.kind(path) != "json" or len(family.members) > 4:
                    continue
                found = people(self.look.json(path))
                if found:
                    lists.append((path, found))
        for _, found in lists:
            for person in found:
                self.people.update(value for value in person.values() if is_identifier(value))
        for path, found in lists:
            if "/" in path and self._in_extension(path):
                continue
            what = "ids" if any(is_identifier(v) for person in found for v in person.values()) else "addresses"
            self._cover("access", globs.escape(path), f"a list of {len(found)} with {what}")

    def _in_extension(self, path: str) -> bool:
        return any(path.startswith(folder + "/") for folder in self._extension_parents())

    def _extension_parents(self) -> set[str]:
        return {family.folder for family in self.all if any(self._manifest(path) for path in family.members[:2])}

    def _tiles(self) -> list[tuple[Family, str]]:
        """Families whose names carry two varying integers, the world's tiles."""
        found = []
        for family in self._open():
            places = family.numbers()
            varying = [at for at, values in enumerate(places) if len(values) > 1]
            if len(varying) != 2 or len(family.members) < 4 or family.shape.count("{id}"):
                continue
            if all(len(places[at]) >= 2 for at in varying) and self.look.kind(family.members[0]) in (
                "binary",
                "packed",
            ):
                names = _tile_names(family, varying, places)
                found.append((family, names))
                self.covered.update(family.members)
        return found

    # --- players, databases, numbered saves ----------------------------------

    def _players(self, extensions: dict[str, str]) -> None:
        for family in self._open():
            if family.shape.count("{id}") != 1 or any(family.folder.startswith(f) for f in extensions):
                continue
            known = sum(_stem(path) in self.people for path in family.members)
            sure = Sure.SURE if known else Sure.LIKELY
            name = re.sub(r"\{id\}|\{n\}", "*", globs.escape(family.shape))
            folder = f"{globs.escape(family.folder)}/" if family.folder else ""
            self.people.update(_stem(path) for path in family.members if is_identifier(_stem(path)))
            evidence = f"{len(family.members)} files named by an id, {known} of them known from the lists of people"
            self._cover("players", folder + name, evidence, sure)

    def _databases(self) -> None:
        for family in list(self._open()):
            if self.look.kind(family.members[0]) != "sqlite":
                continue
            for path in family.members:
                tables = self.look.tables(path)
                personal = [name for name, texts in tables.items() if any(text in self.people for text in texts)]
                glob = _numbered_glob(path)
                if personal:
                    evidence = f"SQLite; known players' ids in {', '.join(sorted(personal))}"
                    self._cover("progress", glob, evidence, Sure.LIKELY)
                elif tables:
                    self._cover("databases", glob, f"SQLite with {len(tables)} tables", Sure.LIKELY)
                else:
                    self._cover("databases", glob, "SQLite that could not be read", Sure.GUESS)

    # --- programs ------------------------------------------------------------

    def _scripts(self) -> list[str]:
        scripts = []
        for family in list(self._open()):
            for path in family.members:
                if self.look.kind(path) != "script":
                    continue
                named = self._names_files(path)
                scripts.append(path)
                told = f"a script that starts {named[0]}" if named else "a script"
                self._cover("scripts", globs.escape(path), told, Sure.SURE if named else Sure.LIKELY)
        return scripts

    def _names_files(self, path: str) -> list[str]:
        """Files of the folder that a script names, programs first."""
        words = set(re.findall(r"[\w./\\-]+", self.look.text(path)))
        found = []
        for word in sorted(words):
            name = word.replace("\\", "/").removeprefix("./")
            entry = self.tree.entries().get(name)
            if entry is not None and entry.kind is Kind.FILE and name != path:
                found.append(name)
        return sorted(found, key=lambda name: self.look.kind(name) not in ("program", "binary"))

    def _programs(self, scripts: list[str]) -> None:
        started = {name: script for script in scripts for name in self._names_files(script)}
        program_folders: dict[str, list[str]] = defaultdict(list)
        for family in list(self._open()):
            for path in family.members:
                kind = self.look.kind(path)
                if path in started and kind in ("program", "binary", "zip"):
                    self._cover("engine", _numbered_glob(path), f"the program that {started[path]} starts")
                elif kind == "program":
                    program_folders[family.folder].append(path)
        for folder, paths in program_folders.items():
            self._program_folder(folder, [path for path in paths if path not in self.covered])
        for family in list(self._open()):
            for path in family.members:
                self._version_file(path)
                self._overlay(path)

    def _program_folder(self, folder: str, paths: list[str]) -> None:
        beside = [f for family in self.all if family.folder == folder for f in family.members]
        if folder and paths and len(paths) >= 0.5 * len(beside):
            self._cover("engine", f"{globs.escape(folder)}/**", f"{len(paths)} program files of {len(beside)} in it")
            return
        for path in paths:
            self._cover("engine", globs.escape(path), "a program or library", Sure.LIKELY)

    def _version_file(self, path: str) -> None:
        if "/" in path or self.look.size(path) > 2000 or self.look.kind(path) != "text":
            return
        if re.fullmatch(r"version|release|build", _bare(path)) and _VERSION.search(self.look.text(path)):
            self._cover("engine", globs.escape(path), "tells the engine's version")

    def _overlay(self, path: str) -> None:
        """An archive whose members lie in the folder: a framework laid over the engine."""
        if self.look.kind(path) != "zip" or path in self.covered:
            return
        members = self.look.members(path)
        there = [name for name in members if name in self.tree.entries()]
        if members and len(there) >= max(1, len(members) // 2):
            evidence = f"an overlay: {len(there)} of its {len(members)} files lie in the server folder"
            self._cover("engine", _numbered_glob(path), evidence, Sure.LIKELY)

    # --- extensions ----------------------------------------------------------

    def _manifest(self, path: str) -> Extension | None:
        """What an archive says of itself, read once."""
        if path not in self.manifests:
            self.manifests[path] = read_manifest(self.look, path)
        return self.manifests[path]

    def _extension_folders(self) -> dict[str, str]:
        """Folders of an extension's own files -> its name; the archives are covered on the way."""
        folders: dict[str, str] = {}
        entries = self.tree.entries()
        for family in list(self._open()):
            for path in family.members:
                manifest = self._manifest(path)
                if manifest is None:
                    continue
                name = manifest.name
                suffix = path[path.rindex(".") :] if "." in path else ""
                glob = f"{globs.escape(family.folder)}/*{suffix}" if family.folder else globs.escape(path)
                self._cover("extensions", glob, f"archives with a manifest ({name} {manifest.version})")
                own = f"{family.folder}/{name}".lower()
                folders.update({p: name for p, e in entries.items() if e.kind is Kind.FOLDER and p.lower() == own})
        return folders

    def _extension_data(self, extensions: dict[str, str]) -> None:
        for folder, name in sorted(extensions.items()):
            for path, entry in self.tree.entries().items():
                if entry.kind is not Kind.FILE or path.rpartition("/")[0] != folder:
                    continue
                if self.look.kind(path) in ("ini", "properties", "toml", "yaml"):
                    self._cover("settings", globs.escape(path), f"settings of the extension {name}", Sure.LIKELY)
            self._cover("extension-data", f"{globs.escape(folder)}/**", f"what the extension {name} keeps")

    # --- economy and settings ------------------------------------------------

    def _economy(self) -> Iterator[RecordFinding]:
        """Files of repeated records with numbers; a folder tree that holds several such files is mission data whole."""
        tables: dict[str, list[str]] = defaultdict(list)
        for family in list(self._open()):
            for path in family.members[:50]:
                if self.look.kind(path) == "xml":
                    yield from self._table(path, tables)
        for top, paths in tables.items():
            self._mission(top, paths)

    def _table(self, path: str, tables: dict[str, list[str]]) -> Iterator[RecordFinding]:
        document = self._document(path)
        if document is None:
            return
        identities = Identities([], [document])
        repeated = list(_repeated(document.root, (document.root.name,)))
        if not repeated:
            return
        tables[path.split("/", 1)[0] if "/" in path else ""].append(path)
        for at, count in repeated:
            rule = identities.rule(at).rule
            yield RecordFinding(path, "/".join(at), rule or (), count)

    def _mission(self, top: str, paths: list[str]) -> None:
        inside = [f for family in self.all for f in family.members if f.startswith(top + "/")] if top else []
        kinds = [(path, self.look.kind(path)) for path in inside if path not in self.covered]
        if top and all(kind in (*_DATA, "text", "script") for _, kind in kinds):
            for path, kind in kinds:
                if kind == "text":
                    evidence = "a text among mission files"
                    self._cover("scripts", _suffix_glob(path), evidence, Sure.LIKELY)
            evidence = f"mission data: {len(paths)} files of repeated records, and what stands beside them"
            self._cover("economy", f"{globs.escape(top)}/**", evidence)
            return
        for path in paths:
            self._cover("economy", globs.escape(path), "repeated records")

    def _settings(self) -> None:
        for family in list(self._open()):
            for path in family.members:
                kind = self.look.kind(path)
                if kind in ("properties", "ini", "toml", "yaml"):
                    sure = Sure.SURE if kind in ("properties", "ini") else Sure.LIKELY
                    self._cover("settings", globs.escape(path), f"keys and values ({kind})", sure)
                elif kind == "json" and isinstance(self.look.json(path), dict) and "/" not in path:
                    self._cover("settings", globs.escape(path), "one JSON object", Sure.LIKELY)

    # --- the world -----------------------------------------------------------

    def _world_folders(self, tiles: list[tuple[Family, str]]) -> None:
        for family, names in tiles:
            top = family.folder.split("/", 1)[0] if family.folder else ""
            pattern = f"{globs.escape(top)}/**" if top else family.glob
            told = f"{len(family.members)} tiles {names}"
            self._cover("world", pattern, told)
            if not self.world.tiles or len(self._files_below(top)) > len(self._files_below(self.world.folder)):
                below = f"{family.folder}/{names}".removeprefix(f"{top}/") if top else names
                self.world = WorldFinding(top, tiles=below, sector=self._sector(family), evidence=told)
        if self.world.folder:
            self._numbered()

    def _files_below(self, folder: str) -> list[str]:
        return [path for path in self.tree.entries() if path.startswith(folder + "/")]

    def _sector(self, family: Family) -> int:
        """The sector size when every tile is a whole number of them."""
        sizes = [self.look.size(path) for path in family.members]
        return 4096 if all(size % 4096 == 0 for size in sizes) else 0

    def _numbered(self) -> None:
        """A save whose name carries numbers: those that scripts and settings also give are size and seed, the rest
        its format."""
        told = set(re.findall(r"\d+", " ".join(self.look.text(p) for p in self._of_role("scripts", "settings"))))
        for path in self._files_below(self.world.folder):
            name = path.rsplit("/", 1)[-1]
            numbers = re.findall(r"(?<=[.\-_])\d+(?=[.\-_])", name)
            own = [value for value in numbers if value not in told]
            if len(numbers) >= 2 and len(own) == 1 and self.look.kind(path) in ("binary", "packed"):
                parts = [
                    ("{number}" if part == own[0] else "*") if part.isdigit() else part
                    for part in re.split(r"(\d+)", name)
                ]
                below = path.removeprefix(f"{self.world.folder}/").rpartition("/")[0]
                shape = "".join(parts)
                self.world = WorldFinding(**{**self.world.__dict__, "numbered": f"{below}/{shape}" if below else shape})
                return

    def _pointer(self, world: WorldFinding) -> WorldFinding:
        """The settings key whose value is the world folder's name."""
        if not world.folder:
            return world
        for path in self._of_role("settings"):
            for key, value in self._pairs(path):
                if value.strip().strip("/") == world.folder:
                    return WorldFinding(**{**world.__dict__, "pointer_file": path, "pointer_key": key})
        return world

    # --- versions ------------------------------------------------------------

    def _versions(self) -> Iterator[VersionFinding]:
        engines = [f for f in self._of_role("engine") if self.look.kind(f) in ("program", "binary")]
        named = [(path, found[1]) for path in engines if (found := _VERSION.search(path.rsplit("/", 1)[-1]))]
        for path, version in named[:1]:
            yield self._engine_version(path, version)
        if not named:
            yield from self._told_version()
        if self.world.numbered:
            yield self._save_version()

    def _engine_version(self, path: str, version: str) -> VersionFinding:
        where = [_numbered_glob(path)]
        word = ""
        candidates = [p for p in (*self._of_role("engine"), *self._of_role("logs")) if self.look.kind(p) == "text"]
        for other in candidates:
            if found := re.search(rf"([A-Za-z][\w-]*)[ -]v?{re.escape(version)}", self.look.text(other)[:4000]):
                word = word or found[1]
                where.append(globs.escape(other))
        name = path.rsplit("/", 1)[-1]
        prefix = name[: name.index(version)].rstrip("-_ .")
        words = "|".join(dict.fromkeys(re.escape(part) for part in (prefix, word) if part))
        pattern = rf"(?:{words})[-_ ]v?(\d+(?:\.\d+)+)" if words else r"(\d+(?:\.\d+)+)"
        evidence = f"{version} in the name of {path}" + (f" and in {', '.join(where[1:])}" if where[1:] else "")
        return VersionFinding("engine", pattern, tuple(where), version, evidence, Sure.SURE)

    def _told_version(self) -> Iterator[VersionFinding]:
        for path in (*self._of_role("engine"), *self._of_role("logs")):
            found = re.search(r"([A-Za-z][\w-]*) v?(\d+(?:\.\d+)+)", self.look.text(path)[:2000])
            if found and self.look.kind(path) == "text":
                pattern = rf"{re.escape(found[1])} v?(\d+(?:\.\d+)+)"
                evidence = f"'{found[0]}' in {path}"
                yield VersionFinding("engine", pattern, (globs.escape(path),), found[2], evidence, Sure.GUESS)
                return

    def _save_version(self) -> VersionFinding:
        names = f"{globs.escape(self.world.folder)}/{self.world.numbered.replace('{number}', '*')}"
        pattern = re.escape(self.world.numbered.rsplit("/", 1)[-1])
        pattern = pattern.replace(r"\*", r"\d+").replace(r"\{number\}", r"(\d+)") + "$"
        path = next(p for p in self.tree.entries() if globs.matches(p, [names]))
        version = re.search(pattern, path)
        evidence = f"the number in {path} that no setting gives"
        return VersionFinding("save", pattern, (names,), version[1] if version else "", evidence, Sure.LIKELY)


def _stem(path: str) -> str:
    return path.rsplit("/", 1)[-1].split(".", 1)[0]


def _bare(path: str) -> str:
    return path.rsplit("/", 1)[-1].rsplit(".", 1)[0].lower()


def _suffix_glob(path: str) -> str:
    folder, _, name = path.rpartition("/")
    suffix = name[name.rindex(".") :] if "." in name else name
    return f"{globs.escape(folder)}/*{globs.escape(suffix)}" if "." in name else globs.escape(path)


def _numbered_glob(path: str) -> str:
    """The path with version numbers in its name left open, as the next release changes them."""
    folder, _, name = path.rpartition("/")
    open_name = re.sub(r"(?<=[.\-_])\d+(?:\.\d+)*(?=[.\-_]|$)", "*", globs.escape(name))
    return f"{globs.escape(folder)}/{open_name}" if folder else open_name


def _tile_names(family: Family, varying: list[int], places: list[set[str]]) -> str:
    """The family's name with {x} and {y} at the two varying places and * for other numbers."""
    parts = re.split(r"(\{n\})", family.shape)
    labels = {varying[0]: "{x}", varying[1]: "{y}"}
    seen = iter(range(len(places)))
    return "".join(labels.get(next(seen), "*") if part == "{n}" else part for part in parts)


def _repeated(node: Node, path: tuple[str, ...], depth: int = 0) -> Iterator[tuple[tuple[str, ...], int]]:
    """Paths of records that repeat within a parent and carry numbers somewhere, with how many there are."""
    counts = Counter(item.name for item in node.items if item.role is Role.RECORD)
    for name, count in counts.items():
        members = [item for item in node.items if item.name == name]
        if count >= 2 and (depth or any(_has_number(member) for member in members[:20])):
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
