"""``emberkeep adopt SERVER``: draft keep.toml for a server folder."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep import files
from emberkeep.cli.context import add_go, answer, opened, the_keep
from emberkeep.errors import Refused, UsageError
from emberkeep.keep import FILE, beside, check_text
from emberkeep.runs import defaults
from emberkeep.servers.adopt import adopt
from emberkeep.servers.draft import draft
from emberkeep.servers.refresh import refresh, written
from emberkeep.show import servers as view
from emberkeep.show.console import Screen

EXAMPLES = (
    "emberkeep adopt /srv/gannet-rock",
    "emberkeep adopt gannet-rock --zone Atlantic/Faroe",
    "emberkeep adopt --refresh      (what has come since; --go writes it)",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The server folder and the zone, or a fresh look."""
    parser.add_argument("server", metavar="SERVER", nargs="?", help="the server folder")
    parser.add_argument("--zone", default="UTC", help="IANA name of the zone in which times are shown (default UTC)")
    parser.add_argument(
        "--refresh", action="store_true", help="look again, and propose changes to the keep.toml there is"
    )
    add_go(parser, "write what --refresh proposes into keep.toml")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Look the folder over and write the draft; the server folder itself is only read."""
    if args.refresh:
        return _refresh(args, screen)
    if args.server is None:
        raise UsageError("which server folder?", hint="emberkeep adopt SERVER; or --refresh for the keep there is")
    server = Path(os.path.abspath(args.server))
    if not server.is_dir():
        raise UsageError(f"{server} is not a folder", hint="name the folder that holds the game server")
    keep = Path(os.path.abspath(args.keep)) if args.keep else beside(server)
    if keep == server or server in keep.parents:
        raise Refused(f"the keep {keep} would lie inside the server folder", hint="name one beside it with --keep")
    if (keep / FILE).exists():
        raise Refused(
            f"{keep / FILE} is there already", hint="'emberkeep adopt --refresh' looks again and proposes changes"
        )
    found = adopt(server)
    text = draft(found, os.path.relpath(server, keep) if keep.parent == server.parent else str(server), args.zone)
    check_text(text, keep / FILE)  # the draft must pass our own check
    files.make_folder(keep)
    files.write_whole(keep / FILE, [text.encode("utf-8", "backslashreplace")])
    result = {"keep": keep, "adoption": found}
    return answer(args, 0, result, lambda: view.adoption(screen, found, keep, True))


def _refresh(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when there are proposals that were not written."""
    if args.server is not None and not args.keep:
        args.keep = str(beside(Path(os.path.abspath(args.server))))
    keep = the_keep(args)
    with opened(keep) as store:
        releases = [defaults.tree_of(store, version) for version in defaults.versions(store)]
        found = refresh(keep.config, adopt(keep.require_server(), releases))
    path = keep.folder / FILE
    if args.go and found.proposals:
        text = written(path.read_text(encoding="utf-8"), found.proposals)
        check_text(text, path)
        files.write_whole(path, [text.encode("utf-8")])
    result = {
        "proposals": [
            {"where": p.where, "what": p.what, "evidence": p.evidence, "sure": p.sure} for p in found.proposals
        ],
        "idle": found.idle,
        "written": bool(args.go and found.proposals),
    }
    code = 1 if found.proposals and not args.go else 0
    return answer(args, code, result, lambda: view.refreshed(screen, found, path, args.go))
