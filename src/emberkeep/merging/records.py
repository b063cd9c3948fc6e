"""Three-way merge of two documents into the admin's: align, classify, and render as edits against the admin's text.

Values: whoever alone changed one wins; both alike is agreement; both differently is a question, and the admin's
value stays. Records: a new one of the vendor's comes in beside its neighbours; one the admin deleted stays deleted
and one the vendor deleted goes, unless the other side changed it since (a question). The admin's order stays.
Comments are items of their own: a vendor's comment travels with the record it stands in front of, the admin's are
never touched.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import pairwise
from typing import NamedTuple

from emberkeep.documents import layout
from emberkeep.documents.align import (
    Item,
    in_step,
    items_of,
    moved,
    owner_key,
    owner_of,
    pairs,
    renames,
    same_comments,
    unchanged,
)
from emberkeep.documents.identity import Identities, Path, joined
from emberkeep.documents.model import (
    OWN,
    Document,
    Edit,
    Field,
    Node,
    Role,
    comment_words,
    content,
    kinds_of,
    left_alone,
    plain_fields,
    same,
)
from emberkeep.documents.values import same_value
from emberkeep.merging.moves import Arrangement, Both, contested, may_move
from emberkeep.merging.results import (
    COMMENT,
    MINE,
    NEW,
    OLD,
    ORDER,
    RECORD,
    TYPED,
    Change,
    Question,
    Settle,
    What,
    typed_value,
)


@dataclass(frozen=True)
class RecordsMerged:
    """The merged text with all that was found on the way."""

    text: str
    taken: tuple[Change, ...]
    kept: tuple[Change, ...]
    questions: tuple[Question, ...]
    arrangement: Arrangement | None = None
    """How items are to change places, once the text is as it is here."""


def merge_documents(
    path: str,
    old: Document | None,
    mine: Document,
    new: Document,
    identities: Identities,
    settle: Settle,
) -> RecordsMerged:
    """Bring ``new`` into ``mine``; ``old`` is what both began from, None when nothing is known of it."""
    merger = _Merger(path, old, mine, new, identities, settle)
    arrangement = merger.node(_Three(old.root if old else None, mine.root, new.root), (mine.root.name,), "", "", "")
    return RecordsMerged(
        layout.finished(mine, merger.edits),
        tuple(merger.taken),
        tuple(merger.kept),
        tuple(merger.questions),
        arrangement,
    )


class _Three(NamedTuple):
    """The same record on three sides; ``mine`` and ``new`` are there."""

    old: Node | None
    mine: Node
    new: Node


class _Row(NamedTuple):
    """The same item on the sides that have it, as indexes into the three lists."""

    old: int | None
    mine: int | None
    new: int | None


@dataclass
class _Merger:
    path: str
    old: Document | None
    mine: Document
    new: Document
    identities: Identities
    settle: Settle
    edits: list[Edit] = field(default_factory=list)
    taken: list[Change] = field(default_factory=list)
    kept: list[Change] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)

    # --- one record ----------------------------------------------------------

    def node(self, three: _Three, path: Path, record: str, parent: str, label: str) -> Arrangement | None:
        """Merge a record that both the admin and the vendor have; how its items are to be put."""
        if self.all_alike(three):
            return None
        kinds = self._containers(three)
        if len(kinds) > 1 or (kinds == {""} and _shape_differs(three)) or self._emptied(three):
            self._as_one(three, record)
            return None
        for name in _names(three) if kinds == {""} else ():
            where, what = (parent, label) if name == OWN and label else (record, name or "(text)")
            self._field(three, name, where, what)
        return _Items(self, three, path, record).merge()

    def _containers(self, three: _Three) -> set[str]:
        """The kinds of container that the sides are; "" for what is none."""
        sides = [(self.mine, three.mine), (self.new, three.new)]
        if self.old is not None and three.old is not None:
            sides.append((self.old, three.old))
        return kinds_of(sides)

    def _emptied(self, three: _Three) -> bool:
        """Whether the vendor emptied what the admin left as it was: then it is spelled as the vendor spells it."""
        if three.new.own not in ("[]", "{}") or three.old is None or self.old is None:
            return False
        return same(self.old, three.old, self.mine, three.mine)

    def all_alike(self, three: _Three) -> bool:
        """Whether all sides spell this record alike, so that it need not be read."""
        if self.old is None or three.old is None:
            return self.mine.raw(three.mine) == self.new.raw(three.new)
        text = self.mine.raw(three.mine)
        return text == self.new.raw(three.new) and text == self.old.raw(three.old)

    def _field(self, three: _Three, name: str, record: str, label: str) -> None:
        old = three.old.fields.get(name) if three.old else None
        mine, new = three.mine.fields.get(name), three.new.fields.get(name)
        before, here, after = _value(old), _value(mine), _value(new)
        if here == before == after:
            return
        line = self.mine.line(mine.start if mine else three.mine.start)
        if same_value(after, before):
            if not same_value(here, before):
                self.kept.append(Change(self.path, record, label, _what(before, here), before, here, line))
            return
        if same_value(here, after):
            return
        if same_value(here, before):
            self._take_field(three, mine, new, Change(self.path, record, label, _what(here, after), here, after, line))
            return
        question = self.ask(Question(self.path, record, label, before, here, after, line=line))
        self._answer_field(three, question, mine, {NEW: (self.new, new), OLD: (self.old, old)})

    def _take_field(self, three: _Three, mine: Field | None, new: Field | None, change: Change) -> None:
        self.taken.append(change)
        self._write_field(three.mine, mine, self.new, new)

    def _write_field(self, node: Node, mine: Field | None, source: Document, value: Field | None) -> None:
        if value is None:
            if mine is not None:
                self.edits.append(Edit(*mine.outer, ""))
            return
        raw = self.mine.adopt_raw(source.text[value.start : value.end], mine)
        if mine is None:
            self.edits.extend(self.mine.add_field(node, value, raw))
        else:
            self.edits.append(Edit(mine.start, mine.end, raw))

    def _answer_field(
        self,
        three: _Three,
        question: Question,
        mine: Field | None,
        sides: dict[str, tuple[Document | None, Field | None]],
    ) -> None:
        if question.open or question.answer == MINE:
            return
        if question.answer in sides:
            source, value = sides[question.answer]
            self._write_field(three.mine, mine, source or self.new, value)
            return
        text = self.mine.encode_value(typed_value(question.answer), mine)
        if mine is None:
            value = next(value for _, value in sides.values() if value is not None)
            self.edits.extend(self.mine.add_field(three.mine, value, text))
        else:
            self.edits.append(Edit(mine.start, mine.end, text))

    def _as_one(self, three: _Three, record: str) -> None:
        """A record that has a plain value on one side and records inside on another is merged as one thing."""
        old = three.old
        line = self.mine.line(three.mine.start)
        before = self.old.raw(old) if self.old and old else None
        here, after = self.mine.raw(three.mine), self.new.raw(three.new)
        vendor_same = old is not None and self.old is not None and same(self.old, old, self.new, three.new)
        admin_same = old is not None and self.old is not None and same(self.old, old, self.mine, three.mine)
        if vendor_same:
            if not admin_same:
                self.kept.append(Change(self.path, record, RECORD, What.SET, before, here, line))
            return
        if admin_same:
            self.taken.append(Change(self.path, record, RECORD, What.SET, here, after, line))
            self.replace_node(three.mine, self.new, three.new)
            return
        question = self.ask(Question(self.path, record, RECORD, before, here, after, line=line))
        if question.answer == NEW:
            self.replace_node(three.mine, self.new, three.new)
        elif question.answer == OLD and old is not None and self.old is not None:
            self.replace_node(three.mine, self.old, old)

    def replace_node(self, node: Node, source: Document, other: Node) -> None:
        """Put another side's text in the place of a node."""
        indent = self.mine.block_indent(node)
        indent = layout.line_indent(self.mine.text, node.start) if indent is None else indent
        block = layout.moved_block(self.mine, source, [other], indent)[len(indent) :]
        self.edits.append(Edit(node.start, node.end, block))

    # --- questions -----------------------------------------------------------

    def ask(self, question: Question, *, typed: bool = True) -> Question:
        """Note a question with its answer, if there is one by now. ``typed``: whether a value can be the answer."""
        answer, by = self.settle(question)
        if answer.startswith(TYPED) and (question.field == RECORD or not typed):
            is_name = question.renamed and typed_value(answer) == question.renamed
            answer, by = (answer, by) if is_name else ("", "")
        asked = replace(question, answer=answer, by=by)
        self.questions.append(asked)
        return asked


class _Items:
    """The items of one record on three sides."""

    def __init__(self, merger: _Merger, three: _Three, path: Path, record: str) -> None:
        self.merger = merger
        self.three = three
        self.path = path
        self.record = record
        identities = merger.identities
        sides = [(merger.mine, three.mine), (merger.new, three.new)]
        if merger.old is not None and three.old is not None:
            sides.append((merger.old, three.old))
        if (stepping := in_step(sides, path, identities)) is not None:
            self.mine, self.new, self.old = (*stepping, [])[:3]
            self.rows = [_Row(at if self.old else None, at, at) for at in range(len(self.mine))]
        else:
            self._align(sides)
        self.mine_of_new = {row.new: row.mine for row in self.rows if row.new is not None and row.mine is not None}
        self.removed: set[int] = set()
        self.incoming: dict[int, tuple[Document, Node]] = {}
        self.stay: set[int] = set()
        self.renamed: set[int] = set()
        """Records of the new side that are the admin's under another name."""
        self.edits: list[Edit] = []
        self.before: list[Edit] = []
        """Insertions in front of something: at one place they come behind those that follow something."""
        self.put: list[tuple[int, bool, list[int]]] = []
        """Where something is put in, whether in front of what stands there, and what comes in by it."""
        self.inside: dict[int, Arrangement] = {}
        """How the items of items are to be put, by ``id()`` of the node."""
        self.lead: list[Item] | None = None
        """The side whose order is asked for."""

    def _align(self, sides: Sequence[tuple[Document, Node]]) -> None:
        three, path, identities = self.three, self.path, self.merger.identities
        same = unchanged(sides, path, identities)
        for whole in (False, True):
            self.old, self.mine, self.new = (
                items_of(side, path, identities, same, whole=whole) for side in (three.old, three.mine, three.new)
            )
            self.rows = _rows((self.old, self.mine, self.new), path, identities)
            if not same.inside or _in_order(self.rows):
                break  # else what stands inside of unchanged records counts: who moved, and past how many

    def merge(self) -> Arrangement | None:
        for row in self.rows:
            self._record(row)
        for row in self.rows:
            self._comment(row)
        self._note_moves()
        self._remove()
        self._insert()
        self.merger.edits.extend([*self.edits, *self.before])
        return self._arrangement()

    # --- classify ------------------------------------------------------------

    def _record(self, row: _Row) -> None:
        item = self._any(row)
        if item.node.role is not Role.RECORD or item.is_unread:
            return
        if row.mine is not None and row.new is not None:
            old = self.old[row.old].node if row.old is not None else None
            three = _Three(old, self.mine[row.mine].node, self.new[row.new].node)
            if self.merger.all_alike(three):
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

    def _named(self, item: Item, row: _Row) -> tuple[str, Path, str]:
        path = (*self.path, item.node.name)
        label = item.label(path, self.merger.identities)
        return label, path, joined(self.record, label)

    def _any(self, row: _Row) -> Item:
        if row.old is not None:
            return self.old[row.old]
        return self.mine[row.mine] if row.mine is not None else self.new[row.new or 0]

    def _where(self, item: Item, label: str, record: str) -> tuple[str, str]:
        """Record and field for reports about a whole item: a plain value is a field of its parent."""
        node = item.node
        if item.identity == () and not node.items and OWN in node.fields and len(node.fields) == 1:
            return self.record, label
        return record, RECORD

    def _not_in_new(self, row: _Row, at: int, label: str, record: str) -> None:
        merger, item = self.merger, self.mine[at]
        line = merger.mine.line(item.node.start)
        where, what = self._where(item, label, record)
        text = _shown(merger.mine, item.node, what)
        if row.old is None or merger.old is None:
            merger.kept.append(Change(merger.path, where, what, What.ADDED, None, text, line))
            return
        old = self.old[row.old].node
        if left_alone(old, item.node) and at not in self._commented:
            merger.taken.append(Change(merger.path, where, what, What.REMOVED, text, None, line))
            self.removed.add(at)
            return
        before = _shown(merger.old, old, what)
        other = self._renamed_in_new.get(row.old)
        why = f"the vendor removed it; you changed {edited_in(old, item.node)}"
        name = self._called(self.new, other)
        if name:
            why = f"the vendor removed it, or calls it {name} now; you changed {edited_in(old, item.node)}"
        question = merger.ask(Question(merger.path, where, what, before, text, None, line=line, why=why, renamed=name))
        if other is not None and question.answer.startswith(TYPED):
            self.renamed.add(other)
            self._follow(_Three(old, item.node, self.new[other].node), item, record)
            return
        if question.answer == NEW:
            self.removed.add(at)
            return
        self.stay.add(at)
        if question.answer == OLD:
            merger.replace_node(item.node, merger.old, old)
        elif question.answer.startswith(TYPED):
            self._type(item.node, question)

    def _type(self, node: Node, question: Question) -> None:
        value = node.fields[OWN]
        text = self.merger.mine.encode_value(typed_value(question.answer), value)
        self.merger.edits.append(Edit(value.start, value.end, text))

    @cached_property
    def _commented(self) -> set[int | None]:
        """Records (indexes in mine) that the admin put comments to."""
        comments = [row for row in self.rows if row.mine is not None and row.new is None]
        return {
            owner_of(self.mine, row.mine)
            for row in comments
            if row.mine is not None and self.mine[row.mine].node.role is Role.COMMENT and self._put_by_admin(row)
        }

    def _put_by_admin(self, row: _Row) -> bool:
        """Whether a comment stands to another record than the vendor's did, and not because that one was removed."""
        if self._at_home(row):
            return False
        owner = owner_of(self.old, row.old) if row.old is not None else None
        return owner is None or any(other.old == owner and other.mine is not None for other in self.rows)

    def _at_home(self, row: _Row) -> bool:
        """Whether a comment of mine stands to the record it was the vendor's comment to."""
        if row.old is None or row.mine is None:
            return False
        return owner_key(self.old, row.old) == owner_key(self.mine, row.mine)

    def _not_in_mine(self, row: _Row, at: int, label: str, record: str) -> None:
        merger, item = self.merger, self.new[at]
        if at in self.renamed:
            return
        where, what = self._where(item, label, record)
        text = _shown(merger.new, item.node, what)
        if row.old is None or merger.old is None:
            merger.taken.append(Change(merger.path, where, what, What.ADDED, None, text))
            self.incoming[at] = (merger.new, item.node)
            return
        old = self.old[row.old].node
        before = _shown(merger.old, old, what)
        if content(old, comments=False) == content(item.node, comments=False):
            merger.kept.append(Change(merger.path, where, what, What.REMOVED, before, None))
            return
        other = self._renamed_in_mine.get(row.old)
        why = f"you removed it; the vendor changed {edited_in(old, item.node)}"
        name = self._called(self.mine, other)
        if name:
            why = f"you removed it, or call it {name} now; the vendor changed {edited_in(old, item.node)}"
        asked = Question(merger.path, where, what, before, None, text, why=why, renamed=name)
        question = merger.ask(asked, typed=False)
        if other is not None and question.answer.startswith(TYPED):
            self._follow(_Three(old, self.mine[other].node, item.node), item, record)
            return
        if question.answer == NEW:
            self.incoming[at] = (merger.new, item.node)
        elif question.answer == OLD:
            self.incoming[at] = (merger.old, old)

    @cached_property
    def _only_new(self) -> dict[int, Item]:
        return {
            row.new: self.new[row.new]
            for row in self.rows
            if row.old is None and row.mine is None and row.new is not None
        }

    @cached_property
    def _only_mine(self) -> dict[int, Item]:
        return {
            row.mine: self.mine[row.mine]
            for row in self.rows
            if row.old is None and row.new is None and row.mine is not None
        }

    @cached_property
    def _renamed_in_new(self) -> dict[int, int]:
        """Index of an old record -> of the one of the new side that it may have become."""
        return renames(self._gone(lambda row: row.new), self._only_new, self.path, self.merger.identities)

    @cached_property
    def _renamed_in_mine(self) -> dict[int, int]:
        return renames(self._gone(lambda row: row.mine), self._only_mine, self.path, self.merger.identities)

    def _gone(self, side: Callable[[_Row], int | None]) -> dict[int, Item]:
        """Records of the old defaults that a side no longer has."""
        return {row.old: self.old[row.old] for row in self.rows if row.old is not None and side(row) is None}

    def _called(self, items: Sequence[Item], at: int | None) -> str:
        return "" if at is None else ",".join(items[at].identity or ())

    def _follow(self, three: _Three, item: Item, record: str) -> None:
        """Merge a record that goes by another name on one side; its name is then a value like the others."""
        self._go_in(three, (*self.path, item.node.name), record, "")

    def _go_in(self, three: _Three, path: Path, record: str, label: str) -> None:
        inside = self.merger.node(three, path, record, self.record, label)
        if inside is not None:
            self.inside[id(three.mine)] = inside

    def _comment(self, row: _Row) -> None:
        item = self._any(row)
        if item.node.role is Role.RECORD:
            return
        merger = self.merger
        text = comment_words(item.node)
        line = merger.mine.line(self.mine[row.mine].node.start) if row.mine is not None else None
        if row.mine is not None and row.new is None:
            if row.old is None:
                merger.kept.append(Change(merger.path, self.record, COMMENT, What.ADDED, None, text, line))
            elif self._at_home(row) and owner_of(self.mine, row.mine) not in self.stay:
                merger.taken.append(Change(merger.path, self.record, COMMENT, What.REMOVED, text, None, line))
                self.removed.add(row.mine)
        elif row.mine is None and row.new is not None:
            if row.old is not None:
                merger.kept.append(Change(merger.path, self.record, COMMENT, What.REMOVED, text, None, line))
            elif self._comment_has_place(row.new):
                merger.taken.append(Change(merger.path, self.record, COMMENT, What.ADDED, None, text, line))
                self.incoming[row.new] = (merger.new, item.node)

    def _comment_has_place(self, at: int) -> bool:
        """A vendor's comment to a record that the admin deleted has none."""
        owner = owner_of(self.new, at)
        return owner is None or owner in self.mine_of_new or owner in self.incoming

    def _note_moves(self) -> None:
        """Tell where the admin reordered the vendor's records, and where the vendor did and the admin did not."""
        both = sorted(
            (row.mine, row.old)
            for row in self.rows
            if row.mine is not None and row.old is not None and self._any(row).node.role is Role.RECORD
        )
        ours = sorted(moved([old for _, old in both]))
        if not moved([old for mine, old in both if mine in self.new_of_mine]):  # among what all three have
            self.lead = self.new if self._vendor_moved() else None
        elif not moved([self.new_of_mine[mine] for mine, _ in both if mine in self.new_of_mine]):
            return  # it is the vendor's own new order
        else:
            self._ask_order()
        for at in ours:
            mine, old = both[at]
            if not self._may_move(self.old[old]):
                continue  # where names alone tell, order means nothing
            _, _, record = self._named(self.old[old], _Row(old, mine, None))
            line = self.merger.mine.line(self.mine[mine].node.start)
            self.merger.kept.append(Change(self.merger.path, record, RECORD, What.MOVED, None, None, line))

    def _vendor_moved(self) -> bool:
        """Whether the vendor put what it had in another order."""
        both = sorted((row.old, row.new) for row in self.rows if row.old is not None and row.new is not None)
        return any(one[1] > other[1] for one, other in pairwise(both))

    def _ask_order(self) -> None:
        """Ask whose order a list is to have, where both sides changed it and the vendor's means something."""
        merger = self.merger
        every = [
            Both(row.old, row.mine, row.new)
            for row in self.rows
            if row.old is not None and row.mine is not None and row.new is not None
        ]
        found = contested(self.path, every, self.old, merger.identities)
        if found is None:
            return
        line = merger.mine.line(self.three.mine.start)
        asked = Question(merger.path, self.record, ORDER, found.old, found.mine, found.new, line=line)
        self.lead = {NEW: self.new, OLD: self.old}.get(merger.ask(asked, typed=False).answer)

    # --- order ---------------------------------------------------------------

    def _arrangement(self) -> Arrangement | None:
        """How the items are to be put; None where they stand as is wanted, all the way down."""
        leads = self.lead is not None and not self._lies_as(self.lead)
        if not leads and not self.inside:
            return None
        now = self._merged_items()
        place = {id(node): at for at, node in enumerate(now)}
        inside = {place[key]: found for key, found in self.inside.items() if key in place}
        order = tuple(place[id(node)] for node in self._wanted(now)) if leads else ()
        if order == tuple(range(len(now))):
            order = ()
        if order:
            self._tell_moved(now, order)
        return Arrangement(len(now), order, inside) if order or inside else None

    def _lies_as(self, lead: Sequence[Item]) -> bool:
        """Whether what the admin has stands in the order of another side."""
        sides = ((row.old if lead is self.old else row.new, row.mine) for row in self.rows)
        both = sorted((there, mine) for there, mine in sides if there is not None and mine is not None)
        return all(one[1] < other[1] for one, other in pairwise(both))

    def _merged_items(self) -> list[Node]:
        """What stands in the container once the edits are made, in its order."""
        gone = {id(self.mine[at].node) for at in self.removed}
        # at one place: nodes of which nothing is written; what comes in behind something; in front; what stands there
        stands = [node for node in self.three.mine.items if id(node) not in gone]
        placed = [(node.start, 2 if node.end > node.start else -1, 0, node) for node in stands]
        for number, (start, before, run) in enumerate(self.put):
            placed += [(start, int(before), number, self.incoming[at][1]) for at in run]
        return [node for *_, node in sorted(placed, key=lambda told: told[:3])]

    def _wanted(self, now: Sequence[Node]) -> list[Node]:
        """The merged items in the order of the side that leads. What it does not have, and what may not move, stays
        behind what it stands behind; a comment goes with its record, unless the vendor's whole container leads."""
        there = {id(node) for node in now}
        ordered: list[Node] = []
        by_lead = {(row.old if self.lead is self.old else row.new): row for row in self.rows}
        for at, item in enumerate(self.lead or ()):
            row = by_lead.get(at)
            node = item.node if row is None or row.mine is None else self.mine[row.mine].node
            if id(node) in there and (self._left_alone or _is_member(node)):
                ordered.append(node)
        led = {id(node) for node in ordered}
        units = [[node] for node in now] if self._left_alone else _with_comments(now)
        behind: dict[int, list[Node]] = defaultdict(list)
        units_led: dict[int, list[Node]] = {}
        last = 0
        for unit in units:
            key = next((id(node) for node in unit if id(node) in led), 0)
            if key:
                units_led[key], last = unit, key
            else:
                behind[last] += unit
        found = list(behind[0])
        for node in ordered:
            found += [*units_led[id(node)], *behind[id(node)]]
        return found

    def _may_move(self, item: Item) -> bool:
        return may_move(item, self.path, self.merger.identities)

    @cached_property
    def _left_alone(self) -> bool:
        """Whether the admin left the whole container alone."""
        three = self.three
        return three.old is not None and content(three.old) == content(three.mine)

    def _tell_moved(self, now: Sequence[Node], order: Sequence[int]) -> None:
        items = {id(item.node): item for item in (*self.mine, *self.new)}
        for at in sorted(moved(order)):
            item = items.get(id(now[order[at]]))
            if item is not None and item.node.role is Role.RECORD and not item.node.named:
                record = joined(self.record, item.label((*self.path, item.node.name), self.merger.identities))
                self.merger.taken.append(Change(self.merger.path, record, RECORD, What.MOVED, None, None))

    @cached_property
    def new_of_mine(self) -> dict[int, int]:
        """Index in mine -> index in the new list, for what both have."""
        return {mine: new for new, mine in self.mine_of_new.items()}

    # --- render --------------------------------------------------------------

    def _remove(self) -> None:
        run: list[int] = []
        for at in sorted(self.removed):
            if run and at != run[-1] + 1:
                self._remove_run(run)
                run = []
            run.append(at)
        if run:
            self._remove_run(run)

    def _remove_run(self, run: Sequence[int]) -> None:
        self.edits.append(layout.remove(self.merger.mine, [self.mine[at].node for at in run]))

        records = {at for at, item in enumerate(self.mine) if item.node.role is Role.RECORD}  # a comment may stay alone
        if self.removed and not self.incoming and records <= self.removed:
            self.before.extend(self.merger.mine.emptied(self.three.mine))

    def _insert(self) -> None:
        runs = list(self._runs())
        if not self.mine and runs:
            self._insert_into_empty(runs)
            return
        for run in runs:
            self._insert_run(run)

    def _runs(self) -> Iterator[list[int]]:
        """What comes in, as runs of neighbours from one side."""
        run: list[int] = []
        for at in sorted(self.incoming):
            if run and (at != run[-1] + 1 or self.incoming[at][0] is not self.incoming[run[-1]][0]):
                yield run
                run = []
            run.append(at)
        if run:
            yield run

    def _insert_run(self, run: list[int]) -> None:
        """Comments that belong to a record that is there go to it; the rest goes behind its neighbour."""
        owned = [at for at in run if self._belongs(at)]
        behind = [at for at in owned if self.new[at].node.trailing]
        above = [at for at in owned if not self.new[at].node.trailing]
        rest = [at for at in run if at not in owned]
        for at in behind:
            self._insert_trailing(at)
        if rest:
            self._insert_records(rest)
        if above:
            node = self._owner_in_mine(above[0])
            source = self.incoming[above[0]][0]
            self._put(self.before, layout.insert_before(self.merger.mine, node, source, self._nodes(above)), above)

    def _put(self, edits: list[Edit], edit: Edit, run: Sequence[int]) -> None:
        edits.append(edit)
        self.put.append((edit.start, edits is self.before, list(run)))

    def _belongs(self, at: int) -> bool:
        """Whether this is a comment to a record that the admin has."""
        return self.new[at].node.role is Role.COMMENT and owner_of(self.new, at) in self._living

    def _owner_in_mine(self, at: int) -> Node:
        owner = owner_of(self.new, at)
        assert owner is not None
        return self.mine[self._living[owner]].node

    def _insert_trailing(self, at: int) -> None:
        node = self._owner_in_mine(at)
        source, comment = self.incoming[at]
        text = self.merger.mine.adopt_raw(source.raw(comment), None)
        end = self.merger.mine.extent(node)[1]
        self._put(self.edits, Edit(end, end, f" {text}"), [at])

    @cached_property
    def _living(self) -> dict[int, int]:
        """Index in the new list -> index in mine, for what both have and what stays; asked once all is classified."""
        return {new: mine for new, mine in self.mine_of_new.items() if mine not in self.removed}

    def _nodes(self, run: Sequence[int]) -> list[Node]:
        return [self.incoming[at][1] for at in run]

    def _insert_records(self, run: Sequence[int]) -> None:
        mine, living = self.merger.mine, self._living
        source, nodes = self.incoming[run[0]][0], self._nodes(run)
        before = next((living[at] for at in range(run[0] - 1, -1, -1) if at in living), None)
        if before is not None:
            while before + 1 < len(self.mine) and self.mine[before + 1].node.trailing:
                before += 1
            self._put(self.edits, layout.insert_after(mine, self.mine[before].node, source, nodes), run)
            return
        after = next((living[at] for at in range(run[-1] + 1, len(self.new)) if at in living), None)
        if after is not None:
            while self._leads(after - 1):
                after -= 1
            self._put(self.before, layout.insert_before(mine, self.mine[after].node, source, nodes), run)
            return
        self._put(self.edits, layout.insert_after(mine, self.mine[-1].node, source, nodes), run)

    def _leads(self, at: int) -> bool:
        """Whether the item at ``at`` is a comment in front of the next record, and stays."""
        if at < 0 or at in self.removed:
            return False
        node = self.mine[at].node
        return node.role is Role.COMMENT and not node.trailing

    def _insert_into_empty(self, runs: Sequence[list[int]]) -> None:
        mine, parent = self.merger.mine, self.three.mine
        indent = layout.line_indent(mine.text, parent.start)
        inside = mine.inner_indent(parent, indent)
        blocks = [layout.moved_block(mine, self.incoming[run[0]][0], self._nodes(run), inside) for run in runs]
        self.edits.extend(mine.open_empty(parent, mine.source.newline.join(blocks), indent))


def _rows(sides: tuple[list[Item], list[Item], list[Item]], path: Path, identities: Identities) -> list[_Row]:
    """Every item once, with its place on each side that has it, in the admin's order and then the vendor's."""
    old, mine, new = sides
    maybe: tuple[dict[int, int], dict[int, int]] = ({}, {})
    to_mine, to_new = (
        pairs(old, side, path, identities, doubtful=found) for side, found in zip((mine, new), maybe, strict=True)
    )
    _decide_doubtful((old, mine, new), (to_mine, to_new), maybe)
    _reconcile_comments(mine, new, to_mine, to_new)
    left_mine = set(range(len(mine))).difference(to_mine.values())
    left_new = set(range(len(new))).difference(to_new.values())
    beside = pairs(mine, new, path, identities, alike=False)
    direct = {a: b for a, b in beside.items() if mine[a].node.role is Role.RECORD}
    direct.update(same_comments(mine, new))
    added = {a: b for a, b in direct.items() if a in left_mine and b in left_new}
    rows = [_Row(at, to_mine.get(at), to_new.get(at)) for at in range(len(old))]
    rows += [_Row(None, at, added.get(at)) for at in sorted(left_mine)]
    rows += [_Row(None, None, at) for at in sorted(left_new.difference(added.values()))]
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


def _in_order(rows: Sequence[_Row]) -> bool:
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


def _names(three: _Three) -> list[str]:
    names = dict.fromkeys(three.mine.fields)
    names.update(dict.fromkeys(three.new.fields))
    if three.old is not None:
        names.update(dict.fromkeys(three.old.fields))
    return list(names)


def _shape_differs(three: _Three) -> bool:
    """A plain value here, records inside there."""
    sides = [side for side in (three.old, three.mine, three.new) if side is not None]
    return any(OWN in side.fields for side in sides) and any(side.items for side in sides)


def _value(found: Field | None) -> str | None:
    return found.value if found else None


def _what(before: str | None, after: str | None) -> What:
    if before is None:
        return What.ADDED
    return What.REMOVED if after is None else What.SET


def _shown(document: Document, node: Node, what: str) -> str:
    """What a whole item says, its line ends aside."""
    value = node.fields.get(OWN)
    return (document.raw(node) if what == RECORD or value is None else value.value).replace("\r\n", "\n")


def edited_in(left: Node, right: Node) -> str:
    """What differs between two records, in a few words: ``worth 23 → 40``."""
    before, after = (
        {OWN: side.own or "", **{name: field.value.strip() for name, field in plain_fields(side).items()}}
        for side in (left, right)
    )
    names = [name for name in dict.fromkeys([*before, *after]) if before.get(name) != after.get(name)]
    told = [f"{name or 'its value'} {before.get(name, 'absent')} → {after.get(name, 'absent')}" for name in names[:3]]
    if len(names) > len(told):
        told.append(f"{len(names) - len(told)} more")
    return ", ".join(told) or "what it holds"


def _is_member(node: Node) -> bool:
    """Whether something is a member of a list, not one that is found by its name, nor a comment."""
    return node.role is Role.RECORD and not node.named


def _with_comments(nodes: Sequence[Node]) -> list[list[Node]]:
    """Each record with the comments in front of it and behind it on its line; those at the end by themselves."""
    units: list[list[Node]] = []
    before: list[Node] = []
    for node in nodes:
        if node.role is Role.COMMENT and node.trailing and units and not before:
            units[-1].append(node)
        elif node.role is Role.COMMENT:
            before.append(node)
        else:
            units.append([*before, node])
            before = []
    return [*units, before] if before else units
