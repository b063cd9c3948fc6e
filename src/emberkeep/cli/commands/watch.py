"""``emberkeep watch``: follow the server's log until it is ready."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, the_keep
from emberkeep.cli.run_context import live_watch
from emberkeep.errors import RunFailed
from emberkeep.operations.steps import server
from emberkeep.process import lifecycle
from emberkeep.process.watch import State, last_start
from emberkeep.show import watching
from emberkeep.show.console import QUIET, Screen

EXAMPLES = ("emberkeep watch", "emberkeep watch --once        (what the log tells now, without following it)")
EXITS = {
    0: "ready",
    1: "ready, but something failed; or with --once: not ready",
    5: "it died or did not become ready",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Whether to follow."""
    parser.add_argument("--once", action="store_true", help="only what the log tells now")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when it is ready but something failed, or when it is not ready with ``--once``; 5 when it died or
    does not become ready."""
    keep = the_keep(args)
    expected = server.foreseen(keep)
    running = lifecycle.is_running(keep)
    if args.once or not running:
        watched = last_start(keep.server, lifecycle.server_log(keep.config))

        def text() -> None:
            if not running:
                screen.line("It is not running; this is what its newest log tells of the last start.", QUIET)
            watching.watched(screen, watched, expected)

        result = {"running": running, "watched": watched, "forecast": expected}
        return answer(args, 0 if running and watched.good else 1, result, text)
    if expected is not None:
        screen.note(f"  {expected.words}")
    with live_watch(args, screen) as on_watch:
        watched = server.follow(keep, on_watch)
    if watched.state is not State.READY:
        raise RunFailed(
            server.unwell(watched), hint="see its log, and what it printed, in the folder output of the keep"
        )
    result = {"running": True, "watched": watched, "forecast": expected}
    return answer(args, 0 if watched.good else 1, result, lambda: watching.watched(screen, watched))
