"""History, pins, thinning, growth, export and taking in: by the installed program on the sample, and the rules directly."""

from __future__ import annotations

import os
import re
import subprocess
import tarfile
import zipfile
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.tables.ladder import Rung
from emberkeep.operations.upkeep import thin
from emberkeep.retention.growth import growth
from emberkeep.retention.ladder import judge
from emberkeep.store import writer
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.verify import verify
from tests.conftest import tree_state
from tests.helpers import ABOUT, flip
from tests.program import Program

NOW = datetime(2026, 11, 20, 12, 0, tzinfo=UTC)
FAROE = ZoneInfo("Atlantic/Faroe")
LADDER = (
    Rung(timedelta(days=2), ""),
    Rung(timedelta(days=14), "day"),
    Rung(timedelta(days=90), "week"),
)


def taken_at(*hours_ago: float, **facts: object) -> list[About]:
    moments = sorted(NOW - timedelta(hours=hours) for hours in hours_ago)
    return [About(str(at + 1), moment, "asked", **facts) for at, moment in enumerate(moments)]  # type: ignore[arg-type]


def staying(snapshots: list[About], needed: set[str] = frozenset()) -> list[str]:  # type: ignore[assignment]
    return [verdict.about.label for verdict in judge(snapshots, LADDER, needed, NOW, FAROE) if verdict.stays]


@pytest.mark.parametrize(
    ("hours", "stay"),
    [
        ((1, 2, 3, 47), ["1", "2", "3", "4"]),
        ((49, 50, 51), ["3"]),
        ((49, 50, 51, 49 + 24, 50 + 24), ["2", "5"]),
        ((24 * 30, 24 * 31, 24 * 37, 1), ["1", "3", "4"]),
        ((24 * 200, 24 * 300, 1), ["3"]),
        ((24 * 200, 24 * 300), ["2"]),
    ],
)
def test_the_ladder(hours: tuple[float, ...], stay: list[str]) -> None:
    assert staying(taken_at(*hours)) == stay


def test_days_are_those_of_the_servers_zone() -> None:
    late = datetime(2026, 7, 1, 23, 30, tzinfo=UTC)  # in the Faroes it is half past midnight of the next day
    found = [About("1", late - timedelta(hours=1), "asked"), About("2", late, "asked")]
    ladder = (Rung(timedelta(days=365), "day"),)
    assert [verdict.stays for verdict in judge(found, ladder, (), NOW, FAROE)] == [True, True]
    assert [verdict.stays for verdict in judge(found, ladder, (), NOW, UTC)] == [False, True]


def test_pinned_and_needed_snapshots_and_other_parts_stay() -> None:
    old = taken_at(24 * 400, 24 * 401, 24 * 402)
    assert staying(old) == ["3"]
    assert staying([About("1", old[0].taken, "asked", pinned=True), *old[1:]]) == ["1", "3"]
    assert staying(old, {"2"}) == ["2", "3"]
    assert staying([About("1", old[0].taken, "asked", scope=("world",)), *old[1:]]) == ["1", "3"]


@given(st.lists(st.floats(0, 24 * 200), min_size=1, max_size=40), st.floats(0, 24 * 60))
def test_what_is_let_go_once_was_not_needed_later(hours: list[float], later: float) -> None:
    """Thinning often comes to no less than thinning once: the last of a week is also the last of its day."""
    found = taken_at(*hours)
    once = {v.about.label for v in judge(found, LADDER, (), NOW + timedelta(hours=later), FAROE) if v.stays}
    first = [v.about for v in judge(found, LADDER, (), NOW, FAROE) if v.stays]
    twice = {v.about.label for v in judge(first, LADDER, (), NOW + timedelta(hours=later), FAROE) if v.stays}
    assert once == twice
    assert first


def test_growth_tells_how_long_the_disk_lasts() -> None:
    found = [About(str(n), NOW + timedelta(days=n), "asked", new_bytes=1000 if n == 0 else 10) for n in range(11)]
    told = growth(found, 1100, 500)
    assert told.daily == pytest.approx(10)
    assert told.lasts == pytest.approx(timedelta(days=50), abs=timedelta(hours=1))
    assert [step.total for step in told.steps][-1] == 1100
    assert growth(found[:1], 1000, 500).daily is None
    assert growth([], 0, 500).steps == ()


# --- by the program ----------------------------------------------------------


def aged(place: Path, server: Path, days: list[int]) -> None:
    """Snapshots of other days, each with something of its own in it."""
    with closing(Store(place / "gannet-rock.keep" / "store")) as store:
        for number, day in enumerate(sorted(days, reverse=True)):
            (server / "una-notes.txt").write_bytes(os.urandom(40_000))
            writer.add(
                store, FolderTree(server), About("", datetime.now(UTC) - timedelta(days=day), "asked", f"day {number}")
            )


def test_thinning_previews_then_frees_the_space(keeper: Program, place: Path, server: Path) -> None:
    aged(place, server, [200, 200, 150, 150, 40, 40, 10, 10, 1, 0])
    assert keeper("history", "--pin", "day 0").code == 0
    store = place / "gannet-rock.keep" / "store"
    before = {path.name: path.stat().st_size for path in store.rglob("*") if path.is_file()}
    preview = keeper("thin")
    assert preview.code == 0
    assert {path.name: path.stat().st_size for path in store.rglob("*") if path.is_file()} == before
    gone = [v["about"]["label"] for v in keeper("thin", "--json").json["verdicts"] if not v["stays"]]
    assert gone == ["3", "5", "7"]  # of each pair the first goes, but for the one that is pinned
    assert "pinned" in preview.out
    done = keeper("thin", "--go", "--json").json
    freed = done["freed"]
    assert freed["before"] - freed["after"] > 30_000 * len(gone)
    assert abs(done["frees_about"] - (freed["before"] - freed["after"])) < 20_000
    left = [item["label"] for item in keeper("history", "--json").json["snapshots"]]
    assert sorted([*left, *gone], key=int) == [str(n) for n in range(1, 11)]
    assert keeper("verify").code == 0
    assert keeper("thin").out.count("would go") == 0
    assert keeper("snapshot").code == 0


def test_a_keep_without_a_ladder_is_told_how_to_write_one(keeper: Program, place: Path) -> None:
    settings = place / "gannet-rock.keep" / "keep.toml"
    text = settings.read_text()
    settings.write_text(re.sub(r"\[ladder\].*?\n(?=\n|$)", "", text, flags=re.DOTALL))
    done = keeper("thin")
    assert done.code == 2
    assert "[ladder]" in done.err
    settings.write_text(re.sub(r"(\[ladder\].*?\n)", '\\1"3 moons" = "all"\n"9 days" = "one a tide"\n', text, count=1))
    faulty = keeper("thin")
    assert faulty.code == 2
    assert "3 moons" in faulty.err
    assert "one a day" in faulty.err


def test_thinning_leaves_what_a_run_needs_to_be_undone(keeper: Program, place: Path, server: Path) -> None:
    aged(place, server, [300])
    before = tree_state(server)
    (server / "keeper.properties").write_text("broken")
    assert keeper("restore", "1", "--go").code == 0
    needed = [run["before"] for run in keeper("history", "--json").json["runs"]]
    with closing(Store(place / "gannet-rock.keep" / "store")) as store:
        found = thin.judge(
            [store.about(str(number)) for number in store.numbers()], (), set(needed), datetime.now(UTC), UTC
        )
    assert {verdict.about.label for verdict in found if verdict.why.startswith("needed")} == set(needed)
    assert tree_state(server)["keeper.properties"] == before["keeper.properties"]


def test_history_and_thin_show_a_screenful_and_count_the_rest(keeper: Program, place: Path, server: Path) -> None:
    aged(place, server, [400 - at // 5 for at in range(34)])  # the first five on one day, whatever day it is
    for words, rest in (
        (["history"], "… 4 earlier snapshots; --everything shows them"),
        (["thin"], "… 4 earlier snapshots: 4 would go, 0 stay; --everything shows them"),
    ):
        shown = keeper(*words).out
        assert rest in shown
        assert re.findall(r"(?m)^ *(\d+)  20", shown) == [str(at) for at in range(5, 35)]
        whole = keeper(*words, "--everything").out
        assert "earlier" not in whole
        assert re.findall(r"(?m)^ *(\d+)  20", whole) == [str(at) for at in range(1, 35)]
    assert len(keeper("history", "--json").json["snapshots"]) == 34


def test_history_shows_growth_in_text_and_as_a_picture(keeper: Program, place: Path, server: Path) -> None:
    assert "No snapshot yet" in keeper("history", "--growth").out
    aged(place, server, [20, 10, 5, 1])
    told = keeper("history", "--growth", "growth.png")
    assert told.code == 0
    assert "a day; at this rate the disk will last" in told.out
    assert (place / "growth.png").read_bytes().startswith(b"\x89PNG")
    facts = keeper("history", "--growth", "--json").json["growth"]
    assert len(facts["steps"]) == 4
    assert facts["size"] > facts["steps"][-1]["added"] > 30_000


def test_repair_and_sample_by_the_program(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    pack = next((place / "gannet-rock.keep" / "store" / "packs").glob("*.pack"))
    flip(pack, 200_000)
    assert keeper("verify", "--sample", "100%").code == 4
    assert keeper("verify", "--sample", "0%").code == 2
    assert keeper("verify", "latest", "--repair").code == 2
    mended = keeper("verify", "--repair")
    assert mended.code == 0, mended.out
    assert "stored anew" in mended.out
    assert keeper("verify").code == 0
    assert keeper("restore", "latest", "--into", "whole").code == 0
    assert tree_state(place / "whole") == tree_state(place / "gannet-rock")


@pytest.mark.parametrize(("lock", "command"), [("store/lock", ["snapshot"]), ("due.lock", ["due", "--go"])])
@pytest.mark.parametrize("spoiled", ["something else", None])
def test_a_lock_that_is_none_is_told(
    keeper: Program, place: Path, lock: str, command: list[str], spoiled: str | None
) -> None:
    keep = place / "gannet-rock.keep"
    with (keep / "keep.toml").open("a") as told:
        told.write('\n[[event]]\nname = "look"\nkind = "verify"\nwhen = "daily 04:00"\n')
    keeper(*command)
    (keep / lock).unlink()
    if spoiled is None:
        (keep / lock).mkdir()
    else:
        (keep / lock).write_text(spoiled)
    done = keeper(*command)
    assert (done.code, "may be removed" in done.err) == (3, True), done.err
    (keep / lock).rmdir() if spoiled is None else (keep / lock).unlink()
    assert keeper(*command).code == 0


# --- archives ----------------------------------------------------------------


@pytest.mark.skipif(os.name == "nt", reason="ordinary tools of POSIX")
@pytest.mark.parametrize("suffix", [".tar", ".tar.zst", ".zip"])
def test_an_export_read_by_ordinary_tools_is_the_same_tree(
    keeper: Program, place: Path, server: Path, suffix: str
) -> None:
    os.link(server / "una-notes.txt", server / "same-notes.txt")
    whole_seconds(server)
    if suffix != ".zip":
        os.utime(server / "welcome.json", ns=(0, -1_500_000_000))  # before 1970, and no whole second
    keeper("snapshot")
    done = keeper("export", "latest", f"out{suffix}")
    assert done.code == 0, done.err
    (place / "out").mkdir()
    if suffix == ".zip":
        with zipfile.ZipFile(place / "out.zip") as archive:
            assert archive.testzip() is None
        commands = [["unzip", "-q", "-o", "../out.zip"]]
    elif suffix == ".tar":
        commands = [["tar", "-xpf", "../out.tar"]]
    else:
        commands = [["zstd", "-q", "-d", "../out.tar.zst"], ["tar", "-xpf", "../out.tar"]]
    for command in commands:
        if subprocess.run(["which", command[0]], capture_output=True, check=False).returncode:
            pytest.skip(f"{command[0]} is not installed")
        subprocess.run(command, cwd=place / "out", check=True)
    there, here = tree_state(place / "out"), tree_state(server)
    if suffix == ".zip":  # the tool sets no times of links and folders
        there, here = ({k: v[:2] + v[3:] if v[0] != "file" else v for k, v in tree.items()} for tree in (there, here))
    there.pop("."), here.pop(".")
    assert there == here
    again = keeper("snapshot", "--from", f"out{suffix}", "--note", "again")
    assert again.code == 0, again.err
    assert keeper("diff", "1", "2").code == 0
    if suffix != ".zip":
        with closing(Store(place / "gannet-rock.keep" / "store")) as store:
            left, right = (SnapshotTree(store, store.manifest(label), "").entries() for label in ("1", "2"))
            assert {path: entry._replace(owner=-1, group=-1) for path, entry in left.items()} == dict(right)
    assert keeper("export", "latest", f"out{suffix}").code == 3


def whole_seconds(server: Path) -> None:
    for path in [*server.rglob("*"), server]:
        os.utime(path, (1_700_000_000, 1_700_000_001), follow_symlinks=False)


def test_an_export_of_a_damaged_snapshot_leaves_no_file(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    pack = next((place / "gannet-rock.keep" / "store" / "packs").glob("*.pack"))
    flip(pack, 200_000)
    done = keeper("export", "latest", "out.tar.zst")
    assert done.code == 4
    assert not (place / "out.tar.zst").exists()
    assert not list(place.glob(".emberkeep-*"))
    assert keeper("export", "latest", "out.rar").code == 2


def test_a_selection_of_nothing_is_no_backup(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    assert keeper("snapshot", "--only", "no/such/thing").code == 2
    assert keeper("export", "latest", "out.tar", "--only", "no/such/thing").code == 2
    assert not (place / "out.tar").exists()
    assert len(keeper("history", "--json").json["snapshots"]) == 1


def test_a_second_program_is_refused_and_told_who_writes(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    with closing(Store(place / "gannet-rock.keep" / "store")) as store, store.writing():
        refused = keeper("snapshot")
        assert refused.code == 3
        assert f"process {os.getpid()}" in refused.err
        assert keeper("verify").code == 0
    assert keeper("snapshot").code == 0


def test_a_part_is_exported(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    assert keeper("export", "latest", "world.tar", "--only", "world").code == 0
    with tarfile.open(place / "world.tar") as archive:
        names = archive.getnames()
    assert any(name.endswith(".sea") for name in names)
    assert not any(name.endswith(".xml") for name in names)


def test_what_strangers_archives_hold_cannot_hurt(keeper: Program, place: Path, server: Path) -> None:
    before = tree_state(server)
    for name, fill in {
        "out.tar": lambda t: t.addfile(tarfile.TarInfo("../escaped")),
        "link.tar": lambda t: t.addfile(link("here", "/etc/passwd")),
        "twice.tar": lambda t: [t.addfile(tarfile.TarInfo("a")) for _ in range(2)],
    }.items():
        with tarfile.open(place / name, "w") as archive:
            fill(archive)  # type: ignore[no-untyped-call]
        refused = keeper("snapshot", "--from", name)
        assert refused.code == 2, name
        assert "Traceback" not in refused.err
    with tarfile.open(place / "odd.tar", "w") as archive:
        device = tarfile.TarInfo("device")
        device.type = tarfile.CHRTYPE
        for info in (device, tarfile.TarInfo("Notes"), tarfile.TarInfo("notes")):
            archive.addfile(info)
    done = keeper("snapshot", "--from", "odd.tar", "--json")
    assert done.code == 1
    assert [item["path"] for item in done.json["skipped"]] == ["device"]
    assert done.json["differ_only_in_case"] == [["Notes", "notes"]]
    assert keeper("snapshot", "--from", "odd.tar", "--only", "world").code == 2
    assert keeper("snapshot", "--from", "nowhere").code == 2
    assert tree_state(server) == before


def link(name: str, target: str) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = tarfile.SYMTYPE, target
    return info


# --- tiles -------------------------------------------------------------------


def test_a_range_of_tiles_is_put_back_and_nothing_else(keeper: Program, server: Path) -> None:
    keeper("snapshot")
    whole = tree_state(server)
    chart, pool = server / "outer-skerries" / "chart", server / "tidepool" / "chart"
    for tile in [*chart.iterdir(), *pool.iterdir()]:
        tile.write_bytes(b"griefed")
    done = keeper("restore", "latest", "--only", "outer-skerries/tiles:-1,0..0,-1", "--go")
    assert done.code == 0, done.err
    back = {path.name for path in chart.iterdir() if path.stat().st_size > 10}
    assert back == {f"strip.{x}.{y}.sea" for x in (-1, 0) for y in (-1, 0)}
    assert not [path for path in pool.iterdir() if path.stat().st_size > 10]
    assert keeper("restore", "1", "--only", "tiles:-99,-99..99,99", "--go").code == 0
    assert {path: state for path, state in tree_state(server).items() if state[0] == "file"} == {
        path: state for path, state in whole.items() if state[0] == "file"
    }
    assert keeper("restore", "1", "--only", "tiles:1..2").code == 2


def test_a_snapshot_of_tiles_alone(keeper: Program, place: Path) -> None:
    done = keeper("snapshot", "--only", "tiles:0,0..1,1", "--json")
    assert done.code == 0, done.err
    assert done.json["snapshot"]["files"] > 0
    with closing(Store(place / "gannet-rock.keep" / "store")) as store:
        assert all(path.endswith(".sea") for path in store.manifest("1").held)
        assert verify(store).sound


moments = st.lists(st.integers(0, 60 * 24 * 400), min_size=1, max_size=25)


@given(minutes=moments, wild=st.lists(st.tuples(st.integers(0, 24), st.integers(-9000, 9000)), max_size=3))
def test_a_clock_that_ran_wild_costs_no_newest_snapshot(minutes: list[int], wild: list[tuple[int, int]]) -> None:
    """Some snapshots of a long sequence have any time at all: the newest one stays; where it is one, what stays is at
    least what would if it had been taken when the one before it was."""
    straight = [NOW - timedelta(minutes=minute) for minute in sorted(minutes, reverse=True)]
    told = list(straight)
    for at, days in wild:
        told[at % len(told)] = NOW + timedelta(days=days)
    snapshots = [replace(ABOUT, label=str(number), taken=taken) for number, taken in enumerate(told, 1)]
    verdicts = judge(snapshots, LADDER, (), NOW, FAROE)
    assert [verdict.about.label for verdict in verdicts] == [about.label for about in snapshots]
    assert verdicts[-1].stays
    again = judge(snapshots[::-1], LADDER, (), NOW, FAROE)
    assert again == verdicts
    if not wild:
        return
    tame = [at for at, before in enumerate(straight) if told[at] == before]
    read = list(told)
    for at in sorted({*range(len(told))} - {*tame}):
        before, after = max((i for i in tame if i < at), default=-1), min((i for i in tame if i > at), default=-1)
        if before < 0 or (told[before] <= told[at] <= (told[after] if after >= 0 else NOW)):
            return  # nothing says that it is wild
        read[at] = told[before]
    if len(tame) == len(snapshots) - 1:  # several wild ones may be in order among themselves, and be believed
        tamed = [replace(about, taken=taken) for about, taken in zip(snapshots, read, strict=True)]
        kept = {verdict.about.label for verdict in judge(tamed, LADDER, (), NOW, FAROE) if verdict.stays}
        assert kept <= {verdict.about.label for verdict in verdicts if verdict.stays}


def test_where_the_clock_can_be_read_in_two_ways_what_either_keeps_stays() -> None:
    """Four of a fortnight ago, two of today, and one that says it is of then: was the clock wrong for two, or one?"""
    then = NOW - timedelta(days=15)
    times = [then, then, then, then, NOW, NOW - timedelta(minutes=1), then]
    snapshots = [replace(ABOUT, label=str(number), taken=taken) for number, taken in enumerate(times, 1)]
    stays = {verdict.about.label for verdict in judge(snapshots, LADDER, (), NOW, FAROE) if verdict.stays}
    assert {"6", "7"} <= stays


def test_a_snapshot_taken_while_the_clock_was_years_behind_stays_as_the_newest() -> None:
    times = [NOW - timedelta(days=day) for day in (40, 20, 3)] + [NOW - timedelta(days=9000)]
    snapshots = [replace(ABOUT, label=str(number), taken=taken) for number, taken in enumerate(times, 1)]
    found = {verdict.about.label: verdict.stays for verdict in judge(snapshots, LADDER, (), NOW, FAROE)}
    assert found["4"] and found["2"]
