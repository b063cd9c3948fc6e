"""Words and rules of what comes round: what each form becomes, to the letter, and what is refused and why."""

from __future__ import annotations

from datetime import date, datetime, time
from zoneinfo import ZoneInfo

import pytest

from emberkeep.keep import recurrence
from emberkeep.keep.recurrence import NotUnderstood, Recurrence, Shift, from_rule, from_words, placed, which_of_month

UTC = ZoneInfo("UTC")
START = date(2026, 9, 4)


def rule_of(words: str, start: date | None = None) -> str:
    return from_words(words, start, UTC).rule


@pytest.mark.parametrize(
    ("words", "rule"),
    [
        ("daily", "FREQ=DAILY;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("Every Day at 04:05", "FREQ=DAILY;BYHOUR=4;BYMINUTE=5;BYSECOND=0"),
        ("every 1 days 04:00", "FREQ=DAILY;BYHOUR=4;BYMINUTE=0;BYSECOND=0"),
        ("hourly", f"FREQ=DAILY;BYHOUR={','.join(map(str, range(24)))};BYMINUTE=0;BYSECOND=0"),
        ("every hour", f"FREQ=DAILY;BYHOUR={','.join(map(str, range(24)))};BYMINUTE=0;BYSECOND=0"),
        ("every 8 hours", "FREQ=DAILY;BYHOUR=0,8,16;BYMINUTE=0;BYSECOND=0"),
        ("every 24 hours", "FREQ=DAILY;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("weekdays 05:00", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=5;BYMINUTE=0;BYSECOND=0"),
        ("every weekend", "FREQ=WEEKLY;BYDAY=SA,SU;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("Fridays 19:30", "FREQ=WEEKLY;BYDAY=FR;BYHOUR=19;BYMINUTE=30;BYSECOND=0"),
        ("Monday, Wednesday and Friday", "FREQ=WEEKLY;BYDAY=MO,WE,FR;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("second Friday 19:00", "FREQ=MONTHLY;BYDAY=2FR;BYHOUR=19;BYMINUTE=0;BYSECOND=0"),
        ("first and last Monday of the month", "FREQ=MONTHLY;BYDAY=1MO,-1MO;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("every month on the third Sunday", "FREQ=MONTHLY;BYDAY=3SU;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("monthly on the 1st and the last day 23:00", "FREQ=MONTHLY;BYMONTHDAY=1,-1;BYHOUR=23;BYMINUTE=0;BYSECOND=0"),
        ("monthly on the 31st", "FREQ=MONTHLY;BYMONTHDAY=31;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("quarterly on the 1st 12:00", "FREQ=MONTHLY;BYMONTH=1,4,7,10;BYMONTHDAY=1;BYHOUR=12;BYMINUTE=0;BYSECOND=0"),
        ("yearly on 24 December 18:00", "FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=24;BYHOUR=18;BYMINUTE=0;BYSECOND=0"),
        ("yearly on 29 February", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("daily except Sunday", "FREQ=DAILY;BYDAY=MO,TU,WE,TH,FR,SA;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("weekdays except Monday and Tuesday", "FREQ=WEEKLY;BYDAY=WE,TH,FR;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("daily in June and July", "FREQ=DAILY;BYMONTH=6,7;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("daily in June and July except July", "FREQ=DAILY;BYMONTH=6;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("quarterly on the 1st except April", "FREQ=MONTHLY;BYMONTH=1,7,10;BYMONTHDAY=1;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("second Friday 19:00 except December", "FREQ=MONTHLY;BYDAY=2FR;BYMONTH=1,2,3,4,5,6,7,8,9,10,11;BYHOUR=19;BYMINUTE=0;BYSECOND=0"),
    ],
)  # fmt: skip
def test_what_words_become(words: str, rule: str) -> None:
    assert rule_of(words) == rule
    assert rule_of(words.upper()) == rule
    assert from_words(words, None, UTC).words == words
    assert from_words(words, None, UTC).start is None


@pytest.mark.parametrize(
    ("words", "rule"),
    [
        ("every 3 days 04:00", "FREQ=DAILY;INTERVAL=3;BYHOUR=4;BYMINUTE=0;BYSECOND=0"),
        ("every other Friday 18:00", "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR;BYHOUR=18;BYMINUTE=0;BYSECOND=0"),
        ("every other week on Friday", "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        ("every 3 weeks on Monday and Friday", "FREQ=WEEKLY;INTERVAL=3;BYDAY=MO,FR;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
        (
            "every 2 months on the first Friday 18:00",
            "FREQ=MONTHLY;INTERVAL=2;BYDAY=1FR;BYHOUR=18;BYMINUTE=0;BYSECOND=0",
        ),
        ("every 2 months on the 15th", "FREQ=MONTHLY;INTERVAL=2;BYMONTHDAY=15;BYHOUR=0;BYMINUTE=0;BYSECOND=0"),
    ],
)
def test_what_is_counted_needs_to_know_from_when(words: str, rule: str) -> None:
    with pytest.raises(NotUnderstood, match="from when that counts"):
        rule_of(words)
    assert rule_of(words, START) == rule
    told = from_words(words, datetime(2026, 9, 4, 7, 30), UTC)
    assert told.start is not None and told.start.date() == START
    assert told.at == told.start.time() == (time(int(words[-5:-3]), 0) if ":" in words else time())


@pytest.mark.parametrize(
    ("words", "wrong"),
    [
        ("", "not understood"),
        ("sometimes", "not understood"),
        ("daily 04:00 05:00", "more than one time"),
        ("daily 24:00", "no time of day"),
        ("daily 23:60", "no time of day"),
        ("every 5 hours", "must divide the day"),
        ("every 0 hours", "must divide the day"),
        ("monthly on the 32nd", "no month has such a day"),
        ("monthly on the 0th", "no month has such a day"),
        ("yearly on 30 February", "never comes"),
        ("yearly on 31 April", "never comes"),
        ("monthly on the 30th in February", "never comes"),
        ("quarterly on the 1st in May", "every month is left out"),
        ("daily in June except June", "every month is left out"),
        ("second Friday except Monday", "only of what comes by day or week"),
        ("weekends except Saturday and Sunday", "every day is left out"),
    ],
)
def test_words_that_cannot_be_meant(words: str, wrong: str) -> None:
    with pytest.raises(NotUnderstood, match=wrong) as caught:
        rule_of(words, START)
    assert caught.value.hint not in str(caught.value) or not caught.value.hint


def test_the_last_time_of_day_and_day_of_a_month_are_fine() -> None:
    assert from_words("daily 23:59", None, UTC).at == time(23, 59)
    assert from_words("daily 0:00", None, UTC).at == time()
    assert rule_of("monthly on the 31st except February").count("BYMONTHDAY=31") == 1


@pytest.mark.parametrize(
    ("rule", "start", "becomes"),
    [
        ("RRULE:byday=2fr;freq=monthly", None, "FREQ=MONTHLY;BYDAY=2FR"),
        ("FREQ=DAILY", None, "FREQ=DAILY"),
        ("FREQ=HOURLY;BYHOUR=1,2", None, "FREQ=HOURLY;BYHOUR=1,2"),
        ("FREQ=DAILY;INTERVAL=1", None, "FREQ=DAILY;INTERVAL=1"),
        ("FREQ=WEEKLY;BYDAY=MO;", None, "FREQ=WEEKLY;BYDAY=MO"),
        ("FREQ=YEARLY;BYEASTER=-2", None, "FREQ=YEARLY;BYEASTER=-2"),
        ("FREQ=WEEKLY", START, "FREQ=WEEKLY"),
        ("FREQ=DAILY;INTERVAL=3", START, "FREQ=DAILY;INTERVAL=3"),
        ("FREQ=DAILY;COUNT=1", START, "FREQ=DAILY;COUNT=1"),
        ("FREQ=DAILY;UNTIL=20260905T000000Z", START, "FREQ=DAILY;UNTIL=20260905T000000Z"),
        ("FREQ=DAILY;BYMINUTE=0,10,20", None, "FREQ=DAILY;BYMINUTE=0,10,20"),
        ("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=29", None, "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=29"),
        ("FREQ=HOURLY;BYDAY=SU", None, "FREQ=HOURLY;BYDAY=SU"),
    ],
)
def test_rules_that_are_taken(rule: str, start: date | None, becomes: str) -> None:
    found = from_rule(rule, start, UTC)
    assert found.rule == becomes
    assert found.start == (datetime(2026, 9, 4) if start else None)


@pytest.mark.parametrize(
    ("rule", "wrong"),
    [
        ("", "lacks FREQ"),
        ("FREQ=SOMETIMES", "lacks FREQ"),
        ("FREQ=SECONDLY", "comes every second"),
        ("FREQ=MINUTELY;INTERVAL=30", "comes every minute"),
        ("FREQ", "no NAME=VALUE"),
        ("FREQ=", "no NAME=VALUE"),
        ("FREQ=WEEKLY", "from when it counts"),
        ("FREQ=MONTHLY", "from when it counts"),
        ("FREQ=YEARLY;BYMONTH=3", "from when it counts"),
        ("FREQ=DAILY;INTERVAL=2", "from when it counts"),
        ("FREQ=DAILY;COUNT=3", "from when it counts"),
        ("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30", "never comes"),
        ("FREQ=HOURLY;BYMONTHDAY=31;BYMONTH=6", "never comes"),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "never comes"),
        ("FREQ=DAILY;BYYEARDAY=366;BYMONTH=1", "never comes"),
        ("FREQ=DAILY;BYMINUTE=0,9", "comes every 9 minutes"),
        ("FREQ=MONTHLY;BYDAY=9XX", "no recurrence rule"),
        ("FREQ=DAILY;BYHOUR=77", "no recurrence rule"),
        ("FREQ=DAILY;NONSENSE=1", "no recurrence rule"),
        ("FREQ=DAILY;UNTIL=20200101T000000Z", "never comes"),
    ],
)
def test_rules_that_are_refused(rule: str, wrong: str) -> None:
    with pytest.raises(NotUnderstood, match=wrong):
        from_rule(rule, date(2026, 9, 4) if "UNTIL" in rule else None, UTC)


def test_a_start_with_a_time_gives_the_rule_its_time() -> None:
    found = from_rule("FREQ=WEEKLY", datetime(2026, 9, 4, 19, 30), UTC)
    first, last = datetime(2026, 9, 1), datetime(2026, 9, 18, 19, 30)
    assert (found.at, list(found.between(first, last, UTC))) == (
        time(19, 30),
        [datetime(2026, 9, day, 19, 30) for day in (4, 11, 18)],
    )


def test_an_end_told_in_utc_is_one_in_the_zone() -> None:
    """Until 23:30 UTC on the Faroes in summer is half past midnight of the next day."""
    zone = ZoneInfo("Atlantic/Faroe")
    found = from_rule("FREQ=DAILY;UNTIL=20260705T233000Z", datetime(2026, 7, 1, 0, 30), zone)
    assert max(found.between(datetime(2026, 7, 1), datetime(2026, 8, 1), zone)) == datetime(2026, 7, 6, 0, 30)
    assert max(found.between(datetime(2026, 7, 1), datetime(2026, 8, 1), UTC)) == datetime(2026, 7, 5, 0, 30)


def test_between_takes_both_ends_in() -> None:
    found = Recurrence("FREQ=DAILY;BYHOUR=4;BYMINUTE=0;BYSECOND=0", time(4))
    assert list(found.between(datetime(2026, 1, 1, 4), datetime(2026, 1, 3, 4), UTC)) == [
        datetime(2026, 1, day, 4) for day in (1, 2, 3)
    ]
    assert list(found.between(datetime(2026, 1, 1, 4, 1), datetime(2026, 1, 2, 3, 59), UTC)) == []


def test_a_rule_without_end_is_looked_at_a_little_way(monkeypatch: pytest.MonkeyPatch) -> None:
    """However often it comes, checking it takes no longer than its first occurrences."""
    looked = 0
    real = recurrence.pairwise

    def counted(found: list[datetime]) -> object:
        nonlocal looked
        looked = len(found)
        return real(found)

    monkeypatch.setattr(recurrence, "pairwise", counted)
    from_rule("FREQ=HOURLY", None, UTC)
    assert looked == recurrence.LOOKED_AT


@pytest.mark.parametrize(
    ("local", "shift", "there"),
    [
        ("2026-03-29T00:59", Shift.NONE, "2026-03-29T00:59+00:00"),
        ("2026-03-29T01:00", Shift.LEFT_OUT, "2026-03-29T02:00+01:00"),
        ("2026-03-29T01:59", Shift.LEFT_OUT, "2026-03-29T02:59+01:00"),
        ("2026-03-29T02:00", Shift.NONE, "2026-03-29T02:00+01:00"),
        ("2026-10-25T00:59", Shift.NONE, "2026-10-25T00:59+01:00"),
        ("2026-10-25T01:00", Shift.TWICE, "2026-10-25T01:00+01:00"),
        ("2026-10-25T01:59", Shift.TWICE, "2026-10-25T01:59+01:00"),
        ("2026-10-25T02:00", Shift.NONE, "2026-10-25T02:00+00:00"),
    ],
)
def test_local_times_around_the_nights_when_clocks_change(local: str, shift: Shift, there: str) -> None:
    moment, found = placed(datetime.fromisoformat(local), ZoneInfo("Atlantic/Faroe"))
    assert (moment.isoformat(timespec="minutes"), found) == (there, shift)


@pytest.mark.parametrize(
    ("day", "words"),
    [
        (date(2026, 11, 1), "the 1st Sunday of November 2026"),
        (date(2026, 11, 13), "the 2nd Friday of November 2026"),
        (date(2026, 11, 21), "the 3rd Saturday of November 2026"),
        (date(2026, 11, 22), "the 4th Sunday of November 2026"),
        (date(2026, 11, 23), "the 4th Monday of November 2026"),
        (date(2026, 11, 24), "the 4th and the last Tuesday of November 2026"),
        (date(2026, 11, 30), "the 5th and the last Monday of November 2026"),
    ],
)
def test_which_weekday_of_its_month_a_day_is(day: date, words: str) -> None:
    assert which_of_month(day) == words
