"""Third pass of a merge by record: edits against the admin's text, and how items are to change places afterwards."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from itertools import pairwise

from emberkeep.documents import layout
from emberkeep.documents.align import (
    Item,
    moved,
    owner_of,
)
from emberkeep.documents.identity import Path, joined
from emberkeep.documents.model import (
    Edit,
    Node,
    Role,
    content,
)
from emberkeep.merging.classify import Classified
from emberkeep.merging.moves import Arrangement
from emberkeep.merging.results import (
    RECORD,
    Change,
    What,
)
from emberkeep.merging.rows import Aligned, ThreeWay
from emberkeep.merging.sides import Sides


class Renderer:
    """Renders what was classified of one record."""

    def __init__(
        self, sides: Sides, three: ThreeWay, items: Aligned, found: Classified, path: Path, record: str
    ) -> None:
        self.sides, self.three, self.items, self.found, self.path, self.record = (
            sides,
            three,
            items,
            found,
            path,
            record,
        )
        self._edits: list[Edit] = []
        self._before: list[Edit] = []
        """Insertions in front of something: at one place they come behind those that follow something."""
        self._places: list[tuple[int, bool, list[int]]] = []
        """Where something is put in, whether in front of what stands there, and what comes in by it."""

    def render(self) -> Arrangement | None:
        """Add the edits to those of all; how the items are to be put once they are made."""
        self._remove()
        self._insert()
        self.sides.edits.extend([*self._edits, *self._before])
        return self._arrangement()

    def _remove(self) -> None:
        run: list[int] = []
        for at in sorted(self.found.removed):
            if run and at != run[-1] + 1:
                self._remove_run(run)
                run = []
            run.append(at)
        if run:
            self._remove_run(run)

    def _remove_run(self, run: Sequence[int]) -> None:
        self._edits.append(layout.remove(self.sides.mine, [self.items.mine[at].node for at in run]))

        records = {
            at for at, item in enumerate(self.items.mine) if item.node.role is Role.RECORD
        }  # a comment may stay alone
        if self.found.removed and not self.found.incoming and records <= self.found.removed:
            self._before.extend(self.sides.mine.emptied(self.three.mine))

    def _insert(self) -> None:
        runs = list(self._runs())
        if not self.items.mine and runs:
            self._insert_into_empty(runs)
            return
        for run in runs:
            self._insert_run(run)

    def _runs(self) -> Iterator[list[int]]:
        """What comes in, as runs of neighbours from one side."""
        run: list[int] = []
        for at in sorted(self.found.incoming):
            if run and (at != run[-1] + 1 or self.found.incoming[at][0] is not self.found.incoming[run[-1]][0]):
                yield run
                run = []
            run.append(at)
        if run:
            yield run

    def _insert_run(self, run: list[int]) -> None:
        """Comments that belong to a record that is there go to it; the rest goes behind its neighbour."""
        owned = [at for at in run if self._belongs(at)]
        behind = [at for at in owned if self.items.new[at].node.trailing]
        above = [at for at in owned if not self.items.new[at].node.trailing]
        rest = [at for at in run if at not in owned]
        for at in behind:
            self._insert_trailing(at)
        if rest:
            self._insert_records(rest)
        if above:
            self._insert_above(above)

    def _insert_above(self, run: list[int]) -> None:
        """Neighbouring comments in front of a record of the admin's: behind the comment that they follow where that
        stands there too and they are not set apart from it, else in front of what follows them."""
        mine, source, nodes = self.sides.mine, self.found.incoming[run[0]][0], self._nodes(run)
        follows, leads = self._is_beside(run[0] - 1, run[0]), self._is_beside(run[-1] + 1, run[0])
        if follows and not (leads and layout.stands_apart(source, nodes)):
            before = self.items.mine[self._living[run[0] - 1]].node
            self._put(self._edits, layout.insert_after(mine, before, source, nodes), run)
            return
        after = self.items.mine[self._living[run[-1] + 1]].node if leads else self._owner_in_mine(run[0])
        self._put(self._before, layout.insert_before(mine, after, source, nodes), run)

    def _is_beside(self, at: int, comment: int) -> bool:
        """Whether the item at ``at`` is a comment to the same record as another one, for the admin as well."""
        if at not in self._living or not self._belongs(at) or self.items.new[at].node.trailing:
            return False
        owner = owner_of(self.items.new, at)
        if owner is None or owner_of(self.items.new, comment) != owner:
            return False
        now = owner_of(self.items.mine, self._living[at])
        while now in self.found.removed:
            now = owner_of(self.items.mine, now)
        return now == self._living[owner]

    def _put(self, edits: list[Edit], edit: Edit, run: Sequence[int]) -> None:
        edits.append(edit)
        self._places.append((edit.start, edits is self._before, list(run)))

    def _belongs(self, at: int) -> bool:
        """Whether this is a comment to a record that the admin has."""
        return self.items.new[at].node.role is Role.COMMENT and owner_of(self.items.new, at) in self._living

    def _owner_in_mine(self, at: int) -> Node:
        owner = owner_of(self.items.new, at)
        assert owner is not None
        return self.items.mine[self._living[owner]].node

    def _insert_trailing(self, at: int) -> None:
        node = self._owner_in_mine(at)
        source, comment = self.found.incoming[at]
        text = self.sides.mine.adopt_raw(source.raw(comment), None)
        end = self.sides.mine.extent(node)[1]
        self._put(self._edits, Edit(end, end, f" {text}"), [at])

    @cached_property
    def _living(self) -> dict[int, int]:
        """Index in the new list -> index in mine, for what both have and what stays; asked once all is classified."""
        return {new: mine for new, mine in self.items.mine_of_new.items() if mine not in self.found.removed}

    def _nodes(self, run: Sequence[int]) -> list[Node]:
        return [self.found.incoming[at][1] for at in run]

    def _insert_records(self, run: Sequence[int]) -> None:
        mine, living = self.sides.mine, self._living
        source, nodes = self.found.incoming[run[0]][0], self._nodes(run)
        before = next((living[at] for at in range(run[0] - 1, -1, -1) if at in living), None)
        if before is not None:
            while before + 1 < len(self.items.mine) and self.items.mine[before + 1].node.trailing:
                before += 1
            self._put(self._edits, layout.insert_after(mine, self.items.mine[before].node, source, nodes), run)
            return
        after = next((living[at] for at in range(run[-1] + 1, len(self.items.new)) if at in living), None)
        if after is not None:
            while self._leads(after - 1):
                after -= 1
            self._put(self._before, layout.insert_before(mine, self.items.mine[after].node, source, nodes), run)
            return
        self._put(self._edits, layout.insert_after(mine, self.items.mine[-1].node, source, nodes), run)

    def _leads(self, at: int) -> bool:
        """Whether the item at ``at`` is a comment in front of the next record, and stays."""
        if at < 0 or at in self.found.removed:
            return False
        node = self.items.mine[at].node
        return node.role is Role.COMMENT and not node.trailing

    def _insert_into_empty(self, runs: Sequence[list[int]]) -> None:
        mine, parent = self.sides.mine, self.three.mine
        indent = layout.line_indent(mine.text, parent.start)
        inside = mine.inner_indent(parent, indent)
        blocks = [layout.moved_block(mine, self.found.incoming[run[0]][0], self._nodes(run), inside) for run in runs]
        self._edits.extend(mine.open_empty(parent, mine.source.newline.join(blocks), indent))

    def _arrangement(self) -> Arrangement | None:
        """How the items are to be put; None where they stand as is wanted, all the way down."""
        leads = self.found.lead is not None and not self._lies_as(self.found.lead)
        if not leads and not self.found.inside:
            return None
        now = self._merged_items()
        place = {id(node): at for at, node in enumerate(now)}
        inside = {place[key]: found for key, found in self.found.inside.items() if key in place}
        order = tuple(place[id(node)] for node in self._wanted(now)) if leads else ()
        if order == tuple(range(len(now))):
            order = ()
        if order:
            self._tell_moved(now, order)
        return Arrangement(len(now), order, inside) if order or inside else None

    def _lies_as(self, lead: Sequence[Item]) -> bool:
        """Whether what the admin has stands in the order of another side."""
        sides = ((row.old if lead is self.items.old else row.new, row.mine) for row in self.items.rows)
        both = sorted((there, mine) for there, mine in sides if there is not None and mine is not None)
        return all(one[1] < other[1] for one, other in pairwise(both))

    def _merged_items(self) -> list[Node]:
        """What stands in the container once the edits are made, in its order."""
        gone = {id(self.items.mine[at].node) for at in self.found.removed}
        # at one place: nodes of which nothing is written; what comes in behind something; in front; what stands there
        stands = [node for node in self.three.mine.items if id(node) not in gone]
        placed = [(node.start, 2 if node.end > node.start else -1, 0, node) for node in stands]
        for number, (start, before, run) in enumerate(self._places):
            placed += [(start, int(before), number, self.found.incoming[at][1]) for at in run]
        return [node for *_, node in sorted(placed, key=lambda entry: entry[:3])]

    def _wanted(self, now: Sequence[Node]) -> list[Node]:
        """The merged items in the order of the side that leads. What it does not have, and what may not move, stays
        behind what it stands behind; a comment goes with its record, unless the vendor's whole container leads."""
        there = {id(node) for node in now}
        ordered: list[Node] = []
        by_lead = {(row.old if self.found.lead is self.items.old else row.new): row for row in self.items.rows}
        for at, item in enumerate(self.found.lead or ()):
            row = by_lead.get(at)
            node = item.node if row is None or row.mine is None else self.items.mine[row.mine].node
            if id(node) in there and (self._left_alone or _is_member(node)):
                ordered.append(node)
        led = {id(node) for node in ordered}
        units = [[node] for node in now] if self._left_alone else self._with_comments(now)
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

    def _with_comments(self, now: Sequence[Node]) -> list[list[Node]]:
        """Each record with its comments, which stand as the side that leads has them where the admin left their order
        alone."""
        places = {}
        for row in self.items.rows:
            there = row.old if self.found.lead is self.items.old else row.new
            if there is not None and self.items.any_of(row).node.role is Role.COMMENT:
                node = self.items.mine[row.mine].node if row.mine is not None else self.items.new[there].node
                places[id(node)] = (there, row.old if row.mine is not None else None)
        return [_led(unit, places) for unit in _with_comments(now)]

    @cached_property
    def _left_alone(self) -> bool:
        """Whether the admin left the whole container alone."""
        three = self.three
        return three.old is not None and content(three.old) == content(three.mine)

    def _tell_moved(self, now: Sequence[Node], order: Sequence[int]) -> None:
        items = {id(item.node): item for item in (*self.items.mine, *self.items.new)}
        for at in sorted(moved(order)):
            item = items.get(id(now[order[at]]))
            if item is not None and item.node.role is Role.RECORD and not item.node.named:
                record = joined(self.record, item.label((*self.path, item.node.name), self.sides.identities))
                self.sides.taken.append(Change(self.sides.path, record, RECORD, What.MOVED, None, None))


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


def _led(unit: list[Node], places: Mapping[int, tuple[int, int | None]]) -> list[Node]:
    """A record with its comments, these in the order of the side that leads. ``places``: by node, where a comment
    stands on that side, and where the one of the admin's stood before."""
    slots = [at for at, node in enumerate(unit) if id(node) in places and not node.trailing]
    found = [places[id(unit[at])] for at in slots]
    before = [old for _, old in found if old is not None]
    if before != sorted(before):
        return unit  # the admin has an order of one's own
    led = list(unit)
    for slot, at in zip(slots, sorted(slots, key=lambda at: places[id(unit[at])][0]), strict=True):
        led[slot] = unit[at]
    return led
