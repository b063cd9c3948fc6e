"""Standing orders: intents of the admin's that every new default is given, before it is merged.

::

    [[order]]
    name = "food is dear on the Rock"
    files = "mission/economy/stores.xml"    # a glob
    list = "stores/good"                    # names from the root down to the records; left out: any
    records = { kind = "food" }             # fields and what they must be: a glob, or a list; "." is the record's name,
                                            # ".." that of the record it stands in, "kind/name" the attribute of a child
    field = "worth"                         # left out where do is drop
    do = "x 2"                              # x factor | + offset | - offset | = value | drop
    round = "near"                          # whole numbers stay whole: near | up | down
    except = ["hardtack"]                   # identities, or names as in reports, of records it leaves alone
    accepted = 2031-04-02                   # without it, it is only a proposal and does nothing
    explains = 41                           # hand edits it accounted for when it was proposed

An order acts on what is new or changed in the new defaults, never on what the vendor left alone. There it is as if
the vendor had shipped the admin's value: the new defaults are rewritten, and the old ones too where the admin's
value is what the order made of them. So a value that followed the order follows it again, a new record gets it at
once, and a value that is neither the old default nor the order's stays a question.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal, InvalidOperation
from fnmatch import fnmatchcase
from pathlib import Path

from emberkeep.documents import layout
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.model import Document, Edit, Field, Role, facts, plain_fields
from emberkeep.documents.values import ROUNDINGS, is_whole, number, respelled, same_value
from emberkeep.documents.walk import Placed, walk
from emberkeep.fs import globs, writing
from emberkeep.keep.toml_reader import Reader, load, quote
from emberkeep.merging.results import Disagreement, Obeyed

DROP = "drop"
NAMED = "."
"""In ``records``: what a record goes by among its siblings, whatever field that is."""
PARENT = ".."
"""In ``records``: what the record goes by that it stands in."""


@dataclass(frozen=True)
class Order:
    """One standing order; see the module's docstring. ``do``: ``x``, ``+``, ``=`` or ``drop``; ``operand``: its
    number or value, as text."""

    name: str
    files: str
    do: str
    operand: str = ""
    field: str = ""
    list: str = ""
    records: tuple[tuple[str, tuple[str, ...]], ...] = ()
    round: str = "near"
    excepted: tuple[str, ...] = ()
    accepted: date | None = None
    explains: int = 0

    @property
    def words(self) -> str:
        """What it does: ``worth x 2``."""
        return DROP if self.do == DROP else f"{self.field} {self.do} {self.operand}"

    def meets(self, placed: Placed) -> bool:
        """Whether a record is one of those it is about, exceptions aside."""
        if self.list and self.list != list_of(placed):
            return False
        if not self.records:
            return True
        values = {**facts(placed.node), NAMED: {placed.name}, PARENT: {placed.within}}
        return all(
            any(fnmatchcase(text, glob) for text in values.get(name, ()) for glob in wanted)
            for name, wanted in self.records
        )

    def spares(self, placed: Placed) -> bool:
        """Whether a record is one of its exceptions."""
        return placed.record in self.excepted or placed.name in self.excepted

    def value(self, default: str) -> str | None:
        """What it makes of a default; None where it has nothing to say, as a factor of a word."""
        if self.do == "=":
            return self.operand
        before = number(default)
        if before is None or self.do == DROP:
            return None
        exact = before * Decimal(self.operand) if self.do == "x" else before + Decimal(self.operand)
        return respelled(exact, default, self.round)

    def follows(self, default: str, value: str) -> bool:
        """Whether ``value`` is what it makes of ``default``; whole numbers may be rounded either way."""
        wanted, found, before = self.value(default), number(value), number(default)
        if wanted is None:
            return False
        if same_value(wanted, value):
            return True
        if self.do != "x" or found is None or before is None:
            return False
        exact = before * Decimal(self.operand)
        return found == exact or (is_whole(default) and is_whole(value) and abs(found - exact) < 1)


def list_of(placed: Placed) -> str:
    """The names from the root down to a record."""
    return "/".join(part for part in placed.path if part)


# --- the file ------------------------------------------------------------------


def read(path: Path) -> list[Order]:
    """The orders in a file. UnreadableInput lists every fault."""
    table, text = load(path)
    reader = Reader(str(path), text, table)
    found = [_order(item) for item in reader.subs("order")]
    for name in {order.name for order in found if sum(other.name == order.name for other in found) > 1}:
        reader.fault("order", f"two orders are called '{name}'", "each needs a name of its own")
    reader.no_others()
    reader.raise_if_faulty()
    return found


def _order(item: Reader) -> Order:
    do, operand = _operation(item)
    records = item.sub("records")
    conditions = []
    for name, value in records.table.items():
        wanted = records.strings(name) if isinstance(value, list) else (records.string(name),)
        conditions.append((name, wanted))
    rounding = item.string("round", "near")
    if rounding not in ROUNDINGS:
        item.fault("round", f"'{rounding}' is no rounding", "near, up or down")
    field = item.string("field")
    if not field and do != DROP:
        item.fault("", "lacks the key 'field'")
    found = Order(
        item.required("name"),
        item.required("files"),
        do,
        operand,
        field.removeprefix("@"),
        item.string("list"),
        tuple(conditions),
        rounding,
        item.strings("except"),
        item.get("accepted", date, "a date, as 2031-04-02", None),
        item.get("explains", int, "a number", 0),
    )
    item.no_others()
    return found


def _operation(item: Reader) -> tuple[str, str]:
    text = item.required("do").strip()
    if text == DROP:
        return DROP, ""
    sign, operand = text[:1], text[1:].strip()
    if sign == "=" and operand:
        return "=", operand
    try:
        if sign in ("x", "+", "-") and Decimal(operand).is_finite():
            return ("+", f"-{operand}") if sign == "-" else (sign, operand)
    except InvalidOperation:
        pass
    if text:
        item.fault("do", f"'{text}' is nothing an order can do", "x 2, + 5, - 5, = 0 or drop")
    return "=", ""


def serialize(orders: Iterable[Order]) -> str:
    """The text of an orders file."""
    parts = ["# Standing orders: what every new default is given. Only those with a date of acceptance are applied.\n"]
    for order in orders:
        lines = ["", "[[order]]", f"name = {quote(order.name)}", f"files = {quote(order.files)}"]
        if order.list:
            lines.append(f"list = {quote(order.list)}")
        if order.records:
            conditions = ", ".join(f"{_key(name)} = {_texts(wanted)}" for name, wanted in order.records)
            lines.append(f"records = {{ {conditions} }}")
        if order.do != DROP:
            lines.append(f"field = {quote(order.field)}")
        lines.append(f"do = {quote(f'{order.do} {order.operand}'.strip())}")
        if order.round != "near":
            lines.append(f"round = {quote(order.round)}")
        if order.excepted:
            lines.append(f"except = {_list(order.excepted)}")
        if order.accepted:
            lines.append(f"accepted = {order.accepted.isoformat()}")
        if order.explains:
            lines.append(f"explains = {order.explains}")
        parts.append("\n".join(lines) + "\n")
    return "".join(parts)


def _key(name: str) -> str:
    return name if name.replace("-", "").replace("_", "").isalnum() and name.isascii() else quote(name)


def _texts(wanted: Sequence[str]) -> str:
    return quote(wanted[0]) if len(wanted) == 1 else _list(wanted)


def _list(texts: Sequence[str]) -> str:
    return f"[{', '.join(quote(text) for text in texts)}]"


def save(path: Path, orders: Iterable[Order]) -> None:
    """Write an orders file."""
    writing.write_whole(path, [serialize(orders).encode()])


# --- applying them -------------------------------------------------------------


@dataclass(frozen=True)
class Ordered:
    """The vendor's two sides with the orders carried out, as texts; ``matched``: names of orders that met a record."""

    old: str
    new: str
    obeyed: tuple[Obeyed, ...]
    disagreements: tuple[Disagreement, ...]
    matched: frozenset[str]


def in_force(orders: Iterable[Order], path: str) -> list[Order]:
    """The accepted orders for the file at ``path``."""
    return [order for order in orders if order.accepted and globs.matches(path, [order.files])]


def applied(
    path: str, orders: Sequence[Order], old: Document, mine: Document, new: Document, identities: KeyRules
) -> Ordered:
    """The old and new defaults of a file as ``orders`` would have them; see the module's docstring."""
    work = _Work(path, orders, old, new)
    sides = [{placed.record: placed for placed in walk(document, identities)} for document in (old, mine, new)]
    for record, placed in sides[2].items():
        met = [order for order in orders if order.meets(placed)]
        work.matched.update(order.name for order in met)
        met = [order for order in met if not order.spares(placed)]
        if met and not work.is_dropped(record):
            work.record(record, sides[0].get(record), sides[1].get(record), placed, met)
    return Ordered(
        layout.finished(old, work.old_edits),
        layout.finished(new, work.new_edits),
        tuple(work.obeyed),
        tuple(work.disagreements),
        frozenset(work.matched),
    )


class _Work:
    """The edits that orders make to the vendor's sides of one file."""

    def __init__(self, path: str, orders: Sequence[Order], old: Document, new: Document) -> None:
        self.path = path
        self.orders = orders
        self.old, self.new = old, new
        self.old_edits: list[Edit] = []
        self.new_edits: list[Edit] = []
        self.obeyed: list[Obeyed] = []
        self.disagreements: list[Disagreement] = []
        self.matched: set[str] = set()
        self._dropped = "\0"

    def is_dropped(self, record: str) -> bool:
        """Whether a record stands in the one that was dropped last: those inside come right behind it."""
        return record.startswith(f"{self._dropped}/")

    def record(
        self, record: str, old: Placed | None, mine: Placed | None, new: Placed, orders: Sequence[Order]
    ) -> None:
        """Carry out the orders about one record of the new defaults."""
        dropping = [order for order in orders if order.do == DROP]
        if dropping and mine is None:
            if old is None or self.old.raw(old.node) != self.new.raw(new.node):
                self._drop(record, old, new, dropping[0])
            return
        by_field: dict[str, list[Order]] = {}
        for order in orders:
            if order.do != DROP:
                by_field.setdefault(order.field, []).append(order)
        sides = [plain_fields(placed.node, inside=True) if placed else {} for placed in (old, mine, new)]
        for field, wanted in by_field.items():
            if field in sides[2]:
                self._field(record, field, sides, wanted)

    def _field(self, record: str, field: str, records: Sequence[Mapping[str, Field]], orders: Sequence[Order]) -> None:
        before, here, after = (side.get(field) for side in records)
        assert after is not None
        if before is not None and same_value(before.value, after.value):
            return
        values = {value for order in orders if (value := order.value(after.value)) is not None}
        if len(values) > 1:
            names = tuple(order.name for order in orders)
            self.disagreements.append(Disagreement(self.path, record, field, names))
            return
        for value in values:
            if before is not None and here is not None:
                following = [order for order in orders if order.follows(before.value, here.value)]
                if following:
                    self.old_edits.append(Edit(before.start, before.end, self.old.encode_value(here.value, before)))
            if not same_value(value, after.value):
                self.new_edits.append(Edit(after.start, after.end, self.new.encode_value(value, after)))
                if here is None or not same_value(here.value, value):
                    self.obeyed.append(Obeyed(self.path, record, field, after.value, value, orders[0].name))

    def _drop(self, record: str, old: Placed | None, new: Placed, order: Order) -> None:
        for document, placed, edits in ((self.old, old, self.old_edits), (self.new, new, self.new_edits)):
            if placed is not None:
                edits += _without(document, placed)
        self._dropped = record
        self.obeyed.append(Obeyed(self.path, record, "", self.new.raw(new.node), None, order.name))


def _without(document: Document, placed: Placed) -> list[Edit]:
    """A record taken out, with the comments that belong to it."""
    items = placed.parent.items
    at = next(at for at, node in enumerate(items) if node is placed.node)
    first = at
    while first > 0 and items[first - 1].role is Role.COMMENT and not items[first - 1].trailing:
        first -= 1
    last = at
    while last + 1 < len(items) and items[last + 1].trailing:
        last += 1
    return [layout.remove(document, items[first : last + 1])]
