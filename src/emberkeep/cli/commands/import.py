"""``emberkeep import SOURCE``: bring in a world from a folder or an archive."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep.cli.context import add_details, add_go, answer, now, opened, the_keep
from emberkeep.cli.run_context import run_context_for, shown
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import import_world
from emberkeep.operations.flows.import_world import Request
from emberkeep.process.signs import refuse_if_running
from emberkeep.show import runs as view
from emberkeep.show.console import Screen, progress

EXAMPLES = (
    "emberkeep import from-a-friend.zip            (shows what it would do)",
    "emberkeep import from-a-friend.zip --as far-isles --go",
)
EXITS = {
    0: "shown, or brought in",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Where it comes from, and its name here."""
    parser.add_argument("source", metavar="SOURCE", help="a folder or an archive with a world somewhere in it")
    parser.add_argument("--as", dest="name", default="", metavar="NAME", help="what its folder is to be called here")
    add_details(parser)
    add_go(parser, "bring it in")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    keep = the_keep(args)
    keep.require_server()
    request = Request(Path(os.path.abspath(args.source)), args.name)
    title = f"Bringing {request.source.name} into {keep.config.name}"
    with opened(keep) as store, progress("import", screen) as step:
        asked = import_world.KIND.run(request, now())
        context, steps = (
            run_context_for(args, screen, keep, store, asked, step),
            import_world.steps(keep, store, request),
        )
        if not args.go:
            return shown(args, screen, title, context, steps)
        refuse_if_running(keep, "it would write its settings back when it exits")
        done = carried_out(context, steps)
    return answer(args, 0, {"run": done, "done": True}, lambda: view.done(screen, title, done))
