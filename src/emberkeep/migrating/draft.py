"""Proposing a recipe: by what two releases ship, and by what two sample saves hold. A draft, to be read over."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from emberkeep.documents import edit, registry
from emberkeep.documents.model import TOP, VALUE, Document, Role
from emberkeep.errors import EmberKeepError
from emberkeep.fs.archives import open_source
from emberkeep.fs.trees import FILE, Tree, read
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import Config
from emberkeep.keep.toml_reader import quote
from emberkeep.migrating.apply import numbered_pattern

MOST_SAMPLED = 40
_STEM = re.compile(r"[0-9a-fA-F-]{8,}|\d+")


def draft(old: str, new: str, before: Tree, after: Tree, saves: Sequence[Path], config: Config) -> str:
    """The text of a recipe from release ``old`` to ``new``. ``saves``: sample saves of both, where there are such."""
    parts = [
        "# Drafted by comparing what was at hand; read every step over before it is used.",
        "format = 1",
        f"from = {quote(old)}",
        f"to = {quote(new)}",
        f"why = {quote(f'what changed from {old} to {new}')}",
    ]
    parts += _number_step(before, after, config)
    parts += _settings_steps(before, after, config)
    if len(saves) == 2:
        parts += _saves_steps(open_source(saves[0]), open_source(saves[1]), config)
    return "\n".join(parts) + "\n"


def _number_step(before: Tree, after: Tree, config: Config) -> Iterator[str]:
    """The number of the saves, where the releases tell it."""
    one, other = (_number(tree, config) for tree in (before, after))
    if one is None or other is None or one == other:
        return
    yield "\n[[step]]"
    yield f"why = {quote(f'saves of number {one} are not read by the new engine')}"
    yield f'renumber = {{ in = "", from = {one}, to = {other} }}'
    yield 'holds = ["seed", "size", "pointer"]'


def _number(tree: Tree, config: Config) -> int | None:
    world = config.world
    if not world.number_pattern or world.number_in not in tree.entries():
        return None
    found = re.search(world.number_pattern, read(tree, world.number_in).decode("utf-8", "replace"))
    return int(found[1]) if found else None


def _settings_steps(before: Tree, after: Tree, config: Config) -> Iterator[str]:
    """Keys that the new release's settings have and the old one's lack; renamed where a gone one had the value."""
    roles = Roles(config.roles)
    for path in after.entries():
        if roles.of(path) != "settings" or path not in before.entries():
            continue
        old, new = (_keys(path, tree) for tree in (before, after))
        gone = {key: value for key, value in old.items() if key not in new}
        for key, value in new.items():
            if key in old:
                continue
            was = [name for name, earlier in gone.items() if earlier == value and len(value) > 1]
            yield "\n[[step]]"
            if len(was) == 1:
                yield f"rename-key = {{ file = {quote(path)}, key = {quote(was[0])}, to = {quote(key)} }}"
                continue
            yield f"set = {{ file = {quote(path)}, key = {quote(key)}, value = {quote(value)}, unless-present = true }}"


def _keys(path: str, tree: Tree) -> dict[str, str]:
    """The keys of a settings file with their values, ``section.key`` for those inside a section."""
    try:
        document = registry.parse(path, read(tree, path))
    except EmberKeepError:
        return {}
    return dict(_pairs(document)) if document is not None else {}


def _pairs(document: Document) -> Iterator[tuple[str, str]]:
    for node in document.root.items:
        if node.role is not Role.RECORD:
            continue
        if VALUE in node.fields:
            yield node.name, edit.unquoted(str(node.own))
        prefix = "" if node.name == TOP else node.name.strip("[]") + "."
        for item in node.items:
            if item.role is Role.RECORD and VALUE in item.fields:
                yield prefix + item.name, edit.unquoted(str(item.own))


# --- sample saves ------------------------------------------------------------------------


def _saves_steps(before: Tree, after: Tree, config: Config) -> Iterator[str]:
    """The shape of the records in files that are named alike in both saves."""
    numbers = [_saved_number(tree, config) for tree in (before, after)]
    if None not in numbers and numbers[0] != numbers[1] and not config.world.number_pattern:
        yield "\n[[step]]"
        yield f'renumber = {{ in = "", from = {numbers[0]}, to = {numbers[1]} }}'
    olds, news = (_by_shape(tree) for tree in (before, after))
    for shape, paths in sorted(olds.items()):
        if shape in news:
            yield from _records_step(shape, _fields(before, paths), _fields(after, news[shape]))


def _saved_number(tree: Tree, config: Config) -> int | None:
    if not config.world.numbered:
        return None
    pattern = numbered_pattern(config.world.numbered)
    found = [int(match["number"]) for path in tree.entries() if (match := pattern.search(path))]
    return max(found, default=None)


def _by_shape(tree: Tree) -> dict[str, list[str]]:
    """JSON files by the pattern of their names."""
    found: dict[str, list[str]] = {}
    for path, entry in tree.entries().items():
        if entry.kind is FILE and path.endswith(".json"):
            parent, mark, name = path.rpartition("/")
            found.setdefault(parent + mark + _STEM.sub("*", name), []).append(path)
    return found


def _fields(tree: Tree, paths: Sequence[str]) -> dict[str, list[Any]]:
    """The fields of the objects in some files, with the values they have."""
    found: dict[str, list[Any]] = {}
    for path in paths[:MOST_SAMPLED]:
        try:
            player = json.loads(read(tree, path))
        except (ValueError, RecursionError, EmberKeepError):
            continue
        for name, value in player.items() if isinstance(player, dict) else ():
            found.setdefault(name, []).append(value)
    return found


def _records_step(shape: str, old: Mapping[str, list[Any]], new: Mapping[str, list[Any]]) -> Iterator[str]:
    gone = [name for name in old if name not in new]
    come = [name for name in new if name not in old]
    renames = dict(_renamed(old, new, gone, come))
    drops = [name for name in gone if name not in renames]
    defaults = {name: _commonest(new[name]) for name in come if name not in renames.values()}
    plain = {name: value for name, value in defaults.items() if isinstance(value, str | int | float)}
    if not (renames or drops or plain):
        return
    keys = [f"files = {quote(shape)}"]
    if renames:
        keys.append("rename = { " + ", ".join(f"{quote(a)} = {quote(b)}" for a, b in renames.items()) + " }")
    if plain:
        keys.append("default = { " + ", ".join(f"{quote(name)} = {json.dumps(v)}" for name, v in plain.items()) + " }")
    if drops:
        keys.append("drop = [" + ", ".join(map(quote, drops)) + "]")
    yield "\n[[step]]"
    yield "records = { " + ", ".join(keys) + " }"


def _renamed(
    old: Mapping[str, list[Any]], new: Mapping[str, list[Any]], gone: Sequence[str], come: Sequence[str]
) -> Iterator[tuple[str, str]]:
    """Fields that went and came with values of the same kind, the only ones of theirs."""
    for name in gone:
        alike = [other for other in come if _kind(new[other]) == _kind(old[name])]
        rivals = [other for other in gone if _kind(old[other]) == _kind(old[name])]
        if len(alike) == 1 and len(rivals) == 1:
            yield name, alike[0]


def _kind(values: Sequence[Any]) -> str:
    return Counter(type(value).__name__ for value in values).most_common(1)[0][0]


def _commonest(values: Sequence[Any]) -> Any:
    return json.loads(Counter(json.dumps(value) for value in values).most_common(1)[0][0])
