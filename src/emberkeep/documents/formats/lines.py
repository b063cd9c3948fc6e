"""Plain text by line: how lines of two texts correspond."""

from __future__ import annotations

import difflib
from bisect import bisect_left
from collections.abc import Hashable, Sequence
from typing import NamedTuple


class Match(NamedTuple):
    """``length`` equal items from ``left`` on the left and ``right`` on the right (0-based)."""

    left: int
    right: int
    length: int


def split(text: str) -> list[str]:
    """The lines of a text, each with its own line end; only ``\\n``, ``\\r\\n`` and ``\\r`` end a line."""
    if not any(end in text for end in _OTHER_ENDS):
        return text.splitlines(keepends=True)
    parts = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    lines: list[str] = []
    at = 0
    for body in parts[:-1]:
        end = at + len(body)
        end += 2 if text[end : end + 2] == "\r\n" else 1
        lines.append(text[at:end])
        at = end
    return [*lines, text[at:]] if at < len(text) else lines


_OTHER_ENDS = "\v\f\x1c\x1d\x1e\x85\u2028\u2029"
"""What ``str.splitlines`` takes for the end of a line too."""


def body(line: str) -> str:
    """A line without its line end."""
    return line.rstrip("\r\n")


def matches(left: Sequence[Hashable], right: Sequence[Hashable]) -> list[Match]:
    """Equal runs of two sequences, in order, not overlapping.

    What stands once on both sides anchors the rest (patience), so that moved or repeated lines do not pull a match
    apart; stretches without such anchors are compared by ``difflib``.
    """
    found: list[Match] = []
    waiting = [(0, len(left), 0, len(right))]
    while waiting:
        low, high, start, end = waiting.pop()
        while low < high and start < end and left[low] == right[start]:
            found.append(Match(low, start, 1))
            low, start = low + 1, start + 1
        while low < high and start < end and left[high - 1] == right[end - 1]:
            high, end = high - 1, end - 1
            found.append(Match(high, end, 1))
        if low == high or start == end:
            continue
        anchors = _anchors(left, right, low, high, start, end)
        if not anchors:
            found.extend(_plain(left, right, low, high, start, end))
            continue
        for first, second in anchors:
            waiting.append((low, first, start, second))
            found.append(Match(first, second, 1))
            low, start = first + 1, second + 1
        waiting.append((low, high, start, end))
    return _joined(sorted(found))


def _anchors(
    left: Sequence[Hashable], right: Sequence[Hashable], low: int, high: int, start: int, end: int
) -> list[tuple[int, int]]:
    """Pairs of items unique on both sides, longest run that ascends on both."""
    once_left = _once(left, low, high)
    once_right = _once(right, start, end)
    pairs = [(at, once_right[item]) for item, at in once_left.items() if item in once_right]
    return [pairs[index] for index in ascending([second for _, second in pairs])]


def _once(items: Sequence[Hashable], low: int, high: int) -> dict[Hashable, int]:
    seen: dict[Hashable, int] = {}
    twice: set[Hashable] = set()
    for at in range(low, high):
        if items[at] in seen:
            twice.add(items[at])
        seen[items[at]] = at
    return {item: at for item, at in seen.items() if item not in twice}


def ascending(numbers: Sequence[int]) -> list[int]:
    """Indexes of a longest strictly ascending subsequence."""
    tails: list[int] = []
    tail_at: list[int] = []
    before: list[int] = []
    for index, number in enumerate(numbers):
        at = bisect_left(tails, number)
        before.append(tail_at[at - 1] if at else -1)
        if at == len(tails):
            tails.append(number)
            tail_at.append(index)
        else:
            tails[at] = number
            tail_at[at] = index
    chain: list[int] = []
    index = tail_at[-1] if tail_at else -1
    while index >= 0:
        chain.append(index)
        index = before[index]
    return chain[::-1]


def _plain(
    left: Sequence[Hashable], right: Sequence[Hashable], low: int, high: int, start: int, end: int
) -> list[Match]:
    if (high - low) * (end - start) > 4_000_000:
        return []  # nothing in common is unique here: too long to compare item by item
    matcher = difflib.SequenceMatcher(None, left[low:high], right[start:end], autojunk=False)
    return [Match(low + a, start + b, size) for a, b, size in matcher.get_matching_blocks() if size]


def _joined(found: list[Match]) -> list[Match]:
    joined: list[Match] = []
    for match in found:
        if joined:
            last = joined[-1]
            if last.left + last.length == match.left and last.right + last.length == match.right:
                joined[-1] = Match(last.left, last.right, last.length + match.length)
                continue
        joined.append(match)
    return joined
