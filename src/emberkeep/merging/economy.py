"""What a merge does to the economy: totals of the admin's files before and after it."""

from __future__ import annotations

from emberkeep.comparing.totals import Totals, totals
from emberkeep.documents import registry
from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import Tree, read
from emberkeep.merging.results import Merge, Outcome

LARGEST = 32 << 20
"""Bytes; larger files are not added up."""


def economy(merge: Merge, mine: Tree) -> list[Totals]:
    """The totals that change, of every file that the merge changes."""
    found = []
    for item in merge.files:
        if item.outcome is not Outcome.MERGED or item.database or item.data is None or len(item.data) > LARGEST:
            continue
        try:
            before, after = (registry.parse(item.path, data) for data in (read(mine, item.path), item.data))
        except (EmberKeepError, RecursionError):
            continue
        if before is not None and after is not None:
            found += [each for each in totals(item.path, before, after, {}) if each.changed]
    return found
