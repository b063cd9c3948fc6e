"""``emberkeep verify [REF]``: check every stored byte."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.runs.snapshot import snapshots
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.refs import resolve
from emberkeep.store.verify import verify

EXAMPLES = ("emberkeep verify", "emberkeep verify latest", "emberkeep verify defaults:4.2")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot; all when none is named."""
    parser.add_argument("ref", nargs="?", metavar="REF", help="one snapshot or defaults:VERSION (default: everything)")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4 when damage is found."""
    keep = the_keep(args)
    with opened(keep) as store, progress("verify") as step:
        only = args.ref
        if only is not None and not only.startswith("defaults:"):
            only = resolve(only, snapshots(store)[0], now(), keep.config.tz).label
        found = verify(store, only, progress=step)
    code = 0 if found.sound else 4
    return answer(args, code, {"verification": found}, lambda: view.verification(screen, found))
