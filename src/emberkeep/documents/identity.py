"""How a repeated record is recognised among its siblings, learned from the data.

A *rule* for a path of record names is the fields whose values identify a record: ``@id`` an attribute, ``name`` a
child element's text, ``.`` the record's own text; several together where one is not enough; none for anonymous
records. Fields qualify by how many records they tell apart from their siblings *and* find again on the other sides:
what is unique by chance, or changes with every release, does not. Values that look like names win over numbers and
codes, which count where the field's name says that it identifies, or other documents say that they stay; attributes win
over children. A few doubles do no harm:
which of them is which, and who is who where nothing identifies, is found by all that the records say (``linkage``).
"""

from __future__ import annotations

import itertools
import json
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from emberkeep.documents import linkage
from emberkeep.documents.model import TOP, VALUE, Document, Node, Role
from emberkeep.documents.values import number, unquoted

Path = tuple[str, ...]
Key = tuple[str, ...]
Rule = tuple[str, ...]
Owner = tuple[object, ...] | None
"""Whose a group of siblings is: names and identities from the root down; None where one is anonymous."""
_ByName = dict[Node, dict[str, list[Node]]]
"""The items of records by what they are called."""

TEXT = "."
_IDENTIFYING = ("id", "name", "key", "code", "uid", "uuid", "guid", "class", "type", "ref", "identifier")
_CERTAIN = ("@id", "@key", "@uid", "@uuid", "@guid", "@code", "id", "key", "uid", "uuid", "guid", "code")
_MOST_PARENTS = 240
_MOST_LOOKED_AT = 300
_SURE = 0.98
_CLEARLY = 0.02
_SOME_RECORDS = 3
_MANY = 20
_LEAST_DISTINCT = 0.7
_LEAST_WORTH = 0.3
"""Fields that are not called as keys are have to find this share of the records again."""
_MOST_COMBINED = 7
_LONGEST_NAME = 80
_PLAIN = re.compile(r"[^\s\[\]=,/\"'\\\x00-\x1f\x7f]+")


@dataclass(frozen=True)
class Learned:
    """A rule and where it came from. ``None`` as rule: siblings of this path never repeat. ``seldom``: how many of its
    fields, the last ones, only some records bear; to lack one identifies as well."""

    rule: Rule | None
    configured: bool = False
    seldom: int = 0


def field_values(nodes: Sequence[Node], name: str) -> list[str | None]:
    """The values of one identifying field of some records of one document and kind."""
    peeks = {node.peek for node in nodes} if name != TEXT else ()
    peek = next(iter(peeks)) if len(peeks) == 1 else None
    values = peek(nodes, name) if peek is not None else None
    return [_read_value(node, name) for node in nodes] if values is None else values


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
class KeyRules:
    """Rules for the documents of one file: the vendor's sides and the admin's, learned path by path on demand."""

    vendor: Sequence[Document]
    mine: Sequence[Document]
    configured: Mapping[str, Rule] = field(default_factory=dict)
    _learned: dict[Path, Learned] = field(default_factory=dict)
    _by_name: _ByName = field(default_factory=dict)
    _weights: dict[Path, linkage.Weights] = field(default_factory=dict)

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
        learned = None if nodes[0].named or not self._by_content else self.rule(path)
        rule = learned and learned.rule
        if not learned or not rule:
            return [() if rule is None else None] * len(nodes)
        columns = [field_values(nodes, name) for name in rule]
        borne = len(rule) - learned.seldom
        return [
            None if None in values[:borne] else tuple([unquoted((value or "").strip()) for value in values])
            for values in zip(*columns, strict=True)
        ]

    def _siblings(self, path: Path) -> Siblings:
        seen: set[str] = set()
        chosen: dict[int, set[Owner]] = {}
        documents, owners = [], []
        for document in (*self.vendor, *self.mine):
            found = self._groups(document, path, seen, chosen)
            documents.append([group for _, group in found])
            owners.append([owner for owner, _ in found])
        return Siblings(documents, owners)

    def _groups(
        self, document: Document, path: Path, seen: set[str], chosen: dict[int, set[Owner]]
    ) -> list[tuple[Owner, list[Node]]]:
        """Siblings of the last name of ``path``, per parent; at most some hundred parents, spread over the file.
        ``seen``: the parents found before, by their text; those are left out. ``chosen``: of many, by depth, whom the
        first document with many made us look at; of the others the same are."""
        parents: list[tuple[Node, Owner]] = [(document.root, ())] if document.root.name == path[0] else []
        if len(path) == 1:
            return [(None, [parent]) for parent, _ in parents]
        for depth in range(2, len(path)):
            found: list[tuple[Node, Owner]] = []
            for parent, owner in parents:
                items = _called(parent, path[depth - 1], self._by_name)
                keys = self.keys(path[:depth], items) if items else []
                found += zip(items, (_owned(owner, path[depth - 1], key) for key in keys), strict=True)
            parents = found
            if len(parents) > _MOST_PARENTS:
                parents = [one for one in found if one[1] in chosen.get(depth, ())] or found
                parents = parents[:: len(parents) // _MOST_PARENTS or 1]
                chosen.setdefault(depth, {owner for _, owner in parents})
        groups: list[tuple[Owner, list[Node]]] = []
        for parent, owner in parents:
            text = document.raw(parent).replace("\r\n", "\n")
            if text not in seen:
                seen.add(text)
                if group := _called(parent, path[-1], self._by_name):
                    groups.append((owner, group))
        return groups

    def weights(self, path: Path) -> linkage.Weights:
        """What the facts of records at ``path`` tell of who is who."""
        if path not in self._weights:
            found = self._siblings(path)
            lists = [_first_facts(groups) for groups in found.documents]
            self._weights[path] = linkage.learn(lists)
        return self._weights[path]

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
            if value or len(rule) == 1
        ]
        again = f",#{number}" if number > 1 else ""
        return f"{name}[{','.join(parts)}{again}]"

    @cached_property
    def _by_content(self) -> bool:
        return any(document.learns_identity for document in (*self.vendor, *self.mine))

    def _learn(self, path: Path) -> Learned:
        rule = self.configured.get("/".join(path))
        if rule is not None:
            return Learned(rule, configured=True)
        found = self._siblings(path)
        if not found.repeat:
            certain = (*_CERTAIN, "name", TEXT) if path[-1] == "[]" else _CERTAIN
            return Learned(_single(certain, found))
        return choose(found)


def _first_facts(groups: Iterable[Sequence[Node]]) -> list[linkage.Facts]:
    """What the first records of one document say."""
    return [linkage.facts(node) for node in itertools.islice(itertools.chain.from_iterable(groups), _MOST_LOOKED_AT)]


@dataclass(frozen=True)
class Siblings:
    """The records of one path, those that stand together in one parent as a group, by document: the vendor's, then the
    admin's.

    Groups whose parents are spelled alike tell the same and are looked at once: those that an earlier document has are
    left out of the later ones. ``owners``: whose each group is, which is the same in other documents.
    """

    documents: Sequence[Sequence[Sequence[Node]]]
    owners: Sequence[Sequence[Owner]]
    _columns: dict[str, list[list[str]]] = field(default_factory=dict, compare=False)

    @property
    def groups(self) -> list[Sequence[Node]]:
        """All of them."""
        return [group for document in self.documents for group in document]

    @cached_property
    def nodes(self) -> list[list[Node]]:
        """All records, by document."""
        return [list(itertools.chain.from_iterable(groups)) for groups in self.documents]

    def column(self, name: str) -> list[list[str]]:
        """The values of a field without white space around them, "" where there is none: by document and record."""
        if name not in self._columns:
            values = [field_values(nodes, name) for nodes in self.nodes]
            self._columns[name] = [[value.strip() if value else "" for value in side] for side in values]
        return self._columns[name]

    def keys(self, rule: Rule, seldom: int = 0) -> list[list[object]]:
        """The values of several fields together, "" where one is missing, but for the ``seldom`` last: by document and
        record."""
        columns = [self.column(name) for name in rule]
        if len(columns) == 1:
            return [list(side) for side in columns[0]]
        borne = len(rule) - seldom
        return [
            [key if all(key[:borne]) else "" for key in zip(*sides, strict=True)]
            for sides in zip(*columns, strict=True)
        ]

    def measured(self, name: str) -> bool:
        """Whether most values of a field have been measured, which makes them different everywhere by chance."""
        values = [value for side in self.column(name) for value in side if value]
        return sum(map(_is_measure, values)) > len(values) / 2

    @property
    def repeat(self) -> bool:
        """Whether any of them stands beside another one."""
        return any(len(group) > 1 for group in self.groups)


def _single(certain: Sequence[str], siblings: Siblings) -> Rule | None:
    """A record that never repeats is known by its name, unless it bears a field that can only be an identity."""
    firsts = [nodes[:1] for nodes in siblings.nodes if nodes]
    if not firsts:
        return None
    for name in certain:
        # most lack most of these fields, which the first one shows
        if all((field_values(first, name)[0] or "").strip() for first in firsts) and all(
            map(all, siblings.column(name))
        ):
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


def _owned(owner: Owner, name: str, key: Key | None) -> Owner:
    return None if owner is None or key is None else (*owner, name, key)


@dataclass(frozen=True)
class _Telling:
    """How well fields tell records apart. ``distinct``: the share of records that no sibling shares them with;
    ``kept``: of those that two documents could share, as both have siblings of theirs, the share that they do, in the
    two that share the least; ``records``: how many a document has."""

    distinct: float
    kept: float
    records: int

    @staticmethod
    def of(rule: Rule, siblings: Siblings, seldom: int = 0) -> _Telling:
        total = sum(map(len, siblings.nodes))
        if not total:
            return _NOTHING
        sides = zip(siblings.documents, siblings.owners, siblings.keys(rule, seldom), strict=True)
        found = [_distinct(groups, owners, keys) for groups, owners, keys in sides if groups]
        kept = min((_kept(one, other) for (_, one), (_, other) in itertools.combinations(found, 2)), default=1.0)
        bearing = sum(count for count, _ in found)
        return _Telling(bearing / total, kept, total // len(found))

    @property
    def worth(self) -> float:
        """The share of records that are found again by it; doubles, which are told apart by what else they say, count
        half."""
        return (1 + self.distinct) / 2 * self.kept

    def beats(self, other: _Telling) -> bool:
        """Whether it is clearly better: not by a record or two."""
        margin = max(_CLEARLY, _SOME_RECORDS / self.records) if self.records else 1
        return self.distinct >= _LEAST_DISTINCT and self.worth - other.worth >= margin

    def is_flawless_beside(self, other: _Telling) -> bool:
        """Whether of many records it is better by what no measure is: it knows no doubles, or no changes at all."""
        better = self.worth > other.worth and self.distinct == 1
        return self.records >= _MANY and better and (other.distinct < 1 or self.kept == 1)


_NOTHING = _Telling(0, 0, 0)


def _kept(one: Mapping[Owner, set[object]], other: Mapping[Owner, set[object]]) -> float:
    """The share of keys that two documents have in common, of those that they could."""
    both = one.keys() & other.keys()
    could = sum(min(len(one[owner]), len(other[owner])) for owner in both)
    return sum(len(one[owner] & other[owner]) for owner in both) / could if could else 1.0


def _distinct(
    groups: Sequence[Sequence[Node]], owners: Sequence[Owner], keys: Sequence[object]
) -> tuple[int, dict[Owner, set[object]]]:
    """The keys that only one record of its group has: how many there are, and which by the group's owner."""
    count, found, ahead = 0, defaultdict[Owner, set[object]](set), iter(keys)
    for group, owner in zip(groups, owners, strict=True):
        times = Counter(itertools.islice(ahead, len(group)))
        here = {key for key, often in times.items() if often == 1 and key}
        count += len(here)
        found[owner] |= here
    return count, found


def choose(siblings: Siblings) -> Learned:
    """The fields that identify records within their groups; () when none do well enough.

    The first that tells all records apart and finds them again in the other documents; else what finds most of them:
    more fields, others, or codes have to be clearly better than fewer and better-named ones. Codes count only where
    several documents say that they stay. What only some bear is looked at where that is not enough.
    """
    groups = next((groups for groups in siblings.documents if groups), ())
    best: Rule = ()
    most = _NOTHING
    names, codes = _candidates(groups)
    tried: list[str] = []
    for name in dict.fromkeys([*_attributes_that_may(siblings, groups), *names]):
        tried.append(name)
        telling = _Telling.of((name,), siblings)
        better = telling.beats(most) or telling.is_flawless_beside(most)
        if better if best else _may_be_first(name, telling, only=len(names) == 1 and not codes):
            best, most = (name,), telling
            if telling.distinct == 1 and (telling.kept == 1 or (name in _CERTAIN and telling.kept > _SURE)):
                return Learned(best)
    beside = sum(1 for groups in siblings.documents if groups) > 1
    steadiest = _steadiest(codes, siblings) if beside and most.worth < _SURE else []
    for rule in _combined(tried[:_MOST_COMBINED], steadiest[:_MOST_COMBINED]):
        if len(rule) > max(2, len(best)) and most.worth >= _SURE:
            break
        telling = _Telling.of(rule, siblings)
        if telling.beats(most):
            best, most = rule, telling
    if most.distinct == 1 and most.kept > _SURE:
        return Learned(best)
    return _with_seldom(best, most, tried, siblings)


def _steadiest(codes: Sequence[str], siblings: Siblings) -> list[str]:
    """Codes, best first; what has been measured last."""
    return sorted(codes, key=lambda name: (siblings.measured(name), -_Telling.of((name,), siblings).worth))


def _with_seldom(best: Rule, most: _Telling, names: Sequence[str], siblings: Siblings) -> Learned:
    """A rule for records that ``best`` does not tell apart well enough, by up to two fields that only some bear."""
    bases = dict.fromkeys([*filter(None, [best]), *((name,) for name in names[:_MOST_COMBINED])])
    some = _seldom(siblings)[:_MOST_COMBINED]
    more = [(name,) for name in some] + list(itertools.combinations(some, 2))
    found = Learned(best)
    for base, extra in itertools.product(bases, more):
        if not {*base}.isdisjoint(extra):
            continue
        telling = _Telling.of((*base, *extra), siblings, len(extra))
        if telling.beats(most) if found.rule else _may_be_first(base[0], telling, only=False):
            found, most = Learned((*base, *extra), seldom=len(extra)), telling
    return found


def _may_be_first(name: str, telling: _Telling, *, only: bool) -> bool:
    """Whether a field will do, as long as none is clearly better. A word that is all that an item says (``only``) is
    that item: another word is another item, also where no word stayed."""
    if telling.distinct == 1 and (says_identity(name) or (only and name == TEXT)):
        return True
    return telling.distinct >= _LEAST_DISTINCT and telling.worth >= _LEAST_WORTH


def _combined(names: Sequence[str], codes: Sequence[str]) -> Iterator[Rule]:
    """Several fields together, and codes alone: those with names first."""
    every = [*names, *codes]
    yield from itertools.combinations(names, 2)
    yield from ((name,) for name in codes)
    yield from (rule for rule in itertools.combinations(every, 2) if rule[1] in codes)
    yield from itertools.combinations(every[: _MOST_COMBINED + 1], 3)


def _sample(groups: Sequence[Sequence[Node]]) -> list[Node]:
    every = list(itertools.chain.from_iterable(groups))
    return every[:: len(every) // _MOST_LOOKED_AT + 1]


def _attributes_that_may(siblings: Siblings, groups: Sequence[Sequence[Node]]) -> Iterator[str]:
    """The candidates that come first of all, found without reading what the records hold: attributes that say that
    they identify."""
    sample = _sample(groups)
    if not sample or sample[0].peek is None:
        return
    for name in sample[0].fields:
        if name.startswith("@") and says_identity(name):
            values = next(side for side in siblings.column(name) if side)
            if _may_identify(name, values):
                yield name


def _candidates(groups: Sequence[Sequence[Node]]) -> tuple[list[str], list[str]]:
    """Fields that most records looked at have and whose values may be names, best first; and those that are numbers or
    codes."""
    records, values = _looked_at(groups)
    common = [name for name, found in values.items() if len(found) >= _LEAST_DISTINCT * records]
    suited = [name for name in common if _may_identify(name, values[name])]
    codes = [name for name in common if name not in suited and _most(_is_short, values[name])]
    return sorted(suited, key=_quality), codes


def _seldom(siblings: Siblings) -> list[str]:
    """Fields that some records have and others have not, best first."""
    found: set[str] = set()
    for records, values in map(_looked_at, siblings.documents):
        found.update(name for name in values if len(values[name]) < records and _most(_is_short, values[name]))
    return sorted((name for name in found if not siblings.measured(name)), key=lambda name: (_quality(name), name))


def _looked_at(groups: Sequence[Sequence[Node]]) -> tuple[int, dict[str, list[str]]]:
    """How many records of a document were looked at, and what each of their fields says."""
    sample = _sample(groups)
    values: dict[str, list[str]] = defaultdict(list)
    for node in sample:
        for name, value in _simple_fields(node):
            values[name].append(value)
    return len(sample), values


def _quality(name: str) -> tuple[bool, bool, bool]:
    return not says_identity(name), not name.startswith("@"), name == TEXT


def _simple_fields(node: Node) -> Iterable[tuple[str, str]]:
    for name, found in node.fields.items():
        yield (TEXT if name == VALUE else name), found.value.strip()
    seen = set()
    for item in node.items:
        if item.role is not Role.RECORD or item.name in seen:
            continue
        seen.add(item.name)
        if item.own is not None:
            yield item.name, item.own.strip()


def says_identity(name: str) -> bool:
    """Whether a field is called as fields are that tell records apart."""
    bare = name.lstrip("@").lower()
    return bare in _IDENTIFYING or bare.endswith(("id", "name", "key"))


def _may_identify(name: str, values: Sequence[str]) -> bool:
    if not all(map(_is_short, values)):
        return False
    return _most(_is_word, values) or (says_identity(name) and all(v.isalnum() for v in values))


def _most(true: Callable[[str], bool], values: Sequence[str]) -> bool:
    return sum(map(true, values)) >= 0.99 * len(values)


def _is_word(value: str) -> bool:
    return any(char.isalpha() for char in value)


def _is_measure(value: str) -> bool:
    return number(value) is not None and len(value.partition(".")[2]) > 2


def _is_short(value: str) -> bool:
    return 0 < len(value) <= _LONGEST_NAME and "\n" not in value
