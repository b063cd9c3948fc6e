"""Stretches of blocks and what they add up to: each law beside a plain way of saying the same."""

from __future__ import annotations

import itertools
import random
from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import Damage
from emberkeep.fs.trees import CHUNK, regrouped, zeros
from emberkeep.store import extents as lists
from emberkeep.store import reuse
from emberkeep.store.extents import HOLE, Extent, Place, Within
from emberkeep.store.packs import BlockId, block_id

RAW = [bytes([65 + at]) * size for at, size in enumerate((1, 7, 32, 100))]
BLOCKS = {block_id(raw): raw for raw in RAW}


def fetch(block: BlockId) -> bytes:
    return BLOCKS[block]


@st.composite
def extents(draw: st.DrawFn, least: int = 0) -> Extent:
    if draw(st.integers(0, 4)) == 0:
        return Extent(HOLE, 0, draw(st.integers(least, 40)))
    block, raw = draw(st.sampled_from(sorted(BLOCKS.items())))
    start = draw(st.integers(0, len(raw) - least))
    return Extent(block, start, draw(st.integers(least, len(raw) - start)))


def plain(found: Sequence[Extent]) -> bytes:
    """The bytes of extents, said plainly."""
    return b"".join(bytes(n) if block == HOLE else BLOCKS[block][at : at + n] for block, at, n in found)


@given(st.lists(extents(), max_size=8))
def test_extents_read_as_what_they_name(told: list[Extent]) -> None:
    assert b"".join(lists.read(told, fetch)) == plain(told)
    assert b"".join(lists.read(told, fetch, views=True)) == plain(told)
    assert lists.parse(lists.serialize(told)) == told


@given(st.lists(extents(), max_size=8), st.integers(1, 50))
def test_gathered_pieces_are_of_one_size_but_the_last(told: list[Extent], size: int) -> None:
    pieces = list(lists.gathered(told, fetch, size))
    assert b"".join(pieces) == plain(told)
    assert all(len(piece) == size for piece in pieces[:-1])
    assert all(0 < len(piece) <= size for piece in pieces)
    assert all(type(piece) is bytes for piece in pieces)


@given(st.lists(extents(least=1), max_size=8))
def test_joined_extents_say_the_same_in_as_few_as_can_be(told: list[Extent]) -> None:
    found = lists.joined(told)
    assert plain(found) == plain(told)
    for one, other in itertools.pairwise(found):
        assert one.block != other.block or (one.block != HOLE and one.offset + one.length != other.offset)
    assert lists.joined(found) == found


@given(st.lists(extents(least=1), max_size=8), st.integers(0, 300), st.integers(0, 300))
def test_a_stretch_of_a_file_is_found_among_its_extents(told: list[Extent], start: int, length: int) -> None:
    within = Within(told)
    whole = plain(told)
    assert within.length == len(whole)
    found = list(within.stretch(start, length))
    assert plain(found) == whole[start : start + length]
    assert all(extent.length > 0 for extent in found)
    assert all(extent.offset == 0 for extent in found if extent.block == HOLE)


def test_lists_of_lists_are_read_and_all_that_they_need_is_named() -> None:
    contents = [Extent(block_id(RAW[3]), 10, 50), Extent(HOLE, 0, 9), Extent(block_id(RAW[1]), 0, 7)]
    first = lists.serialize(contents)
    second = lists.serialize([Extent(block_id(first), 0, len(first))])
    blocks = {**BLOCKS, block_id(first): first, block_id(second): second}
    place = Place(block_id(second), 0, len(second), 2)
    assert lists.extents_of(place, blocks.__getitem__) == contents
    assert lists.all_extents(place, blocks.__getitem__) == [
        place.extent,
        Extent(block_id(first), 0, len(first)),
        *contents,
    ]
    flat = Place(block_id(RAW[3]), 3, 4)
    assert lists.extents_of(flat, fetch) == lists.all_extents(flat, fetch) == [Extent(block_id(RAW[3]), 3, 4)]


def test_what_is_shorter_than_a_list_says_is_damage() -> None:
    block = block_id(RAW[1])
    assert b"".join(lists.read([Extent(block, 3, 4)], fetch)) == RAW[1][3:]
    for wrong in (Extent(block, 3, 5), Extent(block, 0, 8)):
        with pytest.raises(Damage, match="shorter than a list says"):
            list(lists.read([wrong], fetch))
    data = lists.serialize([Extent(block, 0, 7)])
    for spoilt in (data[:-1], data + b"x"):
        with pytest.raises(Damage, match="wrong length"):
            lists.parse(spoilt)


def test_zeros_of_any_length() -> None:
    for start, length in ((0, 0), (7, 1), (3, 5_000_000), (CHUNK - 1, 2), (CHUNK, CHUNK)):
        pieces = list(zeros(start, start + length))
        assert sum(map(len, pieces)) == length and not any(any(piece[:9]) for piece in pieces)
        assert all(pieces) and len(pieces) <= length // CHUNK + 2


# --- what an earlier version holds --------------------------------------------------------------------


@given(st.lists(st.binary(max_size=9), max_size=9), st.integers(1, 6))
def test_regrouping_changes_no_byte(chunks: list[bytes], size: int) -> None:
    pieces = list(regrouped(chunks, size))
    assert b"".join(pieces) == b"".join(chunks)
    assert all(len(piece) == size for piece in pieces[:-1]) and all(0 < len(piece) <= size for piece in pieces)


def text_of(seed: int, size: int) -> bytes:
    return random.Random(seed).randbytes(size)


def test_cuts_add_up_and_keep_their_bounds() -> None:
    for data in (b"", b"short", text_of(1, 300_000), bytes(300_000), b"tide " * 60_000):
        found = list(reuse.cuts([data[at : at + 7777] for at in range(0, len(data), 7777)], 1024))
        assert b"".join(found) == data
        assert all(256 <= len(cut) <= 8192 for cut in found[:-1])
        assert all(0 < len(cut) <= 8192 for cut in found)
    random_ones = list(reuse.cuts([text_of(1, 300_000)], 1024))
    assert 150 < len(random_ones) < 500
    assert next(len(cut) for cut in reuse.cuts([bytes(30_000)], 1024)) == 8192  # where nothing says so, the largest


def test_equal_stretches_are_cut_alike_wherever_they_stand() -> None:
    data = text_of(2, 200_000)
    before, after = set(reuse.cuts([data], 1024)), set(reuse.cuts([b"inserted" + data], 1024))
    assert len(before & after) > 0.9 * len(before)


def test_what_moved_is_found_by_content() -> None:
    earlier, new = text_of(3, 400_000), text_of(4, 50_000)
    live = earlier[:100_000] + new + earlier[100_000:]
    found = reuse.by_content([live], [earlier], len(live))
    for run in found:
        assert live[run.start : run.start + run.length] == earlier[run.base : run.base + run.length]
    for one, other in itertools.pairwise(found):
        assert one.start + one.length <= other.start
        assert (one.start + one.length, one.base + one.length) != (other.start, other.base)  # joined
    assert sum(run.length for run in found) > 0.8 * len(earlier)
    assert len(found) < 6
    assert reuse.by_content([new], [earlier], len(new)) == []
    assert reuse.by_content([earlier], [earlier], len(earlier)) == [(0, len(earlier), 0)]


def test_of_cuts_that_are_alike_the_first_counts() -> None:
    data = text_of(5, 100_000)
    known = reuse.cuts_by_hash([data + data], 1024)
    ends = [0]
    for cut in reuse.cuts([data + data], 1024):
        ends.append(ends[-1] + len(cut))
    assert set(known.values()) <= set(ends)
    assert len(known) < len(ends) - 1
    assert sum(at >= 100_000 for at in known.values()) < 0.2 * len(known)


@pytest.mark.parametrize(
    ("size", "sector"),
    [(0, 4096), (1 << 30, 4096), ((1 << 30) + 1, 16384), (16 << 30, 16384), ((16 << 30) + 1, 65536)],
)
def test_sectors_grow_with_very_large_files(size: int, sector: int) -> None:
    assert reuse.sector_of(size) == sector


def test_cuts_grow_so_that_there_are_never_too_many() -> None:
    assert reuse.cut_of(0) == reuse.cut_of(reuse.USUAL_CUT * reuse.MOST_CUTS) == reuse.USUAL_CUT
    assert reuse.cut_of(reuse.USUAL_CUT * (reuse.MOST_CUTS + 1)) == 2 * reuse.USUAL_CUT
    for size in (10**9, 10**11, 10**13):
        assert size // reuse.cut_of(size) <= reuse.MOST_CUTS < 2 * size // reuse.cut_of(size) + 2
