"""Second pass of a merge by record: what becomes of each item, as taken, kept or a question."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise
from typing import Generic, TypeVar

from emberkeep.documents.align import (
    Item,
    moved,
    owner_key,
    owner_of,
    renames,
)
from emberkeep.documents.identity import Path, joined
from emberkeep.documents.model import (
    VALUE,
    Document,
    Edit,
    Node,
    Role,
    comment_words,
    content,
    left_alone,
    plain_fields,
)
from emberkeep.merging.moves import Arrangement, Both, contested, may_move
from emberkeep.merging.results import (
    COMMENT,
    NEW,
    OLD,
    ORDER,
    RECORD,
    TYPED,
    Change,
    Question,
    What,
    typed_value,
)
from emberkeep.merging.rows import Aligned, MatchedRow, ThreeWay
from emberkeep.merging.sides import Sides

MergeInside = Callable[[ThreeWay, Path, str, str, str], Arrangement | None]
"""Merges a record that both sides have, at a path, with its name, the one of its parent, and its label."""


@dataclass
class Classified:
    """What becomes of the items of a container, as indexes: ``removed`` in mine, ``incoming`` in the new list,
    with the side it comes from; ``inside``: how the items of items are to be put, by ``id()`` of the node;
    ``lead``: the side whose order is asked for."""

    removed: set[int] = field(default_factory=set)
    incoming: dict[int, tuple[Document, Node]] = field(default_factory=dict)
    inside: dict[int, Arrangement] = field(default_factory=dict)
    lead: list[Item] | None = None


T = TypeVar("T")


class _ByName(Generic[T]):
    """Records by name, of which those are found that may stand in the way of another; ``levels``: see
    :meth:`Document.levels`."""

    def __init__(self, named: Mapping[str, T], levels: Callable[[str], Sequence[str]]) -> None:
        self._named, self._levels = named, levels
        self._at_level: dict[str, list[T]] = defaultdict(list)
        for name, one in named.items():
            for level in levels(name):
                self._at_level[level].append(one)

    def beside(self, name: str) -> Iterator[T]:
        """Those on the way to ``name``, that of its name, and those below."""
        yield from (self._named[level] for level in self._levels(name)[:-1] if level in self._named)
        yield from self._at_level.get(name, ())


class Classifier:
    """Classifies the items of one record."""

    def __init__(
        self, sides: Sides, three: ThreeWay, items: Aligned, path: Path, record: str, merge_inside: MergeInside
    ) -> None:
        self.sides, self.three, self.items, self.path, self.record = sides, three, items, path, record
        self.found = Classified()
        self._merge_inside = merge_inside
        self._renamed: set[int] = set()
        """Records of the new side that are the admin's under another name."""
        self._asked: set[int] = set()
        """The admin's records that were asked about, as the vendor removed them."""

    def classify(self) -> Classified:
        """What becomes of each; records inside are merged on the way."""
        for row in sorted(self.items.rows, key=lambda row: row.mine is None):  # what stays is known before what comes
            self._record(row)
        for row in self.items.rows:
            self._comment(row)
        self._note_moves()
        return self.found

    def _record(self, row: MatchedRow) -> None:
        item = self.items.any_of(row)
        if item.node.role is not Role.RECORD or item.is_unread:
            return
        if row.mine is not None and row.new is not None:
            old = self.items.old[row.old].node if row.old is not None else None
            three = ThreeWay(old, self.items.mine[row.mine].node, self.items.new[row.new].node)
            if self.sides.all_alike(three):
                return
            label, path, record = self._named(item, row)
            simple = not item.identity and item.identity is not None
            self._go_in(three, path, record, label if simple else "")
            return
        label, _, record = self._named(item, row)
        if row.mine is not None:
            self._not_in_new(row, row.mine, label, record)
        elif row.new is not None:
            self._not_in_mine(row, row.new, label, record)

    def _named(self, item: Item, row: MatchedRow) -> tuple[str, Path, str]:
        path = (*self.path, item.node.name)
        label = item.label(path, self.sides.identities)
        return label, path, joined(self.record, label)

    def _where(self, item: Item, label: str, record: str) -> tuple[str, str]:
        """Record and field for reports about a whole item: a plain value is a field of its parent."""
        node = item.node
        if item.identity == () and not node.items and VALUE in node.fields and len(node.fields) == 1:
            return self.record, label
        return record, RECORD

    def _not_in_new(self, row: MatchedRow, at: int, label: str, record: str) -> None:
        sides, item = self.sides, self.items.mine[at]
        line = sides.mine.line(item.node.start)
        where, what = self._where(item, label, record)
        text = _shown(sides.mine, item.node, what)
        if row.old is None or sides.old is None:
            sides.kept.append(Change(sides.path, where, what, What.ADDED, None, text, line))
            return
        old = self.items.old[row.old].node
        if left_alone(old, item.node) and at not in self._commented:
            sides.taken.append(Change(sides.path, where, what, What.REMOVED, text, None, line))
            self.found.removed.add(at)
            return
        before = _shown(sides.old, old, what)
        other = self._renamed_in_new.get(row.old)
        why = f"the vendor removed it; you changed {edited_in(old, item.node)}"
        name = self._called(self.items.new, other)
        if name:
            why = f"the vendor removed it, or calls it {name} now; you changed {edited_in(old, item.node)}"
        sides.stay.add(id(item.node))  # until the answer is another
        instead = self._in_place_of(item)
        if instead is not None:
            why = f"the vendor has {instead.splitlines()[0]} in its place; you changed {edited_in(old, item.node)}"
        question = sides.ask(Question(sides.path, where, what, before, text, instead, line=line, why=why, renamed=name))
        self._asked.add(at)
        if other is not None and question.answer.startswith(TYPED):
            sides.stay.discard(id(item.node))
            self._renamed.add(other)
            self._follow(ThreeWay(old, item.node, self.items.new[other].node), item, record)
            return
        if question.answer == NEW:
            sides.stay.discard(id(item.node))
            self.found.removed.add(at)
            return
        if question.answer == OLD:
            sides.replace_node(item.node, sides.old, old)
        elif question.answer.startswith(TYPED):
            self._type(item.node, question)

    def _in_place_of(self, item: Item) -> str | None:
        """What the vendor has where the admin's item would stand in its way, as it is written; None where nothing."""
        near = self._called_new.beside(item.node.name)
        found = [node for node in near if self._exclude(item.node, node, self.sides.stay)]
        return "\n".join(map(self.sides.new.raw, found)) or None

    @cached_property
    def _called_mine(self) -> _ByName[int]:
        """The places of the admin's records; of several of one name, the last."""
        named = {item.node.name: at for at, item in enumerate(self.items.mine) if item.node.role is Role.RECORD}
        return _ByName(named, self.sides.mine.levels)

    @cached_property
    def _called_new(self) -> _ByName[Node]:
        """What only the vendor has."""
        named = {item.node.name: item.node for item in self._only_new.values() if item.node.role is Role.RECORD}
        return _ByName(named, self.sides.mine.levels)

    def _exclude(self, mine: Node, new: Node, stay: Container[int]) -> bool:
        """Whether the two cannot stand beside each other. ``stay``: what of the admin's stays, by ``id()``."""
        return self.sides.mine.keeps_out(mine, new, stay) or self.sides.new.keeps_out(new, mine)

    def _has_no_place(self, item: Item, where: str, what: str, text: str) -> bool:
        """Whether one of the admin's that stays is in the way of a new one; asked about where that was not."""
        sides = self.sides
        for at in self._called_mine.beside(item.node.name):
            there = self.items.mine[at].node
            if at in self.found.removed or not self._exclude(there, item.node, sides.stay):
                continue
            if at in self._asked or not self._exclude(there, item.node, ()):  # what is in its way was asked about
                return True
            line, raw = sides.mine.line(there.start), sides.mine.raw(there)
            why = f"{raw.splitlines()[0]} is in its way"
            asked = Question(sides.path, where, what, None, raw, text, line=line, why=why)
            if sides.ask(asked, typed=False).answer != NEW:
                return True
            self.found.removed.add(at)
        return False

    def _type(self, node: Node, question: Question) -> None:
        value = node.fields[VALUE]
        text = self.sides.mine.encode_value(typed_value(question.answer), value)
        self.sides.edits.append(Edit(value.start, value.end, text))

    @cached_property
    def _commented(self) -> set[int | None]:
        """Records (indexes in mine) that the admin put comments to."""
        comments = [row for row in self.items.rows if row.mine is not None and row.new is None]
        return {
            owner_of(self.items.mine, row.mine)
            for row in comments
            if row.mine is not None and self.items.mine[row.mine].node.role is Role.COMMENT and not self._at_home(row)
        }

    def _at_home(self, row: MatchedRow) -> bool:
        """Whether a comment of mine stands to the record it was the vendor's comment to."""
        if row.old is None or row.mine is None:
            return False
        return owner_key(self.items.old, row.old) == owner_key(self.items.mine, row.mine)

    def _not_in_mine(self, row: MatchedRow, at: int, label: str, record: str) -> None:
        sides, item = self.sides, self.items.new[at]
        if at in self._renamed:
            return
        where, what = self._where(item, label, record)
        text = _shown(sides.new, item.node, what)
        if (row.old is None or sides.old is None) and self._has_no_place(item, where, what, text):
            return
        if row.old is None or sides.old is None:
            sides.taken.append(Change(sides.path, where, what, What.ADDED, None, text))
            self.found.incoming[at] = (sides.new, item.node)
            return
        old = self.items.old[row.old].node
        before = _shown(sides.old, old, what)
        if content(old, comments=False) == content(item.node, comments=False):
            sides.kept.append(Change(sides.path, where, what, What.REMOVED, before, None))
            return
        other = self._renamed_in_mine.get(row.old)
        why = f"you removed it; the vendor changed {edited_in(old, item.node)}"
        name = self._called(self.items.mine, other)
        if name:
            why = f"you removed it, or call it {name} now; the vendor changed {edited_in(old, item.node)}"
        asked = Question(sides.path, where, what, before, None, text, why=why, renamed=name)
        question = sides.ask(asked, typed=False)
        if other is not None and question.answer.startswith(TYPED):
            self._follow(ThreeWay(old, self.items.mine[other].node, item.node), item, record)
            return
        if question.answer == NEW:
            self.found.incoming[at] = (sides.new, item.node)
        elif question.answer == OLD:
            self.found.incoming[at] = (sides.old, old)

    @cached_property
    def _only_new(self) -> dict[int, Item]:
        return {
            row.new: self.items.new[row.new]
            for row in self.items.rows
            if row.old is None and row.mine is None and row.new is not None
        }

    @cached_property
    def _only_mine(self) -> dict[int, Item]:
        return {
            row.mine: self.items.mine[row.mine]
            for row in self.items.rows
            if row.old is None and row.new is None and row.mine is not None
        }

    @cached_property
    def _renamed_in_new(self) -> dict[int, int]:
        """Index of an old record -> of the one of the new side that it may have become."""
        return renames(self._gone(lambda row: row.new), self._only_new, self.path, self.sides.identities)

    @cached_property
    def _renamed_in_mine(self) -> dict[int, int]:
        return renames(self._gone(lambda row: row.mine), self._only_mine, self.path, self.sides.identities)

    def _gone(self, side: Callable[[MatchedRow], int | None]) -> dict[int, Item]:
        """Records of the old defaults that a side no longer has."""
        return {
            row.old: self.items.old[row.old] for row in self.items.rows if row.old is not None and side(row) is None
        }

    def _called(self, items: Sequence[Item], at: int | None) -> str:
        return "" if at is None else ",".join(items[at].identity or ())

    def _follow(self, three: ThreeWay, item: Item, record: str) -> None:
        """Merge a record that goes by another name on one side; its name is then a value like the others."""
        self._go_in(three, (*self.path, item.node.name), record, "")

    def _go_in(self, three: ThreeWay, path: Path, record: str, label: str) -> None:
        inside = self._merge_inside(three, path, record, self.record, label)
        if inside is not None:
            self.found.inside[id(three.mine)] = inside

    def _comment(self, row: MatchedRow) -> None:
        item = self.items.any_of(row)
        if item.node.role is Role.RECORD:
            return
        sides = self.sides
        text = comment_words(item.node)
        line = sides.mine.line(self.items.mine[row.mine].node.start) if row.mine is not None else None
        if row.mine is not None and row.new is None:
            if row.old is None:
                sides.kept.append(Change(sides.path, self.record, COMMENT, What.ADDED, None, text, line))
            elif self._at_home(row) and not self._stays(owner_of(self.items.mine, row.mine)):
                sides.taken.append(Change(sides.path, self.record, COMMENT, What.REMOVED, text, None, line))
                self.found.removed.add(row.mine)
        elif row.mine is None and row.new is not None:
            if row.old is not None:
                sides.kept.append(Change(sides.path, self.record, COMMENT, What.REMOVED, text, None, line))
            elif self._comment_has_place(row.new):
                sides.taken.append(Change(sides.path, self.record, COMMENT, What.ADDED, None, text, line))
                self.found.incoming[row.new] = (sides.new, item.node)

    def _stays(self, at: int | None) -> bool:
        """Whether it is one of the admin's that the vendor removed and that stays."""
        return at is not None and id(self.items.mine[at].node) in self.sides.stay

    def _comment_has_place(self, at: int) -> bool:
        """A vendor's comment to a record that the admin deleted has none."""
        owner = owner_of(self.items.new, at)
        return owner is None or owner in self.items.mine_of_new or owner in self.found.incoming

    def _note_moves(self) -> None:
        """Tell where the admin reordered the vendor's records, and where the vendor did and the admin did not."""
        both = sorted(
            (row.mine, row.old)
            for row in self.items.rows
            if row.mine is not None and row.old is not None and self.items.any_of(row).node.role is Role.RECORD
        )
        ours = sorted(moved([old for _, old in both]))
        if not moved([old for mine, old in both if mine in self.items.new_of_mine]):  # among what all three have
            self.found.lead = self.items.new if self._vendor_moved() else None
        elif not moved([self.items.new_of_mine[mine] for mine, _ in both if mine in self.items.new_of_mine]):
            return  # it is the vendor's own new order
        else:
            self._ask_order()
        for at in ours:
            mine, old = both[at]
            if not self._may_move(self.items.old[old]):
                continue  # where names alone tell, order means nothing
            _, _, record = self._named(self.items.old[old], MatchedRow(old, mine, None))
            line = self.sides.mine.line(self.items.mine[mine].node.start)
            self.sides.kept.append(Change(self.sides.path, record, RECORD, What.MOVED, None, None, line))

    def _vendor_moved(self) -> bool:
        """Whether the vendor put what it had in another order."""
        both = sorted((row.old, row.new) for row in self.items.rows if row.old is not None and row.new is not None)
        return any(one[1] > other[1] for one, other in pairwise(both))

    def _ask_order(self) -> None:
        """Ask whose order a list is to have, where both sides changed it and the vendor's means something."""
        sides = self.sides
        every = [
            Both(row.old, row.mine, row.new)
            for row in self.items.rows
            if row.old is not None and row.mine is not None and row.new is not None
        ]
        found = contested(self.path, every, self.items.old, sides.identities)
        if found is None:
            return
        line = sides.mine.line(self.three.mine.start)
        asked = Question(sides.path, self.record, ORDER, found.old, found.mine, found.new, line=line)
        self.found.lead = {NEW: self.items.new, OLD: self.items.old}.get(sides.ask(asked, typed=False).answer)

    def _may_move(self, item: Item) -> bool:
        return may_move(item, self.path, self.sides.identities)


def _shown(document: Document, node: Node, what: str) -> str:
    """What a whole item says, its line ends aside."""
    value = node.fields.get(VALUE)
    return (document.raw(node) if what == RECORD or value is None else value.value).replace("\r\n", "\n")


def edited_in(left: Node, right: Node) -> str:
    """What differs between two records, in a few words: ``worth 23 → 40``."""
    before, after = (
        {VALUE: side.own or "", **{name: field.value.strip() for name, field in plain_fields(side).items()}}
        for side in (left, right)
    )
    names = [name for name in dict.fromkeys([*before, *after]) if before.get(name) != after.get(name)]
    changes = [
        f"{name or 'its value'} {before.get(name, 'absent')} → {after.get(name, 'absent')}" for name in names[:3]
    ]
    if len(names) > len(changes):
        changes.append(f"{len(names) - len(changes)} more")
    return ", ".join(changes) or "what it holds"
