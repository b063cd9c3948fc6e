"""``emberkeep wipe [SCOPE]…``: what a wipe would clear, leave and forget; with ``--go``, the wipe."""

from __future__ import annotations

import argparse
import json
import os
import sys
from pathlib import Path
from typing import Any

from emberkeep.cli.context import add_details, add_go, answer, now, opened, the_keep, write_page
from emberkeep.cli.run_context import live_watch, run_context_for
from emberkeep.errors import Refused, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.edit import remember
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.wiping import CLEAR, STAYS
from emberkeep.operations.engine.codec import to_json
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import wipe, wipe_preview
from emberkeep.operations.flows.wipe_preview import Preview, Request
from emberkeep.operations.record.journal import Journal
from emberkeep.show import wipes as view
from emberkeep.show.console import ASKS, HEAD, Screen, progress
from emberkeep.show.waiting import answered_yes, typed
from emberkeep.store.store import Store
from emberkeep.wiping.values import Asked

UNSORTED = ("wipe", "unsorted")
"""Where keep.toml holds the answers."""
EXAMPLES = (
    "emberkeep wipe map players               (shows what goes, what stays and what would be forgotten)",
    "emberkeep wipe map players --go",
    "emberkeep wipe map players --seed 18072 --go",
    "emberkeep wipe extension-data --unsorted 'old-lockers.json=clear'",
    "emberkeep wipe --skip --to 4.3           (what it takes to keep the map over a release instead)",
)
EXITS = {
    0: "shown, or done",
    1: "something would be forgotten, or waits for an answer",
    5: "it failed, and all is as it was before",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which scopes, and what changes."""
    parser.add_argument("scopes", nargs="*", metavar="SCOPE", help="what is cleared: map players progress …")
    parser.add_argument("--seed", metavar="SEED", help="the new seed, or random, list or same (default: [wipe] seed)")
    parser.add_argument("--size", metavar="SIZE", help="the new size (default: [wipe] size)")
    parser.add_argument(
        "--unsorted",
        action="append",
        default=[],
        metavar="GLOB=clear|keep",
        help="what is done with unsorted files that mention players; remembered in keep.toml",
    )
    parser.add_argument("--deep", action="store_true", help="look through tiles that stay for players, too")
    parser.add_argument("--now", action="store_true", help="do not tell the players first, nor wait for them")
    parser.add_argument("--no-start", action="store_true", help="do not start the server afterwards")
    parser.add_argument("--stay", action="store_true", help="when a step fails, leave all as it is for a look")
    parser.add_argument("--skip", action="store_true", help="no wipe: what keeping the map over a release takes")
    parser.add_argument("--to", metavar="V", help="with --skip: the release that the map is kept over")
    parser.add_argument("--fresh", metavar="DIR", help="with --skip: tiles that the new engine made from the same seed")
    parser.add_argument("--report", metavar="FILE.html", help="what it would do as a page, to agree on")
    add_details(parser)
    add_go(parser, "wipe")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when something would be forgotten or waits for an answer; 3 where it is not safe."""
    keep = the_keep(args)
    if args.skip:
        return _skip(args, screen, keep)
    if not args.scopes:
        known = ", ".join(scope.name for scope in keep.config.wiping.scopes)
        raise UsageError("which scopes?", hint=f"one or more of: {known}" if known else "keep.toml has no [scopes]")
    Journal(keep.folder).refuse_if_waiting()
    keep = _remembered(args, keep)
    return _wipe(args, screen, keep) if args.go else _preview(args, screen, keep)


def _remembered(args: argparse.Namespace, keep: Keep) -> Keep:
    answers = {}
    for given in args.unsorted:
        name, _, said = given.rpartition("=")
        if not name or said not in (CLEAR, STAYS):
            raise UsageError(f"'{given}' is no answer", hint=f"--unsorted 'GLOB={CLEAR}' or 'GLOB={STAYS}'")
        answers[name] = said
    if not answers:
        return keep
    remember(keep, UNSORTED, answers)
    return Keep(keep.folder, keep.environment)


def _asked(args: argparse.Namespace) -> str:
    """The call, as previews are remembered by."""
    return json.dumps([list(dict.fromkeys(args.scopes)), args.seed, args.size, not args.no_start])


def _request(args: argparse.Namespace, keep: Keep, live: FolderTree) -> Request:
    asked = Asked(args.seed or "", args.size or "")
    start = False if args.no_start else None
    scopes = tuple(dict.fromkeys(args.scopes))
    return wipe_preview.request_of(keep, scopes, now(), asked=asked, warn=not args.now, start=start, live=live)


def _looked(args: argparse.Namespace, screen: Screen, keep: Keep, request: Request, live: FolderTree) -> Preview:
    with progress("look through", screen) as step:
        return wipe_preview.preview(keep, request, os.environ, now(), deep=args.deep, live=live, progress=step)


def _preview(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    live = wipe_preview.live_of(keep)
    found = _looked(args, screen, keep, _request(args, keep, live), live)
    _remember(args, keep, found)
    code = 1 if found.audit.forgotten or found.audit.left_out else 0
    result = {"preview": found, "done": False}
    wrote = write_page(args.report, lambda on: view.preview(on, found, keep, details=args.details))

    def text() -> None:
        view.preview(screen, found, keep, details=args.details)
        if wrote:
            screen.line(wrote)

    return answer(args, code, result, text)


def _remember(args: argparse.Namespace, keep: Keep, found: Preview) -> None:
    remembered = {"request": to_json(found.request), "told": found.outcome}
    Journal(keep.folder).remember_preview(_asked(args), remembered, now())


def _wipe(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    journal = Journal(keep.folder)
    before = journal.previewed(_asked(args))
    live = wipe_preview.live_of(keep)
    request = _request(args, keep, live)
    if before is not None:  # the values that the preview told, not others
        shown = wipe.KIND.read(before["request"], "the preview that the journal remembers")
        request = Request(**{**vars(shown), "warn": request.warn, "start": request.start})
    found = _looked(args, screen, keep, request, live)
    changed = wipe_preview.differences(before["told"], found.outcome) if before is not None else []
    keep = _questions(args, screen, keep, found)
    if before is None or changed:
        _ask_again(args, screen, keep, found, changed)
    wipe_preview.require_answers(found)
    with opened(keep) as store, progress("wipe", screen) as step:
        return _carry_out(args, screen, keep, store, request, found, step)


def _ask_again(args: argparse.Namespace, screen: Screen, keep: Keep, found: Preview, changed: list[str]) -> None:
    """Show what it would do now; go on only when somebody says so."""
    _remember(args, keep, found)
    unseen = "you have not seen a preview of this since the last run"
    why = "the folder is not as the preview said" if changed else unseen
    if args.json or not sys.stdin.isatty():
        listed = "; ".join(changed[:6])
        raise Refused(
            f"{why}: {listed}" if changed else why,
            hint="run it without --go, look, then run it again"
            if not changed
            else "look at it; run it again, and it is done",
        )
    view.preview(screen, found, keep, details=args.details)
    for line in changed:
        screen.line(f"! {line}", ASKS)
    screen.line(f"{why[0].upper()}{why[1:]}.", HEAD)
    if not answered_yes("Wipe? [y/N] "):
        raise Refused("nothing was wiped", hint="run the same again when you are ready")


def _questions(args: argparse.Namespace, screen: Screen, keep: Keep, found: Preview) -> Keep:
    """Ask, on a terminal, what becomes of unsorted files that mention players."""
    if args.json or not sys.stdin.isatty() or not found.questions:
        return keep
    answers = {}
    for item in found.questions:
        screen.line(f"{item.path}: no role covers it, and {item.ids} players who are wiped stand in it.", HEAD)
        while (said := typed("  clear or keep? ").strip().lower()) not in (CLEAR, STAYS):
            continue
        answers[item.path] = said
    remember(keep, UNSORTED, answers)
    raise Refused("your choice is remembered, and this wipe clears something else by it", hint="run the same again")


def _carry_out(
    args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, request: Request, found: Preview, step: Any
) -> int:
    asked = wipe.KIND.run(request, now())
    with live_watch(args, screen) as on_watch:
        context = run_context_for(args, screen, keep, store, asked, step)
        done = carried_out(context, wipe.steps(keep, store, request, on_watch), stay=args.stay)
    report = wipe.report(context, done.number, found.outcome)
    code = 1 if report.waits or found.audit.forgotten or found.audit.left_out else 0
    result = {"run": done, "report": report, "forgotten": found.audit.forgotten, "done": True}
    return answer(args, code, result, lambda: view.report(screen, report, found))


def _skip(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    from emberkeep.operations.flows import keep_map  # only where it is asked for

    if not args.to:
        raise UsageError("--to V is wanted: the release that the map is kept over")
    if args.go or args.scopes:
        raise UsageError("--skip wipes nothing; 'emberkeep update' brings the release", hint="leave SCOPE and --go out")
    fresh = Path(os.path.abspath(args.fresh)) if args.fresh else None
    with opened(keep) as store:
        found = keep_map.plan(keep, store, args.to, fresh)
    code = 1 if found.missing else 0
    return answer(args, code, {"keeping": found}, lambda: view.keeping(screen, found, keep))
