"""What the demo shows of a command's output: the lines that matter, as they come; all of it goes into a file."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence

from emberkeep.callbacks import Say

FIRST = 6
"""Lines that are shown of an output of which nobody said which ones matter."""
WIDTH = 120


class Excerpt(io.StringIO):
    """A stream that keeps all that is written to it, and says those lines that fit any of ``patterns`` (none: the
    first ones)."""

    def __init__(self, patterns: Sequence[str], say: Say) -> None:
        super().__init__()
        self._wanted = [re.compile(pattern) for pattern in patterns]
        self._say = say
        self._waiting = ""
        self._lines = 0

    def write(self, text: str) -> int:
        """Keep ``text``; whole lines are said at once."""
        *lines, self._waiting = (self._waiting + text).split("\n")
        for line in lines:
            self._line(line)
        return super().write(text)

    def _line(self, line: str) -> None:
        if not line.strip():
            return
        self._lines += 1
        if any(one.search(line) for one in self._wanted) if self._wanted else self._lines <= FIRST:
            short = line.rstrip()
            self._say(short if len(short) <= WIDTH else short[: WIDTH - 1] + "…")
