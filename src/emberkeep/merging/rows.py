"""First pass of a merge by record: which items of a container are the same on all three sides."""

from __future__ import annotations

from collections.abc import Sequence
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
    _decide_doubtful((old, mine, new), (to_mine, to_new), maybe)
    _one_identity((old, mine, new), to_mine, to_new)
    _reconcile_comments(mine, new, to_mine, to_new)
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


def _one_identity(
    sides: tuple[Sequence[Item], Sequence[Item], Sequence[Item]], to_mine: dict[int, int], to_new: dict[int, int]
) -> None:
    """Records that alone bear an identity on both sides are one: neither is an old one of another name, else
    the identity would stand there twice."""
    old, mine, new = sides
    of_mine = {at: was for was, at in to_mine.items()}
    of_new = {at: was for was, at in to_new.items()}
    for a, b in same_identity(mine, new).items():
        first, second = of_mine.get(a), of_new.get(b)
        if first == second:
            continue
        if first is not None and old[first].identity != mine[a].identity:
            del to_mine[first]
        if second is not None and old[second].identity != new[b].identity:
            del to_new[second]


def _in_order(rows: Sequence[MatchedRow]) -> bool:
    """Whether what the old defaults had stands in their order on both sides."""
    was = [row for row in rows if row.old is not None]
    return all(
        one < other
        for side in ([row.mine for row in was], [row.new for row in was])
        for one, other in pairwise([at for at in side if at is not None])
    )


def _reconcile_comments(
    mine: Sequence[Item], new: Sequence[Item], to_mine: dict[int, int], to_new: dict[int, int]
) -> None:
    """The same comment to the same record on both sides is one comment, whatever each was taken for beside the old."""
    of_mine = {at: was for was, at in to_mine.items()}
    of_new = {at: was for was, at in to_new.items()}
    for a, b in same_comments(mine, new).items():
        first, second = of_mine.get(a), of_new.get(b)
        if first == second:
            continue
        if first is not None:
            del to_mine[first]
        if second is not None:
            del to_new[second]
