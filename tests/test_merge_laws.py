"""Laws of the merge, for every format that has records, on random records, edits and ways of writing them."""

from __future__ import annotations

import json
import tomllib
from collections import Counter
from collections.abc import Callable
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

from emberkeep.comparing import records as comparing
from emberkeep.comparing.records import Difference, compare, facts
from emberkeep.documents import align, registry
from emberkeep.documents.formats.lines import matches, split
from emberkeep.documents.formats.toml import TomlDocument
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.model import Document
from emberkeep.merging import rows
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import Outcome
from tests import makers
from tests.makers import Edits, Rec, Style

Render = Callable[..., bytes]
FORMATS: dict[str, Render] = {
    "stores.xml": makers.as_xml,
    "stores.json": makers.as_json,
    "stores.yaml": makers.as_yaml,
    "stores.toml": makers.as_toml,
    "keeper.ini": makers.as_ini,
    "keeper.properties": makers.as_properties,
}
each_format = pytest.mark.parametrize("path", FORMATS)


def said(path: str, data: bytes) -> set[tuple[str, str, str]]:
    """Every field of a file, without order and spelling."""
    document = registry.parse(path, data)
    assert document is not None
    return facts(document)


def merged(path: str, old: bytes, mine: bytes, new: bytes) -> bytes:
    result = merge_file(path, old, mine, new)
    assert result.fault is None
    return mine if result.data is None else result.data


@each_format
@given(old=makers.record_lists(), mine=makers.record_lists(), style=makers.styles)
def test_unchanged_defaults_leave_the_admins_bytes(
    path: str, old: tuple[Rec, ...], mine: tuple[Rec, ...], style: Style
) -> None:
    render = FORMATS[path]
    vendor, own = render(old), render(mine, style)
    result = merge_file(path, vendor, own, vendor)
    assert result.outcome is Outcome.SAME
    assert result.data is None
    assert not result.taken
    assert not result.questions


@each_format
@given(old=makers.record_lists(), new=makers.record_lists(), style=makers.styles)
def test_without_hand_edits_the_vendors_content_comes(
    path: str, old: tuple[Rec, ...], new: tuple[Rec, ...], style: Style
) -> None:
    render = FORMATS[path]
    assert merged(path, render(old), render(old), render(new)) == render(new)
    # Saved by another editor, it is no hand edit either: the content is the vendor's, the writing the admin's.
    result = merge_file(path, render(old), render(old, style), render(new))
    assert not result.questions
    data = render(old, style) if result.data is None else result.data
    assert said(path, data) == said(path, render(new))
    assert data.startswith("\ufeff".encode()) == style.bom
    if b"\r\n" in render(old, style):
        assert data.count(b"\n") == data.count(b"\r\n")


def saved(data: bytes, newline: str, bom: bool, final: bool) -> bytes:
    """As another editor saves it that changes nothing else."""
    text = data.decode() if final else data.decode().rstrip("\n")
    return (("\ufeff" if bom else "") + text.replace("\n", newline)).encode()


@each_format
@given(
    old=makers.record_lists(),
    new=makers.record_lists(),
    newline=st.sampled_from(["\n", "\r\n"]),
    bom=st.booleans(),
    final=st.booleans(),
)
def test_what_was_only_saved_anew_becomes_the_vendors_file_saved_so(
    path: str, old: tuple[Rec, ...], new: tuple[Rec, ...], newline: str, bom: bool, final: bool
) -> None:
    before, after = (FORMATS[path](side) for side in (old, new))
    assume(b"\n" in before.rstrip())  # one line does not tell how it is saved
    mine = saved(before, newline, bom, final)
    result = merge_file(path, before, mine, after)
    assert not result.questions
    if before != after:
        assert result.data == (after if mine == before else saved(after, newline, bom, final))


@each_format
@given(edits=makers.disjoint_edits())
def test_disjoint_edits_all_arrive_and_nothing_is_asked(path: str, edits: Edits) -> None:
    render = FORMATS[path]
    result = merge_file(path, render(edits.old), render(edits.mine), render(edits.new))
    assert [question for question in result.questions if question.open] == []
    data = render(edits.mine) if result.data is None else result.data
    assert said(path, data) == said(path, render(edits.both))


@each_format
@given(edits=makers.disjoint_edits())
def test_disjoint_edits_commute(path: str, edits: Edits) -> None:
    render = FORMATS[path]
    old, mine, new = render(edits.old), render(edits.mine), render(edits.new)
    assert said(path, merged(path, old, mine, new)) == said(path, merged(path, old, new, mine))


@each_format
@given(
    old=makers.record_lists(),
    mine=makers.record_lists(),
    new=makers.record_lists(),
    style=makers.styles,
)
def test_merging_twice_changes_nothing(
    path: str, old: tuple[Rec, ...], mine: tuple[Rec, ...], new: tuple[Rec, ...], style: Style
) -> None:
    render = FORMATS[path]
    once = merged(path, render(old), render(mine, style), render(new))
    again = merge_file(path, render(old), once, render(new))
    assert again.outcome is Outcome.SAME
    assert not again.taken


HEADED = "; raised in May\n"
TWICE = {
    "the vendor says the same of another record": (
        "keeper.ini",
        "[kelp]\n\n[tar]\n",
        f"{HEADED}[kelp]\n\n; by hand\n[tar]\n",
        f"{HEADED}[tar]\n\n[kelp]\n",
        f"; by hand\n{HEADED}\n[tar]\n{HEADED}[kelp]\n",
    ),
    "the same, and the record of the admin's is gone": (
        "keeper.ini",
        "[kelp]\n\n[oil]\n",
        f"[kelp]\n\n[tar]\n\n{HEADED}[oil]\n",
        f"[tar]\n\n{HEADED}[kelp]\n",
        f"{HEADED}[kelp]\n\n[tar]\n\n{HEADED}[oil]\n",
    ),
    "what looks like a record renamed is called as one that the vendor added": (
        "stores.toml",
        '[[good]]\nid = "kelp"\n\n[[good]]\nid = "tar"\nafloat = 0\nworth = 0\n',
        '[[good]]\nid = "kelp"\n\n[[good]]\nid = "rope"\nafloat = 0\nworth = 0\n',
        '[[good]]\nid = "rope"\n\n[[good]]\nid = "kelp"\n',
        '[[good]]\nid = "kelp"\n\n[[good]]\nid = "rope"\nafloat = 0\nworth = 0\n',
    ),
}


@pytest.mark.parametrize("case", TWICE)
def test_what_a_merge_made_is_made_no_second_time(case: str) -> None:
    path, old, mine, new, wanted = TWICE[case]
    once = merged(path, *(side.encode() for side in (old, mine, new)))
    assert once.decode() == wanted
    assert merged(path, old.encode(), once, new.encode()) == once


PLAIN = '[package]\nname = "rig"\nversion = "1.0"\nedition = 21\n'
DOTTED = '[package]\nname = "rig"\nversion.workspace = true\nedition.workspace = true\n'


@pytest.mark.parametrize(("answer", "version"), [("", "1.1"), ("mine", "1.1"), ("new", {"workspace": True})])
def test_a_value_that_became_a_table_by_dotted_keys_is_one_question(answer: str, version: object) -> None:
    mine = PLAIN.replace("1.0", "1.1")
    sides = [text.encode() for text in (PLAIN, mine, DOTTED)]
    result = merge_file("rig.toml", *sides, resolve=lambda question: (answer, "test" if answer else ""))
    (asked,) = result.questions
    assert (asked.field, asked.mine, asked.new) == ("version", '"1.1"', "version.workspace = true")
    assert result.data is not None
    package = {"name": "rig", "version": version, "edition": {"workspace": True}}
    assert tomllib.loads(result.data.decode()) == {"package": package}


@pytest.mark.parametrize(("answer", "wanted"), [("", 'version = "ours"'), ("new", "version.workspace = true")])
def test_what_both_added_and_cannot_stand_together_is_asked(answer: str, wanted: str) -> None:
    old = '[package]\nname = "rig"\n'
    sides = [f"{old}{more}".encode() for more in ("", 'version = "ours"\n', "version.workspace = true\n")]
    result = merge_file("rig.toml", *sides, resolve=lambda question: (answer, "test" if answer else ""))
    (asked,) = result.questions
    assert (asked.mine, asked.new) == ('version = "ours"', "true")
    merged_now = result.data if result.data is not None else sides[1]
    assert merged_now.decode() == f"{old}{wanted}\n"


def test_tables_stand_beside_tables_within_them() -> None:
    old, new = "[a]\nx = 1\n", "[a]\nx = 1\n\n[a.b]\ny = 2\n"
    result = merge_file("rig.toml", old.encode(), b"[a]\nx = 5\n", new.encode())
    assert not result.questions
    assert result.data == b"[a]\nx = 5\n\n[a.b]\ny = 2\n"


@pytest.mark.parametrize("answer", ["", "mine", "new"])
@pytest.mark.parametrize("first", [True, False])
def test_a_table_that_stays_keeps_out_a_table_of_what_it_has_a_value_for(answer: str, first: bool) -> None:
    """Wherever the vendor's stands; the file is never asked about whole."""
    kept, comes = '[gear.nets]\nhemp = "1"\nflax = "2"\n', '[gear.nets.flax]\nmade = "here"\n'
    other = "[tide]\nlow = 1\n"
    old, new = f"{other}\n{kept}", f"{comes}\n{other}" if first else f"{other}\n{comes}"
    sides = [text.encode() for text in (old, old.replace('"1"', '"9"'), new)]
    result = merge_file("gear.toml", *sides, resolve=lambda question: (answer, "test" if answer else ""))
    (asked,) = result.questions
    assert (asked.record, asked.new) == ("gear.nets", comes.rstrip("\n"))
    nets: object = {"flax": {"made": "here"}} if answer == "new" else {"hemp": "9", "flax": "2"}
    data = sides[1] if result.data is None else result.data
    assert tomllib.loads(data.decode()) == {"tide": {"low": 1}, "gear": {"nets": nets}}


@pytest.mark.parametrize("path", ["keepers.toml", "keepers.json"])
def test_names_that_are_all_other_ones_are_looked_at_once_each(path: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Not each beside each: every name that the admin's file has is gone, and as many came."""
    many, calls = 200, Counter[str]()

    def count(of: type, name: str) -> None:
        plain = getattr(of, name)

        def counted(*args: Any, **further: Any) -> Any:
            calls[name] += 1
            return plain(*args, **further)

        monkeypatch.setattr(of, name, counted)

    def written(letter: str, worth: int) -> bytes:
        if path.endswith(".json"):
            return json.dumps({f"{letter}{at}": {"bag": at, "worth": worth} for at in range(many)}).encode()
        return "".join(f"[{letter}{at}]\nbag = {at}\nworth = {worth}\n\n" for at in range(many)).encode()

    count(Document, "keeps_out")
    count(TomlDocument, "keeps_out")
    count(KeyRules, "weights")
    result = merge_file(path, written("k", 1), written("k", 2), written("n", 1))
    assert len(result.questions) == many
    assert calls.total() <= many


@pytest.mark.parametrize("answer", ["", "new"])
@pytest.mark.parametrize("edited", [False, True])
def test_a_table_that_became_an_array_of_tables_is_settled_as_one(answer: str, edited: bool) -> None:
    old, other = "[nets]\nhemp = 1\n", "[tide]\nlow = 1\n\n"
    mine = other.replace("1", "5") + (old.replace("1", "7") if edited else old)
    sides = [text.encode() for text in (other + old, mine, f"{other}[[nets]]\nhemp = 2\n")]
    result = merge_file("gear.toml", *sides, resolve=lambda question: (answer, "test" if answer else ""))
    assert [question.record for question in result.questions] == ["nets"] * edited
    data = sides[1] if result.data is None else result.data
    nets: object = {"hemp": 7} if edited and not answer else [{"hemp": 2}]
    assert tomllib.loads(data.decode()) == {"tide": {"low": 5}, "nets": nets}


@pytest.mark.parametrize("answer", ["", "mine", "new"])
@pytest.mark.parametrize("first", [True, False])
def test_a_value_that_stays_in_a_table_keeps_out_tables_of_its_name(answer: str, first: bool) -> None:
    """Also where the table itself is on both sides: the file is never asked about whole."""
    old, comes = '[nets]\nhemp = "1"\nflax = "2"\n', '[[nets.flax]]\nmade = "here"\n\n[[nets.flax]]\nmade = "there"\n'
    left = '[nets]\nhemp = "3"\n'
    sides = [
        text.encode() for text in (old, old.replace('"2"', '"9"'), f"{comes}\n{left}" if first else f"{left}\n{comes}")
    ]
    result = merge_file("gear.toml", *sides, resolve=lambda question: (answer, "test" if answer else ""))
    (asked,) = result.questions
    assert (asked.record, asked.field, asked.mine) == ("nets", "flax", '"9"')
    flax: object = [{"made": "here"}, {"made": "there"}] if answer == "new" else "9"
    assert result.data is not None
    assert tomllib.loads(result.data.decode()) == {"nets": {"hemp": "3", "flax": flax}}


def ids_of(path: str, data: bytes) -> Counter[str]:
    """How often each record stands there, by parsers that are not ours."""
    if path.endswith(".toml"):
        return Counter(good["id"] for good in tomllib.loads(data.decode()).get("good", ()))
    return Counter(good.get("id", "") for good in ElementTree.fromstring(data).iter("good"))


@pytest.mark.parametrize("path", ["stores.toml", "stores.xml"])
@given(old=makers.record_lists(), mine=makers.record_lists(), new=makers.record_lists())
def test_no_record_comes_to_stand_twice(
    path: str, old: tuple[Rec, ...], mine: tuple[Rec, ...], new: tuple[Rec, ...]
) -> None:
    sides = [FORMATS[path](side) for side in (old, mine, new)]
    assert all(set(ids_of(path, side).values()) <= {1} for side in sides)
    assert set(ids_of(path, merged(path, *sides)).values()) <= {1}


spots = st.integers(0, 11)
changes = st.lists(
    st.tuples(st.sampled_from(("move", "drop", "add", "set")), spots, st.integers(1, 5), spots), max_size=3
)


def changed(rows: list[tuple[str, int]], side: str, steps: list[tuple[str, int, int, int]]) -> list[tuple[str, int]]:
    """Rows with some of them moved, dropped, added or set."""
    rows = list(rows)
    for what, at, length, to in steps:
        taken = rows[at : at + length]
        if what in ("move", "drop"):
            del rows[at : at + length]
        if what == "move":
            rows[to:to] = taken
        elif what == "add":
            rows.insert(to, (f"{side}{to}", 0))
        elif what == "set" and taken:
            rows[at] = (taken[0][0], length)
    return rows


@given(mine=changes, new=changes)
def test_the_result_is_the_same_when_unchanged_records_are_read_too(
    mine: list[tuple[str, int, int, int]], new: list[tuple[str, int, int, int]]
) -> None:
    def listed(rows: list[tuple[str, int]]) -> bytes:
        goods = "".join(f'  <good id="{name}"><worth>{worth}</worth></good>\n' for name, worth in rows)
        return f"<goods>\n{goods}</goods>\n".encode()

    old = [(f"g{at}", 0) for at in range(12)]
    sides = (listed(old), listed(changed(old, "m", mine)), listed(changed(old, "n", new)))
    left_out = merge_file("stores.xml", *sides)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(align, "WORTH_IT", 1 << 30)
        patch.setattr(rows, "in_step", lambda *_: None)
        assert left_out == merge_file("stores.xml", *sides)


@each_format
@given(edits=makers.disjoint_edits(), style=makers.styles)
def test_the_admins_untouched_lines_stay_as_they_are(path: str, edits: Edits, style: Style) -> None:
    """Every line of mine that says what it did before stands in the result, byte for byte and in order."""
    render = FORMATS[path]
    mine = render(edits.mine, style)
    result = merge_file(path, render(edits.old), mine, render(edits.new))
    if result.data is None:
        return
    gone = {change.before for change in result.taken if change.before is not None}
    lines, left = split(mine.decode()), split(result.data.decode())
    kept = sum(match.length for match in matches(lines, left))
    most_gone = sum(value.count("\n") + 2 for value in gone) + 2 * len(result.taken)
    assert kept >= len(lines) - most_gone


@each_format
@given(recs=makers.record_lists(), style=makers.styles, data=st.data())
def test_every_true_overlap_is_asked(path: str, recs: tuple[Rec, ...], style: Style, data: st.DataObject) -> None:
    owners = [rec for rec in recs if rec.values]
    if not owners:
        return
    target = data.draw(st.sampled_from(owners))
    name = target.values[0][0]

    def with_value(value: str) -> tuple[Rec, ...]:
        values = tuple((key, value if key == name else told) for key, told in target.values)
        return tuple(Rec(**{**rec.__dict__, "values": values}) if rec is target else rec for rec in recs)

    render = FORMATS[path]
    old, mine, new = with_value("500001"), with_value("500002"), with_value("500003")
    result = merge_file(path, render(old), render(mine, style), render(new))
    assert len(result.questions) == 1
    question = result.questions[0]
    values = [str(value).strip('"') for value in (question.old, question.mine, question.new)]
    assert values == ["500001", "500002", "500003"]
    assert result.data is None  # the admin's value stays


@each_format
@given(recs=makers.record_lists(), style=makers.styles)
def test_splicing_no_edits_gives_the_bytes_back(path: str, recs: tuple[Rec, ...], style: Style) -> None:
    written = FORMATS[path](recs, style)
    document = registry.parse(path, written)
    assert document is not None
    assert document.source.encode(document.text) == written


@each_format
@given(left=makers.record_lists(), right=makers.record_lists())
def test_a_comparison_is_empty_only_when_all_is_said_alike(
    path: str, left: tuple[Rec, ...], right: tuple[Rec, ...]
) -> None:
    first, second = (registry.parse(path, FORMATS[path](recs)) for recs in (left, right))
    assert first is not None
    assert second is not None
    details = [item for item in compare(first, second) if item.field != "(comment)" and item.kind != "moved"]
    assert (details == []) == (facts(first) == facts(second))


@each_format
@given(edits=makers.disjoint_edits(), steps=changes)
def test_a_comparison_tells_the_same_when_unchanged_records_are_read_too(
    path: str, edits: Edits, steps: list[tuple[str, int, int, int]]
) -> None:
    recs = list(edits.mine)
    for what, at, length, to in steps:
        if what == "move":
            taken = recs[at : at + length]
            del recs[at : at + length]
            recs[to:to] = taken
    written = [FORMATS[path](some) for some in (edits.old, tuple(recs))]

    def told() -> list[Difference]:
        left, right = (registry.parse(path, data) for data in written)
        assert left is not None
        assert right is not None
        return compare(left, right)

    left_out = told()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(align, "WORTH_IT", 1 << 30)
        patch.setattr(comparing, "in_step", lambda *_: None)
        assert left_out == told()


line_lists = st.lists(st.sampled_from(["a", "b", "c", "deck", "", "lamp 40", "lamp 80"]), max_size=12)


@given(old=line_lists, mine=line_lists, newline=st.sampled_from(["\n", "\r\n"]), final=st.booleans())
def test_text_with_unchanged_defaults_keeps_its_bytes(
    old: list[str], mine: list[str], newline: str, final: bool
) -> None:
    own = (newline.join(mine) + (newline if final and mine else "")).encode()
    vendor = "".join(line + "\n" for line in old).encode()
    assert merged("first-light.rig", vendor, own, vendor) == own


@given(old=line_lists, mine=line_lists, new=line_lists)
@example(old=["b", "b"], mine=["b", "b", "b"], new=["a", "b", "a", "b"])
def test_text_merged_twice_changes_nothing_more(old: list[str], mine: list[str], new: list[str]) -> None:
    render = [("".join(line + "\n" for line in lines)).encode() for lines in (old, mine, new)]
    first = merge_file("first-light.rig", *render)
    if first.questions:
        return
    once = render[1] if first.data is None else first.data
    assert merged("first-light.rig", render[0], once, render[2]) == once


@given(old=line_lists, new=line_lists)
def test_text_without_hand_edits_becomes_the_vendors(old: list[str], new: list[str]) -> None:
    first, second = (("".join(line + "\n" for line in lines)).encode() for lines in (old, new))
    assert merged("first-light.rig", first, first, second) == second


@given(st.lists(st.integers(0, 5), max_size=40), st.lists(st.integers(0, 5), max_size=40))
def test_matches_are_equal_ordered_and_disjoint(left: list[int], right: list[int]) -> None:
    end_left = end_right = 0
    for match in matches(left, right):
        assert match.left >= end_left
        assert match.right >= end_right
        end_left, end_right = match.left + match.length, match.right + match.length
        assert left[match.left : end_left] == right[match.right : end_right]


@given(st.text(alphabet="ab\r\n", max_size=30))
def test_splitting_lines_loses_nothing(text: str) -> None:
    assert "".join(split(text)) == text
