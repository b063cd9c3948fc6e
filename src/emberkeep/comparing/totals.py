"""Economy totals: per kind of record the sum of each numeric field before and after, and the largest movers."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal

from emberkeep.documents.identity import KeyRules, Rule
from emberkeep.documents.model import VALUE, Document, Node, plain_fields
from emberkeep.documents.values import number
from emberkeep.documents.walk import walk

LEAST_RECORDS = 4
MOST_KINDS = 40
_PLACES = ("x", "y", "z")
"""Fields that say where something is; adding them up says nothing."""


@dataclass(frozen=True)
class Total:
    """The sum of one field over the records of one kind on both sides, and over how many records."""

    kind: str
    field: str
    left: Decimal
    right: Decimal
    left_records: int
    right_records: int

    @property
    def moved(self) -> Decimal:
        """By how much it changed."""
        return self.right - self.left


@dataclass(frozen=True)
class Mover:
    """A record's numeric field that changed; None where the record is missing."""

    record: str
    field: str
    left: Decimal | None
    right: Decimal | None

    @property
    def moved(self) -> Decimal:
        """By how much it changed; a missing one counts as nothing."""
        return (self.right or Decimal(0)) - (self.left or Decimal(0))


@dataclass(frozen=True)
class Totals:
    """One list of records of one file. ``grouped_by``: the field that tells a record's kind, "" when none does.

    ``totals``: by kind and field, those that changed or not; ``movers``: changed fields, the largest share first.
    """

    path: str
    records: str
    grouped_by: str
    totals: tuple[Total, ...]
    movers: tuple[Mover, ...]

    @property
    def changed(self) -> tuple[Total, ...]:
        """The totals that changed, the largest share of change first."""
        return tuple(sorted((total for total in self.totals if total.moved), key=_weight, reverse=True))


@dataclass(frozen=True)
class _Record:
    """A record's plain values by field, and its name."""

    name: str
    texts: Mapping[str, str]
    numbers: Mapping[str, Decimal]


def totals(path: str, left: Document, right: Document, rules: Mapping[str, Rule]) -> list[Totals]:
    """Totals of every list of at least :data:`LEAST_RECORDS` alike records that have numbers."""
    identities = KeyRules([left], [right], rules)
    sides = [_lists(document, identities) for document in (left, right)]
    found = []
    for at in dict.fromkeys([*sides[0], *sides[1]]):
        first, second = sides[0].get(at, []), sides[1].get(at, [])
        if max(len(first), len(second)) >= LEAST_RECORDS:
            made = _totals(path, at, first, second)
            found += [made] if made.totals else []
    return found


def _lists(document: Document, identities: KeyRules) -> dict[str, list[_Record]]:
    """Records with numbers, by the path of their list; those inside another list's records count as its own list."""
    found: dict[str, list[_Record]] = defaultdict(list)
    for placed in walk(document, identities):
        if list(placed.node.fields) == [VALUE]:
            continue
        texts, numbers = _values(placed.node)
        if numbers and placed.item.identity != ():
            found["/".join(part for part in placed.path[1:] if part)].append(_Record(placed.record, texts, numbers))
    return found


def _values(node: Node) -> tuple[dict[str, str], dict[str, Decimal]]:
    plain = {name: field.value for name, field in plain_fields(node, inside=True).items()}
    numbers = {
        name: value for name, text in plain.items() if name not in _PLACES and (value := number(text)) is not None
    }
    return {name: text.strip().strip('"') for name, text in plain.items() if name not in numbers}, numbers


def _totals(path: str, at: str, left: list[_Record], right: list[_Record]) -> Totals:
    field = _grouping([*left, *right])
    sums = [_sums(side, field) for side in (left, right)]
    nothing = (Decimal(0), 0)
    rows = []
    for kind, name in sorted({*sums[0], *sums[1]}):
        before, after = (side.get((kind, name), nothing) for side in sums)
        rows.append(Total(kind, name, before[0], after[0], before[1], after[1]))
    return Totals(path, at, field, tuple(rows), tuple(_movers(left, right)))


def _grouping(records: list[_Record]) -> str:
    """The text field with the fewest different values that nearly all records have: their kind."""
    values: dict[str, Counter[str]] = defaultdict(Counter)
    for record in records:
        for name, text in record.texts.items():
            values[name][text] += 1
    suited = [
        (len(found), name)
        for name, found in values.items()
        if 2 <= len(found) <= min(MOST_KINDS, len(records) / 3) and found.total() >= 0.9 * len(records)
    ]
    return min(suited)[1] if suited else ""


def _sums(records: list[_Record], field: str) -> dict[tuple[str, str], tuple[Decimal, int]]:
    found: dict[tuple[str, str], tuple[Decimal, int]] = {}
    for record in records:
        kind = record.texts.get(field, "(none)") if field else "all"
        for name, value in record.numbers.items():
            total, count = found.get((kind, name), (Decimal(0), 0))
            found[kind, name] = (total + value, count + 1)
    return found


def _movers(left: list[_Record], right: list[_Record]) -> Iterator[Mover]:
    before = {record.name: record for record in left}
    after = {record.name: record for record in right}
    found = []
    for name in dict.fromkeys([*before, *after]):
        first = before[name].numbers if name in before else {}
        second = after[name].numbers if name in after else {}
        for field in dict.fromkeys([*first, *second]):
            mover = Mover(name, field, first.get(field), second.get(field))
            if mover.left is not None and mover.right is not None and mover.moved:
                found.append(mover)
    return iter(sorted(found, key=_weight, reverse=True))


def _weight(item: Total | Mover) -> tuple[Decimal, Decimal]:
    """The share by which something changed, then the amount."""
    base = max(abs(item.left or Decimal(0)), abs(item.right or Decimal(0)))
    return (abs(item.moved) / base if base else Decimal(0)), abs(item.moved)
