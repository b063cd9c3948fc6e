"""``emberkeep resume``: finish an interrupted run."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import add_go, answer, opened, the_keep
from emberkeep.cli.run_context import run_context_for
from emberkeep.operations.engine import preview, registry, runner
from emberkeep.show import runs as view
from emberkeep.show.console import Screen, progress

EXAMPLES = ("emberkeep resume            (shows what is left to do)", "emberkeep resume --go")
EXITS = {
    0: "shown, or finished",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Whether to do it, and what becomes of a step that fails."""
    parser.add_argument(
        "--accept-new", action="store_true", help=argparse.SUPPRESS
    )  # for a run that sent to a far host
    parser.add_argument("--stay", action="store_true", help="when a step fails, leave all as it is for a look")
    add_go(parser, "finish it")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    keep = the_keep(args)
    with opened(keep) as store, progress("resume", screen) as step:
        found = runner.waiting(keep)
        kind = registry.find(found.kind)
        if kind is not None and kind.remote:
            from emberkeep.cli.commands import mirror  # only where a far host is asked

            return mirror.go_on(args, screen, keep, store, found)
        context = run_context_for(args, screen, keep, store, found, step)
        left = None
        if not found.undoing:
            left = preview.left_to_do(context, registry.kind_of(found.kind).steps_of(keep, store, found))
        if args.go:
            runner.resume(run_context_for(args, screen, keep, store, found, step), stay=args.stay)
    result = {"run": found, "left": left, "done": bool(args.go)}
    return answer(args, 0, result, lambda: view.resuming(screen, found, left, bool(args.go), keep.config.tz))
