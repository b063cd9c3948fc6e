"""Settling questions: by rule, by what was answered before, one by one on a terminal; and merging without a base."""

from __future__ import annotations

import json
import re
import sys
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.errors import UnreadableInput
from emberkeep.keep.config import read_config
from emberkeep.keep.tables.updates import ResolutionRule
from emberkeep.merging.answers import Answer, Answers
from emberkeep.merging.dialogue import BACK, FIELD, KIND, SKIP, Dialogue, Said, understood
from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import LINES, Question, typed_lines
from emberkeep.merging.rules import answered, in_turn, resolve_by
from tests.conftest import tree_state
from tests.program import Program, Ran, run_program

ASKED = Question("m/stores.xml", "good[id=kelp]", "worth", "10", "30", "20", line=4)


# --- rules -----------------------------------------------------------------------


@pytest.mark.parametrize(
    ("take", "answer"),
    [
        ("new", "new"),
        ("mine", "mine"),
        ("old", "old"),
        ("larger", "mine"),
        ("smaller", "new"),
        ("mean", "= 25"),
        ("ratio", "= 60"),
    ],
)
def test_what_a_rule_takes(take: str, answer: str) -> None:
    assert answered(take, ASKED) == answer


@pytest.mark.parametrize("take", ["larger", "smaller", "mean", "ratio"])
def test_rules_for_numbers_leave_words_alone(take: str) -> None:
    assert answered(take, replace(ASKED, mine="lots")) == ""
    assert answered(take, replace(ASKED, new=None)) == ""


def test_a_ratio_needs_an_old_default_and_keeps_the_spelling_of_the_new_one() -> None:
    assert answered("ratio", replace(ASKED, old="0")) == ""
    assert answered("ratio", replace(ASKED, old="2", mine="1", new="0.5")) == "= 0.25"


def test_the_first_rule_that_is_about_a_question_settles_it() -> None:
    resolve = resolve_by(
        [
            ResolutionRule("other/*.xml", "worth", "old"),
            ResolutionRule("m/*.xml", "w*th", "new", record="good[id=rope]"),
            ResolutionRule("m/*.xml", "worth", "larger"),
            ResolutionRule("**", "*", "new"),
        ]
    )
    assert resolve(ASKED) == ("mine", "rule 3: take larger")
    assert resolve(replace(ASKED, record="good[id=rope]")) == ("new", "rule 2: take new")
    assert resolve(replace(ASKED, field="@worth")) == ("mine", "rule 3: take larger")
    assert resolve(replace(ASKED, mine="lots")) == ("new", "rule 4: take new")


def test_answers_come_before_rules() -> None:
    answers = Answers.of(("file", [Answer("m/stores.xml", "good[id=kelp]", "worth", "old")]))
    resolve = in_turn(answers.resolve, resolve_by([ResolutionRule("**", "*", "new")]))
    assert resolve(ASKED) == ("old", "file")


def test_rules_of_keep_toml_are_checked(tmp_path: Path) -> None:
    path = tmp_path / "keep.toml"
    head = 'format = 1\n[server]\nname = "x"\nfolder = "x"\n'
    path.write_text(
        head + '[[rule]]\nfiles = "a/*.xml"\nfield = "@worth"\ntake = "ratio"\n[checks]\nsilence = ["a *"]\n'
    )
    config = read_config(path)
    assert config.rules == (ResolutionRule("a/*.xml", "worth", "ratio"),)
    assert config.silenced == ("a *",)
    path.write_text(head + '[[rule]]\nfield = "worth"\ntake = "bigger"\nwhen = 1\n')
    with pytest.raises(UnreadableInput) as caught:
        read_config(path)
    words = " ".join(str(fault) + fault.hint for fault in caught.value.faults)
    assert all(part in words for part in ("files", "bigger", "larger", "when"))


def test_a_rule_settles_a_merge_once_and_says_so(recorded: Program, server: Path) -> None:
    keep = server.with_name("gannet-rock.keep") / "keep.toml"
    with keep.open("a") as file:
        file.write('\n[[rule]]\nfiles = "mission/economy/stores.xml"\nfield = "worth"\ntake = "ratio"\n')
    asked = recorded("merge", "--json").json["questions"]
    (lantern,) = [one for one in asked if one["record"] == "good[id=storm-lantern]"]
    assert (lantern["answer"], lantern["by"]) == ("= 98", "rule 1: take ratio")  # 77 * 60 / 47
    assert recorded("merge", "--go").code == 1
    text = (server / "mission/economy/stores.xml").read_text()
    assert recorded("merge", "--from", "4.2", "--go").code == 1
    assert (server / "mission/economy/stores.xml").read_text() == text


# --- suggestions -------------------------------------------------------------------


def test_an_answer_is_suggested_where_only_numbers_differ() -> None:
    before = Answer(ASKED.file, ASKED.record, ASKED.field, "new", "9", "29", "18")
    answers = Answers.of(("remembered", [before]))
    assert answers.resolve(ASKED) == ("", "")
    assert answers.suggest(ASKED) == "new"
    assert answers.suggest(replace(ASKED, field="afloat")) == ""
    assert answers.suggest(replace(ASKED, mine="lots")) == ""


# --- the dialogue --------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("m", Said("mine")),
        (" New ", Said("new")),
        ("= 5 5", Said("= 5 5")),
        ("=7", Said("= 7")),
        ("nf", Said("new", FIELD)),
        ("mine kind", Said("mine", KIND)),
        ("o k", Said("old", KIND)),
        ("s", Said(SKIP)),
        ("back", Said(BACK)),
        ("both", Said("both")),
        ("= 55", Said("= 55")),
        ("=55", Said("= 55")),
        ("=\tindented", Said("= \tindented")),
        ("", None),
        ("=", None),
        ("maybe", None),
        ("s field", None),
        ("m f k", None),
        ("nx", None),
        ("mine football", None),
        ("minefield", None),
    ],
)
def test_what_is_understood(text: str, said: Said | None) -> None:
    assert understood(text) == said


SAYINGS = re.compile(
    r"(?P<answer>m|mine|n|new|o|old)(?:\s+(?P<wider>f|field|k|kind))?|(?P<both>[mno][fk])|(?P<other>s|skip|b|back|e|explain|q|quit)",
    re.IGNORECASE,
)
TOKENS = [
    *"mnosbeqfkx=",
    "mine",
    "new",
    "old",
    "field",
    "kind",
    "skip",
    "back",
    "explain",
    "quit",
    "fields",
    "M",
    " ",
    "==",
]


@given(
    st.one_of(
        st.text(max_size=12),
        st.lists(st.sampled_from(TOKENS), max_size=4).map(" ".join),
        st.lists(st.sampled_from(TOKENS), max_size=3).map("".join),
    )
)
def test_an_input_is_one_of_the_sayings_or_misunderstood(text: str) -> None:
    said, stripped = understood(text), text.strip()
    if stripped.startswith("="):
        assert (said is None) is (not stripped[1:].strip())
        assert said is None or typed_lines(said.word) == stripped[1:].removeprefix(" ")
        return
    found = SAYINGS.fullmatch(stripped)
    assert (said is None) is (found is None)
    if said is not None:
        first, *rest = stripped.lower().split()
        letters = f"{first[0]}{rest[0][0] if rest else ''}" if len(first) != 2 else first
        assert said.word[0] == letters[0] and said.wider[:1] == letters[1:]


def questions() -> list[Question]:
    return [
        ASKED,
        replace(ASKED, record="good[id=rope]"),
        replace(ASKED, record="good[id=rope]", field="afloat"),
        replace(ASKED, record="shop[id=x]"),
        replace(ASKED, file="m/other.xml"),
    ]


def test_an_answer_for_a_field_goes_to_that_field_in_that_file_only() -> None:
    dialogue = Dialogue(questions())
    assert dialogue.alike(FIELD) == 2
    done = dialogue.say(Said("new", FIELD))
    assert [(one.file, one.record, one.field) for one in done] == [
        ("m/stores.xml", "good[id=kelp]", "worth"),
        ("m/stores.xml", "good[id=rope]", "worth"),
        ("m/stores.xml", "shop[id=x]", "worth"),
    ]
    assert dialogue.current == questions()[2]


def test_an_answer_for_a_kind_goes_to_every_field_of_that_kind_of_record() -> None:
    dialogue = Dialogue(questions())
    done = dialogue.say(Said("mine", KIND))
    assert [one.record for one in done] == ["good[id=kelp]", "good[id=rope]", "good[id=rope]"]
    assert dialogue.current == questions()[3]


def test_a_value_of_another_kind_has_to_be_said_twice() -> None:
    whole = replace(ASKED, old="10", mine="12", new="15")
    for asked, odd, fine in (
        (whole, "= abc", "= 13"),
        (whole, "= 12.5", "= -3"),
        (replace(whole, new="15.5"), "= abc", "= 3"),
        (replace(ASKED, old='"yes"', mine="true", new="false"), "", "= perhaps"),
        (replace(ASKED, old="true", mine="true", new="False"), "= 5", "= true"),
    ):
        dialogue = Dialogue([asked])
        assert not dialogue.unfit(Said(fine))
        if odd:
            assert "say it once more" in dialogue.unfit(Said(odd))
            assert not dialogue.unfit(Said(odd)), "it is meant"
            assert dialogue.unfit(Said(odd)), "of that question only, and each time anew"


def test_both_is_for_lines_alone() -> None:
    assert Dialogue([ASKED]).unfit(Said("both"))
    assert not Dialogue([replace(ASKED, field=LINES)]).unfit(Said("both"))


@pytest.mark.parametrize("newline", ["\n", "\r\n"])
@pytest.mark.parametrize("end", ["", "\n"])
def test_both_sides_of_some_lines_and_lines_of_ones_own(newline: str, end: str) -> None:
    sides = [f"first\n{middle}{end}".replace("\n", newline).encode() for middle in ("\told", "\tmine", "\tnew")]
    for answer, middle in (("both", "\tmine\n\tnew"), ("= \tours", "\tours"), ("= ours", "ours")):
        result = merge_file("motd.txt", *sides, resolve=lambda question, answer=answer: (answer, "given"))
        assert result.data == f"first\n{middle}{end}".replace("\n", newline).encode()


def test_an_answer_of_another_kind_is_told_and_both_is_refused_for_a_value(recorded: Program, place: Path) -> None:
    told = recorded("merge", "--json").json["questions"]
    asked = next(one for one in told if one["field"] == "worth" and one["mine"].isdigit())
    sheet = place / "answers.toml"

    def answered(answer: str) -> Ran:
        values = "".join(
            f"{key} = {json.dumps(asked[key])}\n" for key in ("file", "record", "field", "old", "mine", "new")
        )
        sheet.write_text(f"[[question]]\n{values}answer = {json.dumps(answer)}\n")
        return recorded("merge", "--answers", str(sheet))

    done = answered("= plenty")
    assert f"All sides have a whole number here, and the answer is none: {asked['file']}" in done.out
    assert "All sides have" not in answered("= 77").out
    assert answered("both").code == 2


def test_skipping_and_going_back() -> None:
    dialogue = Dialogue(questions())
    dialogue.say(Said(SKIP))
    dialogue.say(Said("new"))
    dialogue.say(Said(BACK))
    dialogue.say(Said(BACK))
    dialogue.say(Said(BACK))
    assert dialogue.current == ASKED
    dialogue.say(Said("= 12"))
    assert [(one.record, one.answer) for one in dialogue.answered] == [
        ("good[id=kelp]", "= 12"),
        ("good[id=rope]", "new"),
    ]
    while dialogue.current is not None:
        dialogue.say(Said(SKIP))
    assert dialogue.say(Said("new")) == ()


@pytest.mark.long
@pytest.mark.skipif(sys.platform == "win32", reason="pexpect drives pseudo-terminals of POSIX systems")
def test_the_questions_are_asked_on_a_terminal_and_stopping_loses_no_answer(recorded: Program, server: Path) -> None:
    import pexpect

    before = tree_state(server)
    keep = server.with_name("gannet-rock.keep")

    def start() -> pexpect.spawn:
        return pexpect.spawn(
            sys.executable, ["-m", "emberkeep", "--keep", str(keep), "merge", "--ask"], encoding="utf-8", timeout=180, dimensions=(40, 120)
        )  # fmt: skip

    prompt = "mine, new, old, = value, skip\\? "
    child = start()
    child.expect("Question 1 of 8: keeper.properties")
    child.expect("most-keepers=40")
    child.expect(prompt)
    child.sendline("what?")
    child.expect("e explain")
    child.expect(prompt)
    child.sendline("e")
    child.expect("You made it 40; the vendor has now made it 32")
    child.expect(prompt)
    child.sendline("n")
    child.expect("kept: new")
    child.expect("Question 2 of 8")
    child.expect(prompt)
    child.sendline("b")
    child.expect("Question 1 of 8")
    child.expect("You said: new")
    child.expect(prompt)
    child.sendline("= many")
    child.expect("All sides have a whole number")
    child.expect(prompt)
    child.sendline("s")
    child.expect("Question 2 of 8")
    child.expect(prompt)
    child.sendintr()
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 130
    assert "most-keepers" in (keep / "answers.toml").read_text()

    child = start()
    child.sendline("nk")  # before anything is asked
    child.expect("Looking for what is to be asked")
    child.expect("Question 1 of 7")
    child.expect(prompt)
    child.sendline("s")
    child.expect("good\\[id=hardtack\\]  afloat")
    child.expect("2 more questions")
    child.expect(prompt)
    child.sendline("nf")
    child.expect("kept: new, and for 2 more questions")
    child.expect("storm-lantern")
    child.expect(prompt)
    child.sendline("= 66")
    child.expect("bitter-root")
    child.expect(prompt)
    child.sendline("= 5")
    child.expect("mine, new or old is wanted")
    child.expect(prompt)
    child.sendline("mk")
    child.expect("kept: mine, and for 1 more question")
    child.expect("1 question waits")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 1
    assert tree_state(server) == before

    assert recorded("merge", "--go").code == 1
    assert "most-keepers=32" in (server / "keeper.properties").read_text()
    stores = (server / "mission/economy/stores.xml").read_text()
    assert re.search(r'<good id="lamp-oil">.*?<afloat>30<', stores, re.DOTALL)
    assert re.search(r'<good id="storm-lantern">.*?<worth>66<', stores, re.DOTALL)
    assert re.search(r'<good id="bitter-root">.*?<worth>40<', stores, re.DOTALL)


def test_asking_between_paths_keeps_the_answers_in_the_file_named(place: Path) -> None:
    for name, value in (("old", 1), ("mine", 2), ("new", 3)):
        (place / f"{name}.ini").write_text(f"[a]\nk = {value}\n")
    words = ("merge", "--old-defaults", "old.ini", "--new-defaults", "new.ini", "--mine", "mine.ini", "--ask")
    assert run_program(*words, cwd=place).code == 2
    assert run_program(*words, "--answers", "a.toml", "--json", cwd=place).code == 2
    done = run_program(*words, "--answers", "a.toml", cwd=place)  # the input is at its end: nothing is answered
    assert (done.code, (place / "a.toml").exists()) == (1, False)


# --- without old defaults ----------------------------------------------------------------


def test_two_way_brings_in_what_is_lacking_keeps_all_and_asks_where_values_differ() -> None:
    mine = '<r>\n  <g id="a"><n>1</n><m>2</m></g>\n  <g id="own"><n>5</n></g>\n</r>\n'
    new = '<r>\n  <g id="a"><n>3</n><m>2</m><k>9</k></g>\n  <g id="b"><n>4</n></g>\n</r>\n'
    result = merge_file("x.xml", None, mine.encode(), new.encode())
    assert result.data is not None
    assert result.data.decode() == (
        '<r>\n  <g id="a"><n>1</n><m>2</m><k>9</k></g>\n  <g id="b"><n>4</n></g>\n  <g id="own"><n>5</n></g>\n</r>\n'
    )
    assert [(one.record, one.field, one.old, one.mine, one.new) for one in result.open] == [
        ("g[id=a]", "n", None, "1", "3")
    ]


def test_two_way_in_a_keep_and_between_paths(recorded: Program, place: Path, server: Path) -> None:
    assert recorded("merge", "--two-way", "--from", "4.2").code == 2
    found = recorded("merge", "--two-way", "--json").json
    assert found["old"] == "nothing"
    added = {change["record"] for change in found["taken"] if change["file"].endswith("stores.xml")}
    assert {"good[id=samphire-pie]", "good[id=drowned-bead]"} <= added
    assert not [change for change in found["taken"] if change["what"] == "removed"]
    new = place / "releases" / "skerrylight-4.3.zip"
    loose = run_program("merge", "--two-way", "--new-defaults", new, "--mine", server, "--json", cwd=place).json
    stores = "mission/economy/stores.xml"
    assert [one for one in loose["questions"] if one["file"] == stores] == [
        one for one in found["questions"] if one["file"] == stores
    ]


def test_defaults_of_another_server_are_refused_unless_told(recorded: Program, place: Path, server: Path) -> None:
    for path in (*(server / "mission").rglob("*.*"), server / "keeper.properties", server / "cast-off.sh"):
        if path.is_file():
            path.write_text(f"nothing of {path.name} is as it was\n")
    done = recorded("merge")
    assert done.code == 3
    assert "no recorded release fits" in done.err
    assert "--two-way" in done.err
    assert recorded("merge", "--from", "4.2").code in (0, 1)
