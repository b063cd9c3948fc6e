"""``emberkeep stop``: warn the players, save, stop, and wait until the server has stopped."""

from __future__ import annotations

import argparse
import os

from emberkeep.cli.context import add_go, answer, now, opened, the_keep
from emberkeep.cli.run_context import run_context_for
from emberkeep.operations.flows import set_back
from emberkeep.process import lifecycle
from emberkeep.process.signs import running_signs
from emberkeep.show.console import GOOD, HEAD, Screen, progress

EXAMPLES = ("emberkeep stop            (shows what it would do)", "emberkeep stop --go", "emberkeep stop --now --go")
EXITS = {
    0: "shown, stopped, or not running",
    5: "it did not stop",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Whether players are warned."""
    parser.add_argument("--now", action="store_true", help="without warning the players first")
    add_go(parser, "stop it")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 5 when it does not stop."""
    keep = the_keep(args)
    signs = running_signs(keep.server, keep.config)
    if not signs:
        return answer(args, 0, {"stopped": None, "done": False}, lambda: screen.line("It is not running.", GOOD))
    stop = keep.config.running.stop
    if not args.go:
        times = ", ".join(lifecycle.in_words(time) for time in stop.tell)

        def text() -> None:
            screen.line(f"It is running: {signs[0]}", HEAD)
            if not args.now and times:
                screen.line(f"  tell the players {times} before")
            screen.line(f"  save and stop it, and wait up to {lifecycle.in_words(stop.limit)}")
            screen.next("emberkeep stop --go")

        return answer(args, 0, {"signs": signs, "done": False}, text)
    if not args.now:
        lifecycle.warn(keep, os.environ, lambda line: screen.note(f"  {line}"))
    done = lifecycle.stop(keep, os.environ, lambda line: screen.note(f"  {line}"))
    asked = set_back.KIND.run(set_back.Request(), now())
    with opened(keep) as store, progress("snapshot", screen) as step:
        back = set_back.set_back(run_context_for(args, screen, keep, store, asked, step))

    def stopped() -> None:
        forced = f" ({done.forced})" if done.forced else ""
        screen.line(f"Stopped after {done.seconds:.1f} s{forced}; its files are still.", GOOD)
        if back:
            screen.line("What held for one start only is set back.")

    return answer(args, 0, {"stopped": done, "set_back": back, "done": True}, stopped)
