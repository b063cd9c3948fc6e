"""``emberkeep merge``: carry the vendor's new defaults into hand-edited files, in a keep or between paths."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any

from emberkeep import files
from emberkeep.cli.context import add_go, add_only, answer, now, opened, the_keep
from emberkeep.errors import Refused, UnreadableInput, UsageError
from emberkeep.merging import answers as answer_files
from emberkeep.merging.results import Merge
from emberkeep.runs import loose
from emberkeep.runs import merge as runs
from emberkeep.servers.roles import selection
from emberkeep.show import merging as view
from emberkeep.show.console import GOOD, HEAD, Screen, progress
from emberkeep.show.plain import plain
from emberkeep.store.manifest import About
from emberkeep.trees import FolderTree

EXAMPLES = (
    "emberkeep merge                        (shows what it would do)",
    "emberkeep merge --from 4.2 --to 4.3 --questions questions.toml",
    "emberkeep merge --answers questions.toml --go",
    "emberkeep merge --old-defaults 4.2/ --new-defaults 4.3/ --mine live/ --out merged/",
)
PATHS = ("old_defaults", "new_defaults", "mine")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Versions in a keep, or paths; questions and answers."""
    parser.add_argument(
        "--from", dest="old", metavar="V", help="the release your files began from (default: what fits best)"
    )
    parser.add_argument("--to", dest="new", metavar="V", help="the release to merge in (default: the newest recorded)")
    parser.add_argument("--questions", metavar="FILE", help="write the open questions to FILE, ready to fill in")
    parser.add_argument("--answers", metavar="FILE", help="settle questions with the answers in FILE")
    parser.add_argument("--details", action="store_true", help="list every change taken and every edit kept")
    add_only(parser)
    add_go(parser, "write the merged files")
    paths = parser.add_argument_group("without a keep", "files or folders; OUT is written when it is not there yet")
    paths.add_argument("--old-defaults", metavar="P", help="the vendor's files that yours began from")
    paths.add_argument("--new-defaults", metavar="P", help="the vendor's new files")
    paths.add_argument("--mine", metavar="P", help="your files")
    paths.add_argument("--out", metavar="P", help="where the result goes")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 while questions are open or an answer fits nothing; 2 when a file cannot be read."""
    told = [name for name in PATHS if getattr(args, name)]
    if told or args.out:
        missing = [f"--{name.replace('_', '-')}" for name in PATHS if name not in told]
        if missing:
            raise UsageError(f"merging between paths also needs {', '.join(missing)}")
        if args.old or args.new or args.only:
            raise UsageError("--from, --to and --only go with a keep, not with paths")
        return _between_paths(args, screen)
    return _in_keep(args, screen)


def _in_keep(args: argparse.Namespace, screen: Screen) -> int:
    keep = the_keep(args)
    answers = runs.load_answers(keep, Path(args.answers) if args.answers else None)
    wanted = selection(args.only, keep.config.roles, keep.config.world.tiles) if args.only else None
    with opened(keep) as store:
        live = FolderTree(keep.require_server(), "live")
        old, new = runs.choose_versions(keep, store, live, args.old, args.new)
        found = runs.merge_keep(keep, store, old, new, answers, wanted)
        _write_questions(args, found)
        before = None
        if args.go and not found.faults:
            with progress("snapshot before") as step:
                before = runs.write_merge(keep, store, found, now(), progress=step)
    title = f"Merging the defaults of {new} (yours began from {old}) into {keep.config.name}"
    return _report(args, screen, found, before, title, bool(args.go))


def _between_paths(args: argparse.Namespace, screen: Screen) -> int:
    old, new, mine = (Path(os.path.abspath(getattr(args, name))) for name in PATHS)
    answers = runs.load_answers(None, Path(args.answers) if args.answers else None)
    out = Path(os.path.abspath(args.out)) if args.out else None
    if out and out.exists() and not args.go:
        raise Refused(f"{out} is there already", hint="add --go to write over it, or name another OUT")
    found = loose.merge(old, new, mine, answers)
    _write_questions(args, found)
    if out and not found.faults:
        loose.write(found, mine, out)
    return _report(args, screen, found, None, f"Merging {new} into {mine}", out is not None)


def _write_questions(args: argparse.Namespace, found: Merge) -> None:
    if not args.questions:
        return
    files.write_whole(Path(os.path.abspath(args.questions)), [answer_files.serialize(found.open).encode()])


def _report(
    args: argparse.Namespace, screen: Screen, found: Merge, before: About | None, title: str, written: bool
) -> int:
    code = 2 if found.faults else 1 if found.open or found.unused else 0
    if found.faults:
        screen.error(UnreadableInput.gathered(found.faults))
    result: dict[str, Any] = {**_flat(found), "written": written and not found.faults, "before": before}

    def text() -> None:
        screen.line(title + ("" if written else " (preview, nothing is written)"), HEAD)
        view.merge(screen, found, details=args.details)
        _closing(args, screen, found, before, written)

    return answer(args, code, result, text)


def _flat(found: Merge) -> dict[str, Any]:
    merged: dict[str, Any] = plain(found)
    return merged


def _closing(args: argparse.Namespace, screen: Screen, found: Merge, before: About | None, written: bool) -> None:
    screen.line()
    if written and not found.faults:
        screen.line(
            f"Written: {len(found.to_write)} files." if found.to_write else "There was nothing to write.",
            GOOD,
        )
    if before:
        screen.next(f"to take it back: emberkeep restore {before.label} --go")
    if args.questions and found.open:
        screen.next(f"fill in {args.questions}, then emberkeep merge --answers {args.questions} --go")
    elif found.open and not args.answers:
        screen.next("--questions FILE writes them down for you to answer; --answers FILE brings them back")
    elif not written and found.to_write:
        screen.next("say it again with --go; a snapshot of what stands there now is taken first")
