"""``emberkeep resume``: finish an interrupted run."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import add_go, answer, now, opened, the_keep
from emberkeep.runs import recovery
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress

EXAMPLES = ("emberkeep resume            (shows what is left to do)", "emberkeep resume --go")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Only whether to do it."""
    add_go(parser, "finish it")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    keep = the_keep(args)
    with opened(keep) as store:
        found = recovery.to_resume(keep, store, recovery.waiting(keep))
        if args.go:
            with progress("resume") as step:
                recovery.resume(keep, store, found, now, step)
    result = {"run": found.run, "plan": found.plan, "done": bool(args.go)}
    return answer(args, 0, result, lambda: view.recovery(screen, "resume", found, bool(args.go), keep.config.tz))
