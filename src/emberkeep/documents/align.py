"""Which items of one container correspond to which items of another.

Records with an identity that no sibling shares correspond by it; what says the same corresponds, in order first; of
the rest, what is likely to be one by all that it says (``linkage``).
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections import Counter, defaultdict
from collections.abc import Container, Hashable, Iterator, Mapping, Sequence, Set
from itertools import pairwise
from typing import NamedTuple

from emberkeep.documents import linkage
from emberkeep.documents.formats.lines import ascending, matches
from emberkeep.documents.identity import TEXT, Key, KeyRules, Path, says_identity
from emberkeep.documents.model import VALUE, Document, Node, Role, content
from emberkeep.documents.values import number

UNCHANGED = "\0unchanged"
WORTH_IT = 2
"""Fewer items than this are all read."""


class Item(NamedTuple):
    """A node among its siblings; a tuple, since large files have very many. ``key``: name and identity with a running
    number for repeats, None when anonymous."""

    node: Node
    key: tuple[Hashable, ...] | None
    identity: Key | None
    number: int

    def label(self, path: Path, identities: KeyRules) -> str:
        """Its name in reports; ``path``: its own."""
        return identities.label(path, self.node, _identity(self, path, identities), self.number)

    @property
    def is_unread(self) -> bool:
        """Whether it is spelled alike on all sides, so that its identity was not asked for."""
        return self.key is not None and self.key[0] == UNCHANGED


def in_step(sides: Sequence[tuple[Document, Node]], path: Path, identities: KeyRules) -> list[list[Item]] | None:
    """The records that differ, side by side, where the containers hold the same items in the same order: most edits are
    but of values. None where they do not, or where that does not show at a glance."""
    names, *others = ([item.name for item in node.items] for _, node in sides)
    if any(other != names for other in others):
        return None
    spelled = [[document.text[item.start : item.end] for item in node.items] for document, node in sides]
    numbers: dict[str, dict[int, int]] = {}
    found: list[list[Item]] = [[] for _ in sides]
    for at, texts in enumerate(zip(*spelled, strict=True)):
        if texts.count(texts[0]) == len(texts):
            continue
        nodes = [node.items[at] for _, node in sides]
        below = (*path, names[at])
        keys = {identities.key(below, node) for node in nodes}
        if len(keys) > 1 or (key := keys.pop()) is None:
            return None
        if names[at] not in numbers:
            numbers[names[at]] = _numbers(sides[0][1], below, identities)
        number = numbers[names[at]][at]
        for items, node in zip(found, nodes, strict=True):
            items.append(Item(node, (names[at], *key, number), key, number))
    return found


def _numbers(parent: Node, path: Path, identities: KeyRules) -> dict[int, int]:
    """By its place among the items of ``parent``, the how many-th of its identity each record at ``path`` is."""
    places = [at for at, item in enumerate(parent.items) if item.name == path[-1]]
    seen: Counter[Hashable] = Counter()
    found = {}
    for at, key in zip(places, identities.keys(path, [parent.items[at] for at in places]), strict=True):
        seen[key] += 1
        found[at] = seen[key]
    return found


class Unchanged(NamedTuple):
    """Records that stand on all sides once and are spelled alike, and so need no reading.

    ``numbers``: ``id()`` of such a record -> a number that the same one has on every side. ``inside``: ``id()`` of
    those that stand between the same two others of them on every side.
    """

    numbers: Mapping[int, int]
    inside: frozenset[int] = frozenset()


_NONE = Unchanged({})


def unchanged(sides: Sequence[tuple[Document, Node]], path: Path, identities: KeyRules) -> Unchanged:
    """The unchanged records of a container. None where records are anonymous, or few."""
    if any(len(node.items) < WORTH_IT for _, node in sides):
        return _NONE
    names = {item.name for _, node in sides for item in node.items if item.role is Role.RECORD and not item.named}
    if any(identities.rule((*path, name)).rule == () for name in names):
        return _NONE
    spelled = [_spelled_once(document, node) for document, node in sides]
    shared = set(spelled[0]).intersection(*spelled[1:])
    texts = [text for text in spelled[0] if text in shared]
    places = [[side[text] for text in texts] for side in spelled]
    strides = zip(*([after - at for at, after in pairwise(side)] for side in places), strict=True)
    next_to_each_other = (1,) * len(sides)
    steps = [stride == next_to_each_other for stride in strides]
    between = [at for at, (before, after) in enumerate(pairwise(steps), 1) if before and after]
    numbers: dict[int, int] = {}
    inside: set[int] = set()
    for (_, node), side in zip(sides, places, strict=True):
        ids = [id(node.items[place]) for place in side]
        numbers.update(zip(ids, range(len(ids)), strict=True))
        inside.update([ids[at] for at in between])
    return Unchanged(numbers, frozenset(inside))


def _spelled_once(document: Document, node: Node) -> dict[str, int]:
    """Where the records inside ``node`` stand among its items by their text, those of which the text stands there
    once."""
    text = document.text
    found: dict[str, int] = {}
    again = set()
    for at, item in enumerate(node.items):
        if item.role is Role.RECORD:
            raw = text[item.start : item.end]
            if raw in found:
                again.add(raw)
            found[raw] = at
    for raw in again:
        del found[raw]
    return found


def items_of(
    parent: Node | None, path: Path, identities: KeyRules, same: Unchanged = _NONE, *, whole: bool = True
) -> list[Item]:
    """The items of a container with their identities; none for None. ``same``: what :func:`unchanged` found; these
    have a key, but no identity yet. ``whole``: with those of them that stand inside of others."""
    if parent is None:
        return []
    seen: Counter[Hashable] = Counter()
    found: list[Item] = []
    known = _keys_of([node for node in parent.items if id(node) not in same.numbers], path, identities)
    for node in parent.items:
        number = same.numbers.get(id(node))
        if number is not None:
            if whole or id(node) not in same.inside:
                found.append(Item(node, (UNCHANGED, number), None, 1))
            continue
        identity = known[id(node)]
        mark = (node.role, node.name, identity)
        seen[mark] += 1
        key = None if identity is None else (node.name, *identity, seen[mark])
        found.append(Item(node, key, identity, seen[mark]))
    return found


def _keys_of(nodes: Sequence[Node], path: Path, identities: KeyRules) -> dict[int, Key | None]:
    """By ``id()``, the identities of items of one container; those of one name are read together."""
    alike: dict[tuple[Role, str, bool], list[Node]] = defaultdict(list)
    for node in nodes:
        alike[node.role, node.name, node.named].append(node)
    return {
        id(node): key
        for (_, name, _), group in alike.items()
        for node, key in zip(group, identities.keys((*path, name), group), strict=True)
    }


def pairs(
    left: Sequence[Item],
    right: Sequence[Item],
    path: Path,
    identities: KeyRules,
    *,
    alike: bool = True,
    doubtful: dict[int, int] | None = None,
) -> dict[int, int]:
    """Index on the left -> index on the right, for the items that correspond. ``path``: of what they stand in.

    ``alike``: whether records that merely resemble each other count as the same where that is likely enough; pairs of
    which it is not, but may be, go into ``doubtful``.
    """
    found = same_identity(left, right)
    if len(found) in (len(left), len(right)):
        return found
    found.update(same_comments(left, right))
    _by_content(left, right, found)
    if alike:
        _by_linkage(left, right, found, path, identities, {} if doubtful is None else doubtful)
    else:
        _in_turn(left, right, found)
    return found


def same_identity(left: Sequence[Item], right: Sequence[Item]) -> dict[int, int]:
    """Records whose identity no sibling has on either side."""
    marks = [[_mark(item) for item in side] for side in (left, right)]
    counts = [Counter(side) for side in marks]
    there = {mark: at for at, mark in enumerate(marks[1]) if mark is not None and counts[1][mark] == 1}
    return {at: there[mark] for at, mark in enumerate(marks[0]) if mark in there and counts[0][mark] == 1}


def _mark(item: Item) -> Hashable:
    """A record's name and identity, None where it has none."""
    if item.key is None or item.is_unread:
        return item.key
    return item.key[:-1]


def _in_turn(left: Sequence[Item], right: Sequence[Item], found: dict[int, int]) -> None:
    """Records of one identity, which several bear, in the order they stand in."""
    taken = set(found.values())
    there: dict[Hashable, list[int]] = defaultdict(list)
    for at, item in enumerate(right):
        if at not in taken and item.key is not None:
            there[_mark(item)].append(at)
    for at, item in enumerate(left):
        if at not in found and item.key is not None and (waiting := there.get(_mark(item))):
            found[at] = waiting.pop(0)


def same_comments(left: Sequence[Item], right: Sequence[Item]) -> dict[int, int]:
    """Comments that say the same to the same record, wherever it stands; else those behind the same record and before
    the same one of those that both sides have."""
    found: dict[int, int] = {}
    if not (_has_comments(left) and _has_comments(right)):
        return found
    comments = [[at for at, item in enumerate(side) if item.node.role is Role.COMMENT] for side in (left, right)]
    owners = [{at: owner_key(side, at) for at in ats} for side, ats in zip((left, right), comments, strict=True)]
    for near_left, near_right in (owners, _gaps(left, right)):
        taken = set(found.values())
        waiting: dict[Hashable, list[int]] = defaultdict(list)
        for at in comments[1]:
            if at not in taken:
                waiting[_token(right[at]), near_right[at]].append(at)
        for at in comments[0]:
            if at not in found and (there := waiting.get((_token(left[at]), near_left[at]))):
                found[at] = there.pop(0)
    return found


def _has_comments(items: Sequence[Item]) -> bool:
    return any(item.node.role is Role.COMMENT for item in items)


def _gaps(left: Sequence[Item], right: Sequence[Item]) -> tuple[dict[int, Hashable], dict[int, Hashable]]:
    """By place on each side, the record before and the next of those that both sides have."""
    records = [
        {at: _token(item) for at, item in enumerate(side) if item.node.role is Role.RECORD} for side in (left, right)
    ]
    shared = {*records[0].values()} & {*records[1].values()}
    return _gaps_of(records[0], len(left), shared), _gaps_of(records[1], len(right), shared)


def _gaps_of(records: Mapping[int, Hashable], length: int, shared: Set[Hashable]) -> dict[int, Hashable]:
    found: dict[int, Hashable] = {}
    behind: Hashable = "end"
    for at in reversed(range(length)):
        found[at] = behind
        if records.get(at) in shared:
            behind = records[at]
    leader: Hashable = "start"
    for at in range(length):
        found[at] = (leader, found[at])
        leader = records.get(at, leader)
    return found


def owner_key(items: Sequence[Item], at: int) -> Hashable:
    """The record that a comment belongs to, by key; an anonymous one by what it says, a container's end by itself."""
    owner = owner_of(items, at)
    return "end" if owner is None else (items[at].node.trailing, _token(items[owner]))


def _by_content(left: Sequence[Item], right: Sequence[Item], found: dict[int, int]) -> None:
    """What says the same among what has no partner yet: in the same order first, then wherever it stands."""
    taken = set(found.values())
    lefts = [at for at in range(len(left)) if at not in found or left[at].key is not None]
    rights = [at for at in range(len(right)) if at not in taken or right[at].key is not None]
    held = {at: ("=", number) for number, at in enumerate(found)}
    holds = {found[at]: mark for at, mark in held.items()}
    tokens = [held.get(at) or _says(left[at]) for at in lefts], [holds.get(at) or _says(right[at]) for at in rights]
    for match in matches(*tokens):
        for step in range(match.length):
            found.setdefault(lefts[match.left + step], rights[match.right + step])
    taken = set(found.values())
    waiting: dict[Hashable, list[int]] = defaultdict(list)
    for at in rights:
        if at not in taken and right[at].node.role is Role.RECORD:
            waiting[_says(right[at])].append(at)
    for at in lefts:
        if at not in found and left[at].node.role is Role.RECORD and (there := waiting.get(_says(left[at]))):
            found[at] = there.pop(0)


def _says(item: Item) -> Hashable:
    """What an item says, its identity included."""
    return (item.node.role, *content(item.node))


def _token(item: Item) -> Hashable:
    return item.key if item.key is not None else ("#", content(item.node))


def owner_of(items: Sequence[Item], at: int) -> int | None:
    """The record that the comment at ``at`` belongs to: the one before it on its line, else the next one; None at
    a container's end."""
    if items[at].node.trailing:
        return next((i for i in range(at - 1, -1, -1) if items[i].node.role is Role.RECORD), None)
    return next((i for i in range(at + 1, len(items)) if items[i].node.role is Role.RECORD), None)


NEAR = 2.0
"""Bits that it tells when two records stand between the same neighbours."""


def _by_linkage(
    left: Sequence[Item],
    right: Sequence[Item],
    found: dict[int, int],
    path: Path,
    identities: KeyRules,
    doubtful: dict[int, int],
) -> None:
    """Records of which all that they say makes it likely that they are one: doubles of one identity among themselves,
    then what has no identity, then those that may bear another one now."""
    lefts_of, rights_of = _without_partner(left, found), _without_partner(right, set(found.values()))
    for name in sorted(lefts_of.keys() & rights_of.keys()):
        lefts, rights = lefts_of[name], rights_of[name]
        if left[lefts[0]].node.named or identities.rule((*path, name)).rule == (TEXT,):
            continue  # a value that is its own name is none by another
        weights = identities.weights((*path, name))
        facts = [{at: linkage.facts(side[at].node) for at in ats} for side, ats in ((left, lefts), (right, rights))]
        near = _near(left, right, found, lefts, rights)
        partly = dict.fromkeys(_by_part_of_key(left, right, (*path, name), identities), PART_OF_KEY)
        for mark in dict.fromkeys(_mark(left[at]) for at in lefts if left[at].key is not None):
            alike = [
                {at: said for at, said in facts[which].items() if _mark(side[at]) == mark}
                for which, side in enumerate((left, right))
            ]
            pairs_of = linkage.link(alike[0], alike[1], weights, near, least=-math.inf)
            if len(alike[0]) != len(alike[1]):  # some are new, or gone: it must be clear which
                doubtful.update((pair.left, pair.right) for pair in pairs_of)
                pairs_of = linkage.clear(pairs_of, alike[0], alike[1], weights)
            found.update((pair.left, pair.right) for pair in pairs_of)
        taken = set(found.values())
        rest = [
            {at: said for at, said in facts[0].items() if at not in found},
            {at: said for at, said in facts[1].items() if at not in taken},
        ]
        telling = [at for at, part in enumerate(identities.rule((*path, name)).rule or ()) if says_identity(part)]
        if telling:  # where a record stands tells nothing against its name
            near = {(a, b): bits for (a, b), bits in near.items() if left[a].key is None or right[b].key is None}
        for pair in linkage.link(rest[0], rest[1], weights, {**near, **partly}):
            renamed = _differ(left[pair.left].identity, right[pair.right].identity, telling)
            if pair.odds >= (linkage.SAME_RENAMED if renamed else linkage.SAME):
                found[pair.left] = pair.right
            else:
                doubtful.setdefault(pair.left, pair.right)


def _differ(one: Key | None, other: Key | None, parts: Sequence[int]) -> bool:
    """Whether two keys are not the same in some parts."""
    return one is not None and other is not None and any(one[at] != other[at] for at in parts)


PART_OF_KEY = 12.0
"""Bits that it tells when only these two have some part of a key, which is no number."""


def _by_part_of_key(
    left: Sequence[Item], right: Sequence[Item], path: Path, identities: KeyRules
) -> Iterator[tuple[int, int]]:
    """Records that share a part of their key that no other one has."""
    rule = identities.rule(path).rule or ()
    if len(rule) < 2:
        return
    named = (
        [(at, item) for at, item in enumerate(side) if item.node.role is Role.RECORD and item.node.name == path[-1]]
        for side in (left, right)
    )
    keys = [[(at, key) for at, item in side if (key := _identity(item, path, identities))] for side in named]
    for part in range(len(rule)):
        once: list[dict[str, int]] = []
        for side in keys:
            counts = Counter(key[part] for _, key in side)
            once.append({key[part]: at for at, key in side if counts[key[part]] == 1 and number(key[part]) is None})
        yield from ((at, once[1][value]) for value, at in once[0].items() if value in once[1])


def _identity(item: Item, path: Path, identities: KeyRules) -> Key | None:
    return identities.key(path, item.node) if item.is_unread else item.identity


def _without_partner(items: Sequence[Item], found: Container[int]) -> dict[str, list[int]]:
    """By their name, the records that none was found for."""
    by_name: dict[str, list[int]] = defaultdict(list)
    for at, item in enumerate(items):
        if at not in found and item.node.role is Role.RECORD:
            by_name[item.node.name].append(at)
    return by_name


def _near(
    left: Sequence[Item], right: Sequence[Item], found: Mapping[int, int], lefts: Sequence[int], rights: Sequence[int]
) -> dict[tuple[int, int], float]:
    """What standing between the same matched neighbours tells, in bits, for pairs that do."""
    matched = sorted(found.items())
    fixed = [matched[at] for at in ascending([b for _, b in matched])]
    ends = [[pair[side] for pair in fixed] for side in (0, 1)]
    gap_of = [{at: bisect_left(ends[side], at) for at in ats} for side, ats in ((0, lefts), (1, rights))]
    by_gap: dict[int, list[int]] = defaultdict(list)
    for b, gap in gap_of[1].items():
        by_gap[gap].append(b)
    near = {}
    for a, gap in gap_of[0].items():
        for b in by_gap.get(gap, ()) if len(by_gap.get(gap, ())) < MOST_NEAR else ():
            near[a, b] = NEAR
    return near


MOST_NEAR = 64


def renames(gone: Mapping[int, Item], come: Mapping[int, Item], path: Path, identities: KeyRules) -> dict[int, int]:
    """Which records that are gone may go by another name now: index of one that is gone -> of one that came. Only pairs
    that by all else that they say are likely one, and likelier than any other of the two records. ``path``: of what
    they stand in."""
    found: dict[int, int] = {}
    gone_of, come_of = _with_identity(gone), _with_identity(come)
    for name in sorted(gone_of.keys() & come_of.keys()):
        weights = identities.weights((*path, name))
        named = identities.rule((*path, name)).rule or ()
        lefts, rights = (
            {at: _but(named, linkage.facts(item.node)) for at, item in side[name].items()}
            for side in (gone_of, come_of)
        )
        pairs = linkage.link(lefts, rights, weights, least=linkage.LIKELY)
        found.update((pair.left, pair.right) for pair in linkage.clear(pairs, lefts, rights, weights))
    return found


def _with_identity(items: Mapping[int, Item]) -> dict[str, dict[int, Item]]:
    """By their name, the records that more than their name tells apart."""
    by_name: dict[str, dict[int, Item]] = defaultdict(dict)
    for at, item in items.items():
        if item.identity and item.node.role is Role.RECORD:
            by_name[item.node.name][at] = item
    return by_name


def _but(fields: Sequence[str], facts: linkage.Facts) -> linkage.Facts:
    """What a record says but for some of its fields."""
    left_out = {VALUE if field == TEXT else field.removeprefix("@") for field in fields}
    return {name: values for name, values in facts.items() if name not in left_out}


def moved(order: Sequence[int]) -> set[int]:
    """Which positions of ``order`` (indexes on the other side) are out of their order there."""
    kept = set(ascending(order))
    return {at for at in range(len(order)) if at not in kept}
