"""Releases and hand edits made up at random, in every format, with the one true merge of them known.

A case is a list of records in three versions: the old defaults, the admin's, the vendor's new ones. Each is written
in the same format and spelling. What must come out is worked out on the records, never on text, and then written the
same way, so that a merge is right only when it gives these very bytes.
"""

from __future__ import annotations

import json
import random
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from xml.sax.saxutils import escape, quoteattr

FIELDS = ("kind", "afloat", "worth", "note", "share")
WORDS = ("rope", "lamp oil", "tar & pitch", "kelp <dry>", "sail", "blåskjell", "5 o'clock", "great lens", "salt", "net")
KINDS = ("food", "tackle", "lamp")


@dataclass(frozen=True)
class Record:
    id: str
    values: tuple[tuple[str, str], ...]
    comment: str = ""

    def having(self, name: str, value: str) -> Record:
        return replace(self, values=tuple((key, value if key == name else told) for key, told in self.values))

    def __getitem__(self, name: str) -> str:
        return dict(self.values)[name]


Records = tuple[Record, ...]


@dataclass(frozen=True)
class Style:
    """How a file is written."""

    indent: str = "  "
    newline: str = "\n"
    codec: str = "utf-8"
    bom: bool = False
    ends: bool = True

    def bytes(self, text: str) -> bytes:
        text = text.rstrip("\n") + ("\n" if self.ends else "")
        return (("\ufeff" if self.bom else "") + text.replace("\n", self.newline)).encode(self.codec)


@dataclass(frozen=True)
class Case:
    """One merge. ``asked``: record and field of every true overlap; ``expected``: the bytes that must come out."""

    kind: str
    path: str
    old: bytes
    mine: bytes
    new: bytes
    expected: bytes
    asked: frozenset[tuple[str, str]] = field(default_factory=frozenset)


# --- writing ---------------------------------------------------------------------


def _is_number(text: str) -> bool:
    return text.replace(".", "", 1).isdigit()


def xml_children(records: Records, style: Style) -> str:
    tab = style.indent
    lines = ['<?xml version="1.0"?>', "<stores>"]
    for one in records:
        lines += [f"{tab}<!-- {one.comment} -->"] * bool(one.comment)
        lines.append(f"{tab}<good id={quoteattr(one.id)}>")
        lines += [f"{tab * 2}<{name}>{escape(value)}</{name}>" for name, value in one.values]
        lines.append(f"{tab}</good>")
    return "\n".join([*lines, "</stores>"])


def xml_attributes(records: Records, style: Style) -> str:
    lines = ["<stores>"]
    for one in records:
        lines += [f"{style.indent}<!-- {one.comment} -->"] * bool(one.comment)
        told = " ".join(f"{name}={quoteattr(value)}" for name, value in (("id", one.id), *one.values))
        lines.append(f"{style.indent}<good {told}/>")
    return "\n".join([*lines, "</stores>"])


def _json(value: str) -> str:
    return value if _is_number(value) else json.dumps(value, ensure_ascii=False)


def json_list(records: Records, style: Style) -> str:
    tab = style.indent
    rows = []
    for one in records:
        told = [f"{tab * 2}{json.dumps(name)}: {_json(value)}" for name, value in (("id", one.id), *one.values)]
        rows.append(f"{tab}{{\n" + ",\n".join(told) + f"\n{tab}}}")
    return "[\n" + ",\n".join(rows) + "\n]"


def json_line(records: Records, style: Style) -> str:
    rows = (
        f"{json.dumps(one.id)}: {{{', '.join(f'{json.dumps(name)}: {_json(value)}' for name, value in one.values)}}}"
        for one in records
    )
    return "{" + ", ".join(rows) + "}"


def _yaml(value: str) -> str:
    return value if _is_number(value) or value.isalpha() else json.dumps(value, ensure_ascii=False)


def yaml_mapping(records: Records, style: Style) -> str:
    lines = ["goods:"]
    for one in records:
        lines += [f"  # {one.comment}"] * bool(one.comment)
        lines += [f"  {one.id}:", *(f"    {name}: {_yaml(value)}" for name, value in one.values)]
    return "\n".join(lines)


def yaml_list(records: Records, style: Style) -> str:
    lines = []
    for one in records:
        lines += [f"# {one.comment}"] * bool(one.comment)
        lines += [f"- id: {one.id}", *(f"  {name}: {_yaml(value)}" for name, value in one.values)]
    return "\n".join(lines)


def toml_tables(records: Records, style: Style) -> str:
    parts = []
    for one in records:
        lines = [f"# {one.comment}"] * bool(one.comment)
        lines += [f"[{one.id}]", *(f"{name} = {_json(value)}" for name, value in one.values)]
        parts.append("\n".join(lines))
    return "\n\n".join(parts)


def ini_sections(records: Records, style: Style) -> str:
    parts = []
    for one in records:
        lines = [f"; {one.comment}"] * bool(one.comment)
        parts.append("\n".join([*lines, f"[{one.id}]", *(f"{name} = {value}" for name, value in one.values)]))
    return "\n\n".join(parts)


def properties(records: Records, style: Style) -> str:
    lines = []
    for one in records:
        lines += [f"# {one.comment}"] * bool(one.comment)
        lines += [f"{one.id}.{name}={value}" for name, value in one.values]
    return "\n".join(lines)


def launch_script(records: Records, style: Style) -> str:
    """Words are variables, numbers arguments of one long line."""
    variables, arguments = [], []
    for one in records:
        for name, value in one.values:
            if _is_number(value):
                arguments.append(f"--{one.id}-{name} {value}")
            else:
                variables.append(f"{one.id.replace('-', '_')}_{name}='{value}'".replace("5 o'clock", "5 oclock"))
    return "\n".join(["#!/bin/sh", *variables, f"exec ./engine {' '.join(arguments)}", "# the end"])


FORMATS: dict[str, tuple[str, Callable[[Records, Style], str]]] = {
    "XML, values as children": ("stores.xml", xml_children),
    "XML, values as attributes": ("goods.xml", xml_attributes),
    "JSON, a list": ("stores.json", json_list),
    "JSON on one line": ("line.json", json_line),
    "YAML, a mapping": ("stores.yaml", yaml_mapping),
    "YAML, a list": ("goods.yml", yaml_list),
    "TOML": ("stores.toml", toml_tables),
    "INI": ("stores.ini", ini_sections),
    "properties": ("stores.properties", properties),
    "launch script": ("go.sh", launch_script),
}
WITHOUT_COMMENTS = ("JSON, a list", "JSON on one line", "launch script")
LISTS = ("XML, values as children", "XML, values as attributes", "JSON, a list", "YAML, a list")
"""Formats whose records have an order of their own, which the vendor's moves are followed in."""
STEADY = ("launch script",)
"""Formats whose records neither come nor go here: only values change."""

STYLES = (
    Style(),
    Style(indent="\t"),
    Style(indent="    ", newline="\r\n"),
    Style(bom=True),
    Style(ends=False),
    Style(newline="\r\n", ends=False, bom=True),
)


# --- making up -------------------------------------------------------------------


def _value(chance: random.Random, name: str) -> str:
    if name == "kind":
        return chance.choice(KINDS)
    if name == "note":
        return chance.choice(WORDS)
    return str(chance.randrange(1, 900)) if name != "share" else f"{chance.randrange(1, 99)}.{chance.randrange(1, 10)}"


def _other(chance: random.Random, name: str, *taken: str) -> str:
    return next(value for value in iter(lambda: _value(chance, name), None) if value not in taken)


def _record(chance: random.Random, name: str) -> Record:
    return Record(name, tuple((each, _value(chance, each)) for each in FIELDS))


def _changed(
    chance: random.Random, records: Records, edits: Iterable[tuple[str, str]], *, apart_from: Sequence[Records] = ()
) -> Records:
    """The records with other values at ``edits``, none of them what another version has there."""
    by_id = {one.id: one for one in records}
    for ident, name in edits:
        taken = [other[name] for version in (records, *apart_from) for other in version if other.id == ident]
        by_id[ident] = by_id[ident].having(name, _other(chance, name, *taken))
    return tuple(by_id[one.id] for one in records)


def _grown(records: Records, added: Iterable[tuple[int, Record]]) -> Records:
    """The records with others behind some places, told from the last place on."""
    found = list(records)
    for at, one in sorted(added, key=lambda item: -item[0]):
        found.insert(at, one)
    return tuple(found)


def true_merge(old: Records, mine: Records, new: Records) -> Records:
    """What must come out of a case without overlaps: the admin's order, the vendor's changes, neither's undone."""
    was, theirs = ({one.id: one for one in version} for version in (old, new))
    kept = []
    for one in mine:
        if one.id in theirs:
            before, after = was.get(one.id, one), theirs[one.id]
            values = tuple((name, value if value != before[name] else after[name]) for name, value in one.values)
            kept.append(replace(one, values=values))
        elif one.id not in was:
            kept.append(one)
    for at, one in enumerate(new):
        if one.id in was or any(other.id == one.id for other in kept):
            continue
        before = next((other.id for other in reversed(new[:at]) if any(here.id == other.id for here in kept)), None)
        place = next((i + 1 for i, here in enumerate(kept) if here.id == before), 0)
        kept.insert(place, one)
    return tuple(kept)


def case(kind: str, format_name: str, seed: int) -> Case:
    """One case. ``kind``: see :data:`KINDS_OF_CASE`."""
    chance = random.Random(f"{kind} {format_name} {seed}")
    old = tuple(_record(chance, f"{chance.choice(KINDS)}-{at}") for at in range(chance.randrange(6, 16)))
    style = chance.choice(STYLES)
    mine, new = MAKERS[kind](chance, old, format_name)
    path, write = FORMATS[format_name]
    asked: frozenset[tuple[str, str]] = frozenset()
    if kind == "one value, two minds":
        spot = chance.choice(old)
        name = chance.choice(FIELDS[1:3])
        mine = _changed(chance, mine, [(spot.id, name)])
        new = _changed(chance, new, [(spot.id, name)], apart_from=(mine, old))
        expected = true_merge(old, mine, new)
        asked = frozenset({(spot.id, name)})
    else:
        expected = true_merge(old, mine, new)
        if kind == "records move":
            places = {one.id: at for at, one in enumerate(new)}
            expected = tuple(sorted(expected, key=lambda one: places[one.id]))
    if kind == "the admin's file was saved anew":
        mine_style = replace(
            style, indent="\t" if style.indent != "\t" else "   ", newline="\r\n" if style.newline == "\n" else "\n"
        )
    else:
        mine_style = style
    return Case(
        kind,
        path,
        style.bytes(write(old, style)),
        mine_style.bytes(write(mine, mine_style)),
        style.bytes(write(new, style)),
        mine_style.bytes(write(expected, mine_style)),
        asked,
    )


Made = tuple[Records, Records]


def _spots(chance: random.Random, old: Records, count: int) -> list[tuple[str, str]]:
    every = [(one.id, name) for one in old for name in FIELDS]
    return chance.sample(every, count)


def _values_apart(chance: random.Random, old: Records, format_name: str) -> Made:
    """Values of different fields, often of one record."""
    spots = _spots(chance, old, min(8, 2 * len(old)))
    spots += [
        (ident, name) for ident, name in ((spots[0][0], "afloat"), (spots[0][0], "worth")) if (ident, name) not in spots
    ]
    half = len(spots) // 2
    return _changed(chance, old, spots[:half]), _changed(chance, old, spots[half:])


def _records_come(chance: random.Random, old: Records, format_name: str) -> Made:
    mine, new = _values_apart(chance, old, format_name)
    if format_name in STEADY:
        return mine, new
    places = chance.sample(range(1, len(old) + 1), 4)
    return (
        _grown(mine, ((at, _record(chance, f"own-{at}")) for at in places[:2])),
        _grown(new, ((at, _record(chance, f"fresh-{at}")) for at in places[2:])),
    )


def _records_go(chance: random.Random, old: Records, format_name: str) -> Made:
    if format_name in STEADY:
        return _values_apart(chance, old, format_name)
    gone = chance.sample([one.id for one in old], 3)
    stays = tuple(one for one in old if one.id not in gone)
    mine, new = _values_apart(chance, stays, format_name)
    by_mine, by_new = ({one.id: one for one in version} for version in (mine, new))
    return (
        tuple(by_mine.get(one.id, one) for one in old if one.id != gone[0]),
        tuple(by_new.get(one.id, one) for one in old if one.id not in gone[1:]),
    )


def _with_comments(chance: random.Random, old: Records, format_name: str) -> Made:
    mine, new = _records_come(chance, old, format_name)
    if format_name in WITHOUT_COMMENTS:
        return mine, new
    told = chance.sample([one.id for one in old], 3)
    return tuple(replace(one, comment=f"ours: {one.id}") if one.id in told else one for one in mine), new


def _records_move(chance: random.Random, old: Records, format_name: str) -> Made:
    """The vendor moves two records of a list; the admin changes values, of these too."""
    mine, new = _values_apart(chance, old, format_name)
    if format_name not in LISTS:
        return mine, new
    order = list(new)
    for one in chance.sample(order, 2):
        order.remove(one)
        order.insert(chance.randrange(len(order) + 1), one)
    moved = order[0]
    return _changed(chance, mine, [(moved.id, "note")] if moved["note"] == _of(old, moved.id)["note"] else []), tuple(
        order
    )


def _of(records: Records, ident: str) -> Record:
    return next(one for one in records if one.id == ident)


MAKERS: dict[str, Callable[[random.Random, Records, str], Made]] = {
    "different values": _values_apart,
    "records come": _records_come,
    "records go": _records_go,
    "records move": _records_move,
    "own comments": _with_comments,
    "the admin's file was saved anew": _values_apart,
    "one value, two minds": _values_apart,
}
KINDS_OF_CASE = tuple(MAKERS)
