"""Launch scripts for sh, cmd and PowerShell: variables and named arguments are merged by name, the rest by line."""

from __future__ import annotations

import shlex
import subprocess
import sys
from collections.abc import Iterator
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.documents.formats import script
from emberkeep.merging.results import FileMerge
from tests.helpers import merge_text

SH = """\
#!/bin/sh
# start the server
SEED=1
export TITLE="A server"   # shown to keepers
cd "$(dirname "$0")" || exit 1
echo "--starting"
exec ./skerry.bin --seed "$SEED" --port 27800 --span=2048 \\
    --quiet
"""
CMD = '@echo off\r\nrem set SEED=5\r\nset SEED=1\r\nset "TITLE=A server"\r\nskerry.exe +seed %SEED% +port 27800 /log:on\r\npause\r\n'


POWERSHELL = """\
# start the server
<# as it was:
$Seed = 5
./skerry.exe -seed 5
#>
$Seed = 1
[string]$env:TITLE = "A `"small`" server"   # shown to keepers
$news = @"
$Seed = 9
./run --port 1
"@
Set-Location $PSScriptRoot
$run = Start-Process -FilePath sweep.exe -Wait
& "./skerry.exe" -seed $Seed --port 27800 `
    --span=2048 -quiet /log:on   # go
"""


def merge(mine: str, new: str, old: str, name: str = "go.sh", answer: str = "") -> FileMerge:
    return merge_text(name, old, mine, new, answer)


def change(text: str, *pairs: tuple[str, str]) -> str:
    for old, new in pairs:
        assert text.count(old) == 1, old
        text = text.replace(old, new)
    return text


def test_different_values_on_one_line_do_not_collide() -> None:
    mine = change(SH, ("SEED=1", "SEED=77"), ("27800", "27900"), ("start the server", "start it, mind"))
    new = change(SH, ('"A server"', '"Skerries"'), ("2048", "4096"))
    result = merge(mine, new, SH)
    assert not result.questions
    assert result.data == change(mine, ('"A server"', '"Skerries"'), ("2048", "4096")).encode()
    assert {(one.record, one.field) for one in result.taken} == {("", "TITLE"), ("./skerry.bin", "--span")}


def test_both_may_add_arguments_at_one_place() -> None:
    mine = change(SH, ("--quiet", "--quiet --own 3"))
    new = change(SH, ("--quiet", "--quiet --lines 200"))
    result = merge(mine, new, SH)
    assert not result.questions
    assert result.data is not None
    words = shlex.split(result.data.decode(), comments=True)
    assert words[words.index("--own") + 1] == "3"
    assert words[words.index("--lines") + 1] == "200"


def test_removed_arguments_go_and_what_was_changed_on_one_side_and_removed_on_the_other_is_asked() -> None:
    gone = change(SH, (" --port 27800", ""))
    assert merge(change(SH, ("SEED=1", "SEED=2")), gone, SH).data == change(gone, ("SEED=1", "SEED=2")).encode()
    edited = change(SH, ("27800", "27900"))
    result = merge(edited, gone, SH)
    assert [(one.field, one.old, one.mine, one.new) for one in result.open] == [("--port", "27800", "27900", None)]
    assert result.data is None
    assert merge(edited, gone, SH, answer="new").data == gone.encode()
    result = merge(gone, edited, SH)
    assert [(one.field, one.old, one.mine, one.new) for one in result.open] == [("--port", "27800", None, "27900")]
    assert merge(gone, change(SH, ("SEED=1", "SEED=2")), SH).data == change(gone, ("SEED=1", "SEED=2")).encode()


def test_one_value_changed_on_both_sides_is_asked_with_its_line() -> None:
    result = merge(change(SH, ("SEED=1", "SEED=7")), change(SH, ("SEED=1", "SEED=9")), SH)
    (question,) = result.open
    assert (question.record, question.field, question.old, question.mine, question.new, question.line) == (
        "", "SEED", "1", "7", "9", 3
    )  # fmt: skip
    assert merge(change(SH, ("SEED=1", "SEED=7")), change(SH, ("SEED=1", "SEED=9")), SH, answer="= two words").data == (
        change(SH, ("SEED=1", 'SEED="two words"')).encode()
    )


def test_cmd_keeps_its_line_ends_and_its_quotes() -> None:
    mine = change(CMD, ("\nset SEED=1", "\nset SEED=7"), ("27800", "27805"))
    new = change(CMD, ("A server", "New one"), ("log:on", "log:off"))
    result = merge(mine, new, CMD, "go.cmd")
    assert not result.questions
    assert result.data == change(mine, ("A server", "New one"), ("log:on", "log:off")).encode()


def test_a_script_without_an_ending_is_known_by_its_first_line() -> None:
    mine, new = change(SH, ("27800", "27900")), change(SH, ("2048", "4096"))
    assert merge(mine, new, SH, "start-server").data == change(mine, ("2048", "4096")).encode()
    assert merge(mine, new, SH, "start-server").format == "script"


def test_what_is_no_command_is_left_to_the_lines() -> None:
    found = script.parse(SH, "sh")
    assert [one.name for one in found.variables] == ["SEED", "TITLE"]
    assert [(one.program, [each.name for each in one.arguments]) for one in found.commands] == [
        ("./skerry.bin", ["--seed", "--port", "--span", "--quiet"])
    ]
    assert [one.name for one in script.parse(CMD, "cmd").variables] == ["SEED", "TITLE"]


def test_what_of_powershell_has_a_name_is_merged_by_it() -> None:
    found = script.parse(POWERSHELL, "powershell")
    assert [one.name for one in found.variables] == ["Seed", "env:TITLE"]
    assert [(one.program, [each.name for each in one.arguments]) for one in found.commands] == [
        ("Start-Process", ["-FilePath", "-Wait"]),
        ('"./skerry.exe"', ["-seed", "--port", "--span", "-quiet", "/log"]),
    ]
    mine = change(
        POWERSHELL, ("\n$Seed = 1", "\n$Seed = 77"), ("27800", "27900"), ("start the server", "start it, mind")
    )
    new = change(POWERSHELL, ('`"small`"', '`"large`"'), ("=2048", "=4096"), ("-quiet", "-quiet -lines 3"))
    result = merge(mine, new, POWERSHELL, "Start.ps1")
    assert not result.questions
    assert (
        result.data
        == change(mine, ('`"small`"', '`"large`"'), ("=2048", "=4096"), ("-quiet", "-quiet -lines 3")).encode()
    )


@pytest.mark.skipif(sys.platform == "win32", reason="needs a POSIX shell")
def test_a_shell_sees_what_was_merged(tmp_path: object) -> None:
    mine = change(SH, ("exec ./skerry.bin", "printf '%s|'"), ("2048", "512"))
    old, new = (
        change(text, ("exec ./skerry.bin", "printf '%s|'")) for text in (SH, change(SH, ("27800", "1")) + "A=1\n")
    )
    merged = merge(
        change(mine, ("printf", "./say")), change(new, ("printf", "./say")), change(old, ("printf", "./say"))
    ).data
    assert merged is not None
    text = merged.decode().replace("./say", "printf").replace('cd "$(dirname "$0")" || exit 1\n', "")
    done = subprocess.run(["sh", "-c", text], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "--seed|1|--port|1|--span=512|--quiet|"


@pytest.mark.parametrize("language", ["sh", "cmd", "powershell"])
def test_what_goes_on_over_very_many_lines_is_read_once(language: str, monkeypatch: pytest.MonkeyPatch) -> None:
    steps, real = [], script._tokens

    def counted(*args: Any) -> Iterator[tuple[int, int]]:
        for token in real(*args):
            steps.append(token)
            yield token

    monkeypatch.setattr(script, "_tokens", counted)
    mark = {"sh": "\\", "cmd": "^", "powershell": "`"}[language]
    lines = 2000
    assert not script.parse(f"x {mark}\n" * lines + f"x\necho {mark}\n --port 1\n", language).commands
    assert len(steps) <= 2 * lines


@given(
    st.text(st.sampled_from("ab= \n\"'\\-+$#;|&%^/1\r\t(`@<>"), max_size=60),
    st.sampled_from(["sh", "cmd", "powershell"]),
)
def test_any_text_is_read_and_every_span_lies_in_it(text: str, language: str) -> None:
    found = script.parse(text, language)
    at = 0
    for one in found.commands:
        assert at <= one.start <= one.end <= len(text)
        at = one.end
        assert [each.start for each in one.arguments][1:] == [each.end for each in one.arguments][:-1]
        for each in one.arguments:
            assert each.start <= each.begin <= each.value_start <= each.value_end <= each.end
    spans = sorted([(one.start, one.end) for one in (*found.variables, *found.commands)])
    assert all(first[1] <= second[0] for first, second in pairwise(spans))


@given(
    st.lists(st.text(st.sampled_from("ab= \n\"'\\-+$#;1"), max_size=8), max_size=8).map("\n".join),
    st.lists(st.text(st.sampled_from("ab= \n\"'\\-+$#;1"), max_size=8), max_size=8).map("\n".join),
)
def test_one_sided_changes_of_odd_scripts_come_out_as_they_are(old: str, new: str) -> None:
    """Only the vendor changed it: the vendor's; only the admin did: the admin's; both alike: that."""
    for mine, theirs, expected in ((old, new, new), (new, old, new), (new, new, new)):
        result = merge(mine, theirs, old)
        assert not result.questions
        assert (mine.encode() if result.data is None else result.data) == expected.encode()
