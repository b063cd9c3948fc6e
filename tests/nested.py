"""Values within values, as hand-written files hold them: random ones, two sides' edits to them that do not meet, and their
writing in JSON, YAML and TOML. The oracle is the value itself, read back by the standard readers."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from random import Random
from typing import Any

import yaml

Tree = dict[str, Any]
NAMES = ("fog", "haar", "gale", "swell", "ebb", "neap", "skerry", "kelp")
TEXTS = (
    "rocks", "0", "7", "yes", "a: b", "# no note", "it's", 'said "so"', "", "ünïcode — 4", "x, y", "[z]", "two\nlines",
    "C:\\rock", " led ", "-",
)  # fmt: skip


# --- values ------------------------------------------------------------------


def tree(some: Random, depth: int = 3) -> Tree:
    """Names with values, so many levels of names within names deep at most."""
    return {name: _value(some, depth - 1) for name in some.sample(NAMES, some.randrange(1, 6))}


def _value(some: Random, depth: int) -> Any:
    kind = some.choice(["scalar", "scalar", "numbers", "texts", "goods", "names"] if depth > 0 else ["scalar"])
    return _like(some, kind, depth)


def _like(some: Random, kind: str, depth: int) -> Any:
    if kind == "names":
        return {name: _value(some, depth - 1) for name in some.sample(NAMES, some.randrange(1, 4))}
    if kind == "goods":
        return [_good(some, name) for name in some.sample(NAMES, some.randrange(1, 4))]
    if kind == "texts":
        return some.sample(TEXTS[:5], some.randrange(1, 4))
    if kind == "numbers":
        return some.sample([1, 2, 3, 5, 8], some.randrange(1, 4))
    return some.choice([some.choice(TEXTS), some.randrange(-9, 99), some.choice([True, False]), 0.25, 12.5])


def _good(some: Random, name: str) -> Tree:
    return {"id": name, **{key: _like(some, "scalar", 0) for key in some.sample(["worth", "least"], some.randrange(3))}}


def kind_of(value: Any) -> str:
    """What a value is, as far as an edit by hand leaves it the same."""
    if isinstance(value, dict):
        return "names"
    if isinstance(value, list):
        return "goods" if isinstance(value[0], dict) else "texts" if isinstance(value[0], str) else "numbers"
    return "scalar"


# --- edits -------------------------------------------------------------------


@dataclass(frozen=True)
class Sides:
    """The vendor's old and new values, the admin's, and what must come of them together."""

    old: Tree
    mine: Tree
    new: Tree
    both: Tree


def edited(some: Random, old: Tree, editors: Sequence[str] = ("mine", "new")) -> Sides:
    """Every name of ``old`` is left alone, given another value of its kind or dropped by one side at most; each side adds
    names of its own. No mapping loses all it holds."""
    found: dict[str, Tree] = {"mine": {}, "new": {}, "both": {}}
    for at, (name, there) in enumerate(old.items()):
        who = some.choice(["nobody", "nobody", *editors])
        told = dict.fromkeys(found, there)
        if who == "nobody" and isinstance(there, dict):
            inner = edited(some, there, editors)
            told = {"mine": inner.mine, "new": inner.new, "both": inner.both}
        elif who != "nobody":
            told[who] = told["both"] = None if at and some.random() < 0.3 else _like(some, kind_of(there), 1)
        for side, what in told.items():
            if what is not None:
                found[side][name] = what
    for side in editors:
        for number in range(some.randrange(3)):
            what = _value(some, 2)
            for one in (side, "both"):
                found[one] = _put(found[one], f"{side}-{number}", what, some.randrange(len(found[one]) + 1))
    return Sides(old, found["mine"], found["new"], found["both"])


def _put(names: Tree, name: str, what: Any, at: int) -> Tree:
    items = list(names.items())
    return dict([*items[:at], (name, what), *items[at:]])


def stays(sides: Sides) -> Iterator[str]:
    """The values of mine, by their names joined by dots, that stand in the outcome as they are, or as names with values."""
    yield from _shared(sides.mine, sides.both, ())


def _shared(one: Tree, other: Tree, path: tuple[str, ...]) -> Iterator[str]:
    for name, what in one.items():
        if what == other.get(name) or isinstance(other.get(name), dict):
            yield ".".join((*path, name))
        if isinstance(what, dict) and isinstance(other.get(name), dict):
            yield from _shared(what, other[name], (*path, name))


# --- writing -----------------------------------------------------------------


@dataclass(frozen=True)
class Hand:
    """How somebody writes. ``shape`` decides what stands in one line and what in several, by the name of a value."""

    shape: int
    indent: int = 2
    newline: str = "\n"
    bom: bool = False
    notes: frozenset[str] = frozenset()
    """The values, by their names joined by dots, that a comment stands above."""

    def chooses(self, path: Sequence[str], *choices: Any) -> Any:
        return Random(f"{self.shape} {' '.join(path)}").choice(choices)

    def note(self, path: Sequence[str]) -> list[str]:
        return [f"# about {'.'.join(path)}."] if ".".join(path) in self.notes else []

    def written(self, lines: Sequence[str]) -> bytes:
        text = "".join(f"{line}\n" for line in lines).replace("\n", self.newline)
        return (("\ufeff" if self.bom else "") + text).encode()


def as_json(value: Tree, hand: Hand) -> bytes:
    text = json.dumps(value, indent=hand.chooses([], None, hand.indent), ensure_ascii=False)
    return hand.written(text.split("\n"))


def as_yaml(value: Tree, hand: Hand) -> bytes:
    return hand.written(_yaml_lines(value, hand, ()))


def _yaml_lines(value: Tree, hand: Hand, path: tuple[str, ...]) -> list[str]:
    found: list[str] = []
    step = " " * hand.indent
    for name, what in value.items():
        here = (*path, name)
        found += hand.note(here)
        if isinstance(what, dict) and what and hand.chooses(here, True, True, False):
            found += [f"{name}:", *(step + line for line in _yaml_lines(what, hand, here))]
        elif isinstance(what, list) and hand.chooses(here, True, False):
            found.append(f"{name}:")
            for item in what:
                lines = _yaml_lines(item, hand, (*here, "*")) if isinstance(item, dict) else [_inline(item)]
                found += [f"{step}- {lines[0]}", *(f"{step}  {line}" for line in lines[1:])]
        else:
            found.append(f"{name}: {_inline(what)}")
    return found


def _inline(value: Any) -> str:
    return (
        yaml.safe_dump(value, default_flow_style=True, width=10**6, allow_unicode=True, sort_keys=False)
        .removesuffix("\n...\n")
        .rstrip("\n")
    )


def as_toml(value: Tree, hand: Hand) -> bytes:
    return hand.written(_toml_lines(value, hand, ()))


def _toml_lines(value: Tree, hand: Hand, path: tuple[str, ...]) -> list[str]:
    plain: list[str] = []
    tables: list[str] = []
    for name, what in value.items():
        here = (*path, name)
        note = hand.note(here)
        kind = kind_of(what) if what != [] else ""
        if kind == "names" and hand.chooses(here, True, True, False):
            tables += ["", *note, f"[{'.'.join(here)}]", *_toml_lines(what, hand, here)]
        elif kind == "goods" and hand.chooses(here, True, False):
            for at, item in enumerate(what):
                inner = (f"{key} = {_toml(inside)}" for key, inside in item.items())
                tables += ["", *(note if not at else []), f"[[{'.'.join(here)}]]", *inner]
        elif isinstance(what, list) and hand.chooses(here, True, False):
            plain += [*note, f"{name} = [", *(f"{' ' * hand.indent}{_toml(item)}," for item in what), "]"]
        else:
            plain += [*note, f"{name} = {_toml(what)}"]
    return [*plain, *tables]


def _toml(value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{name} = {_toml(inside)}" for name, inside in value.items()) + " }"
    return json.dumps(value, ensure_ascii=False)


FORMATS: dict[str, tuple[Callable[[Tree, Hand], bytes], Callable[[bytes], Any]]] = {
    "a.json": (as_json, lambda data: json.loads(data.decode("utf-8-sig"))),
    "a.yaml": (as_yaml, yaml.safe_load),
    "a.toml": (as_toml, lambda data: tomllib.loads(data.decode("utf-8-sig"))),
}
"""By the name of a file: how a tree is written in its format, and the standard reader."""
