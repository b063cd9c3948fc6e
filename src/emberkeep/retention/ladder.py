"""The retention ladder: which snapshots thinning lets go.

The finest rung that covers a snapshot's age decides: all are kept, or of each hour, day, week, month or year (in
the server's zone) the last. What lies beyond the last rung goes. Snapshots of different parts of the server do not
stand in for one another. The newest of each stays in any case, and so do pinned ones and those that a run may still
need.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo

from emberkeep.keep.tables.ladder import Rung
from emberkeep.store.manifest import About


@dataclass(frozen=True)
class Verdict:
    """Whether a snapshot stays, and why."""

    about: About
    stays: bool
    why: str


def judge(
    snapshots: Sequence[About], ladder: Sequence[Rung], needed: Collection[str], now: datetime, zone: tzinfo
) -> list[Verdict]:
    """What becomes of each snapshot, in the order of their numbers, which is that in which they were taken whatever the
    clock said. ``needed``: numbers a run may still ask for."""
    found: list[Verdict] = []
    taken: set[tuple[object, ...]] = set()
    order = sorted(snapshots, key=lambda about: int(about.label))
    for about, moments in reversed(list(zip(order, _readings([about.taken for about in order]), strict=True))):
        part = (about.scope, about.source)
        newest = (part,) not in taken
        taken.add((part,))
        standing = [_standing(part, at, ladder, now, zone) for at in moments]
        why = next((reason for rung, place in standing if (reason := _kept_by(rung, place, taken))), "")
        if about.pinned:
            verdict = Verdict(about, True, "pinned")
        elif about.label in needed:
            verdict = Verdict(about, True, "needed to undo a run")
        elif why or newest:
            verdict = Verdict(about, True, why or "the newest")
        else:
            rung = standing[0][0]
            reason = f"not the last of its {rung.every}" if rung else "older than the ladder reaches"
            verdict = Verdict(about, False, reason)
        if len(moments) == 1:  # one that may be of two times stands in for no other
            taken.update(place for _, place in standing if place is not None and verdict.stays)
        found.append(verdict)
    return found[::-1]


_Place = tuple[object, ...]


def _standing(
    part: object, at: datetime, ladder: Sequence[Rung], now: datetime, zone: tzinfo
) -> tuple[Rung | None, _Place | None]:
    """The rung that a moment falls under, and which hour, day and so on of it; None where it covers none, or keeps
    all."""
    rung = next((rung for rung in ladder if now - at <= rung.age), None)
    return rung, (part, rung, _period(at.astimezone(zone), rung.every)) if rung and rung.every else None


def _kept_by(rung: Rung | None, place: _Place | None, taken: Collection[_Place]) -> str:
    """Why a rung keeps what falls there; "" where it does not."""
    if rung is None or place in taken:
        return ""
    return f"the last of its {rung.every}" if place is not None else "all are kept at this age"


def _period(moment: datetime, every: str) -> tuple[int, ...]:
    """What tells one hour, day, week, month or year from another."""
    if every == "week":
        return tuple(moment.isocalendar()[:2])
    parts = {"year": 1, "month": 2, "day": 3, "hour": 4}[every]
    return (moment.year, moment.month, moment.day, moment.hour)[:parts]


def _readings(times: Sequence[datetime]) -> list[tuple[datetime, ...]]:
    """When each was taken, by a clock that never runs backwards: what one that ran wild said for a while counts as the
    time before. Where the times can be read in two ways that are as likely, both count.

    What is on every longest run that never goes backwards was told right, and what is on none was not.
    """
    ends = _run_lengths([time.timestamp() for time in times])
    begins = _run_lengths([-time.timestamp() for time in reversed(times)])[::-1]
    longest = max(ends, default=0)
    may_be = [end + begin - 1 == longest for end, begin in zip(ends, begins, strict=True)]
    rivals = Counter(end for end, right in zip(ends, may_be, strict=True) if right)
    first = next((time for time, right in zip(times, may_be, strict=True) if right), datetime.min)
    before: tuple[datetime, ...] = (first,)
    found: list[tuple[datetime, ...]] = []
    for time, end, right in zip(times, ends, may_be, strict=True):
        if right:
            before = (time,) if rivals[end] == 1 else tuple(dict.fromkeys((*before, time)))
        found.append(before)
    return found


def _run_lengths(values: Sequence[float]) -> list[int]:
    """How long the longest run that never goes backwards is that ends at each."""
    tails: list[float] = []
    found = []
    for value in values:
        length = bisect_right(tails, value)
        tails[length : length + 1] = [value]
        found.append(length + 1)
    return found
