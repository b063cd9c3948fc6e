"""Differences of two documents, record by record."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum

from emberkeep.documents.align import Item, items_of, moved, pairs
from emberkeep.documents.identity import Identities, Path, Rule, joined
from emberkeep.documents.model import OWN, Document, Node, Role, comment_words, kinds_of
from emberkeep.documents.values import same_value


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


COMMENT = "(comment)"
RECORD = "(record)"
LINES = "(lines)"
"""Names that stand in ``field`` where a whole thing is meant instead of one value."""


def compare(left: Document, right: Document, rules: Mapping[str, Rule] | None = None) -> list[Difference]:
    """All differences from ``left`` to ``right``: fields, records, comments, order."""
    identities = Identities([left], [right], rules or {})
    walker = _Walker(left, right, identities)
    return list(walker.nodes(left.root, right.root, (left.root.name,), "", "", ""))


@dataclass
class _Walker:
    left: Document
    right: Document
    identities: Identities

    def nodes(self, left: Node, right: Node, path: Path, record: str, parent: str, label: str) -> Iterator[Difference]:
        if self.left.raw(left) == self.right.raw(right):
            return
        kinds = kinds_of([(self.left, left), (self.right, right)])
        for name in dict.fromkeys([*left.fields, *right.fields]) if len(kinds) > 1 or kinds == {""} else ():
            first, second = left.fields.get(name), right.fields.get(name)
            before, after = (found.value if found else None for found in (first, second))
            if not same_value(before, after):
                where, what = (parent, label) if name == OWN and label else (record, name or "(text)")
                kind = Kind.ADDED if before is None else Kind.REMOVED if after is None else Kind.CHANGED
                line = self.right.line(second.start if second else right.start)
                yield Difference(where, what, kind, before, after, line)
        yield from self._items(left, right, path, record)

    def _items(self, left: Node, right: Node, path: Path, record: str) -> Iterator[Difference]:
        lefts, rights = items_of(left, path, self.identities), items_of(right, path, self.identities)
        matched = pairs(lefts, rights)
        taken = set(matched.values())
        for at, item in enumerate(lefts):
            if at not in matched:
                yield self._gone(item, path, record)
            elif item.node.role is Role.RECORD:
                label, where = self._named(item, path, record)
                simple = item.identity == ()
                below = (*path, item.node.name)
                yield from self.nodes(
                    item.node, rights[matched[at]].node, below, where, record, label if simple else ""
                )
        for at, item in enumerate(rights):
            if at not in taken:
                yield self._come(item, path, record)
        yield from self._moved(lefts, rights, matched, path, record)

    def _named(self, item: Item, path: Path, record: str) -> tuple[str, str]:
        label = self.identities.label((*path, item.node.name), item.node, item.identity, item.number)
        return label, joined(record, label)

    def _gone(self, item: Item, path: Path, record: str) -> Difference:
        where, field, text = self._whole(self.left, item, path, record)
        return Difference(where, field, Kind.REMOVED, text, None, self.left.line(item.node.start))

    def _come(self, item: Item, path: Path, record: str) -> Difference:
        where, field, text = self._whole(self.right, item, path, record)
        return Difference(where, field, Kind.ADDED, None, text, self.right.line(item.node.start))

    def _whole(self, document: Document, item: Item, path: Path, record: str) -> tuple[str, str, str]:
        if item.node.role is Role.COMMENT:
            return record, COMMENT, comment_words(item.node)
        label, where = self._named(item, path, record)
        if item.identity == () and not item.node.items and list(item.node.fields) == [OWN]:
            return record, label, item.node.fields[OWN].value
        return where, RECORD, document.raw(item.node)

    def _moved(
        self, lefts: list[Item], rights: list[Item], matched: dict[int, int], path: Path, record: str
    ) -> Iterator[Difference]:
        both = sorted((b, a) for a, b in matched.items() if lefts[a].node.role is Role.RECORD)
        for at in sorted(moved([a for _, a in both])):
            right, left = both[at]
            _, where = self._named(lefts[left], path, record)
            line = self.right.line(rights[right].node.start)
            yield Difference(where, RECORD, Kind.MOVED, None, None, line)


def facts(document: Document, rules: Mapping[str, Rule] | None = None) -> set[tuple[str, str, str]]:
    """Every record and every field of it as (record, field, value): what two documents can be measured by."""
    identities = Identities([document], [], rules or {})
    found: set[tuple[str, str, str]] = set()
    waiting: list[tuple[Node, Path, str]] = [(document.root, (document.root.name,), "")]
    while waiting:
        node, path, record = waiting.pop()
        found.add((record, "", ""))
        fields = {} if document.container(node) else node.fields
        found.update((record, name or "=", field.value.strip()) for name, field in fields.items())
        for item in items_of(node, path, identities):
            if item.node.role is Role.RECORD:
                below = (*path, item.node.name)
                label = identities.label(below, item.node, item.identity, item.number)
                waiting.append((item.node, below, joined(record, label)))
    return found
