"""``emberkeep verify [REF]``: check every stored byte, and mend what can be mended."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import add_all, answer, now, opened, the_keep
from emberkeep.errors import UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.snapshot import meant
from emberkeep.show import snapshots as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.repair import repair
from emberkeep.store.store import Store
from emberkeep.store.verify import verify

EXAMPLES = (
    "emberkeep verify",
    "emberkeep verify latest",
    "emberkeep verify defaults:4.2",
    "emberkeep verify --sample 5%",
    "emberkeep verify --repair",
)
EXITS = {
    0: "every byte is what was put there",
    4: "damage was found, or is left after --repair",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot; all when none is named. How much of it, and whether to mend."""
    parser.add_argument("ref", nargs="?", metavar="REF", help="one snapshot or defaults:VERSION (default: everything)")
    parser.add_argument("--sample", metavar="SHARE", help="read only so much, drawn by chance, as 5%%")
    parser.add_argument(
        "--repair",
        action="store_true",
        help="take what is damaged out of the store, and read it again from the server folder where it still stands",
    )
    add_all(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4 when damage is found, or is left after mending."""
    keep = the_keep(args)
    share = share_of(args.sample)
    if args.repair and (args.ref or args.sample):
        raise UsageError("--repair looks at the whole store")
    with opened(keep) as store, progress("verify") as step:
        if args.repair:
            return _repair(args, screen, keep, store)
        only = args.ref
        if only is not None and not only.startswith("defaults:"):
            only = meant(store, keep, only, now()).label
        found = verify(store, only, share=share, progress=step)
    code = 0 if found.sound and not args.rotten else 4
    return answer(args, code, {"verification": found}, lambda: view.verification(screen, found))


def share_of(text: str | None) -> float:
    """The share in ``--sample``; all of it where it is not told."""
    if text is None:
        return 1.0
    try:
        share = float(text.removesuffix("%")) / 100
    except ValueError:
        share = 0.0
    if not 0 < share <= 1:
        raise UsageError(f"'{text}' is no share of the store", hint="more than 0% and up to 100% is wanted, as 5%")
    return share


def _repair(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store) -> int:
    with progress("repair") as step:
        found = repair(store, FolderTree(keep.require_server()), progress=step)
    code = 0 if found.after.sound and not found.aside else 4
    return answer(args, code, {"repair": found}, lambda: view.repaired(screen, found))
