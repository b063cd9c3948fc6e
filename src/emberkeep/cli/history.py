"""``emberkeep history``: list snapshots."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.runs.snapshot import snapshots
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen

EXAMPLES = ("emberkeep history", "emberkeep history --json")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Nothing of its own."""


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4 when a snapshot's manifest is damaged."""
    keep = the_keep(args)
    with opened(keep) as store:
        found, faults = snapshots(store)
    code = 4 if faults else 0
    result = {"snapshots": found, "faults": faults}
    return answer(args, code, result, lambda: view.history(screen, found, faults, now(), keep.config.tz))
