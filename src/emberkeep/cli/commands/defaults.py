"""``emberkeep defaults record|list|drop``: the vendor's untouched files."""

from __future__ import annotations

import argparse
from pathlib import Path

from emberkeep.cli.context import answer, now, opened, the_keep
from emberkeep.errors import UsageError
from emberkeep.keep.keep import Keep
from emberkeep.operations.record import defaults
from emberkeep.operations.record.journal import Journal
from emberkeep.show import words
from emberkeep.show.console import ASKS, HEAD, Screen, cell, progress, table
from emberkeep.store import writer
from emberkeep.store.store import Store

EXAMPLES = (
    "emberkeep defaults record 4.2 releases/skerrylight-4.2",
    "emberkeep defaults record 4.3 skerrylight-4.3.zip",
    "emberkeep defaults list",
    "emberkeep defaults drop 4.1",
)
EXITS = {
    0: "recorded, listed or dropped",
    1: "recorded, but none of these files stands in the server",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What to do, and with which release."""
    words = "what to do: record a release, list those recorded, drop one"
    parser.add_argument("action", choices=("record", "list", "drop"), help=words)
    parser.add_argument("version", nargs="?", metavar="VERSION", help="the release's version, as 4.3")
    parser.add_argument("source", nargs="?", metavar="SOURCE", help="its untouched files: a folder, .zip or .tar.*")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Record, list or drop."""
    wanted = {"record": ("version", "source"), "drop": ("version",), "list": ()}[args.action]
    missing = [name.upper() for name in wanted if getattr(args, name) is None]
    if missing:
        raise UsageError(f"'defaults {args.action}' needs {' and '.join(missing)}")
    keep = the_keep(args)
    with opened(keep) as store:
        if args.action == "record":
            return _record(args, screen, keep, store)
        if args.action == "drop":
            defaults.tree_of(store, args.version)
            Journal(keep.folder).refuse_if_waiting()  # it may need them to go on
            writer.drop(store, args.version, defaults=True)
            return answer(
                args,
                0,
                {"dropped": args.version},
                lambda: screen.line(f"Forgot the defaults of {args.version}."),
            )
        return _list(args, screen, keep, store)


def _record(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store) -> int:
    with progress("recording") as step:
        found = defaults.record(keep, store, args.version, Path(args.source), now(), progress=step)

    def text() -> None:
        about = found.about
        inside = f", folder {found.below}" if found.below else ""
        screen.line(
            f"Recorded the defaults of {about.label} from {about.source}{inside}: "
            f"{words.count(about.files, 'file')}, {words.size(about.bytes)}; "
            f"the store grew by {words.size(about.new_bytes)}.",
            HEAD,
        )
        screen.line(f"  {found.shared} of them stand in the live server too", "" if found.shared else ASKS)

    code = 0 if found.shared else 1
    return answer(args, code, {"recorded": found}, text)


def _list(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store) -> int:
    found = [store.about(version, defaults=True) for version in defaults.versions(store)]

    def text() -> None:
        if not found:
            screen.line("No defaults are recorded.")
            screen.next("emberkeep defaults record VERSION SOURCE")
            return
        rows = table("version", "recorded", "from", "files", "size", right=("files", "size"))
        for about in found:
            taken = words.when(about.taken, keep.config.tz)
            rows.add_row(about.label, taken, cell(about.source), str(about.files), words.size(about.bytes))
        screen.show(rows)

    return answer(args, 0, {"defaults": found}, text)
