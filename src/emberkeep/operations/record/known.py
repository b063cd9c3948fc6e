"""What the keep remembers that a survey compares the live server with."""

from __future__ import annotations

from collections.abc import Sequence

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.inventory.published import Published
from emberkeep.keep.keep import Keep
from emberkeep.operations.record import defaults
from emberkeep.operations.record.snapshot import snapshots
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.survey.survey import Known


def releases_known(
    keep: Keep, store: Store, live: FolderTree, wanted: Sequence[Published] = ()
) -> tuple[Known, list[str]]:
    """Snapshots and recorded releases, with the release that fits ``live`` best; and what is wrong with snapshots that
    cannot be read. ``wanted``: versions that were asked for where they are published."""
    fits = defaults.fits(keep, store, live)
    base = defaults.tree_of(store, fits[0].version) if fits else None
    taken, faults = snapshots(store)
    whole = bool(taken) and not taken[-1].scope  # a snapshot of a part tells nothing of the rest
    known = Known(
        taken,
        fits,
        base,
        defaults.merged_paths(keep, base) if base else [],
        SnapshotTree(store, store.manifest(taken[-1].label), "last") if whole else None,
        {fit.version: defaults.tree_of(store, fit.version) for fit in fits},
        wanted,
    )
    return known, faults
