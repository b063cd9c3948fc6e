"""What commands that carry out runs share: the room of a run, what is said while it goes on, and being stopped."""

from __future__ import annotations

import argparse
import os
import sys

from emberkeep.cli.context import now
from emberkeep.keep import Keep
from emberkeep.runs.journal import Journal, Run
from emberkeep.runs.run import Room
from emberkeep.show.console import Screen
from emberkeep.store.intake import Progress
from emberkeep.store.store import Store


def room_for(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, run: Run, progress: Progress) -> Room:
    """What the steps of ``run`` work with: this terminal, this environment, this clock."""

    def say(text: str) -> None:
        screen.note(f"  {text}")

    def interrupted() -> bool:
        return ask_whether_back(screen) if sys.stdin.isatty() and not args.json else False

    return Room(
        keep,
        store,
        Journal(keep.folder),
        run,
        now,
        environment=os.environ,
        progress=progress,
        say=say,
        interrupted=interrupted,
    )


def ask_whether_back(screen: Screen) -> bool:
    """Ask whether an interrupted run goes back at once; stopped again while asking, it does."""
    screen.note("Interrupted. Go back to what stood there before? [y/N] (Ctrl-C again goes back)")
    return sys.stdin.readline().strip().lower() in ("y", "yes")
