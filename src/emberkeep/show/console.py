"""The one owner of standard output and standard error."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property
from typing import TYPE_CHECKING, Any

from emberkeep.errors import EmberKeepError
from emberkeep.show.words import escape_control

if TYPE_CHECKING:  # loading rich takes longer than many a command does; what needs it loads it
    from rich.console import Console, RenderableType
    from rich.table import Table
    from rich.text import Text

HEAD = "bold"
QUIET = "dim"
GOOD = "green"
ASKS = "yellow"
BAD = "bold red"


class Screen:
    """Text to standard output in the terminal's width (or unlimited on a pipe), messages to standard error."""

    def __init__(self) -> None:
        self._terminal = sys.stdout.isatty()

    @cached_property
    def out(self) -> Console:
        """Standard output."""
        from rich.console import Console

        return Console(highlight=False, soft_wrap=not self._terminal, width=None if self._terminal else 160)

    @cached_property
    def err(self) -> Console:
        """Standard error."""
        from rich.console import Console

        return Console(stderr=True, highlight=False, soft_wrap=True)

    @property
    def width(self) -> int:
        """Columns of the terminal; many on a pipe."""
        return self.out.width

    def line(self, text: str = "", style: str = "") -> None:
        """One line of text; control characters in it are escaped, line ends too: a name must not forge a line."""
        whole = escape_control(text)
        if self._terminal:
            from rich.text import Text

            self.out.print(Text(whole, style=style))
        else:
            sys.stdout.write(whole + "\n")

    def text(self, ours: str) -> None:
        """Several lines of which we know that each is one."""
        for line in ours.rstrip().split("\n"):
            self.line(line)

    def parts(self, *parts: tuple[str, str]) -> None:
        """One line of text in several styles."""
        if self._terminal:
            from rich.text import Text

            self.out.print(Text.assemble(*((escape_control(text), style) for text, style in parts)))
        else:
            sys.stdout.write("".join(escape_control(text) for text, _ in parts) + "\n")

    def show(self, item: RenderableType, indent: int = 0) -> None:
        """A table or other renderable."""
        from rich.padding import Padding

        self.out.print(Padding(item, (0, 0, 0, indent), expand=False) if indent else item)

    def beside(self, left: Table, right: Table | None) -> None:
        """Two tables side by side where both fit, else one below the other."""
        if right is None:
            self.show(left)
            return
        wide = sum(self.out.measure(one).maximum for one in (left, right)) + 4
        if wide > self.out.width:
            self.show(left)
            self.line()
            self.show(right)
            return
        from rich.table import Table

        grid = Table.grid(padding=(0, 4, 0, 0))
        grid.add_row(left, right)
        self.show(grid)

    def note(self, text: str) -> None:
        """A message beside the result, on standard error."""
        self.err.print(cell(text, QUIET))

    def next(self, text: str) -> None:
        """What to do next."""
        self.line(f"Next: {text}", QUIET)

    def error(self, error: EmberKeepError) -> None:
        """Every fault: where, what, and what to do next."""
        for fault in error.faults:
            self.err.print(cell(f"emberkeep: {fault}", BAD))
            if fault.hint:
                self.err.print(cell(f"  next: {fault.hint}", QUIET))


def table(*columns: str, right: tuple[str, ...] = (), whole: tuple[str, ...] = ()) -> Table:
    """A plain table: a heading line, no rules, numbers to the right. ``whole``: columns that are never broken."""
    from rich.table import Table

    made = Table(box=None, pad_edge=False, header_style=QUIET, padding=(0, 2, 0, 0))
    for column in columns:
        made.add_column(
            column,
            justify="right" if column in right else "left",
            overflow="fold",
            no_wrap=column in right or column in whole,
        )
    return made


def cell(text: str, style: str = "") -> Text:
    """A cell with text from anywhere."""
    from emberkeep.show.cells import Cell

    return Cell(escape_control(text), style=style)


def document(value: dict[str, Any], *, on_one_line: bool = False) -> None:
    """A JSON document: the one of ``--json``, or one of many, each on a line of its own and out at once. ASCII, so that
    names that are not UTF-8 pass."""
    sys.stdout.write(json.dumps(value, indent=None if on_one_line else 2, ensure_ascii=True) + "\n")
    if on_one_line:
        sys.stdout.flush()


class Meter:
    """How far a piece of work is, how fast it goes and how long it will take, below what is said meanwhile; it shows
    when the work takes a second, and goes when it is done. Call it with the bytes that are done, and those in all."""

    def __init__(self, what: str, console: Console) -> None:
        from rich import progress as rich

        columns = (rich.DownloadColumn(), rich.TransferSpeedColumn(), rich.TimeRemainingColumn())
        self._bar = rich.Progress(
            rich.TextColumn("{task.description}"), rich.BarColumn(), *columns, console=console, transient=True
        )
        self._task = self._bar.add_task(what, total=None)
        self._began: float | None = None

    def __call__(self, done: int, total: int) -> None:
        """Show how much is done; the bar appears when it takes long enough to be worth one."""
        now = time.monotonic()
        if self._began is None:
            self._began = now
        if done >= total:
            self.rest()
            return
        if not self._bar.live.is_started and now - self._began > 1:
            self._bar.start()
        self._bar.update(self._task, completed=done, total=total)

    def rest(self) -> None:
        """Take the bar away until there is something to show again."""
        self._began = None
        self._bar.stop()


@contextmanager
def progress(what: str, screen: Screen | None = None) -> Iterator[Callable[[int, int], None]]:
    """A progress bar on a terminal's standard error, from the first second on; nothing on a pipe. ``screen``: who else
    writes there meanwhile."""
    if not sys.stderr.isatty():
        yield lambda done, total: None
        return
    meter = Meter(what, (screen or Screen()).err)
    try:
        yield meter
    finally:
        meter.rest()
