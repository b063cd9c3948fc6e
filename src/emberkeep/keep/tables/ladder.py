"""What keep.toml says of where snapshots lie and how long they stay.

::

    [store]           shared: the folder of a store that several keeps of one owner share
    [ladder]          "AGE" = "all" or "one a hour|day|week|month|year": which snapshots thinning keeps
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import timedelta

from emberkeep.keep.toml_reader import Reader


@dataclass(frozen=True)
class Rung:
    """A rung of the retention ladder: of snapshots up to ``age`` old, all are kept (``every`` "") or the last one
    of each hour, day, week, month or year."""

    age: timedelta
    every: str


PERIODS = ("hour", "day", "week", "month", "year")


_DAYS = {"hour": 1 / 24, "day": 1, "week": 7, "month": 30.44, "year": 365.25}


_AGE = re.compile(rf"(\d+) ({'|'.join(PERIODS)})s?")


_EVERY = re.compile(rf"all|one an? ({'|'.join(PERIODS)})")


def read_ladder(reader: Reader) -> tuple[Rung, ...]:
    """The table [ladder], longest age last."""
    rungs = []
    for name in reader.names():
        age, every = _AGE.fullmatch(name), _EVERY.fullmatch(reader.string(name))
        if age is None or not 0 < int(age[1]) < 10_000:
            reader.fault(name, "is no age", 'as "2 days" = "all" or "3 months" = "one a week"')
        elif every is None:
            reader.fault(name, 'should be "all" or as "one a day"', "hour, day, week, month or year")
        else:
            rungs.append(Rung(timedelta(days=int(age[1]) * _DAYS[age[2]]), every[1] or ""))
    return tuple(sorted(rungs, key=lambda rung: rung.age))


def read_store(reader: Reader) -> str:
    """The table [store]: the shared store that the admin wants the snapshots in, "" for the keep's own."""
    shared = reader.string("shared")
    reader.no_others()
    return shared
