"""When something comes round: RFC 5545 recurrence rules, and plain words that are turned into one.

Words, whatever their case::

    daily 04:00 · every 3 days 04:00 · hourly · every 6 hours · weekdays 05:00 · Friday 19:00
    Monday and Thursday 05:00 · every 2 weeks on Friday 18:00 · every other Friday 18:00 · second Friday 19:00
    first and third Monday 20:00 · last Sunday 18:00 · monthly on the 1st 12:00
    monthly on the 1st and 15th · monthly on the last day 23:00
    every 2 months on the first Friday 18:00 · quarterly on the 1st 12:00 · yearly on 24 December 18:00

and behind any of them ``except December``, ``except Sunday``, ``in June and July``. Without a time it is 00:00. The
times are local ones; a time that a clock change leaves out is taken as far behind the change as it lies behind its
beginning (02:30 becomes 03:30), of one that comes twice the first is meant (RFC 5545, section 3.3.5).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from datetime import time as clock
from enum import StrEnum
from itertools import pairwise
from typing import Any
from zoneinfo import ZoneInfo

DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
)
_CODES = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_ORDINALS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
_FREQUENCIES = ("YEARLY", "MONTHLY", "WEEKLY", "DAILY", "HOURLY")
LOOKED_AHEAD = 40
"""Years in which a rule must come round at least once."""
LEAST_APART = timedelta(minutes=10)
NEVER = ("it never comes: no day fits it", "30 February, for one, is on no calendar")
LOOKED_AT = 60
"""Occurrences whose distance is looked at."""


class NotUnderstood(Exception):
    """Words or a rule that cannot be meant; ``hint``: what to write instead."""

    def __init__(self, what: str, hint: str = "") -> None:
        super().__init__(what)
        self.hint = hint


class Shift(StrEnum):
    """What a clock change does to a local time."""

    NONE = ""
    LEFT_OUT = "left out"
    TWICE = "twice"


@dataclass(frozen=True)
class Recurrence:
    """``rule``: an RRULE value; ``at``: the local time of day where the rule tells none; ``start``: from when it
    counts, None where that makes no difference; ``words``: as the admin told it."""

    rule: str
    at: clock = clock()
    start: datetime | None = None
    words: str = ""

    def between(self, first: datetime, last: datetime, zone: ZoneInfo) -> Iterator[datetime]:
        """The local times (without zone) from ``first`` to ``last``, both local and included, ascending."""
        begin = self.start or datetime.combine(date(first.year - 1, 1, 1), self.at)
        yield from (found for found in _rule(self.rule, begin, zone).between(first, last, inc=True))


def from_rule(text: str, start: date | datetime | None, zone: ZoneInfo) -> Recurrence:
    """A rule as RFC 5545 writes it. NotUnderstood for one that cannot be read, never comes, or comes all the time."""
    parts = dict(_part(part) for part in text.removeprefix("RRULE:").strip().upper().split(";") if part)
    frequency = parts.get("FREQ", "")
    if frequency in ("SECONDLY", "MINUTELY"):
        raise NotUnderstood(f"it comes every {frequency[:-2].lower()}", "HOURLY is the most that makes sense here")
    if frequency not in _FREQUENCIES:
        raise NotUnderstood("it lacks FREQ", f"as FREQ=MONTHLY;BYDAY=2FR, FREQ one of {', '.join(_FREQUENCIES)}")
    days = {"BYDAY", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYEASTER"} & parts.keys()
    counted = parts.get("INTERVAL", "1") != "1" or "COUNT" in parts
    if start is None and (counted or (frequency in ("WEEKLY", "MONTHLY", "YEARLY") and not days)):
        raise NotUnderstood("it must be told from when it counts", "as start = 2026-09-04")
    at = start.time() if isinstance(start, datetime) else clock()
    begin = datetime.combine(start, at) if start is not None else None
    ordered = {"FREQ": parts.pop("FREQ"), **parts}
    found = Recurrence(";".join(f"{name}={value}" for name, value in ordered.items()), at, begin)
    _check(found, zone)
    return found


def _part(text: str) -> tuple[str, str]:
    name, sign, value = text.partition("=")
    if not sign or not value:
        raise NotUnderstood(f"'{text}' in it is no NAME=VALUE", "as FREQ=MONTHLY;BYDAY=2FR")
    return name.strip(), value.strip()


def _rule(rule: str, begin: datetime, zone: ZoneInfo) -> Any:
    from dateutil.rrule import rrulestr  # only where there are events

    until = re.search(r"UNTIL=(\d{8}T\d{6})Z", rule)
    if until:  # told in UTC, as the standard wants where there is a zone; the arithmetic is in local time
        moment = datetime.strptime(until[1], "%Y%m%dT%H%M%S").replace(tzinfo=UTC).astimezone(zone)
        rule = rule.replace(until[0], f"UNTIL={moment:%Y%m%dT%H%M%S}")
    try:
        return rrulestr(rule, dtstart=begin)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise NotUnderstood(f"it is no recurrence rule: {error}", "as FREQ=MONTHLY;BYDAY=2FR (RFC 5545)") from error


def _check(found: Recurrence, zone: ZoneInfo) -> None:
    begin = found.start or datetime.combine(date(2024, 1, 1), found.at)
    try:
        _check_some_day_fits(found.rule, begin, zone)
        rule = _rule(found.rule, begin, zone)
        end = begin.replace(year=begin.year + LOOKED_AHEAD, day=min(begin.day, 28))
        if "UNTIL=" not in found.rule and "COUNT=" not in found.rule:
            rule = rule.replace(until=end)
        first: list[datetime] = []
        for moment in rule:
            first.append(moment)
            if len(first) >= LOOKED_AT:
                break
    except (ValueError, OverflowError) as error:
        raise NotUnderstood(f"it is no recurrence rule: {error}") from error
    if not first:
        raise NotUnderstood(*NEVER)
    closest = min((later - earlier for earlier, later in pairwise(first)), default=LEAST_APART)
    if closest < LEAST_APART:
        raise NotUnderstood(f"it comes every {closest.total_seconds() / 60:g} minutes", "10 minutes apart is the least")


def _check_some_day_fits(rule: str, begin: datetime, zone: ZoneInfo) -> None:
    """Of rules by day or hour, whether a day of any year fits: going through every one of them takes long."""
    if not rule.startswith(("FREQ=DAILY", "FREQ=HOURLY")):
        return
    days = [part for part in rule.split(";") if part.startswith(("BYMONTH", "BYDAY", "BYYEARDAY", "BYWEEKNO"))]
    january = begin.replace(month=1, day=1)  # where no day is told, the day it begins on counts
    if days and next(iter(_rule(";".join(["FREQ=YEARLY", *days]), january, zone)), None) is None:
        raise NotUnderstood(*NEVER)


# --- words --------------------------------------------------------------------------


_DAY = "|".join(DAYS)
_DAY_LIST = rf"(?:{_DAY})s?(?:(?:,| and|, and) (?:{_DAY})s?)*"
_NTH = r"(?:\d{1,2}(?:st|nd|rd|th)|last day)"
_NTH_LIST = rf"{_NTH}(?:(?:,| and|, and) (?:the )?{_NTH})*"
_ORDINAL_LIST = (
    r"(?:first|second|third|fourth|fifth|last)(?:(?:,| and|, and) (?:first|second|third|fourth|fifth|last))*"
)
_MONTH_LIST = rf"(?:{'|'.join(MONTHS)})(?:(?:,| and|, and) (?:{'|'.join(MONTHS)}))*"
_EVERY_MONTHS = r"(?P<months>monthly|every month|every (?P<n_months>\d+) months|quarterly|every quarter) on (?:the )?"

_FORMS = tuple(
    re.compile(form)
    for form in (
        r"(?P<daily>daily|every day)",
        r"every (?P<n_days>\d+) days",
        r"(?P<hourly>hourly|every hour)",
        r"every (?P<n_hours>\d+) hours",
        r"(?P<weekdays>(?:every )?weekdays?)",
        r"(?P<weekends>(?:every )?weekends?)",
        rf"(?:every |weekly on |every week on |on )?(?P<weekly>{_DAY_LIST})",
        rf"every (?P<n_weeks>\d+) weeks on (?P<weekly>{_DAY_LIST})",
        rf"(?P<other>every other week on|every other) (?P<weekly>{_DAY_LIST})",
        rf"(?:every |the )?(?P<ordinals>{_ORDINAL_LIST}) (?P<of>{_DAY})(?: of (?:the|every|each) month)?",
        rf"{_EVERY_MONTHS}(?P<ordinals>{_ORDINAL_LIST}) (?P<of>{_DAY})",
        rf"{_EVERY_MONTHS}(?P<dates>{_NTH_LIST})",
        rf"(?:yearly on|every year on|every) (?P<day>\d{{1,2}}) (?P<month>{'|'.join(MONTHS)})",
    )
)
_TIME = re.compile(r"(?:\bat )?\b(\d{1,2}):(\d{2})\b")
_EXCEPT = re.compile(rf"\bexcept (?:in |on )?(?P<but>{_MONTH_LIST}|{_DAY_LIST})\b")
_ONLY = re.compile(rf"\b(?:only )?in (?P<only>{_MONTH_LIST})\b")
_EXAMPLES = 'as "second Friday 19:00", "every 2 weeks on Friday 18:00" or "monthly on the 1st except December"'


def from_words(text: str, start: date | datetime | None, zone: ZoneInfo) -> Recurrence:
    """Plain words as a recurrence. NotUnderstood with the forms that are."""
    left = " ".join(text.lower().split())
    at, left = _time_in(left, text)
    but, left = _taken(_EXCEPT, "but", left)
    only, left = _taken(_ONLY, "only", left)
    left = " ".join(left.split()).strip(" ,")
    found = next((match for form in _FORMS if (match := form.fullmatch(left))), None)
    if found is None:
        raise NotUnderstood(f"'{text}' is not understood", _EXAMPLES)
    parts = _parts({name: part for name, part in found.groupdict().items() if part}, text)
    _limit(parts, but, only, text)
    parts.setdefault("BYHOUR", str(at.hour))
    parts.setdefault("BYMINUTE", str(at.minute))
    parts.setdefault("BYSECOND", "0")
    if "INTERVAL" in parts and start is None:
        raise NotUnderstood("it must be told from when that counts", "as start = 2026-09-04")
    begin = datetime.combine(start, at) if start is not None else None
    recurrence = Recurrence(";".join(f"{name}={value}" for name, value in parts.items()), at, begin, text)
    _check(recurrence, zone)
    return recurrence


def _time_in(left: str, text: str) -> tuple[clock, str]:
    times = _TIME.findall(left)
    if len(times) > 1:
        raise NotUnderstood(f"'{text}' tells more than one time", "make it two events")
    if not times:
        return clock(), left
    hour, minute = map(int, times[0])
    if hour > 23 or minute > 59:
        raise NotUnderstood(f"{times[0][0]}:{times[0][1]} is no time of day", "from 00:00 to 23:59")
    return clock(hour, minute), _TIME.sub("", left)


def _taken(form: re.Pattern[str], name: str, left: str) -> tuple[list[str], str]:
    found = form.search(left)
    return ([], left) if found is None else (_words(found[name]), left[: found.start()] + left[found.end() :])


def _words(text: str) -> list[str]:
    return [word for word in re.split(r"[ ,]+", text) if word not in ("and", "the", "")]


def _parts(parts: dict[str, str], text: str) -> dict[str, str]:
    """The rule's parts for what was told."""
    if "daily" in parts or "n_days" in parts:
        return {"FREQ": "DAILY", **_interval(parts.get("n_days"))}
    if "hourly" in parts or "n_hours" in parts:
        every = int(parts.get("n_hours", "1"))
        if not every or 24 % every:
            raise NotUnderstood(f"'{text}': the hours must divide the day", "1, 2, 3, 4, 6, 8 or 12 of them")
        return {"FREQ": "DAILY", "BYHOUR": ",".join(str(hour) for hour in range(0, 24, every))}
    if "weekdays" in parts or "weekends" in parts:
        return {"FREQ": "WEEKLY", "BYDAY": ",".join(_CODES[:5] if "weekdays" in parts else _CODES[5:])}
    if "weekly" in parts:
        weeks = parts.get("n_weeks") or ("2" if "other" in parts else None)
        return {"FREQ": "WEEKLY", **_interval(weeks), "BYDAY": ",".join(_day(word) for word in _words(parts["weekly"]))}
    if "day" in parts:
        month = MONTHS.index(parts["month"]) + 1
        return {"FREQ": "YEARLY", "BYMONTH": str(month), "BYMONTHDAY": parts["day"]}
    base = {"FREQ": "MONTHLY", **_interval(parts.get("n_months"))}
    if "quarter" in parts.get("months", ""):
        base["BYMONTH"] = "1,4,7,10"
    if "ordinals" in parts:
        numbers = [_ORDINALS[word] for word in _words(parts["ordinals"])]
        return {**base, "BYDAY": ",".join(f"{number}{_day(parts['of'])}" for number in numbers)}
    days = ["-1" if found == "last day" else re.sub(r"\D", "", found) for found in re.findall(_NTH, parts["dates"])]
    if not all(day == "-1" or 1 <= int(day) <= 31 for day in days):
        raise NotUnderstood(f"'{text}': no month has such a day")
    return {**base, "BYMONTHDAY": ",".join(days)}


def _interval(text: str | None) -> dict[str, str]:
    return {"INTERVAL": str(int(text))} if text and int(text) != 1 else {}


def _day(word: str) -> str:
    return _CODES[DAYS.index(word if word in DAYS else word.removesuffix("s"))]


def _limit(parts: dict[str, str], but: list[str], only: list[str], text: str) -> None:
    """``except`` and ``in``: as months or weekdays that are left."""
    months = set(range(1, 13))
    if only:
        months &= {MONTHS.index(word) + 1 for word in only}
    if but and but[0] in MONTHS:
        months -= {MONTHS.index(word) + 1 for word in but}
    if len(months) < 12:
        month_list = parts.get("BYMONTH")
        left = months & set(map(int, month_list.split(","))) if month_list else months
        if not left:
            raise NotUnderstood(f"'{text}' never comes: every month is left out")
        parts["BYMONTH"] = ",".join(map(str, sorted(left)))
    if but and but[0] not in MONTHS:
        gone = {_day(word) for word in but}
        there = parts.get("BYDAY", ",".join(_CODES)).split(",")
        if parts["FREQ"] not in ("DAILY", "WEEKLY"):
            raise NotUnderstood(f"'{text}': a weekday can be left out only of what comes by day or week")
        parts["BYDAY"] = ",".join(code for code in there if code not in gone)
        if not parts["BYDAY"]:
            raise NotUnderstood(f"'{text}' never comes: every day is left out")


# --- local times ----------------------------------------------------------------------


def placed(local: datetime, zone: ZoneInfo) -> tuple[datetime, Shift]:
    """The moment that a local time means, and what a clock change does to it."""
    aware = local.replace(tzinfo=zone, fold=0)
    there = aware.astimezone(UTC).astimezone(zone)
    if there.replace(tzinfo=None, fold=0) != local:
        return there, Shift.LEFT_OUT
    twice = aware.replace(fold=1).utcoffset() != aware.utcoffset()
    return aware, Shift.TWICE if twice else Shift.NONE


def which_of_month(day: date) -> str:
    """Which weekday of its month a day is: ``the 2nd Friday of November 2026``."""
    number = (day.day - 1) // 7 + 1
    ending = {1: "st", 2: "nd", 3: "rd"}.get(number, "th")
    last = " and the last" if (day + timedelta(days=7)).month != day.month else ""
    weekday, month = DAYS[day.weekday()].capitalize(), MONTHS[day.month - 1].capitalize()
    return f"the {number}{ending}{last} {weekday} of {month} {day.year}"
