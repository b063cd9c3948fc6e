"""Which stretches of a file an earlier version of it already holds, so that only the rest is stored.

Two ways, both over the bytes themselves. *In place*: sector by sector at the same offset, for files that are
rewritten where they stand (tiles, databases) or grow at the end (logs). *By content*: both are cut where their
bytes say so, and cuts of equal hash are the same stretch wherever they moved, for text into which rows were
inserted (dumps, XML).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, NamedTuple

from blake3 import blake3

from emberkeep.fs.trees import regrouped

if TYPE_CHECKING:
    import numpy as np

PIECE = 1 << 20
"""Bytes compared or cut at a time."""
SECTOR = 4096
USUAL_CUT = 8192
"""Bytes between two cuts by content, on average."""
MOST_CUTS = 200_000
"""More cuts than this are not remembered of one file: larger files get longer cuts."""
_WINDOW = 16
_FIRST, _SECOND = 0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F


class Run(NamedTuple):
    """``length`` bytes at ``start`` of a file that stand at ``base`` in its earlier version."""

    start: int
    length: int
    base: int


Chunks = Callable[[], Iterator[bytes]]
"""Reads a file anew, from its beginning, in pieces of any size."""


def sector_of(size: int) -> int:
    """Bytes compared as a unit: 4 KiB, more in very large files, so that their lists of extents stay small."""
    return SECTOR if size <= 1 << 30 else SECTOR * 4 if size <= 16 << 30 else SECTOR * 16


def in_place(live: Iterable[bytes], earlier: Iterable[bytes], sector: int) -> Iterator[Run]:
    """The stretches of ``live`` that stand in ``earlier`` at the same offset, joined, in order.

    ``live`` is read to its end in any case, so that a hash over it may be taken on the way.
    """
    others = regrouped(earlier, PIECE)
    at = 0
    start = end = -1
    for piece in regrouped(live, PIECE):
        for low, high in _alike(piece, next(others, b""), sector):
            if at + low == end:
                end = at + high
                continue
            if end > start:
                yield Run(start, end - start, start)
            start, end = at + low, at + high
        at += len(piece)
    if end > start:
        yield Run(start, end - start, start)


def _alike(piece: bytes, other: bytes, sector: int) -> list[tuple[int, int]]:
    """Stretches (from, to) of whole sectors that are the same in both; the last may be a part of one."""
    common = min(len(piece), len(other))
    if common == 0:
        return []
    if piece[:common] == other[:common]:
        end = common if common == len(piece) else common - common % sector
        return [(0, end)] if end else []
    found: list[tuple[int, int]] = []
    start, window = -1, memoryview(other)
    for at in range(0, common - common % sector, sector):  # quicker than NumPy, which would have to be loaded as well
        if not piece.startswith(window[at : at + sector], at):
            if start >= 0:
                found.append((start, at))
            start = -1
        elif start < 0:
            start = at
    return [*found, (start, common - common % sector)] if start >= 0 else found


def by_content(live: Iterable[bytes], earlier: Iterable[bytes], size: int) -> list[Run]:
    """The stretches of ``live`` (``size`` bytes) that stand anywhere in ``earlier``, joined, in order."""
    usual = cut_of(size)
    known = cuts_by_hash(earlier, usual)
    found: list[Run] = []
    at = 0
    for cut in cuts(live, usual):
        base = known.get(blake3(cut).digest())
        if base is not None:
            last = found[-1] if found else None
            if last and last.start + last.length == at and last.base + last.length == base:
                found[-1] = Run(last.start, last.length + len(cut), last.base)
            else:
                found.append(Run(at, len(cut), base))
        at += len(cut)
    return found


def cut_of(size: int) -> int:
    """Bytes between two cuts of a file of ``size`` bytes, on average."""
    usual = USUAL_CUT
    while size // usual > MOST_CUTS:
        usual *= 2
    return usual


def cuts_by_hash(chunks: Iterable[bytes], usual: int) -> dict[bytes, int]:
    """Where each cut begins, by its BLAKE3; the first one of those that are alike."""
    known: dict[bytes, int] = {}
    at = 0
    for cut in cuts(chunks, usual):
        known.setdefault(blake3(cut).digest(), at)
        at += len(cut)
    return known


def cuts(chunks: Iterable[bytes], usual: int = USUAL_CUT) -> Iterator[bytes]:
    """The bytes of ``chunks`` cut where the 16 bytes before say so: equal stretches are cut alike wherever they stand.

    Pieces are about ``usual`` bytes long, at least a quarter of it (the last may be shorter) and at most eight times.
    """
    least, largest = usual // 4, usual * 8
    held = b""
    for chunk in regrouped(chunks, PIECE):
        held += chunk
        start = 0
        for place in _marks(held, usual):
            while place - start > largest:
                yield held[start : start + largest]
                start += largest
            if place - start >= least:
                yield held[start:place]
                start = place
        while len(held) - start > largest:
            yield held[start : start + largest]
            start += largest
        held = held[start:]
    if held:
        yield held


def _marks(data: bytes, usual: int) -> list[int]:
    """Where ``data`` may be cut: behind each window of 16 bytes whose product with two odd constants is small.

    The windows that begin at one of eight offsets are two neighbouring 64-bit numbers, so NumPy takes them all at once.
    """
    import numpy as np

    limit = np.uint64(((1 << 64) - 1) // usual)
    found: list[np.ndarray] = []
    for shift in range(min(8, max(0, len(data) - _WINDOW + 1))):
        count = (len(data) - shift) // 8
        numbers = np.frombuffer(data, "<u8", count, shift)
        with np.errstate(over="ignore"):
            mixed: np.ndarray = (numbers[:-1] ^ np.uint64(_SECOND)) * np.uint64(_FIRST)
            mixed += numbers[1:] * np.uint64(_SECOND)
            mixed ^= mixed >> np.uint64(29)
            mixed *= np.uint64(_FIRST)
        found.append(np.flatnonzero(mixed < limit) * 8 + shift + _WINDOW)
    if not found:
        return []
    places: list[int] = np.sort(np.concatenate(found)).tolist()
    return places
