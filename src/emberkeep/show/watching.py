"""A start that is followed: what it waits for, what moves, what was seen."""

from __future__ import annotations

from types import TracebackType

from emberkeep.process.forecast import Forecast, lasting
from emberkeep.process.watch import State, Watched
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell

MOST_LINES = 12
QUIET_FOR = 3.0
"""Seconds without a line in the log after which it is said what moves instead."""


class Live:
    """One line on a terminal's standard error that is written anew while a start is followed."""

    def __init__(self, screen: Screen) -> None:
        from rich.status import Status

        self._status = Status("", console=screen.err)
        self._shown = False

    def __enter__(self) -> Live:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._status.stop()

    def show(self, name: str, watched: Watched) -> None:
        """What there is to know now."""
        if not self._shown and watched.state is State.WAITING:
            self._status.start()
            self._shown = True
        self._status.update(cell(f"{name}: {progressing(watched)}"))  # a log may hold what looks like markup
        if watched.state is not State.WAITING:
            self._status.stop()
            self._shown = False


def progressing(watched: Watched) -> str:
    """What a start waits for and what moves, on one line."""
    state = f"{lasting(watched.seconds)}, waiting for {' and '.join(watched.waits_for)}"
    if watched.quiet < QUIET_FOR:
        return f"{state}; {watched.last[:80]}" if watched.last else state
    if watched.activity.works:
        return f"{state}; silent for {lasting(watched.quiet)}, but it works: {activity(watched)}"
    return f"{state}; silent for {lasting(watched.quiet)}, and nothing moves"


def activity(watched: Watched) -> str:
    """What moved lately."""
    moved = watched.activity
    parts = [f"{moved.processor:.0%} of a processor"] if moved.processor else []
    parts += [f"{words.size(moved.disk)} to and from the disk"] if moved.disk else []
    parts += [f"{words.count(moved.changed, 'file')} of the world changed"] if moved.changed else []
    return ", ".join(parts) or "nothing"


_WHY_NOT = {
    State.DIED: "the server ended before that",
    State.SILENT: "nothing moves any more",
    State.LATE: "the time that [start] allows is over",
}


def watched(screen: Screen, found: Watched, expected: Forecast | None = None) -> None:
    """What a watch came to."""
    if found.state is State.READY:
        screen.line(f"Ready: {found.ready}", GOOD)
    elif found.state is State.WAITING:
        screen.line(f"Not ready yet. It waits for: {', '.join(found.waits_for)}", ASKS)
    else:
        last = f"The last line of its log: {found.last}" if found.last else "Its log has no line of this start."
        screen.line(f"Not ready: {_WHY_NOT.get(found.state, found.state)}. {last}", BAD)
    if found.version:
        took = f", after {lasting(found.seconds)}" if found.seconds else ""
        screen.line(f"  version {found.version}{took}" + ("; the world was converted" if found.converted else ""))
    if found.loaded:
        screen.line("  loaded " + ", ".join(f"{item.name} {item.version}".strip() for item in found.loaded))
    for title, lines in (("failed", found.failures), ("errors", found.errors)):
        if lines:
            screen.line(f"  {title}:", HEAD)
        for line in lines[:MOST_LINES]:
            screen.line(f"    {line}", ASKS)
        if len(lines) > MOST_LINES:
            screen.line(f"    … and {len(lines) - MOST_LINES} more; --json has them all", QUIET)
    if expected is not None and found.state is State.WAITING:
        screen.line(f"  {expected.words}", QUIET)
