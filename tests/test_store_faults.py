"""The store under faults: the system refuses or the program stops at every writing call, the power goes, the disk is full,
bits flip. Whatever was reported stays whole, nothing else claims to exist, and the next snapshot works."""

from __future__ import annotations

import os
import random
import shutil
import signal
import stat
import tarfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest

from emberkeep.errors import Damage, EmberKeepError, Refused
from emberkeep.fs import system, writing
from emberkeep.fs.archives import open_source
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, read
from emberkeep.store import compact, writer
from emberkeep.store.manifest import About
from emberkeep.store.repair import repair
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.verify import verify
from tests import depth
from tests.conftest import said_yes
from tests.faults import FaultyIO, PowerCut, Recorder, Stop, count_calls, moments
from tests.helpers import ABOUT, NOW, flip, new_keep, same_contents
from tests.program import run_process, start_program

KILLS = depth.number("KILLS", 8, 50)
"""How often the real program is killed."""


@pytest.fixture
def source(tmp_path: Path) -> Path:
    """A server in small: files that are bundled, one that needs blocks of its own, a link, an empty folder."""
    root = tmp_path / "server"
    some = random.Random(5)
    (root / "players").mkdir(parents=True)
    (root / "empty").mkdir()
    for number in range(6):
        (root / "players" / f"{number}.json").write_text(f'{{"keeper": {number}}}')
    (root / "tile").write_bytes(some.randbytes(1_300_000))
    (root / "old").write_bytes(some.randbytes(700_000))
    (root / "latest").symlink_to("tile")
    return root


def grown(source: Path) -> None:
    """What the second snapshot finds: a sector rewritten, a player changed, one gone, one new."""
    with (source / "tile").open("r+b") as tile:
        tile.seek(8192)
        tile.write(b"x" * 4096)
    (source / "players" / "1.json").write_text('{"keeper": 1, "bag": "rope"}')
    (source / "players" / "2.json").unlink(missing_ok=True)
    (source / "players" / "7.json").write_text("new")
    (source / "old").unlink(missing_ok=True)  # which leaves the first bundle mostly useless


def taken(store: Store, source: Path) -> str:
    live = FolderTree(source)
    return writer.add(store, live, ABOUT, live=live).about.label


def check(folder: Path, source: Path, states: dict[str, dict[str, bytes]]) -> None:
    """All snapshots are among ``states`` and whole, and another one can be taken and is whole too."""
    store = Store(folder)
    labels = [str(number) for number in store.numbers()]
    assert set(labels) <= set(states)
    assert verify(store).sound
    for label in labels:
        assert contents(store, label) == states[label]
    newest = taken(store, source)
    same_contents(store, newest, source)
    assert verify(store).sound
    assert not list(folder.rglob("*.part"))
    assert not list(folder.rglob(f"{writing.TEMPORARY}*"))
    store.close()


def contents(store: Store, label: str) -> dict[str, bytes]:
    tree = SnapshotTree(store, store.manifest(label), label)
    return {path: read(tree, path) for path, entry in tree.entries().items() if entry.kind is FILE}


ERRORS = [OSError(28, "No space left on device"), OSError(5, "Input/output error"), OSError(13, "Denied"), Stop()]


def prepared(
    tmp_path: Path, source: Path, act: str
) -> tuple[Path, dict[str, dict[str, bytes]], Callable[[Path], object]]:
    """A store with two snapshots, what they hold, and the act that is to be disturbed on a copy of it."""
    folder = tmp_path / "prepared"
    store = Store(folder)
    taken(store, source)
    grown(source)
    taken(store, source)
    states = {label: contents(store, label) for label in ("1", "2")}
    store.close()
    archive = tmp_path / "other.tar"
    with tarfile.open(archive, "w") as out:
        out.add(source / "players", "players")
    (source / "players" / "3.json").write_text("changed again")
    new = {path: (source / path).read_bytes() for path, e in FolderTree(source).entries().items() if e.kind is FILE}
    acts: dict[str, Callable[[Path], object]] = {
        "snapshot": lambda where: taken(Store(where), source),
        "archive": lambda where: writer.add(Store(where), open_source(archive), About("", NOW, "asked", source="x")),
        "thin": lambda where: compact.release(Store(where), ["1"]),
    }
    states["3"] = new if act == "snapshot" else {p: d for p, d in states["2"].items() if p.startswith("players/")}
    return folder, states, acts[act]


@pytest.mark.parametrize("act", ["snapshot", "archive", "thin"])
@pytest.mark.parametrize("error", depth.some(ERRORS, 2), ids=repr)
def test_failing_or_stopping_at_any_call_loses_nothing(
    tmp_path: Path, source: Path, act: str, error: BaseException
) -> None:
    folder, states, disturbed = prepared(tmp_path, source, act)
    shutil.copytree(folder, tmp_path / "count")
    calls = count_calls(lambda: disturbed(tmp_path / "count"))
    assert calls > 8
    for at in moments(calls, 5):
        where = tmp_path / f"at{at}"
        shutil.copytree(folder, where)
        failed = True
        with system.use(FaultyIO(at, error)), suppress(OSError, Stop, EmberKeepError):
            disturbed(where)
            failed = False
        numbers = Store(where).numbers()
        assert 2 in numbers
        if act != "thin" and not isinstance(error, Stop):
            assert numbers == ([1, 2] if failed else [1, 2, 3]), at
        assert act == "thin" or 1 in numbers
        check(where, source, states)
        shutil.rmtree(where)


@pytest.mark.parametrize("act", ["snapshot", "archive", "thin"])
def test_a_power_cut_at_any_call_loses_nothing_that_was_reported(tmp_path: Path, source: Path, act: str) -> None:
    folder, states, disturbed = prepared(tmp_path, source, act)
    shutil.copytree(folder, tmp_path / "count")
    calls = count_calls(lambda: disturbed(tmp_path / "count"))
    for at in moments(calls, 8):
        where, room = tmp_path / f"at{at}", tmp_path / f"room{at}"
        shutil.copytree(folder, where)
        room.mkdir()
        power = PowerCut(at, random.Random(at), room)
        reported = False
        with system.use(power), suppress(OSError, Stop, EmberKeepError):
            disturbed(where)
            reported = True
        power.cut()
        numbers = Store(where).numbers()
        assert 2 in numbers
        if reported:
            assert numbers == ([2] if act == "thin" else [1, 2, 3])
        check(where, source, {**states, "1": states["1"]})
        shutil.rmtree(where)


def test_snapshots_are_gone_for_good_before_their_blocks_are(tmp_path: Path, source: Path) -> None:
    """A snapshot that comes back after a power cut must find its blocks."""
    folder, _, thin = prepared(tmp_path, source, "thin")
    with system.use(recorder := Recorder()):
        thin(folder)
    gone = recorder.places("unlink", Store(folder).manifest_path("1").name)
    packs = [*recorder.places("unlink", ".pack"), *recorder.places("replace", ".part")]
    synced = recorder.places("sync_folder", "snapshots")
    assert gone and packs
    assert any(gone[0] < at < min(packs) for at in synced)


def test_what_thinning_could_not_free_the_next_frees(tmp_path: Path, source: Path) -> None:
    folder, _, _ = prepared(tmp_path, source, "thin")
    (source / "own").write_bytes(random.Random(9).randbytes(500_000))
    taken(Store(folder), source)
    (source / "own").unlink()
    taken(Store(folder), source)
    whole = Store(folder).size()

    class StopsAtPacks(system.SystemIO):
        def unlink(self, path: str | Path) -> None:
            if str(path).endswith(".pack"):
                raise Stop
            super().unlink(path)

    with system.use(StopsAtPacks()), pytest.raises(Stop):
        compact.release(Store(folder), ["1", "2", "3"])
    assert Store(folder).numbers() == [4]
    freed = compact.release(Store(folder), [str(number) for number in Store(folder).numbers()[:-1]])
    assert freed.bytes > 400_000
    assert Store(folder).size() < whole - 400_000
    assert Store(folder).numbers() == [4]
    assert verify(Store(folder)).sound


def test_what_thinning_would_free_is_worked_out_with_its_progress_told(tmp_path: Path, source: Path) -> None:
    folder = tmp_path / "store"
    for _ in range(3):
        taken(Store(folder), source)
    told: list[tuple[int, int]] = []
    assert compact.freed_by(Store(folder), ["1"], lambda done, total: told.append((done, total))) > 0
    assert [done for done, _ in told] == sorted({done for done, _ in told}) and len(told) == 2
    assert told[-1][0] == told[-1][1] == sum(Store(folder).manifest_path(label).stat().st_size for label in ("2", "3"))


def test_thinning_is_refused_while_a_manifest_cannot_be_read(tmp_path: Path, source: Path) -> None:
    folder, _, _ = prepared(tmp_path, source, "thin")
    flip(Store(folder).manifest_path("2"), 60)
    before = sorted(path.name for path in folder.rglob("*"))
    with pytest.raises(Refused, match="damaged"):
        compact.release(Store(folder), ["1"])
    assert sorted(path.name for path in folder.rglob("*")) >= before


def test_each_step_of_the_store_is_on_disk_before_the_next_leans_on_it(tmp_path: Path, source: Path) -> None:
    """Packs before the manifest that names them; manifests are gone before packs go; and every folder at the end."""
    folder, _, _ = prepared(tmp_path, source, "thin")
    with system.use(adding := Recorder()):
        taken(Store(folder), source)
    (packed,) = adding.places("replace", ".pack.part")
    assert max(adding.places("sync", ".pack.part")) < packed < min(adding.places("sync_folder", "packs"))
    written = [at for at in adding.places("sync_folder", "snapshots") if at > packed]
    assert written and min(adding.places("sync_folder", "packs")) < written[0]

    with system.use(thinning := Recorder()):
        compact.release(Store(folder), ["1"])
    gone, packs = thinning.places("unlink", ".manifest"), thinning.places("unlink", ".pack")
    synced = thinning.places("sync_folder", "snapshots")
    assert gone and packs
    assert any(gone[-1] < at < packs[0] for at in synced)
    assert max(thinning.places("sync_folder", "packs")) > packs[-1]

    with system.use(dropping := Recorder()):
        writer.drop(Store(folder), "2")
    (gone_at,) = dropping.places("unlink", ".manifest")
    assert max(dropping.places("sync_folder", "snapshots")) > gone_at


def test_a_damaged_block_is_not_carried_into_a_new_pack(tmp_path: Path, source: Path) -> None:
    """Its pack stays as it is, and is told; what is whole in it has moved."""
    folder = tmp_path / "store"
    (source / "own").write_bytes(random.Random(9).randbytes(3_000_000))
    store = Store(folder)
    taken(store, source)
    (source / "own").unlink()
    taken(store, source)
    location = Store(folder).location(store.extents(store.manifest("2").held["tile"])[0].block)
    flip(folder / "packs" / "00000001.pack", location.offset + location.stored // 2)
    before = (folder / "packs" / "00000001.pack").read_bytes()
    freed = compact.release(Store(folder), ["1"])
    assert freed.left_alone == ("packs/00000001.pack",)
    assert (folder / "packs" / "00000001.pack").read_bytes() == before
    assert Store(folder).numbers() == [2]
    with pytest.raises(Damage):
        contents(Store(folder), "2")


def test_thinning_is_refused_while_blocks_are_missing(tmp_path: Path, source: Path) -> None:
    folder, _, _ = prepared(tmp_path, source, "thin")
    sorted((folder / "packs").iterdir())[0].unlink()
    with pytest.raises(Refused, match="nothing was deleted"):
        compact.release(Store(folder), ["1"])
    assert Store(folder).numbers() == [1, 2]


# --- the real program --------------------------------------------------------


@pytest.fixture
def keep(tmp_path: Path, source: Path) -> Path:
    return new_keep(tmp_path, '[ladder]\n"2 days" = "all"').folder


@pytest.mark.parametrize("part", range(depth.choose(1, 5)))
def test_a_killed_program_leaves_only_whole_snapshots(source: Path, keep: Path, part: int) -> None:
    """kill -9 of a snapshot: every other time at a random moment, else as soon as its pack is being written."""
    some = random.Random(part)
    started = time.monotonic()
    said_yes(run_process("--keep", keep, "snapshot", cwd=keep))
    usual = time.monotonic() - started
    hits = 0
    for number in range(KILLS // depth.choose(1, 5)):
        (source / "tile").write_bytes(some.randbytes(2_500_000))
        (source / "players" / "0.json").write_bytes(some.randbytes(900))
        running = start_program("--keep", keep, "snapshot", cwd=keep)
        if number % 2:
            time.sleep(some.uniform(0.2, 1.1) * usual)
        else:
            while running.poll() is None and not list((keep / "store" / "packs").glob("*.part")):
                pass
        running.send_signal(signal.SIGKILL)
        hits += running.wait() == -signal.SIGKILL
        assert verify(Store(keep / "store")).sound
    assert hits
    said_yes(run_process("--keep", keep, "snapshot", cwd=keep))
    store = Store(keep / "store")
    same_contents(store, str(store.numbers()[-1]), source)


@pytest.mark.long
def test_a_reader_sees_whole_snapshots_while_another_program_writes(source: Path, keep: Path) -> None:
    some = random.Random(1)
    said_yes(run_process("--keep", keep, "snapshot", cwd=keep))
    for _ in range(3):
        (source / "tile").write_bytes(some.randbytes(3_000_000))
        writer = start_program("--keep", keep, "snapshot", cwd=keep)
        while writer.poll() is None:
            store = Store(keep / "store")
            for number in store.numbers():
                assert contents(store, str(number))["players/1.json"]
            store.close()
        assert writer.returncode == 0


def test_a_reader_finds_its_blocks_when_another_program_puts_packs_together(tmp_path: Path, source: Path) -> None:
    folder, states, _ = prepared(tmp_path, source, "thin")
    reader = Store(folder)
    tree = SnapshotTree(reader, reader.manifest("2"), "2")
    assert reader.index
    (source / "own").write_bytes(random.Random(9).randbytes(500_000))
    taken(Store(folder), source)
    compact.release(Store(folder), ["3", "1"])
    assert {path: read(tree, path) for path in states["2"]} == states["2"]


def test_a_disk_that_is_full_half_way_leaves_all_as_before(source: Path, keep: Path) -> None:
    resource = pytest.importorskip("resource", reason="needs file size limits")
    said_yes(run_process("--keep", keep, "snapshot", cwd=keep))
    (source / "tile").write_bytes(random.Random(3).randbytes(4_000_000))
    before = {path: path.read_bytes() for path in (keep / "store").rglob("*") if path.is_file()}

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (1_500_000, 1_500_000))

    done = run_process("--keep", keep, "snapshot", cwd=keep, preexec_fn=limit)
    assert done.code == 5
    assert "could not be written" in done.err
    assert "as it was" in done.err
    after = {path: path.read_bytes() for path in (keep / "store").rglob("*") if path.is_file()}
    assert {p: d for p, d in after.items() if p.name != "holder"} == {
        p: d for p, d in before.items() if p.name != "holder"
    }
    said_yes(run_process("--keep", keep, "snapshot", cwd=keep))


def test_too_little_room_is_told_before_anything_is_written(
    source: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    store = Store(tmp_path / "store")
    monkeypatch.setattr(Store, "free", lambda self: 1000)
    with pytest.raises(Refused, match="has room for 1000"):
        taken(store, source)
    assert store.numbers() == []
    assert not list((tmp_path / "store" / "packs").iterdir())


@pytest.mark.skipif(hasattr(os, "geteuid") and os.geteuid() == 0, reason="root may write anywhere")
def test_a_read_only_store_can_be_read(source: Path, keep: Path) -> None:
    said_yes(run_process("--keep", keep, "snapshot", cwd=keep))
    for folder in (keep, *[path for path in keep.rglob("*") if path.is_dir()]):
        folder.chmod(stat.S_IRUSR | stat.S_IXUSR)
    try:
        for words in (("history",), ("verify",), ("restore", "latest")):
            said_yes(run_process("--keep", keep, *words, cwd=keep))
        refused = run_process("--keep", keep, "snapshot", cwd=keep)
        assert refused.code in (2, 3)
        assert "Traceback" not in refused.err
    finally:
        for folder in (keep, *[path for path in keep.rglob("*") if path.is_dir()]):
            folder.chmod(stat.S_IRWXU)


# --- damage ------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(12))
def test_damage_anywhere_is_found_and_never_given_back(tmp_path: Path, source: Path, seed: int) -> None:
    """A bit flips, or the end is lost, in a store file drawn by chance. What is still given is right; the rest is named."""
    folder, states, _ = prepared(tmp_path, source, "thin")
    some = random.Random(seed)
    kinds = ["packs/*.pack", "snapshots/*.manifest", "index", "seen"]
    path = some.choice(sorted(folder.glob(kinds[seed % len(kinds)])))
    if seed < 8:
        flip(path, some.randrange(path.stat().st_size))
    else:
        os.truncate(path, some.randrange(path.stat().st_size))
    store = Store(folder)
    found = verify(store)
    cache = path.name in ("index", "seen")
    assert found.sound is cache
    named = {(item.snapshot, item.path) for item in found.files}
    for label in ("1", "2"):
        for name, data in states[label].items():
            try:
                tree = SnapshotTree(store, store.manifest(label), label)
                assert read(tree, name) == data
            except Damage:
                assert not cache
                assert (label, name) in named or (label, "(all of it)") in named
    check_repair(folder, source, states)


def check_repair(folder: Path, source: Path, states: dict[str, dict[str, bytes]]) -> None:
    """After a repair a snapshot can be taken, is whole, and whatever the store gives of the others is right."""
    store = Store(folder)
    mended = repair(store, FolderTree(source))
    named = {(item.snapshot, item.path) for item in mended.after.files}
    newest = taken(store, source)
    same_contents(store, newest, source)
    for number in store.numbers():
        for name in states.get(str(number), {}):
            if (str(number), name) not in named and str(number) != newest:
                tree = SnapshotTree(store, store.manifest(str(number)), "")
                assert read(tree, name) == states[str(number)][name]


def test_repair_reads_again_what_still_stands_in_the_live_folder(tmp_path: Path, source: Path) -> None:
    store = Store(tmp_path / "store")
    taken(store, source)
    whole = contents(store, "1")
    pack = next((tmp_path / "store" / "packs").glob("*.pack"))
    for at in (300, 1_100_000):
        flip(pack, at)
    store = Store(tmp_path / "store")
    damaged = verify(store)
    assert len(damaged.files) == 8
    with (source / "tile").open("r+b") as tile:
        tile.write(b"played on")
    (source / "players" / "0.json").write_text("played on")
    mended = repair(store, FolderTree(source))
    assert mended.dropped >= 2
    assert {path for _, path in mended.files} == {"old", *(f"players/{number}.json" for number in range(1, 6))}
    assert {item.path for item in mended.after.files} == {"tile", "players/0.json"}
    after = {}
    for path in whole:
        with suppress(Damage):
            after[path] = read(SnapshotTree(store, store.manifest("1"), "1"), path)
    assert after == {path: data for path, data in whole.items() if path not in ("tile", "players/0.json")}
    assert not (tmp_path / "store" / "seen").exists()  # the next snapshot reads all anew
    assert repair(store, FolderTree(source)).dropped == 0


def test_a_block_is_read_again_from_a_file_that_was_played_on_elsewhere(tmp_path: Path, source: Path) -> None:
    """The file is not that of the snapshot any more; the stretch that is lost in the store still stands in it."""
    tile = random.Random(7).randbytes(3 * (1 << 20) + 500)
    (source / "tile").write_bytes(tile)
    store = Store(tmp_path / "store")
    taken(store, source)
    for number in (1, 2):
        extent = store.extents(store.manifest("1").held["tile"])[number]
        location = store.location(extent.block)
        flip(tmp_path / "store" / "packs" / "00000001.pack", location.offset + location.stored // 2)
    (source / "tile").write_bytes(b"played on" + tile[9 : 2 << 20] + b"and on" + tile[(2 << 20) + 6 :])
    mended = repair(Store(tmp_path / "store"), FolderTree(source))
    assert (mended.dropped, mended.blocks) == (2, 1)  # one stands there yet, one was written over
    assert [item.path for item in mended.after.files] == ["tile"]
    (source / "tile").write_bytes(b"other" + tile[5:])
    again = repair(Store(tmp_path / "store"), FolderTree(source))
    assert (again.blocks, again.after.sound) == (1, True)
    assert contents(Store(tmp_path / "store"), "1")["tile"] == tile


def test_repair_looks_only_at_files_of_the_live_folder(tmp_path: Path, source: Path) -> None:
    """Where a folder or a link stands now, or nothing, there is nothing to read again."""
    store = Store(tmp_path / "store")
    taken(store, source)
    for name in ("tile", "old"):
        location = store.location(store.extents(store.manifest("1").held[name])[0].block)
        flip(tmp_path / "store" / "packs" / "00000001.pack", location.offset + location.stored // 2)
        (source / name).unlink()
    (source / "tile").mkdir()
    (source / "old").symlink_to("players/1.json")
    mended = repair(Store(tmp_path / "store"), FolderTree(source))
    assert {"tile", "old"} <= {item.path for item in mended.after.files}


def test_repair_puts_a_manifest_aside_that_cannot_be_read(tmp_path: Path, source: Path) -> None:
    folder, _, _ = prepared(tmp_path, source, "thin")
    flip(Store(folder).manifest_path("1"), 60)
    with system.use(mending := Recorder()):
        mended = repair(Store(folder), FolderTree(source))
    (aside,) = mending.places("replace", "000001.manifest")
    assert max(mending.places("sync_folder", "snapshots")) > aside
    assert mended.aside == ("1",)
    assert mended.after.sound
    assert Store(folder).numbers() == [2]
    compact.release(Store(folder), [])


@pytest.mark.long
def test_a_sample_finds_damage_in_proportion(tmp_path: Path, source: Path) -> None:
    store = Store(tmp_path / "store")
    for number in range(40):
        (source / "tile").write_bytes(random.Random(number).randbytes(1 << 20))
        taken(store, source)
    everything = verify(store)
    some = verify(store, share=0.25, chance=random.Random(1))
    assert everything.sound
    assert some.sound
    assert 0 < some.blocks < everything.blocks / 2
    for pack in (tmp_path / "store" / "packs").glob("*.pack"):
        flip(pack, 5000)
    assert not verify(store, share=0.25, chance=random.Random(1)).sound
