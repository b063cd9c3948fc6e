"""Bringing in a world from elsewhere: found in a folder or an archive, checked, put beside the old one, pointed at."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from emberkeep.archives import open_source
from emberkeep.documents import edit
from emberkeep.errors import Refused, UsageError
from emberkeep.keep import Config, Keep
from emberkeep.migrating.apply import numbered_pattern
from emberkeep.runs import migrate
from emberkeep.runs.run import FileStep, Notes, Room, SnapshotStep, Step
from emberkeep.servers.roles import Roles
from emberkeep.store.store import Store
from emberkeep.trees import FILE, FOLDER, PartTree, Tree, read

KIND = "import"
WANTED = ("world", "players", "progress")
_NAME = re.compile(r"[\w][\w .+-]{0,63}")


@dataclass(frozen=True)
class Request:
    """Where the world comes from, and what its folder is to be called ("" as it is called there)."""

    source: Path
    name: str = ""

    @property
    def plain(self) -> dict[str, Any]:
        """It, as JSON holds it."""
        return {"source": str(self.source), "name": self.name}


@dataclass(frozen=True)
class World:
    """A world found in a source. ``below``: its folder there ("" the top); ``parts``: paths in it that a server needs;
    ``others``: those that it does not; ``number``: of its saves, None where they carry none."""

    tree: Tree
    below: str
    name: str
    parts: tuple[str, ...]
    others: tuple[str, ...]
    number: int | None


def steps(request: Request) -> list[Step]:
    """The steps of bringing a world in."""
    return [
        SnapshotStep(f"before bringing in {request.source.name}", KIND, rests_on=("world",)),
        FileStep("import", f"bring in the world of {request.source.name}", _Bring(request)),
    ]


def steps_again(keep: Keep, store: Store, request: Mapping[str, Any]) -> list[Step]:
    """The steps of an import that the journal knows."""
    return steps(Request(Path(request["source"]), request["name"]))


@dataclass
class _Bring:
    request: Request

    def __call__(self, room: Room) -> Notes:
        folder, config = room.folder, room.keep.config
        pointer = config.world.pointer
        if pointer is None:
            raise Refused("keep.toml does not tell which setting names the world", hint="see [world] pointer")
        world = find_world(open_source(self.request.source), self.request, config, _current(room))
        if any(path == world.name or path.startswith(f"{world.name}/") for path in folder.entries()):
            raise Refused(f"there is a folder {world.name} already", hint="--as NAME gives the new one another name")
        notes = Notes([f"found in {world.below or 'the top'} of {self.request.source.name}: {len(world.parts)} files"])
        notes.lines += _check_number(room, world)
        for path in world.parts:
            folder.take(f"{world.name}/{path}", world.tree, path)
        if world.others:
            shown = ", ".join(world.others[:6]) + (" …" if len(world.others) > 6 else "")
            notes.lines.append(f"left aside, as no server needs it: {shown}")
        before = edit.value(pointer.file, read(folder, pointer.file), pointer.key)
        folder.write(pointer.file, edit.set_value(pointer.file, read(folder, pointer.file), pointer.key, world.name))
        notes.lines.append(f"{pointer.file}: {pointer.key} = {world.name} (was {before}; that world stays)")
        notes.lines += _set_seed(room, world, str(before or ""))
        return notes


def _current(room: Room) -> str:
    """The folder of the world that is in use."""
    pointer = room.keep.config.world.pointer
    assert pointer is not None
    if pointer.file not in room.folder.entries():
        raise Refused(f"there is no {pointer.file}, which names the world")
    return (edit.value(pointer.file, read(room.folder, pointer.file), pointer.key) or "").strip("/")


def find_world(source: Tree, request: Request, config: Config, current: str) -> World:
    """The folder of a source that holds most of what this server's world consists of. Refused where none does."""
    roles = Roles(config.roles)
    scores: Counter[str] = Counter()
    for path, entry in source.entries().items():
        if entry.kind is not FILE:
            continue
        for below in _parents(path):
            inside = path.removeprefix(f"{below}/") if below else path
            if roles.of(f"{current}/{inside}") in WANTED and _tells(inside, config):
                scores[below] += 1
    if not scores:
        raise Refused(
            f"no world of this kind is in {request.source.name}",
            hint=f"looked for tiles as {config.world.tiles or '?'} and saves as {config.world.numbered or '?'}",
        )
    below = max(scores, key=lambda name: (scores[name], -name.count("/"), name))
    tree: Tree = PartTree(source, below) if below else source
    name = request.name or below.rpartition("/")[2] or _stem(request.source.name)
    if not _NAME.fullmatch(name) or name in (".", ".."):
        raise UsageError(
            f"'{name}' cannot name a world's folder", hint="--as NAME: letters, digits, . _ + - and spaces"
        )
    parts: list[str] = []
    others: list[str] = []
    for path, entry in tree.entries().items():
        if entry.kind is FOLDER:
            continue
        (parts if roles.of(f"{current}/{path}") in WANTED and _needed(path) else others).append(path)
    others += [path for path in source.entries() if below and not path.startswith(f"{below}/") and path != below]
    numbers = [int(found["number"]) for path in parts if (found := _number(path, config))]
    return World(tree, below, name, tuple(parts), tuple(others), max(numbers, default=None))


def _parents(path: str) -> Iterator[str]:
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path
    yield ""


def _tells(path: str, config: Config) -> bool:
    """Whether a path inside a folder shows that the folder is a world: a tile where tiles belong, a numbered save."""
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


def _check_number(room: Room, world: World) -> list[str]:
    """The saves' number against the engine's: a newer one is refused, an older one will be converted."""
    reads = migrate.engine_number(room.keep.config, room.folder)
    if world.number is None:
        return ["its saves carry no number; the engine will tell whether it takes them"]
    if reads is None:
        return [f"its saves carry the number {world.number}; which one the engine reads is not told"]
    if world.number > reads:
        raise Refused(f"the world is of save number {world.number}, newer than {reads}, which this engine reads")
    if world.number < reads:
        return [f"its saves carry the number {world.number}, older than {reads}: 'emberkeep migrate' comes next"]
    return [f"its saves carry the number {world.number}, as the engine wants"]


def _set_seed(room: Room, world: World, current: str) -> list[str]:
    """Where the save's name carries seed and size, the launch script must give those of the new world."""
    config, folder = room.keep.config, room.folder
    script = config.launch.script
    if not config.world.numbered or script not in folder.entries():
        return []
    data = read(folder, script)
    told = {name: edit.value(script, data, key) for name, key in config.launch.keys.items() if name in ("seed", "size")}
    mine = _stars(folder, f"{current}/", config)
    theirs = _stars(world.tree, "", config)
    notes = []
    for name, value in told.items():
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
