"""Random but lifelike records, edits to them, and their rendering in each format: what the merge laws are tested on.

The model is apart from the product's own, so that it can be an oracle: a tree of records with attributes, plain values,
records inside and a comment in front.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from random import Random
from xml.sax.saxutils import escape, quoteattr

from hypothesis import strategies as st


@dataclass(frozen=True)
class Rec:
    """A record. ``values``: child elements with text; ``inside``: records inside; ``note``: the comment in front."""

    tag: str
    id: str
    attributes: tuple[tuple[str, str], ...] = ()
    values: tuple[tuple[str, str], ...] = ()
    inside: tuple[Rec, ...] = ()
    note: str = ""


@dataclass(frozen=True)
class Style:
    """How a file is written."""

    indent: str = "    "
    newline: str = "\n"
    bom: bool = False
    final: bool = True
    quote: str = '"'


NAMES = ["kelp", "lamp-oil", "rope", "tar", "ålesund"]
TEXTS = ["0", "7", "10.50", "-3", "on", "a & b", "x < y", 'said "so"', "it's", "§ 4 — ünïcode"]
NOTES = ["", "", "", "raised in May", "== food =="]
texts = st.sampled_from(TEXTS)


def _record(some: Random, depth: int, tag: str = "good") -> Rec:
    attributes = {name: some.choice(TEXTS) for name in some.sample(["every", "lasts", "from"], some.randrange(3))}
    values = {name: some.choice(TEXTS) for name in some.sample(["afloat", "worth", "least", "kind"], some.randrange(4))}
    inside = _records(some, depth - 1, "part", 2) if depth else ()
    note = some.choice(NOTES)
    return Rec(tag, some.choice(NAMES), tuple(attributes.items()), tuple(values.items()), inside, note)


def _records(some: Random, depth: int, tag: str, most: int) -> tuple[Rec, ...]:
    found: dict[str, Rec] = {}
    for _ in range(some.randrange(most + 1)):
        record = _record(some, depth, tag)
        found.setdefault(record.id, record)
    return tuple(found.values())


@st.composite
def record_lists(draw: st.DrawFn, depth: int = 1, tag: str = "good", most: int = 4) -> tuple[Rec, ...]:
    """Sibling records, each id once. Drawn from one seeded source: far quicker than draw by draw, and small anyway."""
    return _records(draw(st.randoms(use_true_random=False)), depth, tag, most)


styles = st.builds(
    Style,
    indent=st.sampled_from(["    ", "  ", "\t"]),
    newline=st.sampled_from(["\n", "\r\n"]),
    bom=st.booleans(),
    final=st.booleans(),
    quote=st.sampled_from(['"', "'"]),
)


def as_xml(recs: tuple[Rec, ...], style: Style = Style()) -> bytes:
    lines = ['<?xml version="1.0" encoding="UTF-8"?>', "<!-- made for a test -->", "<stores>"]
    for rec in recs:
        lines += _xml_lines(rec, style, 1)
    text = style.newline.join([*lines, "</stores>"]) + (style.newline if style.final else "")
    return (("\ufeff" if style.bom else "") + text).encode()


def _xml_lines(rec: Rec, style: Style, depth: int) -> list[str]:
    pad = style.indent * depth
    lines = [f"{pad}<!-- {rec.note} -->"] if rec.note else []
    attributes = "".join(f" {name}={_quoted(value, style)}" for name, value in (("id", rec.id), *rec.attributes))
    lines.append(f"{pad}<{rec.tag}{attributes}>")
    lines += [f"{pad}{style.indent}<{name}>{escape(value)}</{name}>" for name, value in rec.values]
    for inner in rec.inside:
        lines += _xml_lines(inner, style, depth + 1)
    return [*lines, f"{pad}</{rec.tag}>"]


def _quoted(value: str, style: Style) -> str:
    return quoteattr(value) if style.quote == '"' else "'" + escape(value, {"'": "&apos;"}) + "'"


def as_json(recs: tuple[Rec, ...], style: Style = Style()) -> bytes:
    """Records as objects in a list, with line comments in front."""
    lines = ["{", f'{style.indent}"stores": [']
    lines += _json_lines(recs, style, 2)
    text = style.newline.join([*lines, f"{style.indent}]", "}"]) + (style.newline if style.final else "")
    return (("\ufeff" if style.bom else "") + text).encode()


def _json_lines(recs: tuple[Rec, ...], style: Style, depth: int) -> list[str]:
    pad, lines = style.indent * depth, []
    for at, rec in enumerate(recs):
        members = [
            f'"{name}": {json.dumps(value, ensure_ascii=False)}' for name, value in (("id", rec.id), *rec.values)
        ]
        lines += [f"{pad}// {rec.note}"] if rec.note else []
        lines.append(pad + "{")
        inner = [[f"{pad}{style.indent}{member}"] for member in members]
        if rec.inside:
            inner.append(
                [f'{pad}{style.indent}"parts": [', *_json_lines(rec.inside, style, depth + 2), f"{pad}{style.indent}]"]
            )
        for number, block in enumerate(inner):
            lines += [*block[:-1], block[-1] + ("," if number < len(inner) - 1 else "")]
        lines.append(pad + "}" + ("," if at < len(recs) - 1 else ""))
    return lines


def as_ini(recs: tuple[Rec, ...], style: Style = Style()) -> bytes:
    """Records as sections with their plain values as keys."""
    lines: list[str] = []
    for rec in recs:
        lines += [f"; {rec.note}"] if rec.note else []
        lines += [f"[{rec.id}]", *(f"{name} = {value}" for name, value in rec.values), ""]
    text = style.newline.join(lines)
    return (("\ufeff" if style.bom else "") + (text if style.final else text.rstrip("\r\n"))).encode()


def as_properties(recs: tuple[Rec, ...], style: Style = Style()) -> bytes:
    """Plain values as ``record.name=value``, comments in front."""
    lines: list[str] = []
    for rec in recs:
        lines += [f"# {rec.note}"] if rec.note and rec.values else []
        lines += [f"{rec.id}.{name}={value}" for name, value in rec.values]
    text = style.newline.join([*lines, ""])
    return (("\ufeff" if style.bom else "") + (text if style.final else text.rstrip("\r\n"))).encode()


def as_yaml(recs: tuple[Rec, ...], style: Style = Style()) -> bytes:
    """Records as mappings in a block sequence; those inside in one line each, in flow style."""
    step = style.indent.replace("\t", "   ")
    lines = ["# made for a test", "stores:" + ("" if recs else " []")]
    for rec in recs:
        lines += [f"{step}# {rec.note}"] if rec.note else []
        members = [f"{name}: {_yaml(value, style)}" for name, value in (("id", rec.id), *rec.values)]
        if rec.inside:
            inner = (
                "{" + ", ".join(f"{k}: {_yaml(v, style)}" for k, v in (("id", one.id), *one.values)) + "}"
                for one in rec.inside
            )
            members.append(f"parts: [{', '.join(inner)}]")
        lines += [f"{step}{'- ' if not at else '  '}{member}" for at, member in enumerate(members)]
    text = style.newline.join(lines) + (style.newline if style.final else "")
    return (("\ufeff" if style.bom else "") + text).encode()


def _yaml(value: str, style: Style) -> str:
    return json.dumps(value, ensure_ascii=False) if style.quote == '"' else "'" + value.replace("'", "''") + "'"


def as_toml(recs: tuple[Rec, ...], style: Style = Style()) -> bytes:
    """Records as an array of tables, those inside as inline tables in an array."""
    lines = ["# made for a test", 'title = "stores"', ""]
    for rec in recs:
        lines += [f"# {rec.note}"] if rec.note else []
        lines += ["[[good]]", *(f"{name} = {_toml(value, style)}" for name, value in (("id", rec.id), *rec.values))]
        if rec.inside:
            inner = (
                "{ " + ", ".join(f"{k} = {_toml(v, style)}" for k, v in (("id", one.id), *one.values)) + " }"
                for one in rec.inside
            )
            lines.append(f"parts = [{', '.join(inner)}]")
        lines.append("")
    text = style.newline.join(lines)
    return (("\ufeff" if style.bom else "") + (text if style.final else text.rstrip("\r\n"))).encode()


def _toml(value: str, style: Style) -> str:
    return f"'{value}'" if style.quote == "'" and "'" not in value else json.dumps(value, ensure_ascii=False)


def facts(recs: tuple[Rec, ...], *, inside: bool = True, attributes: bool = True) -> set[tuple[str, ...]]:
    """What records say, without order and comments; the oracle's view."""
    found: set[tuple[str, ...]] = set()

    def walk(rec: Rec, path: tuple[str, ...]) -> None:
        here = (*path, rec.id)
        found.add(here)
        found.update((*here, "=", name, value) for name, value in rec.values)
        if attributes:
            found.update((*here, "@", name, value) for name, value in rec.attributes)
        for inner in rec.inside if inside else ():
            walk(inner, here)

    for rec in recs:
        walk(rec, ())
    return found


# --- edits -------------------------------------------------------------------

Edit = Callable[[tuple[Rec, ...]], tuple[Rec, ...]]


@dataclass(frozen=True)
class Edits:
    """Two sides' edits that touch different things, and what must come of them together."""

    old: tuple[Rec, ...]
    mine: tuple[Rec, ...]
    new: tuple[Rec, ...]
    both: tuple[Rec, ...]
    touched: int = field(default=0)


@st.composite
def disjoint_edits(draw: st.DrawFn, depth: int = 1) -> Edits:
    """Each value, attribute or record of ``old`` is edited by one side at most; records that are dropped are otherwise
    left alone by both; each side adds records of its own."""
    old = draw(record_lists(depth))
    mine, new, both = [], [], []
    for rec in old:
        side = draw(st.sampled_from(["none", "values", "values", "drop-mine", "drop-new"]))
        if side == "drop-mine":
            new.append(rec)
        elif side == "drop-new":
            mine.append(rec)
        else:
            edited = _edited(draw, rec) if side == "values" else (rec, rec, rec)
            mine.append(edited[0])
            new.append(edited[1])
            both.append(edited[2])
    for side, added in ((mine, "own-"), (new, "new-")):
        for rec in draw(record_lists(0, "good", 2)):
            fresh = replace(rec, id=added + rec.id)
            side.insert(draw(st.integers(0, len(side))), fresh)
            both.append(fresh)
    return Edits(old, tuple(mine), tuple(new), tuple(both))


def _edited(draw: st.DrawFn, rec: Rec) -> tuple[Rec, Rec, Rec]:
    """The record as mine, as new, and with both sides' changes."""
    sides = {"mine": dict(rec.values), "new": dict(rec.values), "both": dict(rec.values)}
    for name in ("afloat", "worth", "least", "kind"):
        who = draw(st.sampled_from(["", "", "mine", "new"]))
        if not who:
            continue
        value = draw(st.one_of(st.none(), texts))
        for side in (who, "both"):
            if value is None:
                sides[side].pop(name, None)
            else:
                sides[side][name] = value
    return tuple(replace(rec, values=tuple(sides[side].items())) for side in ("mine", "new", "both"))  # type: ignore[return-value]
