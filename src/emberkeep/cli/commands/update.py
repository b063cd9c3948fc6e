"""``emberkeep update SOURCE --to V``: update day as one run."""

from __future__ import annotations

import argparse
import os
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

from emberkeep.cli.context import add_details, add_go, answer, now, opened, the_keep, write_asked
from emberkeep.cli.run_context import live_watch, run_context_for
from emberkeep.errors import UsageError
from emberkeep.keep.keep import Keep
from emberkeep.merging import answers as answer_files
from emberkeep.operations.engine import preview
from emberkeep.operations.engine.runner import carried_out
from emberkeep.operations.flows import migrate, update, update_request
from emberkeep.operations.flows.update_request import Request
from emberkeep.operations.record.journal import Journal
from emberkeep.show import runs as view
from emberkeep.show.console import HEAD, Screen, progress
from emberkeep.show.waiting import typed
from emberkeep.store.store import Store

EXAMPLES = (
    "emberkeep update skerrylight-4.3.zip --to 4.3            (shows all that it would do)",
    "emberkeep update skerrylight-4.3.zip --to 4.3 --extensions new-builds/ --rehearse /tmp/rehearsal",
    "emberkeep update skerrylight-4.3.zip --to 4.3 --extensions new-builds/ --go",
)
EXITS = {
    0: "shown, or done",
    1: "shown or done, and something waits: questions, extensions that failed, landmarks missed",
    5: "it failed, and all is as it was before",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The release, the version, and what goes with it."""
    parser.add_argument(
        "source", nargs="?", metavar="SOURCE", help="the vendor's release: a folder or an archive (or [update] command)"
    )
    parser.add_argument("--to", dest="new", required=True, metavar="V", help="its version")
    parser.add_argument("--from", dest="old", metavar="V", help="the release your files began from (default: best fit)")
    parser.add_argument("--saves", metavar="V", help="the version of the saves (default: what is known of them)")
    parser.add_argument("--extensions", metavar="DIR", help="a folder of new builds of extensions")
    parser.add_argument(
        "--without-build",
        action="append",
        default=[],
        metavar="NAME=keep|remove|stop",
        help="what is done with an extension that has no new build; remembered in keep.toml",
    )
    parser.add_argument("--recipes", metavar="DIR", help="more recipes, beside those of the keep")
    parser.add_argument("--sql", metavar="DIR", help="the vendor's SQL: databases go through it, as [vendor-sql] tells")
    parser.add_argument("--answers", metavar="FILE", help="settle questions of the merge with the answers in FILE")
    parser.add_argument("--no-start", action="store_true", help="do not start the server afterwards")
    parser.add_argument("--rehearse", metavar="DIR", help="do all of it on a copy in DIR instead, with other ports")
    parser.add_argument("--report", metavar="FILE.html", help="write a report to read in a browser")
    parser.add_argument("--strict", action="store_true", help="take all back where the log tells another version then")
    parser.add_argument("--stay", action="store_true", help="when a step fails, leave all as it is for a look")
    add_details(parser)
    add_go(parser, "do it")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when it is done but something waits: questions, extensions that failed, landmarks missed."""
    keep = the_keep(args)
    if args.rehearse:
        return _rehearse(args, screen, keep)
    with opened(keep) as store:
        request = request_of(args, keep, store)
        if args.go and sys.stdin.isatty() and not args.json:
            request = replace(request, choices={**request.choices, **_asked(screen, keep, request)})
        with progress("update", screen) as step:
            return _update(args, screen, keep, store, request, step)


def _asked(screen: Screen, keep: Keep, request: Request) -> dict[str, str]:
    """What the admin says of extensions without a new build."""
    found = {}
    for item in update_request.undecided(keep, request):
        screen.line(f"{item.name} {item.version} has no new build and was built for {item.built_for}.", HEAD)
        screen.line(
            "  keep: old builds sometimes still work · remove: out for now, it is in the snapshot · stop: no update"
        )
        while (said := typed("  keep, remove or stop? ").strip().lower()) not in (
            update_request.KEEP,
            update_request.REMOVE,
            update_request.STOP,
        ):
            continue
        found[item.name] = said
    return found


def request_of(args: argparse.Namespace, keep: Keep, store: Store) -> Request:
    """What the call asks for. UsageError and Refused where it cannot be."""
    return update_request.request_of(
        keep,
        store,
        Path(os.path.abspath(args.source)) if args.source else None,
        args.new,
        old=args.old,
        saves=args.saves,
        recipes=migrate.folders(keep, Path(os.path.abspath(args.recipes)) if args.recipes else None),
        builds=Path(os.path.abspath(args.extensions)) if args.extensions else None,
        choices=_choices(args.without_build),
        answers=tuple(answer_files.read(Path(args.answers)) if args.answers else ()),
        start=not args.no_start,
        sql=Path(os.path.abspath(args.sql)) if args.sql else None,
        strict=args.strict,
    )


def _choices(words: list[str]) -> dict[str, str]:
    found = {}
    for item in words:
        name, _, choice = item.partition("=")
        if not name or choice not in (update_request.KEEP, update_request.REMOVE, update_request.STOP):
            raise UsageError(f"'{item}' is no choice", hint="--without-build NAME=keep, =remove or =stop")
        found[name] = choice
    return found


def _update(args: argparse.Namespace, screen: Screen, keep: Keep, store: Store, request: Request, step: Any) -> int:
    asked = update.KIND.run(request, now())
    with live_watch(args, screen) as on_watch:
        steps = update.steps(keep, store, request, on_watch)
        title = f"Update of {keep.config.name} from {request.engine} to {request.new}"
        if not args.go:
            Journal(keep.folder).refuse_if_waiting()
            found = preview.preview(run_context_for(args, screen, keep, store, asked, step), steps)
            _write_report(args, title, found, None)
            code = 1 if found.warnings else 0
            return answer(
                args,
                code,
                {"preview": found, "done": False},
                lambda: view.whole(screen, title, found, details=args.details),
            )
        update.remember(keep, request.choices)
        context = run_context_for(args, screen, keep, store, asked, step)
        done = carried_out(context, steps, stay=args.stay)
    report = update.report(context, done)
    _write_report(args, title, None, report)
    code = 1 if report.waits else 0
    return answer(args, code, {"report": report, "done": True}, lambda: view.reported(screen, title, report))


def _write_report(args: argparse.Namespace, title: str, found: Any, report: Any) -> None:
    if not args.report:
        return
    from emberkeep.show.files import dayreport  # needs much that is slow to load

    page = dayreport.html(title, found, report)
    write_asked(args.report, page.encode())


def _rehearse(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    from emberkeep.operations.flows import rehearsal  # only where one is asked for

    into = Path(os.path.abspath(args.rehearse))
    with opened(keep) as store, progress("copy") as step:
        request = request_of(args, keep, store)
        untouched = rehearsal.fingerprint(keep)
        copy = rehearsal.prepare(keep, store, into, step, starts=request.start)
    screen.note(f"  a copy of the server stands in {copy.server}")
    if moved := rehearsal.rehouse(keep, copy):
        some = ", ".join(moved[:4]) + (" …" if len(moved) > 4 else "")
        screen.note(f"  {len(moved)} files named the live folder by its full path, and name the copy now: {some}")
    with opened(copy) as store, progress("update", screen) as step:
        rehearsed = rehearsal.request_for(request)
        asked = update.KIND.run(rehearsed, now())
        with live_watch(args, screen) as hear:
            context = run_context_for(args, screen, copy, store, asked, step)
            done = carried_out(context, update.steps(copy, store, rehearsed, hear), stay=True)
        report = update.report(context, done)
        rehearsal.stop(context)
        rehearsal.learn(keep, copy)
    wrong = rehearsal.touched(keep, untouched)
    if wrong:
        report = replace(report, waits=(*report.waits, wrong))
    title = f"Rehearsal: {keep.config.name} from {request.engine} to {request.new}"
    _write_report(args, title, None, report)

    def text() -> None:
        view.reported(screen, title, report, rehearsed=True)
        waits = (
            "players wait from 'stop' to 'start'" if request.start else "the start, which was not tried, is not in it"
        )
        screen.line(f"The real one will take about {report.lasting}; {waits}.", HEAD)
        screen.line(f"The copy stays in {into}; remove it when you have seen enough.")

    return answer(args, 1 if report.waits else 0, {"report": report, "done": True, "copy": copy.server}, text)
