"""Texts made to take long: read within seconds of a processor and bounds of memory, or refused."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from emberkeep.detection.adopt import adopt
from emberkeep.documents import registry
from emberkeep.errors import EmberKeepError, Refused, UnreadableInput
from emberkeep.keep.toml_reader import parsed
from emberkeep.merging.merge import merge_file
from emberkeep.process.watch import LOOKED_AT, Watched, read_line
from emberkeep.transfer import ftp
from emberkeep.transfer.walk import walk
from tests import depth, farhosts
from tests.farhosts import Site

pytestmark = pytest.mark.skipif(sys.platform == "win32", reason="needs fork")

if sys.platform != "win32":
    from tests.hostile.limited import limited

PART = depth.choose(4, 1)
"""What is slow by nature is shorter in the quick form."""
TEXTS = {
    "comments.yaml": b"a: 1\n" + b"  #\n" * (64_000 // PART),
    "inside.yaml": b"a:\n  b: 1\n" + b"  # x\n" * (40_000 // PART) + b"  c: 2\n",
    "comments.json": b"{" + b"// x\n" * (40_000 // PART) + b'"a": 1}',
    "nested.xml": b"<a>" + b"<r>" * 200 + b'<r v="1">x</r>' * 4000 + b"</r>" * 200 + b"</a>",
    "namesakes.xml": b"<a>" + b"<r><r><r>x</r></r></r>" * 4000 + b"</a>",
    "spaces.xml": b'<a b="1"' + b" " * 400_000 + b">x</a>",
    "quotes.xml": b"<a b='" + b'"' * 200_000 + b"'/>",
    "dotted.toml": b".".join([b"a"] * 16_000) + b" = 1\n",
    "header.toml": b"[" + b".".join([b"a"] * 16_000) + b"]\n",
    "comments.toml": b"# x\n" * (60_000 // PART) + b"[a]\n",
    "open.json": b"[" * 400_000,
    "commas.json": b"[" + b"," * 400_000,
    "strings.json": b'["' + b"\\" * 400_001,
    "keys.yaml": b"? " * 50_000,
    "flow.yaml": b"[" * 50_000,
    "continued.properties": b"a=\\\n" * 80_000,
    "comments.ini": b"[a]\nb=1\n" + b"# x\n" * (60_000 // PART) + b"[c]\n",
    "sections.ini": b"".join(b"[a%d]\n" % number for number in range(20_000)),
}


@pytest.mark.parametrize("name", depth.some([*TEXTS], 4))
def test_a_text_is_read_in_time_by_its_length_or_refused(name: str) -> None:
    data = TEXTS[name]

    def read() -> int:
        try:
            document = registry.parse(name, data)
            again = merge_file(name, data, data + b"\n", data + b"\n\n")
            return 0 if document is None or again is None else len(document.root.items)
        except EmberKeepError:
            return -1

    assert limited(read, megabytes=600, seconds=depth.choose(4, 8)) >= -1


@pytest.mark.parametrize("word", depth.some(["docker ", "docker run a/", "java -cp ", "A=${A:-b} ", "cd a && "], 2))
def test_a_script_is_understood_in_time_by_its_length(tmp_path: Path, word: str) -> None:
    (tmp_path / "go.sh").write_text("#!/bin/sh\n" + word * 20_000 + "\n")
    (tmp_path / "c.yaml").write_text("image: " + "a/" * 40_000 + "\n")
    assert limited(lambda: adopt(tmp_path).files, megabytes=600, seconds=8) == 2


def test_a_dotted_key_may_be_long_but_not_endless() -> None:
    assert parsed(".".join(["a"] * 100) + " = 1", "x")
    assert parsed(f'a = """\n{"." * 500}\n"""', "x")
    with pytest.raises(UnreadableInput, match="more than 200 parts"):
        parsed("b = 1\n" + ".".join(["a"] * 300) + " = 1", "x")


def test_a_line_of_a_log_is_looked_at_no_further_than_patterns_can_bear() -> None:
    """As adopt drafts them: what comes before a name is anything, and takes time by the square of it."""
    patterns = {"joined": r"(?P<name>[\w.-]+) comes ashore$"}
    seen = limited(lambda: read_line(Watched(), "a" * 2_000_000, patterns), seconds=3)
    assert seen == Watched()
    long = "x" * (LOOKED_AT - 6) + " lit"
    assert read_line(Watched(), long, {"ready": "lit"}).ready
    assert not read_line(Watched(), "x" * LOOKED_AT + " lit", {"ready": "lit"}).ready


def test_a_list_without_end_is_broken_off(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ftp, "MOST_NAMES", 20)
    there = tmp_path / "there" / "rock"
    there.mkdir(parents=True)
    for number in range(30):
        (there / f"{number}").write_text("x")
    with farhosts.ftp(there.parent) as served:
        site = Site(there, tmp_path / "here", served.address("/rock"), 'secret = { env = "FAR_WORD" }')
        with site.lines() as lines, pytest.raises(Refused, match="no end"):
            walk(lines)
