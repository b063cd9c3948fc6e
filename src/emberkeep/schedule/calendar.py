"""When the events of keep.toml fall: recurrences, relations between events, moved and skipped dates, quiet days.

An occurrence is known by its event and by the moment that its rule gave (``planned``, in UTC), wherever it is moved to.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from emberkeep.keep.config import Config
from emberkeep.keep.recurrence import MONTHS, Shift, placed, which_of_month
from emberkeep.keep.tables.schedule import NEXT, RUN, Beside, Event, Events, SkipWhen
from emberkeep.process.lifecycle import in_words

WIDER = timedelta(days=62)
"""How far beyond the time asked for is looked: moved dates and related events lie at most so far away."""
MOST_QUIET = 400
"""Days that an event is put off at most."""


@dataclass(frozen=True)
class Occurrence:
    """One time that an event falls. ``planned``: as its rule says; ``at``: when it is; ``skipped``: why it is not,
    "" when it is; ``because``: why it falls there, in sentences. Both moments are in the event's zone."""

    event: Event
    planned: datetime
    at: datetime
    because: tuple[str, ...] = ()
    skipped: str = ""

    @property
    def key(self) -> str:
        """What it is known by in the journal: its planned moment in UTC."""
        return f"{self.planned.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"


def occurrences(config: Config, first: datetime, last: datetime) -> list[Occurrence]:
    """All that falls from ``first`` to ``last`` (both included, with zones), skipped ones too, in order of time."""
    planner = _Planner(config.calendar, config.tz, first, last)
    found = [one for event in config.calendar.events for one in planner.of(event) if first <= one.at <= last]
    return sorted(found, key=lambda one: (one.at, one.event.name))


class _Planner:
    """Occurrences by event, each found once."""

    def __init__(self, events: Events, zone: ZoneInfo, first: datetime, last: datetime) -> None:
        self.events, self.zone = events, zone
        self.first, self.last = first - WIDER, last + WIDER
        self._known: dict[str, list[Occurrence]] = {}

    def of(self, event: Event) -> list[Occurrence]:
        if event.name not in self._known:
            self._known[event.name] = []  # an event that skips because of itself sees none
            self._known[event.name] = [self._settled(one) for one in self._raw(event)]
        return self._known[event.name]

    def _raw(self, event: Event) -> Iterator[Occurrence]:
        if event.recurrence is not None:
            zone = event.zone
            first = self.first.astimezone(zone).replace(tzinfo=None)
            last = self.last.astimezone(zone).replace(tzinfo=None)
            for local in event.recurrence.between(first, last, zone):
                moment, shift = placed(local, zone)
                yield Occurrence(event, moment, moment, tuple(_why_there(event, local, moment, shift)))
        elif event.beside is not None:
            yield from self._beside(event, event.beside)

    def _beside(self, event: Event, beside: Beside) -> Iterator[Occurrence]:
        other = self.events.of(beside.event)
        for one in self.of(other) if other is not None else ():
            if one.skipped:
                continue
            at = (one.at.astimezone(UTC) + beside.by).astimezone(event.zone)
            apart = in_words(abs(beside.by))
            side = f"{apart} {'after' if beside.by > timedelta() else 'before'}" if beside.by else "together with"
            planned = (one.planned.astimezone(UTC) + beside.by).astimezone(event.zone)
            yield Occurrence(event, planned, at, (f"it comes {side} “{beside.event}”, which is at {_clock(one.at)}",))

    def _settled(self, one: Occurrence) -> Occurrence:
        event = one.event
        day = one.planned.date()
        if day in event.skip:
            return replace(one, skipped=f"{day} is skipped in keep.toml")
        if day in event.move:
            moment, shift = placed(event.move[day], event.zone)
            moved = f"moved from {day} by keep.toml"
            one = replace(one, at=moment, because=(*one.because, moved, *_shifted(shift, event.move[day], moment)))
        one = self._quieted(one)
        if event.skip_when is not None and not one.skipped:
            return self._skipped_when(one, event.skip_when)
        return one

    def _quieted(self, one: Occurrence) -> Occurrence:
        """Put off, or left out, on quiet days; those are days of the server's zone."""
        if one.event.quiet_days == RUN or one.event.vendors or not self._is_quiet(one.at):
            return one
        day = one.at.astimezone(self.zone).date()
        if one.event.quiet_days != NEXT:
            return replace(one, skipped=f"{day} is a quiet day")
        local = one.at.replace(tzinfo=None)
        for _ in range(MOST_QUIET):
            local += timedelta(days=1)
            moment, shift = placed(local, one.event.zone)
            if not self._is_quiet(moment):
                reasons = (f"put off from {day}, a quiet day", *_shifted(shift, local, moment))
                return replace(one, at=moment, because=(*one.because, *reasons))
        return replace(one, skipped="every day is a quiet one")

    def _is_quiet(self, moment: datetime) -> bool:
        day = moment.astimezone(self.zone).date()
        return any(quiet.covers(day) for quiet in self.events.quiet)

    def _skipped_when(self, one: Occurrence, when: SkipWhen) -> Occurrence:
        other = self.events.of(when.event)
        for there in self.of(other) if other is not None else ():
            if not there.skipped and self._close(one.at, there.at, when):
                why = f"the same {when.period}" if when.period else f"less than {in_words(when.apart)} away"
                return replace(one, skipped=f"“{when.event}” falls {why}")
        return one

    def _close(self, one: datetime, other: datetime, when: SkipWhen) -> bool:
        if not when.period:
            return abs(one - other) < when.apart
        first, second = one.astimezone(self.zone).date(), other.astimezone(self.zone).date()
        return _period(first, when.period) == _period(second, when.period)


def _period(day: date, period: str) -> tuple[int, ...]:
    """The day, ISO week or month that a day belongs to."""
    if period == "week":
        return tuple(day.isocalendar())[:2]
    return (day.year, day.month, day.day) if period == "day" else (day.year, day.month)


# --- in words ---------------------------------------------------------------------------


def _why_there(event: Event, local: datetime, moment: datetime, shift: Shift) -> Iterator[str]:
    assert event.recurrence is not None
    subject = f"“{event.recurrence.words}” is " if event.recurrence.words else ""
    yield f"{subject}{event.recurrence.rule}"
    yield f"{local.day} {MONTHS[local.month - 1].capitalize()} is {which_of_month(local.date())}"
    yield from _shifted(shift, local, moment)


def _shifted(shift: Shift, local: datetime, moment: datetime) -> Iterator[str]:
    if shift is Shift.LEFT_OUT:
        yield (
            f"{local:%H:%M} does not exist on that day, as clocks are put forward over it: "
            f"{moment:%H:%M} is meant ({moment.tzname()})"
        )
    elif shift is Shift.TWICE:
        yield f"{local:%H:%M} comes twice on that day, as clocks are put back: the first is meant ({moment.tzname()})"


def _clock(moment: datetime) -> str:
    return f"{moment:%a %Y-%m-%d %H:%M} {moment.tzinfo}"


def clocks(one: Occurrence, zone: ZoneInfo) -> tuple[tuple[str, datetime], ...]:
    """The moment on the event's clock, on the server's where that is another one, and in UTC."""
    found = [(str(one.event.zone), one.at.astimezone(one.event.zone)), (str(zone), one.at.astimezone(zone))]
    shown = dict([*found, ("UTC", one.at.astimezone(UTC))])
    return tuple(shown.items())
