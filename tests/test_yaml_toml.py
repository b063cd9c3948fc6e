"""YAML and TOML with spans: what is read, what is refused and where, and merges judged by the standard readers."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from typing import Any

import pytest
import yaml
from hypothesis import assume, given
from hypothesis import strategies as st

from emberkeep.comparing.records import compare, facts
from emberkeep.documents import registry
from emberkeep.documents.encoding import Text
from emberkeep.documents.formats import yaml as yaml_format
from emberkeep.documents.formats import yaml_reader
from emberkeep.documents.formats.yaml import YamlDocument
from emberkeep.documents.identity import field_values
from emberkeep.documents.model import Node, Role, UnsupportedStructure
from emberkeep.errors import UnreadableInput
from emberkeep.merging.merge import merge_file
from tests import makers
from tests.helpers import merge_text, parsed, text_of
from tests.makers import Edits, Style


def shape(path: str, text: str) -> list[tuple[str, str, str]]:
    return sorted(facts(parsed(path, text)))


# --- reading -----------------------------------------------------------------


def test_yaml_values_and_their_names() -> None:
    text = (
        "# top\nfog:\n  chance: 0.20 # thick\n  text: |\n    two\n    lines\n\n"
        "goods:\n- id: kelp\n  worth: '10'\n  named: 'ten'\n- id: tar\n  at: [1, -2]\nseasons: [winter, spring]\n"
        "base: &base {a: 1}\nuse: *base\nnone:\n"
    )
    assert shape("w.yaml", text) == sorted(
        [
            ("", "", ""),
            ("fog", "", ""),
            ("fog/chance", "", ""),
            ("fog/chance", "=", "0.20"),
            ("fog/text", "", ""),
            ("fog/text", "=", "two\nlines"),
            ("goods", "", ""),
            ("goods/[id=kelp]", "", ""),
            ("goods/[id=kelp]/id", "", ""),
            ("goods/[id=kelp]/id", "=", "kelp"),
            ("goods/[id=kelp]/worth", "", ""),
            ("goods/[id=kelp]/worth", "=", '"10"'),
            ("goods/[id=kelp]/named", "", ""),
            ("goods/[id=kelp]/named", "=", "ten"),
            ("goods/[id=tar]", "", ""),
            ("goods/[id=tar]/id", "", ""),
            ("goods/[id=tar]/id", "=", "tar"),
            ("goods/[id=tar]/at", "", ""),
            ("goods/[id=tar]/at", "=", "[1, -2]"),
            ("seasons", "", ""),
            ("seasons/[winter]", "", ""),
            ("seasons/[winter]", "=", "winter"),
            ("seasons/[spring]", "", ""),
            ("seasons/[spring]", "=", "spring"),
            ("base", "", ""),
            ("base/a", "", ""),
            ("base/a", "=", "1"),
            ("use", "", ""),
            ("use", "=", "*base"),
            ("none", "", ""),
            ("none", "=", ""),
        ]
    )
    comments = [item.fields[""].value for item in parsed("w.yaml", text).root.items if item.role is Role.COMMENT]
    assert comments == [" top"]


def test_toml_values_and_their_names() -> None:
    text = (
        'title = "Rock" # shown\n"a b".c = 1_000\n\n[harbour]\nopens = 06:00:00\n\n# the old one\n[[berth]]\nname = \'old\'\n'
        '[berth.crane]\nlift = 2.5\n[[berth]]\nname = """\nlantern"""\nat = [ 1,\n  2 ]\nholds = ["eel", "crab"]\n[far.away]\nx = { y = "z" }\n'
    )
    found = shape("h.toml", text)
    values = {(record, value) for record, field, value in found if field == "="}
    assert values == {
        ("title", '"Rock"'),
        ('"\\"a b\\".c"', "1000"),
        ("harbour/opens", "06:00:00"),
        ("berth[name=old]/name", '"old"'),
        ("berth[name=old]/crane/lift", "2.5"),
        ("berth[name=lantern]/name", '"lantern"'),
        ("berth[name=lantern]/at", "[1, 2]"),
        ("berth[name=lantern]/holds/[eel]", '"eel"'),
        ("berth[name=lantern]/holds/[crab]", '"crab"'),
        ("far.away/x/y", '"z"'),
    }


@pytest.mark.parametrize(
    ("path", "text", "line", "column"),
    [
        ("a.yaml", "a: 1\nb: [1, 2\nc: 3\n", 3, 2),
        ("a.yaml", "a:\n\t- x\n", 2, 1),
        ("a.yaml", "a: *nowhere\n", 1, 4),
        ("a.yaml", "a: \x01\n", 1, 4),
        ("a.yaml", "a: " + "[" * 900, 1, 104),
        ("a.toml", "a = 1\nb = \n", 2, 5),
        ("a.toml", "a = 1\na = 2\n", 2, 6),
        ("a.toml", "[a\n", 1, 3),
    ],
)
def test_what_is_broken_is_named_by_place(path: str, text: str, line: int, column: int) -> None:
    with pytest.raises(UnreadableInput) as caught:
        registry.parse(path, text.encode())
    place = caught.value.faults[0].place
    assert place is not None
    assert (place.line, place.column) == (line, column)


def test_deeply_nested_toml_is_refused() -> None:
    with pytest.raises(UnreadableInput, match="TOML"):
        registry.parse("a.toml", b"a = " + b"[" * 5000 + b"]" * 5000)


def test_aliases_are_never_expanded() -> None:
    """Ten levels of ten aliases each would be ten thousand million values."""
    lines = ["a0: &a0 [x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 11)]
    assert len(shape("bomb.yaml", "\n".join(lines))) < 400


@pytest.mark.parametrize(
    "text",
    [
        "a: 1\n---\nb: 2\n",
        "? [1, 2]\n: x\n",
        "? a\n? b\n",
        "x: [a\n  b, c]\n",
        "x: {? a\n  b : c}\n",
        "a: |+\n  x\n\n",
        "a: |2\n    x\n",
    ],
)
def test_yaml_that_is_unsuited_for_records_is_taken_by_line_and_why_is_told(text: str) -> None:
    assert registry.parse("a.yaml", text.encode()) is None
    result = merge_text("a.yaml", text, "# mine\n" + text, text + "# theirs\n")
    assert text_of(result) == "# mine\n" + text + "# theirs\n"
    (told,) = result.warnings
    assert "line by line, since it has" in told.what and told.place is not None and told.place.line is not None


@pytest.mark.parametrize(
    ("old", "mine", "new", "merged"),
    [
        ("a: 1\nb: 2\n...\n", "a: 1\nb: 3\n...\n", "a: 5\nb: 2\nc: 4\n...\n", "a: 5\nb: 3\nc: 4\n...\n"),
        (
            "- - x\n  - y\n- - z\n",
            "- - x\n  - y\n- - q\n",
            "- - y\n- - z\n- - w\n  - v\n",
            "-\n  - y\n- - q\n- - w\n  - v\n",  # each is still itself, in the vendor's order
        ),
        (
            "%YAML 1.1\n--- # c\na: 1\n",
            "%YAML 1.1\n--- # c\na: 7\n",
            "%YAML 1.1\n--- # c\na: 1\nc: 3\n",
            "%YAML 1.1\n--- # c\na: 7\nc: 3\n",
        ),
        ("&k a: 1\nb: *k\n", "&k a: 2\nb: *k\n", "&k a: 1\nb: *k\nc: 1\n", "&k a: 2\nb: *k\nc: 1\n"),
        (
            "x: &m\n  q: 1\ny:\n  <<: *m\n",
            "x: &m\n  q: 2\ny:\n  <<: *m\n",
            "x: &m\n  q: 1\ny:\n  <<: *m\n  z: 2\n",
            "x: &m\n  q: 2\ny:\n  <<: *m\n  z: 2\n",
        ),
        (
            "? long key that\n  goes on\n: x: 1\n  y: 1\nb: 1\n",
            "? long key that\n  goes on\n: x: 2\n  y: 1\nb: 1\n",
            "long key that goes on:\n  x: 1\n  y: 3\n  z: 4\nb: 1\n? new\n: - 1\n",
            "? long key that\n  goes on\n: x: 2\n  y: 3\n  z: 4\nb: 1\n? new\n: - 1\n",
        ),
        (
            "{? 'a b\n  c' : 1, d: 1}\n",
            "{? 'a b\n  c' : 2, d: 1}\n",
            "{a b c: 1, d: 1, ? e : 3}\n",
            "{? 'a b\n  c' : 2, d: 1, ? e : 3}\n",
        ),
    ],
)
def test_what_people_write_in_yaml_is_merged_by_record(old: str, mine: str, new: str, merged: str) -> None:
    result = merge_text("a.yaml", old, mine, new)
    assert (result.format, text_of(result), result.questions) == ("yaml", merged, ())


@given(
    st.recursive(
        st.one_of(st.none(), st.booleans(), st.integers(-9, 9), st.text("ab: #-'\"\n,[]{}&*!|>%@", max_size=8)),
        lambda inner: st.one_of(
            st.lists(inner, max_size=3),
            st.dictionaries(
                st.text("abc", min_size=1) | st.text("ab: #\n", min_size=125, max_size=140), inner, max_size=3
            ),
        ),
        max_leaves=10,
    ),
    st.sampled_from([True, False, None]),
    st.integers(2, 4),
)
def test_whatever_the_standard_writer_writes_is_read_as_it_reads_it(
    value: object, flow: bool | None, step: int
) -> None:
    text = yaml.safe_dump(value, default_flow_style=flow, indent=step, allow_unicode=True)
    assume(not _broken_between_brackets(text))
    document = registry.parse("a.yaml", text.encode())
    assert document is not None, "it puts long keys behind question marks"
    assert document.text == text
    if isinstance(value, dict):
        assert [item.name for item in document.root.items if item.role is Role.RECORD] == list(yaml.safe_load(text))
    if isinstance(value, list) and value and document.container(document.root):
        assert len(document.root.items) == len(value)


def _broken_between_brackets(text: str) -> bool:
    """Whether a text without quotes goes over lines between brackets: nothing tells it from values between which a
    comma is lacking, so such a file is merged line by line."""
    depth = 0
    for event in yaml.parse(text):
        if isinstance(event, yaml.ScalarEvent):
            if depth and event.style is None and event.start_mark.line < event.end_mark.line:
                return True
        elif isinstance(event, yaml.CollectionStartEvent):
            depth += bool(event.flow_style or depth)
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= bool(depth)
    return False


def test_a_text_broken_between_brackets_is_left_to_lines() -> None:
    whole, broken = "k: [a b c, d]\ne: 1\n", "k: [a b\n  c, d]\ne: 1\n"
    assert (_broken_between_brackets(whole), _broken_between_brackets(broken)) == (False, True)
    for text, asked in ((whole, 0), (broken, 1)):
        result = merge_text("a.yaml", text, text.replace("1", "2"), text + "f: 3\n")
        assert (result.format, len(result.questions)) == ("text" if asked else "yaml", asked)


# --- merging, with the standard readers as judges ----------------------------


def _by_id(records: list[dict[str, Any]] | None) -> dict[str, Any]:
    return {
        record["id"]: {key: _by_id(value) if key == "parts" else value for key, value in record.items()}
        for record in records or []
    }


JUDGES: dict[str, tuple[Callable[..., bytes], Callable[[bytes], dict[str, Any]]]] = {
    "s.yaml": (makers.as_yaml, lambda data: _by_id(yaml.safe_load(data)["stores"])),
    "s.toml": (makers.as_toml, lambda data: _by_id(tomllib.loads(data.decode("utf-8-sig")).get("good"))),
}


@pytest.mark.parametrize("path", JUDGES)
@given(edits=makers.disjoint_edits(), style=makers.styles)
def test_the_standard_reader_reads_both_sides_edits(path: str, edits: Edits, style: Style) -> None:
    render, judge = JUDGES[path]
    mine = render(edits.mine, style)
    result = merge_file(path, render(edits.old), mine, render(edits.new))
    assert judge(mine if result.data is None else result.data) == judge(render(edits.both))


MINE = """\
# ours
fog:
    chance: 0.5     # often
    thickest: 0.8
# the sky
seasons: [winter, spring,
          haar]   # four
goods:
- id: kelp

  worth: 3
- {id: tar, worth: 5}
"""


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ("thickest: 0.8", "thickest: 0.9", MINE.replace("0.8", "0.9")),
        ("0.8\n", "0.8\n  lifts: noon\n", MINE.replace("0.8\n", "0.8\n    lifts: noon\n")),
        ("  chance", "  low: 1\n  chance", MINE.replace("    chance", "    low: 1\n    chance")),
        ("spring,", "spring, summer,", MINE.replace("spring,", "spring,\n  summer,")),
        ("spring, haar]", "spring]", MINE.replace("spring,\n          haar]", "spring\n]")),
        ("- id: kelp\n", "- first: 1\n  id: kelp\n", MINE.replace("- id: kelp\n", "- first: 1\n  id: kelp\n")),
        ("  worth: 3\n", "", MINE.replace("  worth: 3\n", "")),
        ("tar, worth: 5", "tar, kind: oil, worth: 5", MINE.replace("tar, w", "tar, kind: oil, w")),
        ("worth: 3\n", "worth: 3\n- id: rope\n  why: >\n    it\n    holds\n", MINE.replace("worth: 3\n", "worth: 3\n- id: rope\n  why: >\n    it\n    holds\n")),
        ("goods:", "wind: {calm: 3}\ngoods:", MINE.replace("goods:", "wind: {calm: 3}\ngoods:")),
        ("thickest: 0.8", "thickest:\n    - 1\n    - 2", None),
    ],
)  # fmt: skip
def test_a_hand_written_yaml_keeps_its_writing(old: str, new: str, expected: str | None) -> None:
    vendor = "# ours\nfog:\n  chance: 0.2\n  thickest: 0.8\n# the sky\nseasons: [winter, spring, haar]\ngoods:\n- id: kelp\n  worth: 3\n- {id: tar, worth: 5}\n"
    assert vendor.count(old) == 1
    result = merge_text("w.yaml", vendor, MINE, vendor.replace(old, new))
    assert not [question for question in result.questions if question.open]
    after = yaml.safe_load(text_of(result))
    wanted = yaml.safe_load(vendor.replace(old, new))
    wanted["fog"]["chance"] = 0.5
    assert after == wanted
    if expected is not None:
        assert text_of(result) == expected


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ("draught = 2.5", "draught = 3", "draught = 3 # deep"),
        ('[[berth]]\nname = "lantern"', '[[berth]]\nname = "ice"\n\n[[berth]]\nname = "lantern"', '# deep\n\n[[berth]]\nname = "ice"\n\n[[berth]]\nname = "lantern"'),
        ('title = "Rock"', 'title = "Rock"\nlamps = 2', 'title = "Rock"\nlamps = 2\n\n[ours]'),
        ('"eel"', '"eel", "crab"', 'holds = [\n  "eel",\n  "crab", # big ones\n]'),
        ("[harbour]", 'depth = 1\n[harbour]', 'title = "Rock"\ndepth = 1\n\n[ours]'),
    ],
)  # fmt: skip
def test_a_hand_written_toml_keeps_its_writing(old: str, new: str, expected: str) -> None:
    vendor = 'title = "Rock"\n[harbour]\nholds = ["eel"]\n\n[[berth]]\nname = "old pier"\ndraught = 2.5\n\n[[berth]]\nname = "lantern"\n'
    mine = vendor.replace("[harbour]", "\n[ours]\nx = 1\n[harbour]").replace("draught = 2.5", "draught = 2.5 # deep")
    if "eel" in old:
        mine = mine.replace('["eel"]', '[\n  "eel", # big ones\n]')
        expected = '"crab"'
    result = merge_text("h.toml", vendor, mine, vendor.replace(old, new))
    assert not result.questions
    wanted = tomllib.loads(vendor.replace(old, new))
    assert {**tomllib.loads(text_of(result)), "ours": None} == {**wanted, "ours": None}
    assert expected in text_of(result)
    assert "[ours]\nx = 1\n" in text_of(result)


@pytest.mark.parametrize(
    ("path", "line", "answer", "expected"),
    [
        ("a.yaml", "v: {}\n", "= 7", "v: 7\n"),
        ("a.yaml", "v: {}\n", "= yes: no", 'v: "yes: no"\n'),
        ("a.yaml", "v: {}\n", "new", "v: 3\n"),
        ("a.toml", "v = {}\n", "= 7", "v = 7\n"),
        ("a.toml", "v = {}\n", "= deep water", 'v = "deep water"\n'),
        ("a.toml", "v = {}\n", "old", "v = 1\n"),
    ],
)
def test_answers_are_spelled_for_the_format(path: str, line: str, answer: str, expected: str) -> None:
    old, mine, new = (line.format(value) for value in "123")
    assert text_of(merge_text(path, old, mine, new, answer)) == expected


def test_an_order_of_keys_is_no_difference_of_values() -> None:
    left, right = parsed("a.yaml", "a: 1\nb: 2\n"), parsed("a.yaml", "b: 2\na: 1.0\n")
    assert [item.kind for item in compare(left, right)] == ["moved"]


# --- blocks that wait ---------------------------------------------------------------


def told(document: YamlDocument, node: Node) -> tuple[object, ...]:
    """All that is known of a node and what stands in it."""
    fields = sorted((name, found.value, found.start, found.end) for name, found in node.fields.items())
    inside = [told(document, item) for item in node.items]
    about = (document.within(node), document.block_indent(node), document.container(node))
    return (node.role, node.name, node.start, node.end, node.inner, node.named, node.trailing, about, fields, inside)


plain_words = st.sampled_from(
    [
        "lamp",
        "kelp pie",
        "12",
        "0.5",
        "'it''s'",
        '"a: b"',
        "true",
        "",
        "[p, q]",
        "{a: 1, b: [2, 3]}",
        "|\n{}  one\n{}  two",
    ]
)


@st.composite
def blocks(draw: st.DrawFn, column: int = 0, deeper: int = 4) -> str:
    """Lines of a block in a column, with comments and blank lines about."""
    lines = []
    is_list = draw(st.booleans())
    for at in range(draw(st.integers(1, 4))):
        pad = " " * column
        if draw(st.integers(0, 5)) == 0:
            lines.append(draw(st.sampled_from([f"{pad}# of {at}", "", f"{pad}  # deeper", "# left"])))
        lead = f"{pad}- " if is_list else f"{pad}k{at}:"
        if deeper and draw(st.booleans()):
            inner = draw(blocks(column + 2, deeper - 1))
            lines.append(
                lead + inner[column + 2 :]
                if is_list and not inner.lstrip(" ").startswith(("#", "\n"))
                else f"{lead.rstrip()}\n{inner}"
            )
        else:
            value = draw(plain_words).replace("{}", pad)
            lines.append(
                f"{lead.rstrip()} {value}".rstrip() + draw(st.sampled_from(["", "", "  # why"])) * ("\n" not in value)
            )
    return "\n".join(lines)


@given(text=blocks(), newline=st.sampled_from(["\n", "\r\n"]), mark=st.sampled_from(["", "\ufeff"]))
def test_blocks_that_wait_are_as_those_that_are_read_at_once(text: str, newline: str, mark: str) -> None:
    source = Text(mark + (text + "\n").replace("\n", newline), "utf-8", newline)
    found = []
    for waits in (lambda text: 1, lambda text: 2, lambda text: yaml_reader.DEEPEST):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(yaml_format, "waits_from", waits)
            try:
                document = yaml_format.parse(source, "a.yaml")
                found.append((told(document, document.root), document.bracketed()))
            except (UnsupportedStructure, UnreadableInput) as error:
                found.append((repr(error), None))
    assert found[0] == found[1] == found[2]


def test_a_key_is_told_without_reading_what_stands_beside_it() -> None:
    text = "".join(f"- id: good-{at}\n  says: [{at}]\n  more:\n    id: inner\n" for at in range(5))
    document = registry.parse("a.yaml", text.encode())
    assert document is not None
    nodes = document.root.items
    assert field_values(nodes, "id") == [f"good-{at}" for at in range(5)]
    assert all(node.waits for node in nodes)
    assert field_values(nodes[:1], "says") == [nodes[0].items[1].own]
