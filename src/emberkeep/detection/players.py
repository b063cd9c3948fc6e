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

from emberkeep.detection.context import InferenceContext
from emberkeep.detection.evidence import WEIGHTS, Evidence, Hypothesis
from emberkeep.detection.findings import Sure
from emberkeep.detection.people import NAME, are_names
from emberkeep.detection.recurring import (
    LOOKED_THROUGH,
    NAMED,
    SAMPLE,
    ValuePlace,
)
from emberkeep.documents.model import facts
from emberkeep.fs import globs
from emberkeep.inventory.probe import IDENT, is_identifier

LARGE_FAMILY = 24
OF_MANY = "a large family of files holds them"
NAME_IN_EACH = "each of the files has a name in it"
CALLED_BY_ID = "each of the files says what it is called by"
MOST_LOOKED_INTO = 200
"""Files of players in which it is looked for what they are called."""
FEWEST = 3
"""Values that two places must share to be of one kind, but where they look like ids: then one will do."""
TOKEN = re.compile(r"[\w.-]{3,64}")
_LONG_ID = re.compile(rf"{IDENT.pattern}|[0-9a-f]{{32,64}}")


@dataclass(frozen=True)
class Kin:
    """Places that share values, and how likely those are the players' ids."""

    places: tuple[ValuePlace, ...]
    hypothesis: Hypothesis

    @property
    def values(self) -> frozenset[str]:
        """All values, as they are spelled."""
        return frozenset().union(*(place.values for place in self.places))


def kins(scene: InferenceContext, places: Sequence[ValuePlace], logged: frozenset[str]) -> list[Kin]:
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
            if TOKEN.fullmatch(value):
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
    named |= {table_of(place) for place in places if place.kind == "column" and are_names(place.values)}
    priced: dict[str, list[ValuePlace]] = defaultdict(list)
    for place in places:
        if place.alone and place.kind == "field" and are_numbers(place.values):
            priced[place.path].append(place)
    found = []
    for held in together.values():
        weighed = _weighed(held, logged, named, priced, _are_the_vendors(scene, held))
        found.append(Kin(tuple(held), _with_files(scene, held, weighed)))
    return found


def _with_files(scene: InferenceContext, places: Sequence[ValuePlace], weighed: Hypothesis) -> Hypothesis:
    """What files named so say of whose they are, where that decides; then it does not count how many they are."""
    table = WEIGHTS[weighed.kind]
    others = replace(weighed, evidence=tuple(piece for piece in weighed.evidence if piece.name != OF_MANY))
    if not -(table[NAME_IN_EACH] + table[CALLED_BY_ID]) < others.log_odds < 0:
        return weighed
    within = dict.fromkeys(piece for place in places if place.kind == "names" for piece in _within(scene, place))
    return replace(others, evidence=(*others.evidence, *within)) if within else weighed


def _within(scene: InferenceContext, place: ValuePlace) -> Iterator[Evidence]:
    """What files that were written one by one say of whose they are: each another name, and what it is called by."""
    every = files_of(scene, place)
    paths = every[:: 1 + len(every) // LARGE_FAMILY]
    if len(paths) < FEWEST or not _written_one_by_one(scene, paths):
        return
    if not any(are_names([value]) for value in said_in(scene, paths[0]).values()):
        return  # most families are told by one of them
    said = [said_in(scene, path) for path in paths]
    if any(are_names(values) and len(set(values)) == len(paths) for values in by_key(said).values()):
        yield Evidence(NAME_IN_EACH)
        called = _called_by(place, paths)
        if not _are_ids(called) and all(
            any(len(value) > FEWEST and value in ident for value in says.values())
            for ident, says in zip(called, said, strict=True)
        ):
            yield Evidence(CALLED_BY_ID)


def files_of(scene: InferenceContext, place: ValuePlace) -> list[str]:
    """The files whose names a place is a part of."""
    return [path for path in scene.matching(glob_of(place)) if path not in scene.dirs]


def glob_of(place: ValuePlace) -> str:
    """The glob that fits the files of a place."""
    return f"{globs.escape(place.path)}/{place.at}" if place.path else place.at


def _called_by(place: ValuePlace, paths: Iterable[str]) -> list[str]:
    """The part of each file's name that varies; "" where that is not known."""
    by_length = sorted(place.values, key=len, reverse=True)
    return [next((value for value in by_length if value in path.rpartition("/")[2]), "") for path in paths]


def _written_one_by_one(scene: InferenceContext, paths: Sequence[str]) -> bool:
    times = {scene.tree.entries()[path].mtime_ns // 10**9 for path in paths}
    return 2 * len(times) > len(paths)


def said_in(scene: InferenceContext, path: str) -> dict[str, str]:
    """The plain values that a file holds once, by name."""
    document = scene.document(path) if scene.look.size(path) <= LOOKED_THROUGH else None
    values = facts(document.root) if document else {}
    return {name: next(iter(said)).strip("\"'") for name, said in values.items() if len(said) == 1}


def by_key(records: Iterable[Mapping[str, str]]) -> dict[str, list[str]]:
    """What several records say under each key."""
    found: dict[str, list[str]] = defaultdict(list)
    for says in records:
        for key, value in says.items():
            found[key].append(value)
    return found


def _are_the_vendors(scene: InferenceContext, places: Sequence[ValuePlace]) -> bool:
    """Whether what values name came with the program: the files called so, where there are some. A server that writes
    down what it has loaded names the vendor's folders, too."""
    files = [place for place in places if place.kind in NAMED]
    return all(_came_with_program(scene, place) for place in files or places)


def _came_with_program(scene: InferenceContext, place: ValuePlace) -> bool:
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


def are_numbers(values: Iterable[str]) -> bool:
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
        place.kind == "column" and table_of(place) in named for place in places
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


def find_players(
    scene: InferenceContext, places: Sequence[ValuePlace], logged: frozenset[str]
) -> dict[ValuePlace, Sure]:
    """The places in which players' ids stand, with how sure that is; their ids and names are noted in the scene."""
    every = kins(scene, places, logged)
    scene.weighed += [kin.hypothesis for kin in every]
    found: dict[ValuePlace, Sure] = {}
    tables: set[tuple[str, str]] = set()
    for kin in sorted(every, key=_by_rank):
        if tables.issuperset(map(table_of, kin.places)):  # what the same people are called
            scene.names.update(value for value in kin.values if NAME.fullmatch(value))
            continue
        if kin.hypothesis.probability < 0.5 or (scene.people and _are_others(scene, kin)):
            continue  # who plays is told by others, and these are none of them
        found.update(dict.fromkeys(kin.places, kin.hypothesis.sure))
        tables.update(map(table_of, kin.places))
        scene.people.update(value for value in kin.values if TOKEN.fullmatch(value))
    scene.names.update(value for value in scene.people if NAME.fullmatch(value))
    return found


def _are_others(scene: InferenceContext, kin: Kin) -> bool:
    """Whether nothing but files of their own tells of them, in which nobody is named who is known to play: inhabitants
    of a world have such files, too."""
    names = {piece.name for piece in kin.hypothesis.evidence}
    if NAME_IN_EACH not in names or not names <= {NAME_IN_EACH, CALLED_BY_ID, "shaped like ids"}:
        return False
    known = scene.people | scene.names
    files = [path for place in kin.places for path in files_of(scene, place)[:MOST_LOOKED_INTO]]
    return not any(known.intersection(said_in(scene, path).values()) for path in files)


def table_of(place: ValuePlace) -> tuple[str, str]:
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
    names = {item.name for item in kin.hypothesis.evidence}
    return not names & {
        "shaped like ids",
        "files are named by them",
        "names stand beside them",
    }, -kin.hypothesis.log_odds
