"""Who plays here: identifiers learned from where the same values recur, in names of files, lists, keys and columns.

Places (``recurring``) that share values are of one kind of thing; which kind is the players is weighed (``evidence``),
whatever their ids look like.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

from emberkeep.databases import sqlite
from emberkeep.detection.context import Scene, stem
from emberkeep.detection.evidence import WEIGHTS, Evidence, Hypothesis
from emberkeep.detection.findings import PlayerBound, Sure, TableFinding
from emberkeep.detection.people import KEY, MOSTLY_OTHERS, NAME, are_names, is_list, records_of
from emberkeep.detection.recurring import (
    LOOKED_THROUGH,
    MOST_FILES,
    NAMED,
    SAMPLE,
    ValuePlace,
    entries_in_lines,
    first_entries,
)
from emberkeep.documents.model import Role, facts
from emberkeep.fs import globs
from emberkeep.inventory.probe import ADDRESS, IDENT, is_identifier

LARGE_FAMILY = 24
OF_MANY = "a large family of files holds them"
NAME_IN_EACH = "each of the files has a name in it"
CALLED_BY_ID = "each of the files says what it is called by"
MOST_OF_THEM = 0.5
"""Share of the players of whom files are that the server keeps of each."""
MOST_LOOKED_INTO = 200
"""Files of players in which it is looked for what they are called."""
FEWEST = 3
"""Values that two places must share to be of one kind, but where they look like ids: then one will do."""
_TOKEN = re.compile(r"[\w.-]{3,64}")
_IDS = re.compile(rf"(?<![\w-])(?:{IDENT.pattern})(?![\w-])")
_LONG_ID = re.compile(rf"{IDENT.pattern}|[0-9a-f]{{32,64}}")


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
            both_named = places[one].kind in NAMED and places[other].kind in NAMED
            if not both_named or _are_ids(places[one].values):  # siblings hold files called alike
                shared[one, other] += 1
    for (one, other), count in shared.items():
        least = min(len(places[one].values), len(places[other].values))
        if count >= 0.5 * least and count >= min(FEWEST, least) and (count >= FEWEST or _are_ids(places[one].values)):
            group[top(one)] = top(other)
    together: dict[int, list[ValuePlace]] = defaultdict(list)
    for at, place in enumerate(places):
        together[top(at)].append(place)
    named: set[str | tuple[str, str]] = {
        place.path for place in places if place.alone and place.kind in ("field", "list") and are_names(place.values)
    }
    named |= {_table_of(place) for place in places if place.kind == "column" and are_names(place.values)}
    priced: dict[str, list[ValuePlace]] = defaultdict(list)
    for place in places:
        if place.alone and place.kind == "field" and _are_numbers(place.values):
            priced[place.path].append(place)
    found = []
    for held in together.values():
        weighed = _weighed(held, logged, named, priced, _are_the_vendors(scene, held))
        found.append(Kin(tuple(held), _with_files(scene, held, weighed)))
    return found


def _with_files(scene: Scene, places: Sequence[ValuePlace], weighed: Hypothesis) -> Hypothesis:
    """What files named so say of whose they are, where that decides; then it does not count how many they are."""
    table = WEIGHTS[weighed.kind]
    others = replace(weighed, evidence=tuple(piece for piece in weighed.evidence if piece.name != OF_MANY))
    if not -(table[NAME_IN_EACH] + table[CALLED_BY_ID]) < others.log_odds < 0:
        return weighed
    within = dict.fromkeys(piece for place in places if place.kind == "names" for piece in _within(scene, place))
    return replace(others, evidence=(*others.evidence, *within)) if within else weighed


def _within(scene: Scene, place: ValuePlace) -> Iterator[Evidence]:
    """What files that were written one by one say of whose they are: each another name, and what it is called by."""
    every = _files_of(scene, place)
    paths = every[:: 1 + len(every) // LARGE_FAMILY]
    if len(paths) < FEWEST or not _written_one_by_one(scene, paths):
        return
    if not any(are_names([value]) for value in _said(scene, paths[0]).values()):
        return  # most families are told by one of them
    told = [_said(scene, path) for path in paths]
    if any(are_names(values) and len(set(values)) == len(paths) for values in _by_key(told).values()):
        yield Evidence(NAME_IN_EACH)
        called = _called_by(place, paths)
        if not _are_ids(called) and all(
            any(len(value) > FEWEST and value in ident for value in says.values())
            for ident, says in zip(called, told, strict=True)
        ):
            yield Evidence(CALLED_BY_ID)


def _files_of(scene: Scene, place: ValuePlace) -> list[str]:
    """The files whose names a place is a part of."""
    return [path for path in scene.matching(_glob_of(place)) if path not in scene.dirs]


def _glob_of(place: ValuePlace) -> str:
    return f"{globs.escape(place.path)}/{place.at}" if place.path else place.at


def _called_by(place: ValuePlace, paths: Iterable[str]) -> list[str]:
    """The part of each file's name that varies; "" where that is not known."""
    by_length = sorted(place.values, key=len, reverse=True)
    return [next((value for value in by_length if value in path.rpartition("/")[2]), "") for path in paths]


def _written_one_by_one(scene: Scene, paths: Sequence[str]) -> bool:
    times = {scene.tree.entries()[path].mtime_ns // 10**9 for path in paths}
    return 2 * len(times) > len(paths)


def _said(scene: Scene, path: str) -> dict[str, str]:
    """The plain values that a file holds once, by name."""
    document = scene.document(path) if scene.look.size(path) <= LOOKED_THROUGH else None
    values = facts(document.root) if document else {}
    return {name: next(iter(said)).strip("\"'") for name, said in values.items() if len(said) == 1}


def _by_key(told: Iterable[Mapping[str, str]]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = defaultdict(list)
    for says in told:
        for key, value in says.items():
            found[key].append(value)
    return found


def _are_the_vendors(scene: Scene, places: Sequence[ValuePlace]) -> bool:
    """Whether what values name came with the program: the files called so, where there are some. A server that writes
    down what it has loaded names the vendor's folders, too."""
    files = [place for place in places if place.kind in NAMED]
    return all(_came_with_program(scene, place) for place in files or places)


def _came_with_program(scene: Scene, place: ValuePlace) -> bool:
    """Whether nothing of a place was written since the program came."""
    if place.kind in NAMED:
        paths = scene.matching(f"{globs.escape(place.path)}/{place.at}".lstrip("/"))
        return all(scene.came_with_program(path) for path in paths)
    return scene.came_with_program(place.path)


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


def _weighed(
    places: Sequence[ValuePlace],
    logged: frozenset[str],
    named: set[str | tuple[str, str]],
    priced: Mapping[str, Sequence[ValuePlace]],
    came_with_program: bool,
) -> Hypothesis:
    values = frozenset().union(*(place.values for place in places))
    kinds = {place.kind for place in places}
    evidence = []
    if _are_ids(values):
        evidence.append(Evidence("shaped like ids"))
    elif all(value.isdigit() and len(value) < 4 for value in values):
        evidence.append(Evidence("small numbers"))
    if kinds & {*NAMED} and (len(places) > 1 or len(values & logged) >= FEWEST):
        evidence.append(Evidence("files are named by them"))
    if any(place.alone and place.kind in ("list", "field", "keys") for place in places) or any(
        place.kind == "column" and _table_of(place) in named for place in places
    ):
        evidence.append(Evidence("a list holds them and little else"))
    if not are_names(values) and any(place.alone and place.path in named for place in places):
        evidence.append(Evidence("names stand beside them"))
    listed = {_level(place) for place in places if place.alone and place.kind == "field"}
    shaped = any(item.name == "shaped like ids" for item in evidence)
    if not shaped and any(
        other not in places and other.at.startswith(at) for path, at in listed for other in priced.get(path, ())
    ):
        evidence.append(Evidence("numbers stand beside them", "numbers stand beside them, as in a table of goods"))
    if len(values & logged) >= 2:
        evidence.append(Evidence("the log names them"))
        if len(values & logged) >= 0.8 * len(logged):
            evidence.append(Evidence("all that the log names are among them"))
    if any(place.kind == "setting" for place in places):
        evidence.append(Evidence("a setting lists them"))
    files = {(place.kind if place.kind in NAMED else "", place.path) for place in places}
    if len(files) > 1:
        evidence.append(Evidence("they stand in three places" if len(files) > 2 else "they stand in two places"))
    large = any(place.kind in NAMED and len(place.values) > LARGE_FAMILY for place in places) and len(files) == 1
    if came_with_program:
        evidence.append(Evidence("none of it was written since the program came"))
    if large or len(files) > LARGE_FAMILY:
        evidence.append(Evidence(OF_MANY))
    return Hypothesis("player ids", min(values, key=lambda value: (len(value) < 3, value)), tuple(evidence))


def find_players(scene: Scene, places: Sequence[ValuePlace], logged: frozenset[str]) -> dict[ValuePlace, Sure]:
    """The places in which players' ids stand, with how sure that is; their ids and names are noted in the scene."""
    every = kins(scene, places, logged)
    scene.weighed += [kin.hypothesis for kin in every]
    found: dict[ValuePlace, Sure] = {}
    tables: set[tuple[str, str]] = set()
    for kin in sorted(every, key=_by_rank):
        if tables.issuperset(map(_table_of, kin.places)):  # what the same people are called
            scene.names.update(value for value in kin.values if NAME.fullmatch(value))
            continue
        if kin.hypothesis.probability < 0.5 or (scene.people and _are_others(scene, kin)):
            continue  # who plays is told by others, and these are none of them
        found.update(dict.fromkeys(kin.places, kin.hypothesis.sure))
        tables.update(map(_table_of, kin.places))
        scene.people.update(value for value in kin.values if _TOKEN.fullmatch(value))
    scene.names.update(value for value in scene.people if NAME.fullmatch(value))
    return found


def _are_others(scene: Scene, kin: Kin) -> bool:
    """Whether nothing but files of their own tells of them, in which nobody is named who is known to play: inhabitants
    of a world have such files, too."""
    told = {piece.name for piece in kin.hypothesis.evidence}
    if NAME_IN_EACH not in told or not told <= {NAME_IN_EACH, CALLED_BY_ID, "shaped like ids"}:
        return False
    known = scene.people | scene.names
    files = [path for place in kin.places for path in _files_of(scene, place)[:MOST_LOOKED_INTO]]
    return not any(known.intersection(_said(scene, path).values()) for path in files)


def _table_of(place: ValuePlace) -> tuple[str, str]:
    """Where the records stand that a place is one field of; itself for what is none."""
    if place.kind == "field":
        return place.path, place.at.rstrip("/").rpartition("/")[0]
    if place.kind == "column":
        return place.path, place.at.rpartition(".")[0]
    if place.kind == "keys":
        return place.path, f"{place.at}/*"
    return place.path, "lines" if place.kind == "list" and place.at[:1] in "0123456789#" else f"{place.kind} {place.at}"


def _by_rank(kin: Kin) -> tuple[bool, float]:
    """Ids before what people are called: files are named by them, or they are shaped as ids are."""
    told = {item.name for item in kin.hypothesis.evidence}
    return not told & {
        "shaped like ids",
        "files are named by them",
        "names stand beside them",
    }, -kin.hypothesis.log_odds


# --- lists of people ------------------------------------------------------------------


def lists_of_people(
    scene: Scene, places: Mapping[ValuePlace, Sure], every: Sequence[ValuePlace], extension_folders: Iterable[str]
) -> None:
    """Files that are nothing but a list of players, or of addresses, become ``access``; empty lists beside them too.
    ``every``: all places, also those of other values."""
    inside = tuple(f"{folder}/" for folder in extension_folders if folder)
    listed = {
        place.path: place
        for place in places
        if place.alone and place.kind in ("list", "field") and not _numbers_beside(place, every)
    }
    for path, place in listed.items():
        if not scene.is_covered(path) and not path.startswith(inside):
            told = f"a list of {len(place.values)} with ids of players"
            scene.cover("access", globs.escape(path), told, places[place])
    for place in places:
        if place.kind == "keys" and not place.path.startswith(inside) and _says_who(place, every):
            told = f"{len(place.values)} ids of players, each with a name and the same few values"
            scene.cover("access", globs.escape(place.path), told, Sure.GUESS)
    beside = {path.rpartition("/")[0]: path for path in listed}
    for family in list(scene.open_families()):
        for path in family.members if len(family.members) <= MOST_FILES else ():
            if not path.startswith(inside):
                _other_list(scene, path, beside.get(path.rpartition("/")[0], ""))


def _says_who(place: ValuePlace, places: Sequence[ValuePlace]) -> bool:
    """Whether keys are followed by who somebody is, rather than by what they have: a name, and no numbers of their
    own."""
    beside = _beside(place, places)
    return any(are_names(one.values) and len(one.values) > 1 for one in beside) and not _numbers_beside(place, places)


def _beside(place: ValuePlace, every: Sequence[ValuePlace]) -> list[ValuePlace]:
    """The other fields of the records that a place is one field of, or the key."""
    return [one for one in every if one is not place and one.kind == "field" and _table_of(one) == _table_of(place)]


def _numbers_beside(place: ValuePlace, every: Sequence[ValuePlace]) -> bool:
    """Whether numbers stand beside ids, in which many differ: what each has, rather than who each is."""
    return any(_are_numbers(one.values) and len(one.values) > FEWEST for one in _beside(place, every))


def _other_list(scene: Scene, path: str, beside: str) -> None:
    kind = scene.look.kind(path)
    if kind == "json":
        value = scene.look.json(path)
        records = records_of(path, scene.look.whole(path)) if isinstance(value, (list, dict)) else []
        amounts = any(
            _are_numbers(values) and len(set(values)) > FEWEST
            for values in (
                [one[key] for one in records[:SAMPLE] if key in one] for key in (records[0] if records else ())
            )
        )
        if is_list(records) and not amounts:
            scene.cover("access", globs.escape(path), f"a list of {len(records)} with ids or addresses")
        elif _look_like_people(records):
            told = f"a list of {len(records)} that have a name each, and no numbers of their own"
            scene.cover("access", globs.escape(path), told, Sure.GUESS)
        elif value == [] and beside:
            scene.cover("access", globs.escape(path), f"an empty list beside {beside}", Sure.LIKELY)
    elif kind == "text":
        text = scene.look.text(path)
        if not _begin_as_people(scene, text):
            return
        first = [next(iter(entry.values())) for entry in entries_in_lines(text)]
        addresses = [word for word in first if ADDRESS.fullmatch(word)]
        known = [word for word in first if word in scene.names or word in scene.people]
        if first and len(addresses) + len(known) >= 0.9 * len(first):
            what = "names of players" if known else "addresses"
            scene.cover("access", globs.escape(path), f"a list of {len(first)} with {what}", Sure.LIKELY)


def _look_like_people(records: Sequence[Mapping[str, str]]) -> bool:
    """Whether each of several records has a name of its own, as people do, and another value of its own, and none has
    numbers that many differ in."""
    some = records[:SAMPLE]
    held = {key: [record[key] for record in some if key in record] for key in {key for one in some for key in one}}
    own = [key for key, values in held.items() if len(set(values)) == len(values) == len(some)]
    names = [key for key in own if are_names(held[key])]
    numbers = [key for key in own if key not in names and _are_numbers(held[key])]
    differing = [
        key for key, values in held.items() if _are_numbers(values) and FEWEST < len(set(values)) < len(values)
    ]
    short = any(len(value) < FEWEST for key in numbers for value in held[key])  # an amount, rather than an id
    few = len(names) == 1 and len(numbers) <= 1 and not short
    return len(some) >= FEWEST and KEY not in held and few and len(own) > 1 and not differing


def _is_who_is_who(place: ValuePlace, every: Sequence[ValuePlace]) -> bool:
    """Whether each record that has an id here has a name beside it, and no numbers of its own."""
    if place.kind != "field" or _numbers_beside(place, every):
        return False
    return any(are_names(one.values) and len(one.values) >= len(place.values) for one in _beside(place, every))


def _begin_as_people(scene: Scene, text: str) -> bool:
    """Whether half of a text's first lines begin with an address, or with a player's id or name."""
    first = [next(iter(entry.values())) for entry in first_entries(text)]
    return sum(
        word in scene.names or word in scene.people or ADDRESS.fullmatch(word) is not None for word in first
    ) >= max(1, len(first) // 2)


# --- what is theirs ----------------------------------------------------------------------


def player_files(scene: Scene, places: Mapping[ValuePlace, Sure], extension_folders: Iterable[str]) -> None:
    """Files and folders named by players become ``players``, unless they are an extension's."""
    inside = tuple(f"{folder}/" for folder in extension_folders)
    most = max((len(place.values) for place in places if place.kind in NAMED), default=0)
    for place, sure in places.items():
        if place.kind not in NAMED or f"{place.path}/".startswith(inside):
            continue
        known = len(place.values & scene.people)
        if known < 0.8 * len(place.values):
            continue
        glob = _glob_of(place)
        if place.kind == "folders":
            glob += "/**"
        what = "files" if place.kind == "names" else "folders"
        if all(path in scene.dirs for path in scene.matching(glob)):
            continue  # nothing is in them
        told = f"{known} {what} named by players' ids"
        if known < MOST_OF_THEM * most:  # what some have, as bans, may be the admin's
            sure, told = Sure.GUESS, f"{what} named by the ids of {known} of {most} players"
        scene.cover("players", glob, told, sure)
        if place.kind == "names":
            _note_names(scene, _files_of(scene, place))


def _note_names(scene: Scene, paths: Sequence[str]) -> None:
    """What players are called stands in files of theirs, under the same key in each."""
    told = _by_key(_said(scene, path) for path in paths[:MOST_LOOKED_INTO])
    for values in told.values():
        if len(values) >= FEWEST and are_names(values) and len(set(values)) >= MOSTLY_OTHERS * len(values):
            scene.names.update(value for value in values if NAME.fullmatch(value))


def personal_files(scene: Scene, places: Iterable[ValuePlace], every: Sequence[ValuePlace]) -> None:
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
        if any(_is_who_is_who(place, every) for place in places if place.path == path):
            told = f"{len(ids)} ids of players, each with a name and no numbers of its own"
            scene.cover("access", globs.escape(path), told, Sure.GUESS)
        elif not in_lists[path]:
            scene.cover("progress", globs.escape(path), f"{len(ids)} players' ids stand in it", Sure.LIKELY)
        elif 2 * len(ids) > sum(1 for _ in scene.leaves(path)):
            told = f"lists of {len(ids)} players' ids, and little else"
            scene.cover("access", globs.escape(path), told, Sure.LIKELY)


def tables(scene: Scene, places: Iterable[ValuePlace]) -> Iterator[TableFinding]:
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
