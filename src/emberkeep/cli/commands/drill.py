"""``emberkeep drill [REF]``: give a snapshot back into a folder of its own and start its server there."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.cli.run_context import live_watch
from emberkeep.errors import UsageError
from emberkeep.operations.flows import drill
from emberkeep.process.lifecycle import Hear
from emberkeep.show import runs as view
from emberkeep.show.console import Screen, progress

EXAMPLES = (
    "emberkeep drill                       (the newest snapshot)",
    "emberkeep drill 'before 4.3'",
    "emberkeep drill --any                 (one drawn by chance)",
    "emberkeep drill --in /mnt/spare/drill",
)
EXITS = {
    0: "proven",
    1: "proven, and its log told of something",
    5: "not proven",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot, and where."""
    parser.add_argument("ref", nargs="?", default="", metavar="REF", help="the snapshot to try (default: the newest)")
    parser.add_argument("--any", action="store_true", help="one drawn by chance")
    parser.add_argument(
        "--in",
        dest="into",
        metavar="DIR",
        help="where the copy is made (default: in the keep; beside the server if its user may not enter that)",
    )
    parser.add_argument("--leave", action="store_true", help="leave the copy there for a look")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when it is proven and its log told of something, 5 when it is not."""
    if args.ref and args.any:
        raise UsageError("REF and --any cannot go together")
    keep = the_keep(args)
    into = Path(os.path.abspath(args.into)) if args.into else None
    with opened(keep) as store, progress("copy", screen) as step, live_watch(args, screen) as on_watch:
        about = drill.chosen(store, keep, args.ref, now(), by_chance=args.any)
        request = drill.request_of(keep, about, into, leave=args.leave)
        found = drill.drill(keep, store, request, now, os.environ, Hear(on_watch=on_watch), step)
    code = 5 if not found.proven else 1 if found.complaints else 0
    left = request.into if args.leave else None
    result = {"drill": found, "proven": found.proven, "copy": left}
    return answer(args, code, result, lambda: view.drilled(screen, found, keep.config.tz, left))
