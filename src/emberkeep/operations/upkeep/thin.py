"""Thinning: what the ladder lets go, and letting it go."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Damage, Refused, UsageError
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.snapshot import snapshots
from emberkeep.retention.ladder import Verdict, judge
from emberkeep.store.compact import Freed, freed_by, release
from emberkeep.store.store import Store


@dataclass(frozen=True)
class Thinning:
    """What becomes of each snapshot, and about how many bytes that frees."""

    verdicts: tuple[Verdict, ...]
    frees: int = 0

    @property
    def going(self) -> tuple[str, ...]:
        """Numbers of the snapshots that go."""
        return tuple(verdict.about.label for verdict in self.verdicts if not verdict.stays)


def plan(keep: Keep, store: Store, now: datetime, progress: Progress = no_op) -> Thinning:
    """What thinning would do. UsageError without a ladder; Damage, nothing judged, when a snapshot cannot be read."""
    if not keep.config.ladder:
        raise UsageError(
            f"{keep.folder / FILE} has no [ladder] that says what to keep",
            hint='as [ladder] with "2 days" = "all", "2 weeks" = "one a day", "3 months" = "one a week"',
        )
    found, faults = snapshots(store)
    if faults:
        raise Damage(faults[0], hint="run 'emberkeep verify'; nothing is thinned while a snapshot cannot be read")
    verdicts = judge(found, keep.config.ladder, Journal(keep.folder).needed(), now, keep.config.tz)
    thinning = Thinning(tuple(verdicts))
    return replace(thinning, frees=freed_by(store, thinning.going, progress))


def check_clock(keep: Keep, found: Thinning, now: datetime) -> None:
    """Refused where snapshots would go as if long ago, all but the newest: where nobody looks on, a clock that ran wild
    is the likelier reason."""
    reach = keep.config.ladder[-1].age
    within = sum(now - verdict.about.taken <= reach for verdict in found.verdicts)
    if len(found.going) > 1 and within <= 1:
        raise Refused(
            f"by this clock ({now:%Y-%m-%d %H:%M} UTC) all snapshots but the newest are older than the ladder reaches; "
            f"all {len(found.going)} that would be deleted were kept",
            hint="see that the clock is right; then 'emberkeep thin' shows what would go, and with --go it goes",
        )


def carry_out(keep: Keep, store: Store, found: Thinning, progress: Progress = no_op) -> Freed:
    """Let the snapshots go and free their space; also what earlier, interrupted thinning left. What a run has come to
    need, or somebody has pinned, since the plan was made stays."""
    with store.writing():
        needed = Journal(keep.folder).needed()
        there = set(map(str, store.numbers()))
        going = [label for label in found.going if label in there - needed and not store.about(label).pinned]
        return release(store, going, progress)
