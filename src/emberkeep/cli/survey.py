"""``emberkeep survey``: what stands where now."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.comparing.survey import survey
from emberkeep.runs import defaults
from emberkeep.runs.snapshot import snapshots
from emberkeep.show import servers as view
from emberkeep.show.console import Screen
from emberkeep.store.store import SnapshotTree
from emberkeep.trees import FolderTree

EXAMPLES = ("emberkeep survey", "emberkeep survey --json")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Nothing of its own."""


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something wants attention."""
    keep = the_keep(args)
    with opened(keep) as store:
        live = FolderTree(keep.require_server(), "live")
        fits = defaults.fits(keep, store, live)
        base = defaults.tree_of(store, fits[0].version) if fits else None
        paths = defaults.merged_paths(keep, base) if base else []
        taken, faults = snapshots(store)
        whole = bool(taken) and not taken[-1].scope  # a snapshot of a part tells nothing of the rest
        last = SnapshotTree(store, store.manifest(taken[-1].label), "last") if whole else None
        releases = {fit.version: defaults.tree_of(store, fit.version) for fit in fits}
        found = survey(keep, taken, fits, base, paths, last=last, releases=releases)
        code = 1 if found.attention or faults else 0
        result = {"survey": found, "faults": faults}
        return answer(args, code, result, lambda: view.survey(screen, found, now(), keep.config.tz))
