"""The store's files, each format by itself: what is written comes back, and what was not written so is told or passed over."""

from __future__ import annotations

import random
import struct
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import pytest
import zstandard
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Damage
from emberkeep.fs import system
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Entry, Kind, Skipped
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store import packs, stat_cache, writer
from emberkeep.store import table as tables
from emberkeep.store.extents import Extent, Place
from emberkeep.store.manifest import About, Manifest
from emberkeep.store.packs import BlockId, Location, PackWriter, block_id, encode
from emberkeep.store.pieces import Pieces, Unplaced
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow
from emberkeep.store.verify import verify
from tests.helpers import ABOUT, NOW, flip

# --- manifests --------------------------------------------------------------------------------------

names = st.text(st.characters(exclude_characters="\0/", codec="utf-8"), min_size=1, max_size=6) | st.just(
    "\udcff\udc80"
)
paths = st.lists(names, min_size=1, max_size=3).map("/".join)
numbers = st.integers(-(2**63), 2**63 - 1)
blocks = st.binary(min_size=32, max_size=32).filter(any).map(BlockId)


@st.composite
def rows(draw: st.DrawFn, path: str) -> FileRow:
    kind = draw(st.sampled_from(list(Kind)))
    facts = [draw(numbers) for _ in range(5)]
    points_at = draw(names) if kind is Kind.LINK else ""
    same_as = draw(st.just("") | names) if kind is Kind.FILE else ""
    entry = Entry(path, kind, facts[0], facts[1], facts[2], points_at, facts[3], facts[4], same_as)
    if kind is not Kind.FILE:
        return FileRow(entry)
    place = draw(st.none() | st.builds(Place, blocks, st.integers(0, 2**40), st.integers(1, 2**40), st.integers(0, 3)))
    return FileRow(entry, draw(st.binary(min_size=32, max_size=32)).hex(), place)


@st.composite
def manifest(draw: st.DrawFn) -> Manifest:
    held = {path: draw(rows(path)) for path in sorted(draw(st.sets(paths, max_size=5)))}
    top = draw(
        st.none()
        | st.tuples(numbers, numbers, numbers, numbers).map(
            lambda told: Entry("", Kind.FOLDER, told[0], told[1], 0, "", *told[2:])
        )
    )
    skipped = tuple(draw(st.lists(st.builds(Skipped, paths, names), max_size=2)))
    about = About(
        draw(names),
        NOW,
        "asked",
        draw(names),
        ("world",),
        (("world", ("a/**", "b")),),
        copied=("x.db",),
        databases=("y",),
    )
    return Manifest(about, held, skipped, top)


@given(st.lists(st.tuples(st.integers(0, 40), st.integers(0, 2), st.booleans()), max_size=60))
def test_contents_are_found_by_digest_though_digests_begin_alike(told: list[tuple[int, int, bool]]) -> None:
    """Of rows that hold the same any will do; of one that holds nothing there is none to be found beforehand."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(tables, "_SLOTS", 2)
        _contents_are_found_by_digest(told)


def _contents_are_found_by_digest(told: list[tuple[int, int, bool]]) -> None:
    digests = {which: bytes(8) + bytes([which]) * 24 for which in range(41)}
    held: dict[str, FileRow] = {}
    builder, plain = tables.Builder(), dict[bytes, set[tuple[Place | None, int]]]()
    for at, (which, size, placed) in enumerate(told):
        place = Place(BlockId(bytes([which + 1]) * 32), at, size) if placed else None
        row = FileRow(Entry(f"{at:04}", Kind.FILE, 0o644, 1, size), digests[which].hex(), place)
        held[row.entry.path] = row
        assert (found := builder.get(digests[which])) is None or found in plain[digests[which]]
        plain.setdefault(digests[which], set()).add((place, size))
        builder.add(row)
    for digest in digests.values():
        assert (builder.get(digest) in plain[digest]) if digest in plain else builder.get(digest) is None
    for some in (held, builder.table()):
        for sizes in (None, {0, 2}):
            known = tables.KnownContents(some, sizes)
            rows = [row for row in held.values() if row.place and (sizes is None or row.entry.size in sizes)]
            assert known.sizes == {row.entry.size for row in rows}
            for digest in digests.values():
                among = {(row.place, row.entry.size) for row in rows if row.digest == digest.hex()}
                assert (known.get(digest) in among) if among else known.get(digest) is None


@given(manifest())
def test_a_manifest_comes_back_whole_and_in_parts(told: Manifest) -> None:
    data = manifests.serialize(told)
    assert manifests.parse(data, "x") == told
    assert manifests.parse_about(data, "x") == told.about
    places = manifests.parse_places(data, "x")
    named = [row.place for row in told.held.values()]
    assert [places.place(at) if block >= 0 else None for at, block in enumerate(places.block)] == named
    assert list(places.lists()) == [place for place in named if place and place.depth]
    assert manifests.is_sound(data)
    other = replace(told.about, note="another", taken=NOW + timedelta(days=1), pinned=True)
    amended = manifests.amended(data, other)
    assert manifests.parse(amended, "x") == replace(told, about=other)
    assert manifests.check_of(amended) == manifests.check_of(data) != ""


def test_any_flipped_byte_of_a_manifest_is_noticed() -> None:
    held = {"a": FileRow(Entry("a", Kind.FILE, 1, 2, 3), "ab" * 32, Place(block_id(b"x"), 0, 1))}
    data = manifests.serialize(Manifest(ABOUT, held))
    for at in range(len(data)):
        spoilt = data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :]
        assert not manifests.is_sound(spoilt)
        assert manifests.check_of(spoilt) == ""
        for read in (manifests.parse, manifests.parse_about, manifests.parse_places):
            with pytest.raises(Damage, match="damaged"):
                read(spoilt, "x")
    for cut in (b"", data[:10], data[:-1]):
        assert not manifests.is_sound(cut)


def resealed(body: bytes) -> bytes:
    return body + blake3(body).digest()


def test_a_manifest_of_another_version_and_one_larger_than_any_are_told_apart_from_damage(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    data = manifests.serialize(Manifest(ABOUT, {}))
    with pytest.raises(Damage, match="another Ember Keep"):
        manifests.parse(resealed(data[:-32].replace(b"MANIFEST 3", b"MANIFEST 4")), "x")
    size = zstandard.frame_content_size(data[len(manifests.MAGIC) + 4 :])
    monkeypatch.setattr(manifests, "LARGEST", size)
    assert manifests.parse_about(data, "x") == ABOUT
    monkeypatch.setattr(manifests, "LARGEST", size - 1)
    with pytest.raises(Damage, match="larger than any"):
        manifests.parse_about(data, "x")


# --- the index and what was seen, which are caches ----------------------------------------------------


def test_an_index_comes_back_and_one_that_is_not_sound_is_none() -> None:
    told = {block_id(bytes([at])): Location(at % 3, at * 7, at, at * 2) for at in range(20)}
    sizes = {1: 500, 2: 9}
    data = indexes.serialize(told, sizes)
    assert indexes.parse(data, sizes) == told
    assert indexes.parse(indexes.serialize({}, {}), {}) == {}
    for spoilt in (data[:-1], data[:40] + b"x" + data[41:], b"", b"X" + data[1:]):
        with pytest.raises(ValueError, match="not a sound index"):
            indexes.parse(spoilt, sizes)
    for other in ({1: 500}, {1: 500, 2: 10}, {1: 500, 2: 9, 3: 1}, {}):
        with pytest.raises(ValueError, match="other packs"):
            indexes.parse(data, other)
    with pytest.raises(ValueError, match="wrong length"):
        indexes.parse(resealed(data[:-32] + b"x"), sizes)
    with pytest.raises(ValueError, match="not a sound index"):
        indexes.parse(resealed(b"EMBERSOMETHING" + data[14:-32]), sizes)


def test_a_cache_that_cannot_be_written_is_left_alone(tmp_path: Path) -> None:
    class Full(system.SystemIO):
        def create(self, path: str | Path) -> object:  # type: ignore[override]
            raise OSError(28, "No space left on device")

    with system.use(Full()):
        indexes.save(tmp_path / "index", tmp_path, {})
        stat_cache.save(tmp_path / "seen", stat_cache.StatCache())
    assert list(tmp_path.iterdir()) == []
    indexes.save(tmp_path / "index", tmp_path, {})
    assert indexes.load(tmp_path / "index", tmp_path) == {}


def test_an_index_saved_before_packs_go_speaks_of_those_that_stay(tmp_path: Path) -> None:
    for number in (1, 2):
        with PackWriter(tmp_path) as writer:
            writer.add(encode(block_id(bytes([number])), bytes([number])))
    whole = indexes.rebuild(tmp_path)
    kept = {block: at for block, at in whole.items() if at.pack == 2}
    indexes.save(tmp_path / "index", tmp_path, kept, without=[1])
    with pytest.raises(ValueError, match="other packs"):
        indexes.parse((tmp_path / "index").read_bytes(), indexes.sizes(tmp_path))
    packs.pack_path(tmp_path, 1).unlink()
    assert indexes.parse((tmp_path / "index").read_bytes(), indexes.sizes(tmp_path)) == kept


HELD = {name: FileRow(Entry(name, Kind.FILE, 1, 100, 3), "ab" * 32) for name in ("a", "b", "c", "d", "e")}


def test_what_was_seen_comes_back_for_its_own_rows_alone(tmp_path: Path) -> None:
    stamps = {"a": (50, 7), "b": (60, -3), "c": (0, 1), "e": (70, 1 << 63)}
    until = 200 + stat_cache.SETTLED_NS
    frame, trusted = stat_cache.of(HELD, stamps.get, until)
    assert trusted == 2  # c has no time, d was not seen, e's inode fits into no column
    told = stat_cache.StatCache("7", "check", "scan", {1: 5, 2: 6}, frame)
    stat_cache.save(tmp_path / "seen", told)
    assert stat_cache.load(tmp_path / "seen") == told
    assert told.stamps(HELD) == {"a": (50, 7), "b": (60, -3)}
    assert told.stamps({**HELD, "f": HELD["a"]}) == {}
    assert stat_cache.StatCache().stamps(HELD) == {}


@pytest.mark.parametrize(("ctime", "mtime", "trusted"), [(99, 99, 1), (100, 99, 0), (99, 100, 0), (100, 100, 0)])
def test_what_lies_too_near_the_scan_is_not_trusted(ctime: int, mtime: int, trusted: int) -> None:
    """Neither a change of the file nor one of its facts may be as late as the scan, with two seconds to spare."""
    held = {"a": FileRow(Entry("a", Kind.FILE, 1, mtime, 3), "ab" * 32)}
    assert stat_cache.of(held, {"a": (ctime, 7)}.get, 100 + stat_cache.SETTLED_NS)[1] == trusted


def test_what_was_seen_counts_for_nothing_once_it_is_spoilt(tmp_path: Path) -> None:
    path = tmp_path / "seen"
    assert stat_cache.load(path) == stat_cache.StatCache()
    stat_cache.save(path, stat_cache.StatCache("7", "check", "scan", {1: 5}, b"frame"))
    data = path.read_bytes()
    for at in range(0, len(data), 3):
        flip(path, at)
        assert stat_cache.load(path) == stat_cache.StatCache()
        path.write_bytes(data)
    for spoilt in (
        b"",
        data[:20],
        resealed(b"EMBERSEEN 1\n" + data[12:-32]),
        resealed(data[:12] + struct.pack("<I", 3) + data[16:-32]),
    ):
        path.write_bytes(spoilt)
        assert stat_cache.load(path) == stat_cache.StatCache()


# --- blocks on their way into a pack -------------------------------------------------------------------


def contents(folder: Path, found: list[Extent]) -> bytes:
    index = indexes.rebuild(folder)
    reader = packs.PackReader(folder)
    raw = b"".join(
        reader.read(item.block, index[item.block])[item.offset : item.offset + item.length] for item in found
    )
    reader.close()
    return raw


def test_pieces_lie_where_they_are_said_to(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Short ones bundled, long ones in blocks of their own, equal ones once, whatever the sizes beside the block's."""
    block = packs.LARGEST_BLOCK // 16
    chance = random.Random(4)
    told = [chance.randbytes(size) for size in (0, 1, block - 1, block, block + 1, 2 * block, 2 * block + 5, 700, 700)]
    told += [told[5], told[3], b"x" * (3 * block)]
    with PackWriter(tmp_path) as writer:
        pieces = Pieces(lambda block: False, writer)
        made = [Unplaced(pieces.store(data)) for data in told]
        pieces.settle(made)
        pieces.close()
    for data, found in zip(told, made, strict=True):
        assert (found.place is None) is (data == b"")
        whole = [found.place.extent] if found.place and found.depth == 0 else []
        assert contents(tmp_path, whole) == (data if found.depth == 0 else b"")
        if found.place is not None:
            from emberkeep.store.extents import extents_of, read

            index, reader = indexes.rebuild(tmp_path), packs.PackReader(tmp_path)
            fetch = lambda one, index=index, reader=reader: reader.read(one, index[one])  # noqa: E731
            assert b"".join(read(extents_of(found.place, fetch), fetch)) == data
            reader.close()
    stored = [head for head in packs.scan(tmp_path, 1) if not isinstance(head, packs.Gap)]
    assert len({head.block for head, _ in stored}) == len(stored)
    assert sorted(pieces.fresh) == sorted(head.block for head, _ in stored)


def test_what_the_store_has_is_not_written_again(tmp_path: Path) -> None:
    data = random.Random(5).randbytes(1 << 20)
    with PackWriter(tmp_path) as writer:
        pieces = Pieces(lambda block: block == block_id(data), writer)
        (extent,) = pieces.store(data)
        made = [Unplaced([extent])]
        pieces.settle(made)
        pieces.close()
    assert made[0].place == Place(block_id(data), 0, len(data))
    assert packs.pack_numbers(tmp_path) == []  # nothing was new, so no pack was made


def test_a_block_is_compressed_where_that_is_shorter() -> None:
    dense = random.Random(8).randbytes(5000)
    for raw, form in ((b"tide" * 900, packs.ZSTD), (dense, packs.RAW), (b"", packs.RAW), (b"x", packs.RAW)):
        encoded = encode(block_id(raw), raw)
        assert (encoded.head.form, encoded.head.raw, encoded.head.stored) == (form, len(raw), len(encoded.stored))
        assert len(encoded.stored) <= len(raw)
        assert packs.decoded(encoded) == raw
    spoilt = packs.Encoded(packs.Head(packs.ZSTD, block_id(b""), 9, 3), memoryview(b"abc"))
    assert packs.decoded(spoilt) is None


# --- verify ----------------------------------------------------------------------------------------------


def test_each_kind_of_damage_is_counted_and_named(tmp_path: Path) -> None:
    root = tmp_path / "server"
    root.mkdir()
    for number in range(4):
        (root / f"{number}.sea").write_bytes(random.Random(number).randbytes(1_200_000))
    store = Store(tmp_path / "store")
    writer.add(store, FolderTree(root), ABOUT)
    found = verify(store)
    entries = [item for item in packs.scan(store.packs, 1) if not isinstance(item, packs.Gap)]
    assert (found.sound, found.snapshots, found.blocks) == (True, 1, len(entries))
    assert found.bytes == sum(head.raw for head, _ in entries)
    for part in ("head", "contents"):
        data = (store.packs / "00000001.pack").read_bytes()
        _, location = entries[2]
        flip(store.packs / "00000001.pack", location.offset + (3 if part == "head" else packs.HEAD + 9))
        spoilt = verify(Store(store.folder))
        assert not spoilt.sound and len(spoilt.faults) == 1
        assert ("hold no sound entry" if part == "head" else "is not what was put there") in spoilt.faults[0]
        assert spoilt.blocks == len(entries) - 1
        (store.packs / "00000001.pack").write_bytes(data)
    told: list[tuple[int, int]] = []
    verify(store, progress=lambda done, total: told.append((done, total)))
    assert told == sorted(told)
