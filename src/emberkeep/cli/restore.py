"""``emberkeep restore REF``: put back the whole or a part, in place or elsewhere."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from pathlib import Path

from emberkeep.cli.context import add_go, add_only, answer, now, opened, the_keep
from emberkeep.errors import Damage
from emberkeep.keep import Keep
from emberkeep.runs import restore, snapshot
from emberkeep.servers.process import refuse_if_running
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.store import SnapshotTree, Store

EXAMPLES = (
    "emberkeep restore latest            (shows what it would do)",
    "emberkeep restore latest --go",
    "emberkeep restore 'before 4.3' --only players --go",
    "emberkeep restore 3 --into /tmp/a-look",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot, which part, where to."""
    parser.add_argument("ref", metavar="REF", help="a number, latest, a note, or a moment such as '2 days ago'")
    add_only(parser)
    parser.add_argument("--into", metavar="DIR", help="into a new folder instead of the server folder")
    add_go(parser, "write into the server folder")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``; in place, a snapshot is taken first."""
    keep = the_keep(args)
    with opened(keep) as store:
        tree = snapshot.find(store, keep, args.ref, now())
        wanted = restore.scope_of(tree.manifest, args.only, keep.config.roles)
        if args.into:
            return _elsewhere(args, screen, keep, tree, wanted)
        return _in_place(args, screen, keep, store, tree, wanted)


def _elsewhere(
    args: argparse.Namespace, screen: Screen, keep: Keep, tree: SnapshotTree, wanted: Callable[[str], bool]
) -> int:
    into = Path(os.path.abspath(args.into))
    restore.check_target(into, keep.server)
    plan = restore.plan(tree, into, wanted)
    with progress("restore") as step:
        faults = restore.apply(plan, tree, progress=step)
    if faults:
        raise Damage.gathered(tuple(faults))
    return answer(args, 0, {"plan": plan, "done": True}, lambda: view.restore_plan(screen, plan, True))


def _in_place(
    args: argparse.Namespace,
    screen: Screen,
    keep: Keep,
    store: Store,
    tree: SnapshotTree,
    wanted: Callable[[str], bool],
) -> int:
    plan = restore.plan(tree, keep.server, wanted)
    if not args.go or plan.nothing:
        return answer(args, 0, {"plan": plan, "done": False}, lambda: _preview(screen, plan))
    refuse_if_running(keep.server, "it would write over what is put back")
    restore.check_whole(plan, tree)
    before = None
    with progress("snapshot before") as step:
        if keep.server.is_dir():
            note = f"before restoring {tree.manifest.about.label}"
            before = snapshot.take(keep, now(), note=note, why="restore", progress=step).about
    with progress("restore") as step:
        faults = restore.apply(plan, tree, progress=step)
    if faults:
        raise Damage.gathered(tuple(faults))

    def text() -> None:
        view.restore_plan(screen, plan, True)
        if before:
            screen.line(f"What stood there before is snapshot {before.label}.")

    return answer(args, 0, {"plan": plan, "done": True, "before": before}, text)


def _preview(screen: Screen, plan: restore.RestorePlan) -> None:
    view.restore_plan(screen, plan, False)
    if not plan.nothing:
        screen.next("say it again with --go; a snapshot of what stands there now is taken first")
