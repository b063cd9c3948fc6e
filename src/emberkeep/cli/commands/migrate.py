"""``emberkeep migrate --to V``: the saves through every recipe up to a version; and drafting a recipe."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any

from emberkeep.cli.context import add_details, add_go, answer, now, opened, the_keep
from emberkeep.cli.run_context import run_context_for, shown
from emberkeep.errors import Refused, UsageError
from emberkeep.fs import writing
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import migrate
from emberkeep.process.signs import refuse_if_running
from emberkeep.show import runs as view
from emberkeep.show.console import GOOD, Screen, progress

EXAMPLES = (
    "emberkeep migrate --to 4.4                       (shows what it would do)",
    "emberkeep migrate --from 4.2 --to 4.4 --go",
    "emberkeep migrate --to 4.4 --sql release/sql --go",
    "emberkeep migrate --draft 4.2 4.3 --saves old-world/ new-world/ --out 4.2-to-4.3.toml",
)
EXITS = {
    0: "shown, or migrated",
    1: "shown, and something of it wants a look",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """From which version to which; or what a recipe is drafted from."""
    parser.add_argument("--to", dest="new", metavar="V", help="the version the saves are taken to")
    parser.add_argument("--from", dest="old", metavar="V", help="the version they are of (default: what is known)")
    parser.add_argument("--recipes", metavar="DIR", help="more recipes, beside those of the keep")
    parser.add_argument("--sql", metavar="DIR", help="the vendor's SQL: databases go through it, as [vendor-sql] tells")
    parser.add_argument("--draft", nargs=2, metavar=("FROM", "TO"), help="propose a recipe by comparing two releases")
    parser.add_argument("--saves", nargs=2, metavar=("OLD", "NEW"), help="sample saves of both, for --draft")
    parser.add_argument("--out", metavar="FILE.toml", help="write the proposed recipe there")
    parser.add_argument("--stay", action="store_true", help="when a step fails, leave all as it is for a look")
    add_details(parser)
    add_go(parser, "migrate")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    keep = the_keep(args)
    if args.draft:
        return _draft(args, screen, keep)
    if not args.new:
        raise UsageError("--to V is wanted: the version the saves are taken to")
    with opened(keep) as store, progress("migrate", screen) as step:
        further = Path(os.path.abspath(args.recipes)) if args.recipes else None
        folders = migrate.folders(keep, further)
        sql = Path(os.path.abspath(args.sql)) if args.sql else None
        request = migrate.Request(migrate.saves_version(keep, store, args.old), args.new, folders, sql)
        steps = migrate.steps(keep, store, request)
        title = f"Migration of the saves from {request.old} to {request.new}"
        if not steps:
            return answer(args, 0, {"done": False}, lambda: screen.line(f"The saves are of {request.old}.", GOOD))
        asked = migrate.KIND.run(request, now())
        context = run_context_for(args, screen, keep, store, asked, step)
        if not args.go:
            return shown(args, screen, title, context, steps)
        refuse_if_running(keep, "it would write over what is migrated")
        done = carried_out(context, steps, stay=args.stay)
        missed = context.findings.missed
    result: dict[str, Any] = {"run": done, "missed": missed, "done": True}
    return answer(args, 0, result, lambda: view.done(screen, title, done, missed))


def _draft(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    from emberkeep.migrating.draft import draft
    from emberkeep.operations.record.defaults import tree_of

    out = Path(os.path.abspath(args.out)) if args.out else None
    if out is not None and out.exists():
        raise Refused(f"{out} is there already", hint="name another file with --out")
    with opened(keep) as store:
        saves = tuple(Path(os.path.abspath(path)) for path in args.saves) if args.saves else ()
        old, new = args.draft
        text = draft(old, new, tree_of(store, old), tree_of(store, new), saves, keep.config)
    if out is not None:
        writing.write_whole(out, [text.encode()], otherwise=writing.SHARED)

    def show() -> None:
        screen.text(text)
        if out is not None:
            screen.line(f"Wrote {out}; read it over before it is used.", GOOD)

    return answer(args, 0, {"recipe": text}, show)
