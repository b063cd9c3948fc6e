"""``emberkeep survey``: what stands where now."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.comparing.survey import Known, survey
from emberkeep.runs import defaults
from emberkeep.runs.snapshot import snapshots
from emberkeep.servers.published import wanted_versions
from emberkeep.show import servers as view
from emberkeep.show.console import Screen
from emberkeep.store.store import SnapshotTree
from emberkeep.trees import FolderTree

EXAMPLES = ("emberkeep survey", "emberkeep survey --offline --json")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Whether published versions are asked for."""
    parser.add_argument("--offline", action="store_true", help="do not ask the addresses of [wanted] in keep.toml")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something wants attention."""
    keep = the_keep(args)
    wanted = wanted_versions(keep.config.wanted, keep.folder, offline=args.offline)
    with opened(keep) as store:
        live = FolderTree(keep.require_server(), "live")
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
        found = survey(keep, live, known)
        code = 1 if found.attention or found.questions or faults else 0
        result = {"survey": found, "faults": faults}
        return answer(args, code, result, lambda: view.survey(screen, found, now(), keep.config.tz))
