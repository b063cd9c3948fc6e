"""Standard output and error that take every text, whatever they are encoded in. Loads nothing that Python has not
loaded: every command begins here, also one that only prints the version."""

from __future__ import annotations

import codecs
import io
import sys

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


def take_anything() -> None:
    """Have standard output and error take every text, whatever they are encoded in: what an output cannot show must not
    look like work that failed."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="emberkeep")
