"""``emberkeep export REF FILE``: a snapshot as an ordinary archive."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep.cli.context import add_only, answer, now, opened, the_keep
from emberkeep.inventory.roles import require_some
from emberkeep.operations.engine import restore_plan
from emberkeep.operations.flows import restore as recovery
from emberkeep.operations.record import snapshot
from emberkeep.operations.upkeep import export
from emberkeep.show import words
from emberkeep.show.console import GOOD, Screen, progress

EXAMPLES = (
    "emberkeep export latest gannet-rock.tar.zst",
    "emberkeep export 'before 4.3' world.zip --only world",
)
EXITS = {
    0: "the archive is written",
    4: "the store cannot give a file back whole; no archive is written",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which snapshot, and the file; its name says the kind."""
    parser.add_argument("ref", metavar="REF", help="a number, latest, a note, or a moment such as '2 days ago'")
    parser.add_argument("file", metavar="FILE", help="a name that ends in .tar, .tar.zst or .zip")
    add_only(parser)


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 4, and no archive, when the store cannot give a file back whole."""
    keep = the_keep(args)
    target = Path(os.path.abspath(args.file))
    with opened(keep) as store, progress("export") as step:
        tree = snapshot.find(store, keep, args.ref, now())
        wanted = restore_plan.scope_of(tree.manifest, args.only, keep.config)
        databases = recovery.selected(keep, tree, tuple(args.only))
        if not databases:
            require_some(args.only, wanted, tree.entries(), tree.label)
        number, size = export.export(tree, wanted, target, databases=databases, progress=step)
    written = target.stat().st_size
    result = {"snapshot": tree.manifest.about, "file": target, "files": number, "bytes": size, "written": written}
    content = f"{words.count(number, 'file')}, {words.size(size)} in {words.size(written)}"
    return answer(args, 0, result, lambda: screen.line(f"Wrote {tree.label} as {args.file}: {content}.", GOOD))
