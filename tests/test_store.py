"""The store: what goes in comes out; damage is found and named; a writer stopped anywhere leaves only whole snapshots."""

from __future__ import annotations

import errno
import gc
import os
import random
import threading
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path
from typing import BinaryIO

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Damage, Refused, RunFailed, UnreadableInput, UsageError
from emberkeep.fs import system, writing
from emberkeep.fs.archives import open_source
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Kind, read
from emberkeep.store import compact, packs, writer
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store import store as store_module
from emberkeep.store.earlier import unwritten
from emberkeep.store.extents import HOLE, Place
from emberkeep.store.intake import BLOCK
from emberkeep.store.manifest import About
from emberkeep.store.needs import needed
from emberkeep.store.packs import (
    BlockId,
    Gap,
    Head,
    Levels,
    Location,
    PackReader,
    parse_head,
    scan,
    serialize_head,
)
from emberkeep.store.reuse import PIECE, in_place
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.verify import verify
from tests.faults import Recorder
from tests.helpers import ABOUT, NOW, flip, same_contents


@pytest.fixture
def source(tmp_path: Path) -> Path:
    """A small tree with every kind of thing in it."""
    root = tmp_path / "server"
    (root / "chart").mkdir(parents=True)
    (root / "empty").mkdir()
    some = random.Random(1)
    (root / "chart" / "strip.0.0.sea").write_bytes(some.randbytes(3 * BLOCK + 17))
    (root / "chart" / "strip.0.1.sea").write_bytes(some.randbytes(BLOCK) + b"\0" * BLOCK)
    (root / "nothing").write_bytes(b"")
    (root / "notes.txt").write_text("ask Odd about the reef\n" * 50)
    (root / "latest").symlink_to("notes.txt")
    (root / "run.sh").write_text("#!/bin/sh\n")
    (root / "run.sh").chmod(0o750)
    os.utime(root / "notes.txt", ns=(1, 1_700_000_000_123_456_789))
    return root


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    opened = Store(tmp_path / "keep" / "store")
    yield opened
    opened.close()


def test_what_goes_in_comes_out(store: Store, source: Path) -> None:
    taken = writer.add(store, FolderTree(source), ABOUT)
    assert (taken.about.label, taken.about.files) == ("1", 5)
    assert store.manifest("1") == Store(store.folder).manifest("1")  # at hand as it was written
    same_contents(Store(store.folder), "1", source)
    assert verify(store).sound


def test_what_is_known_takes_no_room_again(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    again = writer.add(store, FolderTree(source), ABOUT)
    assert (again.about.label, again.about.new_bytes) == ("2", 0)
    with (source / "chart" / "strip.0.0.sea").open("r+b") as tile:
        tile.seek(BLOCK + 5)
        tile.write(b"changed")
    third = writer.add(store, FolderTree(source), ABOUT)
    assert 4096 <= third.about.new_bytes < 3 * 4096  # the sector that changed, and a list
    same_contents(store, "3", source)


def test_names_that_are_not_utf_8_survive(store: Store, source: Path) -> None:
    odd = os.fsdecode(b"caf\xe9 \n name")
    try:
        (source / odd).write_text("x")
    except OSError:
        pytest.skip("this file system takes only UTF-8 names")
    writer.add(store, FolderTree(source), ABOUT)
    same_contents(Store(store.folder), "1", source)


def test_sockets_and_pipes_are_told_not_taken(store: Store, source: Path) -> None:
    os.mkfifo(source / "pipe")
    taken = writer.add(store, FolderTree(source), ABOUT)
    assert [item.path for item in taken.skipped] == ["pipe"]


def test_links_out_of_the_folder_are_not_followed(store: Store, source: Path, tmp_path: Path) -> None:
    (tmp_path / "secret").mkdir()
    (tmp_path / "secret" / "key").write_text("k")
    (source / "out").symlink_to(tmp_path / "secret", target_is_directory=True)
    (source / "round").symlink_to(".", target_is_directory=True)
    writer.add(store, FolderTree(source), ABOUT)
    taken = store.manifest("1")
    assert taken.held["out"].entry.kind is Kind.LINK
    assert not [path for path in taken.held if path.startswith(("out/", "round/"))]


@given(st.binary(min_size=32, max_size=32), st.integers(0, 2**40), st.integers(0, 2**31))
def test_heads_round_trip_and_notice_any_flip(digest: bytes, raw: int, stored: int) -> None:
    head = Head(1, digest, raw, stored)  # type: ignore[arg-type]
    data = serialize_head(head)
    assert parse_head(data) == head
    spot = (raw + stored) % len(data)
    assert parse_head(data[:spot] + bytes([data[spot] ^ 4]) + data[spot + 1 :]) != head


def test_the_index_is_only_a_cache(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    whole = Store(store.folder).index
    for spoil in (b"", b"garbage", (store.folder / "index").read_bytes()[:-1]):
        (store.folder / "index").write_bytes(spoil)
        assert Store(store.folder).index == whole
    (store.folder / "index").unlink()
    same_contents(Store(store.folder), "1", source)


def test_an_index_of_other_packs_does_not_count(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    old = (store.folder / "index").read_bytes()
    (source / "more").write_bytes(b"more")
    writer.add(store, FolderTree(source), ABOUT)
    (store.folder / "index").write_bytes(old)
    same_contents(Store(store.folder), "2", source)
    with pytest.raises(ValueError, match="other packs"):
        indexes.parse(old, {1: 5})


# --- damage ------------------------------------------------------------------


@pytest.mark.parametrize("share", [0.0, 0.1, 0.35, 0.6, 0.8, 0.999])
def test_a_flipped_bit_in_a_pack_is_found_named_and_never_given_back(store: Store, source: Path, share: float) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    pack = next((store.folder / "packs").glob("*.pack"))
    flip(pack, int(share * (pack.stat().st_size - 1)))
    (store.folder / "index").unlink()
    damaged = Store(store.folder)
    found = verify(damaged)
    assert found.faults
    tree = SnapshotTree(damaged, damaged.manifest("1"), "snapshot 1")
    bad = {item.path for item in found.files}
    for path, entry in tree.entries().items():
        if entry.kind is not Kind.FILE:
            continue
        if path in bad:
            with pytest.raises(Damage, match=path.replace(".", r"\.")):
                read(tree, path)
        else:
            assert read(tree, path) == (source / path).read_bytes()


@pytest.mark.parametrize("where", ["start", "middle", "end"])
def test_a_cut_pack_is_found(store: Store, source: Path, where: str) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    pack = next((store.folder / "packs").glob("*.pack"))
    keep = {"start": 5, "middle": pack.stat().st_size // 2, "end": pack.stat().st_size - 1}[where]
    os.truncate(pack, keep)
    found = verify(Store(store.folder))
    assert found.faults
    assert found.files


def test_a_missing_pack_is_found(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    next((store.folder / "packs").glob("*.pack")).unlink()
    assert {item.snapshot for item in verify(Store(store.folder)).files} == {"1"}


def test_after_a_damaged_stretch_the_rest_of_a_pack_is_still_read(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    pack = next((store.folder / "packs").glob("*.pack"))
    whole = [found for found in scan(store.folder / "packs", 1) if not isinstance(found, Gap)]
    flip(pack, whole[1][1].offset + 2)
    found = list(scan(store.folder / "packs", 1))
    assert [type(item) is Gap for item in found].count(True) == 1
    assert len(found) == len(whole)


@pytest.mark.parametrize("share", [0.0, 0.2, 0.5, 0.9, 1.0])
def test_a_damaged_manifest_is_named_and_the_others_stay(store: Store, source: Path, share: float) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    writer.add(store, FolderTree(source), ABOUT)
    path = store.folder / "snapshots" / "000001.manifest"
    flip(path, int(share * (path.stat().st_size - 1)))
    found = verify(store)
    assert [item.snapshot for item in found.files] == ["1"]
    assert "000001.manifest" in found.faults[0]
    with pytest.raises(Damage):
        store.manifest("1")
    same_contents(store, "2", source)


def test_a_newer_format_is_refused(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    (store.folder / "format").write_bytes(b"emberkeep store 4\n" * 2)
    with pytest.raises(Refused):
        Store(store.folder)


def test_a_manifest_round_trips(store: Store, source: Path) -> None:
    about = About("", NOW, "merge", "a note", ("world",), (("world", ("a/**",)),), running="process 5")
    writer.add(store, FolderTree(source), about)
    taken = store.manifest("1")
    assert manifests.parse(manifests.serialize(taken), "x") == taken
    assert store.about("1") == taken.about


def test_an_unknown_snapshot_is_a_usage_error(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    with pytest.raises(UsageError):
        store.manifest("7")


# --- faults ------------------------------------------------------------------


def test_a_second_writer_is_refused_and_told_who_writes(store: Store, source: Path) -> None:
    with store.writing(), pytest.raises(Refused, match=f"process {os.getpid()}"):
        writer.add(Store(store.folder), FolderTree(source), ABOUT)
    writer.add(Store(store.folder), FolderTree(source), ABOUT)


def test_an_opened_store_finds_what_another_writer_added_since(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    assert store.index
    (source / "later").write_bytes(b"later")
    writer.add(Store(store.folder), FolderTree(source), ABOUT)
    same_contents(store, "2", source)


def test_a_reader_is_not_stopped_by_a_writer(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    with store.writing():
        same_contents(Store(store.folder), "1", source)
        assert verify(Store(store.folder)).sound


def test_the_blocks_at_hand_are_those_used_last_and_no_more_than_fit(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(store_module, "AT_HAND", 10)
    recent = store_module.Recent()
    for name in (b"a", b"b", b"b"):  # one that two threads read counts once
        recent.put(name, name * 5)
    assert (recent.get(b"a"), recent.get(b"b"), recent.get(b"a"), recent.bytes) == (b"aaaaa", b"bbbbb", b"aaaaa", 10)
    recent.put(b"c", b"c")
    assert (recent.get(b"b"), recent.get(b"a"), recent.get(b"c"), recent.bytes) == (None, b"aaaaa", b"c", 6)
    recent.put(b"d", b"d" * 30)
    assert (recent.get(b"a"), recent.get(b"c"), recent.get(b"d"), recent.bytes) == (None, None, b"d" * 30, 30)


def test_a_block_that_several_threads_ask_for_is_read_again_by_none(
    store: Store, source: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    blocks = [block for block, _ in store.index.items()]
    read_from_disk: list[bytes] = []
    together = threading.Barrier(2)
    unpacked = PackReader.read

    def read_both(reader: PackReader, block: BlockId, location: Location) -> bytes:
        read_from_disk.append(block)
        together.wait(5)  # both threads miss the block before either has it
        return unpacked(reader, block, location)

    monkeypatch.setattr(PackReader, "read", read_both)
    for block in blocks:
        threads = [threading.Thread(target=store.block, args=(block,)) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert len(read_from_disk) == 2 * len(blocks)
    assert store.recent.bytes == sum(len(store.block(block)) for block in blocks)
    assert len(read_from_disk) == 2 * len(blocks)


def test_dense_blocks_take_the_level_that_makes_them_smallest() -> None:
    chance = random.Random(3)
    tiles = [b"".join(chance.randbytes(2048) + bytes(2048) for _ in range(64)) for _ in range(40)]
    levels = Levels()
    chosen = [len(levels.compress(tile)) for tile in tiles]
    usual = [len(zstandard.ZstdCompressor(level=3).compress(tile)) for tile in tiles]
    assert all(ours < theirs for ours, theirs in zip(chosen[1:], usual[1:], strict=True))
    half = b"".join(chance.choice((b"rope", b"salt", b"tar ", chance.randbytes(9))) for _ in range(40_000))
    both_tried = len(Levels().compress(half))
    assert len(levels.compress(half)) == both_tried  # another kind does not take the light level blindly


@given(
    st.binary(max_size=80),
    st.lists(st.tuples(st.integers(0, 79), st.binary(max_size=9)), max_size=5),
    st.integers(-9, 9),
)
def test_stretches_found_in_place_are_the_same_and_all_there_are(
    earlier: bytes, changes: list[tuple[int, bytes]], longer: int
) -> None:
    sector, live = 8, bytearray(earlier)
    for at, data in changes:
        live[at : at + len(data)] = data
    now = bytes(live)[:longer] if longer < 0 else bytes(live) + bytes(longer)
    runs = list(in_place([now], [earlier], sector))
    covered = [at for run in runs for at in range(run.start, run.start + run.length)]
    assert covered == sorted(set(covered))
    assert all(first.start + first.length < second.start for first, second in pairwise(runs))
    assert all(
        run.base == run.start and now[run.start :][: run.length] == earlier[run.start :][: run.length] for run in runs
    )
    whole = min(len(now), len(earlier)) // sector * sector
    alike = {at for at in range(0, whole, sector) if now[at : at + sector] == earlier[at : at + sector]}
    assert alike <= set(covered)


def test_stretches_in_place_go_on_from_one_piece_to_the_next() -> None:
    earlier = random.Random(8).randbytes(2 * PIECE + 5000)
    now = bytearray(earlier)
    now[4096] ^= 1
    now[PIECE + 4096] ^= 1
    assert list(in_place([bytes(now)], [earlier], 4096)) == [
        (0, 4096, 0),
        (8192, PIECE - 4096, 8192),
        (PIECE + 8192, PIECE - 8192 + 5000, PIECE + 8192),
    ]


def test_several_threads_may_choose_levels_at_once() -> None:
    chance = random.Random(4)
    dense = b"".join(chance.randbytes(2048) + bytes(2048) for _ in range(4))
    plain = bytes(chance.choices(range(97, 123), k=1 << 14))
    levels = Levels()

    def some(seed: int) -> bool:
        own = random.Random(seed)
        blocks = [own.choice((dense, plain)) for _ in range(1500)]
        return all(zstandard.ZstdDecompressor().decompress(levels.compress(block)) == block for block in blocks)

    with ThreadPoolExecutor(4) as threads:
        assert all(threads.map(some, range(4)))


@pytest.mark.parametrize("eager", [3 << 20, 1 << 20], ids=["the only one", "the first of several"])
def test_an_early_sync_that_failed_counts_though_the_last_one_goes_well(
    store: Store, source: Path, monkeypatch: pytest.MonkeyPatch, eager: int
) -> None:
    monkeypatch.setattr(packs, "EAGER", eager)

    class OnceBad(system.SystemIO):
        synced = 0

        def sync(self, handle: BinaryIO) -> None:
            if handle.name.endswith(".pack.part"):
                self.synced += 1
                if self.synced == 1:
                    raise OSError(errno.EIO, "Input/output error")
            super().sync(handle)

    with system.use(bad := OnceBad()), pytest.raises(RunFailed, match="Input/output error"):
        writer.add(store, FolderTree(source), ABOUT)
    assert bad.synced >= 1
    assert store.numbers() == [] and not list(store.packs.iterdir())
    writer.add(store, FolderTree(source), ABOUT)
    same_contents(store, "1", source)


def test_each_digest_is_compared_where_no_other_would_notice(store: Store, source: Path) -> None:
    """Blocks, stretches of them, and files: what is wrong in one is not left to the others."""
    writer.add(store, FolderTree(source), ABOUT)
    held = store.manifest("1").held
    for path in ("chart/strip.0.0.sea", "chart/strip.0.1.sea", "notes.txt"):
        wrong = held[path]._replace(digest="0" * 64)
        with pytest.raises(Damage, match="do not add up"):
            list(store.contents(wrong))
        with pytest.raises(Damage, match="do not add up"):
            list(store.contents(wrong, holes=True))
    assert store.short(held["notes.txt"]) == (source / "notes.txt").read_bytes()
    with pytest.raises(Damage, match="does not hold it"):
        store.short(held["notes.txt"]._replace(digest="0" * 64))
    for found in scan(store.packs, 1):
        assert not isinstance(found, Gap)
        head, location = found
        flip(store.packs / "00000001.pack", location.offset + packs.HEAD + location.stored // 2)
        with pytest.raises(Damage, match="not what was put there"):
            Store(store.folder).block(head.block)


def test_holes_longer_than_any_block_need_nothing_of_one(store: Store, source: Path) -> None:
    about = writer.add(store, FolderTree(source), ABOUT).about
    told = store.manifest(about.label)
    before = needed(store, store.all_names()).stretches
    empty = {path: row._replace(place=Place(HOLE, 0, 20 << 30)) for path, row in told.held.items() if row.place}
    writer.write_manifest(store, about, manifests.serialize(replace(told, held=empty)))
    assert (needed(store, store.all_names()).stretches, verify(store).sound) == ({}, True)
    half = {path: row for number, (path, row) in enumerate(told.held.items()) if number % 2}
    writer.write_manifest(store, about, manifests.serialize(replace(told, held={**empty, **half})))
    some = needed(store, store.all_names()).stretches
    assert set(some) <= set(before)
    assert some != before


def test_a_block_that_would_unpack_to_more_than_any_is_not_unpacked() -> None:
    raw = bytes(packs.LARGEST_BLOCK)
    for size, good in ((packs.LARGEST_BLOCK, True), (packs.LARGEST_BLOCK + 1, False)):
        stored = zstandard.ZstdCompressor().compress(raw + bytes(size - len(raw)))
        found = packs.decoded(packs.Encoded(Head(packs.ZSTD, bytes(32), size, len(stored)), memoryview(stored)))  # type: ignore[arg-type]
        assert (found is not None) is good


def test_entries_are_found_again_right_behind_a_stray_byte(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    pack = store.packs / "00000001.pack"
    whole = [found[1] for found in scan(store.packs, 1) if not isinstance(found, Gap)]
    data, at = pack.read_bytes(), whole[1].offset
    pack.write_bytes(data[:at] + b"x" + data[at:])
    found = list(scan(store.packs, 1))
    assert [item for item in found if isinstance(item, Gap)] == [Gap(1, at, at + 1)]
    assert len(found) == len(whole) + 1


def test_what_was_seen_of_another_state_of_a_snapshot_counts_for_nothing(store: Store, source: Path) -> None:
    live = FolderTree(source)
    writer.add(store, live, replace(ABOUT, taken=datetime.now(UTC) + timedelta(minutes=1)), live=live)
    assert "notes.txt" in unwritten(Store(store.folder), FolderTree(source))
    manifest = store.manifest("1")
    rows = {path: row for path, row in manifest.held.items() if path != "nothing"}
    store.manifest_path("1").write_bytes(manifests.serialize(replace(manifest, held=rows)))
    assert unwritten(Store(store.folder), FolderTree(source)) == {}


def test_a_broken_archive_is_no_snapshot_and_a_file_that_goes_is_left_out(
    store: Store, source: Path, tmp_path: Path
) -> None:
    archive = tmp_path / "r.zip"
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("tile", random.Random(2).randbytes(200_000))
        out.writestr("notes", "tide " * 900)
    data = bytearray(archive.read_bytes())
    data[data.index(b"notes") + 20] ^= 0xFF
    archive.write_bytes(bytes(data))
    with pytest.raises(UnreadableInput, match="notes"):
        writer.add(store, open_source(archive), About("", NOW, "asked", source="r.zip"))
    assert store.numbers() == []

    class Going(FolderTree):
        def chunks(self, path: str) -> Iterator[bytes]:
            if path == "notes.txt":
                raise UnreadableInput("notes.txt cannot be read: Permission denied")
            return super().chunks(path)

    live = Going(source)
    taken = writer.add(store, live, ABOUT, live=live)
    assert [item.path for item in taken.skipped] == ["notes.txt"]
    assert "notes.txt" not in store.manifest("1").held


def test_a_file_that_changes_between_comparing_and_storing_is_read_again(store: Store, source: Path) -> None:
    """What is stored is what its digest says, and of one moment, whichever of its reads the change falls between."""
    tile = source / "chart" / "strip.0.0.sea"
    size = tile.stat().st_size
    live = FolderTree(source)
    writer.add(store, live, ABOUT, live=live)
    for number, at_read in enumerate((1, 2, 3), 2):
        tile.write_bytes(random.Random(number).randbytes(size))
        reads = 0

        class Changing(FolderTree):
            def chunks(self, path: str) -> Iterator[bytes]:
                nonlocal reads
                if path == "chart/strip.0.0.sea":
                    reads += 1
                    if reads == at_read:  # noqa: B023 - called before the loop goes on
                        tile.write_bytes(random.Random(100 + number).randbytes(size))  # noqa: B023
                return super().chunks(path)

        live = Changing(source)
        writer.add(store, live, ABOUT, live=live)
        assert verify(Store(store.folder)).sound
        same_contents(store, str(number), source)


def test_files_compared_in_other_threads_come_out_as_they_stand(store: Store, tmp_path: Path) -> None:
    root, chance = tmp_path / "server", random.Random(5)
    root.mkdir()
    for number in range(24):
        (root / f"strip.{number}.sea").write_bytes(chance.randbytes(40_000 + number * 4096))
    writer.add(store, FolderTree(root), ABOUT)
    for number in range(24):
        with (root / f"strip.{number}.sea").open("r+b") as tile:
            tile.seek(chance.randrange(9) * 4096)
            tile.write(chance.randbytes(4096))
    again = writer.add(store, FolderTree(root), ABOUT)
    assert again.about.new_bytes < 24 * 2 * 4096 + 8192
    same_contents(store, "2", root)
    assert verify(store).sound


# --- what is left behind -------------------------------------------------------------------------------


def test_the_next_writer_sweeps_what_a_killed_one_left(store: Store, source: Path) -> None:
    writer.add(store, FolderTree(source), ABOUT)
    left = [store.folder / writing.TEMPORARY, store.folder / "snapshots" / f"{writing.TEMPORARY}1"]
    left += [store.folder / "defaults" / f"{writing.TEMPORARY}2", store.packs / "00000009.pack.part"]
    for path in left:
        path.write_bytes(b"half")
    writer.add(store, FolderTree(source), ABOUT)
    assert not [path for path in left if path.exists()]


@pytest.mark.skipif(not Path("/proc/self/fd").is_dir(), reason="looks at descriptors as Linux tells of them")
def test_nothing_stays_open_and_no_thread_goes_on(store: Store, source: Path) -> None:
    """After a snapshot with files compared in threads, one that failed, a verify, and reading all back."""

    class Full(system.SystemIO):
        def write(self, handle: BinaryIO, data: bytes) -> None:
            if handle.name.endswith(".part") and handle.tell() > 1000:
                raise OSError(errno.ENOSPC, "No space left on device")
            super().write(handle, data)

    for number in range(12):
        (source / f"{number}.sea").write_bytes(random.Random(number).randbytes(300_000))
    writer.add(store, FolderTree(source), ABOUT)
    gc.collect()  # what others left
    opened, threads = len(os.listdir("/proc/self/fd")), threading.active_count()
    for number in range(12):
        with (source / f"{number}.sea").open("r+b") as tile:
            tile.write(random.Random(100 + number).randbytes(5000))
    with system.use(Full()), pytest.raises(RunFailed):
        writer.add(Store(store.folder), FolderTree(source), ABOUT)
    again = Store(store.folder)
    writer.add(again, FolderTree(source), ABOUT)
    assert verify(again).sound
    same_contents(again, "2", source)
    again.close()
    assert (len(os.listdir("/proc/self/fd")), threading.active_count()) == (opened, threads)


def test_a_small_pack_is_synced_once_and_a_large_one_while_it_is_written(
    store: Store, source: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with system.use(noted := Recorder()):
        writer.add(store, FolderTree(source), ABOUT)
    assert len(noted.places("sync", ".pack.part")) == 1
    monkeypatch.setattr(packs, "EAGER", 1 << 20)
    with system.use(eager := Recorder()):
        writer.add(Store(store.folder.parent / "other"), FolderTree(source), ABOUT)
    assert len(eager.places("sync", ".pack.part")) > 1


def test_no_pack_is_ever_called_as_one_before(tmp_path: Path) -> None:
    """Whoever reads may have a pack open that is gone: another one of its name would be taken for it."""
    root = tmp_path / "server"
    root.mkdir()
    store = Store(tmp_path / "store")
    names: list[str] = []
    for number in range(4):
        (root / "world").write_bytes(random.Random(number).randbytes(50_000))
        live = FolderTree(root)
        label = writer.add(store, live, About("", NOW, "asked"), live=live).about.label
        same_contents(store, label, root)
        names += [path.name for path in store.packs.glob("*.pack")]
        compact.release(store, [label])
    assert len(set(names)) == len(names) == 4
