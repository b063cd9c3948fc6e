"""Bringing in a world from elsewhere: found in a folder or an archive, checked, put beside the old one, pointed at.

What a world of this server looks like is told by keep.toml (tiles, numbered saves) and by the one that is played: how
its files are called, numbers left open, or, of a single file, its ending and what it begins with.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from emberkeep.documents import edit
from emberkeep.errors import Refused, UsageError
from emberkeep.fs.archives import is_archive, open_source
from emberkeep.fs.trees import FILE, FOLDER, FileTree, PartTree, Tree, parents, read
from emberkeep.inventory.leading import leads_to
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.migrating.apply import numbered_pattern
from emberkeep.operations.engine.kind import RunKind, Saves
from emberkeep.operations.engine.step import FileStep, Notes, RunContext, Step
from emberkeep.operations.flows import migrate
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.store.store import Store

WANTED = ("world", "players", "progress")
MADE = ("engine", "settings", "economy", "scripts", "extensions")
"""Roles of what a world does not bring along."""
BEGINS = 4
"""Bytes by which files of one kind begin alike."""
_NAME = re.compile(r"[\w][\w .+-]{0,63}")


@dataclass(frozen=True)
class Request:
    """Where the world comes from, and what its folder is to be called ("" as it is called there)."""

    source: Path
    name: str = ""


@dataclass(frozen=True)
class Played:
    """The world that is in use. ``value``: what the pointer says; ``at``: its folder or file; ``begins``: the first
    bytes of a world that is one file."""

    value: str
    at: str
    shapes: frozenset[str] = frozenset()
    is_file: bool = False
    begins: bytes = b""

    def beside(self, name: str) -> str:
        """Where a world of another name stands: where this one does."""
        over = self.at.rpartition("/")[0]
        return f"{over}/{name}" if over else name

    def pointing(self, name: str) -> str:
        """What the pointer says to lead to a world beside this one, in the way in which it says it now."""
        mine = self.at.rpartition("/")[2]
        stem = mine.split(".", 1)[0] if self.is_file else mine
        before, found, behind = self.value.rpartition(mine) if mine in self.value else self.value.rpartition(stem)
        ending = mine[len(stem) :] if found == mine and self.is_file else ""
        return f"{before}{name}{ending}{behind}" if found else name


@dataclass(frozen=True)
class World:
    """A world found in a source. ``below``: its folder there ("" the top); ``parts``: paths in it that a server needs,
    and what each is called here; ``others``: those that it does not; ``number``: of its saves, None where they carry
    none."""

    tree: Tree
    below: str
    name: str
    parts: Mapping[str, str]
    others: tuple[str, ...]
    number: int | None


def steps(keep: Keep, store: Store, request: Request) -> list[Step]:
    """The steps of bringing a world in."""
    return [
        SnapshotStep(f"before bringing in {request.source.name}", KIND.name, rests_on=("world",)),
        FileStep("import", f"bring in the world of {request.source.name}", _Bring(request)),
    ]


@dataclass
class _Bring:
    request: Request

    def __call__(self, context: RunContext) -> Notes:
        folder, config = context.folder, context.keep.config
        pointer = config.world.pointer
        if pointer is None:
            raise Refused("keep.toml does not tell which setting names the world", hint="see [world] pointer")
        played = _played(context)
        world = find_world(_source(self.request.source, played), self.request, config, played)
        there = next((path for path in world.parts.values() if path in folder.entries()), "")
        if there or played.beside(world.name) in folder.entries():
            what = there or f"a folder {played.beside(world.name)}"
            raise Refused(f"there is {what} already", hint="--as NAME gives the new one another name")
        notes = Notes([f"found in {world.below or 'the top'} of {self.request.source.name}: {len(world.parts)} files"])
        notes.lines += _check_number(context, world)
        for path, here in world.parts.items():
            folder.take(here, world.tree, path)
        if world.others:
            shown = ", ".join(world.others[:6]) + (" …" if len(world.others) > 6 else "")
            notes.lines.append(f"left aside, as no server needs it: {shown}")
        before = edit.value(pointer.file, read(folder, pointer.file), pointer.key)
        wanted = played.pointing(world.name)
        folder.write(pointer.file, edit.set_value(pointer.file, read(folder, pointer.file), pointer.key, wanted))
        notes.lines.append(f"{pointer.file}: {pointer.key} = {wanted} (was {before}; that world stays)")
        notes.lines += _set_seed(context, world, played.at)
        return notes


def _played(context: RunContext) -> Played:
    """The world that is in use, by the rule by which adopt and survey find what a pointer leads to."""
    pointer, folder = context.keep.config.world.pointer, context.folder
    assert pointer is not None
    if pointer.file not in folder.entries():
        raise Refused(f"there is no {pointer.file}, which names the world", hint="see [world] pointer in keep.toml")
    value = edit.value(pointer.file, read(folder, pointer.file), pointer.key) or ""
    roles, entries = Roles(context.keep.config.roles), folder.entries()
    led = [path for path in entries if leads_to(value, path)]
    saved = [path for path in led if entries[path].kind is FILE and roles.of(path) == "world"]
    holding = Counter(
        above for path in entries if roles.of(path) == "world" for above in parents(path) if leads_to(value, above)
    )
    folders = [path for path in led if entries[path].kind is FOLDER]
    at = max(folders, key=lambda path: (holding[path], -len(path)), default="")
    at = at or max(saved, key=lambda path: entries[path].size, default=value.strip("/"))
    more = next((path for path in entries if path.startswith(f"{at}/") and roles.of(path) in MADE), "")
    if more:
        hint = "bring its files in by hand, with the server stopped, behind a snapshot"
        raise Refused(f"{at}, to which {pointer.key} leads, holds more than the world: {more}", hint=hint)
    if at in entries and entries[at].kind is FILE:
        return Played(value, at, is_file=True, begins=next(iter(folder.chunks(at)), b"")[:BEGINS])
    inside = [path for path, entry in entries.items() if entry.kind is FILE and path.startswith(f"{at}/")]
    return Played(value, at, frozenset(_shape(path.removeprefix(f"{at}/")) for path in inside))


def _source(path: Path, played: Played) -> Tree:
    """What is brought in: a folder, an archive, or where a world is one file, that file."""
    if path.is_file() and played.is_file and not _is_packed_world(path, played):
        return FileTree(path)
    return open_source(path)


def _is_packed_world(path: Path, played: Played) -> bool:
    """Whether a file is an archive with a world in it, rather than a world that is an archive itself."""
    with path.open("rb") as handle:
        begins = handle.read(BEGINS)
    return is_archive(path) and (begins != played.begins or path.suffix != Path(played.at).suffix)


def find_world(source: Tree, request: Request, config: Config, played: Played) -> World:
    """The folder or file of a source that is most like this server's world. Refused where none is."""
    if played.is_file:
        return _find_file(source, request, played)
    roles = Roles(config.roles)
    scores: Counter[str] = Counter()
    kinds: dict[str, set[str]] = defaultdict(set)
    for path, entry in source.entries().items():
        if entry.kind is not FILE:
            continue
        for below in (*parents(path), ""):
            inside = path.removeprefix(f"{below}/") if below else path
            if roles.of(f"{played.at}/{inside}") in WANTED and _tells(inside, config, played):
                scores[below] += 1
                kinds[below].add(_shape(inside))
    if not (config.world.tiles or config.world.numbered):  # by chance, some file is called as one of it is
        scores = Counter(
            {below: count for below, count in scores.items() if 2 * len(kinds[below]) >= len(played.shapes)}
        )
    if not scores:
        wanted = (f"tiles as {config.world.tiles}" if config.world.tiles else "") or f"files as in {played.at}"
        raise Refused(f"no world of this kind is in {request.source.name}", hint=f"looked for {wanted}")
    below = max(scores, key=lambda name: (scores[name], -name.count("/"), name))
    tree: Tree = PartTree(source, below) if below else source
    name = _named(request, below.rpartition("/")[2])
    parts: dict[str, str] = {}
    others: list[str] = []
    for path, entry in tree.entries().items():
        if entry.kind is FOLDER:
            continue
        if roles.of(f"{played.at}/{path}") in WANTED and _needed(path):
            parts[path] = f"{played.beside(name)}/{path}"
        else:
            others.append(path)
    others += [path for path in source.entries() if below and not path.startswith(f"{below}/") and path != below]
    numbers = [int(found["number"]) for path in parts if (found := _number(path, config))]
    return World(tree, below, name, parts, tuple(others), max(numbers, default=None))


def _find_file(source: Tree, request: Request, played: Played) -> World:
    """The file of a source that ends and begins as the world does, the largest of several; what is called as it is
    comes with it."""
    ending = played.at.rpartition("/")[2].partition(".")[2]
    alike = [
        path
        for path, entry in source.entries().items()
        if entry.kind is FILE
        and path.rpartition("/")[2].partition(".")[2] == ending
        and next(iter(source.chunks(path)), b"")[:BEGINS] == played.begins
    ]
    if not alike:
        hint = f"looked for a file .{ending} that begins as {played.at} does"
        raise Refused(f"no world of this kind is in {request.source.name}", hint=hint)
    main = max(alike, key=lambda path: (source.entries()[path].size, path))
    bare = main.removesuffix(ending)
    name = _named(request, bare.rpartition("/")[2].rstrip("."))
    parts = {
        path: played.beside(f"{name}.{path.removeprefix(bare)}")
        for path, entry in source.entries().items()
        if entry.kind is FILE and path.startswith(bare)
    }
    others = tuple(path for path, entry in source.entries().items() if entry.kind is FILE and path not in parts)
    return World(source, main, name, parts, others, None)


def _named(request: Request, there: str) -> str:
    name = request.name or there or _stem(request.source.name)
    if not _NAME.fullmatch(name) or name in (".", ".."):
        raise UsageError(f"'{name}' cannot name a world", hint="--as NAME: letters, digits, . _ + - and spaces")
    return name


def _shape(path: str) -> str:
    """How a file is called, with numbers and hashes left open."""
    return re.sub(r"(?<![A-Za-z0-9])[0-9a-f]{1,3}(?=/)|[0-9a-f]{8,}|\d+", "0", path)


def _tells(path: str, config: Config, played: Played) -> bool:
    """Whether a path inside a folder shows that the folder is a world: a tile where tiles belong, a numbered save, or
    where there are none, a file called as one of the world that is played."""
    if not (config.world.tiles or config.world.numbered):
        return _shape(path) in played.shapes
    if config.world.tiles:
        pattern = re.escape(config.world.tiles)
        for name in ("x", "y"):
            pattern = pattern.replace(re.escape("{" + name + "}"), r"-?\d+")
        if re.fullmatch(pattern.replace(r"\*", "[^/]*"), path):
            return True
    return _number(path, config) is not None


def _number(path: str, config: Config) -> re.Match[str] | None:
    return numbered_pattern(config.world.numbered).fullmatch(path) if config.world.numbered else None


def _needed(path: str) -> bool:
    """Left aside is what systems and archivers leave in folders, and what only a running program needs."""
    name = path.rpartition("/")[2].lower()
    return not (name in (".ds_store", "thumbs.db", "desktop.ini") or name.endswith((".lock", ".pid", ".tmp", "~")))


def _stem(name: str) -> str:
    return name.split(".", 1)[0] or name


def _check_number(context: RunContext, world: World) -> list[str]:
    """The saves' number against the engine's: a newer one is refused, an older one will be converted."""
    reads = migrate.engine_number(context.keep.config, context.folder)
    if world.number is None:
        return ["its saves carry no number; the engine will tell whether it takes them"]
    if reads is None:
        return [f"its saves carry the number {world.number}; which one the engine reads is not told"]
    if world.number > reads:
        raise Refused(
            f"the world is of save number {world.number}, newer than {reads}, which this engine reads",
            hint="update the engine first",
        )
    if world.number < reads:
        return [f"its saves carry the number {world.number}, older than {reads}: 'emberkeep migrate' comes next"]
    return [f"its saves carry the number {world.number}, as the engine wants"]


def _set_seed(context: RunContext, world: World, current: str) -> list[str]:
    """Where the save's name carries seed and size, the launch script must give those of the new world."""
    config, folder = context.keep.config, context.folder
    script = config.launch.script
    if not config.world.numbered or script not in folder.entries():
        return []
    data = read(folder, script)
    keys = {name: key for name, key in config.launch.keys.items() if name in ("seed", "size")}
    arguments = {name: edit.value(script, data, key) for name, key in keys.items()}
    mine = _stars(folder, f"{current}/", config)
    theirs = _stars(world.tree, "", config)
    notes = []
    for name, value in arguments.items():
        if value is None or value not in mine or len(theirs) != len(mine):
            continue
        wanted = theirs[mine.index(value)]
        if wanted != value:
            data = edit.set_value(script, data, config.launch.keys[name], wanted)
            notes.append(f"{script}: {config.launch.keys[name]} = {wanted} (was {value}), as the new world's saves say")
    if notes:
        folder.write(script, data)
    return notes


def _stars(tree: Tree, start: str, config: Config) -> list[str]:
    """What stands for the stars in the name of the newest numbered save."""
    pattern = numbered_pattern(config.world.numbered, stars=True)
    found = [
        (int(match["number"]), [text for name, text in match.groupdict().items() if name != "number"])
        for path in tree.entries()
        if path.startswith(start) and (match := pattern.fullmatch(path.removeprefix(start)))
    ]
    return max(found)[1] if found else []


KIND = RunKind(
    "import",
    Request,
    title=lambda request: f"import of {request.source.name}",
    steps=steps,
    saves=Saves.REPLACED,
)
