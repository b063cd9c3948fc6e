"""Standing orders of a keep against its hand edits: finding them, and seeing what they explain."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from emberkeep.documents import registry
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.model import Document
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import read
from emberkeep.keep.keep import Keep
from emberkeep.merging import intents
from emberkeep.merging.intents import HandEdit, Intent, Intents
from emberkeep.merging.orders import Order
from emberkeep.operations.record import defaults
from emberkeep.operations.steps.merge import choose_versions
from emberkeep.store.store import Store


class _Pair(NamedTuple):
    """A file as it was shipped, and as the admin has it."""

    path: str
    old: Document
    mine: Document
    identities: KeyRules


def _pairs(keep: Keep, store: Store, old: str | None) -> Iterator[_Pair]:
    """The files with records that the admin edited."""
    live = FolderTree(keep.require_server(), "live")
    base, _ = choose_versions(keep, store, live, old, None)
    assert base is not None
    before = defaults.tree_of(store, base)
    for path in defaults.merged_paths(keep, before):
        if path not in live.entries() or live.digest(path) == before.digest(path):
            continue
        try:
            sides = [registry.parse(path, read(tree, path)) for tree in (before, live)]
        except (EmberKeepError, RecursionError):
            continue  # the merge tells of it
        if sides[0] is not None and sides[1] is not None:
            identities = KeyRules([sides[0]], [sides[1]], keep.config.record_rules(path))
            yield _Pair(path, sides[0], sides[1], identities)


def proposed(keep: Keep, store: Store, there: Sequence[Order], old: str | None) -> Intents:
    """The intents in the hand edits that no order explains yet."""
    found = []
    for pair in _pairs(keep, store, old):
        known = _about(there, pair.path)
        one = intents.propose(pair.path, pair.old, pair.mine, pair.identities)
        explained: set[HandEdit] = set()
        for intent in intents.examine(pair.path, known, pair.old, pair.mine, pair.identities)[0] if known else ():
            explained.update(intent.explained)
        fresh = tuple(intent for intent in one.intents if not explained.issuperset(intent.explained))
        found.append(Intents(fresh, one.residue))
    return intents.together(found)


def examined(keep: Keep, store: Store, there: Sequence[Order], old: str | None) -> Intents:
    """What each order explains of the hand edits, and what none does."""
    parts = {order.name: Intent(order, (), ()) for order in there}
    residue: list[HandEdit] = []
    for pair in _pairs(keep, store, old):
        found, left = intents.examine(pair.path, _about(there, pair.path), pair.old, pair.mine, pair.identities)
        residue += left
        for intent in found:
            before = parts[intent.order.name]
            parts[intent.order.name] = Intent(
                intent.order, before.explained + intent.explained, before.strays + intent.strays
            )
    return Intents(tuple(parts.values()), tuple(residue))


def _about(orders: Sequence[Order], path: str) -> list[Order]:
    return [order for order in orders if globs.matches(path, [order.files])]
