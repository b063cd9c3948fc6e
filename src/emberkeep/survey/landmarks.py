"""Landmarks: what is measured in the saves before an update, and must hold after it.

Measured by itself: players, where they are and what they carry, tiles of each dimension, rows of each table of every
SQLite file, seed, size, world pointer, and the lists of operators, of those let in and of those shut out. And what
keep.toml declares. What a run gave another name is followed: a player's file by what it holds, a database by its name
with the numbers left open, where no file of that name was there before.
"""

from __future__ import annotations

import json
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from blake3 import blake3

from emberkeep.databases import sqlite
from emberkeep.documents import edit, registry
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.model import VALUE, Document, Node, Role, content, plain_fields
from emberkeep.documents.walk import walk
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.fs.trees import FILE, Tree, read
from emberkeep.inventory.roles import Roles, selection
from emberkeep.inventory.tiles import TileNames
from emberkeep.keep.config import Config
from emberkeep.keep.tables.updates import Landmark

MOST_NAMED = 6
SEEN_OF_EACH = 2
"""Files that end alike of which the beginning is read."""
UNMEASURED = ("logs", "scratch", "engine")
"""Roles of which databases are no saves."""
LARGEST_PLAYER = 4 << 20
"""Bytes; what a larger player file holds is compared as a whole."""


_NUMBERS = re.compile(r"\d+")


class How(StrEnum):
    """What became of something that was measured."""

    MOVED = "moved"
    MISSING = "missing"
    CHANGED = "changed"


@dataclass(frozen=True)
class Player:
    """A player's file: hashes of where they are and of what they carry."""

    position: str
    belongings: str


@dataclass(frozen=True)
class Measured:
    """What the saves of a server come to. Texts and numbers only, so that the journal can hold it."""

    players: Mapping[str, Player] = field(default_factory=dict)
    tiles: Mapping[str, int] = field(default_factory=dict)
    rows: Mapping[str, int] = field(default_factory=dict)
    facts: Mapping[str, str] = field(default_factory=dict)
    lists: Mapping[str, str] = field(default_factory=dict)
    declared: Mapping[str, str] = field(default_factory=dict)

    @property
    def words(self) -> str:
        """What was measured, in a few words."""
        parts = [
            f"{len(self.players)} players",
            *(f"{count} tiles in {folder}" for folder, count in self.tiles.items()),
            f"{sum(self.rows.values())} rows in {len(self.rows)} tables",
            *(f"{name} {value}" for name, value in self.facts.items()),
            f"{len(self.lists)} lists of people",
            *([f"{len(self.declared)} declared"] if self.declared else []),
        ]
        return ", ".join(parts)


@dataclass(frozen=True)
class Missed:
    """Something that does not hold any more. ``kind``: what it is measured as, see ``recipe.MEASURES``."""

    kind: str
    name: str
    how: How
    before: str
    after: str
    allowed: bool = False

    @property
    def words(self) -> str:
        """It, in words."""
        change = f": {self.before} before, {self.after or 'gone'} now" if self.before or self.after else ""
        return f"{self.name} {self.how}{change}"


def measure(tree: Tree, config: Config) -> Measured:
    """Measure the saves of a server."""
    roles = Roles(config.roles)
    by_role: dict[str, list[str]] = {}
    for path, entry in tree.entries().items():
        if entry.kind is FILE:
            by_role.setdefault(roles.of(path), []).append(path)
    databases = [path for role, paths in by_role.items() if role not in UNMEASURED for path in _databases(tree, paths)]
    return Measured(
        {path: _player(tree, path) for path in by_role.get("players", ())},
        _tiles(tree, config, by_role.get("world", ())),
        dict(_rows(tree, databases)),
        dict(_facts(tree, config)),
        {path: _people(tree, path) for path in by_role.get("access", ())},
        {mark.name: _declared(tree, config, mark) for mark in config.landmarks},
    )


def measure_facts(tree: Tree, config: Config) -> dict[str, str]:
    """Only seed, size and world pointer."""
    return dict(_facts(tree, config))


def _hash(value: object) -> str:
    return str(blake3(repr(value).encode("utf-8", "surrogateescape")).hexdigest(16))


def _player(tree: Tree, path: str) -> Player:
    """Positions are the vectors of numbers in the file, belongings the records inside it; by what they hold, whatever
    they are called."""
    player = _plain_json(tree, path)
    if player is not None:
        vectors = [str(value) for value in player.values() if _is_vector(value)]
        inside = [value for value in player.values() if isinstance(value, dict | list) and not _is_vector(value)]
        return Player(_hash(sorted(vectors)), _hash(sorted(json.dumps(value, sort_keys=True) for value in inside)))
    document = None
    if tree.entries()[path].size <= LARGEST_PLAYER:
        try:
            document = registry.parse(path, read(tree, path))
        except (EmberKeepError, RecursionError):
            document = None
    if document is None:
        whole = tree.digest(path)
        return Player(whole, whole)
    vectors = sorted(value for value in _own_values(document.root) if value.startswith("[") and len(value) > 2)
    records = [item for item in document.root.items if item.role is Role.RECORD and item.items]
    held = sorted(repr(tuple(sorted(map(content, item.items), key=repr))) for item in records)
    return Player(_hash(vectors), _hash(held))


def _plain_json(tree: Tree, path: str) -> dict[str, Any] | None:
    """A JSON object, read the quick way; None for what is none."""
    if not path.endswith(".json") or tree.entries()[path].size > LARGEST_PLAYER:
        return None
    try:
        parsed = json.loads(read(tree, path))
    except (ValueError, RecursionError):
        return None
    return parsed if isinstance(parsed, dict) else None


def _is_vector(value: object) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(item, int | float) for item in value)


def _own_values(node: Node) -> Iterator[str]:
    for item in node.items:
        if VALUE in item.fields and item.role is Role.RECORD:
            yield "".join(str(item.own).split())


def _tiles(tree: Tree, config: Config, paths: Iterable[str]) -> dict[str, int]:
    if not config.world.tiles:
        return {}
    names = TileNames(config.world.tiles)
    found = Counter(place.folder for path in paths if (place := names.place(path)) is not None)
    return dict(sorted(found.items()))


def _databases(tree: Tree, paths: Iterable[str]) -> Iterator[str]:
    """The SQLite files among some; of those that lie in one folder and end alike, one is looked at."""
    alike: dict[tuple[str, str], list[str]] = defaultdict(list)
    for path in paths:
        folder, _, name = path.rpartition("/")
        alike[folder, name[name.rfind(".") :] if "." in name else name].append(path)
    for held in alike.values():
        if any(sqlite.is_sqlite(next(tree.chunks(path), b"")[:16]) for path in held[:SEEN_OF_EACH]):
            yield from held


def _rows(tree: Tree, paths: Iterable[str]) -> Iterator[tuple[str, int]]:
    for path in sorted(paths):
        if not sqlite.is_sqlite(next(tree.chunks(path), b"")[:16]):
            continue
        with sqlite.of_tree(tree, path) as database:
            for table in sqlite.tables(database):
                count = database.execute(f"select count(*) from {sqlite.quoted(table)}").fetchone()[0]
                yield f"{path}: {table}", count


def _facts(tree: Tree, config: Config) -> Iterator[tuple[str, str]]:
    """Seed, size and world pointer."""
    there = tree.entries()
    script = config.launch.script
    if script in there:
        data = read(tree, script)
        for purpose in ("seed", "size"):
            key = config.launch.keys.get(purpose)
            value = edit.value(script, data, key) if key else None
            if value is not None:
                yield purpose, value
    pointer = config.world.pointer
    if pointer is not None and pointer.file in there:
        value = edit.value(pointer.file, read(tree, pointer.file), pointer.key)
        if value is not None:
            yield "pointer", value


def _people(tree: Tree, path: str) -> str:
    """A list of people by what it says, whatever its order and spelling."""
    data = read(tree, path)
    try:
        listed = json.loads(data)
    except (ValueError, RecursionError):
        lines = data.decode("utf-8", "replace").splitlines()
        return _hash(sorted(line.strip() for line in lines if line.strip()))
    if isinstance(listed, list):
        return _hash(sorted(json.dumps(item, sort_keys=True) for item in listed))
    return _hash(json.dumps(listed, sort_keys=True))


# --- declared ------------------------------------------------------------------------


def _declared(tree: Tree, config: Config, mark: Landmark) -> str:
    """What a declared landmark comes to; "" where there is none."""
    if mark.tiles:
        wanted = selection([f"tiles:{mark.tiles}"], config.roles, config.world.tiles)
        paths = sorted(path for path, entry in tree.entries().items() if entry.kind is FILE and wanted(path))
        return _hash(sorted((path.rpartition("/")[2], tree.digest(path)) for path in paths)) if paths else ""
    if mark.database:
        return _row(tree, mark)
    if mark.file not in tree.entries():
        return ""
    if not mark.field and not mark.record:
        return tree.digest(mark.file)
    return _field(tree, config, mark)


def _field(tree: Tree, config: Config, mark: Landmark) -> str:
    if not mark.record:
        return edit.value(mark.file, read(tree, mark.file), mark.field) or ""
    document = registry.parse(mark.file, read(tree, mark.file))
    if document is None:
        return ""
    node = _record(document, config, mark)
    if node is None:
        return ""
    if not mark.field:
        return _hash(content(node))
    field = plain_fields(node).get(mark.field.removeprefix("@"))
    return field.value if field else ""


def _record(document: Document, config: Config, mark: Landmark) -> Node | None:
    identities = KeyRules([document], [document], config.record_rules(mark.file))
    for placed in walk(document, identities):
        if mark.record in (placed.record, placed.name):
            return placed.node
    return None


def _row(tree: Tree, mark: Landmark) -> str:
    path = next((path for path in tree.entries() if globs.matches(path, [mark.database])), None)
    if path is None:
        return ""
    with sqlite.of_tree(tree, path) as database:
        where = sqlite.condition(database, mark.table, mark.where)
        rows = database.execute(f"select * from {sqlite.quoted(mark.table)} where {where} limit 1000").fetchall()
    return _hash(sorted(map(repr, rows))) if rows else ""


# --- comparing ------------------------------------------------------------------------


def compare(before: Measured, after: Measured, allowed: Sequence[str] = ()) -> tuple[Missed, ...]:
    """What does not hold any more. ``allowed``: kinds that a recipe says it changes. More tiles and more rows than
    before are no loss."""
    found = [
        *_players(before, after),
        *_counts("tiles", before.tiles, after.tiles),
        *_counts("rows", before.rows, _followed(before.rows, after.rows)),
        *_equal("facts", before.facts, after.facts),
        *_equal("lists", before.lists, after.lists, hidden=True),
        *_equal("declared", before.declared, after.declared, hidden=True),
    ]
    permitted = set(allowed)
    return tuple(
        Missed(item.kind, item.name, item.how, item.before, item.after, item.kind in permitted) for item in found
    )


def _players(before: Measured, after: Measured) -> Iterator[Missed]:
    new = Counter(player for path, player in after.players.items() if path not in before.players)
    for path, was in before.players.items():
        now = after.players.get(path)
        if now is None and new[was]:
            new[was] -= 1  # the file is called otherwise now
            continue
        if now is None:
            yield Missed("players", path, How.MISSING, "", "")
            continue
        if now.position != was.position:
            yield Missed("positions", path, How.MOVED, "", "")
        if now.belongings != was.belongings:
            yield Missed("belongings", path, How.CHANGED, "", "")


def _followed(before: Mapping[str, int], after: Mapping[str, int]) -> dict[str, int]:
    """The rows of tables under the names that their databases had before."""
    new: dict[str, list[str]] = defaultdict(list)
    for name in after.keys() - before.keys():
        new[_NUMBERS.sub("#", name)].append(name)
    found = dict(after)
    for name in before.keys() - after.keys():
        alike = new.get(_NUMBERS.sub("#", name), [])
        if len(alike) == 1:
            found[name] = after[alike[0]]
    return found


def _counts(kind: str, before: Mapping[str, int], after: Mapping[str, int]) -> Iterator[Missed]:
    for name, was in before.items():
        now = after.get(name, 0)
        if now < was:
            yield Missed(kind, f"{kind} in {name}", How.MISSING, str(was), str(now))


def _equal(kind: str, before: Mapping[str, str], after: Mapping[str, str], hidden: bool = False) -> Iterator[Missed]:
    for name, was in before.items():
        now = after.get(name, "")
        if was and now != was:
            how = How.CHANGED if now else How.MISSING
            what = name if kind in ("facts", "declared") else f"{kind} {name}"
            yield Missed(name if kind == "facts" else kind, what, how, "" if hidden else was, "" if hidden else now)
