"""Cells of tables that wrap where a reader expects it: at spaces, and behind slashes and hyphens."""

from __future__ import annotations

import re
from typing import Any

from rich.cells import cell_len, get_character_cell_size
from rich.console import Console, ConsoleOptions
from rich.containers import Lines
from rich.measure import Measurement
from rich.text import Text

LONGEST = 24
"""Signs that belong together and that a column is kept wide for."""


class Cell(Text):
    """A text of one cell."""

    def wrap(self, console: Console, width: int, **how: Any) -> Lines:
        """Lines of at most ``width``: broken behind a space, a slash or a hyphen, else where the line is full."""
        if how.get("no_wrap") or "\n" in self.plain:
            return super().wrap(console, width, **how)
        lines = self.divide(_breaks(self.plain, width)) if cell_len(self.plain) > width else Lines([self.copy()])
        for line in lines:
            line.rstrip()
        if (justify := how.get("justify")) is not None:
            lines.justify(console, width, justify=justify)
        return lines

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        pieces = re.split(r"(?<=[/ -])", self.plain)
        return Measurement(min(LONGEST, max(map(cell_len, pieces))), cell_len(self.plain))


def _breaks(text: str, width: int) -> list[int]:
    """Where the lines after the first begin."""
    found: list[int] = []
    begin = last = used = 0
    for at, sign in enumerate(text):
        size = get_character_cell_size(sign)
        if used + size > width and not (sign == " " and used == width):
            begin = last if last > begin else at
            found.append(begin)
            used = cell_len(text[begin:at])
        used += size
        if sign in "/ -":
            last = at + 1
    return found
