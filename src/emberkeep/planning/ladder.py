"""The retention ladder: which snapshots thinning lets go.

The finest rung that covers a snapshot's age decides: all are kept, or of each hour, day, week, month or year (in
the server's zone) the last. What lies beyond the last rung goes. Snapshots of different parts of the server do not
stand in for one another. The newest of each stays in any case, and so do pinned ones and those that a run may still
need.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo

from emberkeep.keep import Rung
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
    for about, at in reversed(list(zip(order, _straightened([about.taken for about in order]), strict=True))):
        part = (about.scope, about.source)
        newest = (part,) not in taken
        taken.add((part,))
        rung = next((rung for rung in ladder if now - at <= rung.age), None)
        place = (part, rung, _period(at.astimezone(zone), rung.every)) if rung and rung.every else None
        if about.pinned:
            verdict = Verdict(about, True, "pinned")
        elif about.label in needed:
            verdict = Verdict(about, True, "needed to undo a run")
        elif rung is not None and place is None:
            verdict = Verdict(about, True, "all are kept at this age")
        elif rung is not None and place not in taken:
            verdict = Verdict(about, True, f"the last of its {rung.every}")
        elif newest:
            verdict = Verdict(about, True, "the newest")
        else:
            verdict = Verdict(
                about, False, f"not the last of its {rung.every}" if rung else "older than the ladder reaches"
            )
        if place is not None and verdict.stays:
            taken.add(place)
        found.append(verdict)
    return found[::-1]


def _period(moment: datetime, every: str) -> tuple[int, ...]:
    """What tells one hour, day, week, month or year from another."""
    if every == "week":
        return tuple(moment.isocalendar()[:2])
    parts = {"year": 1, "month": 2, "day": 3, "hour": 4}[every]
    return (moment.year, moment.month, moment.day, moment.hour)[:parts]


def _straightened(times: Sequence[datetime]) -> list[datetime]:
    """Times that never run backwards: what a clock that ran wild said for a while counts as the time before."""
    tails: list[int] = []  # the last ones of the longest runs, by their length
    before: list[int] = []
    for at, time in enumerate(times):
        length = bisect_right(tails, time, key=lambda other: times[other])
        before.append(tails[length - 1] if length else -1)
        tails[length : length + 1] = [at]
    straight: set[int] = set()
    at = tails[-1] if tails else -1
    while at >= 0:
        straight.add(at)
        at = before[at]
    last = times[min(straight)] if straight else datetime.min
    found = []
    for at, time in enumerate(times):
        last = time if at in straight else last
        found.append(last)
    return found
