"""Who plays: lists of people, files named by an id, and extension data that belongs to single players."""

from __future__ import annotations

import json
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from emberkeep import globs
from emberkeep.documents.model import Role
from emberkeep.errors import EmberKeepError
from emberkeep.servers.findings import PlayerBound, Sure
from emberkeep.servers.looking import ADDRESS, IDENT, is_identifier, people
from emberkeep.servers.scene import Scene, stem
from emberkeep.trees import Kind, Tree, read

MOST_IN_A_FAMILY = 4
SAMPLE = 50
SHORTEST_ID = 12
LOOKED_THROUGH = 4 << 20
"""Bytes of a file of extension data that are looked through for ids."""
_NAME = re.compile(r"[^\W\d]\w{2,31}")
_IDS = re.compile(rf"(?<![\w-])(?:{IDENT.pattern})(?![\w-])")


def lists_of_people(scene: Scene) -> None:
    """Lists of people become ``access``, their ids known players; those of extensions only tell ids."""
    text_lists = []
    inside = {family.folder for family in scene.families if any(scene.manifest(p) for p in scene.sampled(family)[:2])}
    for family in list(scene.open_families()):
        if len(family.members) > MOST_IN_A_FAMILY:
            continue
        for path in family.members:
            kind = scene.look.kind(path)
            if kind == "text":
                text_lists.append(path)
            found = people(scene.look.json(path)) if kind == "json" else []
            if not found:
                continue
            named = _ids_and_names(found)
            ids = {ident for ident, _ in named if len(ident) >= SHORTEST_ID}
            scene.people.update(ids)
            scene.names.update(name for _, name in named if name)
            if not any(path.startswith(folder + "/") for folder in inside if folder):
                what = "ids" if ids else "addresses"
                scene.cover("access", globs.escape(path), f"a list of {len(found)} with {what}")
    for path in text_lists:
        _text_list(scene, path)


def names_by_id(tree: Tree, paths: Iterable[str]) -> dict[str, str]:
    """What people are called, by id, as the lists of people among ``paths`` tell it."""
    found: dict[str, str] = {}
    for path in paths:
        entry = tree.entries()[path]
        if entry.kind is not Kind.FILE or entry.size > LOOKED_THROUGH:
            continue
        try:
            listed = people(json.loads(read(tree, path)))
        except (ValueError, RecursionError, EmberKeepError):
            continue
        found.update((ident, name) for ident, name in _ids_and_names(listed) if ident and name)
    return found


def _ids_and_names(listed: Sequence[dict[str, str]]) -> list[tuple[str, str]]:
    """Each person's id and name, "" where there is none, by the keys under which the first ones have theirs."""
    some = listed[:SAMPLE]
    ident = next((key for person in some for key, value in person.items() if is_identifier(value)), "")
    name = next(
        (key for person in some for key, value in person.items() if key != ident and _NAME.fullmatch(value)), ""
    )
    return [(person.get(ident, ""), person.get(name, "")) for person in listed]


def _text_list(scene: Scene, path: str) -> None:
    """Lines that are ids or addresses, or names known from other lists; comments aside."""
    lines = [line.split("#", 1)[0].strip() for line in scene.look.text(path).splitlines()]
    entries = [line for line in lines if line]
    if not entries or len(entries) > 100_000:
        return
    first = [re.split(r"[\s,;:|]+", entry, maxsplit=1)[0] for entry in entries]
    ids = [word for word in first if is_identifier(word)]
    addresses = [word for word in first if ADDRESS.fullmatch(word)]
    known = [word for word in first if word in scene.names]
    if len(ids) + len(addresses) + len(known) < 0.9 * len(entries):
        return
    scene.people.update(ids)
    what = "ids" if ids else "addresses" if addresses else "names known from other lists"
    sure = Sure.SURE if ids or known else Sure.LIKELY
    scene.cover("access", globs.escape(path), f"a list of {len(entries)} with {what}", sure)


def player_files(scene: Scene, extension_folders: dict[str, str]) -> None:
    """Families of files named by an id are ``players``, unless they are an extension's."""
    for family in list(scene.open_families()):
        if any(family.folder == folder or family.folder.startswith(folder + "/") for folder in extension_folders):
            continue
        if family.shape.count("{id}") != 1:
            continue
        stems = [stem(path) for path in family.members]
        known = sum(name in scene.people for name in stems)
        scene.people.update(name for name in stems if is_identifier(name))
        evidence = f"{len(stems)} files named by an id, {known} of them known from the lists of people"
        scene.cover("players", family.open_glob, evidence, Sure.SURE if known else Sure.LIKELY)
    _named_by_people(scene)


def _named_by_people(scene: Scene) -> None:
    """Files of one folder that are named by players' names known from the lists."""
    by_folder: dict[tuple[str, str], list[str]] = defaultdict(list)
    for family in scene.open_families():
        for path in family.members:
            folder, _, name = path.rpartition("/")
            by_folder[folder, name[name.rfind(".") :] if "." in name else ""].append(path)
    for (folder, suffix), paths in by_folder.items():
        known = [path for path in paths if stem(path) in scene.names]
        if suffix and len(known) >= 3 and len(known) >= 0.8 * len(paths):
            glob = f"{globs.escape(folder)}/*{globs.escape(suffix)}" if folder else f"*{globs.escape(suffix)}"
            evidence = f"{len(paths)} files, {len(known)} of them named as people in the lists are"
            scene.cover("players", glob, evidence, Sure.LIKELY)


def player_bound(scene: Scene, extension_folders: dict[str, str]) -> Iterator[PlayerBound]:
    """Extension data in which ids of known players occur, in a file or in its name; by family of files."""
    for folder in sorted(extension_folders):
        for family in scene.families:
            if family.folder != folder and not family.folder.startswith(folder + "/"):
                continue
            in_names = {stem(path) for path in family.members} & scene.people
            inside = {found for path in scene.sampled(family) for found in _ids_in(scene, path)}
            ids = tuple(sorted(in_names | inside))
            if not ids:
                continue
            several = len(family.members) > 1 or "{id}" in family.shape
            glob = family.open_glob if several else globs.escape(family.members[0])
            where = "in the files' names" if in_names else "in it"
            some = ", ".join(f"{ident[:8]}…" for ident in ids[:2]) + (
                f" and {len(ids) - 2} more" if len(ids) > 2 else ""
            )
            evidence = f"{len(ids)} known player{'s' if len(ids) > 1 else ''} {where}: {some}"
            sure = Sure.SURE if len(ids) > 1 else Sure.LIKELY
            parts = () if in_names or several else tuple(_parts(scene, family.members[0]))
            yield PlayerBound(glob, len(family.members), ids, evidence, sure, parts)


def _parts(scene: Scene, path: str) -> Iterator[str]:
    """Where players' records stand in a file that holds others beside them; nothing where all of it is theirs."""
    document = scene.document(path)
    if document is None:
        return
    records = [item for item in document.root.items if item.role is Role.RECORD]
    theirs = [item for item in records if _known_ids(scene, document.raw(item))]
    others = [item for item in records if item not in theirs and any(inner.role is Role.RECORD for inner in item.items)]
    if others and not any(item.name in scene.people for item in theirs):
        yield from (f"{item.name}/*" for item in theirs)


def _known_ids(scene: Scene, text: str) -> set[str]:
    return {found[0] for found in _IDS.finditer(text)} & scene.people


def _ids_in(scene: Scene, path: str) -> set[str]:
    if scene.look.kind(path) == "sqlite":
        texts = {text for values in scene.look.tables(path).values() for text in values}
        return texts & scene.people
    text = scene.look.beginning(path, LOOKED_THROUGH).decode("utf-8", "replace")
    return _known_ids(scene, text)
