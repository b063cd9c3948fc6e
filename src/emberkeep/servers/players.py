"""Who plays here: identifiers learned from where the same values recur, in names of files, lists, keys and columns.

A place is where alike values stand: the part of files' names that varies, the entries of a list, one field of its
records, the keys of an object, a column of a table. Places that share values are of one kind of thing; which kind is
the players is weighed (``evidence``), whatever their ids look like.
"""

from __future__ import annotations

import json
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Any

from emberkeep import globs
from emberkeep.documents import formats
from emberkeep.documents.model import Node, Role, facts
from emberkeep.errors import EmberKeepError
from emberkeep.servers.evidence import Evidence, Hypothesis
from emberkeep.servers.findings import PlayerBound, Sure, TableFinding
from emberkeep.servers.looking import (
    ADDRESS,
    GLANCE,
    IDENT,
    beginning_of_text,
    content_kind,
    is_identifier,
    people,
)
from emberkeep.servers.scene import Scene, stem
from emberkeep.trees import Kind, Tree, read

SAMPLE = 50
MOST_FILES = 6
"""Members of a family of which the insides are looked at; of a larger one nothing recurs that is a player's."""
LARGE_FAMILY = 24
DEEPEST = 4
"""Levels of records that are looked through for values that recur."""
NAMED = ("names", "folders")
MOST_VALUES = 5000
LOOKED_THROUGH = 4 << 20
"""Bytes of a file that are looked through for ids."""
FEW_ROWS = 2
"""Rows of a table of the engine's own in a database of players: its format, when it was made."""
FEWEST = 3
"""Values that two places must share to be of one kind, but where they look like ids: then one will do."""
_NAME = re.compile(r"[^\W\d]\w{2,31}")
_TOKEN = re.compile(r"[\w.-]{3,64}")
_IDS = re.compile(rf"(?<![\w-])(?:{IDENT.pattern})(?![\w-])")
_LISTED = re.compile(r"""^\s*([\w.-]+)\s*[:=]\s*["']?([\w. -]+(?:[,;] ?[\w. -]+){2,})["']?\s*$""", re.MULTILINE)
_LONG_ID = re.compile(rf"{IDENT.pattern}|[0-9a-f]{{32,64}}")
_MARK = re.compile(r"[^A-Za-z0-9]")
_BEHIND = re.compile(r"(?<=//)\s*[^\W\d]\w{2,31}\s*$|(?<=#)\s*[^\W\d]\w{2,31}\s*$")
_MARKED = re.compile(r"[A-Za-z]\w*[:=]")
"""What may stand before each id of a list."""
_COMMENT = re.compile(r"(?:^|\s)(?:#|//|;).*$")


@dataclass(frozen=True)
class ValuePlace:
    """Where alike values stand. ``kind``: names, folders, list, field, keys, setting, column; ``at``: which of those;
    ``alone``: the file holds little else."""

    kind: str
    path: str
    at: str
    values: frozenset[str]
    alone: bool = False


# --- where values stand -----------------------------------------------------------


def value_places(scene: Scene) -> list[ValuePlace]:
    """All of them; of large families of files only the names."""
    found = [*_named_files(scene), *_named_folders(scene)]
    for family in scene.families:
        if len(family.members) > MOST_FILES:
            continue
        for path in family.members:
            if scene.look.size(path) <= LOOKED_THROUGH:
                found += _inside(scene, path)
    return found


def varying(names: Sequence[str]) -> tuple[str, str]:
    """What the names of siblings begin and end with, up to a mark that parts words."""
    first, last = _common(names), _common([name[::-1] for name in names])[::-1]
    least = min(map(len, names))
    at = max((found.end() for found in _MARK.finditer(first)), default=0)
    end = next((found.start() for found in _MARK.finditer(last)), len(last))
    before, behind = first[:at], last[end:]
    return (before, behind) if len(before) + len(behind) < least else ("", behind)


def _common(names: Sequence[str]) -> str:
    low, high = min(names), max(names)
    return low[: next((at for at, (one, other) in enumerate(zip(low, high, strict=False)) if one != other), len(low))]


def _named_files(scene: Scene) -> Iterator[ValuePlace]:
    by_end: dict[tuple[str, str], list[str]] = defaultdict(list)
    for path in scene.paths:
        if scene.tree.entries()[path].kind is Kind.FILE:
            folder, _, name = path.rpartition("/")
            by_end[folder, name[name.rfind(".") :] if "." in name else ""].append(name)
    for (folder, _), names in by_end.items():
        yield from _varying_place("names", folder, names)


def _named_folders(scene: Scene) -> Iterator[ValuePlace]:
    inside: dict[str, list[str]] = defaultdict(list)
    for path in scene.folders:
        folder, _, name = path.rpartition("/")
        inside[folder].append(name)
    for folder, names in inside.items():
        yield from _varying_place("folders", folder, names)


def _varying_place(kind: str, folder: str, names: Sequence[str]) -> Iterator[ValuePlace]:
    if len(names) < 2:
        return
    before, behind = varying(names)
    values = frozenset(name[len(before) : len(name) - len(behind)] for name in names)
    yield ValuePlace(kind, folder, f"{globs.escape(before)}*{globs.escape(behind)}", values, alone=True)


def _inside(scene: Scene, path: str) -> Iterator[ValuePlace]:
    kind = scene.look.kind(path)
    if kind == "json":
        value = scene.look.json(path)
        inner = next(iter(value.values())) if isinstance(value, dict) and len(value) == 1 else value
        yield from _in_json(path, value, "", 0, alone=_is_flat_list(inner))
    elif kind == "sqlite":
        for table, columns in scene.look.columns(path).items():
            for column, values in columns.items():
                if len(values) >= 2:
                    yield ValuePlace("column", path, f"{table}.{column}", frozenset(values))
    elif kind in ("xml", "yaml", "toml", "ini"):
        document = scene.document(path)
        if document is not None:
            yield from _in_records(path, document.root)
    if kind in ("text", "ini", "properties"):
        yield from _in_lines(path, scene.look.text(path))
        yield from _in_settings(path, scene.look.text(path))


def _is_flat_list(value: Any) -> bool:
    """Whether a JSON value is a list of plain values, or of small records of such."""
    if not isinstance(value, list) or not value:
        return False
    some = value[:SAMPLE]
    if all(isinstance(item, (str, int)) for item in some):
        return True
    return all(
        isinstance(item, dict)
        and len(item) <= 12
        and not any(isinstance(inner, (dict, list)) for inner in item.values())
        for item in some
    )


def _in_settings(path: str, text: str) -> Iterator[ValuePlace]:
    """Settings whose value is a list with commas."""
    for found in _LISTED.finditer(text):
        values = [value.strip() for value in re.split(r"[,;]", found[2])]
        if len(values) >= FEWEST and len(set(values)) == len(values):
            yield ValuePlace("setting", path, found[1], frozenset(values))


def _in_records(path: str, root: Node) -> Iterator[ValuePlace]:
    """The same of any format that has records: names of the records in a container, and what those that are called
    alike say, field by field. A file with a single list in it is a list."""
    tops = [item for item in root.items if item.role is Role.RECORD]
    alone = len({item.name for item in tops}) == 1 and len(tops) > 1
    below = tops[0] if len(tops) == 1 else None
    alone = alone or (below is not None and not below.fields and len({item.name for item in below.items}) == 1)
    found: dict[tuple[str, str], set[str]] = defaultdict(set)
    _gather(root, "", found, 0)
    for (kind, at), values in found.items():
        if len(values) >= 2:
            yield ValuePlace(kind, path, at, frozenset(values), alone and kind == "field")


def _gather(node: Node, at: str, found: dict[tuple[str, str], set[str]], depth: int) -> None:
    items = [item for item in node.items if item.role is Role.RECORD][:MOST_VALUES]
    found["keys", at].update(item.name.strip("[]") for item in items)
    for item in items:
        here = f"{at}/{'*' if item.name.startswith('[') else item.name}"
        for name, told in item.fields.items():
            found["field", f"{here}/{name}"].add(told.value.strip("\"'"))
        if depth < DEEPEST:
            _gather(item, here, found, depth + 1)


def _in_json(path: str, value: Any, at: str, depth: int, *, alone: bool) -> Iterator[ValuePlace]:
    if isinstance(value, list):
        some = value[:MOST_VALUES]
        plain = frozenset(str(item) for item in some if isinstance(item, (str, int)))
        if plain:
            yield ValuePlace("list", path, at, plain, alone)
        fields: dict[str, set[str]] = defaultdict(set)
        for item in some:
            for key, inner in item.items() if isinstance(item, dict) else ():
                if isinstance(inner, (str, int)) and not isinstance(inner, bool):
                    fields[key].add(str(inner))
        for key, values in fields.items():
            yield ValuePlace("field", path, f"{at}/{key}", frozenset(values), alone)
    elif isinstance(value, dict) and depth < 4:
        if len(value) >= 2:
            yield ValuePlace("keys", path, at, frozenset(list(value)[:MOST_VALUES]))
        for key, inner in list(value.items())[:SAMPLE]:
            if isinstance(inner, (dict, list)):
                yield from _in_json(path, inner, f"{at}/{key}", depth + 1, alone=alone)


def _in_lines(path: str, text: str) -> Iterator[ValuePlace]:
    """The words of a list in lines, by where they stand in their line; of a single line, all of them."""
    lines = text.splitlines()
    entries = [entry for line in lines if (entry := _COMMENT.sub("", line).strip())]
    if not entries or len(entries) > MOST_VALUES:
        return
    rows = [[word.strip("\"'") for word in re.split(r"[\s,;|]+", entry) if word] for entry in entries]
    rows = [row for row in rows if row]
    if not rows:
        return
    if len(rows) == 1:
        if len(set(rows[0])) == len(rows[0]):
            yield ValuePlace("list", path, "", frozenset(rows[0]), alone=len(rows[0]) > 1 or is_identifier(rows[0][0]))
        return
    width = max(map(len, rows))
    if width > 4 or any("=" in row for row in rows):
        return
    beside = [found[0].strip() for line in lines if (found := _BEHIND.search(line)) and _COMMENT.sub("", line).strip()]
    if len(beside) >= 2 and len(set(beside)) == len(beside):
        yield ValuePlace("list", path, "#", frozenset(beside), alone=True)
    for at in range(width):
        values = [row[at] for row in rows if len(row) > at]
        if len(values) >= 0.9 * len(rows) and len(set(values)) >= 0.9 * len(values):
            yield ValuePlace("list", path, str(at), frozenset(values), alone=True)


# --- which of them are players ------------------------------------------------------


@dataclass(frozen=True)
class Kin:
    """Places that share values, and how likely those are the players' ids."""

    places: tuple[ValuePlace, ...]
    hypothesis: Hypothesis

    @property
    def values(self) -> frozenset[str]:
        """All values, as they are spelled."""
        return frozenset().union(*(place.values for place in self.places))


def kins(scene: Scene, places: Sequence[ValuePlace], logged: frozenset[str]) -> list[Kin]:
    """The places by what they share, each kind weighed. ``logged``: words of the log."""
    group = list(range(len(places)))

    def top(at: int) -> int:
        while group[at] != at:
            group[at] = group[group[at]]
            at = group[at]
        return at

    shared: dict[tuple[int, int], int] = defaultdict(int)
    where: dict[str, list[int]] = defaultdict(list)
    for at, place in enumerate(places):
        for value in place.values:
            if _TOKEN.fullmatch(value):
                where[bare(value)].append(at)
    for at_once in where.values():
        for one, other in combinations(at_once[:40], 2):
            if not (places[one].kind in NAMED and places[other].kind in NAMED):  # siblings hold files called alike
                shared[one, other] += 1
    for (one, other), count in shared.items():
        least = min(len(places[one].values), len(places[other].values))
        if count >= 0.5 * least and count >= min(FEWEST, least) and (count >= FEWEST or _are_ids(places[one].values)):
            group[top(one)] = top(other)
    together: dict[int, list[ValuePlace]] = defaultdict(list)
    for at, place in enumerate(places):
        together[top(at)].append(place)
    named = {
        place.path for place in places if place.alone and place.kind in ("field", "list") and _are_names(place.values)
    }
    priced: dict[str, list[ValuePlace]] = defaultdict(list)
    for place in places:
        if place.alone and place.kind == "field" and _are_numbers(place.values):
            priced[place.path].append(place)
    return [Kin(tuple(held), _weighed(held, logged, named, priced)) for held in together.values()]


def bare(value: str) -> str:
    """A value by which places are compared: a UUID without dashes."""
    return value.replace("-", "").lower() if len(value) == 36 and is_identifier(value) else value


def _are_ids(values: Iterable[str]) -> bool:
    some = list(values)[:SAMPLE]
    return sum(_LONG_ID.fullmatch(value) is not None for value in some) >= 0.9 * len(some)


def _level(place: ValuePlace) -> tuple[str, str]:
    """A file, and where in it the records of a field stand."""
    return place.path, place.at.rpartition("/")[0]


def _are_numbers(values: Iterable[str]) -> bool:
    """Whether values are quantities: numbers, too short for ids."""
    some = list(values)[:SAMPLE]
    return sum(re.fullmatch(r"-?\d{1,7}(?:\.\d+)?", value) is not None for value in some) >= 0.9 * len(some)


def _are_names(values: Iterable[str]) -> bool:
    """Whether values look like what people are called: words with a capital, each another."""
    some = list(values)[:SAMPLE]
    return sum(_NAME.fullmatch(value) is not None and value[:1].isupper() for value in some) >= 0.9 * len(some)


def _weighed(
    places: Sequence[ValuePlace], logged: frozenset[str], named: set[str], priced: Mapping[str, Sequence[ValuePlace]]
) -> Hypothesis:
    values = frozenset().union(*(place.values for place in places))
    kinds = {place.kind for place in places}
    told = []
    if _are_ids(values):
        told.append(Evidence("shaped like ids"))
    elif all(value.isdigit() and len(value) < 4 for value in values):
        told.append(Evidence("small numbers"))
    if kinds & {*NAMED} and (len(places) > 1 or len(values & logged) >= FEWEST):
        told.append(Evidence("files are named by them"))
    if any(place.alone and place.kind in ("list", "field") for place in places):
        told.append(Evidence("a list holds them and little else"))
    if not _are_names(values) and any(place.alone and place.path in named for place in places):
        told.append(Evidence("names stand beside them"))
    listed = {_level(place) for place in places if place.alone and place.kind == "field"}
    shaped = any(item.name == "shaped like ids" for item in told)
    if not shaped and any(
        other not in places and other.at.startswith(at) for path, at in listed for other in priced.get(path, ())
    ):
        told.append(Evidence("numbers stand beside them", "numbers stand beside them, as in a table of goods"))
    if len(values & logged) >= 2:
        told.append(Evidence("the log names them"))
        if len(values & logged) >= 0.8 * len(logged):
            told.append(Evidence("all that the log names are among them"))
    if any(place.kind == "setting" for place in places):
        told.append(Evidence("a setting lists them"))
    files = {(place.kind if place.kind in NAMED else "", place.path) for place in places}
    if len(files) > 1:
        told.append(Evidence("they stand in three places" if len(files) > 2 else "they stand in two places"))
    large = any(place.kind in NAMED and len(place.values) > LARGE_FAMILY for place in places) and len(files) == 1
    if large or len(files) > LARGE_FAMILY:
        told.append(Evidence("a large family of files holds them"))
    return Hypothesis("player ids", min(values, key=lambda value: (len(value) < 3, value)), tuple(told))


def find_players(scene: Scene, logged: frozenset[str]) -> list[ValuePlace]:
    """The places in which players' ids stand; their ids and names are noted in the scene."""
    places = value_places(scene)
    every = kins(scene, places, logged)
    scene.weighed += [kin.hypothesis for kin in every]
    found: list[ValuePlace] = []
    lists: set[str] = set()
    for kin in sorted(every, key=_by_rank):
        beside = [place for place in kin.places if place.path in lists and place.kind in ("field", "list")]
        if beside and not any(place.kind in ("names", "folders", "column") for place in kin.places):
            scene.names.update(value for value in kin.values if _NAME.fullmatch(value))  # what they are called
            continue
        if kin.hypothesis.probability < 0.5:
            continue
        found += kin.places
        lists.update(place.path for place in kin.places if place.kind in ("field", "list") and place.alone)
        scene.people.update(value for value in kin.values if _TOKEN.fullmatch(value))
    scene.names.update(value for value in scene.people if _NAME.fullmatch(value))
    return found


def _by_rank(kin: Kin) -> tuple[bool, float]:
    """Ids before what people are called: files are named by them, or they are shaped as ids are."""
    told = {item.name for item in kin.hypothesis.evidence}
    return not told & {
        "shaped like ids",
        "files are named by them",
        "names stand beside them",
    }, -kin.hypothesis.log_odds


# --- lists of people ------------------------------------------------------------------


def lists_of_people(scene: Scene, places: Sequence[ValuePlace], extension_folders: Iterable[str]) -> None:
    """Files that are nothing but a list of players, or of addresses, become ``access``; empty lists beside them too."""
    inside = tuple(f"{folder}/" for folder in extension_folders if folder)
    listed = {place.path: place for place in places if place.alone and place.kind in ("list", "field")}
    for path, place in listed.items():
        if not scene.is_covered(path) and not path.startswith(inside):
            scene.cover("access", globs.escape(path), f"a list of {len(place.values)} with ids of players")
    beside = {path.rpartition("/")[0]: path for path in listed}
    for family in list(scene.open_families()):
        for path in family.members if len(family.members) <= MOST_FILES else ():
            if not path.startswith(inside):
                _other_list(scene, path, beside.get(path.rpartition("/")[0], ""))


def _other_list(scene: Scene, path: str, beside: str) -> None:
    kind = scene.look.kind(path)
    if kind == "json":
        value = scene.look.json(path)
        found = people(value)
        if found:
            scene.cover("access", globs.escape(path), f"a list of {len(found)} with ids or addresses")
        elif value == [] and beside:
            scene.cover("access", globs.escape(path), f"an empty list beside {beside}", Sure.LIKELY)
    elif kind == "text":
        lines = [line.split("#", 1)[0].strip() for line in scene.look.text(path).splitlines()]
        first = [re.split(r"[\s,;|]+", line, maxsplit=1)[0] for line in lines if line]
        addresses = [word for word in first if ADDRESS.fullmatch(word)]
        known = [word for word in first if word in scene.names or word in scene.people]
        if first and len(addresses) + len(known) >= 0.9 * len(first):
            what = "names of players" if known else "addresses"
            scene.cover("access", globs.escape(path), f"a list of {len(first)} with {what}", Sure.LIKELY)


def listed_people(tree: Tree, paths: Iterable[str]) -> dict[str, str]:
    """Everybody in the lists of people among ``paths``, by id, with what they are called, "" where nothing tells."""
    found: dict[str, str] = {}
    for path in paths:
        entry = tree.entries()[path]
        if entry.kind is not Kind.FILE or entry.size > LOOKED_THROUGH:
            continue
        try:
            records = _records_of(path, read(tree, path))
        except (EmberKeepError, ValueError, RecursionError):
            continue
        for ident, name in _ids_and_names(records):
            if ident and not ADDRESS.fullmatch(ident):
                found[ident] = name or found.get(ident, "")
    return found


def _records_of(path: str, data: bytes) -> list[dict[str, str]]:
    """What a list of people says of each, whatever its format."""
    kind = content_kind(path, data[:GLANCE])
    if kind == "json":
        value = json.loads(data)
        inner = next(iter(value.values())) if isinstance(value, dict) and len(value) == 1 else value
        if not isinstance(inner, list):
            return []
        return [_plain(item) if isinstance(item, dict) else {"id": str(item)} for item in inner]
    if kind in ("xml", "yaml", "toml", "ini"):
        document = formats.parse(path, data)
        tops = [item for item in document.root.items if item.role is Role.RECORD] if document else []
        tops = [item for item in tops[0].items if item.role is Role.RECORD] if len(tops) == 1 else tops
        told = [{name.rpartition("/")[2]: min(values) for name, values in facts(item).items()} for item in tops]
        if any(told):
            return told
    return list(_records_in_lines(beginning_of_text(data) or ""))


def _plain(item: Mapping[str, Any]) -> dict[str, str]:
    return {str(key): str(value) for key, value in item.items() if isinstance(value, (str, int))}


def _records_in_lines(text: str) -> Iterator[dict[str, str]]:
    lines = [line for line in text.splitlines() if _COMMENT.sub("", line).strip()]
    for line in lines:
        words = [word.strip("\"'") for word in re.split(r"[\s,;|]+", _COMMENT.sub("", line).strip()) if word]
        if len(lines) == 1 and len(words) > 2:
            yield from ({"id": word} for word in words)
            return
        behind = _BEHIND.search(line)
        yield {str(at): word for at, word in enumerate(words)} | ({"#": behind[0].strip()} if behind else {})


def _ids_and_names(listed: Sequence[dict[str, str]]) -> list[tuple[str, str]]:
    """Each person's id and name, "" where there is none, by the keys under which most have theirs: an id is another
    for each, and looks like one or at least not like a name."""
    some = listed[:SAMPLE]
    held = {key: [person[key] for person in some if key in person] for person in some for key in person}
    whole = {key: values for key, values in held.items() if len(set(values)) == len(values) >= 0.9 * len(some)}
    ids = [key for key, values in held.items() if any(is_identifier(value) for value in values)]
    ids += [key for key, values in whole.items() if not _are_names(values)]
    ident = next(iter(ids), next(iter(whole), ""))
    name = next((key for key, values in held.items() if key != ident and all(map(_NAME.fullmatch, values))), "")
    found = [(person.get(ident, ""), person.get(name, "")) for person in listed]
    if len(found) > 2 and not is_identifier(found[0][0]) and all(is_identifier(one) for one, _ in found[1:]):
        del found[0]  # what the columns are called
    mark = _MARKED.match(found[0][0]) if found else None
    if mark and all(one.startswith(mark[0]) for one, _ in found):
        found = [(one.removeprefix(mark[0]), called) for one, called in found]
    return found


# --- what is theirs ----------------------------------------------------------------------


def player_files(scene: Scene, places: Sequence[ValuePlace], extension_folders: Iterable[str]) -> None:
    """Files and folders named by players become ``players``, unless they are an extension's."""
    inside = tuple(f"{folder}/" for folder in extension_folders)
    for place in places:
        if place.kind not in NAMED or f"{place.path}/".startswith(inside):
            continue
        known = len(place.values & scene.people)
        if known < 0.8 * len(place.values):
            continue
        glob = f"{globs.escape(place.path)}/{place.at}" if place.path else place.at
        if place.kind == "folders":
            glob += "/**"
        scene.cover("players", glob, f"{known} {'files' if place.kind == 'names' else 'folders'} named by players' ids")


def personal_files(scene: Scene, places: Sequence[ValuePlace]) -> None:
    """Other files in which players' ids stand as keys or in a field become ``progress``."""
    inside: dict[str, set[str]] = defaultdict(set)
    for place in places:
        if place.kind in ("keys", "field", "list"):
            inside[place.path] |= place.values & scene.people
    for path, ids in sorted(inside.items()):
        if len(ids) >= 2 and not scene.is_covered(path):
            scene.cover("progress", globs.escape(path), f"{len(ids)} players' ids stand in it", Sure.LIKELY)


def tables(scene: Scene, places: Sequence[ValuePlace]) -> Iterator[TableFinding]:
    """Tables of SQLite files in which players' ids stand. ``others``: tables beside them that are not players'."""
    personal: dict[str, set[str]] = defaultdict(set)
    for place in places:
        if place.kind == "column":
            personal[place.path].add(place.at.rpartition(".")[0])
    for path, theirs in sorted(personal.items()):
        held = scene.look.columns(path)
        rows = {table: max(map(len, columns.values()), default=0) for table, columns in held.items()}
        others = tuple(sorted(table for table in rows.keys() - theirs if rows[table] > FEW_ROWS))
        for table in sorted(theirs):
            yield TableFinding(path, table, others, f"players' ids stand in {table}", Sure.LIKELY)


def player_bound(scene: Scene, extension_folders: dict[str, str]) -> Iterator[PlayerBound]:
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
    found = {match[0] for match in _IDS.finditer(text)} & scene.people
    if len(found) < 2 and scene.odd_people:
        found |= {word for word in _TOKEN.findall(text) if word in scene.odd_people}
    return found


def ids_in(scene: Scene, path: str) -> set[str]:
    """Ids of known players in a file."""
    if scene.look.kind(path) == "sqlite":
        columns = scene.look.columns(path).values()
        return {text for table in columns for values in table.values() for text in values} & scene.people
    return _known_ids(scene, scene.look.beginning(path, LOOKED_THROUGH).decode("utf-8", "replace"))
