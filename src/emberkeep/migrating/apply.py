"""What the steps of a recipe make of a planned folder. Each returns what it did, in words; Refused where unsafe."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from emberkeep.databases import sqlite
from emberkeep.databases.sqlite import statements as sqlite_statements
from emberkeep.documents import edit, reshape
from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs import globs
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FILE, FOLDER, Tree, read
from emberkeep.inventory.tiles import TileNames
from emberkeep.keep.config import Config
from emberkeep.migrating.recipe import (
    Move,
    Program,
    Recipe,
    RecipeStep,
    Records,
    Remove,
    RemoveKey,
    RenameKey,
    Renumber,
    ScaleKey,
    SetKey,
    Sql,
    When,
)


def applies(step: RecipeStep, recipe: Recipe, tree: Tree) -> bool:
    """Whether the condition of a step is met."""
    if not step.when:
        return True
    return is_so(recipe.conditions[step.when], tree)


def is_so(when: When, tree: Tree) -> bool:
    """Whether a condition is met."""
    if when.file not in tree.entries():
        return False
    return not when.key or edit.value(when.file, read(tree, when.file), when.key) == when.value


def apply(step: RecipeStep, recipe: Recipe, folder: Overlay, config: Config) -> list[str]:
    """Do one step that only changes files. ``Program`` and ``EngineConverts`` do nothing here."""
    act = step.act
    place = Place(str(recipe.path), step.line)
    if isinstance(act, Renumber):
        return renumber(act, folder, config, place)
    if isinstance(act, Move):
        return _move(act, folder, place)
    if isinstance(act, Remove):
        return _remove(act, folder)
    if isinstance(act, SetKey | RenameKey | RemoveKey | ScaleKey):
        return _key(act, folder, place)
    if isinstance(act, Records):
        return _records(act, folder, place)
    if isinstance(act, Sql):
        return _sql(act, recipe, folder, place)
    return []


# --- files ------------------------------------------------------------------------


def renumber(act: Renumber, folder: Overlay, config: Config, place: Place) -> list[str]:
    """Give all files that carry one number in their names another. Refused where none does, where a newer set stands
    there already, or where a new name is taken."""
    numbers: dict[int, list[str]] = {}
    for path, number in numbered(act, folder, config):
        numbers.setdefault(number, []).append(path)
    if any(number > act.old for number in numbers):
        newer = ", ".join(path for number, paths in sorted(numbers.items()) if number > act.old for path in paths[:3])
        raise Refused(
            f"files of a newer number than {act.old} stand there already: {newer}",
            place=place,
            hint="were these saves migrated before? move them aside if they are not wanted",
        )
    if act.old not in numbers:
        there = ", ".join(map(str, sorted(numbers))) or "none"
        raise Refused(
            f"no file in {act.folder or 'the folder'} carries the number {act.old} (there: {there})",
            place=place,
            hint="see from in this step of the recipe",
        )
    renames = {path: _renumbered(path, act, config) for path in numbers[act.old]}
    taken = sorted(new for new in renames.values() if new in folder.entries())
    if taken:
        raise Refused(
            f"{taken[0]} is there already ({len(taken)} such)",
            place=place,
            hint="move it aside, or take this step out of the recipe",
        )
    for old, new in renames.items():
        folder.rename(old, new)
    left = [path for number, paths in numbers.items() if number != act.old for path in paths]
    notes = [f"{len(renames)} {'file takes' if len(renames) == 1 else 'files take'} number {act.new}, not {act.old}"]
    return [*notes, *([f"left with older numbers: {', '.join(left[:4])}"] if left else [])]


def numbered(act: Renumber, tree: Tree, config: Config) -> Iterator[tuple[str, int]]:
    """The files that carry a save number, with it."""
    names = act.names or config.world.numbered
    tiles = TileNames(config.world.tiles) if config.world.tiles else None
    below = f"{act.folder}/" if act.folder else ""
    pattern = numbered_pattern(names) if names else None
    for path, entry in tree.entries().items():
        if entry.kind is not FILE or not path.startswith(below):
            continue
        name = path.removeprefix(below)
        if pattern is not None:
            found = pattern.fullmatch(name) or pattern.fullmatch(name.rpartition("/")[2])
            if found:
                yield path, int(found["number"])
        elif tiles is None or tiles.place(path) is None:
            own = re.findall(rf"(?<=[.\-_]){act.old}(?=[.\-_])", name.rpartition("/")[2])
            if len(own) == 1:
                yield path, act.old


def numbered_pattern(names: str, *, stars: bool = False) -> re.Pattern[str]:
    """Names with ``{number}`` and ``*`` as a pattern; ``stars``: with a group for each star too."""
    parts = re.split(r"(\{number\}|\*)", names)
    found = []
    for at, part in enumerate(parts):
        if part == "{number}":
            found.append(r"(?P<number>\d+)")
        elif part == "*":
            found.append(rf"(?P<star{at}>[^/]*)" if stars else r"[^/]*")
        else:
            found.append(re.escape(part))
    return re.compile("".join(found))


def _renumbered(path: str, act: Renumber, config: Config) -> str:
    names = act.names or config.world.numbered
    if names:
        found = numbered_pattern(names).search(path)
        assert found is not None
        return path[: found.start("number")] + str(act.new) + path[found.end("number") :]
    parent, mark, name = path.rpartition("/")
    return parent + mark + re.sub(rf"(?<=[.\-_]){act.old}(?=[.\-_])", str(act.new), name)


def _move(act: Move, folder: Overlay, place: Place) -> list[str]:
    entries = folder.entries()
    if act.source not in entries:
        raise Refused(
            f"there is no {act.source} to be {'copied' if act.copy else 'moved'}",
            place=place,
            hint="see the paths in this step of the recipe",
        )
    if act.target in entries:
        raise Refused(
            f"{act.target} is there already", place=place, hint="move it aside, or take this step out of the recipe"
        )
    paths = [path for path in entries if path == act.source or path.startswith(f"{act.source}/")]
    for path in sorted(paths):
        target = act.target + path.removeprefix(act.source)
        if entries[path].kind is FILE and not act.copy:
            folder.rename(path, target)
        else:
            folder.take(target, folder.base if path in folder.base.entries() else folder, path)
    if not act.copy:
        for path in sorted(paths, reverse=True):
            if path in folder.entries():
                folder.remove(path)
    return []


def _remove(act: Remove, folder: Overlay) -> list[str]:
    pattern = globs.combined(act.files)
    gone = [path for path in folder.entries() if pattern.fullmatch(path)]
    for path in sorted(gone, reverse=True):
        inside = folder.entries()[path].kind is FOLDER and any(
            other.startswith(f"{path}/") for other in folder.entries()
        )
        if not inside:
            folder.remove(path)
    return [] if gone else [f"nothing fits {', '.join(act.files)}"]


# --- values and records -------------------------------------------------------------


def _key(act: SetKey | RenameKey | RemoveKey | ScaleKey, folder: Overlay, place: Place) -> list[str]:
    if act.file not in folder.entries():
        raise Refused(f"there is no file {act.file}", place=place, hint="see the path in this step of the recipe")
    data = read(folder, act.file)
    if isinstance(act, SetKey):
        before = edit.value(act.file, data, act.key)
        changed = edit.set_value(act.file, data, act.key, act.value, unless_present=act.unless_present)
        note = f"{act.file}: {act.key} = {act.value}" + (f" (was {before})" if before is not None else " (new)")
    elif isinstance(act, RenameKey):
        changed = edit.rename_key(act.file, data, act.key, act.new)
        note = f"{act.file}: {act.key} is called {act.new}"
    elif isinstance(act, RemoveKey):
        changed = edit.remove_key(act.file, data, act.key)
        note = f"{act.file}: {act.key} goes"
    else:
        changed = edit.scale_value(act.file, data, act.key, act.factor)
        note = f"{act.file}: {act.key} x {act.factor} = {edit.value(act.file, changed, act.key)}"
    if changed == data:
        return [f"{act.file}: {act.key} stays as it is"]
    folder.write(act.file, changed)
    return [note]


def _records(act: Records, folder: Overlay, place: Place) -> list[str]:
    pattern = globs.combined((act.files,))
    paths = [path for path, entry in folder.entries().items() if entry.kind is FILE and pattern.fullmatch(path)]
    changed = count = 0
    for path in paths:
        data = read(folder, path)
        try:
            after, records = reshape.reshaped(path, data, act.at, act.shape)
        except UnreadableInput as error:
            raise UnreadableInput(error.faults[0].what, place=error.faults[0].place or Place(path)) from error
        if after != data:
            folder.write(path, after)
            changed, count = changed + 1, count + records
    if not paths:
        raise Refused(f"no file fits {act.files}", place=place, hint="see the glob in this step of the recipe")
    return [f"{count} records in {changed} of {len(paths)} files take a new shape"]


# --- SQL ----------------------------------------------------------------------------


def _sql(act: Sql, recipe: Recipe, folder: Overlay, place: Place) -> list[str]:
    """Run SQL files on a copy of each database, all of them or none; the copy takes its place."""
    databases = [path for path in folder.entries() if globs.matches(path, [act.database])]
    scripts = sorted(recipe.path.parent.glob(act.files))
    if not databases:
        raise Refused(
            f"no database fits {act.database}",
            place=place,
            hint="see the glob in this step; [[database]] in keep.toml names those of a server",
        )
    if not scripts:
        raise Refused(
            f"no SQL file fits {act.files} beside the recipe",
            place=place,
            hint="put the SQL files beside the recipe, or see files in this step",
        )
    notes = []
    for path in databases:

        def run(database: sqlite3.Connection, path: str = path) -> None:
            _run_scripts(database, scripts, path)

        folder.write(path, sqlite.rewritten(folder, path, run)[0])
        notes.append(f"{path}: {', '.join(script.name for script in scripts)}")
    return notes


def _run_scripts(database: sqlite3.Connection, scripts: list[Path], name: str) -> None:
    for script in scripts:
        for line, statement in sqlite_statements(script.read_text(encoding="utf-8")):
            try:
                database.execute(statement)
            except (sqlite3.Error, sqlite3.Warning) as error:
                raise UnreadableInput(
                    f"{error} (on {name})", place=Place(str(script), line), hint="nothing of it was kept"
                ) from error


def is_opaque(step: RecipeStep) -> bool:
    """Whether what a step does can only be known once it was done."""
    return isinstance(step.act, Program)
