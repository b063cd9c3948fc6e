"""How a repeated record is recognised among its siblings, learned from the data.

A *rule* for a path of record names is the fields whose values identify a record: ``@id`` an attribute, ``name`` a
child element's text, ``.`` the record's own text; several together where one is not enough; none for anonymous
records. A field qualifies when every vendor's record has it (99 % of the admin's) and it is unique among siblings.
Values that look like names win over numbers, which only count where the field's name says that it identifies;
attributes win over children.
"""

from __future__ import annotations

import itertools
import json
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from emberkeep.documents.model import OWN, TOP, Document, Node, Role
from emberkeep.documents.values import unquoted

Path = tuple[str, ...]
Key = tuple[str, ...]
Rule = tuple[str, ...]
_ByName = dict[Node, dict[str, list[Node]]]
"""The items of records by what they are called."""

TEXT = "."
_IDENTIFYING = ("id", "name", "key", "code", "uid", "uuid", "guid", "class", "type", "ref", "identifier")
_CERTAIN = ("@id", "@key", "@uid", "@uuid", "@guid", "@code", "id", "key", "uid", "uuid", "guid", "code")
_MOST_PARENTS = 240
_MOST_LOOKED_AT = 300
_MAY_LACK = 0.01
_LONGEST_NAME = 80
_PLAIN = re.compile(r"[^\s\[\]=,/\"'\\\x00-\x1f\x7f]+")


@dataclass(frozen=True)
class Learned:
    """A rule and where it came from. ``None`` as rule: siblings of this path never repeat."""

    rule: Rule | None
    told: bool = False


def field_values(nodes: Sequence[Node], name: str) -> list[str | None]:
    """The values of one identifying field of some records of one document and kind."""
    peek = nodes[0].peek if nodes and name != TEXT else None
    values = peek(nodes, name) if peek is not None else None
    return [_read_value(node, name) for node in nodes] if values is None else values


def field_value(node: Node, name: str) -> str | None:
    """The value of one identifying field of a record."""
    return field_values((node,), name)[0]


def _read_value(node: Node, name: str) -> str | None:
    if name == TEXT:
        return node.own
    if name.startswith("@"):
        found = node.fields.get(name)
        return found.value if found else None
    for item in node.items:
        if item.role is Role.RECORD and item.name == name:
            return item.own
    return None


@dataclass
class Identities:
    """Rules for the documents of one file: the vendor's sides and the admin's, learned path by path on demand."""

    vendor: Sequence[Document]
    mine: Sequence[Document]
    told: Mapping[str, Rule] = field(default_factory=dict)
    _learned: dict[Path, Learned] = field(default_factory=dict)
    _by_name: _ByName = field(default_factory=dict)

    def rule(self, path: Path) -> Learned:
        """The rule for records at ``path`` (names from the root down)."""
        if path not in self._learned:
            self._learned[path] = self._learn(path)
        return self._learned[path]

    def key(self, path: Path, node: Node) -> Key | None:
        """The identity of a record at ``path``; () when its name alone identifies it, None when nothing does."""
        return self.keys(path, (node,))[0]

    def keys(self, path: Path, nodes: Sequence[Node]) -> list[Key | None]:
        """The identities of some items at ``path``, which are all called alike."""
        if nodes[0].role is not Role.RECORD:
            return [None] * len(nodes)
        rule = None if nodes[0].named or not self._by_content else self.rule(path).rule
        if not rule:
            return [() if rule is None else None] * len(nodes)
        columns = [field_values(nodes, name) for name in rule]
        return [
            None if None in values else tuple([unquoted(str(value).strip()) for value in values])
            for values in zip(*columns, strict=True)
        ]

    def label(self, path: Path, node: Node, key: Key | None, number: int) -> str:
        """A record's name in reports: ``good[id=lamp-oil]``, or ``reach[#4]`` for the 4th of anonymous ones."""
        if node.name == TOP:
            return ""
        name = "" if node.name == "[]" else value_text(node.name) if node.named else node.name
        if key is None:
            return f"{name}[#{number}]"
        rule = self.rule(path).rule if key else None
        if not rule:
            return name if number <= 1 else f"{name}[#{number}]"
        parts = [
            value_text(value) if name == TEXT else f"{name.lstrip('@')}={value_text(value)}"
            for name, value in zip(rule, key, strict=True)
        ]
        again = f",#{number}" if number > 1 else ""
        return f"{name}[{','.join(parts)}{again}]"

    @cached_property
    def _by_content(self) -> bool:
        return any(document.learns_identity for document in (*self.vendor, *self.mine))

    def _learn(self, path: Path) -> Learned:
        told = self.told.get("/".join(path))
        if told is not None:
            return Learned(told, told=True)
        found = Siblings.of(path, self.vendor, self.mine, self._by_name)
        if all(len(group) <= 1 for group in (*found.vendor, *found.mine)):
            certain = (*_CERTAIN, "name", TEXT) if path[-1] == "[]" else _CERTAIN
            return Learned(_single(certain, found))
        return Learned(choose(found))


@dataclass(frozen=True)
class Siblings:
    """The records of one path, those that stand together in one parent as a group.

    Groups whose parents are spelled alike tell the same and are looked at once: those of the admin's that the vendor
    has too are left out. ``most``: how many of the admin's may lack an identity, of all there are.
    """

    vendor: Sequence[Sequence[Node]]
    mine: Sequence[Sequence[Node]]
    most: float = 0

    @staticmethod
    def of(path: Path, vendor: Iterable[Document], mine: Iterable[Document], known: _ByName) -> Siblings:
        """Those at ``path`` in the documents of both sides."""
        sizes: dict[str, int] = {}
        theirs = [group for document in vendor for group in _groups(document, path, sizes, known)[0]]
        here, total = [], 0
        for document in mine:
            groups, count = _groups(document, path, sizes, known)
            here += groups
            total += count
        return Siblings(theirs, here, _MAY_LACK * total)


def _single(certain: Sequence[str], siblings: Siblings) -> Rule | None:
    """A record that never repeats is known by its name, unless it bears a field that can only be an identity."""
    for name in certain:
        if _identifies((name,), siblings):
            return (name,)
    return None


def joined(record: str, label: str) -> str:
    """The name of a record within another one."""
    return f"{record}/{label}" if record and label else record or label


def value_text(value: str) -> str:
    """A value as it stands in a record's name: plain where it can be, else as a JSON string."""
    return value if _PLAIN.fullmatch(value) else json.dumps(value, ensure_ascii=False)


def _called(parent: Node, name: str, known: _ByName) -> list[Node]:
    """The items of ``parent`` that are called ``name``. ``known``: what was found in parents before."""
    if parent not in known:
        found = known[parent] = defaultdict(list)
        for item in parent.items:
            found[item.name].append(item)
    return known[parent].get(name, [])


def _groups(document: Document, path: Path, sizes: dict[str, int], known: _ByName) -> tuple[list[list[Node]], int]:
    """Siblings of the last name of ``path``, per parent, and how many there are in all; at most some hundred parents,
    spread over the file. ``sizes``: of the groups seen before, by the text of their parents; those are left out."""
    parents = [document.root] if document.root.name == path[0] else []
    if len(path) == 1:
        return [parents], len(parents)
    for name in path[1:-1]:
        parents = [item for parent in parents for item in _called(parent, name, known)]
        if len(parents) > _MOST_PARENTS:
            parents = parents[:: len(parents) // _MOST_PARENTS]
    found, count = [], 0
    for parent in parents:
        text = document.raw(parent)
        if text not in sizes:
            group = _called(parent, path[-1], known)
            sizes[text] = len(group)
            if group:
                found.append(group)
        count += sizes[text]
    return found, count


def choose(siblings: Siblings) -> Rule:
    """The fields that identify records within their groups; () when none do. Either side may be empty."""
    groups = siblings.vendor or siblings.mine
    for name in _attributes_that_may(groups):
        if _identifies((name,), siblings):
            return (name,)
    candidates = _candidates(groups)
    for name in candidates:
        if _identifies((name,), siblings):
            return (name,)
    for pair in itertools.combinations(candidates[:8], 2):
        if _identifies(pair, siblings):
            return pair
    return ()


def _sample(groups: Sequence[Sequence[Node]]) -> list[Node]:
    every = list(itertools.chain.from_iterable(groups))
    return every[:: len(every) // _MOST_LOOKED_AT + 1]


def _attributes_that_may(groups: Sequence[Sequence[Node]]) -> Iterator[str]:
    """The candidates that come first of all, found without reading what the records hold: attributes that say that
    they identify."""
    sample = _sample(groups)
    if not sample or sample[0].peek is None:
        return
    for name in sample[0].fields:
        if name.startswith("@") and says_identity(name):
            values = [value for group in groups for value in _stripped(group, name)]
            if _may_identify(name, values):
                yield name


def _candidates(groups: Sequence[Sequence[Node]]) -> list[str]:
    """Fields that every record looked at has and whose values may be names, best first."""
    values: dict[str, list[str]] = defaultdict(list)
    records = 0
    for node in _sample(groups):
        records += 1
        for name, value in _simple_fields(node):
            values[name].append(value)
    suited = [name for name, found in values.items() if len(found) == records and _may_identify(name, found)]
    return sorted(suited, key=lambda name: (not says_identity(name), not name.startswith("@"), name == TEXT))


def _simple_fields(node: Node) -> Iterable[tuple[str, str]]:
    for name, found in node.fields.items():
        yield (TEXT if name == OWN else name), found.value.strip()
    names = Counter(item.name for item in node.items)
    for item in node.items:
        if item.role is Role.RECORD and names[item.name] == 1 and item.own is not None:
            yield item.name, item.own.strip()


def says_identity(name: str) -> bool:
    """Whether a field is called as fields are that tell records apart."""
    bare = name.lstrip("@").lower()
    return bare in _IDENTIFYING or bare.endswith(("id", "name", "key"))


def _may_identify(name: str, values: Sequence[str]) -> bool:
    if not all(0 < len(value) <= _LONGEST_NAME and "\n" not in value for value in values):
        return False
    named = sum(any(char.isalpha() for char in value) for value in values)
    return named >= 0.99 * len(values) or (says_identity(name) and all(v.isalnum() for v in values))


def _identifies(rule: Rule, siblings: Siblings) -> bool:
    return not _clashes(rule, siblings.vendor, 0) and not _clashes(rule, siblings.mine, siblings.most)


def _clashes(rule: Rule, groups: Sequence[Sequence[Node]], most: float) -> bool:
    """Whether more than ``most`` records lack the rule's fields or share their values with a sibling."""
    count = 0
    for group in groups:
        seen: set[object] = set()
        columns = [_stripped(group, name) for name in rule]
        for value in columns[0] if len(rule) == 1 else zip(*columns, strict=True):
            if not value or value in seen or (len(rule) > 1 and not all(value)):
                count += 1
                if count > most:
                    return True
            seen.add(value)
    return False


def _stripped(group: Sequence[Node], name: str) -> list[str]:
    """The values of one field of some siblings, without white space around; "" where there is none."""
    return [value.strip() if value else "" for value in field_values(group, name)]
