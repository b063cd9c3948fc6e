"""How long the next start may take, by what earlier ones took and how large the world was then."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol


class Started(Protocol):
    """An earlier start: seconds until it was ready, bytes of its world, and whether it converted the world."""

    @property
    def seconds(self) -> float:
        """Seconds until it was ready."""
        ...

    @property
    def world(self) -> int:
        """Bytes of its world."""
        ...

    @property
    def converted(self) -> bool:
        """Whether it converted the world."""
        ...

    @property
    def state(self) -> str:
        """How it ended, as the journal has it."""
        ...


READY = "ready"
WIDER, WIDE = 2.0, 1.25
"""How far off a forecast from a single conversion may be, and one from several, as a factor either way."""


SLOWER = 0.5
"""Power of the factor by which a world is larger than all converted ones, by which it may go slower."""


@dataclass(frozen=True)
class Forecast:
    """Seconds: of the last good start, and the range of a conversion of this world (None where none was seen)."""

    last: float
    conversion: tuple[float, float] | None
    seen: int

    @property
    def words(self) -> str:
        """It, in words."""
        last = f"the last start took {lasting(self.last)}"
        if self.conversion is None:
            return f"{last}; no conversion was seen yet, so none can be foretold"
        low, high = self.conversion
        return f"{last}; a conversion of this world may take {lasting(low)} to {lasting(high)}, by {self.seen} earlier"


def forecast(starts: Sequence[Started], world: int) -> Forecast | None:
    """What to expect; None before the first good start. A conversion takes time by the bytes of the world, and more
    than that of worlds larger than any that was seen converted: caches and trees grow, too."""
    good = [start for start in starts if start.state == READY]
    if not good:
        return None
    conversions = [start for start in good if start.converted and start.world > 0]
    if not conversions:
        return Forecast(good[-1].seconds, None, 0)
    rates = [start.seconds / start.world for start in conversions]
    spread = WIDER if len(rates) == 1 else WIDE
    farther = max(1.0, world / max(start.world for start in conversions)) ** SLOWER
    return Forecast(good[-1].seconds, (min(rates) * world / spread, max(rates) * world * spread * farther), len(rates))


def lasting(seconds: float) -> str:
    """A length of time in words."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
