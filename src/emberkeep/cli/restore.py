"""``emberkeep restore REF``: put back the whole or a part, in place or elsewhere."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep.cli.context import add_go, add_only, answer, now, opened, the_keep
from emberkeep.errors import Damage, system_may_refuse
from emberkeep.keep import Keep
from emberkeep.runs import recovery, restore, snapshot
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.store import SnapshotTree, Store

EXAMPLES = (
    "emberkeep restore latest            (shows what it would do)",
    "emberkeep restore latest --go",
    "emberkeep restore 'before 4.3' --only players --go",
    "emberkeep restore 'before 4.3' --only tiles:-2,0..3,4 --go",
    "emberkeep restore 3 --into /tmp/a-look",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot, which part, where to."""
    parser.add_argument("ref", metavar="REF", help="a number, latest, a note, or a moment such as '2 days ago'")
    add_only(parser)
    parser.add_argument("--into", metavar="DIR", help="into a new folder instead of the server folder")
    parser.add_argument("--rehash", action="store_true", help="read every live file to compare it")
    add_go(parser, "write into the server folder")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``; in place, a snapshot is taken first."""
    keep = the_keep(args)
    with opened(keep) as store:
        tree = snapshot.find(store, keep, args.ref, now())
        if args.into:
            return _elsewhere(args, screen, keep, tree)
        return _in_place(args, screen, keep, store, tree)


def _elsewhere(args: argparse.Namespace, screen: Screen, keep: Keep, tree: SnapshotTree) -> int:
    into = Path(os.path.abspath(args.into))
    restore.check_target(into, keep.server)
    plan = restore.plan(tree, into, restore.scope_of(tree.manifest, args.only, keep.config))
    restore.check_names(plan, tree)
    restore.check_room(plan)
    hint = f"{into} is not whole; remove it and try again"
    with system_may_refuse("the restore stopped", into, hint), progress("restore") as step:
        faults = restore.apply(plan, tree, fresh=True, progress=step)
    if faults:
        raise Damage.gathered(tuple(faults))
    return answer(args, 0, {"plan": plan, "done": True}, lambda: view.restore_plan(screen, plan, True))


def _in_place(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, tree: SnapshotTree) -> int:
    only = tuple(args.only)
    found = recovery.planned(keep, store, tree, only, rehash=args.rehash)
    if not args.go or found.plan.nothing:
        return answer(args, 0, {"plan": found.plan, "done": False}, lambda: view.restore_preview(screen, found.plan))
    with progress("restore") as step:
        done = recovery.put_back(keep, store, found, only, now, step)

    def text() -> None:
        view.restore_plan(screen, done.plan, True)
        if done.before:
            screen.line(f"What stood there before is snapshot {done.before.label}; 'emberkeep undo' takes this back.")

    return answer(args, 0, {"plan": done.plan, "done": True, "run": done.run, "before": done.before}, text)
