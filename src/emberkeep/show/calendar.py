"""The calendar as text: coming events, months, why an event falls where it does, attendance, what is due."""

from __future__ import annotations

import math
import shlex
from calendar import Calendar, day_abbr, month_name
from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime, tzinfo
from html import escape
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from emberkeep.operations.flows.due import DueOutcome
from emberkeep.process.announce import Told
from emberkeep.process.lifecycle import in_words
from emberkeep.schedule.attendance import Attendance
from emberkeep.schedule.calendar import Occurrence, clocks
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.wiping.values import Wiped

if TYPE_CHECKING:
    from rich.table import Table
    from rich.text import Text

SIGNS = {
    "wipe": "W",
    "update": "U",
    "snapshot": "s",
    "verify": "v",
    "drill": "d",
    "thin": "t",
    "vault": "c",
    "announce": "a",
}
_STYLES = {"wipe": BAD, "update": "bold cyan"}
_WEIGHT = tuple(SIGNS)
WIDTH_OF_A_MONTH = 46


def coming(screen: Screen, found: Sequence[Occurrence], wipes: Sequence[Wiped], zone: ZoneInfo, now: datetime) -> None:
    """A table of what comes, on both clocks."""
    if wipes:
        days = (now.astimezone(zone).date() - wipes[-1].when.astimezone(zone).date()).days
        seed = f", seed {wipes[-1].seed}" if wipes[-1].seed else ""
        screen.line(f"Last wipe {words.when(wipes[-1].when, zone)}, {words.count(days, 'day')} ago{seed}.", HEAD)
    else:
        screen.line("No wipe is known yet.", HEAD)
    if not found:
        screen.line("Nothing is coming.")
        return
    screen.line(f"All times are those of {zone}, but for the other clocks.", QUIET)
    rows = table("when", "event", "what", "other clocks", "", whole=("when",))
    for one in found:
        city = str(one.event.zone).rpartition("/")[2].replace("_", " ")
        own = "" if str(one.event.zone) == str(zone) else f"{one.at:%a %H:%M} {city}, "
        style = QUIET if one.skipped or one.event.vendors else _STYLES.get(one.event.kind, "")
        note = f"skipped: {one.skipped}" if one.skipped else ("the vendor's" if one.event.vendors else _moved(one))
        rows.add_row(
            cell(f"{one.at.astimezone(zone):%a %Y-%m-%d %H:%M}", style),
            cell(one.event.name, style),
            cell(f"{one.event.kind}: {', '.join(one.event.scopes)}" if one.event.scopes else one.event.kind, style),
            cell(f"{own}{one.at.astimezone(UTC):%a %H:%M} UTC", style),
            cell(note, ASKS if one.skipped else QUIET),
        )
    screen.show(rows)


def _moved(one: Occurrence) -> str:
    return next((line for line in one.because if line.startswith(("moved", "put off"))), "")


def months(screen: Screen, found: Sequence[Occurrence], zone: ZoneInfo, now: datetime, count: int) -> None:
    """Months side by side, a letter for each kind of event on a day."""
    by_day: dict[date, list[Occurrence]] = defaultdict(list)
    for one in found:
        if not one.skipped:
            by_day[one.at.astimezone(zone).date()].append(one)
    today = now.astimezone(zone).date()
    first = today.replace(day=1)
    shown = []
    for _ in range(count):
        shown.append(_month(first, by_day, today))
        first = date(first.year + first.month // 12, first.month % 12 + 1, 1)
    beside = max(1, screen.width // WIDTH_OF_A_MONTH)
    for at in range(0, len(shown), beside):
        screen.show(_side_by_side(shown[at : at + beside]))
    used = [kind for kind in SIGNS if any(one.event.kind == kind for some in by_day.values() for one in some)]
    screen.line("  ".join(f"{SIGNS[kind]} {kind}" for kind in used) + "  > today  lower case: daily chores", QUIET)


def _side_by_side(shown: Sequence[Table]) -> Table:
    from rich.table import Table

    grid = Table.grid(padding=(0, 3))
    grid.add_row(*shown)
    return grid


def _month(first: date, by_day: Mapping[date, list[Occurrence]], today: date) -> Table:
    from rich import box
    from rich.table import Table

    grid = Table(title=f"{month_name[first.month]} {first.year}", box=box.SIMPLE, padding=(0, 0), show_edge=False)
    for name in (day_abbr[at][:2] for at in range(7)):
        grid.add_column(name, justify="left", width=5)
    for week in Calendar().monthdatescalendar(first.year, first.month):
        grid.add_row(*(_day(day, by_day, today) if day.month == first.month else "" for day in week))
    return grid


def _day(day: date, by_day: Mapping[date, list[Occurrence]], today: date) -> Text:
    kinds = sorted({one.event.kind for one in by_day.get(day, ())}, key=_WEIGHT.index)
    signs = "".join(SIGNS[kind] for kind in kinds)[:2]
    number = f"{'>' if day == today else ' '}{day.day:2}"
    style = next((_STYLES[kind] for kind in kinds if kind in _STYLES), QUIET if day < today else "")
    return cell(f"{number}{signs}", style)


def explain(screen: Screen, found: Sequence[Occurrence], zone: ZoneInfo) -> None:
    """Why each event falls where it does."""
    for one in found:
        screen.line(
            f"{one.event.name}: {'not ' if one.skipped else ''}on {one.at:%A} {one.at.day} {one.at:%B %Y}", HEAD
        )
        for line in one.because:
            screen.line(f"  {line}")
        if one.skipped:
            screen.line(f"  skipped: {one.skipped}", ASKS)
        times = " = ".join(f"{moment:%a %H:%M} {name}" for name, moment in clocks(one, zone))
        screen.line(f"  {times}")
        leads = ", ".join(map(in_words, one.event.tell))
        if leads and not one.skipped:
            screen.line(f"  told {leads} before", QUIET)


def attendance(screen: Screen, found: Attendance) -> None:
    """What the rhythm of wipes does to attendance, or that it cannot be said."""
    screen.line("Does the rhythm fit?", HEAD)
    rhythm = found.rhythm
    if rhythm is None:
        screen.line(f"  {found.why}.", ASKS)
        return
    half = f"by day {rhythm.half_by:.0f}" if math.isfinite(rhythm.half_by) else "not before the next one"
    screen.line(f"  The last {rhythm.wipes} wipes lost half of their players {half}.")
    most = f"{rhythm.most:.1f}" if math.isfinite(rhythm.most) else "no end"
    limits = f"{rhythm.least:.1f} to {most} days, 95 %"
    screen.line(f"  Attendance halves every {rhythm.half_life:.1f} days ({limits}; {rhythm.days} days of logs).")
    screen.line(f"  {rhythm_words(found)}", GOOD)


def rhythm_words(found: Attendance) -> str:
    """What the half-life suggests."""
    rhythm = found.rhythm
    assert rhythm is not None
    fits = f"{rhythm.fits // 7}-week rhythm" if rhythm.fits > 7 else "weekly rhythm"
    if not found.between:
        return f"A {fits} fits: at its end about three in ten of the first day's players still come."
    left = 2 ** (-found.between / rhythm.half_life)
    now = f"every {found.between:.0f} days so far, {left:.0%} of the first day's players are left at the end"
    if rhythm.fits < found.between * 0.85:
        return f"A {fits} fits better: {now}."
    if rhythm.fits > found.between * 1.5:
        return f"A {fits} would do: {now}."
    return f"The rhythm fits: {now}."


def due(screen: Screen, found: Sequence[DueOutcome], waits: Sequence[str], zone: tzinfo, *, done: bool) -> None:
    """What is due, or what came of it. Nothing at all when there was nothing to do: cron would send it as mail."""
    for came in found:
        if done and came.state == "not yet":  # it comes by again in a few minutes
            continue
        part = f" ({came.part})" if came.part else ""
        style = {"failed": BAD, "missed": ASKS, "waits": ASKS, "not yet": QUIET}.get(came.state, GOOD if done else "")
        words_of = f": {came.words}" if came.words else ""
        screen.line(f"{came.event}{part} of {words.when(came.at, zone)}: {came.state}{words_of}", style)
    if done:
        return
    for line in waits:
        screen.line(f"! {line}", ASKS)
    if not found and not waits:
        screen.line("Nothing is due.")
    elif any(came.state == "due" for came in found):
        screen.next("the same with --go does it")


def not_notified(screen: Screen, found: Sequence[Told]) -> None:
    """Whom [due] names and who could not be told. Of the others nothing is said: cron would send it as mail."""
    for one in found:
        if one.why:
            screen.line(f"! {one.words}", ASKS)


def install(program: str, keep: str, name: str) -> dict[str, str]:
    """What has a system call ``due --go`` every five minutes, by the name of the file that it belongs into: a line for
    cron, units for systemd, a task for Windows' Task Scheduler."""
    line = f"{shlex.quote(program)} --keep {shlex.quote(keep)} due --go"
    quoted = f'"{program}" --keep "{keep}" due --go'.replace("%", "%%")
    called = escape(f'--keep "{keep}" due --go')
    return {
        "emberkeep-due.cron": f"""\
# Add these lines with 'crontab -e'. Secrets that keep.toml names as {{ env }} go here too, as ROCK_CONSOLE=...
# MAILTO=you@example.org   (cron mails what it prints: nothing while all is well)
*/5 * * * * {line.replace("%", chr(92) + "%")}
""",
        "emberkeep-due.service": f"""\
# Put this and emberkeep-due.timer into ~/.config/systemd/user, then:
#   systemctl --user enable --now emberkeep-due.timer
#   loginctl enable-linger
[Unit]
Description=Ember Keep: what is due on {name}

[Service]
Type=oneshot
ExecStart={quoted}
SuccessExitStatus=1
# Secrets that keep.toml names as {{ env }}, a line each; mode 600:
EnvironmentFile=-%h/.config/emberkeep.env
# A server that a wipe starts must outlive this unit:
KillMode=process
""",
        "emberkeep-due.timer": """\
[Unit]
Description=Ember Keep: look every five minutes for what is due

[Timer]
OnCalendar=*:0/5
AccuracySec=15s
Persistent=true

[Install]
WantedBy=timers.target
""",
        "emberkeep-due.xml": f"""\
<?xml version="1.0" encoding="UTF-8"?>
<!-- For Windows (not tried there): schtasks /create /tn "Ember Keep" /xml emberkeep-due.xml
     Secrets that keep.toml names as env: set them for the user that the task runs as. -->
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo>
    <Description>Ember Keep: what is due on {escape(name)}</Description>
  </RegistrationInfo>
  <Triggers>
    <TimeTrigger>
      <Repetition>
        <Interval>PT5M</Interval>
      </Repetition>
      <StartBoundary>2026-01-01T00:00:00</StartBoundary>
      <Enabled>true</Enabled>
    </TimeTrigger>
  </Triggers>
  <Settings>
    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>
    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>
    <StartWhenAvailable>true</StartWhenAvailable>
    <ExecutionTimeLimit>PT0S</ExecutionTimeLimit>
  </Settings>
  <Actions>
    <Exec>
      <Command>{escape(program)}</Command>
      <Arguments>{called}</Arguments>
    </Exec>
  </Actions>
</Task>
""",
    }


def shown_install(screen: Screen, files: Mapping[str, str]) -> None:
    """What may be installed, to be copied."""
    for name, text in files.items():
        screen.line(name, HEAD)
        screen.text(text)
        screen.line()
    screen.next("copy what your system takes; --write DIR writes the files. Nothing is installed")
