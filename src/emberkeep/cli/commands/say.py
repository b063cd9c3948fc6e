"""``emberkeep say TEXT``: say something to the players."""

from __future__ import annotations

import argparse
import os

from emberkeep.cli.context import answer, the_keep
from emberkeep.errors import Refused
from emberkeep.process import console
from emberkeep.show.console import Screen

EXAMPLES = ("emberkeep say 'the new release goes in at nine'",)
EXITS = {
    0: "said",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What is said."""
    parser.add_argument("text", metavar="TEXT", help="what the players read; one line")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """It changes no file, so it needs no ``--go``."""
    keep = the_keep(args)
    settings = keep.config.running.console
    if settings is None:
        raise Refused("keep.toml has no [console]", hint='write it: kind = "line", address = "127.0.0.1:27900"')
    said = console.say(settings, os.environ, args.text)
    return answer(args, 0, {"said": args.text, "answer": said}, lambda: screen.line(f"Said. {said}".rstrip()))
