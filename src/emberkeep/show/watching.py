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

    def show(self, name: str, seen: Watched) -> None:
        """What there is to know now."""
        if not self._shown and seen.state is State.WAITING:
            self._status.start()
            self._shown = True
        self._status.update(cell(f"{name}: {progressing(seen)}"))  # a log may hold what looks like markup
        if seen.state is not State.WAITING:
            self._status.stop()
            self._shown = False


def progressing(seen: Watched) -> str:
    """What a start waits for and what moves, on one line."""
    told = f"{lasting(seen.seconds)}, waiting for {' and '.join(seen.waits_for)}"
    if seen.quiet < QUIET_FOR:
        return f"{told}; {seen.last[:80]}" if seen.last else told
    if seen.activity.works:
        return f"{told}; silent for {lasting(seen.quiet)}, but it works: {activity(seen)}"
    return f"{told}; silent for {lasting(seen.quiet)}, and nothing moves"


def activity(seen: Watched) -> str:
    """What moved lately."""
    moved = seen.activity
    told = [f"{moved.processor:.0%} of a processor"] if moved.processor else []
    told += [f"{words.size(moved.disk)} to and from the disk"] if moved.disk else []
    told += [f"{words.count(moved.changed, 'file')} of the world changed"] if moved.changed else []
    return ", ".join(told) or "nothing"


def watched(screen: Screen, seen: Watched, expected: Forecast | None = None) -> None:
    """What a watch came to."""
    if seen.state is State.READY:
        screen.line(f"Ready: {seen.ready}", GOOD)
    elif seen.state is State.WAITING:
        screen.line(f"Not ready yet; still to come: {', '.join(seen.waits_for)}", ASKS)
    else:
        screen.line(f"Not ready ({seen.state}); its last line: {seen.last or 'none'}", BAD)
    if seen.version:
        took = f", after {lasting(seen.seconds)}" if seen.seconds else ""
        screen.line(f"  version {seen.version}{took}" + ("; the world was converted" if seen.converted else ""))
    if seen.loaded:
        screen.line("  loaded " + ", ".join(f"{item.name} {item.version}".strip() for item in seen.loaded))
    for title, lines in (("failed", seen.failures), ("errors", seen.errors)):
        if lines:
            screen.line(f"  {title}:", HEAD)
        for line in lines[:MOST_LINES]:
            screen.line(f"    {line}", ASKS)
        if len(lines) > MOST_LINES:
            screen.line(f"    … and {len(lines) - MOST_LINES} more; --json has them all", QUIET)
    if expected is not None and seen.state is State.WAITING:
        screen.line(f"  {expected.words}", QUIET)
