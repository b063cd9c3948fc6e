"""``emberkeep check``: what could stop a run, found beforehand."""

from __future__ import annotations

import argparse
import os

from emberkeep.cli.context import answer, now, the_keep
from emberkeep.operations.flows import readiness
from emberkeep.show import readiness as view
from emberkeep.show.console import Screen

EXAMPLES = ("emberkeep check", "emberkeep check --json")
EXITS = {
    0: "nothing would stop a run",
    1: "something would",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """It has none."""


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something would stop a run."""
    keep = the_keep(args)
    found = readiness.check(keep, os.environ, now())
    code = 1 if found.obstacles else 0
    return answer(args, code, {"check": found}, lambda: view.check(screen, found, keep.config.name))
