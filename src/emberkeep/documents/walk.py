"""The records of a document, one by one, each with its place and the name that reports give it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from emberkeep.documents.align import Item, items_of
from emberkeep.documents.identity import KeyRules, Path, joined
from emberkeep.documents.model import Document, Node, Role, is_value


class Placed(NamedTuple):
    """A record where it stands: its name in reports, the tags from the root down to it, itself, the record that it
    stands in, and what that one goes by ("" for the root)."""

    record: str
    path: Path
    item: Item
    parent: Node
    within: str = ""

    @property
    def node(self) -> Node:
        """The record itself."""
        return self.item.node

    @property
    def above(self) -> str:
        """The record that it stands in, by its name in reports; "" for the root."""
        return self.record.rpartition("/")[0]

    @property
    def name(self) -> str:
        """What it goes by among its siblings."""
        return ",".join(self.item.identity or ()) or self.item.node.name


def walk(document: Document, identities: KeyRules, *, values: bool = True) -> Iterator[Placed]:
    """Every record of a document below its root, in the order of the file. ``values``: also those that are but a value
    and stand beside others such."""
    for placed in top_records(document, identities):
        yield from walk_from(placed, identities, values=values)


def top_records(document: Document, identities: KeyRules) -> list[Placed]:
    """The records right below a document's root."""
    return _placed_in(document.root, (document.root.name,), "", identities)


def records_in(placed: Placed, identities: KeyRules) -> list[Placed]:
    """The records right inside of one."""
    return _placed_in(placed.node, placed.path, placed.record, identities, placed.name)


def walk_from(placed: Placed, identities: KeyRules, *, values: bool = True) -> Iterator[Placed]:
    """A record and every record inside it, in the order of the file. ``values``: those too that are but a value."""
    waiting = [iter([placed])]
    while waiting:
        found = next(waiting[-1], None)
        if found is None:
            waiting.pop()
            continue
        yield found
        node = found.node
        if node.items and (values or not all(is_value(item) for item in node.items)):
            waiting.append(iter(records_in(found, identities)))


def _placed_in(node: Node, path: Path, record: str, identities: KeyRules, within: str = "") -> list[Placed]:
    found = []
    for item in items_of(node, path, identities):
        if item.node.role is Role.RECORD:
            below = (*path, item.node.name)
            found.append(Placed(joined(record, item.label(below, identities)), below, item, node, within))
    return found
