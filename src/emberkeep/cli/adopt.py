"""``emberkeep adopt SERVER``: draft keep.toml for a server folder."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep import files
from emberkeep.cli.context import answer
from emberkeep.errors import Refused, UsageError
from emberkeep.keep import FILE, beside, read_config
from emberkeep.servers.adopt import adopt
from emberkeep.servers.draft import draft
from emberkeep.show import servers as view
from emberkeep.show.console import Screen

EXAMPLES = ("emberkeep adopt /srv/gannet-rock", "emberkeep adopt gannet-rock --zone Atlantic/Faroe")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The server folder and the zone."""
    parser.add_argument("server", metavar="SERVER", help="the server folder")
    parser.add_argument("--zone", default="UTC", help="IANA name of the zone in which times are shown (default UTC)")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Look the folder over and write the draft; the server folder itself is only read."""
    server = Path(os.path.abspath(args.server))
    if not server.is_dir():
        raise UsageError(f"{server} is not a folder", hint="name the folder that holds the game server")
    keep = Path(os.path.abspath(args.keep)) if args.keep else beside(server)
    if keep == server or server in keep.parents:
        raise Refused(f"the keep {keep} would lie inside the server folder", hint="name one beside it with --keep")
    if (keep / FILE).exists():
        raise Refused(f"{keep / FILE} is there already", hint="edit it, or move it away to have it drafted anew")
    found = adopt(server)
    text = draft(found, os.path.relpath(server, keep) if keep.parent == server.parent else str(server), args.zone)
    files.make_folder(keep)
    files.write_whole(keep / FILE, [text.encode("utf-8", "backslashreplace")])
    read_config(keep / FILE)  # the draft must pass our own check
    result = {"keep": keep, "adoption": found}
    return answer(args, 0, result, lambda: view.adoption(screen, found, keep, True))
