"""What a merge of two hand-edited releases should give, found by other means than the product's.

Nothing of ``src/`` is used: ordinary parsers (expat, json, PyYAML, tomllib, configparser) make trees of facts, and a fact-wise
merge of three such trees tells the true result and the true questions. Records of a list are recognised by keys that were
declared by hand, by looking at each file (``real_files.PAIRS``).
"""

from __future__ import annotations

import configparser
import json
import re
import tomllib
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from json.decoder import scanstring
from typing import Any
from xml.parsers import expat

import yaml

Span = tuple[int, int]
ROOT = "$"
MEMBER = "[]"
Keys = Mapping[str, str]
"""By the end of a path of names, with ``/``: the fields that tell records apart, with a space between; ``.`` is its text.
``renamed:NEW`` tells what a value of such a field was before."""


@dataclass(eq=False)
class Fact:
    """A value, a mapping or a list. ``span``: all of it in the text; ``at``: its raw value; ``bare``: no text, but a number
    or a word of the format's own; ``lone``: of a merged one, which side each child comes from that the other one does not have."""

    name: str
    kind: str
    value: str = ""
    children: list[Fact] = field(default_factory=list)
    span: Span | None = None
    at: Span | None = None
    bare: bool = False
    lone: tuple[str, ...] = ()

    @cached_property
    def said(self) -> object:
        """What it says, comparable; the order of named things does not count."""
        if self.kind == "value":
            return self.value
        inside = [(child.name, child.said) for child in self.children]
        if self.kind == "map":
            return ("map", tuple(sorted(inside, key=repr)))
        named = sorted((pair for pair in inside if pair[0].startswith("@")), key=repr)
        return (self.kind, tuple(named), tuple(pair for pair in inside if not pair[0].startswith("@")))

    def child(self, name: str) -> Fact | None:
        """The first one inside of that name."""
        return next((child for child in self.children if child.name == name), None)

    def walk(self, path: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Fact, Fact]]:
        """Everything inside with the path to it and what it stands in."""
        for child in self.children:
            below = (*path, child.name)
            yield below, child, self
            yield from child.walk(below)


# --- reading ------------------------------------------------------------------


def _plain(text: str) -> str:
    """A value without white space around it, whatever its line ends."""
    return text.replace("\r\n", "\n").strip()


def read(text: str, form: str) -> Fact:
    """The facts of a text. Those of the last few are kept; nobody changes them but where tables are pruned."""
    return _READERS[form](text.removeprefix("\ufeff")) if form == "toml" else _read_once(text, form)


@lru_cache(maxsize=4)
def _read_once(text: str, form: str) -> Fact:
    return _READERS[form](text.removeprefix("\ufeff"))


_ATTRIBUTE = re.compile(r"""([^\s=<>"'/]+)\s*=\s*("[^"]*"|'[^']*')""")


def _xml(text: str) -> Fact:
    data = text.encode("utf-8")
    parser = expat.ParserCreate("utf-8")
    parser.buffer_text = True
    top = Fact("", "map")
    stack, texts = [top], [[""]]
    byte_at = _offsets(text, data)

    def start(name: str, attributes: dict[str, str]) -> None:
        begin = byte_at(parser.CurrentByteIndex)
        fact = Fact(name, "element", span=(begin, begin))
        raw = text[begin : _tag_end(text, begin)]
        spans = {found[1]: (begin + found.start(2) + 1, begin + found.end(2) - 1) for found in _ATTRIBUTE.finditer(raw)}
        fact.children = [
            Fact("@" + key, "value", _plain(value), at=spans.get(key)) for key, value in attributes.items()
        ]
        stack[-1].children.append(fact)
        stack.append(fact)
        texts.append([])

    def end(_: str) -> None:
        fact, said = stack.pop(), _plain("".join(texts.pop()))
        assert fact.span is not None
        at = byte_at(parser.CurrentByteIndex)
        first = _tag_end(text, fact.span[0])
        closed = text.startswith("</", at) and at >= first
        fact.span = (fact.span[0], text.index(">", at) + 1 if closed else first)
        if said and any(child.kind == "element" for child in fact.children):  # mixed with text: one value
            fact.children = [child for child in fact.children if child.kind != "element"]
            fact.children.append(Fact(".", "value", _plain(text[first:at])))
        elif said:
            plain = closed and not any(child.kind == "element" for child in fact.children) and "<" not in text[first:at]
            fact.children.append(Fact(".", "value", said, at=(first, at) if plain else None))

    parser.StartElementHandler = start
    parser.EndElementHandler = end
    parser.CharacterDataHandler = lambda said: texts[-1].append(said)  # noqa: PLW0108 - the last one changes
    parser.Parse(re.sub(rb'(<\?xml[^>]*?)\s+encoding="[^"]*"', lambda m: m[0], data), True)
    return top


def _offsets(text: str, data: bytes) -> Any:
    """Offsets in characters from those in bytes, which only grow."""
    if len(text) == len(data):
        return lambda at: at
    at = [0, 0]

    def find(wanted: int) -> int:
        if wanted < at[0]:
            at[:] = [0, 0]
        at[1] += len(data[at[0] : wanted].decode())
        at[0] = wanted
        return at[1]

    return find


_TAG = re.compile(r"""(?:[^"'>]+|"[^"]*"|'[^']*')*>""")


def _tag_end(text: str, at: int) -> int:
    found = _TAG.match(text, at)
    assert found is not None, at
    return found.end()


_SPACE = re.compile(r"(?:\s|//[^\n]*|/\*.*?\*/)*", re.DOTALL)
_ATOM = re.compile(r"[^\s,\]}/]+")


def _json(text: str) -> Fact:
    top, at = _json_value(text, _skipped(text, 0), ROOT)
    assert _skipped(text, at) == len(text), at
    return Fact("", "map", children=[top])


def _skipped(text: str, at: int) -> int:
    found = _SPACE.match(text, at)
    return found.end() if found else at


def _json_value(text: str, at: int, name: str) -> tuple[Fact, int]:
    begin = at
    if text[at] not in "{[":
        if text[at] == '"':
            value, end = scanstring(text, at + 1)
        else:
            atom = _ATOM.match(text, at)
            assert atom is not None, at
            value, end = json.dumps(json.loads(atom[0])), atom.end()
        found = Fact(name, "value", _plain(value), span=(begin, end), at=(begin, end), bare=text[begin] != '"')
        return found, end
    closing = "}" if text[at] == "{" else "]"
    fact = Fact(name, "map" if closing == "}" else "list")
    at = _skipped(text, at + 1)
    while text[at] != closing:
        key, start = MEMBER, at
        if closing == "}":
            key, at = scanstring(text, at + 1)
            at = _skipped(text, _skipped(text, at) + 1)
        child, at = _json_value(text, at, key)
        child.span = (start, at)
        fact.children.append(child)
        at = _skipped(text, at)
        at = _skipped(text, at + 1) if text[at] == "," else at
    fact.span = (begin, at + 1)
    return fact, at + 1


class _Loader(yaml.CSafeLoader):
    """Texts of YAML 1.1, without dates and words for true that people do not mean."""


class _ByName(yaml.SafeLoader):
    """The same; an alias says the name of what it stands for, which is told where it is written."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        if not self.check_event(yaml.AliasEvent) or self.peek_event().anchor not in self.anchors:
            return super().compose_node(parent, index)
        event = self.get_event()
        return yaml.ScalarNode("tag:yaml.org,2002:str", f"*{event.anchor}", event.start_mark, event.end_mark)


def _yaml(text: str) -> Fact:
    loader = _ByName if re.search(r"[\s\[,]\*\w", text) else _Loader
    found = [_yaml_fact(node, ROOT) for node in yaml.compose_all(text, Loader=loader)]
    return Fact("", "list" if len(found) > 1 else "map", children=found)


def _yaml_fact(node: Any, name: str) -> Fact:
    span = (node.start_mark.index, node.end_mark.index)
    if isinstance(node, yaml.MappingNode):
        children = []
        for key, value in node.value:
            child = _yaml_fact(value, key.value if isinstance(key, yaml.ScalarNode) else repr(key))
            child.span = (key.start_mark.index, value.end_mark.index)
            children.append(child)
        return Fact(name, "map", children=children, span=span)
    if isinstance(node, yaml.SequenceNode):
        return Fact(name, "list", children=[_yaml_fact(value, MEMBER) for value in node.value], span=span)
    at = span if node.style not in ("|", ">") else None
    return Fact(name, "value", _plain(node.value), span=span, at=at, bare=not node.tag.endswith(":str"))


_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_PAIR = re.compile(r"""^(\s*)((?:[\w-]+|"[^"]*")(?:\.(?:[\w-]+|"[^"]*"))*)\s*=\s*(.*)$""")


def _toml(text: str) -> Fact:
    top = _from_data(ROOT, tomllib.loads(text.replace("\r\n", "\n")))
    _toml_spans(text, top)
    return Fact("", "map", children=[top])


def _from_data(name: str, data: Any) -> Fact:
    if isinstance(data, dict):
        return Fact(name, "map", children=[_from_data(str(key), value) for key, value in data.items()])
    if isinstance(data, list):
        return Fact(name, "list", children=[_from_data(MEMBER, value) for value in data])
    text = isinstance(data, str)
    return Fact(name, "value", _plain(data if text else json.dumps(data, default=str)), bare=not text)


def _toml_spans(text: str, top: Fact) -> None:
    """Where tables, entries and plain values stand, for files written with headers."""
    here: Fact | None = top
    counts: Counter[str] = Counter()
    opened: Fact | None = None
    at = 0
    for line in text.splitlines(keepends=True):
        begin, at = at, at + len(line)
        if found := _HEADER.match(line):
            here = top
            for part in found[2].split("."):
                here = here.child(part.strip().strip('"')) if here else None
            if here is not None and found[1] == "[[":
                here.kind = "list"
                number = counts[found[2]]
                counts[found[2]] += 1
                here = here.children[number]
                here.span = (begin, begin)
                opened = here
            else:
                opened = here if here is not None and here.span is None else None
                if here is not None:
                    here.span = (begin, begin)
        elif here is not None and (found := _PAIR.match(line.rstrip("\r\n"))) and "." not in found[2]:
            child = here.child(found[2].strip('"'))
            raw = found[3].split(" #")[0].rstrip()
            if child is not None and child.kind == "value" and child.span is None and raw[:3] not in ('"""', "'''"):
                start = begin + found.start(3)
                child.span = (begin + len(found[1]), start + len(raw))
                child.at = (start, start + len(raw))
        if opened is not None and opened.span is not None and line.strip() and not line.lstrip().startswith("#"):
            opened.span = (opened.span[0], begin + len(line.rstrip("\r\n")))


def _ini(text: str) -> Fact:
    parser = configparser.RawConfigParser(
        allow_no_value=True,
        strict=False,
        comment_prefixes=("#", ";"),
        inline_comment_prefixes=None,
        delimiters=("=", ":"),
    )
    parser.optionxform = lambda name: name  # type: ignore[assignment, method-assign]
    parser.read_string(text.replace("\r\n", "\n"))
    top = Fact(ROOT, "map")
    for section in parser.sections():
        pairs = [Fact(key, "value", _plain(value or "")) for key, value in parser.items(section)]
        top.children.append(Fact(section, "map", children=pairs))
    _line_spans(text, top, re.compile(r"^([^\s=:#;\[][^=:]*?)\s*[=:]\s*(.*)$"))
    return Fact("", "map", children=[top])


_PROPERTY = re.compile(r"^\s*((?:[^\s=:#!\\]|\\.)(?:[^\s=:\\]|\\.)*)\s*[=:\s]\s*(.*)$")


def _properties(text: str) -> Fact:
    """Key and value a line, as the format's standard says: a backslash at a line's end goes on."""
    top = Fact(ROOT, "map")
    for line in re.sub(r"(?<!\\)((?:\\\\)*)\\\r?\n[ \t]*", r"\1", text).splitlines():
        if found := _PROPERTY.match(line):
            key, value = found[1], found[2]
            for other in [child for child in top.children if child.name == key]:
                top.children.remove(other)
            top.children.append(Fact(key, "value", _plain(value)))
    _line_spans(text, top, re.compile(r"^([^\s=:#!\\][^\s=:\\]*)\s*[=:]\s*(.*)$"))
    return Fact("", "map", children=[top])


def _line_spans(text: str, top: Fact, pair: re.Pattern[str]) -> None:
    here: Fact | None = top
    at = 0
    lines = text.splitlines(keepends=True)
    for number, line in enumerate(lines):
        begin, at = at, at + len(line)
        bare = line.rstrip("\r\n")
        if bare.startswith("["):
            here = top.child(bare[1 : bare.find("]")])
        following = lines[number + 1] if number + 1 < len(lines) else ""
        goes_on = bare.endswith("\\") or (following[:1] in " \t" and following.strip() != "")
        if here is None or goes_on or not (found := pair.match(bare)) or not found[2]:
            continue
        child = here.child(found[1])
        if child is not None and child.value == _plain(found[2]):
            child.span = (begin, begin + len(bare))
            child.at = (begin + found.start(2), begin + len(bare))


_READERS = {"xml": _xml, "json": _json, "yaml": _yaml, "toml": _toml, "ini": _ini, "properties": _properties}


# --- merging ------------------------------------------------------------------


@dataclass(frozen=True)
class Asked:
    """A question that must be asked. Values are None where the side has none; "…" for a whole record."""

    path: str
    old: str | None
    mine: str | None
    new: str | None


@dataclass
class Truth:
    """The facts after a true merge, what is to be asked, and lists that both sides ordered anew."""

    result: Fact
    questions: list[Asked]
    reordered: list[str]


def true_merge(old: Fact, mine: Fact, new: Fact, keys: Keys) -> Truth:
    """Bring what the vendor changed into the admin's facts; where both changed a fact differently, the admin's stays."""
    truth = Truth(mine, [], [])
    truth.result = _merged(old, mine, new, (), keys, truth) or mine
    return truth


def _merged(
    old: Fact | None, mine: Fact | None, new: Fact | None, path: tuple[str, ...], keys: Keys, truth: Truth
) -> Fact | None:
    before, here, after = (None if side is None else side.said for side in (old, mine, new))
    if here in (before, after):
        return new if here == before else mine
    if after == before:
        return mine
    if mine is None or new is None or len({side.kind for side in (old, mine, new) if side is not None}) > 1:
        truth.questions.append(_asked(path, old, mine, new))
        return mine
    if len({_is_text(side) for side in (old, mine, new) if side is not None}) > 1:
        truth.questions.append(Asked("/".join(path), "…" if old else None, "…", "…"))
        return mine
    if mine.kind == "value" or (old is None and not mine.children):
        truth.questions.append(_asked(path, old, mine, new))
        return mine
    return _inside(old, mine, new, path, keys, truth)


def _is_text(side: Fact) -> bool:
    """Whether an element holds words alone: then it is no longer what it was with elements in it."""
    inside = {child.name for child in side.children if not child.name.startswith("@")}
    return side.kind == "element" and inside == {"."}


def _asked(path: Sequence[str], old: Fact | None, mine: Fact | None, new: Fact | None) -> Asked:
    shown = [None if side is None else _plainly(side) for side in (old, mine, new)]
    return Asked("/".join(path), *shown)


def _plainly(side: Fact) -> str:
    """A value; "…" for more than one."""
    if side.kind == "element" and [child.name for child in side.children] == ["."]:
        return side.children[0].value
    return side.value if side.kind == "value" else "…"


def _inside(old: Fact | None, mine: Fact, new: Fact, path: tuple[str, ...], keys: Keys, truth: Truth) -> Fact:
    sides = [old or Fact("", mine.kind), mine, new]
    if mine.kind == "list" and _numbers(sides):
        truth.questions.append(_asked(path, old, mine, new))
        return mine
    named = named_alike(sides, path, keys)
    found: dict[object, Fact] = {}
    for key in dict.fromkeys([*named[1], *named[2], *named[0]]):
        three = [side.get(key) for side in named]
        name = next(fact.name for fact in three if fact is not None)
        merged = _merged(*three, (*path, name), keys, truth)
        if merged is not None:
            found[key] = merged
    order = [list(side) for side in named]
    put = list(found)
    if mine.kind != "map":
        put = _put_in_order(order, list(found), "/".join(path), truth)
    lone = ["" if (key in named[1]) == (key in named[2]) else "12"[key in named[2]] for key in put]
    return Fact(mine.name, mine.kind, children=[found[key] for key in put], lone=tuple(lone))


def _numbers(sides: Sequence[Fact]) -> bool:
    """Whether a list is one value, as a position or a colour is."""
    every = [child for side in sides for child in side.children]
    plain = all(child.kind == "value" for child in every)
    return plain and any(child.bare for child in every)


def _put_in_order(order: Sequence[list[object]], put: list[object], path: str, truth: Truth) -> list[object]:
    """The records in the order of whoever changed it: others behind what they stood behind."""
    old, mine, new = order
    admins = _changed_order(old, mine)
    vendors = _changed_order(old, new)
    if admins and vendors and [k for k in mine if k in set(new)] != [k for k in new if k in set(mine)]:
        truth.reordered.append(path)
    lead, other = (mine, new) if admins else (new, mine)
    kept = set(put)
    result = [key for key in lead if key in kept]
    for at, key in enumerate(other):
        if key in kept and key not in lead:
            before = next((k for k in reversed(other[:at]) if k in result), None)
            result.insert(0 if before is None else result.index(before) + 1, key)
    return result


def _changed_order(old: Sequence[object], side: Sequence[object]) -> bool:
    here, there = set(side), set(old)
    return [key for key in old if key in here] != [key for key in side if key in there]


def keyed(side: Fact, sides: Sequence[Fact], path: tuple[str, ...], keys: Keys) -> dict[object, Fact]:
    """What stands inside by a key that is the same on every side."""
    if side.kind == "list" and _numbers(sides):
        return dict(enumerate(side.children))
    seen: Counter[object] = Counter()
    found: dict[object, Fact] = {}
    repeated = _repeated(sides)
    for child in side.children:
        key = _key(child, (*path, child.name), keys, child.name in repeated or side.kind == "list")
        seen[key] += 1
        found[key, seen[key]] = child
    return found


def named_alike(sides: Sequence[Fact], path: tuple[str, ...], keys: Keys) -> list[dict[object, Fact]]:
    """What stands inside of each side by key; doubles have the key of the one of the first side they share most with."""
    first, *rest = [keyed(side, sides, path, keys) for side in sides]
    groups: dict[object, list[object]] = defaultdict(list)
    for key in first:
        groups[_group(key)].append(key)
    return [first, *(_as_first(side, first, groups) for side in rest)]


def _as_first(
    side: dict[object, Fact], first: dict[object, Fact], groups: Mapping[object, list[object]]
) -> dict[object, Fact]:
    members: dict[object, list[Fact]] = defaultdict(list)
    for key, fact in side.items():
        members[_group(key)].append(fact)
    found: dict[int, object] = {}
    for group, facts in members.items():
        there = groups.get(group, [])
        if len(facts) == len(there) == 1:
            found[id(facts[0])] = there[0]
            continue
        if len(facts) * len(there) > 10_000:
            raise ValueError(f"{len(facts)} records cannot be told apart by {group}: declare a better key")
        pairs = sorted(
            (-_shared(first[key], fact), a, b) for a, key in enumerate(there) for b, fact in enumerate(facts)
        )
        taken: set[object] = set()
        for _, a, b in pairs:
            if there[a] not in taken and id(facts[b]) not in found:
                found[id(facts[b])] = there[a]
                taken.add(there[a])
        free = ((group, "more", number) for number in range(1 << 30))
        for fact in facts:
            found.setdefault(id(fact), next(free))
    return {found[id(fact)]: fact for fact in side.values()}


def _shared(left: Fact, right: Fact) -> float:
    """How many facts two records share; all of them is more than any number."""
    if left.said == right.said:
        return 1e9
    return sum(
        (Counter((c.name, c.said) for c in left.children) & Counter((c.name, c.said) for c in right.children)).values()
    )


def _group(key: object) -> object:
    return key[0] if isinstance(key, tuple) else ("at", key)


def _repeated(sides: Sequence[Fact]) -> set[str]:
    found = set()
    for side in sides:
        counts = Counter(child.name for child in side.children)
        found |= {name for name, count in counts.items() if count > 1}
    return found


def _key(child: Fact, path: tuple[str, ...], keys: Keys, repeats: bool) -> object:
    if not repeats:
        return child.name
    if child.kind == "value":
        return (child.name, child.value)
    declared = _declared("/".join(path), keys)
    if declared is None:
        return (child.name, child.said)
    values = (value_of(child, name) for name in declared.split())
    return (child.name, *(keys.get("renamed:" + value, value) for value in values))


def _declared(path: str, keys: Keys) -> str | None:
    for end, names in keys.items():
        if path == end or path.endswith("/" + end):
            return names
    return None


def value_of(fact: Fact, name: str) -> str:
    """The value of a field of a record, "" where it has none; ``a/b`` goes deeper."""
    here: Fact | None = fact
    for part in name.split("/"):
        here = here.child(part) if here is not None else None
    if here is None:
        return ""
    if here.kind == "value":
        return here.value
    text = here.child(".")
    return text.value if text is not None else repr(here.said)


def differences(left: Fact, right: Fact, keys: Keys, path: tuple[str, ...] = ()) -> list[str]:
    """Where two trees of facts differ, in words; order counts within lists and elements."""
    if left.said == right.said:
        return []
    if left.kind != right.kind or left.kind == "value":
        return [f"{'/'.join(path)}: {left.value or left.kind!r} is not {right.value or right.kind!r}"]
    sides = named_alike((left, right), path, keys)
    found = []
    for key in dict.fromkeys([*sides[0], *sides[1]]):
        one, other = sides[0].get(key), sides[1].get(key)
        if one is None or other is None:
            found.append(f"{'/'.join(path)}: {key!r:.120} is {'lacking' if other is None else 'too much'}")
        else:
            found += differences(one, other, keys, (*path, one.name))
    orders = [[key for key, child in side.items() if not child.name.startswith("@")] for side in sides]
    if not found and left.kind != "map" and orders[0] != orders[1] and not _only_interleaved(left, *map(list, sides)):
        found.append(f"{'/'.join(path)}: another order")
    return found


def _only_interleaved(truth: Fact, wanted: Sequence[object], got: Sequence[object]) -> bool:
    """Whether each side's records stand in that side's order. What both sides put in one place may come in either."""
    sides = dict(zip(wanted, truth.lone, strict=True)) if truth.lone else {}
    return bool(sides) and all(
        [key for key in wanted if sides[key] != left_out] == [key for key in got if sides[key] != left_out]
        for left_out in "12"
    )


def without_empty(top: Fact) -> None:
    """Take mappings that hold nothing out of what they stand in."""
    for child in top.children:
        without_empty(child)
    top.children = [child for child in top.children if child.kind != "map" or child.children]
    top.__dict__.pop("said", None)
