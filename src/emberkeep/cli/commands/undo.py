"""``emberkeep undo [RUN]``: take a run back, the interrupted one or the last."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import add_go, answer, now, opened, the_keep
from emberkeep.cli.run_context import run_context_for
from emberkeep.operations.engine import registry, undo
from emberkeep.operations.record.journal import Journal
from emberkeep.show import runs as view
from emberkeep.show.console import Screen, progress

EXAMPLES = ("emberkeep undo            (shows what it would put back)", "emberkeep undo --go", "emberkeep undo 3 --go")
EXITS = {
    0: "shown, or taken back",
    1: "taken back, but part of it cannot be vouched for",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which run."""
    parser.add_argument(
        "--accept-new", action="store_true", help=argparse.SUPPRESS
    )  # for a run that sent to a far host
    parser.add_argument("run", nargs="?", type=int, metavar="RUN", help="its number (default: the last one)")
    parser.add_argument(
        "--as-far-as-possible",
        action="store_true",
        help="put back what is whole, where the snapshot before the run is damaged, and be done with the run",
    )
    add_go(parser, "put it back")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    keep = the_keep(args)
    before = None
    with opened(keep) as store:
        meant = undo.select_run(Journal(keep.folder), args.run)
        kind = registry.find(meant.kind)
        if kind is not None and kind.remote:
            from emberkeep.cli.commands import mirror  # only where a far host is asked

            return mirror.take_back(args, screen, keep, store, meant)
        if kind is not None and kind.aside and kind.undo is not None:
            with progress("undo", screen) as step:
                context = run_context_for(args, screen, keep, store, meant, step)
                if args.go:
                    kind.undo(context)
            return answer(
                args,
                0,
                {"run": meant, "plan": None, "databases": (), "done": bool(args.go), "before": None},
                lambda: view.aside_undone(screen, meant, bool(args.go)),
            )
        partly = bool(args.as_far_as_possible)
        found = undo.to_undo(keep, store, args.run, partly=partly)
        if args.go:
            with progress("undo") as step:
                before = undo.undo(keep, store, found, now, step, partly=partly)
    result = {
        "run": found.run,
        "plan": found.plan,
        "databases": found.databases,
        "done": bool(args.go),
        "before": before,
    }
    unsure = found.run.whole and found.plan is not None and found.plan.spared
    return answer(args, 1 if unsure else 0, result, lambda: view.undoing(screen, found, bool(args.go), keep.config.tz))
