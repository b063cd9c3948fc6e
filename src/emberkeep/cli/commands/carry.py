"""``emberkeep carry OLD NEW``: bring a server's own files from one install to another beside it."""

from __future__ import annotations

import argparse
import os
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from emberkeep.cli.context import add_details, add_go, answer, now, opened, the_keep, write_asked
from emberkeep.cli.run_context import run_context_for, shown
from emberkeep.documents.encoding import decode
from emberkeep.documents.formats.lines import split
from emberkeep.errors import UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import read
from emberkeep.keep.keep import Keep, beside
from emberkeep.keep.locate import FILE
from emberkeep.merging import answers as answer_files
from emberkeep.merging.answers import Answer
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import carry
from emberkeep.operations.flows.carry import Request
from emberkeep.operations.steps import merge as merging
from emberkeep.show import runs as view
from emberkeep.show.console import Screen, progress
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store

EXAMPLES = (
    "emberkeep carry gannet-rock gannet-rock-4.3            (shows what comes along and what stays)",
    "emberkeep carry gannet-rock gannet-rock-4.3 --ask      (asks about what both say differently)",
    "emberkeep carry gannet-rock gannet-rock-4.3 --go",
)
EXITS = {
    0: "shown, or carried",
    1: "shown, and something of it wants a look",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Both folders."""
    parser.add_argument("old", metavar="OLD", help="the install that players know")
    parser.add_argument("new", metavar="NEW", help="the fresh install beside it")
    parser.add_argument(
        "--from", dest="base", metavar="V", help="the release OLD's files began from (default: best fit)"
    )
    parser.add_argument("--stay", action="store_true", help="when a step fails, leave all as it is for a look")
    parser.add_argument("--ask", action="store_true", help="ask, one by one, about what both say differently")
    parser.add_argument("--questions", metavar="FILE", help="write what both say differently to FILE, to be filled in")
    parser.add_argument("--answers", metavar="FILE", help="settle it with the answers in FILE")
    parser.add_argument("--mine", action="store_true", help="where no answer says otherwise, what OLD says holds")
    add_details(parser)
    add_go(parser, "carry")


def _answers(args: argparse.Namespace, mine: Keep) -> tuple[Answer, ...]:
    """Those in the file first, then those that were remembered."""
    given = answer_files.read(Path(args.answers)) if args.answers else []
    return (*given, *answer_files.known(mine.answers_file))


def _settled(args: argparse.Namespace, screen: Screen, mine: Keep, store: Store, request: Request) -> Request:
    """The request with what the admin said; what stays open is written down where that is asked for."""
    found = carry.merged(request, mine.config, carry.base_of(request, mine, store))
    if args.ask and found.open:
        old = FolderTree(request.old)

        def lines(path: str) -> Sequence[str]:
            text = decode(read(old, path)) if path in old.entries() else None
            return split(text.text) if text else ()

        from emberkeep.cli.prompts import ask  # only where somebody is asked

        ask(screen, found.open, lines, lambda done: answer_files.remember(mine.answers_file, done))
        request = replace(request, answers=_answers(args, mine))
        found = carry.merged(request, mine.config, carry.base_of(request, mine, store))
    if args.questions:
        text = answer_files.serialize(found.open)
        write_asked(args.questions, text.encode())
    return request


def run(args: argparse.Namespace, screen: Screen) -> int:
    """A preview without ``--go``."""
    old, new = Path(os.path.abspath(args.old)), Path(os.path.abspath(args.new))
    mine = Keep(beside(old), os.environ) if (beside(old) / FILE).is_file() else the_keep(args)
    if args.ask and args.json:
        raise UsageError("--ask talks to you; --json cannot go with it")
    request = Request(old, new, answers=_answers(args, mine), mine=args.mine)
    before, after = carry.require_apart(request, mine.config)
    with closing(store_of(mine)) as known:
        base = args.base or merging.began_from(mine, known, FolderTree(old))
        request = replace(request, base=base)
        if args.ask or args.questions:
            request = _settled(args, screen, mine, known, request)
        if args.go:  # before there is a keep for it
            carry.require_decided(request, mine.config, carry.base_of(request, mine, known))
        keep = carry.keep_for(new, mine, make=args.go)
        with opened(keep) as store, progress("carry", screen) as step:
            steps = carry.steps(keep, store, request)
            title = f"Carrying {old.name} ({before or '?'}) into {new.name} ({after or '?'})"
            context = run_context_for(args, screen, keep, store, carry.KIND.run(request, now()), step)
            if not args.go:
                return shown(args, screen, title, context, steps)
            done = carried_out(context, steps, stay=args.stay)

    def text() -> None:
        view.done(screen, title, done)
        screen.line(f"{context.findings.verified} files were read again on both sides and are the same.")
        screen.line(f"The keep of {new.name} is {keep.folder}.")

    result = {"run": done, "verified": context.findings.verified, "keep": keep.folder, "done": True}
    return answer(args, 0, result, text)
