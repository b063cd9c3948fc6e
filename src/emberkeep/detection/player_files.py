"""What belongs to single players: files, tables, and data of extensions."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence

from emberkeep.databases import sqlite
from emberkeep.detection.context import InferenceContext
from emberkeep.detection.findings import PlayerBound, Sure, TableFinding
from emberkeep.detection.people import MOSTLY_OTHERS, NAME, are_names
from emberkeep.detection.player_lists import is_who_is_who
from emberkeep.detection.players import FEWEST, MOST_LOOKED_INTO, TOKEN, by_key, files_of, glob_of, said_in
from emberkeep.detection.recurring import (
    LOOKED_THROUGH,
    NAMED,
    ValuePlace,
)
from emberkeep.documents.model import Role
from emberkeep.errors import first_of
from emberkeep.fs import globs
from emberkeep.fs.trees import stem
from emberkeep.inventory.probe import IDENT

MOST_OF_THEM = 0.5
"""Share of the players of whom files are that the server keeps of each."""


_IDS = re.compile(rf"(?<![\w-])(?:{IDENT.pattern})(?![\w-])")


def player_files(scene: InferenceContext, places: Mapping[ValuePlace, Sure], extension_folders: Iterable[str]) -> None:
    """Files and folders named by players become ``players``, unless they are an extension's."""
    inside = tuple(f"{folder}/" for folder in extension_folders)
    most = max((len(place.values) for place in places if place.kind in NAMED), default=0)
    for place, sure in places.items():
        if place.kind not in NAMED or f"{place.path}/".startswith(inside):
            continue
        known = len(place.values & scene.people)
        if known < 0.8 * len(place.values):
            continue
        glob = glob_of(place)
        if place.kind == "folders":
            glob += "/**"
        what = "files" if place.kind == "names" else "folders"
        if all(path in scene.dirs for path in scene.matching(glob)):
            continue  # nothing is in them
        evidence = f"{known} {what} named by players' ids"
        if known < MOST_OF_THEM * most:  # what some have, as bans, may be the admin's
            sure, evidence = Sure.GUESS, f"{what} named by the ids of {known} of {most} players"
        scene.cover("players", glob, evidence, sure)
        if place.kind == "names":
            _note_names(scene, files_of(scene, place))


def _note_names(scene: InferenceContext, paths: Sequence[str]) -> None:
    """What players are called stands in files of theirs, under the same key in each."""
    values_by_key = by_key(said_in(scene, path) for path in paths[:MOST_LOOKED_INTO])
    for values in values_by_key.values():
        if len(values) >= FEWEST and are_names(values) and len(set(values)) >= MOSTLY_OTHERS * len(values):
            scene.names.update(value for value in values if NAME.fullmatch(value))


def personal_files(scene: InferenceContext, places: Iterable[ValuePlace], every: Sequence[ValuePlace]) -> None:
    """Other files in which players' ids stand as keys or in a field become ``progress``; in which they only stand in
    lists, ``access`` where there is little else, and settings that name some people are left."""
    inside: dict[str, set[str]] = defaultdict(set)
    in_lists: dict[str, bool] = {}
    for place in places:
        if place.kind in ("keys", "field", "list"):
            inside[place.path] |= place.values & scene.people
            listed = place.kind == "list" or place.at.endswith("/*/")
            in_lists[place.path] = in_lists.get(place.path, True) and listed
    for path, ids in sorted(inside.items()):
        if len(ids) < 2 or scene.is_covered(path):
            continue
        if any(is_who_is_who(place, every) for place in places if place.path == path):
            evidence = f"{len(ids)} ids of players, each with a name and no numbers of its own"
            scene.cover("access", globs.escape(path), evidence, Sure.GUESS)
        elif not in_lists[path]:
            scene.cover("progress", globs.escape(path), f"{len(ids)} players' ids stand in it", Sure.LIKELY)
        elif 2 * len(ids) > sum(1 for _ in scene.leaves(path)):
            evidence = f"lists of {len(ids)} players' ids, and little else"
            scene.cover("access", globs.escape(path), evidence, Sure.LIKELY)


def tables(scene: InferenceContext, places: Iterable[ValuePlace]) -> Iterator[TableFinding]:
    """Tables of SQLite files in which players' ids stand, and those whose rows belong to such."""
    personal: dict[str, set[str]] = defaultdict(set)
    for place in places:
        if place.kind == "column":
            personal[place.path].add(place.at.rpartition(".")[0])
    for path, theirs in sorted(personal.items()):
        held = scene.look.columns(path)
        theirs |= scene.look.with_referring(path, theirs)
        rows = {table: max(map(len, columns.values()), default=0) for table, columns in held.items()}
        others = tuple(sorted(table for table in rows.keys() - theirs if rows[table] > sqlite.FEW_ROWS))
        for table in sorted(theirs):
            of_world = tuple(other for other in others if other in scene.look.blobs(path))
            yield TableFinding(path, table, others, f"players' ids stand in {table}", Sure.LIKELY, of_world)


def player_bound(scene: InferenceContext, extension_folders: dict[str, str]) -> Iterator[PlayerBound]:
    """Extension data in which ids of known players occur, in a file or in its name; by family of files."""
    for folder in sorted(extension_folders):
        for family in scene.families:
            if family.folder != folder and not family.folder.startswith(folder + "/"):
                continue
            in_names = {stem(path) for path in family.members} & scene.people
            inside = {found for path in scene.sampled(family) for found in ids_in(scene, path)}
            ids = tuple(sorted(in_names | inside))
            if not ids:
                continue
            several = len(family.members) > 1 or "{id}" in family.shape
            glob = family.open_glob if several else globs.escape(family.members[0])
            where = "in the files' names" if in_names else "in it"
            some = first_of([f"{ident[:8]}…" for ident in ids], 2)
            evidence = f"{len(ids)} known player{'s' if len(ids) > 1 else ''} {where}: {some}"
            sure = Sure.SURE if len(ids) > 1 else Sure.LIKELY
            parts = () if in_names or several else tuple(_parts(scene, family.members[0]))
            yield PlayerBound(glob, len(family.members), ids, evidence, sure, parts)


def _parts(scene: InferenceContext, path: str) -> Iterator[str]:
    """Where players' records stand in a file that holds others beside them; nothing where all of it is theirs."""
    document = scene.document(path)
    if document is None:
        return
    records = [item for item in document.root.items if item.role is Role.RECORD]
    theirs = [item for item in records if _known_ids(scene, document.raw(item))]
    others = [item for item in records if item not in theirs and any(inner.role is Role.RECORD for inner in item.items)]
    if others and not any(item.name in scene.people for item in theirs):
        yield from (f"{item.name}/*" for item in theirs)


def _known_ids(scene: InferenceContext, text: str) -> set[str]:
    found = {match[0] for match in _IDS.finditer(text)} & scene.people
    if len(found) < 2 and scene.odd_people:
        found |= {word for word in TOKEN.findall(text) if word in scene.odd_people}
    return found


def ids_in(scene: InferenceContext, path: str) -> set[str]:
    """Ids of known players in a file."""
    if scene.look.kind(path) == "sqlite":
        columns = scene.look.columns(path).values()
        return {text for table in columns for values in table.values() for text in values} & scene.people
    return _known_ids(scene, scene.look.beginning(path, LOOKED_THROUGH).decode("utf-8", "replace"))
