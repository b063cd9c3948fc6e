"""``emberkeep snapshot``: take one, of the live server or of an archive or folder."""

from __future__ import annotations

import argparse
import os
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from emberkeep.callbacks import Progress
from emberkeep.cli.context import add_all, add_only, answer, now, opened, the_keep
from emberkeep.fs import scan
from emberkeep.keep import locate

if TYPE_CHECKING:
    from emberkeep.keep.keep import Keep
    from emberkeep.show.console import Screen
    from emberkeep.store.writer import SnapshotResult

EXAMPLES = (
    "emberkeep snapshot --note 'before 4.3' --pin",
    "emberkeep snapshot --only world --only players",
    "emberkeep snapshot --only 'mission/economy/*.xml'",
    "emberkeep snapshot --from an-old-backup.tar.zst --note 'last summer'",
)
EXITS = {
    0: "taken",
    1: "taken, but something could not be read, would not settle, or is called like something else",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Note, selection, source, and whether a running server is accepted."""
    parser.add_argument("--note", default="", metavar="TEXT", help="a name to find it by")
    parser.add_argument("--pin", action="store_true", help="thinning never removes it ('history --unpin' lets it)")
    parser.add_argument("--while-running", action="store_true", help="copy although the server is running")
    parser.add_argument("--rehash", action="store_true", help="read every file, also where nothing seems changed")
    parser.add_argument("--from", dest="source", metavar="SOURCE", help="take in an archive or another folder instead")
    parser.add_argument(
        "--far", action="store_true", help="behind FTP or SFTP: of the server there, not of its copy here"
    )
    parser.add_argument("--accept-new", action="store_true", help=argparse.SUPPRESS)
    add_only(parser)
    add_all(parser)


def ahead(args: argparse.Namespace) -> AbstractContextManager[scan.Ahead | None]:
    """A look at the live folder while the rest of the program is loaded: mostly nothing has changed."""
    if args.source or args.far or args.only or args.rehash or args.keeps:
        return nullcontext()
    try:
        keep = locate.keep_meant(args.keep, os.environ, str(Path.cwd()))
    except OSError:  # the folder we are in is gone, of which ``run`` tells
        keep = ""
    return scan.ahead(locate.likely_server(keep) if keep else "", [f"{keep}/journal.db"])


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something could not be taken, or would not settle."""
    from emberkeep.errors import UsageError  # all of this while the look ahead is under way
    from emberkeep.operations.record.snapshot import SnapshotRequest, clashes, take, take_in
    from emberkeep.show import snapshots as view
    from emberkeep.show.console import progress

    keep = the_keep(args)
    if args.far and (args.source or args.rehash):
        raise UsageError("--far reads everything there, and nothing else")
    if args.source and (args.only or args.while_running or args.rehash):
        raise UsageError("--from takes the whole source as it is; only --note and --pin go with it")
    with progress("snapshot") as step:
        if args.source:
            source = Path(os.path.abspath(args.source))
            done = take_in(keep, source, now(), note=args.note, pin=args.pin, progress=step)
        elif args.far:
            done = _remote(args, screen, keep, step)
        else:
            asked = SnapshotRequest(
                note=args.note, only=args.only, while_running=args.while_running, rehash=args.rehash, pin=args.pin
            )
            with opened(keep) as store:
                done = take(keep, now(), asked, environment=os.environ, store=store, progress=step, ahead=args.ahead)
    alike = clashes(keep, done.about.label) if args.source or args.far else []
    code = 1 if done.skipped or alike else 0
    result = {"snapshot": done.about, "skipped": done.skipped, "dumped": done.dumped, "differ_only_in_case": alike}
    return answer(args, code, result, lambda: view.taken(screen, done, alike))


def _remote(args: argparse.Namespace, screen: Screen, keep: Keep, step: Progress) -> SnapshotResult:
    """Straight from the far side, past the copy here."""
    from emberkeep.cli.transfer_options import connections_to  # only where a far host is asked
    from emberkeep.operations.upkeep import fetch, transfer_access

    with connections_to(args, screen, keep) as pool:
        found = transfer_access.look(keep, pool, twice=not args.while_running)
        if not args.while_running:
            transfer_access.refuse_if_written_to(found, pool.settings.address)
        only = tuple(args.only)
        return fetch.snapshot_of(keep, pool, found, now(), note=args.note, only=only, pin=args.pin, progress=step)
