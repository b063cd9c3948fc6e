"""Questions that nobody has answered outlive the merge that asked them."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from tests.program import Program

MERGE = ("merge", "--from", "4.2", "--to", "4.3")


def told(program: Program, *words: str) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(program(*words, "--json").out)
    return found


def opened(program: Program, *words: str) -> list[tuple[str, str, str]]:
    """File, record and field of the open questions of a merge."""
    questions = told(program, *(words or ("merge",)))["questions"]
    waiting = (question for question in questions if not question["answer"])
    return sorted((question["file"], question["record"], question["field"]) for question in waiting)


@pytest.mark.long
def test_open_questions_are_asked_again_once_the_rest_is_merged(recorded: Program) -> None:
    asked = opened(recorded, *MERGE)
    assert len(asked) > 5
    assert recorded(*MERGE, "--go").code == 1
    assert opened(recorded) == asked
    assert f"{len(asked)} questions since the merge of 4.3" in recorded("survey").out
    again = recorded("merge", "--go")
    assert "There was nothing to write" in again.out and opened(recorded) == asked


def test_answering_them_later_is_a_run_like_any_other(recorded: Program, place: Path, server: Path) -> None:
    recorded(*MERGE, "--go")
    asked = opened(recorded)
    recorded("merge", "--questions", "q.toml")
    text = (place / "q.toml").read_text()
    blocks = text.split("[[question]]")
    at = next(number for number, block in enumerate(blocks) if "keeper.properties" in block)
    field = re.search(r'field = "(.*)"', blocks[at])
    new = re.search(r'new = "(.*)"', blocks[at])
    assert field and new
    blocks[at] = blocks[at].replace('answer = ""', 'answer = "new"')
    (place / "q.toml").write_text("[[question]]".join(blocks))
    before = (server / "keeper.properties").read_text()
    done = recorded("merge", "--answers", "q.toml", "--go")
    assert done.code == 1 and "Written: 1 file." in done.out
    assert f"{field[1]}={new[1]}" in (server / "keeper.properties").read_text().replace(" ", "")
    assert len(opened(recorded)) == len(asked) - 1
    assert recorded("undo", "--go").code == 0
    assert (server / "keeper.properties").read_text() == before


@pytest.mark.long
def test_an_edit_makes_one_void_and_taking_the_merge_back_all(recorded: Program, server: Path) -> None:
    recorded(*MERGE, "--go")
    asked = opened(recorded)
    name, _, field = next(one for one in asked if one[0] == "keeper.properties")
    text = (server / name).read_text()
    (server / name).write_text(re.sub(rf"(?m)^({field}\s*=\s*).*$", r"\g<1>77", text))
    assert len(opened(recorded)) == len(asked) - 1
    (server / name).write_text(text)
    recorded("undo", "--go")
    assert "since the merge of" not in recorded("survey").out


@pytest.mark.long
def test_an_answer_that_keeps_mine_settles_it_and_can_be_withdrawn(recorded: Program, place: Path) -> None:
    recorded(*MERGE, "--go")
    asked = opened(recorded)
    recorded("merge", "--questions", "q.toml")
    (place / "q.toml").write_text((place / "q.toml").read_text().replace('answer = ""', 'answer = "mine"', 1))
    recorded("merge", "--answers", "q.toml", "--go")
    assert len(opened(recorded)) == len(asked) - 1
    given = told(recorded, "answers")["answers"]
    assert [one["answer"] for one in given] == ["mine"]
    shown = recorded("answers")
    assert shown.code == 0 and given[0]["field"] in shown.out
    assert recorded("answers", "--withdraw", "2").code == 2
    assert recorded("answers", "--withdraw", "1").code == 0
    assert opened(recorded) == asked
    assert told(recorded, "answers")["answers"] == []
