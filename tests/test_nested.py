"""Laws of merging and editing values within values, in JSON, YAML and TOML as hands write them; the standard readers judge."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from random import Random
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.documents import edit
from emberkeep.merging.merge import merge_file
from tests import nested
from tests.nested import FORMATS, Hand, Sides, Tree

each_format = pytest.mark.parametrize("path", FORMATS)
randoms = st.integers(0, 10**9).map(Random)
shapes = st.integers(0, 99)


@st.composite
def hands(draw: st.DrawFn) -> Hand:
    newline = draw(st.sampled_from(["\n", "\r\n"]))
    return Hand(draw(shapes), draw(st.sampled_from([1, 2, 4])), newline, draw(st.booleans()))


def in_any_order(value: Any) -> Any:
    """A value with the goods of its lists by name: where each stands is another law's matter."""
    if isinstance(value, dict):
        return {name: in_any_order(inside) for name, inside in value.items()}
    if isinstance(value, list) and nested.kind_of(value) == "goods":
        return sorted(value, key=lambda good: str(good["id"]))
    return value


def noted(hand: Hand, path: str, sides: Sides) -> Hand:
    """The hand with comments above all that stays; JSON has none."""
    notes = frozenset(nested.stays(sides)) if path != "a.json" else frozenset[str]()
    return Hand(hand.shape, hand.indent, hand.newline, hand.bom, notes)


@each_format
@given(some=randoms, hand=hands(), alone=st.booleans())
def test_edits_that_do_not_meet_all_arrive_unasked(path: str, some: Random, hand: Hand, alone: bool) -> None:
    write, read = FORMATS[path]
    sides = nested.edited(some, nested.tree(some), ("new",) if alone else ("mine", "new"))
    hand = noted(hand, path, sides)
    mine, vendor = write(sides.mine, hand), Hand(hand.shape)
    result = merge_file(path, write(sides.old, vendor), mine, write(sides.new, vendor))
    data = mine if result.data is None else result.data
    assert (result.fault, [question for question in result.questions if question.open]) == (None, [])
    assert in_any_order(read(data)) == in_any_order(sides.both)
    assert data.startswith(b"\xef\xbb\xbf") == hand.bom
    assert data.count(b"\n") == data.count(hand.newline.encode())
    assert set(notes_in(mine)) <= set(notes_in(data))


def notes_in(data: bytes) -> list[str]:
    return [line.strip() for line in data.decode("utf-8-sig").splitlines() if line.strip().startswith("# about")]


def plain(tree: Tree, above: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    """Where the plain values stand."""
    for name, what in tree.items():
        if isinstance(what, dict):
            yield from plain(what, (*above, name))
        elif not isinstance(what, list):
            yield (*above, name)


def put(tree: Tree, where: tuple[str, ...], what: Any, *, name: str = "") -> Tree:
    """The tree with a value set, given another name, or, with ``...``, taken out."""
    found: Tree = {}
    for key, inside in {**tree, **({where[0]: None} if len(where) == 1 and where[0] not in tree else {})}.items():
        if key != where[0]:
            found[key] = inside
        elif len(where) > 1:
            found[key] = put(inside, where[1:], what, name=name)
        elif what is not ...:
            found[name or key] = what
    return found


def with_a_plain_value(some: Random) -> tuple[Tree, tuple[str, ...]]:
    while True:
        tree = nested.tree(some)
        found = list(plain(tree))
        if found:
            return tree, some.choice(found)


def inside(tree: Tree, where: tuple[str, ...]) -> Any:
    return inside(tree[where[0]], where[1:]) if where else tree


@each_format
@given(some=randoms, hand=hands())
def test_a_value_is_set_scaled_renamed_and_taken_out_alone(path: str, some: Random, hand: Hand) -> None:
    write, read = FORMATS[path]
    tree, where = with_a_plain_value(some)
    data, key, before = write(tree, hand), ".".join(where), inside(tree, where)
    wanted: Any = some.choice(["deep water", "x, y", "a: b", "it's", 'so "be it"'])
    if isinstance(before, int | float) and not isinstance(before, bool):
        wanted = some.choice([31, 4.75])
        assert read(edit.scale_value(path, data, key, Decimal(2))) == put(tree, where, before * 2)
    assert edit.value(path, data, key) == (str(before).lower() if isinstance(before, bool) else str(before))
    line = edit.line(path, data, key)
    assert line is not None and where[-1].encode() in data.replace(b"\r\n", b"\n").split(b"\n")[line - 1]
    changed = edit.set_value(path, data, key, str(wanted))
    assert read(changed) == put(tree, where, wanted)
    assert edit.set_value(path, changed, key, str(wanted)) == changed
    assert edit.set_value(path, changed, key, "other", unless_present=True) == changed
    assert read(edit.rename_key(path, data, key, "other-name")) == put(tree, where, before, name="other-name")
    if len(inside(tree, where[:-1])) > 1:
        assert read(edit.remove_key(path, data, key)) == put(tree, where, ...)
    fresh = (*where[:-1], "fresh")
    assert read(edit.set_value(path, data, ".".join(fresh), "7")) == put(tree, fresh, 7)
    for touched in (edit.rename_key(path, data, "nowhere", "x"), edit.remove_key(path, data, f"{key}.deeper")):
        assert touched == data
