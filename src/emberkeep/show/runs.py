"""Runs as text: what one will do, what is left of one, what taking one back does, and how long each step took."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import tzinfo

from emberkeep.comparing.landmarks import Missed
from emberkeep.planned import Change, What
from emberkeep.runs.journal import Run
from emberkeep.runs.run import Preview, Undoing
from emberkeep.runs.update import Report
from emberkeep.show import words
from emberkeep.show.console import ASKS, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.show.snapshots import restore_plan
from emberkeep.show.watching import watched

MOST_NAMED = 6
"""Files of one step and kind that are named one by one; more are counted by folder."""
MOST_FOLDERS = 6
_VERBS = {What.WRITE: "write", What.REPLACE: "replace", What.DELETE: "delete", What.RENAME: "rename"}
_STYLES = {What.WRITE: GOOD, What.REPLACE: "", What.DELETE: ASKS, What.RENAME: ""}


def preview(screen: Screen, found: Preview) -> None:
    """What a run will do, step by step."""
    for number, step in enumerate(found.steps, 1):
        screen.line(f"{number:2}. {step.title}", HEAD)
        for note in step.notes:
            screen.line(f"    {note}", QUIET)
        for kind in What:
            _changes(screen, [change for change in step.changes if change.what is kind], kind)
        for warning in step.warnings:
            screen.line(f"    ! {warning}", ASKS)
    total = found.changes
    screen.line()
    told = [
        f"{words.count(len(some), 'file')} to {_VERBS[kind]}"
        for kind in What
        if (some := [change for change in total if change.what is kind])
    ]
    size = words.size(sum(change.size for change in total if change.what is not What.RENAME))
    screen.line(f"In all: {', '.join(told)}; {size} to write." if told else "In all: no file changes.")


def whole(screen: Screen, title: str, found: Preview) -> None:
    """A preview with its heading."""
    screen.line(f"{title} (preview, nothing is written)", HEAD)
    preview(screen, found)
    screen.next("say it again with --go; 'emberkeep undo' takes all of it back afterwards")


def done(screen: Screen, title: str, run: Run, missed: Sequence[Missed] = ()) -> None:
    """A run that came to its end."""
    screen.line(f"{title}: done.", GOOD)
    for item in missed:
        screen.line(f"  {item.words}" + (" (as the recipe says)" if item.allowed else ""), ASKS)
    if run.before:
        screen.line(f"What stood there before is snapshot {run.before}.")
        screen.next(f"to take it back: emberkeep undo {run.number} --go")


def reported(screen: Screen, title: str, found: Report) -> None:
    """What a run came to."""
    screen.line(title, HEAD)
    rows = table("", "step", "took", right=("", "took"))
    for number, step in enumerate(found.steps, 1):
        took = f"{step.seconds:.1f} s" if step.seconds is not None else ""
        rows.add_row(str(number), cell(step.title), took)
    screen.show(rows)
    screen.line()
    if found.measured:
        screen.line(f"Landmarks: {found.measured}.")
    if not found.missed:
        screen.line("Every landmark is where it was.", GOOD)
    for item in found.missed:
        screen.line(f"  {item.words}" + (" (as the recipe says)" if item.allowed else ""), ASKS)
    if found.watched is not None:
        watched(screen, found.watched)
    for line in found.waits:
        screen.line(f"! {line}", ASKS)
    if found.before:
        screen.line(f"Done in {found.lasting}. What stood there before is snapshot {found.before}.", GOOD)
        screen.next(f"to take it back: emberkeep undo {found.run} --go")


def _changes(screen: Screen, changes: Sequence[Change], kind: What) -> None:
    verb, style = _VERBS[kind], _STYLES[kind]
    if len(changes) <= MOST_NAMED:
        for change in changes:
            screen.line(f"    {verb} {_told(change)}", style)
        return
    size = words.size(sum(change.before if kind is What.DELETE else change.size for change in changes))
    screen.line(f"    {verb} {len(changes)} files ({size}):", style)
    folders: dict[str, list[Change]] = defaultdict(list)
    for change in changes:
        folders[change.path.rpartition("/")[0]].append(change)
    largest = sorted(folders.items(), key=lambda item: (-len(item[1]), item[0]))
    for folder, some in largest[:MOST_FOLDERS]:
        names = ", ".join(change.path.rpartition("/")[2] for change in some[:3])
        more = f" and {len(some) - 3} more" if len(some) > 3 else ""
        screen.line(f"      {len(some):5} in {folder or 'the top folder'}: {names}{more}", QUIET)
    if len(largest) > MOST_FOLDERS:
        rest = sum(len(some) for _, some in largest[MOST_FOLDERS:])
        screen.line(f"      {rest:5} in {len(largest) - MOST_FOLDERS} more folders; --json names all", QUIET)


def _told(change: Change) -> str:
    if change.what is What.RENAME:
        return f"{change.was} to {change.path.rpartition('/')[2]}"
    if change.what is What.DELETE:
        return f"{change.path} ({words.size(change.before)})"
    if change.what is What.REPLACE:
        return f"{change.path} ({words.size(change.before)} → {words.size(change.size)})"
    return f"{change.path} ({words.size(change.size)})"


def heading(screen: Screen, run: Run, zone: tzinfo) -> None:
    """Which run it is."""
    begun = words.when(run.begun, zone)
    screen.line(f"Run {run.number}: {run.words}, begun {begun}, {run.how_it_went}", HEAD)


def resuming(screen: Screen, run: Run, left: Preview | None, done: bool, zone: tzinfo) -> None:
    """What is left to do of an interrupted run, or that it was done."""
    heading(screen, run, zone)
    if left is None:
        screen.line("It was being taken back.")
    elif not done:
        screen.line(f"{words.count(len(left.steps), 'step')} left to do:")
        preview(screen, left)
    if done:
        screen.line("Taken back." if left is None else "Finished.", GOOD)
    else:
        screen.next("emberkeep resume --go")


def undoing(screen: Screen, found: Undoing, done: bool, zone: tzinfo) -> None:
    """What taking a run back does, or did."""
    heading(screen, found.run, zone)
    if found.plan is None:
        screen.line("It had not changed anything yet.")
    else:
        restore_plan(screen, found.plan, done)
    if not done:
        screen.next("emberkeep undo --go")
    else:
        screen.line("Taken back.", GOOD)


def steps(screen: Screen, run: Run, zone: tzinfo) -> None:
    """The steps of one run, and how long each took."""
    heading(screen, run, zone)
    rows = table("", "step", "took", right=("", "took"))
    for step in run.steps:
        took = f"{step.seconds:.1f} s" if step.seconds is not None else "not done"
        rows.add_row(str(step.at + 1), cell(step.title or step.name), cell(took, "" if step.ended else ASKS))
    screen.show(rows)
