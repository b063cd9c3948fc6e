"""``emberkeep store``: where the snapshots lie; a store that several keeps share, moved into and out of again."""

from __future__ import annotations

import argparse
from pathlib import Path

from emberkeep.cli.context import add_all, add_go, answer, now, opened, the_keep
from emberkeep.cli.run_context import run_context_for
from emberkeep.errors import UsageError
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.preview import preview
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import move_store
from emberkeep.operations.upkeep import sharing
from emberkeep.show import runs as run_view
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress

EXAMPLES = (
    "emberkeep store                                    (what it holds, of which keeps)",
    "emberkeep store join /srv/stores/skerrylight       (shows what it would do)",
    "emberkeep store join --all /srv/keeps --go         (every keep there, into the store that its keep.toml names)",
    "emberkeep store leave --go",
    "emberkeep store forget old-rock                    (a keep that is gone: shows what would go)",
)
EXITS = {
    0: "shown, moved or forgotten; or the snapshots lie there already",
}
ACTS = ("show", "join", "leave", "forget")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What to do, and with which store or keep."""
    parser.add_argument("act", nargs="?", choices=ACTS, default="show", help="what to do (default: show)")
    parser.add_argument(
        "what",
        nargs="?",
        metavar="FOLDER|NAME",
        help="for join: the shared store (default: that of keep.toml); for forget: the keep's name in it",
    )
    add_go(parser, "move the snapshots; for forget: delete those of the keep that is gone")
    add_all(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    if args.what and args.act in ("show", "leave"):
        raise UsageError(f"'store {args.act}' takes no {args.what}")
    keep = the_keep(args)
    if args.act in ("join", "leave"):
        return _move(args, screen, keep)
    with opened(keep) as store, progress("store") as step:
        if args.act == "forget":
            gone = sharing.to_forget(store, args.what or "")
            if args.go:
                sharing.forget(store, gone)
            result = {"forgotten": gone, "done": bool(args.go)}
            return answer(args, 0, result, lambda: view.forgotten(screen, gone, bool(args.go), keep.config.tz))
        found = sharing.overview(keep, store, step)
    return answer(args, 0, {"store": found}, lambda: view.store(screen, found, keep.config.tz))


def _move(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    to = ""
    if args.act == "join":
        to = str(Path(args.what).expanduser().absolute()) if args.what else keep.config.shared_store
        if not to:
            raise UsageError(
                "which shared store?", hint="emberkeep store join FOLDER; or name it in [store] of keep.toml"
            )
    request = move_store.request_for(keep, to)
    if request is None:
        place = to or "the keep"
        return answer(
            args, 0, {"run": None, "done": False}, lambda: screen.line(f"The snapshots lie in {place} already.")
        )
    title = f"{'Moving' if args.go else 'Move of'} the snapshots of {keep.config.name}"
    with opened(keep) as store, progress("store", screen) as step:
        context = run_context_for(args, screen, keep, store, move_store.KIND.run(request, now()), step)
        steps = move_store.steps(keep, store, request)
        if not args.go:
            context.journal.refuse_if_waiting()
            found = preview(context, steps)
            result = {"preview": found, "done": False}
            return answer(args, 0, result, lambda: run_view.aside(screen, title, found))
        done = carried_out(context, steps)
    return answer(args, 0, {"run": done, "done": True}, lambda: run_view.done(screen, title, done))
