"""``emberkeep start``: start the server, and follow it until it is ready."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import add_go, answer, now, opened, the_keep
from emberkeep.cli.run_context import live_watch, run_context_for
from emberkeep.errors import RunFailed, UsageError
from emberkeep.operations.engine import preview
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import set_back, start
from emberkeep.operations.flows.start import OnceRequest, Request
from emberkeep.operations.steps import server
from emberkeep.process import lifecycle
from emberkeep.process.watch import State
from emberkeep.show import runs as view
from emberkeep.show import watching
from emberkeep.show.console import ASKS, Screen, progress

EXAMPLES = (
    "emberkeep start            (shows what it would do)",
    "emberkeep start --go",
    "emberkeep start --once keeper.properties:storms=wild --go",
)
EXITS = {
    0: "shown, or ready",
    1: "ready, but an extension failed or errors were logged",
    5: "it did not become ready",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Settings for one start."""
    parser.add_argument(
        "--once",
        action="append",
        default=[],
        metavar="FILE:KEY=VALUE",
        help="set a value for this one start; it is set back after the first good one (repeatable)",
    )
    parser.add_argument("--no-checks", action="store_true", help="leave out the checks learned from the releases")
    add_go(parser, "start it")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when it is ready but something failed, 5 when it did not become ready."""
    keep = the_keep(args)
    once = [_once(text) for text in args.once]
    with opened(keep) as store, progress("start", screen) as step, live_watch(args, screen) as on_watch:
        start.require_idle(keep)
        lifecycle.how_to_start(keep.config)
        request = Request(tuple(once))
        context = run_context_for(args, screen, keep, store, start.KIND.run(request, now()), step)
        broken = [] if args.no_checks else start.checked(keep, store)
        steps = start.steps(keep, store, request, on_watch)
        if not args.go:
            found = preview.preview(context, steps if once else [server.StartStep(on_watch)])
            title = f"Start of {keep.config.name}"

            def text() -> None:
                for line in broken:
                    screen.line(f"! {line}", ASKS)
                view.whole(screen, title, found)

            return answer(args, 1 if broken else 0, {"preview": found, "checks": broken, "done": False}, text)
        preview.require_possible(context, [server.StartStep(on_watch)])
        back = set_back.KIND.run(set_back.Request(), now())
        set_back.set_back(run_context_for(args, screen, keep, store, back, step))
        for line in broken:
            screen.note(f"  ! {line}")
        if once:
            carried_out(context, steps)
            assert context.findings.watched is not None
            outcome = context.findings.watched
        else:
            outcome = server.start_and_watch(context, on_watch)
    if outcome.state is not State.READY:
        raise RunFailed(server.unwell(outcome), hint=f"what it printed is in {keep.output}")
    code = 0 if outcome.good and not broken else 1
    return answer(
        args, code, {"watched": outcome, "checks": broken, "done": True}, lambda: watching.watched(screen, outcome)
    )


def _once(text: str) -> OnceRequest:
    file, _, rest = text.partition(":")
    key, mark, value = rest.partition("=")
    if not file or not key or not mark:
        raise UsageError(f"'{text}' names no setting", hint="--once FILE:KEY=VALUE is wanted")
    return OnceRequest(file, key, value)
