"""Standard output and error that take every text, whatever they are encoded in. Loads nothing that Python has not
loaded: every command begins here, also one that only prints the version."""

from __future__ import annotations

import codecs
import io
import os
import sys

TYPE_CHECKING = False  # loading typing takes longer than all else here
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from typing import Any, TextIO

_STAND_INS = {
    "→": "->", "…": "...", "“": '"', "”": '"', "’": "'", "·": "-", "–": "-", "—": "--", "─": "-", "├": "|", "└": "`",
    "█": "#", "▓": "#", "▒": "+", "░": ".", "∞": "inf", "×": "x", "●": "*",
}  # fmt: skip
"""What stands for signs that an output cannot show."""


def _stand_in(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    signs = error.object[error.start : error.end]
    return "".join(
        _STAND_INS.get(sign) or sign.encode("ascii", "backslashreplace").decode() for sign in signs
    ), error.end


codecs.register_error("emberkeep", _stand_in)


class _Lasting:
    """A stream that no work fails on: what it cannot take any more, as its reader has gone, its disk is full or it was
    never open, is dropped, and why is noted. Otherwise as the stream."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self.fault: OSError | None = None
        """Why it takes nothing any more."""

    def write(self, text: str) -> int:
        self._tried(lambda: self._stream.write(text))
        return len(text)

    def writelines(self, lines: Iterable[str]) -> None:
        self.write("".join(lines))

    def flush(self) -> None:
        self._tried(self._stream.flush)

    def _tried(self, act: Callable[[], object]) -> None:
        if self.fault is not None:
            return
        try:
            act()
        except OSError as error:
            self.fault = error
            _drained(self._stream)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def _drained(stream: TextIO) -> None:
    """Have what still waits in a stream go nowhere: it must not fail once more at exit."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    except (OSError, ValueError):
        return  # it has no descriptor


def take_anything() -> None:
    """Have standard output and error take every text, whatever they are encoded in and whether anybody takes it: what
    cannot be shown must not look like work that failed, nor stop it."""
    _open_what_is_closed()
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="emberkeep")
        if not isinstance(stream, _Lasting):
            setattr(sys, name, _Lasting(stream))


def fault() -> OSError | None:
    """Why standard output stopped taking what it was given; None where it took all."""
    sys.stdout.flush()
    found: OSError | None = getattr(sys.stdout, "fault", None)
    return found


def _open_what_is_closed() -> None:
    """A program that is started with a standard stream closed would have the next file that it opens be that stream:
    what it or a program that it starts prints would be written into it."""
    while (descriptor := os.open(os.devnull, os.O_RDWR)) < 3:
        os.set_inheritable(descriptor, True)
    os.close(descriptor)
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        if getattr(sys, name) is None:
            setattr(sys, name, io.open(os.devnull, mode, encoding="utf-8"))  # noqa: SIM115, UP020 - pathlib takes long
