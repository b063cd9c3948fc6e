"""Coming events as iCalendar (RFC 5545), for other programs: one VEVENT each, with alarms for the announcements.

A UID is made of the server's name, the event's and its planned moment, so that an event that was moved is the same one
when the file is read again. Times are local ones with the VTIMEZONE of their zone.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta

from blake3 import blake3
from icalendar import Alarm, Calendar, Event

from emberkeep.process.lifecycle import in_words
from emberkeep.schedule.calendar import Occurrence

LASTS = timedelta(hours=1)
"""What other programs show as its length."""


def ics(found: Sequence[Occurrence], server: str, now: datetime) -> bytes:
    """The file. Skipped occurrences are in it as cancelled ones, so that programs that had them take them out."""
    calendar = Calendar()
    calendar.add("prodid", "-//Ember Keep//calendar//EN")
    calendar.add("version", "2.0")
    calendar.add("calscale", "GREGORIAN")
    calendar.add("x-wr-calname", server)
    for one in found:
        calendar.add_component(_event(one, server, now))
    if found:
        years = (found[0].at.year - 1, found[-1].at.year + 2)
        calendar.add_missing_timezones(date(years[0], 1, 1), date(years[1], 1, 1))
    return bytes(calendar.to_ical())


def _event(one: Occurrence, server: str, now: datetime) -> Event:
    event = Event()
    event.add("uid", uid(one, server))
    event.add("dtstamp", now.astimezone(UTC))
    event.add("dtstart", one.at)
    event.add("dtend", (one.at.astimezone(UTC) + LASTS).astimezone(one.at.tzinfo))
    event.add("summary", f"{server}: {one.event.name}")
    event.add("categories", [one.event.kind])
    why = [line for line in one.because if "FREQ=" not in line]
    event.add("description", "\n".join((*_clears(one), *why, *([one.skipped] if one.skipped else []))))
    event.add("status", "CANCELLED" if one.skipped else "CONFIRMED")
    for lead in () if one.skipped else one.event.tell:
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("trigger", -lead)
        alarm.add("description", f"{one.event.name} in {in_words(lead)}")
        event.add_component(alarm)
    return event


def _clears(one: Occurrence) -> tuple[str, ...]:
    return (f"clears {', '.join(one.event.scopes)}",) if one.event.scopes else ()


def uid(one: Occurrence, server: str) -> str:
    """What an occurrence is known by everywhere."""
    return f"{blake3(f'{server} {one.event.name} {one.key}'.encode()).hexdigest(16)}@emberkeep"
