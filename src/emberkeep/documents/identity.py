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
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from emberkeep.documents.model import OWN, TOP, Document, Node, Role

Path = tuple[str, ...]
Key = tuple[str, ...]
Rule = tuple[str, ...]

TEXT = "."
_IDENTIFYING = ("id", "name", "key", "code", "uid", "uuid", "guid", "class", "type", "ref", "identifier")
_CERTAIN = ("@id", "@key", "@uid", "@uuid", "@guid", "@code", "id", "key", "uid", "uuid", "guid", "code")
_MOST_PARENTS = 240
_MOST_LOOKED_AT = 300
_LONGEST_NAME = 80
_PLAIN = re.compile(r"[^\s\[\]=,/\"'\\\x00-\x1f\x7f]+")


@dataclass(frozen=True)
class Learned:
    """A rule and where it came from. ``None`` as rule: siblings of this path never repeat."""

    rule: Rule | None
    told: bool = False


def field_value(node: Node, name: str) -> str | None:
    """The value of one identifying field of a record."""
    if name == TEXT:
        return node.own
    if name.startswith("@"):
        if node.peek is not None:
            return node.peek(node, name)
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

    def rule(self, path: Path) -> Learned:
        """The rule for records at ``path`` (names from the root down)."""
        if path not in self._learned:
            self._learned[path] = self._learn(path)
        return self._learned[path]

    def key(self, path: Path, node: Node) -> Key | None:
        """The identity of a record at ``path``; () when its name alone identifies it, None when nothing does."""
        if node.role is not Role.RECORD:
            return None
        if node.named or not self._by_content:
            return ()
        rule = self.rule(path).rule
        if rule is None:
            return ()
        if not rule:
            return None
        values = tuple(field_value(node, name) for name in rule)
        if any(value is None for value in values):
            return None
        return tuple(_unquoted(str(value).strip()) for value in values)

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
        vendor = [group for document in self.vendor for group in _groups(document, path)]
        mine = [group for document in self.mine for group in _groups(document, path)]
        if all(len(group) <= 1 for group in (*vendor, *mine)):
            certain = (*_CERTAIN, "name", TEXT) if path[-1] == "[]" else _CERTAIN
            return Learned(_single(certain, vendor, mine))
        return Learned(choose(vendor, mine))


def _single(certain: Sequence[str], vendor: Sequence[Sequence[Node]], mine: Sequence[Sequence[Node]]) -> Rule | None:
    """A record that never repeats is known by its name, unless it bears a field that can only be an identity."""
    for name in certain:
        if _identifies((name,), vendor, mine):
            return (name,)
    return None


def _unquoted(value: str) -> str:
    """A value without the quotes that JSON spells it with."""
    try:
        return str(json.loads(value)) if value.startswith('"') else value
    except ValueError:
        return value


def joined(record: str, label: str) -> str:
    """The name of a record within another one."""
    return f"{record}/{label}" if record and label else record or label


def value_text(value: str) -> str:
    """A value as it stands in a record's name: plain where it can be, else as a JSON string."""
    return value if _PLAIN.fullmatch(value) else json.dumps(value, ensure_ascii=False)


def _groups(document: Document, path: Path) -> list[list[Node]]:
    """Siblings of the last name of ``path``, per parent; at most some hundred parents, spread over the file."""
    parents = [document.root] if document.root.name == path[0] else []
    if len(path) == 1:
        return [parents]
    for name in path[1:-1]:
        parents = [item for parent in parents for item in parent.items if item.name == name]
        if len(parents) > _MOST_PARENTS:
            parents = parents[:: len(parents) // _MOST_PARENTS]
    groups = ([item for item in parent.items if item.name == path[-1]] for parent in parents)
    return [group for group in groups if group]


def choose(vendor: Sequence[Sequence[Node]], mine: Sequence[Sequence[Node]]) -> Rule:
    """The fields that identify records within their groups; () when none do. Either side may be empty."""
    candidates = _candidates(vendor or mine)
    for name in candidates:
        if _identifies((name,), vendor, mine):
            return (name,)
    for pair in itertools.combinations(candidates[:8], 2):
        if _identifies(pair, vendor, mine):
            return pair
    return ()


def _candidates(groups: Sequence[Sequence[Node]]) -> list[str]:
    """Fields that every record looked at has and whose values may be names, best first."""
    values: dict[str, list[str]] = defaultdict(list)
    records = 0
    every = list(itertools.chain.from_iterable(groups))
    for node in every[:: len(every) // _MOST_LOOKED_AT + 1]:
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


def _identifies(rule: Rule, vendor: Sequence[Sequence[Node]], mine: Sequence[Sequence[Node]]) -> bool:
    return not _clashes(rule, vendor, 0) and not _clashes(rule, mine, 0.01 * sum(map(len, mine)))


def _clashes(rule: Rule, groups: Sequence[Sequence[Node]], most: float) -> bool:
    """Whether more than ``most`` records lack the rule's fields or share their values with a sibling."""
    count = 0
    for group in groups:
        seen: set[object] = set()
        for node in group:
            value = _stripped(node, rule[0]) if len(rule) == 1 else tuple([_stripped(node, name) for name in rule])
            if not value or value in seen or (len(rule) > 1 and not all(value)):
                count += 1
                if count > most:
                    return True
            seen.add(value)
    return False


def _stripped(node: Node, name: str) -> str:
    value = field_value(node, name)
    return value.strip() if value else ""
