"""``emberkeep thin``: let old snapshots go by the ladder of keep.toml."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.operations.upkeep import thin
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress

EXAMPLES = ("emberkeep thin            (shows what would go)", "emberkeep thin --go")
EXITS = {
    0: "shown, or thinned",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Only whether to do it."""
    parser.add_argument("--everything", action="store_true", help="a line for each snapshot, however many there are")
    parser.add_argument("--go", action="store_true", help="delete them (without it: only show which)")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    keep = the_keep(args)
    with opened(keep) as store, progress("thin") as step:
        found = thin.plan(keep, store, now(), step)
        freed = thin.carry_out(keep, store, found, progress=step) if args.go else None
    result = {"verdicts": found.verdicts, "frees_about": found.frees, "done": bool(args.go), "freed": freed}
    zone = keep.config.tz
    return answer(args, 0, result, lambda: view.thinning(screen, found, freed, zone, everything=args.everything))
