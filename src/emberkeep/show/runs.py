"""Runs as text: what one will do, what is left of one, what taking one back does, and how long each step took."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import tzinfo
from pathlib import Path

from emberkeep.fs.overlay import Change, What
from emberkeep.operations.engine.preview import Preview
from emberkeep.operations.engine.undo import Undoing
from emberkeep.operations.flows.drill import Drill
from emberkeep.operations.flows.update import Report
from emberkeep.operations.record.facts import Run
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.show.snapshots import restore_plan
from emberkeep.show.watching import watched
from emberkeep.survey.landmarks import Missed

MOST_NAMED = 2
"""Files of one step and kind that are named one by one; more are counted by folder."""
MOST_FOLDERS = 4
LONGEST = 132
_VERBS = {What.WRITE: "write", What.REPLACE: "replace", What.DELETE: "delete", What.RENAME: "rename"}


def preview(screen: Screen, found: Preview, *, details: bool = False) -> None:
    """What a run will do, step by step; ``details``: every file by name, else grouped so that it fits on a screen."""
    for number, step in enumerate(found.steps, 1):
        together = "; ".join(step.notes)
        fits = bool(together) and len(step.title) + len(together) < LONGEST
        screen.parts((f"{number:2}. {step.title}", HEAD), (f" · {together}" if fits else "", QUIET))
        for note in () if fits else _joined(step.notes):
            screen.line(f"    {note}", QUIET)
        by_kind = {kind: [change for change in step.changes if change.what is kind] for kind in What}
        lines = [line for kind, changes in by_kind.items() if changes for line in _changes(changes, kind, details)]
        for line in lines if details else _joined(lines):
            screen.line(f"    {line}")
        for warning in step.warnings:
            screen.line(f"    ! {warning}", ASKS)
    total = found.changes
    totals = [
        f"{words.count(len(some), 'file')} to {_VERBS[kind]}"
        for kind in What
        if (some := [change for change in total if change.what is kind])
    ]
    size = words.size(sum(change.size for change in total if change.what not in (What.RENAME, What.DELETE)))
    screen.line(f"In all: {', '.join(totals)}; {size} to write." if totals else "In all: no file changes.")
    if not details and any(len(step.changes) > MOST_NAMED for step in found.steps):
        screen.line("--details names every file.", QUIET)


def whole(screen: Screen, title: str, found: Preview, *, details: bool = False) -> None:
    """A preview with its heading."""
    screen.line(f"{title} (preview, nothing is written)", HEAD)
    preview(screen, found, details=details)
    if found.obstacles:
        screen.next(next((fault.hint for fault in found.obstacles if fault.hint), "mend what it would stop at"))
    else:
        screen.next("run it again with --go; 'emberkeep undo' takes all of it back afterwards")


def drilled(screen: Screen, found: Drill, zone: tzinfo, left: Path | None) -> None:
    """What a drill came to."""
    screen.line(f"Drill with snapshot {found.snapshot} of {words.when(found.taken, zone)}", HEAD)
    screen.line(f"  restored in {found.given_back:.1f} s; measured in it: {found.measured}")
    if found.seen is not None:
        watched(screen, found.seen)
    for item in found.missed:
        screen.line(f"  {item.words}", BAD)
    if found.wrong:
        screen.line(f"  {found.wrong}", BAD)
    if found.proven:
        screen.line("Proven: its server became ready on it, and every landmark is where it was.", GOOD)
    else:
        screen.line("Not proven.", BAD)
        if found.seen is None:
            screen.next("emberkeep check tells what a start needs")
        else:
            screen.next("emberkeep drill --leave keeps the copy, for a look; emberkeep drill REF tries an earlier one")
    if left is not None:
        screen.line(f"The copy stays in {left}; remove it when you have seen enough.")


def done(screen: Screen, title: str, run: Run, missed: Sequence[Missed] = ()) -> None:
    """A run that came to its end."""
    screen.line(f"{title}: done.", GOOD)
    for item in missed:
        screen.line(f"  {item.words}" + (" (as the recipe says)" if item.allowed else ""), ASKS)
    if run.before:
        screen.line(f"What stood there before is snapshot {run.before}.")
    if run.before or run.aside:
        screen.next(f"to take it back: emberkeep undo {run.number} --go")


def aside(screen: Screen, title: str, found: Preview) -> None:
    """A preview of a run that leaves the server folder alone."""
    screen.line(f"{title} (preview, nothing is written)", HEAD)
    for number, step in enumerate(found.steps, 1):
        screen.line(f"{number:2}. {step.title}")
        for note in step.notes:
            screen.line(f"    {note}", QUIET)
    screen.line("The server folder is left alone.")
    screen.next("run it again with --go")


def aside_undone(screen: Screen, run: Run, done: bool) -> None:
    """A run that left the server folder alone, taken back or about to be."""
    if done:
        screen.line(f"Run {run.number} ({run.words}) is undone.", GOOD)
        return
    screen.line(f"Undoing run {run.number} ({run.words}) changes nothing in the server folder (preview)", HEAD)
    screen.next(f"emberkeep undo {run.number} --go")


def reported(screen: Screen, title: str, found: Report, *, rehearsed: bool = False) -> None:
    """What a run came to. ``rehearsed``: on a copy, so that there is nothing to take back."""
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
    if found.before and not rehearsed:
        screen.line(f"Done in {found.lasting}. What stood there before is snapshot {found.before}.", GOOD)
        screen.next(f"to take it back: emberkeep undo {found.run} --go")


def _joined(words: Sequence[str]) -> list[str]:
    """What is told of one step on as few lines as it takes."""
    found: list[str] = []
    for line in words:
        if found and len(found[-1]) + len(line) < LONGEST:
            found[-1] += f"; {line}"
        else:
            found.append(line)
    return found


def _changes(changes: Sequence[Change], kind: What, details: bool) -> list[str]:
    verb = _VERBS[kind]
    if details:
        return [f"{verb} {_change_words(change)}" for change in changes]
    if len(changes) <= MOST_NAMED:
        return [f"{verb} {', '.join(map(_change_words, changes))}"]
    size = words.size(sum(change.before if kind is What.DELETE else change.size for change in changes))
    folders: dict[str, list[Change]] = defaultdict(list)
    for change in changes:
        folders[change.path.rpartition("/")[0]].append(change)
    largest = sorted(folders.items(), key=lambda item: (-len(item[1]), item[0]))
    examples = [
        f"{len(some)} in {folder or 'the top folder'}" if len(some) > 1 else some[0].path
        for folder, some in largest[:MOST_FOLDERS]
    ]
    rest = sum(len(some) for _, some in largest[MOST_FOLDERS:])
    more = f", {rest} elsewhere" if rest else ""
    return [f"{verb} {len(changes)} files ({size}): {', '.join(examples)}{more}"]


def _change_words(change: Change) -> str:
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
    if found.plan is None and found.run.before:
        screen.line("What stood there before it cannot be read any more: all stays as it is.", ASKS)
    elif found.plan is None:
        screen.line("It had not changed anything yet.")
    else:
        restore_plan(screen, found.plan, done)
    for name in found.databases:
        screen.line(f"{'Put' if done else 'Would put'} the database {name} back, where it is not as it was", HEAD)
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
