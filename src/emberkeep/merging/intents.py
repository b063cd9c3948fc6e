"""Finding the intents behind hand edits, so that they can become standing orders.

Of each list of identified records: which field was multiplied, shifted or fixed, or which records were removed, for
all records, for those of a kind (a field with few different words), or for those of a family of names. The intent
that explains the most edits at the price of the fewest exceptions comes first; then the next among what is left.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import ROUND_HALF_UP, Decimal
from functools import cached_property

from emberkeep.documents.identity import TEXT, KeyRules
from emberkeep.documents.model import Document, facts, plain_fields
from emberkeep.documents.values import ROUNDINGS, number, same_value
from emberkeep.documents.walk import Placed, walk
from emberkeep.merging.orders import DROP, NAMED, PARENT, Order, list_of

LEAST = 3
"""Edits that an intent must explain."""
MOST_EXCEPTIONS = 0.25
"""Exceptions for each edit explained that an intent may have."""
_COST = 2
"""Edits that one exception weighs."""
_MOST_WORDS = 40
_SEPARATORS = str.maketrans("_. /:", "-----")

Condition = tuple[tuple[str, tuple[str, ...]], ...]


@dataclass(frozen=True)
class HandEdit:
    """A value that the admin changed, or a record that the admin removed (``field`` "")."""

    file: str
    record: str
    field: str
    before: str
    after: str | None


@dataclass(frozen=True)
class Intent:
    """An order that is proposed or examined: the hand edits it explains, and the records that stray from it."""

    order: Order
    explained: tuple[HandEdit, ...]
    strays: tuple[str, ...]


@dataclass(frozen=True)
class Intents:
    """What was found in one file or several; ``residue``: hand edits that no order explains."""

    intents: tuple[Intent, ...]
    residue: tuple[HandEdit, ...]


def _plain(placed: Placed) -> dict[str, str]:
    return {name: field.value.strip() for name, field in plain_fields(placed.node, inside=True).items()}


class _Row:
    """A record of the old defaults, and what the admin made of it."""

    def __init__(self, placed: Placed) -> None:
        self.placed = placed
        self.record = placed.record
        self.name = placed.name
        self.old = _plain(placed)
        self.mine: dict[str, str] | None = None

    @cached_property
    def facts(self) -> dict[str, set[str]]:
        """All that the record says in plain values."""
        return facts(self.placed.node)

    def edited(self, field: str) -> bool:
        """Whether the admin changed a value that both have."""
        here = (self.mine or {}).get(field)
        return here is not None and field in self.old and not same_value(self.old[field], here)


def rows_of(old: Document, mine: Document, identities: KeyRules) -> dict[str, list[_Row]]:
    """The records of the old defaults that can be told apart, by the list they stand in."""
    here = _Records(mine, identities)
    found: dict[str, list[_Row]] = defaultdict(list)
    for placed in walk(old, identities, values=False):
        if (placed.item.identity or placed.node.named) and _holds_more(row := _Row(placed)):
            there = here.called(placed.record)
            row.mine = None if there is None else _plain(there)
            found[list_of(placed)].append(row)
    return found


def _holds_more(row: _Row) -> bool:
    """Whether a record is more than a value with a name."""
    node = row.placed.node
    if node.named:
        return bool(node.items)
    return sum("/" not in name for name in row.old) > 1 or len(plain_fields(node)) > 1


class _Records:
    """The records of a document by name; those that are but a value are read once one is asked for that is no other."""

    def __init__(self, document: Document, identities: KeyRules) -> None:
        self._all = (document, identities)
        self._there = {placed.record: placed for placed in walk(*self._all, values=False)}
        self._whole = False

    def called(self, record: str) -> Placed | None:
        if record not in self._there and not self._whole:
            self._there = {placed.record: placed for placed in walk(*self._all)}
            self._whole = True
        return self._there.get(record)


def edits_of(path: str, rows: Iterable[_Row]) -> Iterator[HandEdit]:
    """The hand edits in some records."""
    for row in rows:
        if row.mine is None:
            yield HandEdit(path, row.record, "", row.record, None)
            continue
        for field in row.old:
            if row.edited(field):
                yield HandEdit(path, row.record, field, row.old[field], row.mine[field])


def propose(path: str, old: Document, mine: Document, identities: KeyRules) -> Intents:
    """The intents found in the hand edits of one file."""
    intents: list[Intent] = []
    residue: list[HandEdit] = []
    for name, rows in rows_of(old, mine, identities).items():
        waiting = list(edits_of(path, rows))
        search = _Search(path, name, rows, _identity_field(rows, identities))
        for found in search.intents(waiting):
            intents.append(found)
            waiting = _without(waiting, found)
        residue += waiting
    return Intents(tuple(_named(intents)), tuple(residue))


def _without(edits: Iterable[HandEdit], found: Intent) -> list[HandEdit]:
    explained = set(found.explained)
    return [edit for edit in edits if edit not in explained]


def examine(
    path: str, orders: Sequence[Order], old: Document, mine: Document, identities: KeyRules
) -> tuple[list[Intent], tuple[HandEdit, ...]]:
    """What each of some orders explains of the hand edits of one file, and what none of them does."""
    lists = rows_of(old, mine, identities)
    rows = [row for found in lists.values() for row in found]
    every = list(edits_of(path, rows))
    found = []
    explained: set[HandEdit] = set()
    for order in orders:
        met = [row for row in rows if order.meets(row.placed)]
        intent = _judged(path, order, met)
        explained.update(intent.explained)
        found.append(intent)
    return found, tuple(edit for edit in every if edit not in explained)


def _judged(path: str, order: Order, met: Sequence[_Row]) -> Intent:
    explained, strays = [], []
    for row in met:
        if order.do == DROP:
            if row.mine is None:
                explained.append(HandEdit(path, row.record, "", row.record, None))
            else:
                strays.append(row.name)
            continue
        here = (row.mine or {}).get(order.field)
        before = row.old.get(order.field)
        if before is None or here is None:
            continue
        wanted = order.value(before)
        if row.edited(order.field) and order.follows(before, here):
            explained.append(HandEdit(path, row.record, order.field, before, here))
        elif wanted is not None and not same_value(wanted, here) and not order.follows(before, here):
            strays.append(row.name)
    return Intent(order, tuple(explained), tuple(strays))


def _identity_field(rows: Sequence[_Row], identities: KeyRules) -> str:
    rule = identities.rule(rows[0].placed.path).rule or ()
    return rule[0].removeprefix("@") if len(rule) == 1 and rule[0] != TEXT else NAMED


class _Search:
    """The search for intents in one list of one file."""

    def __init__(self, path: str, name: str, rows: Sequence[_Row], identity: str) -> None:
        self.path = path
        self.list = name
        self.rows = rows
        self.identity = identity
        self.by_name = {row.record: row for row in rows}
        self.words = _words(rows, identity)

    def intents(self, edits: Sequence[HandEdit]) -> Iterator[Intent]:
        """The best intent, then the best among what is left, and so on; last the records that were removed."""
        left = [edit for edit in edits if edit.field]
        while found := self._best(left):
            yield found
            left = _without(left, found)
        gone = [edit for edit in edits if not edit.field]
        while gone and (found := self._best_removal(gone)):
            yield found
            gone = _without(gone, found)
        if len(gone) > 1:
            names = tuple(sorted(self.by_name[edit.record].name for edit in gone))
            order = self._order(DROP, "", "", ((self.identity, names),))
            yield Intent(replace(order, explains=len(gone)), tuple(gone), ())

    def _best(self, edits: Sequence[HandEdit]) -> Intent | None:
        by_field: dict[str, list[HandEdit]] = defaultdict(list)
        for edit in edits:
            by_field[edit.field].append(edit)
        best: tuple[tuple[float, ...], Intent] | None = None
        for field, made in by_field.items():
            for condition in self._conditions(made) if len(made) >= LEAST else ():
                met = [row for row in self.rows if self._meets(row, condition)]
                inside = {row.record for row in met}
                concerned = [edit for edit in made if edit.record in inside]
                for do, operand, most in _operations(concerned):
                    if best is not None and best[0][0] > most:
                        continue  # it cannot explain more
                    found = self._intent(self._order(do, operand, field, condition), met, set(concerned))
                    if found and (best is None or self._worth(found) > best[0]):
                        best = (self._worth(found), found)
        return best[1] if best else None

    def _best_removal(self, gone: Sequence[HandEdit]) -> Intent | None:
        best: Intent | None = None
        for condition in self._conditions(gone) if len(gone) >= LEAST else ():
            if not condition:
                continue
            met = [row for row in self.rows if self._meets(row, condition)]
            found = self._intent(self._order(DROP, "", "", condition), met, set(gone))
            if found and (best is None or self._worth(found) > self._worth(best)):
                best = found
        return best

    def _intent(self, order: Order, met: Sequence[_Row], waiting: set[HandEdit]) -> Intent | None:
        """A worthwhile intent of an order, with the rounding that fits best; None when it has too many exceptions."""
        rounds = order.do == "x" and "." in order.operand  # a whole factor leaves nothing to round
        rounded = [replace(order, round=name) for name in ROUNDINGS] if rounds else [order]
        judged = [_judged(self.path, each, met) for each in rounded]
        found = max(judged, key=lambda one: sum(_exactly(one.order, edit) for edit in one.explained))
        explained = tuple(edit for edit in found.explained if edit in waiting)
        if len(explained) < LEAST or len(found.strays) > MOST_EXCEPTIONS * len(explained):
            return None
        explained_by = replace(found.order, excepted=tuple(found.strays), explains=len(explained))
        return Intent(explained_by, explained, found.strays)

    def _worth(self, found: Intent) -> tuple[float, ...]:
        order = found.order
        gain = len(found.explained) - _COST * len(found.strays)
        different = len({edit.before for edit in found.explained})
        telling = {"x": 2, "+": 1, "=": 0, DROP: 0}[order.do] if different > 1 else {"=": 2}.get(order.do, 0)
        family = any("*" in text for _, wanted in order.records for text in wanted)
        return (gain, -len(order.records), not family, telling, -len(order.operand))

    def _conditions(self, edits: Sequence[HandEdit]) -> Iterator[Condition]:
        """What enough of the edited records have in common."""
        yield ()
        seen: Counter[tuple[str, str]] = Counter()
        for edit in edits:
            seen.update(self.words.get(edit.record, ()))
        for (name, value), count in seen.items():
            if count >= LEAST:
                yield ((name, (value,)),)

    def _meets(self, row: _Row, condition: Condition) -> bool:
        return all((name, value) in self.words[row.record] for name, wanted in condition for value in wanted)

    def _order(self, do: str, operand: str, field: str, condition: Condition) -> Order:
        return Order("", self.path, do, operand, field, self.list, condition)


def _exactly(order: Order, edit: HandEdit) -> bool:
    return same_value(order.value(edit.before), edit.after)


def _words(rows: Sequence[_Row], identity: str) -> dict[str, set[tuple[str, str]]]:
    """What may be a condition, by record: fields with few different words, and families of names as globs."""
    values: dict[str, Counter[str]] = defaultdict(Counter)
    for row in rows:
        for name, texts in row.facts.items():
            values[name].update(texts)
    kinds = {
        name
        for name, found in values.items()
        if 2 <= len(found) <= min(_MOST_WORDS, len(rows) / 2) and not all(number(text) is not None for text in found)
    }
    parents = {row.placed.within for row in rows}
    families: Counter[str] = Counter()
    for row in rows:
        families.update(_families(row.name))
    return {
        row.record: {
            *(
                (name, text)
                for name, texts in row.facts.items()
                if name in kinds
                for text in texts
                if not set(text) & set("*?[")
            ),
            *(((PARENT, row.placed.within),) if len(parents) > 1 and not set(row.placed.within) & set("*?[") else ()),
            *((identity, glob) for glob in _families(row.name) if families[glob] >= LEAST),
        }
        for row in rows
    }


def _families(name: str) -> tuple[str, ...]:
    """``smoked-herring``: ``smoked-*`` and ``*-herring``."""
    plain = name.translate(_SEPARATORS)
    if "-" not in plain or set(name) & set("*?["):
        return ()
    return f"{name[: plain.index('-') + 1]}*", f"*{name[plain.rindex('-') :]}"


def _operations(edits: Sequence[HandEdit]) -> Iterator[tuple[str, str, int]]:
    """Factors, offsets and fixed values that several of the edits may come from, the commonest of each, and how many at
    most."""
    factors: Counter[Decimal] = Counter()
    offsets: Counter[Decimal] = Counter()
    fixed: Counter[str] = Counter()
    for edit in edits:
        before, after = number(edit.before), number(edit.after or "")
        fixed[edit.after or ""] += 1
        if before is None or after is None:
            continue
        offsets[after - before] += 1
        if before:
            factors[(after / before).quantize(Decimal("0.01"), ROUND_HALF_UP).normalize()] += 1
    for factor, _ in factors.most_common(4):
        if factor not in (0, 1):
            yield "x", f"{factor:f}", len(edits)
    for offset, count in offsets.most_common(2):
        if count >= LEAST:
            yield "+", f"{offset:f}", count
    for value, count in fixed.most_common(2):
        if count >= LEAST and value:
            yield "=", value, count


def _named(intents: Iterable[Intent]) -> Iterator[Intent]:
    """The same with a name each, made of what they are about and what they do."""
    taken: Counter[str] = Counter()
    for intent in intents:
        order = intent.order
        about = ", ".join(wanted[0] for _, wanted in order.records if len(wanted) == 1)
        some = f"{len(intent.explained)} of {_last(order.list)}" if order.records else f"every {_last(order.list)}"
        name = f"{about or some}: {'removed' if order.do == DROP else order.words}"
        taken[name] += 1
        again = f" ({taken[name]})" if taken[name] > 1 else ""
        yield replace(intent, order=replace(order, name=name + again))


def _last(path: str) -> str:
    return path.rpartition("/")[2] or path


def together(found: Iterable[Intents]) -> Intents:
    """What was found in several files."""
    parts = list(found)
    return Intents(
        tuple(_named(intent for part in parts for intent in part.intents)),
        tuple(edit for part in parts for edit in part.residue),
    )
