"""``emberkeep carry OLD NEW``: bring a server's own files from one install to another beside it."""

from __future__ import annotations

import argparse
import os
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from emberkeep.cli.context import add_details, add_go, answer, now, opened, the_keep
from emberkeep.cli.running import room_for, shown
from emberkeep.keep import Keep, beside
from emberkeep.locate import FILE
from emberkeep.runs import carry
from emberkeep.runs import merge as merging
from emberkeep.runs.carry import Request
from emberkeep.runs.journal import Run
from emberkeep.runs.run import carried_out
from emberkeep.show import runs as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.store import Store
from emberkeep.trees import FolderTree

EXAMPLES = (
    "emberkeep carry gannet-rock gannet-rock-4.3            (shows what comes along and what stays)",
    "emberkeep carry gannet-rock gannet-rock-4.3 --go",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Both folders."""
    parser.add_argument("old", metavar="OLD", help="the install that players know")
    parser.add_argument("new", metavar="NEW", help="the fresh install beside it")
    parser.add_argument(
        "--from", dest="base", metavar="V", help="the release OLD's files began from (default: best fit)"
    )
    parser.add_argument("--stay", action="store_true", help="when a step fails, leave all as it is for a look")
    add_details(parser)
    add_go(parser, "carry")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    old, new = Path(os.path.abspath(args.old)), Path(os.path.abspath(args.new))
    mine = Keep(beside(old), os.environ) if (beside(old) / FILE).is_file() else the_keep(args)
    request = Request(old, new)
    before, after = carry.require_apart(request, mine.config)
    with closing(Store(mine.store_folder)) as known:
        base = args.base or merging.began_from(mine, known, FolderTree(old))
        request = replace(request, base=base)
        keep = carry.keep_for(new, mine, make=args.go)
        with opened(keep) as store, progress("carry", screen) as step:
            asked = Run(0, carry.KIND, now(), title=f"carrying from {old.name}", request=request.plain)
            steps = carry.steps(request, carry.base_of(request, keep, store))
            title = f"Carrying {old.name} ({before or '?'}) into {new.name} ({after or '?'})"
            room = room_for(args, screen, keep, store, asked, step)
            if not args.go:
                return shown(args, screen, title, room, steps)
            done = carried_out(room, steps, stay=args.stay)

    def text() -> None:
        view.done(screen, title, done)
        screen.line(f"{room.told['verified']} files were read again on both sides and are the same.")
        screen.line(f"The keep of {new.name} is {keep.folder}.")

    result = {"run": done, "verified": room.told["verified"], "keep": keep.folder, "done": True}
    return answer(args, 0, result, text)
