"""Who came when, by the join and leave lines of the logs; and whether the rhythm of wipes fits how attendance falls.

After a wipe the number of players of day d is taken to be n * 2 ** (-d / h), with one n for each wipe and one half-life
h for all. It is fitted as counts are: a Poisson regression with logarithmic link, one line for each wipe and a common
slope, by iteratively reweighted least squares; its errors are widened by the dispersion that is found (McCullagh and
Nelder, "Generalized Linear Models", 2nd ed., sections 2.5 and 4.5).
"""

from __future__ import annotations

import math
import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from datetime import time as clock
from itertools import pairwise
from zoneinfo import ZoneInfo

from emberkeep.fs.trees import FILE, Tree, read
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import Config
from emberkeep.process.watch import bare_line
from emberkeep.wiping.identifiers import unpacked

RHYTHMS = (7, 14, 21, 28, 42, 56)
"""Days between wipes that are thought of."""
STILL_THERE = 0.3
"""A rhythm fits while at its end at least this share of the first day's players still comes."""
FEWEST_WIPES, FEWEST_DAYS, FEWEST_VISITS = 3, 4, 30
LARGEST_LOG = 256 << 20
_STAMP = re.compile(r"(?:(\d{4})[-/.](\d\d)[-/.](\d\d)[T ])?(\d\d?):(\d\d)(?::(\d\d))?")


@dataclass(frozen=True)
class Line:
    """A line of a log about a player. ``came``: whether they came, else they left."""

    at: datetime
    name: str
    came: bool


@dataclass(frozen=True)
class Days:
    """Players by day. ``seen``: the days that logs cover."""

    players: Mapping[date, frozenset[str]]
    seen: frozenset[date]


@dataclass(frozen=True)
class Tide:
    """The days after one wipe. ``counts``: (day since the wipe, players), for days that logs cover."""

    wiped: date
    counts: tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Rhythm:
    """How attendance falls off. ``half_life``: days, with the bounds of its 95 % interval (``most`` infinite where a
    fall is not certain); ``first``: players of the first day, by the fit, averaged over the wipes; ``half_by``: the
    day by which half of them were gone, in the middle of the wipes; ``fits``: days between wipes that fit."""

    wipes: int
    days: int
    half_life: float
    least: float
    most: float
    first: float
    half_by: float
    fits: int


@dataclass(frozen=True)
class Attendance:
    """All of it. ``rhythm``: None with ``why`` where there is too little to say."""

    tides: tuple[Tide, ...]
    rhythm: Rhythm | None = None
    why: str = ""
    between: float = 0.0
    """Days between the wipes so far, on average."""


# --- reading logs -------------------------------------------------------------------------


def visits(tree: Tree, config: Config) -> tuple[list[Line], set[date]]:
    """Every join and leave line in the logs of a tree, in order, and the days that the logs cover."""
    patterns = [
        (re.compile(config.log.patterns[kind]), kind == "joined")
        for kind in ("joined", "left")
        if config.log.patterns.get(kind)
    ]
    roles = Roles(config.roles)
    found: list[Line] = []
    days: set[date] = set()
    for path, entry in tree.entries().items():
        if not patterns or entry.kind is not FILE or roles.of(path) != "logs" or entry.size > LARGEST_LOG:
            continue
        end = datetime.fromtimestamp(entry.mtime_ns / 1e9, config.tz)
        lines = [bare_line(line) for line in unpacked(read(tree, path)).decode("utf-8", "replace").splitlines()]
        stamps = list(_dated(lines, end))
        for at, text in stamps:
            days.add(at.date())
            for pattern, came in patterns:
                match = pattern.search(text)
                if match:
                    found.append(Line(at, _name(match), came))
    return sorted(found, key=lambda line: line.at), days


def _name(match: re.Match[str]) -> str:
    return match.groupdict().get("name") or (match[1] if match.groups() else match[0])


def _dated(lines: Sequence[str], end: datetime) -> Iterator[tuple[datetime, str]]:
    """Lines that begin with a time, each with its moment: the last one is of the day that the file was last written,
    and where the clock runs backwards a day begins."""
    found: list[tuple[date | None, clock, str]] = []
    for line in lines:
        stamp = _STAMP.search(line[:40])
        if stamp is None:
            continue
        year, month, day, hour, minute, second = stamp.groups()
        if int(hour) > 23 or int(minute) > 59 or int(second or 0) > 59:
            continue
        stamped = _date(year, month, day)
        found.append((stamped, clock(int(hour), int(minute), int(second or 0)), line[stamp.end() :]))
    day_now, before = end.date(), None
    dated: list[tuple[datetime, str]] = []
    for stamped, at, text in reversed(found):
        if stamped is not None:
            day_now = stamped
        elif before is not None and at > before:
            day_now -= timedelta(days=1)
        before = at
        dated.append((datetime.combine(day_now, at, end.tzinfo), text))
    yield from reversed(dated)


def _date(year: str | None, month: str, day: str) -> date | None:
    try:
        return date(int(year), int(month), int(day)) if year else None
    except ValueError:
        return None


def by_day(lines: Sequence[Line], covered: set[date]) -> Days:
    """Who was there on each day."""
    found: dict[date, set[str]] = defaultdict(set)
    for line in lines:
        found[line.at.date()].add(line.name)
    return Days({day: frozenset(names) for day, names in found.items()}, frozenset(covered))


def online(lines: Sequence[str], config: Config) -> int | None:
    """How many players are there now, by the lines of the running log since its last start; None where keep.toml does
    not tell what its join and leave lines look like."""
    patterns = config.log.patterns
    if not patterns.get("joined") or not patterns.get("left"):
        return None
    there: set[str] = set()
    for line in map(bare_line, lines):
        if patterns.get("version") and re.search(patterns["version"], line):
            there.clear()
        for kind in ("joined", "left"):
            match = re.search(patterns[kind], line)
            if match:
                (there.add if kind == "joined" else there.discard)(_name(match))
    return len(there)


# --- the rhythm ------------------------------------------------------------------------------


LONGEST_GAP = 4
"""Days without logs behind which a tide is taken to be over."""


def tides(days: Days, wipes: Sequence[date]) -> list[Tide]:
    """The days after each wipe, up to the next one or to a long gap in the logs; the day of a wipe is day 0."""
    found = []
    for at, wiped in enumerate(wipes):
        until = wipes[at + 1] if at + 1 < len(wipes) else max(days.seen, default=wiped) + timedelta(days=1)
        counts: list[tuple[int, int]] = []
        for number in range((until - wiped).days):
            day = wiped + timedelta(days=number)
            if number - (counts[-1][0] if counts else 0) > LONGEST_GAP:
                break
            if day in days.seen:
                counts.append((number, len(days.players.get(day, ()))))
        if counts:
            found.append(Tide(wiped, tuple(counts)))
    return found


def attendance(days: Days, wipes: Sequence[datetime], zone: ZoneInfo, earlier: Sequence[date] = ()) -> Attendance:
    """Whether the rhythm fits. ``wipes``: those that the journal knows; ``earlier``: those that keep.toml tells."""
    when = sorted({*earlier, *(moment.astimezone(zone).date() for moment in wipes)})
    found = tides(days, when)
    gaps = [(later - sooner).days for sooner, later in pairwise(when)]
    between = sum(gaps) / len(gaps) if gaps else 0.0
    enough = [tide for tide in found if len(tide.counts) >= FEWEST_DAYS]
    visits_seen = sum(count for tide in enough for _, count in tide.counts)
    if not days.seen:
        why = "the logs tell of nobody who comes or leaves; [log] joined and left say what such lines look like"
    elif len(enough) < FEWEST_WIPES:
        why = f"too few wipes to say: {len(enough)} with {FEWEST_DAYS} days in the logs, {FEWEST_WIPES} are wanted"
    elif visits_seen < FEWEST_VISITS:
        why = f"too few players to say: {visits_seen} visits in all, {FEWEST_VISITS} are wanted"
    else:
        rhythm = fit(enough)
        remark = "" if rhythm else "attendance does not fall off after a wipe, so nothing in it asks for another rhythm"
        return Attendance(tuple(found), rhythm, remark, between)
    return Attendance(tuple(found), None, why, between)


def fit(found: Sequence[Tide]) -> Rhythm | None:
    """The common half-life of some tides; None where attendance does not fall."""
    import numpy

    rows = [(at, day, count) for at, tide in enumerate(found) for day, count in tide.counts]
    design = numpy.zeros((len(rows), len(found) + 1))
    counts = numpy.array([row[2] for row in rows], float)
    for number, (at, day, _) in enumerate(rows):
        design[number, at] = 1.0
        design[number, -1] = day
    means = numpy.maximum(counts, 0.5)
    solution = numpy.zeros(design.shape[1])
    for _ in range(60):
        predictor = numpy.log(means)
        working = predictor + (counts - means) / means
        weighted = design * means[:, None]
        new = numpy.linalg.lstsq(weighted.T @ design, weighted.T @ working, rcond=None)[0]
        done = bool(numpy.max(numpy.abs(new - solution)) < 1e-10)
        solution = new
        means = numpy.exp(numpy.clip(design @ solution, -20, 20))
        if done:
            break
    freedom = max(1, len(rows) - design.shape[1])
    dispersion = max(1.0, float(numpy.sum((counts - means) ** 2 / means)) / freedom)
    information = (design * means[:, None]).T @ design
    error = math.sqrt(dispersion * float(numpy.linalg.pinv(information)[-1, -1]))
    slope = -float(solution[-1])
    if slope <= 0:
        return None
    half_life = math.log(2) / slope
    least = math.log(2) / (slope + 1.96 * error)
    most = math.log(2) / (slope - 1.96 * error) if slope > 1.96 * error else math.inf
    first = float(numpy.exp(solution[:-1]).mean())
    fitting = [days for days in RHYTHMS if 2 ** (-days / half_life) >= STILL_THERE]
    return Rhythm(
        len(found),
        len(rows),
        half_life,
        least,
        most,
        first,
        _half_by(found),
        max(fitting, default=RHYTHMS[0]),
    )


def _half_by(found: Sequence[Tide]) -> float:
    """The day by which attendance had come down to half of its first days', in the middle of the tides; infinite where
    most never did."""
    by = []
    for tide in found:
        top = max(count for day, count in tide.counts if day <= 2) if any(day <= 2 for day, _ in tide.counts) else 0
        smooth = [(day, _mean_around(tide, day)) for day, _ in tide.counts]
        by.append(next((day for day, mean in smooth if day > 0 and mean <= top / 2), math.inf) if top else math.inf)
    return sorted(by)[len(by) // 2]


def _mean_around(tide: Tide, day: int) -> float:
    near = [count for other, count in tide.counts if abs(other - day) <= 1]
    return sum(near) / len(near)
