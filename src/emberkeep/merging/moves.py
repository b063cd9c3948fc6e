"""Following the vendor where it moved records of a list, with the admin's edits in them.

It is done on the merged text, so that a record goes with all that the merge made of it. Only lists are followed
(records that are told apart by what they hold, not by a key), and only where the admin left their order alone.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from emberkeep.documents import layout
from emberkeep.documents.align import Item, items_of, moved, walk
from emberkeep.documents.identity import Identities, Path, joined
from emberkeep.documents.model import Document, Role

MOST = 60
"""Records that are moved in one file; where the vendor moved more, the admin's order stays."""
SHORT = 12
"""Records of a list that is shown whole; of a longer one, those that were moved and their neighbours."""


@dataclass(frozen=True)
class Move:
    """A record that is to be moved.

    ``within``: the record it stands in, by its name in reports, and its tags; ``key``: which one it is there;
    ``behind``: the keys of those before it on the side that is followed, the nearest first; ``asked``: a question was
    answered so.
    """

    within: str
    path: Path
    key: object
    behind: tuple[object, ...]
    record: str
    asked: bool = False


@dataclass(frozen=True)
class Order:
    """The records that both sides put in another order, by what each is called: as the list began, and on the two."""

    old: str
    mine: str
    new: str


def contested(
    path: Path, sides: tuple[Sequence[Item], Sequence[Item], Sequence[Item]], identities: Identities
) -> Order | None:
    """The orders of a list that both sides changed differently; None where the vendor's says nothing.

    What order means is learned from the vendor's releases: one that moved some records of a list cares where they
    stand. One that sorts the list by name, or wrote most of it out in another order, does not.
    """
    known = [{item.key: at for at, item in enumerate(side) if _may_move(item)} for side in sides]
    keys = [key for key in known[2] if key in known[0] and key in known[1]]
    theirs = moved([known[0][key] for key in keys])
    items = [sides[2][known[2][key]] for key in keys]
    names = [item.label((*path, item.node.name), identities) for item in items]
    if not theirs or len(theirs) * 2 > len(keys) or names == sorted(names, key=_as_sorted):
        return None
    here = moved([known[1][key] for key in keys])
    if not here:
        return None  # it is the vendor's own new order
    shown = {keys[place] for place in (*theirs, *here)}
    spoken = dict(zip(keys, names, strict=True))
    orders = [sorted(keys, key=side.__getitem__) for side in known]
    near = {key for order in orders for key in _with_neighbours(order, shown)}
    return Order(*(", ".join(spoken[key] for key in order if len(keys) <= SHORT or key in near) for order in orders))


def _with_neighbours(order: list[Any], wanted: set[Any]) -> Iterator[object]:
    for at, key in enumerate(order):
        if key in wanted:
            yield from order[max(0, at - 1) : at + 2]


def _as_sorted(name: str) -> list[tuple[int, str]]:
    """Orders names as people sort them: 9 before 10."""
    return [(int(part), "") if part.isdigit() else (-1, part.lower()) for part in _PARTS.findall(name)]


_PARTS = re.compile(r"\d+|\D+", re.ASCII)


def moves_of(
    within: str, path: Path, old: Sequence[Item], new: Sequence[Item], identities: Identities, *, asked: bool = False
) -> list[Move]:
    """The records that stand in another order among those that both have."""
    order = {item.key: at for at, item in enumerate(old) if _may_move(item)}
    both = [(at, order[item.key]) for at, item in enumerate(new) if _may_move(item) and item.key in order]
    if all(one[1] < other[1] for one, other in pairwise(both)):
        return []
    keys = [_key(item, path, identities) for item in new]
    found = []
    for place in sorted(moved([was for _, was in both])):
        at = both[place][0]
        label = joined(within, new[at].label((*path, new[at].node.name), identities))
        found.append(Move(within, path, keys[at], tuple(key for key in reversed(keys[:at]) if key), label, asked))
    return found


def _may_move(item: Item) -> bool:
    """Whether a record is told apart by what it holds."""
    return item.node.role is Role.RECORD and not item.node.named and (bool(item.identity) or item.is_unread)


def _key(item: Item, path: Path, identities: Identities) -> object:
    """What a record goes by wherever it stands; None for what has no such thing."""
    if not _may_move(item):
        return None
    if not item.is_unread:
        return item.key
    return (item.node.name, *(identities.key((*path, item.node.name), item.node) or ()), item.number)


def followed(
    text: str, moves: Iterable[Move], parse: Callable[[str], Document], identities: Callable[[Document], Identities]
) -> tuple[str, list[Move]]:
    """``text`` with records moved, and which ones were: not those that are gone or stand right already."""
    done = []
    for move in moves:
        document = parse(text)
        changed = _moved(document, move, identities(document))
        if changed is not None:
            text = changed
            done.append(move)
    return text, done


def _moved(document: Document, move: Move, identities: Identities) -> str | None:
    node = document.root
    if move.within:
        node = next((placed.node for placed in walk(document, identities) if placed.record == move.within), node)
        if node is document.root:
            return None
    items = items_of(node, move.path, identities)
    places = {item.key: at for at, item in enumerate(items) if _may_move(item)}
    if move.key not in places:
        return None
    at = places[move.key]
    first, last = _with_comments(items, at)
    block = [item.node for item in items[first : last + 1]]
    target = next((places[key] for key in move.behind if key in places), None)
    if target is not None:
        anchor = _with_comments(items, target)[1]
        if anchor == first - 1:
            return None
        edit = layout.insert_after(document, items[anchor].node, document, block)
    else:
        name = items[at].node.name
        start = next(i for i, item in enumerate(items) if _may_move(item) and item.node.name == name)
        head = _with_comments(items, start)[0]
        if head == first:
            return None
        edit = layout.insert_before(document, items[head].node, document, block)
    return layout.finished(document, [layout.remove(document, block), edit])


def _with_comments(items: Sequence[Item], at: int) -> tuple[int, int]:
    """The first and last of a record and the comment right above it and those behind it on its line."""
    first = last = at
    while last + 1 < len(items) and items[last + 1].node.trailing:
        last += 1
    if first > 0 and items[first - 1].node.role is Role.COMMENT and not items[first - 1].node.trailing:
        first -= 1
    return first, last
