"""JSON with spans: what is read, what is refused and where, and how commas and comments fare in a merge."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.documents import registry
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.formats.json import JsonDocument, parse
from emberkeep.documents.model import Edit, Node
from emberkeep.errors import UnreadableInput
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import FileMerge
from tests import corpus, depth
from tests.helpers import merge_text, text_of


def source(text: str) -> Text:
    found = decode(text.encode())
    assert found is not None
    return found


def merge(old: str, mine: str, new: str, answer: str = "") -> FileMerge:
    result = merge_text("prices.json", old, mine, new, answer)
    assert result.fault is None
    return result


def test_members_elements_and_values() -> None:
    doc = parse(source('{"a": 1, "b c": [true, {"id": "x"}], /* n */ "e": {}, "s": "\\u00e5"}'), "x.json")
    members = [(item.name, item.own) for item in doc.root.items]
    assert members == [("a", "1"), ("b c", None), ("#comment", " n "), ("e", "{}"), ("s", '"å"')]
    assert [item.name for item in doc.root.items[1].items] == ["[]", "[]"]


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner),
)


def told(node: Node) -> tuple[object, ...]:
    """All that a node says and where it stands."""
    return (
        node.role,
        node.name,
        node.start,
        node.end,
        node.inner,
        node.named,
        node.fields,
        [told(item) for item in node.items],
    )


@given(VALUES, st.sampled_from((None, 0, 3)), st.booleans(), st.text(" \t\n", max_size=3))
def test_containers_read_later_are_those_read_at_once(
    value: object, indent: int | None, plain: bool, space: str
) -> None:
    text = space + json.dumps(value, indent=indent, ensure_ascii=plain) + space
    with_comment = text + " // strict JSON has no comments, so this is read token by token"
    assert told(parse(source(text), "x.json").root) == told(parse(source(with_comment), "x.json").root)


@pytest.mark.parametrize(
    ("text", "line", "column"),
    [
        ('{"a": }', 1, 7),
        ('{"a": 1 "b": 2}', 1, 9),
        ("[1,\n2", 2, 2),
        ("{a: 1}", 1, 2),
        ('{"a" 1}', 1, 6),
        ("[1] 2", 1, 5),
        ('["\\q"]', 1, 2),
        ("[01]", 1, 2),
        ("", 1, 1),
        ("[" * 1000, 1, 102),
        ('{"a":' * 400 + "1" + "}" * 400, 1, 506),
        ('"open', 1, 1),
    ],
)
def test_what_is_no_json_is_named_by_place(text: str, line: int, column: int) -> None:
    with pytest.raises(UnreadableInput) as caught:
        parse(source(text), "x.json")
    place = caught.value.faults[0].place
    assert place is not None
    assert (place.line, place.column) == (line, column)


values = st.recursive(
    st.one_of(
        st.none(),
        st.booleans(),
        st.integers(-99, 99),
        st.floats(allow_nan=False, allow_infinity=False),
        st.text(max_size=5),
    ),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=4), inner, max_size=3)),
    max_leaves=12,
)


@given(values, st.sampled_from([None, 1, "\t"]), st.booleans())
def test_what_the_standard_writer_writes_is_read_and_needs_no_finishing(
    value: object, indent: int | str | None, ascii_only: bool
) -> None:
    text = json.dumps(value, indent=indent, ensure_ascii=ascii_only)
    try:
        text.encode()
    except UnicodeEncodeError:
        return
    doc = parse(source(text), "x.json")
    untouched = [Edit(doc.root.start + 1, doc.root.start + 1, "")]
    assert doc.finish(untouched) == text


@given(st.lists(st.sampled_from(["{", "}", "[", "]", ",", ":", '"a"', "1", "// c\n", " "]), max_size=14).map("".join))
def test_any_tokens_give_a_document_or_a_clear_error(text: str) -> None:
    try:
        doc = parse(source(text), "x.json")
    except UnreadableInput as error:
        assert error.faults[0].place is not None
        return
    untouched = [Edit(doc.root.start + 1, doc.root.start + 1, "")]
    assert doc.finish(untouched) == text
    bare = text.replace("// c\n", "")
    try:
        assert json.loads(bare) is not None
    except ValueError:
        assert ",}" in bare.replace(" ", "") or ",]" in bare.replace(" ", "")


OLD = """{
  // what the harbour pays
  "rates": { "buy": 1.0, "sell": 0.6 },
  "berths": [
    { "name": "old pier", "draught": 2.5 },
    { "name": "lantern steps", "draught": 1.5 }
  ],
  "closed": ["midwinter"]
}
"""


def test_both_sides_add_at_the_end_of_lists_and_objects() -> None:
    mine = OLD.replace("1.5 }\n", '1.5 }, // wet feet\n    { "name": "our jetty", "draught": 1.0 }\n')
    new = OLD.replace("1.5 }\n", '1.5 },\n    { "name": "ice quay", "draught": 4.0 }\n').replace(
        '["midwinter"]\n', '["midwinter"],\n  "opens": "06:00"\n'
    )
    found = text_of(merge(OLD, mine, new))
    assert '1.5 }, // wet feet\n    { "name": "ice quay", "draught": 4.0 },\n    { "name": "our jetty"' in found
    assert found.endswith('"closed": ["midwinter"],\n  "opens": "06:00"\n}\n')


def test_what_goes_takes_its_comma_along_and_the_last_one_before_it() -> None:
    mine = OLD.replace("0.6", "0.7")
    new = OLD.replace(',\n  "closed": ["midwinter"]', "").replace('    { "name": "old pier", "draught": 2.5 },\n', "")
    assert text_of(merge(OLD, mine, new)) == new.replace("0.6", "0.7")


def test_both_changed_one_value() -> None:
    mine, new = OLD.replace("2.5", "3.5"), OLD.replace("2.5", "2.0")
    (question,) = merge(OLD, mine, new).questions
    assert (question.record, question.field) == ('berths/[name="old pier"]', "draught")
    assert (question.old, question.mine, question.new) == ("2.5", "3.5", "2.0")
    assert '"draught": 7 }' in text_of(merge(OLD, mine, new, answer="= 7"))
    assert '"draught": "deep"' in text_of(merge(OLD, mine, new, answer="= deep"))


def test_a_number_and_its_spelling_as_text_differ() -> None:
    result = merge('{"a": 1, "b": 1}', '{"a": 1, "b": 2}', '{"a": "1", "b": 1}')
    assert text_of(result) == '{"a": "1", "b": 2}'


def test_one_line_json_stays_on_one_line() -> None:
    found = text_of(merge('{"a":1,"c":["x","y"]}', '{"a":2,"c":["x","y"]}', '{"a":1,"b":5,"c":["x","w","y","z"]}'))
    assert json.loads(found) == {"a": 2, "b": 5, "c": ["x", "w", "y", "z"]}
    assert "\n" not in found


def test_trailing_commas_and_comments_of_mine_stay() -> None:
    mine = OLD.replace('["midwinter"]\n', '["midwinter", ],\n').replace("  // what", "  /* mine */\n  // what")
    new = OLD.replace("0.6", "0.65")
    assert text_of(merge(OLD, mine, new)) == mine.replace("0.6", "0.65")


@pytest.mark.parametrize(
    ("mine", "new", "expected"), [("[]", "[1]", [1]), ("{}", '{"a": 1}', {"a": 1}), ("[]", '{"a": 1}', {"a": 1})]
)
def test_empty_containers_are_filled(mine: str, new: str, expected: object) -> None:
    frame = '{{\n  "v": {},\n  "n": {}\n}}\n'
    result = merge(frame.format(mine, 1), frame.format(mine, 2), frame.format(new, 1))
    assert json.loads(text_of(result)) == {"v": expected, "n": 2}


def test_what_is_not_json_on_one_side_is_merged_by_line() -> None:
    result = merge_file("x.json", b"{\n1\n}\n", b"{\n1\n}\n# mine\n", b"{\n2\n}\n")
    assert result.format == "text"
    assert result.data == b"{\n2\n}\n# mine\n"


@pytest.mark.parametrize(
    ("mine", "new", "asked", "expected"),
    [
        ("[12, -41]", "[12, -40]", 0, [12, -41]),
        ("[12, -40]", "[13, -40]", 0, [13, -40]),
        ("[12, -41]", "[13, -40]", 1, [12, -41]),
    ],
)
def test_a_list_of_numbers_is_one_value(mine: str, new: str, asked: int, expected: list[int]) -> None:
    frame = '{{"at": {}, "n": 1}}'
    result = merge(frame.format("[12, -40]"), frame.format(mine).replace("1}", "2}"), frame.format(new))
    assert len(result.questions) == asked
    found = json.loads(frame.format(mine) if result.data is None else text_of(result))
    assert found["at"] == expected


def test_large_objects_keyed_by_ids_are_quick_enough_to_use() -> None:
    rows = {f"id-{number}": {"coins": number} for number in range(4000)}
    old = json.dumps(rows, indent=1)
    mine = old.replace('"coins": 17\n', '"coins": 18\n')
    result = merge(old, mine, old.replace('"coins": 3999\n', '"coins": 1\n'))
    assert json.loads(text_of(result))["id-3999"] == {"coins": 1}
    assert registry.format_of("x.json", old) == "json"


words = st.lists(st.sampled_from(["pier", "cave", "reef", "wreck", "store"]), unique=True, max_size=5)


@given(words, words, words, st.sampled_from([None, 2]))
def test_lists_of_words_merge_as_sets_do(old: list[str], mine: list[str], new: list[str], indent: int | None) -> None:
    sides = [json.dumps({"v": side, "w": "x"}, indent=indent) for side in (old, mine, new)]
    result = merge(*sides)
    merged = json.loads(sides[1] if result.data is None else text_of(result))["v"]
    assert set(merged) == {n for n in {*mine, *new} if (n in mine and n in new) or n not in old}
    assert len(set(merged)) == len(merged)


def test_objects_beside_plain_values_and_arrays_in_one_array() -> None:
    """Also where keep.toml tells what identifies the objects: the others have no such thing."""
    old = '[{"id": "a", "n": 1}, 5, [{"x": 1}], {"id": "b", "n": 2}]'
    mine, new = old.replace('"n": 1', '"n": 3'), old.replace('"n": 2', '"n": 4')
    for rules in ({}, {"/[]": ("id",)}):
        result = merge_file("prices.json", *(side.encode() for side in (old, mine, new)), rules=rules)
        assert text_of(result) == '[{"id": "a", "n": 3}, 5, [{"x": 1}], {"id": "b", "n": 4}]'


@pytest.mark.parametrize("kind", corpus.KINDS_OF_CASE)
def test_commas_are_set_right_in_the_smallest_containers_as_in_the_whole_file(kind: str) -> None:
    for name in ("JSON, a list", "JSON on one line"):
        cases = [corpus.case(kind, name, seed) for seed in range(depth.choose(4, 40))]
        found = [merge_file(case.path, case.old, case.mine, case.new) for case in cases]
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(JsonDocument, "bracketed", lambda self, edits=(): [(0, len(self.text))])
            assert found == [merge_file(case.path, case.old, case.mine, case.new) for case in cases]


def test_edits_at_several_depths_leave_the_right_commas() -> None:
    old = '{"a": [{"id": "p", "b": ["x", "y"]}, {"id": "q", "c": {}}], "d": {"e": 1, "f": 2}}'
    mine = old.replace('"y"', '"y", "mine"').replace('"f": 2', '"f": 3')
    new = '{"a": [{"id": "p", "b": ["new", "x", "y"]}, {"id": "q", "c": {"in": 1, "out": 2}}], "d": {"f": 2}, "g": 5}'
    expected = new.replace('"y"', '"y", "mine"').replace('"f": 2', '"f": 3')
    assert json.loads(text_of(merge(old, mine, new))) == json.loads(expected)
