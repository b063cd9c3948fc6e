"""What commands that carry out runs share: the context of a run, what is said while it goes on, and being stopped."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from typing import TYPE_CHECKING

from emberkeep.callbacks import Progress
from emberkeep.cli.context import answer, now
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.preview import preview
from emberkeep.operations.engine.step import RunContext, Step
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.process.watch import Watched
from emberkeep.show import runs as view
from emberkeep.show.console import Screen
from emberkeep.show.waiting import answered_yes
from emberkeep.store.store import Store

if TYPE_CHECKING:
    from emberkeep.transfer.pool import ConnectionPool


def run_context_for(
    args: argparse.Namespace,
    screen: Screen,
    keep: Keep,
    store: Store,
    run: Run,
    progress: Progress,
    pool: ConnectionPool | None = None,
) -> RunContext:
    """What the steps of ``run`` work with: this terminal, this environment, this clock, ``pool`` to a remote host."""

    def say(text: str) -> None:
        screen.note(f"  {text}")

    def interrupted() -> bool:
        return ask_whether_back(screen) if sys.stdin.isatty() and not args.json else False

    return RunContext(
        keep,
        store,
        Journal(keep.folder),
        run,
        now,
        environment=os.environ,
        progress=progress,
        say=say,
        interrupted=interrupted,
        pool=pool,
    )


def ask_whether_back(screen: Screen) -> bool:
    """Ask whether an interrupted run goes back at once; stopped again while asking, it does."""
    screen.note("Interrupted. Go back to what stood there before? [y/N] (Ctrl-C again goes back)")
    return answered_yes()


def shown(args: argparse.Namespace, screen: Screen, title: str, context: RunContext, steps: Sequence[Step]) -> int:
    """Preview a run; exit code 1 when something of it wants the admin's eye. Refused while another run waits."""
    context.journal.refuse_if_waiting()
    found = preview(context, steps)
    result = {"preview": found, "done": False}
    text = partial(view.whole, screen, title, found, details=args.details)
    return answer(args, 1 if found.warnings else 0, result, text)


@contextmanager
def live_watch(args: argparse.Namespace, screen: Screen) -> Iterator[Callable[[str, Watched], None]]:
    """What hears of a start while it goes on: a line on a terminal that is written anew, nothing on a pipe."""
    if args.json or not sys.stderr.isatty():
        yield lambda name, watched: None
        return
    from emberkeep.show.watching import Live

    with Live(screen) as live:
        yield live.show
