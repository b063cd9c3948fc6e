"""Whatever becomes of snapshots while a run needs them, there is a way on, and the message names it."""

from __future__ import annotations

import shutil
from contextlib import closing
from pathlib import Path

import pytest

from emberkeep.fs import system
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.upkeep import thin
from emberkeep.store.store import Store
from tests.conftest import KEEP, tree_state
from tests.faults import FaultyIO, Stop
from tests.helpers import NOW, flip
from tests.program import Program


def manifest(place: Path, label: str) -> Path:
    return place / KEEP / "store" / "snapshots" / f"{int(label):06d}.manifest"


def changed(server: Path) -> None:
    (server / "keeper.properties").write_text("changed since\n")
    shutil.rmtree(server / "mission")
    (server / "new").write_text("new")


@pytest.mark.parametrize("lost", ["gone", "damaged"])
def test_a_restore_is_undone_without_the_snapshot_that_it_put_back(
    keeper: Program, place: Path, server: Path, lost: str
) -> None:
    keeper("snapshot", "--note", "target")
    changed(server)
    before = tree_state(server)
    assert keeper("restore", "target", "--go").code == 0
    flip(manifest(place, "1"), 100) if lost == "damaged" else manifest(place, "1").unlink()
    done = keeper("undo", "--go")
    assert done.code == 0, done.err
    assert tree_state(server) == before


@pytest.mark.parametrize("lost", ["gone", "damaged"])
def test_a_restore_that_stopped_half_way_and_lost_its_snapshot_is_taken_back(
    keeper: Program, place: Path, server: Path, lost: str
) -> None:
    keeper("snapshot", "--note", "target")
    changed(server)
    before = tree_state(server)
    with system.use(FaultyIO(60, Stop())), pytest.raises(Stop):
        keeper("restore", "target", "--go")
    assert tree_state(server) != before
    flip(manifest(place, "1"), 100) if lost == "damaged" else manifest(place, "1").unlink()
    stuck = keeper("resume", "--go")
    assert (stuck.code, "'emberkeep undo --go' takes back" in stuck.err) == (3, True), stuck.err
    done = keeper("undo", "--go")
    assert done.code == 0, done.err
    assert tree_state(server) == before
    assert Journal(place / KEEP).waiting() is None


def test_a_run_whose_snapshot_before_is_lost_ends_as_far_as_possible(
    keeper: Program, place: Path, server: Path
) -> None:
    keeper("snapshot", "--note", "target")
    changed(server)
    with system.use(FaultyIO(60, Stop())), pytest.raises(Stop):
        keeper("restore", "target", "--go")
    flip(manifest(place, "2"), 100)
    half_way = tree_state(server)
    refused = keeper("undo", "--go")
    assert (refused.code, "undo --as-far-as-possible --go" in refused.err) == (4, True), refused.err
    assert tree_state(server) == half_way
    assert keeper("undo", "--as-far-as-possible", "--go").code == 0
    assert tree_state(server) == half_way
    assert keeper("restore", "target", "--go").code == 0


def test_a_snapshot_before_that_is_damaged_in_part_gives_back_the_rest(
    keeper: Program, place: Path, server: Path
) -> None:
    keeper("snapshot", "--note", "target")
    changed(server)
    (server / "large").write_bytes(bytes(range(256)) * 9000)
    (server / "keeper.properties").write_text("mine\n")
    assert keeper("restore", "target", "--go").code == 0
    packs = sorted((place / KEEP / "store" / "packs").glob("*.pack"))
    flip(packs[-1], packs[-1].stat().st_size // 2)
    refused = keeper("undo", "--go")
    assert (refused.code, "--as-far-as-possible" in refused.err) == (4, True), refused.err
    partly = keeper("undo", "--as-far-as-possible", "--go")
    assert partly.code == 4
    assert not (server / "mission").exists()
    assert Journal(place / KEEP).waiting() is None


def test_thinning_lets_nothing_go_that_a_run_has_come_to_need(keeper: Program, place: Path, server: Path) -> None:
    """It was judged before the run began, and is carried out while the run waits."""
    for note in ("old", "newer", "newest"):
        (server / "new").write_text(note)
        keeper("snapshot", "--note", note)
    keep = Keep(place / KEEP)
    with closing(Store(keep.store_folder)) as store:
        found = thin.plan(keep, store, NOW.replace(year=2033))
        assert found.going == ("1", "2")
        with system.use(FaultyIO(25, Stop())), pytest.raises(Stop):
            keeper("restore", "old", "--go")
        thin.carry_out(keep, store, found)
        assert store.numbers() == [1, 3, 4]
    assert keeper("resume", "--go").code == 0
    assert (server / "new").read_text() == "old"


def test_defaults_that_a_run_may_need_are_not_dropped(recorded: Program, place: Path) -> None:
    recorded("snapshot")
    (place / "gannet-rock" / "new").write_text("x")
    with system.use(FaultyIO(40, Stop())), pytest.raises(Stop):
        recorded("restore", "1", "--go")
    assert Journal(place / KEEP).waiting() is not None
    assert recorded("defaults", "drop", "4.2").code == 3
