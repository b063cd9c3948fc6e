"""The record merge by worked examples: where things go, what travels with them, what is asked."""

from __future__ import annotations

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import ORDER, FileMerge, Outcome, What
from tests import depth
from tests.helpers import merge_text, text_of

OLD = """\
<?xml version="1.0"?>
<!-- goods of the skerries -->
<stores release="4.2">
    <!-- food -->
    <good id="kelp">
        <afloat>40</afloat>
        <worth>3</worth>
        <found at="pier"/>
        <found at="cave"/>
    </good>
    <good id="lamp-oil"><afloat>12</afloat></good> <!-- precious -->

    <!-- tackle -->
    <good id="rope">
        <afloat>7</afloat>
    </good>
</stores>
"""


def swap(text: str, *pairs: tuple[str, str]) -> str:
    for old, new in pairs:
        assert text.count(old) == 1, old
        text = text.replace(old, new)
    return text


def merge(mine: str, new: str, old: str = OLD, answer: str = "", name: str = "stores.xml") -> FileMerge:
    return merge_text(name, old, mine, new, answer)


NEW_RECORD = """\
    <!-- new this spring -->
    <good id="samphire">
        <afloat>5</afloat>
    </good>
"""


def test_a_new_record_comes_behind_its_neighbour_in_my_indentation_with_its_comment() -> None:
    mine = swap(OLD, ("<worth>3", "<worth>30")).replace("    ", "\t").replace("\n", "\r\n")
    new = swap(OLD, ('    <good id="lamp-oil">', NEW_RECORD + '    <good id="lamp-oil">'))
    expected = mine.replace(
        '\t<good id="lamp-oil">',
        '\t<!-- new this spring -->\r\n\t<good id="samphire">\r\n\t\t<afloat>5</afloat>\r\n\t</good>\r\n\t<good id="lamp-oil">',
    )
    assert text_of(merge(mine, new)) == expected


def test_a_new_first_record_stays_behind_the_heading_comment() -> None:
    mine = swap(OLD, ("<worth>3", "<worth>30"))
    new = swap(OLD, ("    <!-- food -->\n", "    <!-- food -->\n" + NEW_RECORD))
    assert text_of(merge(mine, new)) == swap(mine, ("    <!-- food -->\n", "    <!-- food -->\n" + NEW_RECORD))


def test_a_new_last_record_goes_to_the_end() -> None:
    mine = swap(OLD, ("<worth>3", "<worth>30"))
    new = swap(OLD, ("</stores>", NEW_RECORD + "</stores>"))
    assert text_of(merge(mine, new)) == swap(mine, ("</stores>", NEW_RECORD + "</stores>"))


def test_the_neighbour_i_deleted_is_stepped_over() -> None:
    mine = swap(OLD, ('    <good id="lamp-oil"><afloat>12</afloat></good> <!-- precious -->\n', ""))
    new = swap(OLD, ("<!-- precious -->\n", "<!-- precious -->\n" + NEW_RECORD))
    result = text_of(merge(mine, new))
    assert result.index("samphire") < result.index("tackle")
    assert result == swap(mine, ("    </good>\n\n    <!-- tackle", "    </good>\n" + NEW_RECORD + "\n    <!-- tackle"))


def test_a_record_goes_with_its_comments_and_leaves_no_hole() -> None:
    mine = swap(OLD, ("<worth>3", "<worth>30"))
    new = swap(OLD, ('    <good id="lamp-oil"><afloat>12</afloat></good> <!-- precious -->\n', ""))
    assert text_of(merge(mine, new)) == swap(
        mine, ('    <good id="lamp-oil"><afloat>12</afloat></good> <!-- precious -->\n', "")
    )


def test_a_record_the_vendor_removed_stays_when_i_edited_it_until_i_answer() -> None:
    mine = swap(OLD, ("<afloat>7", "<afloat>70"))
    cut = '\n    <!-- tackle -->\n    <good id="rope">\n        <afloat>7</afloat>\n    </good>\n'
    new = swap(OLD, (cut, ""))
    waiting = merge(mine, new)
    assert waiting.outcome is Outcome.SAME
    (question,) = waiting.questions
    assert (question.record, question.field, question.new) == ("good[id=rope]", "(record)", None)
    assert "afloat 7 → 70" in question.why
    assert text_of(merge(mine, new, answer="new")) == new
    assert 'id="rope"' not in text_of(merge(mine, new, answer="new"))
    assert merge(mine, new, answer="mine").data is None
    assert "<afloat>7</afloat>" in text_of(merge(mine, new, answer="old"))


def test_my_comment_makes_a_removed_record_a_question() -> None:
    mine = swap(OLD, ('    <good id="rope">', '    <!-- Odd needs this -->\n    <good id="rope">'))
    new = swap(OLD, ('    <good id="rope">\n        <afloat>7</afloat>\n    </good>\n', ""))
    assert len(merge(mine, new).questions) == 1


def test_a_record_i_deleted_stays_deleted_and_asks_only_when_the_vendor_changed_it() -> None:
    mine = swap(OLD, ('    <good id="rope">\n        <afloat>7</afloat>\n    </good>\n', ""))
    elsewhere = swap(OLD, ("<worth>3", "<worth>4"))
    result = merge(mine, elsewhere)
    assert not result.questions
    assert "rope" not in text_of(result)
    changed = swap(OLD, ("<afloat>7", "<afloat>9"))
    (question,) = merge(mine, changed).questions
    assert question.mine is None
    assert "afloat 7 → 9" in question.why
    back = text_of(merge(mine, changed, answer="new"))
    assert "<afloat>9</afloat>" in back
    assert back.index("tackle") < back.index("rope")
    assert "<afloat>7</afloat>" in text_of(merge(mine, changed, answer="old"))
    assert merge(mine, changed, answer="= 5").questions[0].open  # a whole record cannot be typed


@pytest.mark.parametrize(
    ("answer", "value"), [("", "80"), ("mine", "80"), ("new", "30"), ("old", "40"), ("= 55", "55"), ("= a<b", "a&lt;b")]
)
def test_both_changed_one_value(answer: str, value: str) -> None:
    mine, new = swap(OLD, (">40<", ">80<")), swap(OLD, (">40<", ">30<"))
    result = merge(mine, new, answer=answer)
    (question,) = result.questions
    assert (question.record, question.field) == ("good[id=kelp]", "afloat")
    assert (question.old, question.mine, question.new, question.line) == ("40", "80", "30", 6)
    assert question.open == (answer == "")
    data = mine.encode() if result.data is None else result.data
    assert f"<afloat>{value}</afloat>".encode() in data


def test_both_changed_alike_is_agreement() -> None:
    both = swap(OLD, (">40<", ">41<"))
    result = merge(swap(both, (">3<", ">9<")), both)
    assert result.outcome is Outcome.SAME
    assert not result.questions
    assert [change.field for change in result.kept] == ["worth"]


def test_numbers_are_compared_as_numbers() -> None:
    mine, new = swap(OLD, (">40<", ">40.0<")), swap(OLD, (">40<", ">30<"))
    assert "<afloat>30</afloat>" in text_of(merge(mine, new))
    same = swap(OLD, (">40<", ">040<"))
    assert merge(same, same, old=OLD).data is None


def test_attributes_come_go_and_change() -> None:
    old = '<r>\n  <squall id="a" every="3" from="north" lasts=\'2\'/>\n  <squall id="b"/>\n</r>\n'
    mine = swap(old, ('every="3"', 'every="9"'))
    new = '<r>\n  <squall id="a" every="3" lasts="it\'s 4" strength="7"/>\n  <squall id="b" every="1"/>\n</r>\n'
    result = merge(mine, new, old, name="squalls.xml")
    assert text_of(result) == (
        '<r>\n  <squall id="a" every="9" lasts=\'it&apos;s 4\' strength="7"/>\n  <squall id="b" every="1"/>\n</r>\n'
    )


def tag(names: str, lines: set[str], values: str) -> str:
    """A start tag with attributes, some of them on lines of their own."""
    return "<goods" + "".join(f'{chr(10) + 7 * " " if n in lines else " "}{n}="{values}"' for n in names)


@given(st.sets(st.sampled_from("abcdef")), st.sets(st.sampled_from("abcdef")), st.sets(st.sampled_from("abcdef")))
def test_what_attributes_the_vendor_gives_a_tag_stand_where_the_vendor_has_them(
    before: set[str], after: set[str], lines: set[str]
) -> None:
    file = "<r>\n  {}>\n    <good id='a'/>\n  </goods>\n  <mine n='{}'/>\n</r>\n"
    old, new = ("".join(sorted({*names, "d"})) for names in (before, after))
    merged = merge_text(
        "x.xml", *(file.format(tag(names, lines, "1"), n) for names, n in ((old, 1), (old, 2), (new, 1)))
    )
    assert text_of(merged) == file.format(tag(new, lines, "1"), 2) if old != new else merged.data is None


def test_an_attribute_that_comes_begins_a_line_as_mine_do() -> None:
    old = '<r>\n  <g id="a"\n     n="1"/>\n</r>\n'
    mine = old.replace('\n     n="1"', '\n\t\tn="9"').replace("\n", "\r\n")
    result = merge_text("x.xml", old, mine, old.replace('n="1"', 'm="2"\n     n="1"\n     o="3"'))
    assert text_of(result) == '<r>\r\n  <g id="a"\r\n\t\tm="2"\r\n\t\tn="9"\r\n\t\to="3"/>\r\n</r>\r\n'


@pytest.mark.parametrize(
    ("mine_has", "new_has", "expected"),
    [
        ('<g id="a"/>', '<g id="a">5</g>', '<g id="a">5</g>'),
        ('<g id="a"></g>', '<g id="a">5</g>', '<g id="a">5</g>'),
        ('<g id="a" />', '<g id="a"><w>5</w></g>', '<g id="a">\n    <w>5</w>\n  </g>'),
        ('<g id="a">\n  </g>', '<g id="a">\n    <w>5</w>\n    <!-- n -->\n    <v/>\n  </g>', None),
    ],
)
def test_what_was_empty_is_filled(mine_has: str, new_has: str, expected: str | None) -> None:
    frame = '<r>\n  {}\n  <g id="b" n="{}"/>\n</r>\n'
    result = merge(frame.format(mine_has, 2), frame.format(new_has, 1), frame.format(mine_has, 1), name="x.xml")
    assert text_of(result) == frame.format(expected or new_has, 2)


def test_a_value_that_becomes_records_is_merged_as_one() -> None:
    frame = '<r>\n  <g id="a">{}</g>\n  <g id="b" n="{}"/>\n</r>\n'
    old, new = frame.format("<w>5</w>", 1), frame.format("<w><least>5</least></w>", 1)
    assert text_of(merge(frame.format("<w>5</w>", 2), new, old, name="x.xml")) == frame.format(
        "<w><least>5</least></w>", 2
    )
    clash = merge(frame.format("<w>6</w>", 2), new, old, name="x.xml")
    assert [(question.record, question.field) for question in clash.questions] == [("g[id=a]/w", "(record)")]


def test_lists_of_children_grow_and_shrink_on_both_sides() -> None:
    mine = swap(OLD, ('        <found at="cave"/>\n', '        <found at="my-pier"/>\n'))
    new = swap(OLD, ('        <found at="cave"/>\n', '        <found at="cave"/>\n        <found at="reef"/>\n'))
    found = text_of(merge(mine, new))
    assert '<found at="pier"/>\n        <found at="reef"/>\n        <found at="my-pier"/>' in found
    assert "cave" not in found


REACHES = (
    "<reaches>\n"
    + "".join(f'  <reach x="{x}" y="{x * 7}" radius="{x + 50}" holds="seal"/>\n' for x in (10, 20, 30, 40))
    + "</reaches>\n"
)


def test_anonymous_records_are_told_apart_by_what_they_hold() -> None:
    mine = swap(REACHES, ('radius="70"', 'radius="75"'), ('  <reach x="40" y="280" radius="90" holds="seal"/>\n', ""))
    new = swap(
        REACHES,
        ('x="20" y="140"', 'x="22" y="140"'),
        ('holds="seal"/>\n</', 'holds="seal"/>\n  <reach x="5" y="1" radius="9" holds="eel"/>\n</'),
    )
    result = merge(mine, new, REACHES, name="reaches.xml")
    assert not result.questions
    assert '<reach x="22" y="140" radius="75" holds="seal"/>' in text_of(result)
    assert 'holds="eel"' in text_of(result)
    assert 'x="40"' not in text_of(result)


def test_a_change_by_both_to_a_record_without_a_name_is_asked_by_the_number_that_tells_it_apart() -> None:
    mine, new = swap(REACHES, ('radius="70"', 'radius="75"')), swap(REACHES, ('radius="70"', 'radius="77"'))
    (question,) = merge(mine, new, REACHES, name="reaches.xml").questions
    assert (question.record, question.field) == ("reach[x=20]", "@radius")


def test_my_order_stays_and_is_told() -> None:
    rope = '    <good id="rope">\n        <afloat>7</afloat>\n    </good>\n'
    mine = swap(swap(OLD, (rope, "")), ("    <!-- food -->\n", rope + "    <!-- food -->\n"))
    new = swap(OLD, ("<afloat>7", "<afloat>8"))
    result = merge(mine, new)
    assert text_of(result) == swap(mine, ("<afloat>7", "<afloat>8"))
    assert [change.record for change in result.kept if change.what is What.MOVED] == ["good[id=rope]"]


def test_the_vendors_comments_come_and_go_and_mine_stay() -> None:
    mine = swap(OLD, ("    <!-- food -->\n", "    <!-- food -->\n    <!-- mine -->\n"))
    new = swap(OLD, ("<!-- food -->", "<!-- all food -->"), ("<!-- tackle -->", "<!-- lines and ropes -->"))
    expected = swap(
        mine,
        ("<!-- tackle -->", "<!-- lines and ropes -->"),
        ("    <!-- food -->\n    <!-- mine -->\n", "    <!-- mine -->\n    <!-- all food -->\n"),
    )
    assert text_of(merge(mine, new)) == expected


def test_one_line_files_grow_in_their_line() -> None:
    old, mine = '<r><g id="a"/><g id="b" n="1"/></r>', '<r><g id="a"/><g id="b" n="2"/></r>'
    new = '<r><g id="a"/><g id="c"/><g id="b" n="1"/><g id="d"/></r>'
    assert text_of(merge(mine, new, old, name="x.xml")) == '<r><g id="a"/><g id="c"/><g id="b" n="2"/><g id="d"/></r>'


def test_multi_line_values_are_not_re_indented() -> None:
    old = '<r>\n  <g id="a" n="1"/>\n</r>\n'
    new = '<r>\n  <g id="a" n="1"/>\n  <g id="b">\n    <say>one\n  two</say>\n    <c><![CDATA[x\n  y]]></c>\n  </g>\n</r>\n'
    mine = '<r>\n\t<g id="a" n="2"/>\n</r>\n'
    assert text_of(merge(mine, new, old, name="x.xml")) == (
        '<r>\n\t<g id="a" n="2"/>\n\t<g id="b">\n\t\t<say>one\n  two</say>\n\t\t<c><![CDATA[x\n  y]]></c>\n\t</g>\n</r>\n'
    )


def test_characters_the_encoding_lacks_come_as_references() -> None:
    head = '<?xml version="1.0" encoding="iso-8859-1"?>\n'
    old, new = head + '<r>\n  <g id="a" n="1"/>\n</r>\n', '<r>\n  <g id="a" n="1"/>\n  <g id="b">λ</g>\n</r>\n'
    mine = (head + '<r>\n  <g id="a" n="å"/>\n</r>\n').encode("latin-1")
    result = merge_file("x.xml", old.encode("latin-1"), mine, new.encode())
    assert result.data is not None
    assert b"&#955;" in result.data
    assert "å".encode("latin-1") in result.data


def test_records_both_added_are_merged_field_by_field() -> None:
    added = '    <good id="tar">\n        <afloat>{}</afloat>\n        <worth>1</worth>\n    </good>\n'
    mine = swap(OLD, ("</stores>", added.format(1) + "</stores>"))
    new = swap(OLD, ("</stores>", added.format(2) + "</stores>"))
    (question,) = merge(mine, new).questions
    assert (question.record, question.field, question.old, question.mine, question.new) == (
        "good[id=tar]",
        "afloat",
        None,
        "1",
        "2",
    )


def test_told_identities_win_over_learned_ones() -> None:
    rows = '<r>\n  <g id="1" name="kelp" n="{}"/>\n  <g id="2" name="tar" n="1"/>\n</r>\n'
    renumbered = '<r>\n  <g id="1" name="tar" n="1"/>\n  <g id="2" name="kelp" n="{}"/>\n</r>\n'
    old, mine, new = rows.format(1), rows.format(5), renumbered.format(1)
    told = merge_file("x.xml", old.encode(), mine.encode(), new.encode(), rules={"r/g": ("@name",)})
    assert told.data is not None
    assert b'name="kelp" n="5"' in told.data
    assert not told.questions


@pytest.mark.parametrize("side", ["old", "mine", "new"])
def test_with_a_broken_side_lines_are_merged_and_it_is_named(side: str) -> None:
    texts = {"old": OLD, "mine": swap(OLD, (">3<", ">4<")), "new": swap(OLD, (">7<", ">9<"))}
    texts[side] = texts[side].replace("</stores>", "")
    result = merge_file("m/stores.xml", *(texts[name].encode() for name in ("old", "mine", "new")))
    (warning,) = result.warnings
    assert warning.place is not None
    assert warning.place.file == "m/stores.xml"
    assert warning.place.line is not None
    named = {"old": "old defaults", "mine": "yours", "new": "new defaults"}[side]
    assert named in warning.what
    if side == "new":  # taking the vendor's lines would break what can be read now
        assert [question.field for question in result.open] == ["(file)"]
        assert result.data is None
    else:
        assert result.format == "text"
        assert result.data == swap(texts["mine"], (">7<", ">9<")).encode()


def test_nesting_too_deep_to_merge_is_a_fault_not_a_crash() -> None:
    levels = depth.choose(1500, 5000)
    deep = "<a>" * levels + "{}" + "</a>" * levels
    result = merge_file("x.xml", *(deep.format(n).encode() for n in (1, 2, 3)))
    assert result.fault is not None
    assert "nested" in result.fault.what


def test_a_renamed_record_is_proposed_and_carries_the_edits_over_when_told() -> None:
    mine = swap(OLD, ("<worth>3", "<worth>30"))
    new = swap(OLD, ('id="kelp"', 'id="kelp-raw"'), (">40<", ">45<"))
    (question,) = merge(mine, new).open
    assert question.renamed == "kelp-raw"
    assert question.why == "the vendor removed it, or calls it kelp-raw now; you changed worth 3 → 30"
    told = merge(mine, new, answer="= kelp-raw")
    assert text_of(told) == swap(mine, ('id="kelp"', 'id="kelp-raw"'), (">40<", ">45<"))
    assert merge(mine, new, answer="= rope").open, "no other name will do"
    kept = text_of(merge(mine, new, answer="mine"))
    assert 'id="kelp"' in kept
    assert 'id="kelp-raw"' in kept


def test_a_record_that_i_renamed_takes_the_vendors_changes_when_told() -> None:
    mine = swap(OLD, ('id="kelp"', 'id="weed"'))
    new = swap(OLD, (">40<", ">45<"))
    (question,) = merge(mine, new).open
    assert question.renamed == "weed"
    assert text_of(merge(mine, new, answer="= weed")) == swap(mine, (">40<", ">45<"))


def test_what_is_hardly_alike_is_not_taken_for_renamed() -> None:
    mine = swap(OLD, ("<worth>3", "<worth>30"))
    gone = swap(OLD, (OLD[OLD.index('    <good id="kelp">') : OLD.index('    <good id="lamp')], ""))
    new = swap(gone, ("</stores>", NEW_RECORD + "</stores>"))
    (question,) = merge(mine, new).open
    assert question.renamed == ""


def listed(*names: str, worth: str = "") -> str:
    rows = "".join(
        f'  <!-- of {name} -->\n  <g id="{name}"><n>{worth if name == "c" and worth else 1}</n></g> <!-- {name}! -->\n'
        for name in names
    )
    return f"<r>\n{rows}</r>\n"


def test_where_the_vendor_moved_a_record_mine_moves_with_my_edits_and_its_comments() -> None:
    result = merge(
        listed(*"abcde", worth="7"), listed(*"acbde"[:1], "c", "b", "d", "e"), listed(*"abcde"), name="x.xml"
    )
    assert text_of(result) == listed(*"acbde", worth="7")
    assert [change.what for change in result.taken] == [What.MOVED]
    again = merge(text_of(result), listed(*"acbde"), listed(*"abcde"), name="x.xml")
    assert again.data is None
    assert not [change for change in again.kept if change.what is What.MOVED]


@pytest.mark.parametrize("order", ["ecdab", "bcdea", "eabcd", "badce"])
def test_any_order_of_the_vendors_is_followed_where_i_left_mine_alone(order: str) -> None:
    result = merge(listed(*"abcde", worth="9"), listed(*order), listed(*"abcde"), name="x.xml")
    assert text_of(result) == listed(*order, worth="9")


def test_what_is_indented_otherwise_is_so_wherever_it_moves() -> None:
    lines = {
        "a": "  <good id='a' n='1'/>",
        "b": "<!-- b -->\n      <good id='b' n='1'/>",
        "c": "\t<good id='c' n='1'/>",
    }
    old, new = ("<r>\n" + "\n".join(lines[name] for name in order) + "\n</r>\n" for order in ("abc", "cba"))
    assert text_of(merge_text("x.xml", old, old.replace("'b' n='1'", "'b' n='2'"), new)) == new.replace(
        "'b' n='1'", "'b' n='2'"
    )


def test_my_own_order_stays_until_it_is_said_whose_is_meant() -> None:
    old, new, mine = listed(*"abcdef"), listed(*"abedcfg"), listed(*"bacdef", worth="7")
    result = merge(mine, new, old, name="x.xml")
    assert [change.record for change in result.kept if change.what is What.MOVED] == ["g[id=b]"]
    (asked,) = result.questions
    assert (asked.field, asked.open) == (ORDER, True)
    assert (asked.old, asked.mine, asked.new) == tuple(
        ", ".join(f"g[id={name}]" for name in names) for names in ("abcdef", "bacdef", "abedcf")
    )
    assert text_of(result) == listed(*"bacdefg", worth="7")
    assert text_of(merge(mine, new, old, name="x.xml", answer="mine")) == listed(*"bacdefg", worth="7")
    assert text_of(merge(mine, new, old, name="x.xml", answer="new")) == listed(*"abedcfg", worth="7")
    assert text_of(merge(mine, new, old, name="x.xml", answer="old")) == listed(*"abcdefg", worth="7")


def test_an_order_that_says_nothing_is_not_asked_about() -> None:
    old, mine = listed(*"abdecf"), listed(*"badecf")
    assert not merge(mine, listed(*"abcdef"), old, name="x.xml").questions  # the vendor sorted it
    assert not merge(mine, listed(*"fcedba"), old, name="x.xml").questions  # and wrote it out anew
    assert not merge(listed(*"abcedf"), listed(*"abcedf"), old, name="x.xml").questions  # and did what I did


def test_a_moved_record_finds_its_place_among_records_of_mine_and_lists_of_json_follow_too() -> None:
    old = '[\n  {"id": "a", "n": 1},\n  {"id": "b", "n": 1},\n  {"id": "c", "n": 1}\n]\n'
    new = '[\n  {"id": "c", "n": 1},\n  {"id": "a", "n": 1},\n  {"id": "b", "n": 1}\n]\n'
    mine = old.replace('{"id": "b", "n": 1}', '{"id": "own", "n": 5},\n  {"id": "b", "n": 8}')
    result = merge(mine, new, old, name="x.json")
    assert text_of(result) == (
        '[\n  {"id": "c", "n": 1},\n  {"id": "a", "n": 1},\n  {"id": "own", "n": 5},\n  {"id": "b", "n": 8}\n]\n'
    )


def test_long_lists_are_followed_as_well() -> None:
    names = [f"g{at}" for at in range(200)]
    other = [*names[:20], names[150], *names[20:150], *names[151:]]
    mine = listed(*names).replace('id="g77"><n>1', 'id="g77"><n>5')
    result = merge(mine, listed(*other), listed(*names), name="x.xml")
    assert text_of(result) == listed(*other).replace('id="g77"><n>1', 'id="g77"><n>5')


def test_a_list_that_both_sides_emptied_together_is_empty_though_a_comment_stays() -> None:
    kelp, oil = '    # raised in May\n    - id: "kelp"\n', '    # raised in May\n    - id: "lamp-oil"\n'
    old, mine, new = (f"stores:\n{rows}other: 1\n" for rows in (kelp + oil, oil, kelp))
    result = merge(mine, new, old, name="stores.yaml")
    assert yaml.safe_load(text_of(result)) == {"stores": [], "other": 1}


# --- answers to every kind of question -------------------------------------------------------------


@pytest.mark.parametrize(
    ("answer", "side"), [("old", "old"), ("mine", "mine"), ("new", "new"), ("= 5", "mine"), ("", "mine")]
)
def test_a_record_that_became_a_value_is_settled_as_one(answer: str, side: str) -> None:
    """Each answer gives that side's text; a value typed for a whole record is no answer."""
    sides = {"old": '"at": {"x": 1}', "mine": '"at": {"x": 2, "y": 0}', "new": '"at": "the pier"'}
    texts = {name: f'{{\n  "id": "rope",\n  {text}\n}}\n' for name, text in sides.items()}
    result = merge(texts["mine"], texts["new"], texts["old"], answer, "a.json")
    assert (texts["mine"] if result.data is None else text_of(result)) == texts[side]
    assert bool(result.open) is (answer in ("", "= 5"))


@pytest.mark.parametrize(("answer", "left"), [("old", ">7<"), ("mine", ">70<"), ("new", ""), ("= 5", ">70<")])
def test_a_record_that_the_vendor_removed_and_i_edited(answer: str, left: str) -> None:
    mine = swap(OLD, (">7<", ">70<"))
    start, end = OLD.index("    <!-- tackle -->"), OLD.index("</stores>")
    new = OLD[:start].rstrip() + "\n" + OLD[end:]
    result = merge(mine, new, answer=answer)
    text = mine if result.data is None else text_of(result)
    assert ("rope" in text, left in text) == (bool(left), True)
    assert bool(result.open) is (answer == "= 5")


@pytest.mark.parametrize(("answer", "comes"), [("old", ">40<"), ("mine", ""), ("new", ">41<"), ("= 5", "")])
def test_a_record_that_i_removed_and_the_vendor_changed_comes_beside_a_new_one(answer: str, comes: str) -> None:
    """What comes of the old defaults and what comes of the new ones stand side by side, each as it was there."""
    start, end = OLD.index('    <good id="kelp">'), OLD.index('    <good id="lamp-oil">')
    mine = OLD[:start] + OLD[end:]
    new = swap(OLD, (">40<", ">41<"), ('    <good id="lamp-oil">', NEW_RECORD + '    <good id="lamp-oil">'))
    result = merge(mine, new, answer=answer)
    text = text_of(result)
    assert text.index("samphire") < text.index("lamp-oil")
    assert ("kelp" in text) is bool(comes)
    if comes:
        assert comes in text
        assert text.index("kelp") < text.index("samphire")


# --- comments stay with their records -----------------------------------------------------------------


def test_a_new_record_never_comes_between_a_record_and_its_comment() -> None:
    """Neither behind the one on its line, nor below the ones in front of it."""
    old = '<s>\n  <g id="a"/>\n  <g id="b"/>\n</s>\n'
    mine = '<s>\n  <!-- all of it -->\n  <!-- dear -->\n  <g id="a"/> <!-- one --> <!-- two -->\n  <g id="b"/>\n</s>\n'
    behind = merge(mine, swap(old, ('  <g id="b"/>', '  <g id="n"/>\n  <g id="b"/>')), old)
    assert text_of(behind) == swap(mine, ('  <g id="b"/>', '  <g id="n"/>\n  <g id="b"/>'))
    before = merge(mine, swap(old, ('  <g id="a"/>', '  <g id="n"/>\n  <g id="a"/>')), old)
    assert text_of(before) == swap(mine, ("  <!-- all", '  <g id="n"/>\n  <!-- all'))
    both = merge(mine, swap(old, ('  <g id="a"/>', '  <g id="m"/>\n  <g id="n"/>\n  <g id="a"/>')), old)
    assert text_of(both) == swap(mine, ("  <!-- all", '  <g id="m"/>\n  <g id="n"/>\n  <!-- all'))


def test_a_removed_comment_leads_no_more() -> None:
    """The vendor's comment in front goes; what comes new in front of the record comes where it was."""
    old = '<s>\n  <!-- of old -->\n  <g id="a"/>\n</s>\n'
    new = '<s>\n  <g id="n"/>\n  <g id="a"/>\n</s>\n'
    result = merge(swap(old, ('"a"', '"a" worth="3"')), new, old)
    assert text_of(result) == '<s>\n  <g id="n"/>\n  <g id="a" worth="3"/>\n</s>\n'


def test_the_same_comment_put_to_the_same_record_by_both_is_one() -> None:
    """Though each was taken, beside the old defaults, for another one that says the same."""
    old = '<s>\n  <!-- dear -->\n  <g id="a"/>\n  <g id="b"/>\n</s>\n'
    both = '<s>\n  <!-- dear -->\n  <g id="a"/>\n  <!-- dear -->\n  <g id="b"/>\n</s>\n'
    moved = '<s>\n  <g id="a"/>\n  <!-- dear -->\n  <g id="b"/>\n</s>\n'
    for mine, new, wanted in ((both, moved, moved), (moved, both, moved), (both, both, both), (moved, moved, moved)):
        result = merge(mine, new, old)
        text = mine if result.data is None else text_of(result)
        assert text.count("dear") == wanted.count("dear"), (mine, new)
        assert text.index('id="b"') > text.rindex("dear")


def test_a_comment_for_a_record_that_i_removed_does_not_come() -> None:
    start, end = OLD.index('    <good id="kelp">'), OLD.index('    <good id="lamp-oil">')
    result = merge(
        OLD[:start] + OLD[end:], swap(OLD, ('    <good id="kelp">', '    <!-- salty -->\n    <good id="kelp">'))
    )
    assert result.data is None or "salty" not in text_of(result)


# --- lists without names ------------------------------------------------------------------------------


def test_what_is_hardly_alike_is_not_the_same_anonymous_record() -> None:
    """One of mine and one of the vendor's that share little are two: mine goes only if I left it as it was."""
    record = '  <g a="{}" b="{}" c="{}" d="{}"/>\n'

    def text(*rows: tuple[int, ...]) -> str:
        return f"<s>\n{''.join(record.format(*row) for row in rows)}</s>\n"

    one, two = (1, 2, 3, 4), (51, 52, 53, 4)
    result = merge(text((1, 20, 3, 4), two), text((1, 2, 3, 9), two), text(one, two))
    assert text_of(result) == text((1, 20, 3, 9), two)
    result = merge(text(one, two), text((5, 6, 7, 4), two), text(one, two))
    assert text_of(result) == text((5, 6, 7, 4), two)
    assert {change.what for change in result.taken} == {What.ADDED, What.REMOVED}


@pytest.mark.parametrize(("old", "new"), [('["a", "b"]', "[]"), ('{"a": 1}', "{}"), ('["a"]', "[ ]")])
def test_what_the_vendor_emptied_is_empty_as_the_vendor_spells_it(old: str, new: str) -> None:
    texts = [f'{{"id": 1, "list": {inside}, "worth": {worth}}}\n' for inside, worth in ((old, 3), (old, 4), (new, 3))]
    result = merge(texts[1], texts[2], texts[0], name="a.json")
    assert text_of(result) == f'{{"id": 1, "list": {new}, "worth": 4}}\n'
    mine = texts[1].replace('"a"', '"z"')  # what I put there stays
    kept = merge(mine, texts[2], texts[0], name="a.json")
    assert '"z"' in (mine if kept.data is None else text_of(kept))


def test_a_list_that_the_vendor_turned_round_is_turned_round_with_my_edit_in_it() -> None:
    names = [f"g{at:03}" for at in range(70)]
    mine_has = [*names[1:], names[0]]

    def text(order: list[str], worth: str) -> str:
        rows = "".join(f'  <g id="{name}" worth="{worth if name == "g001" else 1}"/>\n' for name in order)
        return f"<s>\n{rows}</s>\n"

    few = merge(text(names, "9"), text(mine_has, "1"), text(names, "1"))
    assert text_of(few) == text(mine_has, "9")
    many = merge(text(names, "9"), text([names[0], *names[:0:-1]], "1"), text(names, "1"))
    assert text_of(many) == text([names[0], *names[:0:-1]], "9")
    assert [change.what for change in many.kept] == [What.SET]


def test_a_comment_that_both_sides_gave_a_record_is_one_whatever_it_is_like_in_the_old_file() -> None:
    """What the vendor put in another's place goes with that; the one that both added is not taken for the one moved."""

    def text(first: list[str], second: list[str]) -> str:
        lines = [*(f"<!-- {words} -->" for words in first), '<g id="1"/>']
        return "\n".join(["<r>", *lines, *(f"<!-- {words} -->" for words in second), '<g id="2"/>', "</r>\n"])

    old = text(["food", "raised in June"], ["raised in June", "raised in May"])
    mine = text(["raised in May", "raised in June"], ["raised in June", "raised in May"])
    new = text(["food", "raised in May", "raised in June"], ["raised in June", "tar is dear"])
    merged = text_of(merge_text("a.xml", old, mine, new))
    assert merged == text(["raised in May", "raised in June"], ["raised in June", "tar is dear"])


def test_a_comment_that_both_have_leads_no_other_record() -> None:
    old = b"# raised in May\nlamp-oil.afloat=0\nlamp-oil.worth=0\nkelp.worth=0\n"
    mine = b"kelp.least=0\nrope.afloat=0\nlamp-oil.least=0\n# raised in May\nkelp.afloat=0\n"
    new = b"# raised in May\nkelp.least=0\nrope.afloat=0\nlamp-oil.worth=0\nlamp-oil.afloat=0\nlamp-oil.least=0\n"
    assert merge_file("keeper.properties", old, mine, new).outcome is Outcome.SAME


COMMENTED = {
    "x.ini": "[a]\n{}f = 1\n# t\ng = {}\n",
    "x.properties": "{}f=1\n# t\ng={}\n",
    "x.yaml": "a:\n{}  f: 1\n  # t\n  g: {}\n",
    "x.toml": "{}[a]\n{}f = 1\n# t\ng = {}\n",
    "x.xml": "{}<r>\n{}  <f>1</f>\n  <!-- t -->\n  <g>{}</g>\n</r>\n",
    "x.json": '{}{{\n{}  "f": 1,\n  // t\n  "g": {}\n}}\n',
}
SIGNS = {"x.yaml": "  # {}\n", "x.xml": "  <!-- {} -->\n", "x.json": "  // {}\n"}


@pytest.mark.parametrize("name", COMMENTED)
@given(st.data())
def test_comments_that_the_vendor_wrote_anew_stand_as_the_vendor_has_them(name: str, data: st.DataObject) -> None:
    """However lines of them came, went and changed places, in front of a record or of the whole file."""
    lines = st.lists(st.sampled_from(["one", "two", "three", "four", "five", "six"]), unique=True)
    sign, frame = SIGNS.get(name, "# {}\n"), COMMENTED[name]

    def written(blocks: list[list[str]], value: int) -> str:
        return frame.format(*("".join(sign.format(line) for line in block) for block in blocks), value)

    before, after = ([data.draw(lines) for _ in range(frame.count("{}") - 1)] for _ in range(2))
    merged = merge_text(name, written(before, 1), written(before, 2), written(after, 1))
    assert (merged.data or written(before, 2).encode()).decode() == written(after, 2)


def test_what_the_admin_says_at_the_top_of_a_file_stays() -> None:
    old, new = ("<?xml version='1.0'?>\n<!-- {} -->\n<r><a>{}</a></r>\n".format(*said) for said in (("x", 1), ("y", 2)))
    merged = merge_text("x.xml", old, old.replace("x -->", "ours -->"), new)
    assert text_of(merged) == new.replace("y -->", "ours -->")
    assert [(change.field, change.what) for change in merged.kept] == [("(comment)", What.SET)]
    taken = merge_text("x.xml", old, old.replace("\n", "\r\n"), new)
    assert text_of(taken) == new.replace("\n", "\r\n")
    assert ("(comment)", What.SET) in [(change.field, change.what) for change in taken.taken]
