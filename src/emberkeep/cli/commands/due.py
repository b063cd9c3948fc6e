"""``emberkeep due``: what is due now; with ``--go``, done, exactly once. For cron or a timer."""

from __future__ import annotations

import argparse
import os

from emberkeep.cli.context import add_all, add_go, answer, now, the_keep
from emberkeep.cli.run_context import run_context_for
from emberkeep.errors import UsageError
from emberkeep.operations.flows import due
from emberkeep.show import calendar as view
from emberkeep.show.console import Screen, progress

EXAMPLES = (
    "emberkeep due                    (shows what is due now)",
    "emberkeep due --go               (does it; 'emberkeep calendar --install' prints lines for cron and systemd)",
    "emberkeep due --run 'our wipe' --go    (now, missed or not)",
    "emberkeep due --drop 'our wipe' --go",
)
EXITS = {
    0: "nothing waits, and all that was due is done",
    1: "something failed, was missed, or waits for your word; or those that [due] names could not be notified",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Nothing, or what becomes of an event that waits for a word."""
    parser.add_argument("--run", metavar="EVENT", help="do this event now: what was missed of it, else once more")
    parser.add_argument("--drop", metavar="EVENT", help="leave out what was missed of it")
    add_go(parser, "do it")
    add_all(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something failed, was missed, or waits for the admin's word."""
    keep = the_keep(args)
    if not keep.config.calendar.events:  # no fault: a timer may come by at every keep of a caretaker
        nothing = {"due": (), "waiting": (), "done": args.go}
        return answer(args, 0, nothing, lambda: None if args.go else screen.line("keep.toml has no [[event]]."))
    if args.run and args.drop:
        raise UsageError("either --run or --drop")
    waits = due.waiting(keep)
    if not args.go:
        found = due.would_do(keep, args.run, now()) if args.run else due.what_is_due(keep, now())
        code = 1 if waits or due.codes(found) else 0
        result = {"due": found, "waiting": waits, "done": False}
        return answer(args, code, result, lambda: view.due(screen, found, waits, keep.config.tz, done=False))
    with progress("due", screen) as step:
        hands = due.Hands(lambda store, asked: run_context_for(args, screen, keep, store, asked, step), now, os.environ)
        if args.run or args.drop:
            found = due.decide(keep, args.run or args.drop, hands, run=bool(args.run))
        else:
            found = due.do(keep, hands)
    notified = due.notify(keep, found, os.environ)
    waits = due.waiting(keep)
    code = 1 if waits or due.codes(found) or any(one.why for one in notified) else 0
    result = {"due": found, "waiting": waits, "done": True, "notified": notified}

    def text() -> None:
        view.due(screen, found, waits, keep.config.tz, done=True)
        view.not_notified(screen, notified)

    return answer(args, code, result, text)
