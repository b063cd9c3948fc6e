"""``emberkeep snapshot``: take one."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import add_only, answer, now, the_keep
from emberkeep.runs.snapshot import take
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress

EXAMPLES = (
    "emberkeep snapshot --note 'before 4.3'",
    "emberkeep snapshot --only world --only players",
    "emberkeep snapshot --only 'mission/economy/*.xml'",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Note, selection, and whether a running server is accepted."""
    parser.add_argument("--note", default="", metavar="TEXT", help="a name to find it by")
    parser.add_argument("--while-running", action="store_true", help="copy although the server is running")
    add_only(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something could not be taken."""
    keep = the_keep(args)
    with progress("snapshot") as step:
        manifest = take(keep, now(), note=args.note, only=args.only, while_running=args.while_running, progress=step)
    code = 1 if manifest.skipped else 0
    result = {"snapshot": manifest.about, "skipped": manifest.skipped}
    return answer(args, code, result, lambda: view.taken(screen, manifest))
