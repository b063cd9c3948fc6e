"""Which anonymous records of two lists are the same one: record linkage after Fellegi and Sunter (1969).

A *fact* is a simple value of a record, at any depth, by the names that lead to it. What a fact tells when it agrees
is learned from the documents: how often it agrees by chance between two records of a list (``u``), and how often
between two records that are surely the same (``m``). The weights of all facts add up to the odds that two records are
one, in bits; the best one-to-one assignment is then taken, and of that what is likelier than not. Pairs in the
doubtful middle are left to questions.
"""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from emberkeep.documents import model
from emberkeep.documents.model import VALUE, Node
from emberkeep.documents.values import said

Facts = Mapping[str, frozenset[str]]
"""The simple values of a record by the names that lead to them, with ``/``; a list's members have one name."""
Pairs = Sequence[tuple[int, int]]
"""Records that may be one: the keys of the left and of the right one."""

SAME = 3.0
"""Bits: odds of eight to one, from which two records count as one."""
SAME_RENAMED = 12.0
"""The same of two that go by other names: all else has to say it."""
LIKELY = 1.0
"""Bits from which it is worth asking whether a record goes by another name now."""
DOUBTFUL = -1.0
"""Bits, from which two records may be one: somebody has to say."""
WINS_BY = 1.0
"""Bits by which a pair has to beat every other one to be clear."""
_USUAL = 0.85
"""How often a fact stays as it is between two releases, until more is known."""
_ROUNDS = 3
_MOST_PAIRS = 250_000
_MOST_ALIKE = 12
"""Records that share a value; one that more of them share finds no candidates."""


def facts(node: Node) -> Facts:
    """All that a record says in simple values, its own one included."""
    found = {name: frozenset(values) for name, values in model.facts(node).items()}
    return found if node.own is None else {**found, VALUE: frozenset({said(node.own)})}


@dataclass(frozen=True)
class Fact:
    """What one fact of the records of one kind tells. ``stays``: how often it is the same in two versions of a record
    (``m``); ``chance``: how often two different records agree in it (``u``); ``shared``: how many of the others have
    a value too, as a share, by value."""

    stays: float
    chance: float
    shared: Mapping[frozenset[str], float]

    def agreed(self, value: frozenset[str]) -> float:
        """What agreeing in a value tells, in bits: the more, the fewer records have it."""
        by_chance = _within(self.shared.get(value, self.chance), _CHANCES)
        return max(0.0, math.log2(self.stays / by_chance))

    @property
    def differs(self) -> float:
        """What it tells in bits that two records differ in it."""
        return min(0.0, math.log2((1 - self.stays) / (1 - _within(self.chance, _CHANCES))))


_CHANCES = (0.001, 0.95)
_STEADINESS = (0.02, 0.99)
_UNKNOWN = Fact(_USUAL, 0.5, {})


def _within(value: float, bounds: tuple[float, float]) -> float:
    return min(max(value, bounds[0]), bounds[1])


@dataclass(frozen=True)
class Weights:
    """What each fact of the records of one kind tells, by its name."""

    of: Mapping[str, Fact] = field(default_factory=dict)

    def odds(self, lefts: Mapping[int, Facts], rights: Mapping[int, Facts], pairs: Pairs) -> list[float]:
        """The odds in bits that the two records of each pair are one, their number left aside.

        What stands within one thing inside of them changes together, and so counts together as one fact.
        """
        return self._weighed(_Table.of(lefts, rights, pairs))

    def _weighed(self, table: _Table) -> list[float]:
        """The same of pairs as they lie side by side."""
        import numpy as np

        total = np.zeros(len(table.pairs))
        for columns in table.groups:
            bits, facts = np.zeros(len(table.pairs)), np.zeros(len(table.pairs))
            for column in columns:
                bits[column.at] += column.bits(self.of.get(column.name, _UNKNOWN))
                facts[column.at] += 1
            total += np.divide(bits, facts, out=bits, where=facts > 0)
        found: list[float] = total.tolist()
        return found


@dataclass(frozen=True)
class _Column:
    """One fact of the pairs of which a record has it. ``at``: which pairs; ``values``: all that it is somewhere;
    ``left``, ``right``: by pair, which of them it is in either record, -1 where that has none."""

    name: str
    at: Any
    values: Sequence[frozenset[str]]
    left: Any
    right: Any

    def bits(self, fact: Fact) -> Any:
        """By pair, what it tells: agreement, half a difference where only one has it; of two lists, as much of both as
        they share."""
        import numpy as np

        both = (self.left >= 0) & (self.right >= 0)
        agreed = np.array([fact.agreed(value) for value in self.values])
        bits = np.where(self.equal, agreed[self.left], np.where(both, fact.differs, fact.differs / 2))
        lists = np.array([len(value) > 1 for value in self.values])
        for at in np.flatnonzero(both & ~self.equal & (lists[self.left] | lists[self.right])).tolist():
            one, other = self.values[self.left[at]], self.values[self.right[at]]
            shared = len(one & other) / max(len(one), len(other))
            bits[at] = shared * fact.agreed(one & other) + (1 - shared) * fact.differs
        return bits

    @property
    def equal(self) -> Any:
        """By pair, whether it is the same in both."""
        return self.left == self.right


@dataclass(frozen=True)
class _Table:
    """Pairs of records side by side, as columns of facts; those of one thing inside of the records are a group."""

    pairs: Pairs
    groups: Sequence[Sequence[_Column]]

    @staticmethod
    def of(lefts: Mapping[int, Facts], rights: Mapping[int, Facts], pairs: Pairs) -> _Table:
        """Those of some pairs of keys."""
        import numpy as np

        sides = [_Side.of(side, [pair[which] for pair in pairs]) for which, side in enumerate((lefts, rights))]
        groups: dict[str, list[_Column]] = defaultdict(list)
        for name in dict.fromkeys((*sides[0].having, *sides[1].having)):
            codes: dict[frozenset[str], int] = {}
            every = np.concatenate([found for side in sides for found in side.pairs_with(name)])
            at = np.unique(every, return_counts=True)[0]  # without counts it loads numpy.ma
            left, right = (side.coded(name, codes, at) for side in sides)
            groups[name.partition("/")[0]].append(_Column(name, at, list(codes), left, right))
        return _Table(pairs, list(groups.values()))


@dataclass(frozen=True)
class _Side:
    """The records on one side of pairs. ``rows``: by pair, the how many-th of them; ``having``: by the name of a fact,
    what those that have it say, by their number; ``pairs_of``: by record, its pairs."""

    rows: Any
    count: int
    having: Mapping[str, Mapping[int, frozenset[str]]]
    pairs_of: Sequence[Any]

    @staticmethod
    def of(records: Mapping[int, Facts], keys: Sequence[int]) -> _Side:
        """Of records by key, and the key in each pair."""
        import numpy as np

        numbers = {key: number for number, key in enumerate(records)}
        rows = np.array([numbers[key] for key in keys], dtype=np.intp)
        ends = np.cumsum(np.bincount(rows, minlength=len(records)))
        having: dict[str, dict[int, frozenset[str]]] = defaultdict(dict)
        for number, record in enumerate(records.values()):
            for name, value in record.items():
                having[name][number] = value
        pairs = np.argsort(rows, kind="stable").astype(np.int32)
        return _Side(rows, len(records), having, np.split(pairs, ends[:-1]))

    def coded(self, name: str, codes: dict[frozenset[str], int], at: Any) -> Any:
        """By pair, the number of what its record says of a fact, -1 where it says nothing."""
        import numpy as np

        found = np.full(self.count, -1, dtype=np.int32)
        for number, value in self.having.get(name, {}).items():
            found[number] = codes.setdefault(value, len(codes))
        return found[self.rows[at]]

    def pairs_with(self, name: str) -> Iterator[Any]:
        """The pairs of the records that have a fact."""
        return (self.pairs_of[number] for number in self.having.get(name, ()))


def learn(lists: Sequence[Sequence[Facts]]) -> Weights:
    """Weights from the records of one kind as several documents have them."""
    weights = Weights(dict(_by_chance([records for records in lists if records])))
    first, *others = [dict(enumerate(records)) for records in lists]
    tables = [(_Table.of(first, other, _candidates(first, other)), max(len(first), len(other))) for other in others]
    for _ in range(_ROUNDS):
        known = dict(weights.of)
        for name, (agreed, seen) in _agreements(tables, weights).items():
            stays = _within((agreed + 4 * _USUAL) / (seen + 4), _STEADINESS)
            known[name] = replace(known[name], stays=stays)
        weights = Weights(known)
    return weights


def _by_chance(lists: Sequence[Sequence[Facts]]) -> Iterator[tuple[str, Fact]]:
    """What two different records of a list have in common by chance; where little is known, half a record more does."""
    values: dict[str, Counter[frozenset[str]]] = defaultdict(Counter)
    alike: Counter[str] = Counter()
    pairs: Counter[str] = Counter()
    for records in lists:
        here: dict[str, Counter[frozenset[str]]] = defaultdict(Counter)
        for record in records:
            for name, value in record.items():
                here[name][value] += 1
        for name, counts in here.items():
            values[name] += counts
            alike[name] += sum(count * (count - 1) for count in counts.values())
            pairs[name] += counts.total() * (counts.total() - 1)
    many, records_in_all = len(lists), sum(map(len, lists))
    for name, counts in values.items():
        shared = {value: max(count - many / 2, 0.5) / records_in_all for value, count in counts.items()}
        yield name, Fact(_USUAL, (alike[name] / many + 1) / (pairs[name] / many + 2), shared)


def _agreements(tables: Sequence[tuple[_Table, int]], weights: Weights) -> dict[str, tuple[float, float]]:
    """By fact, how much it agreed between the first document and the others in pairs that are each other's best, and
    how many such pairs there were; each pair counts as much as it is likely. With each table, of how many records."""
    import numpy as np

    agreed: dict[str, float] = defaultdict(float)
    seen: dict[str, float] = defaultdict(float)
    for table, records in tables:
        odds = np.array(weights._weighed(table)) - math.log2(max(records, 1))
        best = _each_others_best(table.pairs, odds.tolist())
        likely = 1 / (1 + 2 ** -odds[best])
        by_pair = np.zeros(len(table.pairs))
        by_pair[best] = likely
        for column in (column for columns in table.groups for column in columns):
            seen[column.name] += float(by_pair[column.at].sum())
            agreed[column.name] += float(by_pair[column.at] @ column.equal)
    return {name: (agreed[name], seen[name]) for name in seen if seen[name]}


@dataclass(frozen=True)
class Linked:
    """Two records, by index, and the odds in bits that they are one."""

    left: int
    right: int
    odds: float


def link(
    lefts: Mapping[int, Facts],
    rights: Mapping[int, Facts],
    weights: Weights,
    nearness: Mapping[tuple[int, int], float] | None = None,
    *,
    least: float = DOUBTFUL,
) -> list[Linked]:
    """The best one-to-one assignment between records by index; pairs with odds below ``least`` are none."""
    scored = _scored(lefts, rights, weights, nearness or {}, least)
    found = []
    for pairs in _islands(scored):
        found += _assigned(pairs, least if math.isfinite(least) else min(scored.values()) - 1)
    return sorted(found, key=lambda pair: pair.left)


def clear(
    linked: Sequence[Linked], lefts: Mapping[int, Facts], rights: Mapping[int, Facts], weights: Weights
) -> list[Linked]:
    """Of pairs, those that are likelier by far than any other pair of either record that is worth a look."""
    chosen = [(pair.left, pair.right) for pair in linked]
    pairs = list(dict.fromkeys([*_candidates(lefts, rights), *chosen]))
    odds = dict(zip(pairs, weights.odds(lefts, rights, pairs), strict=True))
    best_left: dict[int, float] = dict.fromkeys(lefts, -math.inf)
    best_right: dict[int, float] = dict.fromkeys(rights, -math.inf)
    for a, b in odds.keys() - set(chosen):
        best_left[a] = max(best_left[a], odds[a, b])
        best_right[b] = max(best_right[b], odds[a, b])
    return [
        pair
        for pair, at in zip(linked, chosen, strict=True)
        if odds[at] - max(best_left[pair.left], best_right[pair.right]) >= WINS_BY
    ]


def _scored(
    lefts: Mapping[int, Facts],
    rights: Mapping[int, Facts],
    weights: Weights,
    nearness: Mapping[tuple[int, int], float],
    least: float,
) -> dict[tuple[int, int], float]:
    number = math.log2(max(len(lefts), len(rights), 1))
    pairs = _candidates(lefts, rights)
    scored = zip(pairs, weights.odds(lefts, rights, pairs), strict=True)
    found = {pair: odds - number + nearness.get(pair, 0.0) for pair, odds in scored}
    return {pair: odds for pair, odds in found.items() if odds >= least}


def _candidates(lefts: Mapping[int, Facts], rights: Mapping[int, Facts]) -> Pairs:
    """Pairs worth a look: all of few, else those that share a value that few have."""
    if len(lefts) * len(rights) <= 4096:
        return [(a, b) for a in lefts for b in rights]
    by_value: dict[Hashable, list[int]] = defaultdict(list)
    for b, record in rights.items():
        for value in record.items():
            by_value[value].append(b)
    found = dict.fromkeys(
        (a, b)
        for a, record in lefts.items()
        for value in record.items()
        if len(there := by_value.get(value, ())) <= _MOST_ALIKE
        for b in there
    )
    return list(found)[:_MOST_PAIRS]


def _each_others_best(pairs: Pairs, odds: Sequence[float]) -> list[int]:
    """Which pairs are the best one of both records; of those that may be one at all."""
    best_left: dict[int, tuple[float, int, int]] = {}
    best_right: dict[int, tuple[float, int]] = {}
    for at, ((a, b), bits) in enumerate(zip(pairs, odds, strict=True)):
        if bits >= DOUBTFUL:
            best_left[a] = max(best_left.get(a, (-math.inf, -1, -1)), (bits, b, at))
            best_right[b] = max(best_right.get(b, (-math.inf, -1)), (bits, a))
    return [at for a, (_, b, at) in best_left.items() if best_right[b][1] == a]


def _islands(scored: Mapping[tuple[int, int], float]) -> Iterator[dict[tuple[int, int], float]]:
    """Pairs that have to do with each other, island by island."""
    by_left: dict[int, list[int]] = defaultdict(list)
    by_right: dict[int, list[int]] = defaultdict(list)
    for a, b in scored:
        by_left[a].append(b)
        by_right[b].append(a)
    seen: set[int] = set()
    for first in by_left:
        if first in seen:
            continue
        lefts, queue = set(), [first]
        while queue:
            a = queue.pop()
            if a in lefts:
                continue
            lefts.add(a)
            queue += [other for b in by_left[a] for other in by_right[b] if other not in lefts]
        seen |= lefts
        yield {(a, b): scored[a, b] for a in sorted(lefts) for b in by_left[a]}


def _assigned(scored: Mapping[tuple[int, int], float], least: float) -> list[Linked]:
    """The assignment with the greatest sum of odds."""
    best: dict[int, Linked] = {}
    for (a, b), odds in scored.items():
        if a not in best or odds > best[a].odds:
            best[a] = Linked(a, b, odds)
    if len({pair.right for pair in best.values()}) == len(best):
        return list(best.values())  # each has its best: no sum is greater
    import numpy as np  # only where there is something to choose
    from scipy.optimize import linear_sum_assignment  # type: ignore[import-untyped, unused-ignore]

    lefts = sorted({a for a, _ in scored})
    rights = sorted({b for _, b in scored})
    gains = np.zeros((len(lefts), len(rights)))
    for i, a in enumerate(lefts):
        for j, b in enumerate(rights):
            gains[i, j] = scored.get((a, b), least) - least
    rows, columns = linear_sum_assignment(gains, maximize=True)
    chosen = [(lefts[i], rights[j]) for i, j in zip(rows, columns, strict=True)]
    return [Linked(a, b, scored[a, b]) for a, b in chosen if (a, b) in scored]
