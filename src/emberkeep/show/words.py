"""Sizes, times and strange text, in words."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime, tzinfo
from typing import Any, TypeVar

_SECRET = re.compile(r"passw|passphrase|passcode|(?:^|[^a-z])pass$|secret|token|credential|(?:api|private).?key", re.I)
_VALUES = ("before", "after", "old", "mine", "new", "left", "right")
HIDDEN = "(hidden)"
_Told = TypeVar("_Told")


def size(count: int) -> str:
    """Bytes as people read them: ``812 B``, ``4.9 MB`` (1 MB = 1000 kB = 10^6 bytes)."""
    value = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 999.5:
            return f"{count} B" if unit == "B" else f"{value:.{1 if value < 99.5 else 0}f} {unit}"
        value /= 1000
    return f"{value:.2f} TB"


def count(number: int, one: str, many: str = "") -> str:
    """``1 file``, ``2 files``."""
    return f"{number} {one if number == 1 else many or one + 's'}"


def when(moment: datetime, zone: tzinfo) -> str:
    """A moment in the server's zone, to the minute."""
    return moment.astimezone(zone).strftime("%Y-%m-%d %H:%M")


def ago(moment: datetime, now: datetime) -> str:
    """How long ago, in its largest unit."""
    seconds = max(0, int((now - moment).total_seconds()))
    for length, unit in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= length:
            return f"{count(seconds // length, unit)} ago"
    return "just now"


def days(number: float) -> str:
    """A length of time in days, in its largest fitting unit: ``12 days``, ``7 months``, ``3.5 years``."""
    if number < 60:
        return count(max(1, round(number)), "day")
    return count(round(number / 30.44), "month") if number < 700 else f"{number / 365.25:.1f} years"


def escape_control(text: str) -> str:
    """Text from strangers, fit for a terminal: control characters and lone surrogates stand as escapes."""
    if text.isprintable():
        return text
    return "".join(char if char.isprintable() else _escaped(char) for char in text)


def _escaped(char: str) -> str:
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    return {"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(char) or (f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}")


def short(text: str | None, longest: int = 60) -> str:
    """A value on one line: white space folded, the middle left out when it is long; ``(none)`` for None."""
    if text is None:
        return "(none)"
    folded = escape_control(" ".join(text.split()))
    if len(folded) <= longest:
        return folded or "(empty)"
    half = (longest - 3) // 2
    return f"{folded[:half]} … {folded[-half:]}"


def redact(item: _Told) -> _Told:
    """A change, question or difference with its values hidden where its field is called as passwords and tokens are:
    what is shown, reported or given as JSON may be passed on."""
    field = getattr(item, "field", None)
    if not isinstance(field, str) or not _SECRET.search(field):
        return item
    hidden: dict[str, Any] = {name: HIDDEN for name in _VALUES if isinstance(getattr(item, name, None), str)}
    return replace(item, **hidden) if hidden else item  # type: ignore[type-var]


def share(value: float) -> str:
    """A share of a whole, 0 to 1, in per cent: never 0 % for something, nor 100 % for less than all."""
    if 0 < value < 0.001:
        return "under 0.1 %"
    shown = min(value, 0.999) if value < 1 else value
    return f"{shown:.1%}".replace("%", " %").replace(".0 ", " ")
