"""The world among a server's files: tiles, one big save, numbered saves, dimensions, and what points at it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace

from emberkeep import globs
from emberkeep.servers import launch
from emberkeep.servers.findings import Sure, WorldFinding
from emberkeep.servers.looking import Family
from emberkeep.servers.scene import Scene, numbered_glob
from emberkeep.servers.tiles import tile_names, tile_places, whole_sectors

Tiles = list[tuple[Family, str]]
BIG_SAVE = 64 * 1024
"""Bytes from which a lone binary file may be a save."""


def tiles(scene: Scene) -> Tiles:
    """Families of tile files with their names' pattern; set aside until the world's folders are covered."""
    found = []
    for family in scene.open_families():
        places = tile_places(family)
        if places is not None and scene.kind(family) in ("binary", "packed"):
            found.append((family, tile_names(family, places)))
    for family, _ in found:
        scene.set_aside(family.members)
    return found


def world(scene: Scene, found: Tiles) -> WorldFinding:
    """Cover the world's folders and say what they are; the one with most files is the world, the rest dimensions."""
    finding = _tiled(scene, found) if found else _one_save(scene)
    if not finding.evidence:
        return finding
    return _pointer(scene, _told_by_engine(scene, replace(finding, numbered=_numbered(scene, finding.folder))))


def _tiled(scene: Scene, found: Tiles) -> WorldFinding:
    by_folder: dict[str, tuple[Family, str]] = {}
    for family, names in found:
        top = family.folder.split("/", 1)[0] if family.folder else ""
        told = f"{len(family.members)} tiles {names}"
        scene.cover("world", f"{globs.escape(top)}/**" if top else family.glob, told)
        if top not in by_folder or len(family.members) > len(by_folder[top][0].members):
            by_folder[top] = family, names
    main = max(by_folder, key=lambda top: (len(scene.below(top)) if top else 0, top))
    family, names = by_folder[main]
    below = f"{family.folder}/{names}".removeprefix(f"{main}/") if main and family.folder else names
    alike = [top for top, (_, other) in by_folder.items() if top != main and top and other == names]
    return WorldFinding(
        main,
        tiles=below,
        sector=whole_sectors(scene.look.size(path) for path in family.members),
        dimensions=tuple(sorted(alike)),
        evidence=f"{len(family.members)} tiles {names}",
    )


def _one_save(scene: Scene) -> WorldFinding:
    """The largest binary file that nothing else explains, where a setting or script names it or it is large."""
    told = {value for path in scene.of_role("settings", "scripts") for value in _values(scene, path)}
    candidates = []
    for family in scene.open_families():
        for path in scene.sampled(family):
            if scene.look.kind(path) not in ("binary", "packed", "sqlite"):
                continue
            name = path.rsplit("/", 1)[-1]
            named = name in told or name.split(".", 1)[0] in told or path in told
            if named or scene.look.size(path) >= BIG_SAVE:
                candidates.append((named, scene.look.size(path), path))
    if not candidates:
        return WorldFinding()
    named, _, path = max(candidates)
    beside = [p for p in _same_stem(scene, path) if not scene.is_covered(p)]
    why = "a setting names it" if named else "the largest file that is neither program nor text"
    sure = Sure.SURE if named else Sure.GUESS
    for one in beside:
        told_of = f"one save file; {why}" if one == path else f"stands beside the save {path.rsplit('/', 1)[-1]}"
        scene.cover("world", numbered_glob(one), told_of, sure)
    return WorldFinding(path, evidence=f"one save file of {scene.look.size(path)} bytes; {why}", sure=sure)


def _same_stem(scene: Scene, path: str) -> list[str]:
    """The save and its older copies: files of its folder that share its name up to the first dot."""
    folder, _, name = path.rpartition("/")
    start = f"{folder}/" if folder else ""
    own = name.split(".", 1)[0] + "."
    return [p for p in scene.paths if p.startswith(start + own) and "/" not in p.removeprefix(start)]


def _values(scene: Scene, path: str) -> list[str]:
    if scene.look.kind(path) == "script":
        return [setting.value for setting in launch.settings(scene.look.text(path))]
    return [value for _, value in scene.pairs(path)]


def _numbered(scene: Scene, folder: str) -> str:
    """A save whose name carries numbers: those that scripts and settings also give are size and seed, the rest
    its format. "" when there is none."""
    told = {
        value for path in scene.of_role("scripts", "settings") for value in re.findall(r"\d+", scene.look.text(path))
    }
    for path in scene.below(folder):
        name = path.rsplit("/", 1)[-1]
        numbers = save_numbers(name)
        own = [value for value in numbers if value not in told]
        if len(numbers) >= 2 and len(own) == 1 and scene.look.kind(path) in ("binary", "packed"):
            parts = [
                ("{number}" if part == own[0] else "*") if part.isdigit() else part for part in re.split(r"(\d+)", name)
            ]
            below = path.removeprefix(f"{folder}/").rpartition("/")[0]
            shape = "".join(parts)
            return f"{below}/{shape}" if below else shape
    return _shared_number(scene, folder, told)


def _shared_number(scene: Scene, folder: str, told: set[str]) -> str:
    """Saves that share one number, which no setting gives, in the same place of their names: before the ending."""
    sets: dict[tuple[str, str, str, str], int] = Counter()
    for path in scene.below(folder):
        parent, _, name = path.rpartition("/")
        found = re.fullmatch(r"([A-Za-z][\w-]*?)([._-])(\d+)(\.\w+)", name)
        if found and found[3] not in told and scene.look.kind(path) in ("binary", "packed"):
            sets[parent, found[2], found[3], found[4]] += 1
    shared = {key: count for key, count in sets.items() if count >= 2}
    if len(shared) != 1:
        return ""  # none, or rather copies by generation
    parent, mark, _, ending = next(iter(shared))
    below = parent.removeprefix(folder).lstrip("/")
    shape = f"*{mark}{{number}}{ending}"
    return f"{below}/{shape}" if below else shape


def save_numbers(name: str) -> list[str]:
    """The numbers between dots, dashes or underscores of a file's name."""
    return re.findall(r"(?<=[.\-_])\d+(?=[.\-_])", name)


def _told_by_engine(scene: Scene, found: WorldFinding) -> WorldFinding:
    """Where a small text of the engine's own names the number that the saves carry."""
    if not found.numbered:
        return found
    shape = found.numbered.rsplit("/", 1)[-1]
    names = re.compile(re.escape(shape).replace(r"\*", "[^/]*").replace(r"\{number\}", r"(\d+)"))
    numbers = {told[1] for path in scene.below(found.folder) if (told := names.fullmatch(path.rsplit("/", 1)[-1]))}
    for path in scene.of_role("engine"):
        if scene.look.kind(path) != "text" or scene.look.size(path) > SMALL_TEXT:
            continue
        for line in scene.look.text(path).splitlines():
            told = re.fullmatch(r"(\D*[A-Za-z]\D*)(\d+)\s*", line)
            if told and told[2] in numbers:
                return replace(
                    found, number_in=path, number_pattern=f"{re.escape(told[1]).replace(chr(92) + ' ', ' ')}(\\d+)"
                )
    return found


SMALL_TEXT = 4000
"""Bytes of a file that tells versions, at most."""


def all_save_numbers(scene: Scene, found: WorldFinding) -> Iterable[str]:
    """Numbers in the names of the world's numbered saves."""
    if not found.numbered:
        return []
    names = f"{globs.escape(found.folder)}/{found.numbered.replace('{number}', '*')}"
    return [value for path in scene.matching(names) for value in save_numbers(path.rsplit("/", 1)[-1])]


def _pointer(scene: Scene, found: WorldFinding) -> WorldFinding:
    """The settings key or launch argument whose value is the world folder's (or save's) name or path."""
    names = {found.folder, found.folder.rsplit("/", 1)[-1], found.folder.rsplit("/", 1)[-1].split(".", 1)[0]} - {""}
    for path in scene.of_role("settings"):
        for key, value in scene.pairs(path):
            if value.strip().strip("/").removeprefix("./") in names:
                told = f"its value is the name of {'a folder' if found.tiles else 'the save'} here"
                return replace(found, pointer_file=path, pointer_key=key, pointer_evidence=told)
    for path in scene.of_role("scripts"):
        for setting in launch.settings(scene.look.text(path)):
            if setting.value.strip("/").removeprefix("./") in names:
                told = "the script's value is its name or path"
                return replace(found, pointer_file=path, pointer_key=setting.key, pointer_evidence=told)
    return found
