"""Every reader of a text format on damaged and random input: records, or a fault with its place; never more than that."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.documents import registry
from emberkeep.documents.model import Document, Node, splice
from emberkeep.errors import UnreadableInput
from emberkeep.merging.merge import merge_file
from tests import corpus

SEEDS = {name: (path, corpus.case("own comments", name, 1).mine) for name, (path, _) in corpus.FORMATS.items()}
ODD = [b"<", b">", b'"', b"'", b"&", b"\0", b"\n", b"\r", b"\t", b"{", b"}", b"[", b"]", b",", b":", b"#", b"=", b"-",
       b"\\", b"<!--", b"-->", b"<![CDATA[", b"]]>", b"&amp;", b"<?x ?>", b"*a", b"&a ", b"|", b"\xff", b"\xc3", b"\xef\xbb\xbf"]  # fmt: skip


def spans_hold(document: Document, node: Node) -> None:
    """Everything lies within what it stands in, in order."""
    at = node.start
    for item in node.items:
        assert at <= item.start <= item.end <= len(document.text)
        at = item.start
        spans_hold(document, item)
    for field in node.fields.values():
        assert 0 <= field.start <= field.end <= len(document.text)


@pytest.mark.parametrize("name", SEEDS)
@given(data=st.data())
def test_damaged_files_are_read_or_refused_with_a_place(name: str, data: st.DataObject) -> None:
    path, text = SEEDS[name]
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(text)))
        end = min(len(text), at + data.draw(st.integers(0, 8)))
        text = text[:at] + data.draw(st.sampled_from(ODD)) + text[end:]
    try:
        document = registry.parse(path, text)
    except UnreadableInput as error:
        place = error.faults[0].place
        assert place is not None
        assert place.line is not None
        return
    if document is not None:
        spans_hold(document, document.root)
        assert splice(document.text, []) == document.text


@pytest.mark.parametrize("name", SEEDS)
@given(data=st.data())
def test_merging_damaged_sides_gives_a_result_or_says_why_not(name: str, data: st.DataObject) -> None:
    """Each side is damaged on its own. What is written can be read whenever the admin's file could."""
    path, whole = SEEDS[name]
    sides = []
    for _ in range(3):
        at = data.draw(st.integers(0, len(whole)))
        sides.append(whole[:at] + data.draw(st.sampled_from([b"", *ODD])) + whole[at + data.draw(st.integers(0, 5)) :])
    result = merge_file(path, *sides)
    assert result.fault is None or result.fault.place is not None
    if result.data is None:
        return
    try:
        mine = registry.parse(path, sides[1])
    except UnreadableInput:
        return
    if mine is not None:
        registry.parse(path, result.data, as_format=mine.format)
