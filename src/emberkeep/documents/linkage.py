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
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from emberkeep.documents import model
from emberkeep.documents.model import OWN, Node
from emberkeep.documents.values import said

Facts = Mapping[str, frozenset[str]]
"""The simple values of a record by the names that lead to them, with ``/``; a list's members have one name."""

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
    return found if node.own is None else {**found, OWN: frozenset({said(node.own)})}


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

    def odds(self, left: Facts, right: Facts) -> float:
        """The odds in bits that two records are one, their number left aside.

        What stands within one thing inside of them changes together, and so counts together as one fact.
        """
        told: dict[str, list[float]] = {}
        for name in dict.fromkeys((*left, *right)):  # always in the same order, so that sums are the same
            told.setdefault(name.partition("/")[0], []).append(self._bits(name, left.get(name), right.get(name)))
        return sum(sum(bits) / len(bits) for bits in told.values())

    def _bits(self, name: str, left: frozenset[str] | None, right: frozenset[str] | None) -> float:
        fact = self.of.get(name, _UNKNOWN)
        if left is None or right is None:
            return fact.differs / 2
        if left == right:
            return fact.agreed(left)
        shared = len(left & right) / max(len(left), len(right))
        return shared * fact.agreed(left & right) + (1 - shared) * fact.differs


def learn(lists: Sequence[Sequence[Facts]]) -> Weights:
    """Weights from the records of one kind as several documents have them."""
    weights = Weights(dict(_by_chance([records for records in lists if records])))
    for _ in range(_ROUNDS):
        known = dict(weights.of)
        for name, (agreed, seen) in _agreements(lists, weights).items():
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


def _agreements(lists: Sequence[Sequence[Facts]], weights: Weights) -> dict[str, tuple[float, float]]:
    """By fact, how much it agreed between the first document and the others in pairs that are each other's best, and
    how many such pairs there were; each pair counts as much as it is likely."""
    agreed: dict[str, float] = defaultdict(float)
    seen: dict[str, float] = defaultdict(float)
    for left, right in ((lists[0], other) for other in lists[1:]):
        for a, b, odds in _best(dict(enumerate(left)), dict(enumerate(right)), weights):
            likely = 1 / (1 + 2**-odds)
            for name in {*left[a], *right[b]}:
                seen[name] += likely
                agreed[name] += likely * (left[a].get(name) == right[b].get(name))
    return {name: (agreed[name], seen[name]) for name in seen}


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
    best_others: dict[tuple[int, int], float] = dict.fromkeys(((pair.left, pair.right) for pair in linked), -math.inf)
    partner = [{pair.left: pair.right for pair in linked}, {pair.right: pair.left for pair in linked}]
    for a, b in _candidates(lefts, rights):
        if (a, b) in best_others:
            continue
        odds = weights.odds(lefts[a], rights[b])
        for pair in ((a, partner[0].get(a)), (partner[1].get(b), b)):
            if pair in best_others:
                best_others[pair] = max(best_others[pair], odds)
    return [
        pair
        for pair in linked
        if weights.odds(lefts[pair.left], rights[pair.right]) - best_others[pair.left, pair.right] >= WINS_BY
    ]


def _scored(
    lefts: Mapping[int, Facts],
    rights: Mapping[int, Facts],
    weights: Weights,
    nearness: Mapping[tuple[int, int], float],
    least: float = DOUBTFUL,
) -> dict[tuple[int, int], float]:
    number = math.log2(max(len(lefts), len(rights), 1))
    found = {}
    for a, b in _candidates(lefts, rights):
        odds = weights.odds(lefts[a], rights[b]) - number + nearness.get((a, b), 0.0)
        if odds >= least:
            found[a, b] = odds
    return found


def _candidates(lefts: Mapping[int, Facts], rights: Mapping[int, Facts]) -> Iterable[tuple[int, int]]:
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


def _best(
    lefts: Mapping[int, Facts], rights: Mapping[int, Facts], weights: Weights
) -> Iterator[tuple[int, int, float]]:
    """For each record on the left its best one on the right, where each is the other's best."""
    scored = _scored(lefts, rights, weights, {})
    best_left: dict[int, tuple[float, int]] = {}
    best_right: dict[int, tuple[float, int]] = {}
    for (a, b), odds in scored.items():
        best_left[a] = max(best_left.get(a, (-math.inf, -1)), (odds, b))
        best_right[b] = max(best_right.get(b, (-math.inf, -1)), (odds, a))
    for a, (odds, b) in best_left.items():
        if best_right[b][1] == a:
            yield a, b, odds


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
