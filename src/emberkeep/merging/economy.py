"""What a merge does to the economy: totals of the admin's files before and after it, and of the old defaults."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from emberkeep.comparing.totals import Totals, totals
from emberkeep.documents import registry
from emberkeep.documents.model import Document
from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import Tree, read
from emberkeep.merging.results import Merge, Outcome

LARGEST = 32 << 20
"""Bytes; larger files are not added up."""


@dataclass(frozen=True)
class Economy:
    """``sums``: of the admin's files before and after the merge, those that change; ``defaults``: what each came to in
    the old defaults, by file, list, kind and field."""

    sums: tuple[Totals, ...] = ()
    defaults: Mapping[tuple[str, str, str, str], Decimal] = field(default_factory=dict)


def economy(merge: Merge, mine: Tree, old: Tree) -> Economy:
    """The totals of every file that the merge changes. ``old``: the old defaults."""
    sums: list[Totals] = []
    defaults: dict[tuple[str, str, str, str], Decimal] = {}
    for item in merge.files:
        if item.outcome is not Outcome.MERGED or item.database or item.data is None or len(item.data) > LARGEST:
            continue
        before, after = _parsed(item.path, read(mine, item.path)), _parsed(item.path, item.data)
        if before is None or after is None:
            continue
        sums += [each for each in totals(item.path, before, after, {}) if each.changed]
        began = _parsed(item.path, read(old, item.path)) if item.path in old.entries() else None
        for each in totals(item.path, began, before, {}) if began is not None else ():
            defaults.update({(each.path, each.records, one.kind, one.field): one.left for one in each.totals})
    return Economy(tuple(sums), defaults)


def _parsed(path: str, data: bytes) -> Document | None:
    try:
        return registry.parse(path, data)
    except (EmberKeepError, RecursionError):
        return None
