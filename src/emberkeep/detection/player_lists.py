"""Which files are lists of people: operators, bans, who may come in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from emberkeep.detection.context import InferenceContext
from emberkeep.detection.findings import Sure
from emberkeep.detection.people import KEY, are_names, is_list, records_of
from emberkeep.detection.players import FEWEST, are_numbers, table_of
from emberkeep.detection.recurring import (
    MOST_FILES,
    SAMPLE,
    ValuePlace,
    entries_in_lines,
    first_entries,
)
from emberkeep.fs import globs
from emberkeep.inventory.probe import ADDRESS


def lists_of_people(
    scene: InferenceContext,
    places: Mapping[ValuePlace, Sure],
    every: Sequence[ValuePlace],
    extension_folders: Iterable[str],
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
            evidence = f"a list of {len(place.values)} with ids of players"
            scene.cover("access", globs.escape(path), evidence, places[place])
    for place in places:
        if place.kind == "keys" and not place.path.startswith(inside) and _says_who(place, every):
            evidence = f"{len(place.values)} ids of players, each with a name and the same few values"
            scene.cover("access", globs.escape(place.path), evidence, Sure.GUESS)
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
    return [one for one in every if one is not place and one.kind == "field" and table_of(one) == table_of(place)]


def _numbers_beside(place: ValuePlace, every: Sequence[ValuePlace]) -> bool:
    """Whether numbers stand beside ids, in which many differ: what each has, rather than who each is."""
    return any(are_numbers(one.values) and len(one.values) > FEWEST for one in _beside(place, every))


def _other_list(scene: InferenceContext, path: str, beside: str) -> None:
    kind = scene.look.kind(path)
    if kind == "json":
        value = scene.look.json(path)
        records = records_of(path, scene.look.whole(path)) if isinstance(value, (list, dict)) else []
        amounts = any(
            are_numbers(values) and len(set(values)) > FEWEST
            for values in (
                [one[key] for one in records[:SAMPLE] if key in one] for key in (records[0] if records else ())
            )
        )
        if is_list(records) and not amounts:
            scene.cover("access", globs.escape(path), f"a list of {len(records)} with ids or addresses")
        elif _look_like_people(records):
            evidence = f"a list of {len(records)} that have a name each, and no numbers of their own"
            scene.cover("access", globs.escape(path), evidence, Sure.GUESS)
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
    numbers = [key for key in own if key not in names and are_numbers(held[key])]
    differing = [key for key, values in held.items() if are_numbers(values) and FEWEST < len(set(values)) < len(values)]
    short = any(len(value) < FEWEST for key in numbers for value in held[key])  # an amount, rather than an id
    few = len(names) == 1 and len(numbers) <= 1 and not short
    return len(some) >= FEWEST and KEY not in held and few and len(own) > 1 and not differing


def is_who_is_who(place: ValuePlace, every: Sequence[ValuePlace]) -> bool:
    """Whether each record that has an id here has a name beside it, and no numbers of its own."""
    if place.kind != "field" or _numbers_beside(place, every):
        return False
    return any(are_names(one.values) and len(one.values) >= len(place.values) for one in _beside(place, every))


def _begin_as_people(scene: InferenceContext, text: str) -> bool:
    """Whether half of a text's first lines begin with an address, or with a player's id or name."""
    first = [next(iter(entry.values())) for entry in first_entries(text)]
    return sum(
        word in scene.names or word in scene.people or ADDRESS.fullmatch(word) is not None for word in first
    ) >= max(1, len(first) // 2)
