"""A year of an admin's edits, of every class, and the true merge found by other code: the small part of
``benchmarks/real_files.py`` that needs no network, on lists that are made up as real ones are."""

from __future__ import annotations

import random
import sys
from dataclasses import replace
from pathlib import Path

import pytest

from tests import depth
from tests.test_metamorphic import LISTS, NAMED, Lens

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))

import real_files
from hand_edits import CLASSES

_FORMS = {"xml": "xml", "json": "json", "yaml": "yaml", "toml": "toml", "ini": "ini", "properties": "properties"}
_KEYS = {"lens": "@maker @mark @focal", "lenses/[]": "maker mark focal"}
_PLACES = (
    "tarn",
    "voe",
    "geo",
    "ness",
    "firth",
    "skerry",
    "wick",
    "stack",
    "ayre",
    "noup",
    "holm",
    "brough",
    "gio",
    "taing",
)


def release(chance: random.Random, *, named: bool) -> tuple[Lens, ...]:
    """Sixty records: told apart by three fields, or each by a name of its own."""
    found: dict[object, Lens] = {}
    while len(found) < 60:
        maker, place, focal = chance.choice(("brae", "holm", "skua")), chance.choice(_PLACES), chance.randrange(8, 90)
        name = f"{place}-{len(found)}" if named else place
        one = Lens(maker, name, focal, chance.choice(("lamp", "glass", "beacon")), chance.randrange(1, 900))
        found.setdefault(name if named else (maker, name, focal), one)
    return tuple(found.values())


def next_release(chance: random.Random, old: tuple[Lens, ...], *, named: bool) -> tuple[Lens, ...]:
    """A fifth of the records changed, some gone, some come."""
    made = [replace(one, worth=one.worth + 1000) if chance.random() < 0.2 else one for one in old]
    made = [one for one in made if chance.random() > 0.06]
    for number in range(4):
        name = f"new-{number}" if named else "haven"
        made.insert(chance.randrange(len(made)), Lens("ulla", name, 100 + number, "beacon", chance.randrange(1, 900)))
    return tuple(made)


@pytest.mark.parametrize("kind", depth.some(list(CLASSES), 5))
@pytest.mark.parametrize("path", depth.some([*LISTS, *NAMED], 5))
def test_every_class_of_edits_merges_as_other_code_says(path: str, kind: str) -> None:
    named = path in NAMED
    write = {**LISTS, **NAMED}[path]
    pair = real_files.Pair("", "", "", path, _FORMS[path.rpartition(".")[2]], _KEYS)
    for seed in range(depth.choose(1, 4)):
        chance = random.Random(f"{path} {seed}")
        old = release(chance, named=named)
        new = next_release(chance, old, named=named)
        case = real_files.case_of(pair, kind, write({"lenses": old}), write({"lenses": new}), seed)
        if case is not None:
            verdict = real_files.ours(case)
            assert verdict.right, (seed, verdict)
