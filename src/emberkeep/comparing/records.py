"""Differences of two documents, record by record."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from emberkeep.documents.align import Item, in_step, items_of, moved, owner_key, pairs, unchanged
from emberkeep.documents.identity import KeyRules, Path, Rule, joined
from emberkeep.documents.model import VALUE, Document, Node, Role, comment_words, is_value, kinds_of
from emberkeep.documents.values import same_value
from emberkeep.documents.walk import walk


class Kind(StrEnum):
    """How something differs."""

    CHANGED = "changed"
    ADDED = "added"
    REMOVED = "removed"
    MOVED = "moved"


@dataclass(frozen=True)
class Difference:
    """One difference in a file's own terms. ``line``: 1-based, on the right side, or the left where it is gone."""

    record: str
    field: str
    kind: Kind
    left: str | None
    right: str | None
    line: int | None


Condition = Callable[[str, Sequence[Node]], bool]
"""Whether a record is meant: its path in reports, and its nodes on the sides that have it."""

COMMENT = "(comment)"
RECORD = "(record)"
LINES = "(lines)"
"""Names that stand in ``field`` where a whole thing is meant instead of one value."""


def compare(
    left: Document,
    right: Document,
    rules: Mapping[str, Rule] | None = None,
    where: Sequence[Condition] = (),
) -> list[Difference]:
    """All differences from ``left`` to ``right``: fields, records, comments, order. ``where``: conditions all of which
    a record, or one that it stands in, must meet to be told of."""
    identities = KeyRules([left], [right], rules or {})
    walker = _Walker(left, right, identities)
    return list(walker.nodes(left.root, right.root, _At((left.root.name,), "", tuple(where))))


def meets_any(document: Document, rules: Mapping[str, Rule], where: Sequence[Condition]) -> bool:
    """Whether any record meets conditions, together with those that it stands in."""
    identities = KeyRules([document], [], rules)

    def below(node: Node, path: Path, record: str, waiting: tuple[Condition, ...]) -> bool:
        for item in items_of(node, path, identities):
            if item.node.role is not Role.RECORD:
                continue
            here = (*path, item.node.name)
            name = joined(record, item.label(here, identities))
            left = _unmet(waiting, name, (item.node,))
            if not left or below(item.node, here, name, left):
                return True
        return False

    return below(document.root, (document.root.name,), "", tuple(where))


@dataclass(frozen=True, slots=True)
class _At:
    """Where the walk is: the record's path and name, and the conditions that no record around here has met yet.

    A plain value is told as a field of its ``parent``, by its ``label``.
    """

    path: Path
    record: str
    waiting: tuple[Condition, ...]
    parent: str = ""
    label: str = ""


@dataclass
class _Walker:
    left: Document
    right: Document
    identities: KeyRules

    def nodes(self, left: Node, right: Node, at: _At) -> Iterator[Difference]:
        if self.left.raw(left) == self.right.raw(right):
            return
        if not at.waiting:
            yield from self._fields(left, right, at)
        yield from self._items(left, right, at)

    def _fields(self, left: Node, right: Node, at: _At) -> Iterator[Difference]:
        kinds = kinds_of([(self.left, left), (self.right, right)])
        for name in dict.fromkeys([*left.fields, *right.fields]) if len(kinds) > 1 or kinds == {""} else ():
            first, second = left.fields.get(name), right.fields.get(name)
            before, after = (found.value if found else None for found in (first, second))
            if not same_value(before, after):
                where, what = (at.parent, at.label) if name == VALUE and at.label else (at.record, name or "(text)")
                kind = Kind.ADDED if before is None else Kind.REMOVED if after is None else Kind.CHANGED
                line = self.right.line(second.start if second else right.start)
                yield Difference(where, what, kind, before, after, line)

    def _items(self, left: Node, right: Node, at: _At) -> Iterator[Difference]:
        sides = [(self.left, left), (self.right, right)]
        both = in_step(sides, at.path, self.identities)
        if both is not None:
            for item, other in zip(*both, strict=True):
                yield from self._pair(item, other.node, at)
            return
        same = unchanged(sides, at.path, self.identities)
        lefts = items_of(left, at.path, self.identities, same)
        rights = items_of(right, at.path, self.identities, same)
        matched = pairs(lefts, rights, at.path, self.identities)
        reworded = _reworded(lefts, rights, matched)
        taken = {*matched.values(), *reworded.values()}
        for a, item in enumerate(lefts):
            if a in reworded:
                yield from self._comment(item.node, rights[reworded[a]].node, at)
            elif a not in matched:
                yield from self._gone(item, at)
            elif item.node.role is Role.RECORD and not item.is_unread:
                yield from self._pair(item, rights[matched[a]].node, at)
        for b, item in enumerate(rights):
            if b not in taken:
                yield from self._come(item, at)
        yield from self._moved(lefts, rights, matched, at)

    def _pair(self, item: Item, right: Node, at: _At) -> Iterator[Difference]:
        if self.left.raw(item.node) == self.right.raw(right):
            return
        label, record = self._named(item, at)
        waiting = _unmet(at.waiting, record, (item.node, right))
        path = (*at.path, item.node.name)
        simple = item.identity == ()
        yield from self.nodes(item.node, right, _At(path, record, waiting, at.record, label if simple else ""))

    def _named(self, item: Item, at: _At) -> tuple[str, str]:
        label = item.label((*at.path, item.node.name), self.identities)
        return label, joined(at.record, label)

    def _comment(self, left: Node, right: Node, at: _At) -> Iterator[Difference]:
        if not at.waiting:
            words = comment_words(left), comment_words(right)
            yield Difference(at.record, COMMENT, Kind.CHANGED, *words, self.right.line(right.start))

    def _gone(self, item: Item, at: _At) -> Iterator[Difference]:
        where, field, text = self._whole(self.left, item, at)
        if not _unmet(at.waiting, where, (item.node,)):
            yield Difference(where, field, Kind.REMOVED, text, None, self.left.line(item.node.start))

    def _come(self, item: Item, at: _At) -> Iterator[Difference]:
        where, field, text = self._whole(self.right, item, at)
        if not _unmet(at.waiting, where, (item.node,)):
            yield Difference(where, field, Kind.ADDED, None, text, self.right.line(item.node.start))

    def _whole(self, document: Document, item: Item, at: _At) -> tuple[str, str, str]:
        if item.node.role is Role.COMMENT:
            return at.record, COMMENT, comment_words(item.node)
        label, where = self._named(item, at)
        if item.identity == () and not item.node.items and list(item.node.fields) == [VALUE]:
            return at.record, label, item.node.fields[VALUE].value
        return where, RECORD, document.raw(item.node)

    def _moved(
        self, lefts: Sequence[Item], rights: Sequence[Item], matched: Mapping[int, int], at: _At
    ) -> Iterator[Difference]:
        both = sorted((b, a) for a, b in matched.items() if lefts[a].node.role is Role.RECORD)
        for place in sorted(moved([a for _, a in both])):
            right, left = both[place]
            _, where = self._named(lefts[left], at)
            if not _unmet(at.waiting, where, (lefts[left].node, rights[right].node)):
                line = self.right.line(rights[right].node.start)
                yield Difference(where, RECORD, Kind.MOVED, None, None, line)


def _unmet(waiting: tuple[Condition, ...], record: str, nodes: Sequence[Node]) -> tuple[Condition, ...]:
    if not waiting:
        return ()
    records = [node for node in nodes if node.role is Role.RECORD]
    return tuple(condition for condition in waiting if not condition(record, records))


def _reworded(lefts: Sequence[Item], rights: Sequence[Item], matched: Mapping[int, int]) -> dict[int, int]:
    """Comments to the same record, of which the words differ: index on the left -> on the right."""
    taken = set(matched.values())
    waiting: dict[Hashable, list[int]] = defaultdict(list)
    for b, item in enumerate(rights):
        if b not in taken and item.node.role is Role.COMMENT:
            waiting[owner_key(rights, b)].append(b)
    found: dict[int, int] = {}
    for a, item in enumerate(lefts):
        if a not in matched and item.node.role is Role.COMMENT:
            there = waiting.get(owner_key(lefts, a))
            if there:
                found[a] = there.pop(0)
    return found


def facts(document: Document, rules: Mapping[str, Rule] | None = None) -> set[tuple[str, str, str]]:
    """Every record and every field of it as (record, field, value): what two documents can be measured by."""
    identities = KeyRules([document], [], rules or {})
    found: set[tuple[str, str, str]] = set()

    def add(record: str, node: Node) -> None:
        found.add((record, "", ""))
        fields = {} if document.container(node) else node.fields
        found.update((record, name or "=", field.value.strip()) for name, field in fields.items())

    add("", document.root)
    for placed in walk(document, identities, values=False):
        add(placed.record, placed.node)
        if all(map(is_value, placed.node.items)):
            for item in items_of(placed.node, placed.path, identities):
                if item.node.role is Role.RECORD:
                    add(joined(placed.record, item.label((*placed.path, item.node.name), identities)), item.node)
    return found
