"""A store that several keeps share: what is alike lies there once, nobody's thinning takes what another needs, and moving
in and out loses nothing, wherever it is stopped."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import pytest

from emberkeep.errors import EmberKeepError, Refused, UsageError
from emberkeep.fs import system
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import runner
from emberkeep.operations.engine.preview import preview
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows import move_store
from emberkeep.operations.record import defaults, snapshot
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.upkeep import sharing
from emberkeep.store import compact, writer
from emberkeep.store.earlier import unwritten
from emberkeep.store.repair import repair
from emberkeep.store.shared import MARKER, owner_of, share_of, store_of
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow
from emberkeep.store.verify import verify
from tests import depth
from tests.conftest import tree_state
from tests.faults import FaultyIO, PowerCut, Recorder, Stop, count_calls, moments
from tests.helpers import NOW, clock, flip, new_keep, same_contents
from tests.program import run_program, start_program

ENGINE = random.Random(99).randbytes(2_500_000)
STOPS = (Stop, EmberKeepError, OSError)


def server_of(place: Path, name: str, seed: int) -> Keep:
    """A server of the one game that all have: its engine and vendor files, a map and players of its own."""
    root, some = place / name, random.Random(seed)
    (root / "data").mkdir(parents=True)
    (root / "players").mkdir()
    (root / "engine.bin").write_bytes(ENGINE)
    for number in range(12):
        (root / "data" / f"goods-{number}.xml").write_bytes(random.Random(number).randbytes(4_000))
    (root / "map.sav").write_bytes(some.randbytes(1_200_000))
    for number in range(1 + seed):  # so that bundles begin elsewhere on each
        (root / "players" / f"{number}.json").write_bytes(some.randbytes(900))
    (root / "latest").symlink_to("map.sav")
    return new_keep(place, server=name)


def take(keep: Keep) -> str:
    with closing(store_of(keep)) as store:
        return snapshot.take(keep, clock(), store=store).about.label


def play(keep: Keep, seed: int) -> None:
    """A session: a sector of the map, a player."""
    with (keep.server / "map.sav").open("r+b") as handle:
        handle.seek(seed % 70 * 4096)
        handle.write(random.Random(seed).randbytes(4096))
    (keep.server / "players" / "0.json").write_bytes(random.Random(seed).randbytes(901))


def context_of(keep: Keep, request: move_store.Request) -> tuple[RunContext, list[move_store.Step]]:
    store = store_of(keep)
    run = move_store.KIND.run(request, NOW)
    return RunContext(keep, store, Journal(keep.folder), run, clock), move_store.steps(keep, store, request)


def move(keep: Keep, to: str) -> None:
    request = move_store.request_for(keep, to)
    assert request is not None
    context, steps = context_of(keep, request)
    with closing(context.store):
        runner.carried_out(context, steps)


def read_whole(store: Store, row: FileRow) -> bytes | None:
    return b"".join(store.contents(row)) if row.digest else None


def contents(keep: Keep) -> dict[str, dict[str, object]]:
    """All that a keep's snapshots and recorded releases hold, read to the last byte."""
    found: dict[str, dict[str, object]] = {}
    with closing(store_of(keep)) as store:
        for name in store.names():
            held = store.manifest_of(name).held
            found[str(name)] = {path: (row.entry, read_whole(store, row)) for path, row in held.items()}
        assert verify(store).sound
    return found


@pytest.fixture
def three(tmp_path: Path) -> list[Keep]:
    """Three servers of one game, each with two snapshots and a recorded release in a store of its own."""
    keeps = [server_of(tmp_path, name, seed) for seed, name in enumerate(("gannet", "tern", "auk"))]
    for at, keep in enumerate(keeps):
        take(keep)
        play(keep, at)
        take(keep)
        with closing(store_of(keep)) as store:
            defaults.record(keep, store, "4.2", keep.server, NOW)
    return keeps


# --- moving ---------------------------------------------------------------------------------------


def test_moved_in_and_out_every_snapshot_is_the_same_and_what_is_alike_lies_there_once(
    three: list[Keep], tmp_path: Path
) -> None:
    before = [contents(keep) for keep in three]
    alone = [Store(keep.store_folder).size() for keep in three]
    for keep in three:
        move(keep, "../game")
        assert not keep.store_folder.exists()
    shared = store_of(three[0])
    assert shared.folder == tmp_path / "game"
    assert [other.member for other in shared.others()] == ["auk", "tern"]
    assert [contents(keep) for keep in three] == before
    own = 3 * 1_210_000  # maps and players
    assert shared.size() < len(ENGINE) + 60_000 + own < sum(alone) / 1.7
    for keep in reversed(three):
        move(keep, "")
        assert share_of(keep) is None
    assert [contents(keep) for keep in three] == before
    assert [Store(keep.store_folder).size() for keep in three] == pytest.approx(alone, rel=0.05)
    assert not [*(tmp_path / "game" / "keeps").iterdir()]
    assert all("store" not in (keep.folder / "keep.toml").read_text() for keep in three)


def test_a_snapshot_after_moving_reads_no_file_that_nobody_wrote_to(three: list[Keep]) -> None:
    keep = three[0]
    for path in keep.server.rglob("*"):
        os.utime(path, (1_000_000_000, 1_000_000_000), follow_symlinks=False)
    later = NOW + timedelta(days=3650)
    with closing(store_of(keep)) as store:
        snapshot.take(keep, later, store=store)
    move(keep, "../game")
    (keep.server / "engine.bin").chmod(0)  # who reads it fails; as root, by what is noted as read
    read: list[str] = []

    class Watched(FolderTree):
        def chunks(self, path: str) -> Iterator[bytes]:
            read.append(path)
            return super().chunks(path)

    with closing(store_of(keep)) as store:
        (keep.server / "engine.bin").chmod(0o644)
        found = unwritten(store, Watched(keep.server, "live"))
    assert "map.sav" in found
    assert read == []


def test_what_another_keep_holds_already_is_not_stored_again(three: list[Keep], tmp_path: Path) -> None:
    for keep in three[:2]:
        move(keep, "../game")
    late = server_of(tmp_path, "skua", 7)
    move(late, "../game")  # with no snapshot yet
    with closing(store_of(late)) as store:
        grown = snapshot.take(late, NOW, store=store).about.new_bytes
        same_contents(store, "1", late.server)
    assert 1_200_000 < grown < 1_230_000  # its own map and players; no engine, no vendor file
    shutil.copyfile(three[0].server / "map.sav", late.server / "map.sav")
    with closing(store_of(late)) as store:
        assert snapshot.take(late, NOW, store=store).about.new_bytes < 3_000


def two(place: Path, *, out: bool) -> Keep:
    """A keep beside another one that shares a store; ``out``: which shares it too."""
    other = server_of(place, "tern", 2)
    take(other)
    move(other, "../game")
    keep = server_of(place, "gannet", 1)
    take(keep)
    play(keep, 3)
    take(keep)
    if out:
        move(keep, "../game")
    return keep


@pytest.mark.parametrize("out", depth.some([False, True], 1))
def test_stopped_anywhere_a_move_is_finished_or_taken_back(tmp_path: Path, out: bool) -> None:
    to = "" if out else "../game"
    counted = two(tmp_path / "count", out=out)
    calls = count_calls(lambda: move(counted, to))
    waited = 0
    for at in moments(calls, 3, 60):
        keep = two(tmp_path / f"at{at}", out=out)
        expected = contents(keep)
        with system.use(FaultyIO(at, Stop())), suppress(*STOPS):
            move(keep, to)
        assert contents(keep) == expected, at
        run = Journal(keep.folder).waiting()
        if run is None:
            assert at > calls or (share_of(keep) is not None) == out, at
            continue
        waited += 1
        context, _ = context_of(keep, move_store.KIND.request_of(run))
        context.run = run
        (runner.resume if at % 2 else move_store.undo)(context)
        assert (share_of(keep) is not None) == (out if at % 2 == 0 else not out), at
        assert Journal(keep.folder).waiting() is None
        assert contents(keep) == expected, at
        assert keep.store_folder.exists() == (share_of(keep) is None), at
        assert len(store_of(Keep(keep.folder.parent / "tern.keep")).others()) == (share_of(keep) is not None)
        assert Keep(keep.folder).config.shared_store == ("../game" if share_of(keep) else "")
        shutil.rmtree(keep.folder.parent)
    assert waited


@pytest.mark.parametrize("out", depth.some([True, False], 1))
def test_after_a_power_cut_in_a_move_every_snapshot_is_whole(tmp_path: Path, out: bool) -> None:
    """Most of all just after the keep has noted the new place: nothing there may be lost then."""
    to = "" if out else "../game"
    counted = two(tmp_path / "count", out=out)
    with system.use(recorder := Recorder()):
        move(counted, to)
    noted = recorder.places("sync_folder", counted.folder.name)[0]
    calls = [*moments(len(recorder.calls), 1, 30), *[noted + after for after in (1, 2, 3)] * depth.choose(1, 6)]
    for number, at in enumerate(calls):
        keep = two(tmp_path / f"cut{number}", out=out)
        other = Keep(keep.folder.parent / "tern.keep")
        expected = contents(keep), contents(other)
        room = tmp_path / f"room{number}"
        room.mkdir()
        power = PowerCut(at, random.Random(number), room)
        with system.use(power), suppress(*STOPS):
            move(keep, to)
        power.cut()
        assert (contents(keep), contents(other)) == expected, at
        shutil.rmtree(keep.folder.parent)


@pytest.mark.long
def test_failing_anywhere_a_move_is_taken_back(three: list[Keep]) -> None:
    keep = three[0]
    expected = contents(keep)
    calls = count_calls(lambda: move(keep, "../game"))
    move(keep, "")
    failed = 0
    for at in moments(calls, 5, 80):
        try:
            with system.use(FaultyIO(at, OSError(28, "No space left on device"))):
                move(keep, "../game")
        except (EmberKeepError, OSError):
            failed += 1
        assert Journal(keep.folder).waiting() is None, at
        assert contents(keep) == expected, at
        if share_of(keep):
            move(keep, "")
    assert failed


def test_the_commands_move_show_and_undo(three: list[Keep], tmp_path: Path) -> None:
    def run(*words: str, keep: Keep = three[0], code: int = 0) -> str:
        ran = run_program("--keep", keep.folder, *words, cwd=tmp_path)
        assert ran.code == code, ran.out + ran.err
        return ran.out + ran.err

    assert "no other keep shares it" in run("store")
    assert "2 snapshots and one recorded release" in run("store", "join", "game")
    assert not (tmp_path / "game").exists()
    run("store", "join", "game", "--go")
    run("store", "join", "game", "--go", keep=three[1])
    assert "tern" in run("store")
    told = run_program("--keep", three[0].folder, "store", "--json", cwd=tmp_path).json["store"]
    assert [one["name"] for one in told["members"]] == ["gannet", "tern"]
    assert told["members"][0]["alone"] < told["members"][0]["needs"] / 2
    assert "already" in run("store", "join", "game", "--go")
    assert "there is no run to take back" in run("undo", code=2)  # the server folder was left alone
    assert "changes nothing in the server folder" in run("undo", "1")
    run("undo", "1", "--go")
    assert "no other keep shares it" in run("store")
    assert run("history").count("undone") == 1
    assert "already" in run("store", "leave", "--go")
    joined = run_program("store", "join", "game", "--all", tmp_path, "--go", cwd=tmp_path)
    assert joined.code == 0, joined.err
    assert "they lie there already" in joined.out
    assert len(store_of(three[2]).others()) == 2


def test_a_move_does_not_stand_between_undo_and_the_run_before_it(three: list[Keep], tmp_path: Path) -> None:
    keep = three[0]
    (keep.server / "engine.bin").write_bytes(b"broken")
    (keep.server / "data" / "goods-1.xml").unlink()
    before = tree_state(keep.server)
    for words in (("restore", "2", "--go"), ("store", "join", "game", "--go")):
        assert run_program("--keep", keep.folder, *words, cwd=tmp_path).code == 0
    play(keep, 9)  # somebody played since: an older run could not be taken back
    assert run_program("--keep", keep.folder, "undo", "--go", cwd=tmp_path).code == 0
    after = tree_state(keep.server)
    assert after["engine.bin"] == before["engine.bin"]
    assert "data/goods-1.xml" not in after


# --- living together ----------------------------------------------------------------------------------


def long_ago(store: Store) -> None:
    for mark in store.packs.glob(f"*{compact.IDLE_MARK}"):
        os.utime(mark, (0, 0))


def test_thinning_takes_nothing_that_another_keep_needs_and_no_pack_that_it_may_be_reading(three: list[Keep]) -> None:
    for keep in three:
        move(keep, "../game")
    before = [contents(keep) for keep in three]
    reader = store_of(three[1])
    rows = reader.manifest("2").held  # as a program has them that began before
    with closing(store_of(three[0])) as store:
        writer.drop(store, "4.2", defaults=True)
        freed = compact.release(store, ["1", "2"])
        assert freed.later > 0
        assert all(read_whole(reader, row) for row in rows.values() if row.entry.size)
        long_ago(store)
        again = compact.release(store, [])
        assert again.later == 0
        assert again.after < freed.after
    assert [contents(keep) for keep in three[1:]] == before[1:]
    assert not [*store.packs.glob(f"*{compact.IDLE_MARK}")]


def test_a_snapshot_of_one_keep_leaves_the_quick_way_open_to_the_others(
    three: list[Keep], monkeypatch: pytest.MonkeyPatch
) -> None:
    for keep in three:
        for path in keep.server.rglob("*"):
            os.utime(path, (1_000_000_000, 1_000_000_000), follow_symlinks=False)
        move(keep, "../game")
        take(keep)
    play(three[1], 5)
    take(three[1])
    with closing(store_of(three[0])) as store:
        assert "engine.bin" in unwritten(store, FolderTree(three[0].server, "live"))
    monkeypatch.setattr(writer, "Intake", None)  # nothing is compared, let alone read
    assert take(three[0]) == "4"


def test_damage_is_found_for_every_keep_and_mended_from_any_server(three: list[Keep]) -> None:
    for keep in three:
        move(keep, "../game")
    with closing(store_of(three[0])) as store:
        pack = max(store.packs.glob("*.pack"), key=lambda path: path.stat().st_size)
        flip(pack, 1_000_000)
        found = verify(store)
        assert {one.snapshot for one in found.files} >= {"1", "2", "tern/1", "auk/defaults:4.2"}
        mended = repair(store, FolderTree(three[0].server))
        assert mended.after.sound
    assert all(contents(keep) for keep in three)


def test_writers_to_a_shared_store_wait_for_each_other(three: list[Keep], tmp_path: Path) -> None:
    for keep in three:
        move(keep, "../game")
        play(keep, 11)
    with held(store_of(three[0])):
        others = [
            start_program("--keep", keep.folder, "snapshot", cwd=tmp_path, stderr=subprocess.PIPE) for keep in three[1:]
        ]
        time.sleep(2.5)
        assert [other.poll() for other in others] == [None, None]
    said = [other.communicate(timeout=60)[1] for other in others]
    assert [other.returncode for other in others] == [0, 0], said
    assert "waiting for process" in str(said[0])
    assert all(len(contents(keep)) == 4 for keep in three[1:])


@contextmanager
def held(store: Store) -> Iterator[None]:
    with closing(store), store.writing():
        yield


def test_a_writer_that_waits_in_vain_says_who_holds_the_store(three: list[Keep]) -> None:
    for keep in three[:2]:
        move(keep, "../game")
    with held(store_of(three[0])):
        waiting = store_of(three[1])
        waiting.patience = 0.2
        with pytest.raises(Refused, match=r"the store that this keep shares \(process \d+ for gannet\)"):
            snapshot.take(three[1], NOW, store=waiting)


def test_a_snapshot_begun_before_a_move_is_not_lost_in_the_old_place(three: list[Keep]) -> None:
    keep = three[0]
    with closing(store_of(keep)) as store:
        move(keep, "../game")
        with pytest.raises(Refused, match="moved just now"):
            snapshot.take(keep, NOW, store=store)
    assert not keep.store_folder.exists()


# --- what goes wrong with places ---------------------------------------------------------------------------


def test_a_shared_store_that_is_not_there_is_never_an_empty_one(three: list[Keep], tmp_path: Path) -> None:
    keep = three[0]
    move(keep, "../game")
    (tmp_path / "game").rename(tmp_path / "unmounted")
    for words in (("history",), ("snapshot",), ("verify",)):
        ran = run_program("--keep", keep.folder, *words, cwd=tmp_path)
        assert ran.code == 3
        assert "is its disk mounted?" in ran.err
    assert not (tmp_path / "game").exists()


def test_a_copied_keep_does_not_take_the_snapshots_of_the_first(three: list[Keep], tmp_path: Path) -> None:
    move(three[0], str(tmp_path / "game"))
    other = tmp_path / "elsewhere" / "gannet.keep"
    shutil.copytree(three[0].folder, other)
    shutil.copytree(three[0].server, other.parent / "gannet", symlinks=True)
    with pytest.raises(Refused, match="is a copy of"):
        store_of(Keep(other))
    (other / MARKER).unlink()
    assert take(Keep(other)) == "1"
    (three[0].folder).rename(tmp_path / "moved.keep")  # moved, not copied
    assert len(contents(Keep(tmp_path / "moved.keep"))) == 3


def test_a_keep_reached_by_a_link_is_no_copy_of_itself(three: list[Keep], tmp_path: Path) -> None:
    move(three[0], str(tmp_path / "game"))
    before = contents(three[0])
    (tmp_path / "by-link").symlink_to(tmp_path)
    linked = Keep(tmp_path / "by-link" / "gannet.keep")
    assert contents(linked) == before
    assert take(linked) == "3"
    assert owner_of(store_of(linked).own) == three[0].folder
    assert move_store.request_for(linked, str(tmp_path / "game")) is None


def test_a_keep_that_is_no_more_is_forgotten_only_by_name(three: list[Keep], tmp_path: Path) -> None:
    for keep in three:
        move(keep, "../game")
    store = store_of(three[0])
    with pytest.raises(Refused, match="is still there"):
        sharing.to_forget(store, "tern")
    with pytest.raises(UsageError, match="no other keep"):
        sharing.to_forget(store, "gannet")
    shutil.rmtree(three[1].folder)
    told = run_program("--keep", three[0].folder, "store", cwd=tmp_path).out
    assert "its keep is gone" in told
    for words, left in ((("store", "forget", "tern"), 2), (("store", "forget", "tern", "--go"), 1)):
        assert run_program("--keep", three[0].folder, *words, cwd=tmp_path).code == 0
        assert len(store.others()) == left
    assert len(contents(three[2])) == 3


@pytest.mark.parametrize(
    ("to", "why"),
    [
        ("../gannet/inside", "in no server folder and in no keep"),
        ("store", "in no server folder and in no keep"),
        ("../full", "no shared store, and not empty"),
        ("../tern.keep/store", "no shared store, and not empty"),
    ],
)
def test_not_every_folder_becomes_a_shared_store(three: list[Keep], tmp_path: Path, to: str, why: str) -> None:
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "mine.txt").write_text("x")
    with pytest.raises(Refused, match=why):
        move_store.request_for(three[0], to)


@pytest.mark.skipif(os.name == "nt" or os.geteuid() != 0, reason="only root can make another user's folder")
def test_another_users_store_is_not_shared(three: list[Keep], tmp_path: Path) -> None:
    (tmp_path / "theirs" / "keeps").mkdir(parents=True)
    os.chown(tmp_path / "theirs", 12345, 12345)
    with pytest.raises(Refused, match="another user's"):
        move_store.request_for(three[0], "../theirs")


def test_a_preview_tells_how_much_is_there_already(three: list[Keep]) -> None:
    move(three[0], "../game")
    request = move_store.request_for(three[1], "../game")
    assert request is not None
    context, steps = context_of(three[1], request)
    found = preview(context, steps)
    assert "2 MB are there already" in found.steps[0].notes[1]
    assert share_of(three[1]) is None


def test_moved_again_since_the_first_move_is_not_undone(three: list[Keep], tmp_path: Path) -> None:
    keep = three[0]
    move(keep, "../game")
    move(keep, "../other")
    before = contents(keep)
    ran = run_program("--keep", keep.folder, "undo", "1", "--go", cwd=tmp_path)
    assert ran.code == 3
    assert "moved again since" in ran.err
    assert contents(keep) == before


@pytest.mark.long
def test_a_name_that_another_keep_has_by_now_is_left_to_it(three: list[Keep], tmp_path: Path) -> None:
    first = three[0]
    other = server_of(tmp_path / "elsewhere", "gannet", 5)
    take(other)
    shared = str(tmp_path / "game")
    move(first, shared)
    move(first, "")
    late = move_store.request_for(first, shared)
    assert late is not None and late.name == "gannet"
    move(other, shared)
    assert share_of(other) == replace(share_of(other), name="gannet")
    before = contents(other)
    ran = run_program("--keep", first.folder, "undo", "1", "--go", cwd=tmp_path)
    assert ran.code == 3  # that run was reversed by the second
    context, steps = context_of(first, late)
    with pytest.raises(EmberKeepError, match="another keep took the name gannet"):
        runner.carried_out(context, steps)
    assert contents(other) == before
    context.run = context.journal.begin(move_store.KIND.run(late, NOW))  # as it was when it was killed at once
    move_store.undo(context)
    assert contents(other) == before
    move(first, shared)
    assert share_of(first) == replace(share_of(first), name="gannet-2")


@pytest.mark.long
def test_a_store_is_shared_by_real_processes_killed_at_random(three: list[Keep], tmp_path: Path) -> None:
    """Kill -9 of snapshots and thinnings of three keeps at once; what each had before is whole."""
    for keep in three:
        (keep.folder / "keep.toml").open("a").write('[ladder]\n"1 day" = "one a year"\n')
        move(keep, "../game")
    some = random.Random(4)
    for round_ in range(4):
        before = [contents(keep) for keep in three]
        for keep in three:
            play(keep, round_ * 7)
        running = [
            start_program("--keep", keep.folder, *words, cwd=tmp_path, stderr=subprocess.DEVNULL)
            for keep, words in zip(three, (("snapshot",), ("thin", "--go"), ("snapshot",)), strict=True)
        ]
        time.sleep(some.uniform(0.1, 1.2))
        for process in running:
            process.kill()
            process.wait()
        after = [contents(keep) for keep in three]
        for was, now in zip(before, after, strict=True):
            assert all(now[name] == was[name] for name in now.keys() & was.keys())
            assert len(now) >= 1


def test_what_a_keep_needs_of_a_shared_store_is_a_store_by_itself(three: list[Keep], tmp_path: Path) -> None:
    """As a rehearsal has it."""
    for keep in three:
        move(keep, "../game")
    copy = new_keep(tmp_path, server="copy")
    with closing(store_of(three[1])) as store:
        for name, path in store.needed_files().items():
            target = copy.store_folder / name
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(path, target)
    assert contents(copy) == contents(three[1])


def test_check_tells_where_keep_toml_wants_the_snapshots_elsewhere(three: list[Keep], tmp_path: Path) -> None:
    with (three[0].folder / "keep.toml").open("a") as file:
        file.write('[store]\nshared = "../game"\n')
    told = run_program("--keep", three[0].folder, "check", cwd=tmp_path).out
    assert "keep.toml wants the snapshots in ../game" in " ".join(told.split())
    assert run_program("--keep", three[0].folder, "store", "join", "--go", cwd=tmp_path).code == 0
    told = run_program("--keep", three[0].folder, "check", cwd=tmp_path).out
    assert "wants the snapshots" not in " ".join(told.split())


# --- vaults -------------------------------------------------------------------------------------------------


@pytest.mark.long
def test_a_vault_of_a_shared_store_holds_every_keep_and_gives_each_back(three: list[Keep], tmp_path: Path) -> None:
    def run(*words: str | Path, code: int = 0) -> str:
        ran = run_program(*words, cwd=tmp_path, environment=secret)
        assert ran.code == code, ran.out + ran.err
        return ran.out + ran.err

    secret = {"WORDS": "of one who knows"}
    nowhere = tmp_path / "nowhere"
    nowhere.mkdir()
    sealed = ("--secret-env", "WORDS")
    first = ("--keep", three[0].folder)
    run(*first, "mirror", "vault", "copy", *sealed)
    for keep in three:
        move(keep, "../game")
    before = [contents(keep) for keep in three]
    run(*first, "mirror", "vault", "copy", *sealed)  # the vault of one becomes that of all
    assert "nothing was new" in run("--keep", three[2].folder, "mirror", "vault", "copy", *sealed)
    assert sum(path.stat().st_size for path in (tmp_path / "copy").rglob("*")) < store_of(three[0]).size() * 1.05
    run(*first, "mirror", "vault", "copy", "--check", "--sample", "100%", *sealed)
    take(three[1])
    assert "sent" in run("--keep", three[1].folder, "mirror", "vault", "copy", *sealed)
    before[1] = contents(three[1])

    for number, keep in enumerate(three):  # by the keep, or with nothing but the vault
        run("--keep", keep.folder, "restore", "1", "--into", f"look{number}", "--from-vault", "copy", *sealed)
        words = ("restore", "1", "--into", tmp_path / f"blind{number}", "--from-vault", tmp_path / "copy", *sealed)
        ran = run_program(*words, "--of", keep.server.name, cwd=nowhere, environment=secret)
        assert ran.code == 0, ran.err
        for look in (tmp_path / f"look{number}", tmp_path / f"blind{number}"):
            assert all((look / path).read_bytes() == data for path, (_, data) in before[number]["1"].items() if data)
    ran = run_program(*words, cwd=nowhere, environment=secret)
    assert ran.code == 2
    assert "it holds auk, gannet, tern" in ran.err

    for keep in three:
        shutil.rmtree(keep.folder)
    shutil.rmtree(tmp_path / "game")
    assert "3 keeps that share a store" in run(
        "--keep", tmp_path / "back", "mirror", "vault", "copy", "--bring-back", *sealed
    )
    for keep, was in zip(three, before, strict=True):
        assert contents(Keep(tmp_path / "back" / keep.folder.name)) == was


def test_a_vault_is_not_taken_over_by_keeps_that_do_not_share_its_store(three: list[Keep], tmp_path: Path) -> None:
    for keep in three[:2]:
        move(keep, "../game")
    for keep, code in ((three[0], 0), (three[2], 3), (three[1], 0)):
        ran = run_program("--keep", keep.folder, "mirror", "vault", "copy", cwd=tmp_path)
        assert ran.code == code, ran.err
        assert code == 0 or "another keep" in ran.err
    move(three[1], "")
    ran = run_program("--keep", three[1].folder, "mirror", "vault", "copy", cwd=tmp_path)
    assert ran.code == 3  # it would let go what the other keep has there
    ran = run_program("--keep", three[0].folder, "mirror", "vault", "copy", cwd=tmp_path)
    assert ran.code == 0, ran.err
