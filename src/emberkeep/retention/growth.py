"""How a store grows, and how long the disk will last at that rate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from emberkeep.store.manifest import About

LOOKS_BACK = timedelta(days=35)
"""The rate is that of the last weeks; older habits say little."""
SHORTEST = timedelta(hours=6)
"""Snapshots over less time than this tell no rate."""


@dataclass(frozen=True)
class Step:
    """A snapshot (or a release's defaults): what it added, and the sum so far, in bytes."""

    label: str
    taken: datetime
    added: int
    total: int


@dataclass(frozen=True)
class Growth:
    """``size``: bytes of the store on disk; ``free``: bytes left there; ``daily``: bytes a day, None when it is too
    early to tell; ``lasts``: how long the free space lasts at that rate, None when nothing is added or nobody can
    tell."""

    steps: tuple[Step, ...]
    size: int
    free: int
    daily: float | None
    lasts: timedelta | None

    @property
    def endless(self) -> bool:
        """Whether the disk lasts longer than anybody plans."""
        return self.lasts is not None and self.lasts >= LONGEST


LONGEST = timedelta(days=36500)


def growth(taken: Sequence[About], size: int, free: int) -> Growth:
    """The growth that ``taken`` (snapshots and defaults) tells of."""
    steps: list[Step] = []
    for about in sorted(taken, key=lambda about: about.taken):
        total = (steps[-1].total if steps else 0) + about.new_bytes
        steps.append(Step(about.label, about.taken, about.new_bytes, total))
    daily = _daily(steps)
    lasts = None
    if daily:
        lasts = min(timedelta(days=min(free / daily, LONGEST.days)), LONGEST)
    return Growth(tuple(steps), size, free, daily, lasts)


def _daily(steps: Sequence[Step]) -> float | None:
    if len(steps) < 2:
        return None
    recent = [step for step in steps if steps[-1].taken - step.taken <= LOOKS_BACK]
    span = recent[-1].taken - recent[0].taken
    if len(recent) < 2 or span < SHORTEST:
        return None
    return sum(step.added for step in recent[1:]) / (span / timedelta(days=1))
