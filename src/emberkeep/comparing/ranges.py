"""Changed byte ranges of files that have no terms of their own."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from emberkeep.fs.trees import regrouped

WINDOW = 1 << 20
APART = 64
"""Bytes; ranges nearer to each other than this are told as one."""
MOST = 1000


@dataclass(frozen=True)
class Ranges:
    """Where two files differ. ``ranges``: start and end (excluded) in bytes, at most :data:`MOST`; ``changed``: bytes
    that differ, those that only one side has included; ``total``: bytes of the longer side."""

    ranges: tuple[tuple[int, int], ...]
    changed: int
    total: int

    @property
    def share(self) -> float:
        """Changed bytes of all, 0 to 1."""
        return self.changed / self.total if self.total else 0.0


def changed_ranges(left: Iterable[bytes], right: Iterable[bytes]) -> Ranges:
    """Compare byte by byte at equal offsets, reading both once in windows of :data:`WINDOW` bytes."""
    import numpy as np

    found: list[tuple[int, int]] = []
    changed = at = 0
    lefts, rights = regrouped(left, WINDOW), regrouped(right, WINDOW)
    while True:
        first, second = next(lefts, b""), next(rights, b"")
        if not first and not second:
            return Ranges(tuple(found), changed, at)
        common = min(len(first), len(second))
        longer = max(len(first), len(second))
        if first != second:
            differs = np.frombuffer(first, np.uint8, common) != np.frombuffer(second, np.uint8, common)
            places = np.flatnonzero(differs)
            changed += len(places) + longer - common
            breaks = np.flatnonzero(np.diff(places) > APART)
            starts = [places[0], *places[breaks + 1]] if len(places) else []
            ends = [*places[breaks], places[-1]] if len(places) else []
            for start, end in zip(starts, ends, strict=True):
                _extend(found, at + int(start), at + int(end) + 1)
            if longer > common:
                _extend(found, at + common, at + longer)
        at += longer


def _extend(found: list[tuple[int, int]], start: int, end: int) -> None:
    if found and start - found[-1][1] < APART:
        found[-1] = (found[-1][0], end)
    elif len(found) < MOST:
        found.append((start, end))
