"""``emberkeep merge``: carry the vendor's new defaults into hand-edited files, in a keep or between paths."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from emberkeep.cli.context import add_go, add_only, answer, now, opened, the_keep, write_asked
from emberkeep.documents.encoding import decode
from emberkeep.documents.formats.lines import split
from emberkeep.errors import Refused, UnreadableInput, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FileTree, NoTree, Tree, read
from emberkeep.merging import answers as answer_files
from emberkeep.merging import orders as order_files
from emberkeep.merging import paths
from emberkeep.merging.results import Merge
from emberkeep.show import merging as view
from emberkeep.show import words
from emberkeep.show.console import GOOD, HEAD, QUIET, Screen, progress
from emberkeep.show.summary import summary

if TYPE_CHECKING:
    from emberkeep.store.manifest import About

EXAMPLES = (
    "emberkeep merge                        (shows what it would do)",
    "emberkeep merge --ask                  (asks the open questions one by one)",
    "emberkeep merge --from 4.2 --to 4.3 --questions questions.toml",
    "emberkeep merge --answers questions.toml --report merged.html --go",
    "emberkeep merge --old-defaults 4.2/ --new-defaults 4.3/ --mine live/ --out merged/",
)
EXITS = {
    0: "nothing waits",
    1: "something waits: an open question, an answer or an order that fits nothing, a broken check",
    2: "a file could not be merged, or the call was wrong",
}
PATHS = ("old_defaults", "new_defaults", "mine")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Versions in a keep, or paths; questions and answers."""
    parser.add_argument(
        "--from", dest="old", metavar="V", help="the release your files began from (default: what fits best)"
    )
    parser.add_argument("--to", dest="new", metavar="V", help="the release to merge in (default: the newest recorded)")
    parser.add_argument(
        "--two-way", action="store_true", help="without old defaults: bring in what yours lack, ask where they differ"
    )
    parser.add_argument("--ask", action="store_true", help="ask the open questions one by one")
    parser.add_argument("--questions", metavar="FILE", help="write the open questions to FILE, ready to fill in")
    parser.add_argument("--answers", metavar="FILE", help="settle questions with the answers in FILE")
    parser.add_argument("--details", action="store_true", help="list every change taken and every edit kept")
    parser.add_argument("--report", metavar="FILE.html", help="write a report to read in a browser")
    parser.add_argument("--summary", action="store_true", help="only a paragraph for your players")
    parser.add_argument("--no-checks", action="store_true", help="leave out the checks learned from the releases")
    add_only(parser)
    add_go(parser, "write the merged files")
    paths = parser.add_argument_group("without a keep", "files or folders; OUT is written when it is not there yet")
    paths.add_argument("--old-defaults", metavar="P", help="the vendor's files that yours began from")
    paths.add_argument("--new-defaults", metavar="P", help="the vendor's new files")
    paths.add_argument("--mine", metavar="P", help="your files")
    paths.add_argument("--orders", metavar="FILE", help="standing orders")
    paths.add_argument("--out", metavar="P", help="where the result goes")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 while something waits: open questions, answers and orders that fit nothing, broken checks, files
    merged by line; 2 when a file cannot be read."""
    given = [name for name in PATHS if getattr(args, name)]
    if args.ask and args.json:
        raise UsageError("--ask talks to you; --json cannot go with it")
    if given or args.out or args.orders:
        wanted = PATHS[1:] if args.two_way else PATHS
        missing = [f"--{name.replace('_', '-')}" for name in wanted if name not in given]
        if missing:
            raise UsageError(f"merging between paths also needs {', '.join(missing)}")
        if args.old or args.new or args.only:
            raise UsageError("--from, --to and --only go with a keep, not with paths")
        if args.two_way and args.old_defaults:
            raise UsageError("--two-way is for when there are no old defaults")
        return _between_paths(args, screen)
    if args.two_way and args.old:
        raise UsageError("--two-way is for when there are no old defaults; --from cannot go with it")
    return _in_keep(args, screen)


def _in_keep(args: argparse.Namespace, screen: Screen) -> int:
    # only here: files outside of a keep need no store and no journal
    from emberkeep.operations.flows.merge import write_merge
    from emberkeep.operations.record import defaults
    from emberkeep.operations.steps import merge as runs

    keep = the_keep(args)
    given = Path(args.answers) if args.answers else None
    with opened(keep) as store:
        live = FolderTree(keep.require_server(), "live")
        old, new = runs.choose_versions(keep, store, live, args.old, args.new, two_way=args.two_way)
        wanted = runs.Request(old, new, tuple(args.only), not args.no_checks)

        def merged() -> Merge:
            return runs.merge_keep(keep, store, wanted, runs.load_answers(keep, given))

        found = _asked(args, screen, merged, live, keep.answers_file)
        _write_questions(args, found)
        began = f" (yours began from {old})" if old else ""
        title = f"Merging the defaults of {new}{began} into {keep.config.name}"
        outcome = _Outcome(found, title, summary(found, keep.config.news, keep.config.name))
        began_from = (lambda: defaults.tree_of(store, old)) if old else NoTree
        _write_report(args, outcome, live, began_from)  # before anything is written: it tells what stood there
        before = None
        if args.go and not found.faults:
            with progress("snapshot before") as step:
                before = write_merge(keep, store, found, wanted, given, now, progress=step)
    return _report(args, screen, outcome, before, bool(args.go))


@dataclass(frozen=True)
class _Outcome:
    """A merge, with what is said above it, and to players."""

    merge: Merge
    title: str
    news: str


def _between_paths(args: argparse.Namespace, screen: Screen) -> int:
    old, new, mine = (Path(os.path.abspath(path)) if (path := getattr(args, name)) else None for name in PATHS)
    assert new is not None
    assert mine is not None
    given = Path(args.answers) if args.answers else None
    if args.ask and given is None:
        raise UsageError("--ask between paths also needs --answers FILE, where your answers are kept")
    orders = order_files.read(Path(args.orders)) if args.orders else []
    out = Path(os.path.abspath(args.out)) if args.out else None
    if out and out.exists() and not args.go:
        raise Refused(f"{out} is there already", hint="add --go to write over it, or name another OUT")
    live: Tree = FileTree(mine) if mine.is_file() else FolderTree(mine)

    def merged() -> Merge:
        answers = answer_files.gathered(given, new=args.ask)
        return paths.merge(old, new, mine, answers, orders, checked=not args.no_checks)

    found = _asked(args, screen, merged, live, given)
    _write_questions(args, found)
    outcome = _Outcome(found, f"Merging {new} into {mine}", summary(found))
    _write_report(args, outcome, live, lambda: paths.sides(old, new, mine)[0])
    if out and not found.faults:
        paths.write(found, mine, out)
    return _report(args, screen, outcome, None, out is not None)


def _asked(
    args: argparse.Namespace, screen: Screen, merged: Callable[[], Merge], live: Tree, answers: Path | None
) -> Merge:
    """The merge, with the open questions put to the admin first where that is asked for."""
    if args.ask:
        screen.line("Looking for what is to be asked …", QUIET)  # it may take a while, and a dead screen invites keys
    found = merged()
    if not args.ask or not found.open or answers is None:
        return found

    def lines(path: str) -> Sequence[str]:
        text = decode(read(live, path)) if path in live.entries() else None
        return split(text.text) if text else ()

    from emberkeep.cli.prompts import ask  # only where somebody is asked

    ask(screen, found.open, lines, lambda done: answer_files.remember(answers, done))
    return merged()


def _write_report(args: argparse.Namespace, outcome: _Outcome, live: Tree, old: Callable[[], Tree]) -> None:
    if not args.report:
        return
    from emberkeep.merging.economy import Economy, economy
    from emberkeep.show.files import report  # needs much that is slow to load

    moved = economy(outcome.merge, live, old()) if not outcome.merge.faults else Economy()
    page = report.html(outcome.merge, moved, outcome.title, outcome.news)
    write_asked(args.report, page.encode())


def _write_questions(args: argparse.Namespace, found: Merge) -> None:
    if not args.questions:
        return
    write_asked(args.questions, answer_files.serialize(found.open).encode())


def _report(args: argparse.Namespace, screen: Screen, outcome: _Outcome, before: About | None, written: bool) -> int:
    found = outcome.merge
    waits = found.open or found.unused or found.idle or found.disagreements or found.breaches or found.warnings
    code = 2 if found.faults else 1 if waits else 0
    if found.faults:
        screen.error(UnreadableInput.gathered(found.faults))
    result: dict[str, Any] = {
        **(_flat(found) if args.json else {}),
        "summary": outcome.news,
        "written": written and not found.faults,
        "before": before,
    }

    def text() -> None:
        if args.summary:
            screen.line(outcome.news)
            return
        screen.line(outcome.title + ("" if written else " (preview, nothing is written)"), HEAD)
        view.merge(screen, found, details=args.details)
        _closing(args, screen, found, before, written)

    return answer(args, code, result, text)


def _flat(found: Merge) -> dict[str, Any]:
    from emberkeep.show.json_output import to_json

    merged: dict[str, Any] = to_json(found)
    return merged


def _written(found: Merge) -> str:
    written = [
        words.count(len(items), one)
        for items, one in ((found.to_write, "file"), (found.tables_to_write, "table"))
        if items
    ]
    return f"Written: {' and '.join(written)}." if written else "There was nothing to write."


def _closing(args: argparse.Namespace, screen: Screen, found: Merge, before: About | None, written: bool) -> None:
    screen.line()
    if written and not found.faults:
        screen.line(_written(found), GOOD)
    if args.report:
        screen.line(f"The report is in {args.report}.", QUIET)
    if before:
        screen.next("to take it back: emberkeep undo --go")
    if args.questions and found.open:
        screen.next(f"fill in {args.questions}, then emberkeep merge --answers {args.questions} --go")
    elif found.open and not args.answers:
        screen.next(
            "--ask asks them one by one; --questions FILE writes them into a file, --answers FILE reads them back"
        )
    elif not written and (found.to_write or found.tables_to_write):
        screen.next("run it again with --go; a snapshot of what stands there now is taken first")
