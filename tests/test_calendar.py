"""Recurrences against python-dateutil and against counting days by hand; relations, moves, quiet days; clocks that
change; iCalendar read back; what is due."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, time, timedelta
from email import message_from_bytes, policy
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from itertools import pairwise
from pathlib import Path
from typing import Any
from xml.etree import ElementTree
from zoneinfo import ZoneInfo

import icalendar
import pytest
from aiosmtpd.controller import Controller
from dateutil import rrule
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.demo.walk import free_ports
from emberkeep.demo.webhook_receiver import Receiver
from emberkeep.errors import UnreadableInput
from emberkeep.keep.config import Config, check_text
from emberkeep.keep.keep import Keep
from emberkeep.keep.recurrence import MONTHS, NotUnderstood, Shift, from_rule, from_words, placed
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows import due, readiness
from emberkeep.operations.record.due import DueRecords
from emberkeep.operations.record.facts import BEGUN, DONE, Run
from emberkeep.operations.record.journal import Journal
from emberkeep.schedule import calendar
from emberkeep.schedule.calendar import Occurrence, occurrences
from emberkeep.schedule.duties import Verdict, duties
from emberkeep.show.files import ics
from emberkeep.store.store import Store
from tests import depth
from tests.program import run_program

UTC_ZONE = ZoneInfo("UTC")
ZONES = ["UTC", "Atlantic/Faroe", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Apia"]
FIRST, LAST = datetime(2016, 1, 1), datetime(2036, 1, 1)
DAY = timedelta(days=1)


def days(wanted: Callable[[date], bool], at: time = time()) -> list[datetime]:
    """Days of twenty years, counted one by one."""
    span = (LAST - FIRST).days + 1
    return [
        datetime.combine(day, at)
        for n in range(span)
        if wanted(day := (FIRST + n * DAY).date()) and datetime.combine(day, at) <= LAST
    ]


def nth(day: date) -> int:
    return (day.day - 1) // 7 + 1


def last_of_month(day: date) -> bool:
    return (day + DAY).month != day.month


WORDS: dict[str, tuple[dict[str, Any], Callable[[date], bool]]] = {
    "second Friday 19:00": (
        {"freq": rrule.MONTHLY, "byweekday": rrule.FR(2)},
        lambda d: d.weekday() == 4 and nth(d) == 2,
    ),
    "last Sunday 18:00": (
        {"freq": rrule.MONTHLY, "byweekday": rrule.SU(-1)},
        lambda d: d.weekday() == 6 and (d + 7 * DAY).month != d.month,
    ),
    "first and third Monday 20:00": (
        {"freq": rrule.MONTHLY, "byweekday": [rrule.MO(1), rrule.MO(3)]},
        lambda d: d.weekday() == 0 and nth(d) in (1, 3),
    ),
    "daily 04:30": ({"freq": rrule.DAILY}, lambda d: True),
    "Monday and Thursday 05:00": ({"freq": rrule.WEEKLY, "byweekday": [0, 3]}, lambda d: d.weekday() in (0, 3)),
    "weekdays 05:00": ({"freq": rrule.WEEKLY, "byweekday": range(5)}, lambda d: d.weekday() < 5),
    "monthly on the 1st 12:00 except December": (
        {"freq": rrule.MONTHLY, "bymonthday": 1, "bymonth": range(1, 12)},
        lambda d: d.day == 1 and d.month != 12,
    ),
    "monthly on the 31st 12:00": ({"freq": rrule.MONTHLY, "bymonthday": 31}, lambda d: d.day == 31),
    "monthly on the last day 23:00": ({"freq": rrule.MONTHLY, "bymonthday": -1}, last_of_month),
    "yearly on 29 February 12:00": (
        {"freq": rrule.YEARLY, "bymonth": 2, "bymonthday": 29},
        lambda d: (d.month, d.day) == (2, 29),
    ),
    "quarterly on the first Friday 18:00": (
        {"freq": rrule.MONTHLY, "bymonth": [1, 4, 7, 10], "byweekday": rrule.FR(1)},
        lambda d: d.weekday() == 4 and nth(d) == 1 and d.month in (1, 4, 7, 10),
    ),
    "Fridays 19:00 in June and July": (
        {"freq": rrule.WEEKLY, "byweekday": 4, "bymonth": [6, 7]},
        lambda d: d.weekday() == 4 and d.month in (6, 7),
    ),
    "daily 09:00 except Sunday": ({"freq": rrule.DAILY, "byweekday": range(6)}, lambda d: d.weekday() != 6),
}


@pytest.mark.parametrize("words", WORDS)
def test_words_mean_what_dateutil_and_a_calendar_say_over_twenty_years(words: str) -> None:
    found = from_words(words, None, UTC_ZONE)
    clock = next(word for word in words.split() if ":" in word)
    at = time.fromisoformat(clock)
    told, by_hand = WORDS[words]
    expected = rrule.rrule(
        dtstart=datetime.combine(FIRST.date(), at), until=LAST, byhour=at.hour, byminute=at.minute, bysecond=0, **told
    )
    ours = [
        moment
        for year in range(2016, 2036)
        for moment in found.between(datetime(year, 1, 1), datetime(year, 12, 31, 23, 59, 59), UTC_ZONE)
    ]
    assert ours == list(expected)
    assert ours == days(by_hand, at)


@pytest.mark.parametrize("every", [2, 3, 5])
def test_every_few_weeks_is_counted_from_the_day_told(every: int) -> None:
    start = date(2016, 1, 8)
    found = from_words(f"every {every} weeks on Friday 18:00", start, UTC_ZONE)
    ours = list(found.between(FIRST, LAST, UTC_ZONE))
    assert ours[0].date() == start
    assert {later - sooner for sooner, later in pairwise(ours)} == {timedelta(weeks=every)}
    assert ours == list(rrule.rrule(rrule.WEEKLY, interval=every, dtstart=ours[0], until=LAST))


@given(st.sampled_from(["YEARLY", "MONTHLY", "WEEKLY", "DAILY"]), st.integers(1, 4), st.data())
def test_rules_give_what_dateutil_gives(frequency: str, interval: int, data: st.DataObject) -> None:
    parts = [f"FREQ={frequency}", f"INTERVAL={interval}"]
    if frequency in ("YEARLY", "MONTHLY") and data.draw(st.booleans()):
        parts.append(f"BYDAY={data.draw(st.integers(1, 4))}{data.draw(st.sampled_from(['MO', 'WE', 'SU']))}")
    if data.draw(st.booleans()):
        parts.append(f"BYMONTH={data.draw(st.integers(1, 12))}")
    start = data.draw(st.datetimes(datetime(2018, 1, 1), datetime(2020, 1, 1))).replace(microsecond=0)
    rule = ";".join(parts)
    try:
        found = from_rule(rule, start, UTC_ZONE)
    except NotUnderstood:
        assert not list(rrule.rrulestr(rule, dtstart=start).xafter(start, count=1, inc=True))
        return
    assert list(found.between(FIRST, LAST, UTC_ZONE)) == list(
        rrule.rrulestr(rule, dtstart=start).between(FIRST, LAST, inc=True)
    )


@pytest.mark.parametrize("zone", depth.some(ZONES[1:], 1) if not depth.long else ZONES)
def test_local_times_are_placed_as_the_standard_says(zone: str) -> None:
    """Every half hour of some years: an independent reading of the zone's own offsets."""
    place = ZoneInfo(zone)
    seen = dict.fromkeys(Shift, 0)
    years = depth.choose(1, 5)
    for n in range(0, years * 365 * 48):
        local = datetime(2022, 1, 1, 0, 10) + n * timedelta(minutes=30)
        moment, shift = placed(local, place)
        seen[shift] += 1
        candidates = {
            (local.replace(tzinfo=UTC) - offset)
            for offset in (local.replace(tzinfo=place, fold=fold).utcoffset() for fold in (0, 1))
            if offset is not None
        }
        real = [one for one in candidates if one.astimezone(place).replace(tzinfo=None) == local]
        if shift is Shift.LEFT_OUT:
            assert not real
            assert moment.replace(tzinfo=None) > local
        elif shift is Shift.TWICE:
            assert len(real) == 2
            assert moment.astimezone(UTC) == min(real)
        else:
            assert [moment.astimezone(UTC)] == real
    if zone in ("Atlantic/Faroe", "America/New_York"):
        assert (seen[Shift.LEFT_OUT], seen[Shift.TWICE]) == (2 * years, 2 * years)
    elif zone in ("UTC", "Asia/Kathmandu"):
        assert (seen[Shift.LEFT_OUT], seen[Shift.TWICE]) == (0, 0)


# --- events in keep.toml ---------------------------------------------------------------


HEAD = """format = 1
[server]
name = "Gannet Rock"
folder = "../gannet-rock"
zone = "Atlantic/Faroe"
[roles]
world = ["outer-skerries/**"]
players = ["keepers/**"]
"""


def config(text: str) -> Config:
    return check_text(HEAD + text, Path("keep.toml"))


def event(name: str, told: str, kind: str = "wipe") -> str:
    scopes = 'scopes = ["map"]\n' if kind == "wipe" else ""
    return f'[[event]]\nname = "{name}"\nkind = "{kind}"\n{scopes}{told}\n'


def falls(text: str, first: str, last: str) -> list[Occurrence]:
    told = config(text)
    return occurrences(
        told, datetime.fromisoformat(first).replace(tzinfo=UTC), datetime.fromisoformat(last).replace(tzinfo=UTC)
    )


VENDOR = event(
    "release",
    'whose = "vendor"\nwhen = "every 4 weeks on Tuesday 14:00"\nstart = 2025-04-01\nzone = "America/Vancouver"',
    "update",
)


def test_ours_comes_after_the_vendors_on_both_clocks_through_clock_changes() -> None:
    found = falls(VENDOR + event("ours", 'after = { event = "release", by = "1 hour" }'), "2026-03-01", "2026-12-31")
    pairs = [(a, b) for a, b in zip(found[::2], found[1::2], strict=True)]
    assert {(a.event.name, b.event.name) for a, b in pairs} == {("release", "ours")}
    assert {b.at - a.at for a, b in pairs} == {timedelta(hours=1)}
    assert {f"{a.at:%a %H:%M}" for a, _ in pairs} == {"Tue 14:00"}
    # Vancouver is on summer time from 8 March, the Faroes from 29 March, and back in other weeks
    here = {f"{b.at.astimezone(ZoneInfo('Atlantic/Faroe')):%m-%d %H:%M}" for _, b in pairs}
    assert {"03-03 23:00", "03-31 23:00", "11-10 23:00"} <= here
    clocks = calendar.clocks(found[1], ZoneInfo("Atlantic/Faroe"))
    assert [name for name, _ in clocks] == ["Atlantic/Faroe", "UTC"]


def test_ours_is_skipped_in_the_week_of_theirs() -> None:
    found = falls(
        VENDOR + event("ours", 'when = "Friday 19:00"\nskip-when = { event = "release", within = "week" }'),
        "2026-06-01",
        "2026-06-30",
    )
    ours = {f"{one.at:%d}": one.skipped for one in found if one.event.name == "ours"}
    assert list(ours) == ["05", "12", "19", "26"]
    assert "“release” falls the same week" in ours["26"]
    assert not any(why for day, why in ours.items() if day != "26")


@pytest.mark.parametrize(
    ("told", "at", "why"),
    [
        ("skip = [2026-06-12]", None, "is skipped in keep.toml"),
        ('move = { "2026-06-12" = "2026-06-13 20:00" }', "2026-06-13 20:00", "moved from 2026-06-12"),
        ('quiet-days = "next"\n[calendar]\nquiet = ["06-12..06-14"]', "2026-06-15 19:00", "put off from 2026-06-12"),
        ('[calendar]\nquiet = ["2026-06-12"]', None, "2026-06-12 is a quiet day"),
        ('quiet-days = "run"\n[calendar]\nquiet = ["2026-06-12"]', "2026-06-12 19:00", "2nd Friday"),
    ],
)
def test_single_dates_and_quiet_days(told: str, at: str | None, why: str) -> None:
    (found,) = falls(event("ours", f'when = "second Friday 19:00"\n{told}'), "2026-06-01", "2026-06-30")
    assert (found.skipped == "") is (at is not None)
    if at:
        assert f"{found.at:%Y-%m-%d %H:%M}" == at
    assert any(why in line for line in (*found.because, found.skipped))
    assert found.key == "2026-06-12T18:00:00Z"  # wherever it went


def test_quiet_days_over_the_turn_of_the_year() -> None:
    found = falls(
        event("ours", 'when = "Friday 19:00"\n[calendar]\nquiet = ["12-24..01-02"]'), "2026-12-15", "2027-01-10"
    )
    assert [f"{one.at:%m-%d}" for one in found if one.skipped] == ["12-25", "01-01"]


def test_an_event_on_the_night_when_clocks_change() -> None:
    night = event("nightly", 'when = "daily 01:30"', "snapshot")
    spring = falls(night, "2026-03-28", "2026-03-30T12:00")
    assert [f"{one.at:%d %H:%M %Z}" for one in spring] == ["28 01:30 WET", "29 02:30 WEST", "30 01:30 WEST"]
    assert any("does not exist on that day" in line for line in spring[1].because)
    autumn = falls(night, "2026-10-24", "2026-10-26T12:00")
    assert [f"{one.at:%d %H:%M %Z}" for one in autumn] == ["24 01:30 WEST", "25 01:30 WEST", "26 01:30 WET"]
    assert any("comes twice" in line for line in autumn[1].because)


@pytest.mark.parametrize(
    ("told", "wrong"),
    [
        ('when = "yearly on 30 February"', "never comes"),
        ('rrule = "FREQ=MINUTELY"', "comes every minute"),
        ('rrule = "FREQ=DAILY;BYMINUTE=0,1,2"', "comes every 1 minute"),
        ('rrule = "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30"', "never comes"),
        ('rrule = "FREQ=SOMETIMES"', "lacks FREQ"),
        ('rrule = "FREQ=MONTHLY;BYDAY=9XX"', "no recurrence rule"),
        ('when = "hourly"', "more than once a day"),
        ('when = "when the moon is full"', "not understood"),
        ('when = "second Friday 25:00"', "no time of day"),
        ('when = "every 2 weeks on Friday"', "from when that counts"),
        ('when = "second Friday 19:00 except Friday"', "only of what comes by day or week"),
        ('when = "monthly on the 1st 12:00 except Monday"', "only of what comes by day or week"),
        ('when = "daily except Monday, Tuesday, Wednesday, Thursday, Friday, Saturday, Sunday"', "never comes"),
        ('when = "Friday 19:00"\nzone = "Atlantic/Nowhere"', "no time zone"),
        ('when = "Friday 19:00"\nmove = { "2026-03-27" = "2026-03-29 01:30" }', "does not exist in Atlantic/Faroe"),
        ('when = "Friday 19:00"\nskip = ["some day"]', "should hold dates"),
        ('when = "Friday 19:00"\nrrule = "FREQ=DAILY"', "tells not when, or twice"),
        ('after = { event = "relase", by = "1 hour" }', "no other event 'relase'"),
        ('when = "Friday 19:00"\ntell = ["soon"]', "lengths of time"),
        ('when = "Friday 19:00"\ntext = "in {hours}"', "no placeholder {hours}"),
        ('when = "Friday 19:00"\nmissed = "later"', "no choice"),
        ('when = "Friday 19:00"\nscopes = ["maps"]', "no scope 'maps'"),
        ('when = "Friday 19:00"\nset = { "../etc/x" = { a = "b" } }', "leads out of the server folder"),
        ('when = "Friday 19:00"\nwhne = "x"', "unknown key"),
    ],
)
def test_what_cannot_be_meant_is_told_with_its_line(told: str, wrong: str) -> None:
    text = VENDOR + event("ours", told.replace("scopes", "scopes"))
    if told.count("scopes"):
        text = text.replace('scopes = ["map"]\n', "", 1)
    with pytest.raises(UnreadableInput) as caught:
        config(text)
    assert any(wrong in fault.what and fault.place and fault.place.line for fault in caught.value.faults), str(
        caught.value
    )


def test_events_that_come_after_each_other_in_a_ring_are_refused() -> None:
    with pytest.raises(UnreadableInput, match="would come after itself"):
        config(
            event("a", 'after = { event = "b", by = "1 hour" }') + event("b", 'after = { event = "a", by = "1 hour" }')
        )


# --- iCalendar ------------------------------------------------------------------------------


def test_the_icalendar_file_is_read_back_as_it_was_meant() -> None:
    told = 'when = "second Friday 19:00"\ntell = ["1 day", "10 min"]\nmove = { "2026-12-11" = "2026-12-12 20:00" }\nskip = [2026-11-13]'
    now = datetime(2026, 10, 1, tzinfo=UTC)
    found = falls(VENDOR + event("ours", told), "2026-10-01", "2027-04-30")
    data = ics.ics(found, "Gannet Rock", now)
    assert data == ics.ics(found, "Gannet Rock", now)
    read = icalendar.Calendar.from_ical(data)
    events = read.walk("VEVENT")
    assert [one["DTSTART"].dt.astimezone(UTC) for one in events] == [one.at.astimezone(UTC) for one in found]
    assert len({one["UID"] for one in events}) == len(events)
    zones = {str(one["TZID"]) for one in read.walk("VTIMEZONE")}
    assert zones == {"Atlantic/Faroe", "America/Vancouver"}
    ours = [one for one in events if "ours" in one["SUMMARY"]]
    assert [str(one["STATUS"]) for one in ours].count("CANCELLED") == 1
    alarms = [alarm["TRIGGER"].dt for one in ours[:1] for alarm in one.walk("VALARM")]
    assert alarms == [-DAY, -timedelta(minutes=10)]
    # the zone as the file itself describes it gives the same moments, without any table of zones
    for zone in read.walk("VTIMEZONE"):
        described = zone.to_tz()
        for one, there in zip(events, found, strict=True):
            if str(there.event.zone) == str(zone["TZID"]):
                bare = one["DTSTART"].dt.replace(tzinfo=None)
                assert bare.replace(tzinfo=described).utcoffset() == there.at.utcoffset()


def test_a_moved_event_keeps_its_uid() -> None:
    plain = falls(event("ours", 'when = "second Friday 19:00"'), "2026-06-01", "2026-06-30")
    moved = falls(
        event("ours", 'when = "second Friday 19:00"\nmove = { "2026-06-12" = "2026-06-14 12:00" }'),
        "2026-06-01",
        "2026-06-30",
    )
    assert [ics.uid(one, "x") for one in plain] == [ics.uid(one, "x") for one in moved]


# --- what is due -----------------------------------------------------------------------------


def keep_with(tmp_path: Path, text: str) -> Keep:
    (tmp_path / "gannet-rock" / "outer-skerries").mkdir(parents=True)
    (tmp_path / "gannet-rock" / "outer-skerries" / "a").write_text("sea")
    folder = tmp_path / "gannet-rock.keep"
    folder.mkdir()
    (folder / "keep.toml").write_text(HEAD + text)
    return Keep(folder)


class Clock:
    def __init__(self, at: str) -> None:
        self.now = datetime.fromisoformat(at).replace(tzinfo=UTC)

    def __call__(self) -> datetime:
        return self.now

    def to(self, at: str) -> None:
        self.now = datetime.fromisoformat(at).replace(tzinfo=UTC)


def come_by(keep: Keep, clock: Clock) -> list[tuple[str, str, str]]:
    def context(store: Store, asked: Run) -> RunContext:
        return RunContext(keep, store, Journal(keep.folder), asked, clock)

    hands = due.Hands(context, clock, {})
    return [(one.event, one.part, one.state) for one in due.do(keep, hands)]


def test_what_is_due_is_done_once_and_told_ahead(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 04:00"\ntell = ["1 hour", "10 min"]', "snapshot"))
    clock = Clock("2026-06-01T01:30")
    assert come_by(keep, clock) == []
    clock.to("2026-06-01T02:02")  # 03:02 on the Faroes
    assert come_by(keep, clock) == [("nightly", "tell 1 hour", "told")]
    assert come_by(keep, clock) == []
    clock.to("2026-06-01T02:55")
    assert come_by(keep, clock) == [("nightly", "tell 10 minutes", "told")]
    clock.to("2026-06-01T03:01")
    assert come_by(keep, clock) == [("nightly", "", "done")]
    assert come_by(keep, clock) == []
    with_store = Store(keep.store_folder)
    assert with_store.numbers() == [1]
    with_store.close()


def test_only_the_last_of_several_missed_announcements_is_made(tmp_path: Path) -> None:
    keep = keep_with(
        tmp_path, event("nightly", 'when = "daily 04:00"\ntell = ["2 hours", "1 hour", "10 min"]', "snapshot")
    )
    clock = Clock("2026-06-01T00:30")
    come_by(keep, clock)
    clock.to("2026-06-01T02:30")
    assert come_by(keep, clock) == [("nightly", "tell 1 hour", "told")]
    assert come_by(keep, clock) == []


@pytest.mark.parametrize(
    ("policy", "late", "expected"),
    [
        ('missed = "late"', "2026-06-01T04:30", ["done"]),
        ('missed = "late"', "2026-06-01T06:00", ["missed"]),
        ('missed = "late"\nwithin = "6 hours"', "2026-06-01T06:00", ["done"]),
        ('missed = "skip"', "2026-06-01T03:10", ["done"]),
        ('missed = "skip"', "2026-06-01T03:20", ["missed"]),
        ('missed = "ask"', "2026-06-01T03:20", ["waits"]),
        ('missed = "late"', "2026-06-04T03:05", ["missed", "missed", "missed", "done"]),
    ],
)
def test_what_was_missed_by_its_policy(tmp_path: Path, policy: str, late: str, expected: list[str]) -> None:
    keep = keep_with(tmp_path, event("nightly", f'when = "daily 04:00"\n{policy}', "snapshot"))
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    clock.to(late)
    assert [state for _, _, state in come_by(keep, clock)] == expected
    assert come_by(keep, clock) == []


def test_what_waits_for_a_word_is_done_or_dropped_on_it(tmp_path: Path) -> None:
    for word in (True, False):
        keep = keep_with(tmp_path / str(word), event("nightly", 'when = "daily 04:00"\nmissed = "ask"', "snapshot"))
        clock = Clock("2026-06-01T02:00")
        come_by(keep, clock)
        clock.to("2026-06-01T09:00")
        come_by(keep, clock)
        assert "due --run" in due.waiting(keep)[0]
        hands = due.Hands(
            lambda store, run, keep=keep, clock=clock: RunContext(keep, store, Journal(keep.folder), run, clock),
            clock,
            {},
        )
        assert [one.state for one in due.decide(keep, "nightly", hands, run=word)] == ["done" if word else "missed"]
        assert due.waiting(keep) == []
        assert come_by(keep, clock) == []


def test_what_may_not_be_done_yet_is_done_once_it_may(tmp_path: Path) -> None:
    """Whether the server runs is looked at each time; meanwhile nothing counts as dealt with."""
    text = event("nightly", 'when = "daily 04:00"\nonly-if = "stopped"\ntell = ["10 min"]', "snapshot")
    keep = keep_with(tmp_path, text + '[process]\npid-file = "here.pid"\n')
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]) as process:
        (keep.server / "here.pid").write_text(f"{process.pid}\n")
        try:
            clock.to("2026-06-01T02:52")
            assert come_by(keep, clock) == [("nightly", "tell 10 minutes", "told")]  # it is told all the same
            clock.to("2026-06-01T03:01")
            assert come_by(keep, clock) == [("nightly", "", "not yet")]
            assert come_by(keep, clock) == [("nightly", "", "not yet")]
            assert not keep.store_folder.exists()
        finally:
            process.kill()
    assert come_by(keep, clock) == [("nightly", "", "done")]
    assert come_by(keep, clock) == []


def test_what_was_broken_off_is_told_and_done_on_a_word_alone(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 04:00"', "snapshot"))
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    clock.to("2026-06-01T03:01")
    (one,) = occurrences(keep.config, clock() - timedelta(minutes=5), clock())
    DueRecords(keep.folder).acquire("nightly", one.key, "", BEGUN, clock())  # and then the machine was switched off
    assert come_by(keep, clock) == []
    assert "broken off" in due.waiting(keep)[0]
    with due.exclusive_lock(keep):
        assert due.waiting(keep) == []  # somebody is at it
    hands = due.Hands(lambda store, run: RunContext(keep, store, Journal(keep.folder), run, clock), clock, {})
    assert [came.state for came in due.decide(keep, "nightly", hands, run=True)] == ["done"]
    assert due.waiting(keep) == []


def test_an_event_that_was_only_just_written_down_is_not_late(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 04:00"', "snapshot"))
    clock = Clock("2026-06-01T03:30")
    assert come_by(keep, clock) == []
    path = keep.folder / "keep.toml"
    path.write_text(path.read_text().replace("04:00", "04:20"))  # to a time that is over, too
    clock.to("2026-06-01T03:31")
    assert come_by(Keep(keep.folder), clock) == []
    clock.to("2026-06-02T03:21")
    assert [state for _, _, state in come_by(Keep(keep.folder), clock)] == ["done"]


def test_a_clock_that_is_put_back_repeats_nothing(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 01:30"', "snapshot"))
    clock = Clock("2026-10-24T12:00")
    come_by(keep, clock)
    done = []
    at = datetime(2026, 10, 24, 23, 50, tzinfo=UTC)
    while at < datetime(2026, 10, 25, 3, 0, tzinfo=UTC):  # 01:30 comes twice on the Faroes, and the machine's clock too
        for shaken in (at, at - timedelta(hours=1), at):
            clock.now = shaken
            done += come_by(keep, clock)
        at += timedelta(minutes=5)
    assert [state for _, _, state in done] == ["done"]
    (only,) = [one for one in DueRecords(keep.folder).all() if one.event == "nightly" and one.part == ""]
    assert only.planned == "2026-10-25T00:30:00Z"


def struck(tmp_path: Path, name: str, kind: str, more: str = "") -> tuple[Keep, Clock]:
    """A keep with a daily event that was known before, a minute after its time."""
    keep = keep_with(tmp_path, event(name, f'when = "daily 04:00"\n{more}', kind))
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    clock.to("2026-06-01T03:01")
    return keep, clock


def test_conditions_hold_it_until_they_are_met_or_it_is_too_late(tmp_path: Path) -> None:
    keep, clock = struck(tmp_path, "nightly", "snapshot", 'only-if = "running"')
    assert come_by(keep, clock) == [("nightly", "", "not yet")]
    assert "only if the server is running" in due.what_is_due(keep, clock())[0].words
    clock.to("2026-06-01T06:00")
    assert come_by(keep, clock) == [("nightly", "", "missed")]


def test_nothing_is_done_while_a_run_is_open(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 04:00"', "snapshot"))
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    run = Journal(keep.folder).begin(Run(0, "test", clock(), title="something"))
    clock.to("2026-06-01T03:01")
    assert come_by(keep, clock) == [("nightly", "", "not yet")]
    Journal(keep.folder).end(run, DONE, clock())
    assert come_by(keep, clock) == [("nightly", "", "done")]


def test_what_fails_is_told_and_not_tried_for_ever(tmp_path: Path) -> None:
    keep, clock = struck(tmp_path, "thinning", "thin")
    assert come_by(keep, clock) == [("thinning", "", "failed")]
    (row,) = [one for one in DueRecords(keep.folder).all() if one.state == "failed"]
    assert "no [ladder]" in row.said
    assert come_by(keep, clock) == []


def test_a_look_at_the_store_is_due_like_anything_else_and_tells_damage(tmp_path: Path) -> None:
    nightly = event("nightly", 'when = "daily 04:00"', "snapshot")
    keep = keep_with(tmp_path, nightly + event("look", 'when = "daily 05:00"\nshare = "100 %"', "verify"))
    (keep.server / "outer-skerries" / "b").write_bytes(random.Random(1).randbytes(5000))
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    clock.to("2026-06-01T04:30")
    assert come_by(keep, clock) == [("nightly", "", "done"), ("look", "", "done")]
    assert said_of(keep, "look") == "what was looked at is sound; blocks read: 1"
    (pack,) = keep.store_folder.glob("packs/*.pack")
    data = bytearray(pack.read_bytes())
    data[len(data) // 2] ^= 1
    pack.write_bytes(bytes(data))
    clock.to("2026-06-02T04:30")
    assert ("look", "", "failed") in come_by(keep, clock)
    assert "outer-skerries/b: its block is damaged or missing" in said_of(keep, "look")


def said_of(keep: Keep, name: str) -> str:
    """What came of an event the last time."""
    return [one.said for one in DueRecords(keep.folder).all() if one.event == name and one.said][-1]


def test_an_update_without_a_release_is_only_announced(tmp_path: Path) -> None:
    keep, clock = struck(tmp_path, "patch", "update")
    assert come_by(keep, clock) == [("patch", "", "told")]
    assert "no source and to" in said_of(keep, "patch")


def test_a_clock_that_runs_ahead_lets_no_snapshots_go(tmp_path: Path) -> None:
    ladder = '[ladder]\n"2 days" = "all"\n"2 months" = "one a day"\n'
    nightly = event("nightly", 'when = "daily 04:00"', "snapshot")
    keep = keep_with(tmp_path, nightly + event("thinning", 'when = "daily 05:00"', "thin") + ladder)
    clock = Clock("2026-06-01T02:00")
    come_by(keep, clock)
    for day in range(1, 6):
        clock.to(f"2026-06-0{day}T04:30")
        assert [state for _, _, state in come_by(keep, clock)] == ["done", "done"]
    clock.to("2038-01-19T05:30")  # where winter is, both hours have struck
    assert {name: state for name, _, state in come_by(keep, clock)} == {"nightly": "done", "thinning": "failed"}
    assert "by this clock (2038-01-19" in next(
        one.said for one in DueRecords(keep.folder).all() if one.state == "failed"
    )
    assert Store(keep.store_folder).numbers() == [1, 2, 3, 4, 5, 6]


@pytest.mark.long
def test_many_at_once_do_it_once(tmp_path: Path) -> None:
    """Real processes, started together, over an event that is due right now."""
    now = datetime.now(UTC)
    local = (now - timedelta(minutes=2)).astimezone(ZoneInfo("Atlantic/Faroe"))
    rule = f"FREQ=DAILY;BYHOUR={local.hour};BYMINUTE={local.minute};BYSECOND=0"
    keep = keep_with(tmp_path, event("nightly", f'rrule = "{rule}"', "snapshot"))
    with_events = keep.config.calendar.events
    DueRecords(keep.folder).acquire("nightly", due.signature(with_events[0]), "known since", DONE, now - 3 * DAY)
    stale = [now - n * DAY for n in (1, 2, 3)]  # earlier days were dealt with
    for day in stale:
        for one in occurrences(keep.config, day - timedelta(hours=1), day + timedelta(hours=1)):
            DueRecords(keep.folder).acquire("nightly", one.key, "", DONE, now)
    line = [sys.executable, "-m", "emberkeep", "--keep", str(keep.folder), "due", "--go", "--json"]
    started = [
        subprocess.Popen(line, stdout=subprocess.PIPE, stderr=subprocess.PIPE) for _ in range(depth.choose(6, 20))
    ]
    ended = [(process.communicate(timeout=120), process.returncode) for process in started]
    told = [json.loads(out) for (out, _), _ in ended]
    done = [one for answer in told for one in answer.get("due", []) if one["state"] == "done"]
    assert len(done) == 1, ended
    assert {code for _, code in ended} <= {0, 3}
    store = Store(keep.store_folder)
    assert store.numbers() == [1]
    store.close()


@given(st.integers(0, 10_000), st.lists(st.integers(1, 400), min_size=1, max_size=12))
def test_whenever_it_comes_by_everything_is_dealt_with_exactly_once(seed: int, steps: list[int]) -> None:
    """However long it was away: each occurrence is done or missed, one time each, never before its time."""
    told = config(
        event("nightly", 'when = "daily 04:00"', "snapshot") + event("weekly", 'when = "Sunday 18:00"', "verify")
    )
    now = datetime(2026, 3, 20, tzinfo=UTC) + timedelta(minutes=random.Random(seed).randrange(10_000))
    begun = now
    states: dict[tuple[str, str, str], str] = {}
    since = {"nightly": now, "weekly": now}
    for step in steps:
        now += timedelta(minutes=step * 17)
        for duty in duties(told, states, since, now):
            assert duty.key not in states
            assert duty.occurrence.at <= now
            assert duty.verdict in (Verdict.DO, Verdict.MISSED)
            assert (duty.verdict is Verdict.DO) == (now - duty.occurrence.at <= timedelta(hours=2))
            states[duty.key] = "done"
    expected = {(one.event.name, one.key, "") for one in occurrences(told, begun, now)}
    assert states.keys() == expected


# --- the commands -----------------------------------------------------------------------------


@pytest.fixture
def program(tmp_path: Path) -> Iterator[Callable[..., Any]]:
    text = (
        VENDOR
        + event("our wipe", 'when = "second Friday 19:00"\ntell = ["1 day"]')
        + event("nightly", 'when = "daily 04:00"', "snapshot")
    )
    keep = keep_with(tmp_path, text)

    def run(*words: str) -> Any:
        return run_program("--keep", str(keep.folder), *words, cwd=tmp_path)

    yield run


def test_the_calendar_is_shown_explained_drawn_and_exported(program: Callable[..., Any], tmp_path: Path) -> None:
    shown = program("calendar", "--days", "70", "--png", "line.png", "--ics", "coming.ics")
    assert shown.code == 0, shown.err
    assert "our wipe" in shown.out
    assert "Tue 14:00 Vancouver" in shown.out
    assert any(f"{month.capitalize()} 20" in shown.out for month in MONTHS)
    assert "nightly" not in shown.out.split("besides:")[0]
    assert (tmp_path / "line.png").read_bytes()[:4] == b"\x89PNG"
    assert icalendar.Calendar.from_ical((tmp_path / "coming.ics").read_bytes()).walk("VEVENT")
    told = program("calendar", "--days", "70", "--explain", "our wipe")
    assert "is the 2nd Friday of" in told.out
    assert "FREQ=MONTHLY;BYDAY=2FR" in told.out
    told = program("calendar", "--json").json
    assert {one["event"] for one in told["coming"]} >= {"nightly"}
    assert program("calendar", "--explain", "our wip").code == 2


def test_survey_tells_what_comes_next_and_what_waits(program: Callable[..., Any]) -> None:
    told = program("survey")
    line = next(line for line in told.out.splitlines() if line.startswith("next: "))
    assert all(name in line for name in ("release", "our wipe", "nightly"))


def test_lines_for_cron_and_systemd_are_printed_and_nothing_is_installed(
    program: Callable[..., Any], tmp_path: Path
) -> None:
    before = sorted(os.listdir(tmp_path))
    told = program("calendar", "--install")
    assert told.code == 0
    line = next(line for line in told.out.splitlines() if line.startswith("*/5 * * * *"))
    assert line.endswith(f"--keep {tmp_path / 'gannet-rock.keep'} due --go")
    run = subprocess.run(
        ["sh", "-c", line.removeprefix("*/5 * * * * ").replace("\\%", "%")], capture_output=True, check=False
    )
    assert (run.returncode, run.stdout, run.stderr) == (0, b"", b"")
    assert "OnCalendar=*:0/5" in told.out
    assert sorted(os.listdir(tmp_path)) == before
    assert program("calendar", "--install", "--write", "timers").code == 0
    files = {path.name: path.read_text() for path in (tmp_path / "timers").iterdir()}
    assert sorted(files) == [f"emberkeep-due.{kind}" for kind in ("cron", "service", "timer", "xml")]
    assert line in files["emberkeep-due.cron"]
    task = ElementTree.fromstring(files["emberkeep-due.xml"])
    inner = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
    assert task.findtext(f".//{inner}Arguments") == f'--keep "{tmp_path / "gannet-rock.keep"}" due --go'
    assert task.findtext(f".//{inner}Interval") == "PT5M"
    assert program("calendar", "--write", "timers").code == 2


def test_due_shows_before_it_does_and_is_quiet_when_there_is_nothing(
    program: Callable[..., Any], tmp_path: Path
) -> None:
    shown = program("due")
    assert (shown.code, shown.out) == (0, "Nothing is due.\n")
    done = program("due", "--go")
    assert (done.code, done.out, done.err) == (0, "", "")
    assert program("due", "--drop", "our wipe", "--go").code == 3


def test_an_event_is_done_at_once_where_it_is_asked_for(program: Callable[..., Any]) -> None:
    """Missed or not; its own days stay as they are."""
    coming = program("calendar", "--json").json["coming"]
    shown = program("due", "--run", "nightly")
    assert (shown.code, "nightly" in shown.out, "now, as it is asked for" in shown.out) == (0, True, True)
    assert program("history", "--json").json["snapshots"] == []
    done = program("due", "--run", "nightly", "--go")
    assert (done.code, "done: snapshot 1" in done.out) == (0, True), done
    assert program("due", "--run", "nightly", "--go").code == 0
    assert len(program("history", "--json").json["snapshots"]) == 2
    assert program("calendar", "--json").json["coming"] == coming
    unknown = program("due", "--run", "nihgtly", "--go")
    assert (unknown.code, "did you mean 'nightly'?" in unknown.err) == (2, True)


def test_events_are_asked_for_where_there_are_none(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, "")
    told = run_program("--keep", str(keep.folder), "calendar", cwd=tmp_path)
    assert (told.code, "no [[event]]" in told.err) == (2, True)
    assert run_program("--keep", str(keep.folder), "due", cwd=tmp_path).out == "keep.toml has no [[event]].\n"
    assert run_program("--keep", str(keep.folder), "due", "--go", cwd=tmp_path).out == ""


# --- who is told of what failed ---------------------------------------------------------------------


class Mailbox:
    """Keeps what a real SMTP server is handed."""

    def __init__(self) -> None:
        self.mails: list[EmailMessage] = []

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802
        self.mails.append(message_from_bytes(envelope.content, policy=policy.default))
        return "250 OK"


@pytest.fixture
def mailbox() -> Iterator[tuple[Mailbox, int]]:
    box = Mailbox()
    controller = Controller(box, hostname="127.0.0.1", port=free_ports(1)[0])
    controller.start()
    yield box, controller.port
    controller.stop()


class _Signs(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.server.asked.append(self.path)
        self.send_response(200 if self.path != "/gone" else 404)
        self.end_headers()

    def log_message(self, *words: object) -> None:
        """Says nothing."""


@pytest.fixture
def signs_of_life() -> Iterator[Any]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Signs)
    server.asked = []
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield server
    server.shutdown()
    server.server_close()


def failing(tmp_path: Path, told: str) -> Keep:
    """A keep whose event fails: a wipe that would clear everything."""
    return keep_with(tmp_path, event("our wipe", 'when = "second Friday 19:00"') + told)


def run_due(keep: Keep, *words: str, **environment: str) -> Any:
    return run_program("--keep", str(keep.folder), "due", *words, cwd=keep.folder.parent, environment=environment)


@pytest.mark.skipif(os.name == "nt", reason="a script of sh")
def test_what_failed_is_mailed_paged_and_posted(tmp_path: Path, mailbox: tuple[Mailbox, int]) -> None:
    box, port = mailbox
    receiver = Receiver(tmp_path)
    threading.Thread(target=receiver.serve_forever, daemon=True).start()
    page = tmp_path / "page.sh"
    page.write_text('#!/bin/sh\nprintf "%s|%s" "$1" "$ROCK_SECRET" > paged\n')
    page.chmod(0o755)
    told = f"""
[[webhook]]
name = "board"
address = {{ env = "ROCK_HOOK" }}
[due]
webhook = ["board"]
mail = {{ to = ["una@rock.example"], from = "rock@rock.example", host = "127.0.0.1", port = {port} }}
command = ["{page}", "{{text}}"]
"""
    keep = failing(tmp_path, told)
    done = run_due(keep, "--run", "our wipe", "--go", ROCK_HOOK=receiver.address, ROCK_SECRET="a word")
    receiver.shutdown()
    assert done.code == 1, done
    words = "our wipe: failed. the scope 'map' would clear everything"
    (mail,) = box.mails
    assert (mail["To"], mail["Subject"]) == ("una@rock.example", "Ember Keep: Gannet Rock")
    assert words in mail.get_content()
    assert (keep.folder / "paged").read_text() == f"Gannet Rock: {words}|"  # with none of our secrets
    assert words in (tmp_path / "posted.jsonl").read_text()
    assert "!" not in done.out


def test_nobody_is_told_when_all_went_well_but_whoever_waits_for_a_sign(tmp_path: Path, signs_of_life: Any) -> None:
    address = f"http://127.0.0.1:{signs_of_life.server_port}/rock"
    told = f'[due]\nping = "{address}"\ncommand = ["/nowhere/at/all", "{{text}}"]\n'
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 04:00"', "snapshot") + told)
    assert run_due(keep, "--go").out == ""
    assert run_due(keep, "--run", "nightly", "--go").code == 0
    assert signs_of_life.asked == ["/rock", "/rock"]
    assert run_due(keep).code == 0
    assert signs_of_life.asked == ["/rock", "/rock"]  # nothing was done


def test_whom_it_cannot_tell_is_said_and_stops_no_other(tmp_path: Path, signs_of_life: Any) -> None:
    told = f"""
[due]
ping = {{ env = "ROCK_PING" }}
command = ["/nowhere/at/all", "{{text}}"]
mail = {{ to = ["una@rock.example"], from = "rock@rock.example", host = "127.0.0.1", port = {free_ports(1)[0]} }}
"""
    keep = failing(tmp_path, told)
    gone = f"http://127.0.0.1:{signs_of_life.server_port}/gone"
    done = run_due(keep, "--run", "our wipe", "--go", ROCK_PING=gone)
    assert done.code == 1
    lines = [line for line in done.out.splitlines() if line.startswith("!")]
    assert [line.split(":")[0] for line in lines] == ["! mail to una@rock.example", "! command", "! ping"]
    assert "it answered 404" in lines[2]
    assert "ROCK_PING is not set" in run_due(keep, "--go").out


@pytest.mark.parametrize(
    ("told", "what"),
    [
        ('ping = "rock.example"', "is no address"),
        ('webhook = ["board"]', "there is no [[webhook]] 'board'"),
        ('command = ["./page.sh"]', "should hold {text}"),
        ('mail = { from = "a@b.example" }', "whom to?"),
        ('mail = { to = ["a@b.example"] }', "lacks the key 'from'"),
        ('mail = { to = ["a@b.example"], from = "c@d.example", user = "c" }', "only sent encrypted"),
        ('mail = { to = ["a@b.example, e@f.example"], from = "c@d.example" }', "one address each"),
        ("pinng = 1", "did you mean 'ping'?"),
    ],
)
def test_what_cannot_be_meant_of_who_is_told(tmp_path: Path, told: str, what: str) -> None:
    with pytest.raises(UnreadableInput) as caught:
        failing(tmp_path, f"[due]\n{told}\n")
    assert what in "\n".join(f"{fault} {fault.hint}" for fault in caught.value.faults)


def test_check_tells_when_nobody_comes_by_to_do_what_is_due(tmp_path: Path) -> None:
    keep = keep_with(tmp_path, event("nightly", 'when = "daily 04:00"', "snapshot"))
    clock = Clock("2026-06-01T02:00")

    def unasked() -> list[str]:
        found = readiness.check(keep, {}, clock())
        return [one.fault.what for one in found.obstacles if one.area == "events"]

    assert ["so far" in what for what in unasked()] == [True]
    come_by(keep, clock)
    assert unasked() == []
    clock.to("2026-06-01T02:55")
    assert unasked() == []
    clock.to("2026-06-01T03:05")
    assert ["since 2026-06-01" in what for what in unasked()] == [True]
