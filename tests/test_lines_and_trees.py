"""Merging plain text by line, whole files, trees, and what may break."""

from __future__ import annotations

from pathlib import Path

import pytest

from emberkeep.documents.encoding import BOM
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.merging import merge as merging
from emberkeep.merging.answers import Answer, Answers
from emberkeep.merging.merge import merge_file, merge_trees
from emberkeep.merging.results import FILE, FileMerge, Merge, Outcome


def merge(
    old: str | bytes | None, mine: str | bytes | None, new: str | bytes | None, name: str = "a.rig", answer: str = ""
) -> FileMerge:
    sides = [side.encode() if isinstance(side, str) else side for side in (old, mine, new)]
    return merge_file(name, *sides, resolve=lambda question: (answer, "test" if answer else ""))


OLD = "on start\n  set hour 6\n  lay wrecks 12\nend\n\non leave\n  wave\nend\n"


def test_lines_changed_on_either_side_come_together() -> None:
    mine = OLD.replace("hour 6", "hour 7").replace("\n", "\r\n")
    new = OLD.replace("wave", "wave twice").replace("end\n\n", "  wake gannets\nend\n\n")
    result = merge(OLD, mine, new)
    assert result.data is not None
    assert result.data.decode() == (
        "on start\r\n  set hour 7\r\n  lay wrecks 12\r\n  wake gannets\r\nend\r\n\r\non leave\r\n  wave twice\r\nend\r\n"
    )


@pytest.mark.parametrize(
    ("answer", "line"),
    [("", "hour 7"), ("mine", "hour 7"), ("new", "hour 8"), ("old", "hour 6"), ("=   set hour 9", "hour 9")],
)
def test_the_same_line_changed_twice_is_asked(answer: str, line: str) -> None:
    result = merge(OLD, OLD.replace("hour 6", "hour 7"), OLD.replace("hour 6", "hour 8"), answer=answer)
    (question,) = result.questions
    assert (question.record, question.field) == ("line 2", "(lines)")
    assert (question.old, question.mine, question.new) == ("  set hour 6", "  set hour 7", "  set hour 8")
    text = (result.data or OLD.replace("hour 6", "hour 7").encode()).decode()
    assert line in text
    assert "<<<<" not in text


@pytest.mark.parametrize(("old", "mine", "new"), [(o, m, n) for o in ("", BOM) for m in ("", BOM) for n in ("", BOM)])
def test_a_byte_order_mark_is_the_admins_and_no_part_of_a_line(old: str, mine: str, new: str) -> None:
    lines = ("one\ntwo\nthree\n", "one\ntwo\nmine\n", "new\ntwo\nthree\n")
    sides = [(mark + text).encode() for mark, text in zip((old, mine, new), lines, strict=True)]
    result = merge_file("notes.txt", *sides)
    assert not result.questions
    assert result.data == (mine + "new\ntwo\nmine\n").encode()


def test_a_text_beyond_any_size_is_taken_whole(monkeypatch: pytest.MonkeyPatch) -> None:
    old, mine, new = b"a\nb\nc\n", b"A\nb\nc\n", b"a\nb\nC\n"
    monkeypatch.setattr(merging, "LARGEST_TEXT", len(mine))
    assert merge_file("notes.txt", old, mine, new).data == b"A\nb\nC\n"
    for one, other in ((mine + b"\n", new), (mine, new + b"\n")):
        result = merge_file("notes.txt", old, one, other)
        assert (result.data, result.format) == (None, "")
        assert [question.field for question in result.open] == ["(file)"]


@pytest.mark.parametrize("final", ["", "\n"])
def test_the_final_line_end_stays_mine(final: str) -> None:
    result = merge("a\nb\nc\n", "A\nb\nc" + final, "a\nb\nc\nd\n")
    assert result.data == ("A\nb\nc\nd" + final).encode()


def test_a_whole_text_replaced_on_one_side() -> None:
    assert merge("a\nb\n", "a\nb\nmine\n", "x\ny\n").questions
    assert merge("a\n", "", "a\n").outcome is Outcome.SAME


def test_toml_that_both_sides_would_break_together_becomes_a_question() -> None:
    # Each side is right for itself; together the same table would be told twice.
    broken = merge("t = 1\n", "t = 1\n[berth]\nx = 1\n", "t = 1\nberth.x = 2\n", "x.toml")
    (question,) = broken.questions
    assert question.field == FILE
    assert "no longer be valid" in question.why
    assert broken.data is None


@pytest.mark.parametrize(
    ("old", "mine", "new", "outcome", "data", "asked"),
    [
        (None, None, "n", Outcome.ADDED, b"n", 0),
        (None, "m", None, Outcome.SAME, None, 0),
        ("o", "o", None, Outcome.REMOVED, None, 0),
        ("o", "m", None, Outcome.SAME, None, 1),
        ("o", None, "o", Outcome.SAME, None, 0),
        ("o", None, "n", Outcome.SAME, None, 1),
        ("o", None, None, Outcome.SAME, None, 0),
        (b"\0o", b"\0o", b"\0n", Outcome.MERGED, b"\0n", 0),
        (b"\0o", b"\0m", b"\0o", Outcome.SAME, None, 0),
        (b"\0o", b"\0m", b"\0n", Outcome.SAME, None, 1),
        (b"\0o", b"\0n", b"\0n", Outcome.SAME, None, 0),
        (None, "m", "n", Outcome.SAME, None, 1),
        (None, "n", "n", Outcome.SAME, None, 0),
    ],
)
def test_whole_files(
    old: str | bytes | None,
    mine: str | bytes | None,
    new: str | bytes | None,
    outcome: Outcome,
    data: bytes | None,
    asked: int,
) -> None:
    result = merge(old, mine, new)
    assert (result.outcome, result.data, len(result.questions)) == (outcome, data, asked)
    for question in result.questions:
        assert question.field in (FILE, "(lines)")


@pytest.mark.parametrize(
    ("old", "mine", "new", "answer", "outcome", "data"),
    [
        ("o", "m", None, "new", Outcome.REMOVED, None),
        ("o", "m", None, "old", Outcome.MERGED, b"o"),
        ("o", None, "n", "new", Outcome.ADDED, b"n"),
        ("o", None, "n", "old", Outcome.ADDED, b"o"),
        (b"\0o", b"\0m", b"\0n", "new", Outcome.MERGED, b"\0n"),
        (b"\0o", b"\0m", b"\0n", "= x", Outcome.SAME, None),
    ],
)
def test_answers_for_whole_files(
    old: str | bytes | None,
    mine: str | bytes | None,
    new: str | bytes | None,
    answer: str,
    outcome: Outcome,
    data: bytes | None,
) -> None:
    result = merge(old, mine, new, answer=answer)
    assert (result.outcome, result.data) == (outcome, data)


def trees(tmp_path: Path, *sides: dict[str, str]) -> list[FolderTree]:
    made = []
    for name, files in zip(("old", "new", "mine"), sides, strict=True):
        for path, text in files.items():
            target = tmp_path / name / path
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text)
        (tmp_path / name).mkdir(exist_ok=True)
        made.append(FolderTree(tmp_path / name))
    return made


def test_trees_file_by_file_and_what_the_vendor_broke_is_asked_about(tmp_path: Path) -> None:
    old = {"a.ini": "[s]\nk = 1\n", "b.xml": "<r/>", "gone.txt": "x\n"}
    new = {"a.ini": "[s]\nk = 2\n", "b.xml": "<r>", "new/c.txt": "hello\n"}
    mine = {"a.ini": "[s]\nk = 1\nown = 5\n", "b.xml": "<r/>", "gone.txt": "x\n", "only-mine.txt": "y\n"}
    found = merge_trees(*trees(tmp_path, old, new, mine))
    outcomes = {item.path: item.outcome for item in found.files}
    assert outcomes == {
        "a.ini": Outcome.MERGED,
        "b.xml": Outcome.SAME,
        "gone.txt": Outcome.REMOVED,
        "new/c.txt": Outcome.ADDED,
        "only-mine.txt": Outcome.SAME,
    }
    assert [str(warning.place) for warning in found.warnings] == ["b.xml:1:4"]
    assert [(question.file, question.field) for question in found.open] == [("b.xml", "(file)")]


def test_a_folder_where_a_file_is_wanted_is_told(tmp_path: Path) -> None:
    sides = trees(tmp_path, {"a.txt": "1"}, {"a.txt": "2"}, {"a.txt/inside": "3"})
    found: Merge = merge_trees(*sides)
    assert "folder stands here" in str(found.faults[0])


def test_answers_fit_only_the_very_question() -> None:
    given = Answer("a.rig", "line 2", "(lines)", "new", old="  set hour 6", mine="  set hour 7", new="  set hour 8")
    answers = Answers.of(("file", [given, Answer("a.rig", "line 9", "(lines)", "mine")]))
    mine, new = OLD.replace("hour 6", "hour 7"), OLD.replace("hour 6", "hour 8")
    result = merge_file("a.rig", OLD.encode(), mine.encode(), new.encode(), resolve=answers.resolve)
    assert result.data == new.encode()
    assert answers.unused("file") == (("a.rig", "line 9", "(lines)"),)
    other = merge_file("a.rig", OLD.encode(), mine.encode(), new.replace("8", "5").encode(), resolve=answers.resolve)
    assert other.questions[0].open
