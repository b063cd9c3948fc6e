"""What is due: events whose time has come and was not dealt with, and announcements ahead of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from emberkeep.keep.config import Config
from emberkeep.keep.tables.schedule import ASK, SKIP
from emberkeep.process.lifecycle import in_words
from emberkeep.schedule.calendar import Occurrence, occurrences

PUNCTUAL = timedelta(minutes=15)
"""What comes no later than this counts as in time: cron comes by every few minutes."""
LONGEST_LOOK = timedelta(days=60)
"""How far back is looked for what was missed."""


class Verdict(StrEnum):
    """What is to be done about it."""

    DO = "do"
    TELL = "tell"
    MISSED = "missed"
    ASK = "ask"
    PASSED = "passed over"


@dataclass(frozen=True)
class Duty:
    """Something that is due. ``part``: "" the event itself, else which announcement (``tell 1 hour``); ``late``: by how
    much; ``why``: in words, where it is not simply done."""

    occurrence: Occurrence
    part: str
    verdict: Verdict
    late: timedelta
    why: str = ""

    @property
    def key(self) -> tuple[str, str, str]:
        """What the journal knows it by."""
        return self.occurrence.event.name, self.occurrence.key, self.part


def duties(
    config: Config, states: Mapping[tuple[str, str, str], str], since: Mapping[str, datetime], now: datetime
) -> list[Duty]:
    """What is due at ``now``. ``states``: what the journal knows, by event, planned moment and part; ``since``: by
    event, from when on it counts: one that was only just written into keep.toml is not late."""
    leads = [lead for event in config.calendar.events for lead in event.tell]
    found: list[Duty] = []
    for one in occurrences(config, now - LONGEST_LOOK, now + max(leads, default=timedelta())):
        if one.skipped or one.at < since.get(one.event.name, now):
            continue
        found += _announcements_due(one, states, now)
        if one.at <= now and not one.event.vendors and (one.event.name, one.key, "") not in states:
            found.append(_done(one, now - one.at))
    return found


def _announcements_due(one: Occurrence, states: Mapping[tuple[str, str, str], str], now: datetime) -> list[Duty]:
    """The announcements whose time has come: of several, only the last is made, the others are passed over."""
    if one.at <= now:
        return []
    come = [lead for lead in one.event.tell if one.at - lead <= now]
    open_ones = [lead for lead in come if (one.event.name, one.key, part_of(lead)) not in states]
    if not open_ones or come[-1] != open_ones[-1]:
        return []
    *passed, last = open_ones
    skipped = [
        Duty(one, part_of(lead), Verdict.PASSED, now - (one.at - lead), "a later one is told") for lead in passed
    ]
    return [*skipped, Duty(one, part_of(last), Verdict.TELL, now - (one.at - last))]


def part_of(lead: timedelta) -> str:
    """What an announcement is called in the journal."""
    return f"tell {in_words(lead)}"


def _done(one: Occurrence, late: timedelta) -> Duty:
    event = one.event
    if late <= PUNCTUAL:
        return Duty(one, "", Verdict.DO, late)
    if event.missed == ASK:
        return Duty(one, "", Verdict.ASK, late, f"its time was missed by {rounded(late)}: keep.toml says to ask")
    if event.missed == SKIP:
        return Duty(one, "", Verdict.MISSED, late, f"its time was missed by {rounded(late)}")
    if late > event.within:
        return Duty(
            one, "", Verdict.MISSED, late, f"its time was missed by {rounded(late)}, more than {in_words(event.within)}"
        )
    return Duty(one, "", Verdict.DO, late, f"{rounded(late)} late")


def rounded(time: timedelta) -> str:
    """A length of time to the minute, in words."""
    minutes = round(time.total_seconds() / 60)
    if minutes >= 2880:
        return in_words(timedelta(days=minutes // 1440))
    return in_words(timedelta(minutes=minutes if minutes < 120 else minutes // 60 * 60))
