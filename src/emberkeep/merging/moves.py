"""Following the vendor where it put the items of a container in another order.

It is done on the merged text, so that an item goes with all that the merge made of it: what stands in the container,
in which order it is wanted, and the same of what stands inside, is told as an :class:`Arrangement` by places, and the
items then change places. A container that the admin left alone is the vendor's, its order included; in any other one,
lists follow the vendor as far as the admin left their order alone.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from emberkeep.documents import layout
from emberkeep.documents.align import Item, moved
from emberkeep.documents.identity import KeyRules, Path
from emberkeep.documents.model import Document, Edit, Node, Role, content, splice

SHORT = 12
"""Records of a list that is shown whole; of a longer one, those that were moved and their neighbours."""


@dataclass(frozen=True)
class Arrangement:
    """How the items of a container are to be put. ``count``: how many there are, as merged; ``order``: the places they
    have now, in the order that is wanted; empty where it is theirs; ``inside``: of containers in it, by their place."""

    count: int
    order: tuple[int, ...] = ()
    inside: Mapping[int, Arrangement] = field(default_factory=dict)


class Both(NamedTuple):
    """A record's places in a list on all three sides."""

    old: int
    mine: int
    new: int


@dataclass(frozen=True)
class Order:
    """The records that both sides put in another order, by what each is called: as the list began, and on the two."""

    old: str
    mine: str
    new: str


def contested(path: Path, every: Sequence[Both], old: Sequence[Item], identities: KeyRules) -> Order | None:
    """The orders of a list that both sides changed differently; None where that of either says nothing. ``old``: its
    items as it began.

    Lists that stand in one container are told apart by what their records are called.
    """
    lists: dict[str, list[Both]] = {}
    names: dict[Both, str] = {}
    nameless = set()
    for both in sorted(every):
        item = old[both.old]
        if may_move(item, path, identities):
            lists.setdefault(item.node.name, []).append(both)
            names[both] = item.label((*path, item.node.name), identities)
            if item.key is None:
                nameless.add(both)
    called = {both: name for both, name in names.items() if both not in nameless}
    found = [both for one in lists.values() if _is_contested(one, called) for both in one]
    if not found:
        return None
    orders = [sorted(found), *(sorted(found, key=lambda both: both[side]) for side in (1, 2))]
    shown = {order[place] for order in orders[1:] for place in moved([both.old for both in order])}
    near = {both for order in orders for both in _with_neighbours(order, shown)}
    return Order(*(", ".join(names[both] for both in order if len(found) <= SHORT or both in near) for order in orders))


def _is_contested(every: Sequence[Both], names: Mapping[Both, str]) -> bool:
    by_mine, by_new = (sorted(every, key=lambda both: both[side]) for side in (1, 2))
    return by_mine != by_new and _means_something(by_mine, names) and _means_something(by_new, names)


def _means_something(order: Sequence[Both], names: Mapping[Both, str]) -> bool:
    """Whether a list's order was changed by somebody whom it matters to.

    Who moved some of the records cares where they stand. Who sorted the list by name, or wrote most of it out in
    another order, does not.
    """
    gone = moved([both.old for both in order])
    spoken = [names[both] for both in order if both in names]
    by_name = len(spoken) == len(order) and spoken == sorted(spoken, key=_as_sorted)
    return bool(gone) and len(gone) * 2 <= len(order) and not by_name


def _with_neighbours(order: Sequence[Both], wanted: set[Both]) -> Iterator[Both]:
    for at, both in enumerate(order):
        if both in wanted:
            yield from order[max(0, at - 1) : at + 2]


def _as_sorted(name: str) -> list[tuple[int, str]]:
    """Orders names as people sort them: 9 before 10."""
    return [(int(part), "") if part.isdigit() else (-1, part.lower()) for part in _PARTS.findall(name)]


_PARTS = re.compile(r"\d+|\D+", re.ASCII)


def may_move(item: Item, path: Path, identities: KeyRules) -> bool:
    """Whether an item is a member of a list, told apart by what it holds and not by its name alone. ``path``: of the
    list."""
    if item.node.role is not Role.RECORD or item.node.named:
        return False
    identity = identities.key((*path, item.node.name), item.node) if item.is_unread else item.identity
    return identity != ()


def arranged(document: Document, arrangement: Arrangement) -> str | None:
    """The text of a merged document with its items put as is wanted; None where they do not stand as was told."""
    edits = _edits(document, document.root, arrangement)
    return None if edits is None else layout.finished(document, edits)


def _edits(document: Document, node: Node, wanted: Arrangement) -> list[Edit] | None:
    items = node.items
    if len(items) != wanted.count:
        return None
    inside: dict[int, list[Edit]] = {}
    for at, arrangement in wanted.inside.items():
        found = _edits(document, items[at], arrangement)
        if found is None:
            return None
        inside[at] = found
    slots = _slots(document.text, [(items[first].start, items[last].end) for first, last in _blocks(items)])
    block_of = [number for number, (first, last) in enumerate(_blocks(items)) for _ in range(first, last + 1)]
    puts = list(dict.fromkeys(block_of[at] for at in wanted.order)) or list(range(len(slots)))
    edits = []
    for here, there in enumerate(puts):
        within = [edit for at, found in inside.items() if block_of[at] == there for edit in found]
        if here == there:
            edits += within
            continue
        start, end = slots[there]
        moved_edits = [Edit(edit.start - start, edit.end - start, edit.text) for edit in within]
        edits.append(Edit(*slots[here], splice(document.text[start:end], moved_edits)))
    return edits


def _slots(text: str, spans: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Spans of items with what they are indented by, where each begins a line: it goes with them."""
    indents = [layout.indent_at(text, start) for start, _ in spans]
    if any(indent is None for indent in indents) or any(start == end for start, end in spans):
        return spans
    return [(start - len(indent or ""), end) for (start, end), indent in zip(spans, indents, strict=True)]


def _blocks(items: Sequence[Node]) -> list[tuple[int, int]]:
    """The first and last of items that move as one: with a record go the comments behind it on its line."""
    found: list[tuple[int, int]] = []
    for at, item in enumerate(items):
        if item.trailing and found:
            found[-1] = (found[-1][0], at)
        else:
            found.append((at, at))
    return found


def says_the_same(before: Document, node: Node, after: Document, other: Node) -> bool:
    """Whether two containers hold the same, in whatever order, at any depth; what is spelled alike is not read."""
    if before.raw(node) == after.raw(other):
        return True
    if not node.items or not other.items:
        return content(node) == content(other)
    if _itself(node) != _itself(other):
        return False
    spelled = [
        Counter(document.raw(item) for item in side.items) for document, side in ((before, node), (after, other))
    ]
    rest = [
        [item for item in side.items if spelled[1 - which][document.raw(item)] != spelled[which][document.raw(item)]]
        for which, (document, side) in enumerate(((before, node), (after, other)))
    ]
    for item in rest[0]:
        found = next((at for at, there in enumerate(rest[1]) if says_the_same(before, item, after, there)), None)
        if found is None:
            return False
        del rest[1][found]
    return not rest[1]


def _itself(node: Node) -> object:
    return node.name, sorted((name, value.value) for name, value in node.fields.items())
