"""``emberkeep calendar``: what comes when and why; as pictures, as iCalendar; and whether the rhythm fits."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
from collections.abc import Mapping
from datetime import datetime, timedelta
from pathlib import Path

from emberkeep.cli.context import answer, now, the_keep, write_asked
from emberkeep.errors import UsageError, did_you_mean
from emberkeep.fs import writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.operations.flows import wipe_preview
from emberkeep.operations.record.journal import Journal
from emberkeep.schedule import attendance, calendar
from emberkeep.schedule.attendance import Attendance
from emberkeep.schedule.calendar import Occurrence
from emberkeep.show import calendar as view
from emberkeep.show.console import GOOD, Screen
from emberkeep.wiping.values import Wiped

EXAMPLES = (
    "emberkeep calendar",
    "emberkeep calendar --explain 'our wipe'",
    "emberkeep calendar --days 120 --png wipes.png --ics wipes.ics",
    "emberkeep calendar --attendance attendance.png",
    "emberkeep calendar --install             (what has cron, systemd or Windows call 'due --go')",
    "emberkeep calendar --install --write ~/timers",
)
EXITS = {
    0: "shown or written",
    1: "with --attendance: too little is known to say whether the rhythm fits",
}
OF_A_YEAR = 366


def _write(args: argparse.Namespace, screen: Screen, files: Mapping[str, str]) -> int:
    folder = Path(os.path.abspath(args.write))
    writing.make_folder(folder)
    for name, text in files.items():
        write_asked(str(folder / name), text.encode())
    wrote = [str(folder / name) for name in files]
    return answer(
        args, 0, {"files": files, "wrote": wrote}, lambda: screen.text("\n".join(f"Wrote {one}" for one in wrote))
    )


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """How far ahead, and in which form."""
    parser.add_argument("--days", type=int, default=45, metavar="N", help="how many days ahead (default: 45)")
    parser.add_argument("--months", type=int, default=2, metavar="N", help="how many months are drawn (default: 2)")
    parser.add_argument("--explain", nargs="?", const="", metavar="EVENT", help="say why events fall where they do")
    parser.add_argument("--png", metavar="FILE", help="draw a timeline, to be posted")
    parser.add_argument("--ics", metavar="FILE", help="write an iCalendar file, a year ahead")
    parser.add_argument("--attendance", nargs="?", const="", metavar="FILE.png", help="whether the rhythm fits")
    parser.add_argument("--install", action="store_true", help="what has cron, systemd or Windows do what is due")
    parser.add_argument("--write", metavar="DIR", help="with --install: write it into files there")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """It writes only the files that are asked for."""
    keep = the_keep(args)
    if args.install:
        program = shutil.which("emberkeep") or os.path.abspath(sys.argv[0])
        files = view.install(program, str(keep.folder), keep.config.name)
        if args.write:
            return _write(args, screen, files)
        return answer(args, 0, {"files": files}, lambda: view.shown_install(screen, files))
    if args.write:
        raise UsageError("--write goes with --install")
    if args.attendance is not None:
        return _attendance(args, screen, keep)
    if not keep.config.calendar.events:
        raise UsageError("keep.toml has no [[event]]", hint="'emberkeep keep-toml event' tells how to add one")
    if not 0 < args.days <= 3660 or not 0 <= args.months <= 24:
        raise UsageError("--days is from 1 to 3660, --months from 0 to 24")
    moment = now()
    found = calendar.occurrences(keep.config, moment, moment + timedelta(days=args.days))
    if args.explain is not None:
        return _explain(args, screen, keep, found)
    wipes = _wipes(keep)
    written = _written(args, keep, found, wipes, moment)
    shown = _for_players(found)
    first = moment.astimezone(keep.config.tz).replace(day=1, hour=0, minute=0)
    drawn = calendar.occurrences(keep.config, first, moment + timedelta(days=31 * (args.months + 1)))
    chores = [one.event.name for one in found if one not in shown]
    result = {"coming": [_plain(one) for one in found], "last_wipe": wipes[-1] if wipes else None, "wrote": written}

    def text() -> None:
        view.coming(screen, shown, wipes, keep.config.tz, moment)
        if chores:
            screen.line(f"besides: {', '.join(f'{chores.count(name)} x {name}' for name in dict.fromkeys(chores))}")
        if args.months:
            view.months(screen, drawn, keep.config.tz, moment, args.months)
        for path in written:
            screen.line(f"Wrote {path}.", GOOD)

    return answer(args, 0, result, text)


def _for_players(found: list[Occurrence]) -> list[Occurrence]:
    """What players want to know of; the chores only where there is nothing else."""
    return [one for one in found if one.event.kind in ("wipe", "update", "announce")] or found


def _plain(one: Occurrence) -> dict[str, object]:
    return {
        "event": one.event.name,
        "kind": one.event.kind,
        "at": one.at,
        "zone": str(one.event.zone),
        "planned": one.planned,
        "scopes": one.event.scopes,
        "vendors": one.event.vendors,
        "skipped": one.skipped,
        "because": one.because,
    }


def _wipes(keep: Keep) -> list[Wiped]:
    """The wipes that are known, oldest first: told in keep.toml, and carried out."""
    past = [
        Wiped(datetime(day.year, day.month, day.day, 12, tzinfo=keep.config.tz)) for day in keep.config.wiping.earlier
    ]
    return [*past, *wipe_preview.wipes(Journal(keep.folder))]


def _explain(args: argparse.Namespace, screen: Screen, keep: Keep, found: list[Occurrence]) -> int:
    if args.explain and keep.config.calendar.of(args.explain) is None:
        names = [event.name for event in keep.config.calendar.events]
        hint = did_you_mean(args.explain, names, f"known: {', '.join(names)}")
        raise UsageError(f"there is no event '{args.explain}'", hint=hint)
    named = [one for one in found if not args.explain or one.event.name == args.explain]
    first: dict[tuple[str, bool], Occurrence] = {}
    for one in named:
        first.setdefault((one.event.name, bool(one.skipped) or "moved" in str(one.because)), one)
    shown = named if args.explain else list(first.values())
    return answer(
        args, 0, {"coming": [_plain(one) for one in shown]}, lambda: view.explain(screen, shown, keep.config.tz)
    )


def _written(
    args: argparse.Namespace, keep: Keep, found: list[Occurrence], wipes: list[Wiped], moment: datetime
) -> list[str]:
    written = []
    if args.png:
        from emberkeep.show.files import charts  # only where something is drawn

        drawn = charts.timeline(found, wipes, keep.config.tz, keep.config.name, moment)
        write_asked(args.png, drawn)
        written.append(args.png)
    if args.ics:
        from emberkeep.show.files.ics import ics

        year = _for_players(calendar.occurrences(keep.config, moment, moment + timedelta(days=OF_A_YEAR)))
        write_asked(args.ics, ics(year, keep.config.name, moment))
        written.append(args.ics)
    return written


def _attendance(args: argparse.Namespace, screen: Screen, keep: Keep) -> int:
    lines, days_logged = attendance.visits(FolderTree(keep.require_server(), "live"), keep.config)
    wipes = [one.when for one in wipe_preview.wipes(Journal(keep.folder))]
    days = attendance.by_day(lines, days_logged if lines else set())
    found: Attendance = attendance.attendance(days, wipes, keep.config.tz, keep.config.wiping.earlier)
    if args.attendance and found.tides:
        from emberkeep.show.files import charts

        drawn = charts.attendance(found, keep.config.name, view.rhythm_words(found) if found.rhythm else found.why)
        write_asked(args.attendance, drawn)

    def text() -> None:
        view.attendance(screen, found)
        if args.attendance:
            drawn = f"Wrote {args.attendance}." if found.tides else "There is nothing to draw."
            screen.line(drawn, GOOD if found.tides else "")

    return answer(args, 0 if found.rhythm else 1, {"attendance": found}, text)
