"""First pass of a merge by record: which items of a container are the same on all three sides."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import NamedTuple

from emberkeep.documents.align import (
    Item,
    in_step,
    items_of,
    pairs,
    same_comments,
    same_identity,
    unchanged,
)
from emberkeep.documents.identity import KeyRules, Path
from emberkeep.documents.model import (
    Document,
    Node,
    Role,
    content,
)


class ThreeWay(NamedTuple):
    """The same record on three sides; ``mine`` and ``new`` are there."""

    old: Node | None
    mine: Node
    new: Node


class MatchedRow(NamedTuple):
    """The same item on the sides that have it, as indexes into the three lists."""

    old: int | None
    mine: int | None
    new: int | None


@dataclass(frozen=True)
class Aligned:
    """The items of one container on each side, in their order, and which are the same: every item once."""

    old: list[Item]
    mine: list[Item]
    new: list[Item]
    rows: list[MatchedRow]

    @cached_property
    def mine_of_new(self) -> dict[int, int]:
        """Index in the new list -> index in mine, for what both have."""
        return {row.new: row.mine for row in self.rows if row.new is not None and row.mine is not None}

    @cached_property
    def new_of_mine(self) -> dict[int, int]:
        """Index in mine -> index in the new list, for what both have."""
        return {mine: new for new, mine in self.mine_of_new.items()}

    def any_of(self, row: MatchedRow) -> Item:
        """The item of a row, on the first side that has it."""
        if row.old is not None:
            return self.old[row.old]
        return self.mine[row.mine] if row.mine is not None else self.new[row.new or 0]


def align(
    old: tuple[Document, Node] | None,
    mine: tuple[Document, Node],
    new: tuple[Document, Node],
    path: Path,
    identities: KeyRules,
) -> Aligned:
    """The items of a container aligned; ``old`` is None where nothing is known of it."""
    sides = [mine, new, *([old] if old is not None else [])]
    if (stepping := in_step(sides, path, identities)) is not None:
        ours, theirs, before = (*stepping, [])[:3]
        return Aligned(before, ours, theirs, [MatchedRow(at if before else None, at, at) for at in range(len(ours))])
    same = unchanged(sides, path, identities)
    nodes = (old[1] if old is not None else None, mine[1], new[1])
    for whole in (False, True):
        before, ours, theirs = (items_of(side, path, identities, same, whole=whole) for side in nodes)
        rows = _rows((before, ours, theirs), path, identities)
        if not same.inside or _in_order(rows):
            break  # else what stands inside of unchanged records counts: who moved, and past how many
    return Aligned(before, ours, theirs, rows)


def _rows(sides: tuple[list[Item], list[Item], list[Item]], path: Path, identities: KeyRules) -> list[MatchedRow]:
    """Every item once, with its place on each side that has it, in the admin's order and then the vendor's."""
    old, mine, new = sides
    maybe: tuple[dict[int, int], dict[int, int]] = ({}, {})
    to_mine, to_new = (
        pairs(old, side, path, identities, doubtful=found) for side, found in zip((mine, new), maybe, strict=True)
    )
    _decide_doubtful(sides, (to_mine, to_new), maybe)
    links = to_mine, to_new
    # An identity that both sides bear once would stand there twice, were one of the two an old one of another name.
    _give_way(same_identity(mine, new), sides, links, lambda was, now: was.identity == now.identity)
    _give_way(same_comments(mine, new), sides, links, lambda was, now: False)
    left_mine = set(range(len(mine))).difference(to_mine.values())
    left_new = set(range(len(new))).difference(to_new.values())
    beside = pairs(mine, new, path, identities, alike=False)
    direct = {a: b for a, b in beside.items() if mine[a].node.role is Role.RECORD}
    direct.update(same_comments(mine, new))
    added = {a: b for a, b in direct.items() if a in left_mine and b in left_new}
    rows = [MatchedRow(at, to_mine.get(at), to_new.get(at)) for at in range(len(old))]
    rows += [MatchedRow(None, at, added.get(at)) for at in sorted(left_mine)]
    rows += [MatchedRow(None, None, at) for at in sorted(left_new.difference(added.values()))]
    return rows


def _decide_doubtful(
    sides: tuple[list[Item], list[Item], list[Item]],
    sure: tuple[dict[int, int], dict[int, int]],
    maybe: tuple[dict[int, int], dict[int, int]],
) -> None:
    """Records that are perhaps one count as one where nothing silent comes of it: where the other side left the record
    alone, so that the result is this side's in any case, or has no partner for it either, so that it is asked."""
    old, *others = sides
    partners = [dict(side) for side in sure]
    for which, other in ((0, 1), (1, 0)):
        taken = set(sure[which].values())
        for at, there in maybe[which].items():
            if at in partners[which] or there in taken:
                continue
            across = partners[other].get(at)
            renamed = old[at].identity != others[which][there].identity
            alone = across is not None and content(old[at].node) == content(others[other][across].node)
            if across is None or (alone and not renamed):
                sure[which][at] = there
                taken.add(there)


def _give_way(
    same: Mapping[int, int],
    sides: tuple[Sequence[Item], Sequence[Item], Sequence[Item]],
    links: tuple[dict[int, int], dict[int, int]],
    stays: Callable[[Item, Item], bool],
) -> None:
    """What is one on both sides (``same``: place in mine -> in new) is taken for no two old ones: of ``links`` from old
    ones those stay of which ``stays`` says so."""
    old, *others = sides
    before = [{at: was for was, at in link.items()} for link in links]
    for pair in same.items():
        was = [known.get(at) for known, at in zip(before, pair, strict=True)]
        if was[0] == was[1]:
            continue
        for link, first, items, at in zip(links, was, others, pair, strict=True):
            if first is not None and not stays(old[first], items[at]):
                del link[first]


def _in_order(rows: Sequence[MatchedRow]) -> bool:
    """Whether what the old defaults had stands in their order on both sides."""
    was = [row for row in rows if row.old is not None]
    return all(
        one < other
        for side in ([row.mine for row in was], [row.new for row in was])
        for one, other in pairwise([at for at in side if at is not None])
    )
