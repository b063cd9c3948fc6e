"""What stays, how long things last and take: each rule of planning at its bounds, and beside another way of saying it."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Refused
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import read
from emberkeep.keep.tables.ladder import Rung
from emberkeep.keep.tables.wiping import SetText
from emberkeep.process.forecast import Forecast, forecast, lasting
from emberkeep.retention import growth
from emberkeep.retention.growth import LONGEST, LOOKS_BACK, SHORTEST
from emberkeep.retention.ladder import judge
from emberkeep.schedule import duties
from emberkeep.store.manifest import About
from emberkeep.wiping import values
from emberkeep.wiping.values import Wiped

NOW = datetime(2026, 11, 20, 12, 0, tzinfo=UTC)
FAROE = ZoneInfo("Atlantic/Faroe")
DAY = timedelta(days=1)

# --- the ladder ---------------------------------------------------------------------------------------

PERIODS = {"hour": "%Y%m%d%H", "day": "%Y%m%d", "week": "%G-%V", "month": "%Y%m", "year": "%Y"}
rungs = st.lists(
    st.tuples(st.integers(1, 900), st.sampled_from(["", *PERIODS])), max_size=4, unique_by=lambda told: told[0]
)


def said_plainly(snapshots: list[About], ladder: list[Rung], needed: set[str], zone: ZoneInfo) -> set[str]:
    """Which stay, said another way: those that must; then, newest first, one of each part and period of a rung."""
    stay: set[str] = set()
    spoken_for: set[tuple[object, ...]] = set()
    for about in sorted(snapshots, key=lambda one: (one.taken, int(one.label)))[::-1]:
        part = (about.scope, about.source)
        of_its_part = [one for one in snapshots if (one.scope, one.source) == part]
        newest = max(of_its_part, key=lambda one: (one.taken, int(one.label)))
        covering = [rung for rung in ladder if rung.age >= NOW - about.taken]
        rung = covering[0] if covering else None
        period = about.taken.astimezone(zone).strftime(PERIODS[rung.every]) if rung and rung.every else None
        first = rung is not None and (period is None or (part, ladder.index(rung), period) not in spoken_for)
        if about.pinned or about.label in needed or first or about is newest:
            stay.add(about.label)
            if rung is not None and period is not None:
                spoken_for.add((part, ladder.index(rung), period))
    return stay


@given(
    st.lists(st.tuples(st.integers(0, 24 * 60 * 1000), st.booleans(), st.sampled_from(["", "world"])), max_size=12),
    rungs,
    st.sets(st.integers(1, 12).map(str), max_size=2),
    st.sampled_from([FAROE, ZoneInfo("UTC"), ZoneInfo("America/New_York")]),
)
def test_what_stays_is_what_the_ladder_says(
    told: list[tuple[int, bool, str]], steps: list[tuple[int, str]], needed: set[str], zone: ZoneInfo
) -> None:
    ladder = [Rung(timedelta(days=age), every) for age, every in sorted(steps)]
    snapshots = [
        About(str(at + 1), NOW - timedelta(minutes=minutes), "asked", pinned=pinned, scope=(scope,) if scope else ())
        for at, (minutes, pinned, scope) in enumerate(sorted(told, reverse=True))
    ]
    found = judge(snapshots, ladder, needed, NOW, zone)
    assert [verdict.about for verdict in found] == sorted(snapshots, key=lambda one: (one.taken, int(one.label)))
    assert {verdict.about.label for verdict in found if verdict.stays} == said_plainly(snapshots, ladder, needed, zone)


@pytest.mark.parametrize(
    ("hours", "facts", "stays", "why"),
    [
        (48, {}, True, "all are kept at this age"),
        (48.01, {}, True, "the last of its day"),
        (50, {}, False, "not the last of its day"),
        (24 * 400, {}, False, "older than the ladder reaches"),
        (24 * 400, {"pinned": True}, True, "pinned"),
        (24 * 400, {"label": "77"}, True, "needed to undo a run"),
        (24 * 400, {"source": "x.zip"}, True, "the newest"),
    ],
)
def test_why_a_snapshot_stays_or_goes(hours: float, facts: dict[str, object], stays: bool, why: str) -> None:
    ladder = [Rung(2 * DAY, ""), Rung(14 * DAY, "day")]
    others = [About("1000", NOW, "asked"), About("951", NOW - timedelta(hours=49), "asked")]
    asked = replace(About(str(max(1, 1000 - int(hours))), NOW - timedelta(hours=hours), "asked"), **facts)  # type: ignore[arg-type]
    if hours == 48.01:
        others.pop()
    (verdict,) = [one for one in judge([asked, *others], ladder, {"77"}, NOW, FAROE) if one.about == asked]
    assert (verdict.stays, verdict.why) == (stays, why)


# --- how a store grows ----------------------------------------------------------------------------------


def grown(*told: tuple[float, int], free: int = 10**9) -> growth.Growth:
    taken = [About(str(at), NOW - DAY * days, "asked", new_bytes=added) for at, (days, added) in enumerate(told)]
    return growth.growth(taken[::-1], 5, free)


def test_the_rate_is_that_of_the_last_weeks() -> None:
    found = grown((10, 900), (8, 100), (0, 300))
    assert [(step.label, step.added, step.total) for step in found.steps] == [
        ("0", 900, 900),
        ("1", 100, 1000),
        ("2", 300, 1300),
    ]
    assert (found.daily, found.lasts, found.endless) == (40.0, min(DAY * (10**9 / 40), LONGEST), True)
    edge = LOOKS_BACK / DAY
    assert grown((edge, 7), (1, 35), (0, 35)).daily == 2.0
    assert grown((edge + 0.01, 10**9), (1, 7), (0, 40)).daily == 40.0


def test_where_there_is_too_little_to_tell_nothing_is_told() -> None:
    assert grown().daily is None and grown((0, 5)).daily is None
    hours = SHORTEST / timedelta(hours=1) / 24
    assert grown((hours, 1), (0, 10)).daily == 10 / hours
    assert grown((hours - 0.001, 1), (0, 10)).daily is None
    assert grown((99, 1), (0, 10)).daily is None  # of the last weeks there is only one
    still = grown((3, 5), (0, 0))
    assert (still.daily, still.lasts, still.endless) == (0.0, None, False)


def test_how_long_the_disk_lasts() -> None:
    assert grown((2, 1), (0, 20), free=100).lasts == 10 * DAY
    assert not grown((2, 1), (0, 20), free=100).endless
    days = LONGEST.days
    assert grown((2, 1), (0, 2), free=days).lasts == LONGEST and grown((2, 1), (0, 2), free=days).endless
    assert not grown((2, 1), (0, 2), free=days - 1).endless
    assert grown((2, 1), (0, 2), free=10**18).lasts == LONGEST


# --- how long a start may take ---------------------------------------------------------------------------


def start(seconds: float, world: int = 0, converted: bool = False, state: str = "ready") -> SimpleNamespace:
    return SimpleNamespace(seconds=seconds, world=world, converted=converted, state=state)


def test_a_start_is_foretold_by_those_that_went_well() -> None:
    assert forecast([], 5) is None
    assert forecast([start(9, state="died")], 5) is None
    assert forecast([start(4), start(6), start(99, state="late")], 5) == Forecast(6, None, 0)
    assert forecast([start(4, 100, False), start(6, 0, True)], 5) == Forecast(6, None, 0)
    assert forecast([start(50, 100, True), start(6)], 100) == Forecast(6, (25.0, 100.0), 1)
    several = [start(50, 100, True), start(100, 100, True), start(5, 100, True, "died"), start(7)]
    assert forecast(several, 80) == Forecast(7, (32.0, 100.0), 2)
    # of a world four times as large as any that was seen, it may take twice as long as its size alone tells
    assert forecast(several, 400) == Forecast(7, (160.0, 1000.0), 2)
    assert "no conversion was seen yet" in Forecast(6, None, 0).words
    assert Forecast(6, (60, 7200), 3).words.endswith("may take 60 s to 2.0 h, by 3 earlier")


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        (0, "0.0 s"),
        (9.94, "9.9 s"),
        (10, "10 s"),
        (89.4, "89 s"),
        (90, "2 min"),
        (5399, "90 min"),
        (5400, "1.5 h"),
        (36000, "10.0 h"),
    ],
)
def test_lengths_of_time_in_words(seconds: float, words: str) -> None:
    assert lasting(seconds) == words


@pytest.mark.parametrize(
    ("minutes", "words"),
    [
        (0.4, "0"),
        (1.6, "2 min"),
        (119, "119 min"),
        (121, "2 hours"),
        (179, "2 hours"),
        (2879, "47 hours"),
        (2880, "2 days"),
        (4319, "2 days"),
        (4320, "3 days"),
    ],
)
def test_lateness_is_told_as_finely_as_it_matters(minutes: float, words: str) -> None:
    found = duties.rounded(timedelta(minutes=minutes))
    assert found.split()[0] == words.split(maxsplit=1)[0]
    assert len(words.split()) == 1 or found.split()[1][:3] == words.split()[1][:3]


# --- seeds and values of a wipe ------------------------------------------------------------------------

WIPES = [Wiped(NOW, seed=str(number + 1), left=str(number)) for number in (1, 2, 3)]


@pytest.mark.parametrize(
    ("rest", "now", "seeds"),
    [
        (0, "4", ("4",)),
        (0, "", ()),
        (-1, "4", ("4",)),
        (1, "4", ("3", "4")),
        (2, "4", ("2", "3", "4")),
        (9, "", ("1", "2", "3", "4")),
        (2, "7", ("2", "3", "4", "7")),
    ],
)
def test_seeds_that_were_used_lately(rest: int, now: str, seeds: tuple[str, ...]) -> None:
    assert values.used(WIPES, now, rest) == seeds


def test_each_value_that_is_set_is_told_with_what_it_was(tmp_path: Path) -> None:
    (tmp_path / "a.properties").write_text("seed=7\nname=old\nword=secret\n")
    told = values.Values(3, "1 June 2026", "7", "4096", "map", "Rock")
    texts = [
        SetText("a.properties", "seed", "{seed}"),
        SetText("a.properties", "name", "tide {number}"),
        SetText("a.properties", "fresh", "yes"),
        SetText("a.properties", "word", secret_env="WORD"),
    ]
    folder = Overlay(FolderTree(tmp_path), 1)
    found = values.set_all(folder, texts, told, {"WORD": "hush"})
    assert found == [
        values.Setting("a.properties", "name", "old", "tide 3"),
        values.Setting("a.properties", "fresh", None, "yes"),
        values.Setting("a.properties", "word", "", "", True),
    ]  # the seed stays, and is not told
    assert read(folder, "a.properties") == b"seed=7\nname=tide 3\nword=hush\nfresh=yes\n"
    with pytest.raises(Refused, match="no file b"):
        values.set_all(folder, [SetText("b", "x", "y")], told, {})
