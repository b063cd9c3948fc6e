"""Lines of an FTP ``LIST``, which no standard describes: the two forms that servers print.

::

    drwxr-xr-x   2 keeper  crew       4096 Apr  2 18:00 outer-skerries       as "ls -l" does; a year instead of a
    lrwxrwxrwx   1 keeper  crew          9 Apr  2  2025 latest -> notes.txt  clock when it is long ago
    04-02-26  06:00PM       <DIR>          outer-skerries                    as "dir" does
    04-02-26  06:00PM                 2911 notes.txt

The host's clock is taken for UTC, since nothing tells its zone: times are compared with each other only.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from emberkeep.fs.trees import Kind, fitting
from emberkeep.transfer.protocol import RemoteEntry, SkippedEntry, joined, unsafe_name_reason

_LIKE_LS = re.compile(
    r"(?P<kind>[-dlbcps])(?P<mode>[-rwxsStT]{9})[+.@]?\s+(?:\d+\s+)?(?:\S+\s+){0,3}?(?P<size>\d+)\s+"
    r"(?P<month>[A-Z][a-z]{2})\s+(?P<day>\d{1,2})\s+(?:(?P<clock>\d{1,2}:\d{2})|(?P<year>\d{4})) (?P<name>.+)"
)
_LIKE_DIR = re.compile(
    r"(?P<date>\d{2}-\d{2}-\d{2}(?:\d{2})?)\s+(?P<clock>\d{2}:\d{2}(?:[AP]M)?)\s+(?:<DIR>|(?P<size>\d+))\s+(?P<name>.+)"
)
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
DAY = 86400.0


def parse(line: str, folder: str, now: datetime) -> RemoteEntry | SkippedEntry | None:
    """What a line tells; None for one that tells of no file ("total 8", the folder itself)."""
    if found := _LIKE_LS.fullmatch(line):
        return _like_ls(found, folder, now)
    if found := _LIKE_DIR.fullmatch(line):
        return _like_dir(found, folder)
    if not line.strip() or re.fullmatch(r"total \d+", line):
        return None
    return SkippedEntry(joined(folder, line[-40:]), "a line of the listing that is not understood")


def _like_ls(found: re.Match[str], folder: str, now: datetime) -> RemoteEntry | SkippedEntry | None:
    name, target = found["name"], ""
    if found["kind"] == "l":
        name, _, target = name.partition(" -> ")
    if name in (".", ".."):
        return None
    if why := unsafe_name_reason(name):
        return SkippedEntry(joined(folder, name), why)
    if found["kind"] not in "-dl":
        return SkippedEntry(joined(folder, name), "neither a file, a folder nor a link")
    kind = {"-": Kind.FILE, "d": Kind.FOLDER, "l": Kind.LINK}[found["kind"]]
    size = sized(found["size"]) if kind is Kind.FILE else 0
    at = _time(found, now)
    precision = 60.0 if found["clock"] else DAY
    return RemoteEntry(joined(folder, name), kind, size, at, precision, _mode(found["mode"]), target)


def _time(found: re.Match[str], now: datetime) -> int | None:
    if found["month"] not in _MONTHS:
        return None
    month, day = _MONTHS.index(found["month"]) + 1, int(found["day"])
    hour, minute = map(int, (found["clock"] or "0:00").split(":"))
    try:
        if found["year"]:
            return _ns(datetime(int(found["year"]), month, day, tzinfo=UTC))
        at = datetime(now.year, month, day, hour, minute, tzinfo=UTC)
        if at > now + timedelta(days=1):  # a clock without a year is of the last twelve months
            at = at.replace(year=now.year - 1)
        return _ns(at)
    except ValueError:  # 29 February of another year, or nonsense
        return None


def _like_dir(found: re.Match[str], folder: str) -> RemoteEntry | SkippedEntry | None:
    name = found["name"]
    if name in (".", ".."):
        return None
    if why := unsafe_name_reason(name):
        return SkippedEntry(joined(folder, name), why)
    form = "%m-%d-%Y" if len(found["date"]) > 8 else "%m-%d-%y"
    clock = "%I:%M%p" if found["clock"].endswith("M") else "%H:%M"
    try:
        at = _ns(datetime.strptime(f"{found['date']} {found['clock']}", f"{form} {clock}").replace(tzinfo=UTC))
    except ValueError:
        at = None
    if found["size"] is None:
        return RemoteEntry(joined(folder, name), Kind.FOLDER, 0, at, 60.0)
    return RemoteEntry(joined(folder, name), Kind.FILE, sized(found["size"]), at, 60.0)


def sized(text: str) -> int:
    """Bytes, as a host tells them; -1 where that is nothing that a file can have."""
    return int(text) if text.isdecimal() and len(text) < 19 else -1


def _ns(at: datetime) -> int:
    return fitting(int(at.timestamp()) * 1_000_000_000)


def _mode(letters: str) -> int:
    bits = 0
    for at, letter in enumerate(letters):
        if letter not in "-ST":
            bits |= 1 << (8 - at)
    return bits
