"""A store that is damaged: what was told of is leaned on no more, nothing is called sound that is not, and there is a way on."""

from __future__ import annotations

import os
import random
import shutil
from collections import Counter
from pathlib import Path

import pytest

from emberkeep.fs.folder_tree import FolderTree
from emberkeep.store import damage, writer
from emberkeep.store.packs import Gap, scan
from emberkeep.store.store import FORMAT, Store
from tests import depth
from tests.conftest import KEEP, tree_state
from tests.helpers import ABOUT, flip, same_contents
from tests.program import Program


def flipped(pack: Path, *, head: bool = False) -> None:
    """One byte of the largest block of a pack, or of its head."""
    entries = [item for item in scan(pack.parent, int(pack.stem)) if not isinstance(item, Gap)]
    location = max((location for _, location in entries), key=lambda location: location.stored)
    flip(pack, location.offset + (6 if head else 60 + location.stored // 2))


@pytest.fixture
def source(tmp_path: Path) -> Path:
    root = tmp_path / "server"
    root.mkdir()
    some = random.Random(3)
    for name, size in (("large", 900_000), ("small", 40_000), ("tiny", 500)):
        (root / name).write_bytes(some.randbytes(size))
    return root


@pytest.mark.parametrize("head", [False, True])
@pytest.mark.parametrize("touched", [False, True])
def test_what_verify_found_damaged_the_next_snapshot_stores_again(
    keeper: Program, place: Path, head: bool, touched: bool
) -> None:
    server, keep = place / "gannet-rock", place / KEEP
    keeper("snapshot")
    flipped(next(iter((keep / "store" / "packs").glob("*.pack"))), head=head)
    assert keeper("verify").code == 4
    if touched:
        for path in server.rglob("*"):
            if path.is_file() and not path.is_symlink():
                path.touch()
    before = tree_state(server)
    assert keeper("snapshot").code == 0
    for path in sorted(server.rglob("*"), reverse=True):
        if path.is_file() or path.is_symlink():
            path.unlink()
    done = keeper("restore", "2", "--go")
    assert done.code == 0, done.err
    assert tree_state(server) == before
    assert keeper("verify").code == 4  # the damaged place is still in the pack


def test_damage_that_is_met_while_reading_is_leaned_on_no_more_either(tmp_path: Path, source: Path) -> None:
    store = Store(tmp_path / "store")
    writer.add(store, FolderTree(source), ABOUT)
    flipped(next(store.packs.glob("*.pack")))
    (source / "large").write_bytes((source / "large").read_bytes() + b"more")  # compared with what is damaged
    taken = writer.add(Store(store.folder), FolderTree(source), ABOUT)
    assert not taken.about.unsettled  # read once: nobody changes it
    same_contents(Store(store.folder), "2", source)
    assert damage.load(store.folder / "damaged", store.packs, store._reader)


def test_a_note_of_damage_counts_only_while_it_is_true(tmp_path: Path, source: Path) -> None:
    store = Store(tmp_path / "store")
    writer.add(store, FolderTree(source), ABOUT)
    spots = {damage.Spot(at.pack, at.offset, block) for block, at in store.index.items()}
    damage.save(store.folder / "damaged", {*spots, damage.Spot(99, 12, next(iter(store.index)))})
    with (store.folder / "damaged").open("a") as notes:
        notes.write("nonsense\n1 2\n1 2 zz\n")
    again = Store(store.folder)
    assert (again.damaged, len(again.index)) == (set(), len(spots))
    same_contents(again, "1", source)


def test_a_manifest_that_is_lost_is_no_success(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    keeper("snapshot", "--note", "second")
    manifest = place / KEEP / "store" / "snapshots" / "000001.manifest"
    flip(manifest, 200)
    done = keeper("verify", "--repair")
    assert (done.code, "Nothing was damaged" in done.out, "Snapshot 1 is lost" in done.out) == (4, False, True)
    assert Store(place / KEEP / "store").numbers() == [2]
    assert keeper("verify").code == 0
    assert keeper("verify", "--repair").code == 0


LINE = b"emberkeep store 3\n"


@pytest.mark.parametrize(
    "line",
    [
        b"emberkeep store 7\n",
        b"emberkeep store 2\n" + LINE,
        LINE + b"emberkeep rtore 3\n",
        b"\xff" * 40 + b"x",
        LINE[:9],
        b"",
    ],
)
def test_a_damaged_format_line_is_told_as_such_and_mended(keeper: Program, place: Path, line: bytes) -> None:
    keeper("snapshot")
    path = place / KEEP / "store" / "format"
    path.write_bytes(line)
    told = keeper("verify")
    assert (told.code, "format: this line is not what was put there" in told.out) == (4, True), told.out + told.err
    assert keeper("history").code == 0
    done = keeper("verify", "--repair")
    assert done.code == 0, done.out + done.err
    assert path.read_bytes() == FORMAT
    assert "Nothing was damaged" not in done.out


def test_a_store_of_another_version_is_left_to_that(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    store = place / KEEP / "store"
    (store / "format").write_bytes(b"emberkeep store 9\n" * 2)
    assert (keeper("verify").code, "another version" in keeper("verify").err) == (3, True)
    (store / "format").write_bytes(b"emberkeep store 1\n")
    for path in [*store.glob("packs/*"), *store.glob("*/*.manifest")]:
        path.write_bytes(b"EMBERELSE 1\n" + path.read_bytes())
    assert (keeper("verify").code, "another version" in keeper("verify").err) == (3, True)


def test_a_store_that_is_changed_while_it_is_verified_is_not_called_damaged(
    tmp_path: Path, source: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another program thins: snapshots go, blocks move into another pack, old packs vanish."""
    from emberkeep.store import compact
    from emberkeep.store import verify as verifying

    store = Store(tmp_path / "store")
    for number in range(4):
        (source / "large").write_bytes(random.Random(number).randbytes(900_000))
        writer.add(store, FolderTree(source), ABOUT)
    looked = verifying.check_packs
    calls: list[int] = []

    def disturbed(*told: object, **how: object) -> object:
        calls.append(len(calls))
        if len(calls) == 1:
            compact.release(Store(store.folder), ["1", "2", "3"])
        return looked(*told, **how)  # type: ignore[arg-type]

    monkeypatch.setattr(verifying, "check_packs", disturbed)
    assert verifying.verify(Store(store.folder)).sound
    assert len(calls) == 2


@pytest.mark.parametrize("name", ["keep.toml", "answers.toml", "orders.toml", "recipes/own.toml"])
def test_a_bit_that_flips_in_what_the_admin_wrote_is_told(
    keeper: Program, place: Path, server: Path, name: str
) -> None:
    keep = place / KEEP
    path = keep / name
    path.parent.mkdir(exist_ok=True)
    if not path.exists():
        path.write_text("format = 1\n# none yet\n")
    assert keeper("snapshot").code == 0
    data, facts = path.read_bytes(), path.stat()
    at = data.index(b"#") + 2 if b"#" in data else data.rindex(b'"') - 1
    path.write_bytes(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
    os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    (server / "new").write_text("since")
    refused = keeper("restore", "1", "--go")
    assert (refused.code, f"{name} in" in refused.err, (server / "new").exists()) == (4, True, True), refused.err
    assert keeper("verify").code == 4
    told = keeper("history")
    assert (told.code, "the disk did that" in told.err) == (0, True)
    path.write_bytes(data)  # put right, by hand
    assert keeper("restore", "1", "--go").code == 0
    assert keeper("verify").code == 0


def test_a_bit_that_flips_anywhere_in_a_keep_is_survived_or_told(keeper: Program, place: Path, server: Path) -> None:
    """What is given back is what was there, or it is said not to be: never a fault of ours, never other bytes."""
    keep, some = place / KEEP, random.Random(11)
    assert keeper("snapshot", "--note", "first").code == 0
    truth = {path: state for path, state in tree_state(server).items() if path != "."}
    (server / "new").write_text("since")
    assert keeper("restore", "1", "--go").code == 0
    whole = place / "whole"
    shutil.copytree(keep, whole)
    files = sorted(path for path in keep.rglob("*") if path.is_file() and path.stat().st_size)
    told = Counter[str]()
    for number in range(depth.number("FLIPS", 12, 120)):
        path = files[number % len(files)]
        data = bytearray(path.read_bytes())
        facts = path.stat()
        data[some.randrange(len(data))] ^= 1 << some.randrange(8)
        path.write_bytes(data)
        os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))
        into = place / f"into{number}"
        codes = [keeper(*line) for line in (["history"], ["verify"], ["restore", "first", "--into", into], ["undo"])]
        for done in codes:
            assert done.code in (0, 1, 2, 3, 4) and "Traceback" not in done.err, (path, done.err)
        if codes[2].code == 0:
            assert {name: state for name, state in tree_state(into).items() if name != "."} == truth, path
        told["given back whole" if codes[2].code == 0 else "told of"] += 1
        shutil.rmtree(into, ignore_errors=True)
        shutil.rmtree(keep)
        shutil.copytree(whole, keep)
    print(dict(told))
    assert told["given back whole"] and told["told of"]
