"""Restoring: exactly what the snapshot says, only what differs, only in the scope asked for."""

from __future__ import annotations

import os
import random
import shutil
import time
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Damage, Refused
from emberkeep.fs import system, writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.inventory.roles import selection
from emberkeep.keep.config import Config
from emberkeep.operations.engine import apply, fitness, restore_plan
from emberkeep.store import stat_cache, writer
from emberkeep.store.earlier import unwritten
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from tests.conftest import tree_state
from tests.faults import FaultyIO
from tests.helpers import NOW, flip
from tests.program import Program

ABOUT = About("", NOW, "asked")
ROLES = (("players", ("players/*",)), ("world", ("world/**",)))
CONFIG = Config("Gannet Rock", "server", "UTC", roles=ROLES)


def taken(tmp_path: Path, root: Path, scope: tuple[str, ...] = ()) -> SnapshotTree:
    store = Store(tmp_path / "store")
    about = About("", NOW, "asked", scope=scope, roles=ROLES if scope else ())
    wanted = selection(scope, ROLES) if scope else None
    done = writer.add(store, FolderTree(root), about, wanted=wanted).about
    return SnapshotTree(store, store.manifest(done.label), "snapshot 1")


def put_back(snapshot: SnapshotTree, root: Path, *only: str) -> restore_plan.RestorePlan:
    plan = restore_plan.plan(snapshot, root, restore_plan.scope_of(snapshot.manifest, only, CONFIG))
    assert apply.apply(plan, snapshot) == []
    return plan


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "server"
    for path, text in {"world/a.sea": "a" * 9000, "world/deep/b.sea": "b", "players/una": "u", "notes": "n"}.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_text(text)
    (folder / "world" / "empty").mkdir()
    (folder / "latest").symlink_to("notes")
    for number, path in enumerate(sorted(folder.rglob("*"), reverse=True)):
        os.utime(path, ns=(1, 1_700_000_000_000_000_000 + number * 1_000_000_007), follow_symlinks=False)
    return folder


def wreck(root: Path) -> None:
    (root / "world" / "a.sea").write_text("A" * 9000)
    (root / "world" / "deep" / "b.sea").unlink()
    (root / "world" / "deep").rmdir()
    (root / "world" / "deep").write_text("a file where a folder was")
    (root / "world" / "empty").rmdir()
    (root / "players" / "una").chmod(0o600)
    (root / "players" / "stranger").write_text("s")
    (root / "latest").unlink()
    (root / "latest").symlink_to("players/stranger")
    (root / "notes").unlink()
    (root / "notes").mkdir()
    (root / "notes" / "inside").write_text("i")


def test_everything_comes_back_exactly(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    before = tree_state(root)
    wreck(root)
    plan = put_back(snapshot, root)
    assert tree_state(root) == before
    assert {entry.path for entry in plan.write} == {"world/a.sea", "world/deep/b.sea", "latest", "notes"}
    assert put_back(snapshot, root).nothing


def test_damage_with_the_old_time_and_size_is_seen(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    path = root / "world" / "a.sea"
    time = path.stat().st_mtime_ns
    path.write_text("x" + "a" * 8999)
    os.utime(path, ns=(1, time))
    assert [entry.path for entry in put_back(snapshot, root).write] == ["world/a.sea"]


def test_a_part_leaves_the_rest_alone(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    before = tree_state(root)
    wreck(root)
    wrecked = tree_state(root)
    put_back(snapshot, root, "players")
    now = tree_state(root)
    assert now["players/una"] == before["players/una"]
    assert "players/stranger" not in now
    assert {path: now[path] for path in now if not path.startswith("players")} == {
        path: wrecked[path] for path in wrecked if not path.startswith("players")
    }


def test_a_snapshot_of_a_part_never_removes_what_it_did_not_look_at(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root, ("world",))
    wreck(root)
    put_back(snapshot, root)
    assert (root / "players" / "stranger").exists()
    assert (root / "notes" / "inside").exists()
    assert (root / "world" / "deep" / "b.sea").read_text() == "b"


def test_a_link_in_the_way_is_not_written_through(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    before = tree_state(root)
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    shutil.rmtree(root / "world")
    (root / "world").symlink_to(elsewhere, target_is_directory=True)
    put_back(snapshot, root)
    assert list(elsewhere.iterdir()) == []
    assert tree_state(root) == before


def test_into_a_new_folder(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    put_back(snapshot, tmp_path / "new" / "place")
    assert tree_state(tmp_path / "new" / "place") == tree_state(root)


@pytest.mark.parametrize("where", ["server", "server/world/new", "full"])
def test_into_refuses_what_could_hurt(tmp_path: Path, root: Path, where: str) -> None:
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "x").write_text("x")
    with pytest.raises(Refused):
        fitness.check_target(tmp_path / where, root)


def test_damage_in_the_store_is_refused_before_anything_is_touched(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    wreck(root)
    wrecked = tree_state(root)
    pack = next((tmp_path / "store" / "packs").glob("*.pack"))
    for at in range(70, pack.stat().st_size, 40):
        flip(pack, at)
    plan = restore_plan.plan(snapshot, root, lambda path: True)
    with pytest.raises(Damage) as caught:
        fitness.check_whole(plan, snapshot)
    assert "world/a.sea" in str(caught.value)
    assert tree_state(root) == wrecked


def test_a_restore_that_stops_half_way_is_finished_by_the_next(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    before = tree_state(root)
    for at in range(1, 40):
        wreck(root)
        plan = restore_plan.plan(snapshot, root, lambda path: True)
        with system.use(FaultyIO(at, OSError(5, "Input/output error"))), suppress(OSError):
            apply.apply(plan, snapshot)
        put_back(snapshot, root)
        assert tree_state(root) == before


def test_a_row_that_says_another_digest_than_the_snapshot_is_not_trusted(tmp_path: Path, root: Path) -> None:
    """A file that nobody has written to since the last snapshot, wanted as another one has it: same size, same time."""
    path = root / "notes"
    when = path.stat().st_mtime_ns
    first = taken(tmp_path, root)
    path.write_text("N")
    os.utime(path, ns=(1, when))
    live = FolderTree(root)
    store = Store(tmp_path / "store")
    writer.add(store, live, About("", datetime.now(UTC) + timedelta(minutes=1), "asked"), live=live)
    assert "notes" in unwritten(store, FolderTree(root))
    plan = restore_plan.plan(first, root, lambda path: True, store)
    assert [entry.path for entry in plan.write] == ["notes"]


@pytest.mark.parametrize("path", ["world/deep", "players/una", ""])
@pytest.mark.parametrize("what", ["mode", "time"])
def test_a_mode_or_time_alone_is_something_to_put_back(tmp_path: Path, root: Path, path: str, what: str) -> None:
    snapshot = taken(tmp_path, root)
    before = tree_state(root)
    if what == "mode":
        (root / path).chmod(0o711)
    else:
        os.utime(root / path, ns=(1, 5_000_000_000))
    plan = put_back(snapshot, root)
    assert not plan.nothing
    assert [entry.path for entry in plan.touch] == ([path] if path else [])
    assert tree_state(root) == before
    assert put_back(snapshot, root).nothing


def test_too_little_room_is_refused_before_anything_is_written(
    tmp_path: Path, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    snapshot = taken(tmp_path, root)
    plan = restore_plan.plan(snapshot, tmp_path / "new" / "place", lambda path: True)
    room = {"free": plan.bytes}
    monkeypatch.setattr(shutil, "disk_usage", lambda place: SimpleNamespace(free=room["free"]))
    fitness.check_room(plan)
    room["free"] -= 1
    with pytest.raises(
        Refused, match=f"{plan.bytes} bytes are to be written, and the disk has room for {plan.bytes - 1}"
    ):
        fitness.check_room(plan)


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="needs named pipes")
def test_a_folder_that_holds_what_no_tree_shows_stays(tmp_path: Path, root: Path) -> None:
    snapshot = taken(tmp_path, root)
    (root / "stray").mkdir()
    (root / "stray" / "s").write_text("s")
    os.mkfifo(root / "stray" / "pipe")
    put_back(snapshot, root)
    assert os.listdir(root / "stray") == ["pipe"]


names = st.sampled_from(["a", "b", "c", "d d", "é"])
paths = st.lists(names, min_size=1, max_size=3).map("/".join)
kinds = st.one_of(st.binary(max_size=200), st.just("folder"), st.just("link"))


def make(root: Path, wanted: dict[str, bytes | str], seed: int) -> None:
    some = random.Random(seed)
    root.mkdir(parents=True, exist_ok=True)
    for path, what in sorted(wanted.items()):
        target = root / path
        if any((parent.exists() and not parent.is_dir()) or parent.is_symlink() for parent in target.parents):
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        if target.is_symlink() or target.exists():
            continue
        if what == "folder":
            target.mkdir()
        elif what == "link":
            target.symlink_to("nowhere")
        else:
            assert isinstance(what, bytes)
            target.write_bytes(what)
            target.chmod(some.choice([0o600, 0o644, 0o755]))
    for path in sorted(root.rglob("*"), reverse=True):
        os.utime(path, ns=(1, some.randrange(10**18, 2 * 10**18)), follow_symlinks=False)


@given(
    first=st.dictionaries(paths, kinds, max_size=8),
    second=st.dictionaries(paths, kinds, max_size=8),
    seed=st.integers(0, 99),
)
def test_any_tree_becomes_any_other(
    tmp_path_factory: pytest.TempPathFactory, first: dict[str, bytes | str], second: dict[str, bytes | str], seed: int
) -> None:
    place = tmp_path_factory.mktemp("any")
    make(place / "one", first, seed)
    make(place / "two", second, seed + 1)
    snapshot = taken(place, place / "one")
    put_back(snapshot, place / "two")
    assert tree_state(place / "two") == tree_state(place / "one")
    shutil.rmtree(place)


@pytest.fixture
def lanes(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(apply, "WORTH_LANES", 0)
    monkeypatch.setattr(apply, "LANE", 1)


def several(folder: Path) -> None:
    chance = random.Random(8)
    for number in range(40):
        (folder / f"world/{number}.sea").write_bytes(chance.randbytes(300_000 if number % 3 else 900))


def test_two_lanes_write_all_there_is(root: Path, tmp_path: Path, lanes: None) -> None:
    several(root)
    snapshot = taken(tmp_path, root)
    plan = restore_plan.plan(snapshot, tmp_path / "fresh", lambda path: True)
    told: list[tuple[int, int]] = []
    assert apply.apply(plan, snapshot, fresh=True, progress=lambda done, total: told.append((done, total))) == []
    assert tree_state(tmp_path / "fresh") == tree_state(root)
    assert told[-1] == (plan.bytes, plan.bytes) and told == sorted(told)


@pytest.mark.parametrize("at", [3, 30, 61, 122, 200])
def test_a_failure_in_one_lane_ends_both_and_leaves_nothing_half_made(
    root: Path, tmp_path: Path, lanes: None, at: int
) -> None:
    several(root)
    snapshot = taken(tmp_path, root)
    before = tree_state(root)
    for number in range(40):
        (root / f"world/{number}.sea").write_bytes(b"griefed")
    plan = restore_plan.plan(snapshot, root, lambda path: True)
    with system.use(FaultyIO(at, OSError(28, "No space left on device"))), pytest.raises(OSError, match="No space"):
        apply.apply(plan, snapshot)
    assert not [path for path in root.rglob("*") if path.name.startswith(writing.TEMPORARY)]
    put_back(snapshot, root)
    assert tree_state(root) == before


def test_damage_met_in_a_lane_is_told_and_the_rest_written(root: Path, tmp_path: Path, lanes: None) -> None:
    several(root)
    snapshot = taken(tmp_path, root)
    pack = next((tmp_path / "store" / "packs").glob("*.pack"))
    flip(pack, 5_000_000)
    faults = apply.apply(restore_plan.plan(snapshot, tmp_path / "fresh", lambda path: True), snapshot, fresh=True)
    missing = {path.name for path in root.rglob("*")} - {path.name for path in (tmp_path / "fresh").rglob("*")}
    assert faults and {Path(fault.what.split(" in ")[0]).name for fault in faults} == missing


def test_a_part_goes_elsewhere_with_the_folders_it_stands_in(keeper: Program, server: Path, tmp_path: Path) -> None:
    assert keeper("snapshot").code == 0
    for number, selector in enumerate(("players", "mission/economy/stores.xml", "extensions/*/*.json")):
        into = tmp_path / str(number)
        done = keeper("restore", "1", "--only", selector, "--into", into)
        assert done.code == 0, done.err
        came = tree_state(into)
        assert came and {path: held for path, held in tree_state(server).items() if path in came and path != "."} == {
            path: held for path, held in came.items() if path != "."
        }


@pytest.mark.parametrize(
    ("line", "near"),
    [
        (["restore", "1", "--only", "palyers"], "players"),
        (["restore", "1", "--only", "mission/economi"], "mission/economy"),
        (["restore", "1", "--only", "players/nobody.json", "--into", "elsewhere"], "survey"),
        (["export", "1", "out.zip", "--only", "playres"], "players"),
        (["diff", "1", "live", "--only", "setings"], "settings"),
        (["diff", "1", "live", "--where", "id=no-such-thing"], "FIELD=VALUE"),
        (["snapshot", "--only", "playres"], ""),
    ],
)
def test_a_slip_of_the_pen_is_not_taken_for_nothing_to_do(
    keeper: Program, server: Path, line: list[str], near: str
) -> None:
    assert keeper("snapshot").code == 0
    done = keeper(*line)
    assert (done.code, near in done.err) == (2, True), done.out + done.err
    assert sorted(path.name for path in server.parent.iterdir()) == ["gannet-rock", "gannet-rock.keep", "releases"]


def test_conditions_that_records_meet_may_find_no_difference(keeper: Program) -> None:
    keeper("snapshot")
    assert keeper("diff", "1", "live", "--where", "id=hardtack").code == 0


def test_names_that_a_disk_cannot_hold_are_told_beforehand_and_the_rest_is_put_there(
    keeper: Program, server: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A disk made for Windows is played: there is none here."""
    odd = ["a:b", "what?", "ends.", "con", "LPT1.txt", "sub/aux.log", 'sub/quote"d']
    (server / "sub").mkdir()
    for name in (*odd, "console.txt", ".hidden", "a b"):
        (server / name).write_text(name)
    keeper("snapshot")
    assert keeper("restore", "1", "--into", tmp_path / "usual").code == 0
    monkeypatch.setattr(fitness, "kind_of_disk", lambda folder: "vfat")
    refused = keeper("restore", "1", "--into", tmp_path / "fat")
    assert (refused.code, "--what-fits" in refused.err, "(7 such)" in refused.err) == (3, True, True), refused.err
    assert not (tmp_path / "fat").exists()
    done = keeper("restore", "1", "--into", tmp_path / "fat", "--what-fits")
    assert (done.code, done.out.count("left out: ")) == (1, 7), done.out + done.err
    whole, there = tree_state(tmp_path / "usual"), tree_state(tmp_path / "fat")
    assert whole.keys() - there.keys() == set(odd)
    assert keeper("restore", "1", "--what-fits").code == 2


def test_the_kind_of_a_disk_is_that_of_the_nearest_mount() -> None:
    assert fitness.kind_of_disk(Path("/proc/self")) == "proc"
    assert fitness.kind_of_disk(Path("/")) != "proc"


def test_a_mode_or_time_alone_comes_back_where_nobody_has_written_since(
    keeper: Program, server: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The last snapshot knows the file as it is now: same contents, and not to be read again."""
    monkeypatch.setattr(stat_cache, "SETTLED_NS", 20_000_000)
    path = server / "keeper.properties"
    os.utime(path, ns=(1, 1_600_000_000 * 10**9))
    keeper("snapshot")
    state = tree_state(server)
    path.chmod(0o600)
    os.utime(path, ns=(1, 1_500_000_000 * 10**9))
    time.sleep(0.05)
    keeper("snapshot")
    done = keeper("restore", "1", "--go")
    assert (done.code, "set mode and time of keeper.properties" in done.out) == (0, True), done.out + done.err
    assert tree_state(server) == state
