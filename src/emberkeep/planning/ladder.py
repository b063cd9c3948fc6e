"""The retention ladder: which snapshots thinning lets go.

The finest rung that covers a snapshot's age decides: all are kept, or of each hour, day, week, month or year (in
the server's zone) the last. What lies beyond the last rung goes. Snapshots of different parts of the server do not
stand in for one another. The newest of each stays in any case, and so do pinned ones and those that a run may still
need.
"""

from __future__ import annotations

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
    """What becomes of each snapshot (given in the order they were taken). ``needed``: numbers a run may still ask
    for."""
    found: list[Verdict] = []
    taken: set[tuple[object, ...]] = set()
    for about in sorted(snapshots, key=lambda about: (about.taken, int(about.label)), reverse=True):
        part = (about.scope, about.source)
        newest = (part,) not in taken
        taken.add((part,))
        rung = next((rung for rung in ladder if now - about.taken <= rung.age), None)
        place = (part, rung, _period(about.taken.astimezone(zone), rung.every)) if rung and rung.every else None
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
