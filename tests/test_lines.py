"""Lines of two texts: how they are told apart and matched, beside plain ways of saying the same."""

from __future__ import annotations

import itertools
import re

from hypothesis import given
from hypothesis import strategies as st

from emberkeep.documents.formats import lines


@given(st.text(st.sampled_from("ab\r\n\v\f\x1c\x1d\x1e\x85\u2028\u2029"), max_size=30))
def test_lines_end_where_the_three_line_ends_stand_and_nowhere_else(text: str) -> None:
    found = lines.split(text)
    assert "".join(found) == text
    assert found == re.findall(r"[^\r\n]*(?:\r\n|\r|\n)|[^\r\n]+$", text)
    assert [lines.body(line) for line in found] == [re.sub(r"[\r\n]+$", "", line) for line in found]


def longest(numbers: list[int]) -> int:
    """The length of a longest strictly ascending subsequence, said plainly."""
    best: list[int] = []
    for at, number in enumerate(numbers):
        best.append(1 + max((best[i] for i in range(at) if numbers[i] < number), default=0))
    return max(best, default=0)


@given(st.lists(st.integers(0, 9), max_size=12))
def test_a_longest_ascending_run_is_found(numbers: list[int]) -> None:
    found = lines.ascending(numbers)
    assert found == sorted(set(found))
    picked = [numbers[at] for at in found]
    assert all(one < other for one, other in itertools.pairwise(picked))
    assert len(found) == longest(numbers)


def test_lines_that_repeat_never_pull_a_match_apart() -> None:
    """What stands once on both sides anchors the rest, however often a closing line stands around it."""
    left = ["open a", "}", "}", "open b", "}", "open c", "}"]
    right = ["}", "}", "open a", "}", "open x", "}", "}", "open b", "}", "}", "open c"]
    pairs = {(m.left + step, m.right + step) for m in lines.matches(left, right) for step in range(m.length)}
    assert {(left.index(one), right.index(one)) for one in ("open a", "open b", "open c")} <= pairs


@given(st.lists(st.integers(0, 4), max_size=10), st.lists(st.integers(0, 4), max_size=10))
def test_matches_are_joined_where_they_touch_and_ascend(left: list[int], right: list[int]) -> None:
    found = lines.matches(left, right)
    for one, other in itertools.pairwise(found):
        assert one.left + one.length <= other.left and one.right + one.length <= other.right
        assert (one.left + one.length, one.right + one.length) != (other.left, other.right)
    assert lines.matches(left, left) == ([lines.Match(0, 0, len(left))] if left else [])


def test_common_beginnings_and_ends_are_matched_first() -> None:
    assert lines.matches("aXb", "aYYb") == [lines.Match(0, 0, 1), lines.Match(2, 3, 1)]
    assert lines.matches("ab", "cd") == []
    assert lines.matches("", "a") == lines.matches("a", "") == []
    assert lines.matches("xx", "x") == [lines.Match(0, 0, 1)]
