"""Whatever the output can take: what was done is told by the exit code, and a name never forges a line."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from emberkeep.cli.main import COMMANDS, FAULT
from emberkeep.operations.record.journal import Journal
from emberkeep.retention import ladder
from emberkeep.show import snapshots as view
from tests import depth
from tests.conftest import KEEP, WORD, Moorings, tree_state
from tests.program import Program, command_line, process_environment, run_process, run_program

ENCODINGS = ("ascii", "latin-1", "cp1252", "utf-8")
LINES: tuple[list[str], ...] = (
    ["--help"],
    *([name, "--help"] for name in COMMANDS),
    ["survey"],
    ["snapshot", "--note", "vor 4.3 → „los“ 潮"],
    ["history"],
    ["history", "--growth"],
    ["diff", "defaults:4.2", "live"],
    ["defaults", "list"],
    ["merge", "--from", "4.2", "--to", "4.3", "--details"],
    ["orders", "propose"],
    ["update", "releases/skerrylight-4.3.zip", "--to", "4.3"],
    ["wipe", "map"],
    ["calendar"],
    ["due"],
    ["thin"],
    ["verify"],
    ["merge", "--from", "4.2", "--to", "4.3", "--go"],
    ["undo"],
    ["undo", "--go"],
    ["restore", "1"],
    ["export", "1", "out.tar"],
    ["nonsense"],
    ["restore", "潮"],
    ["history", "--json"],
)


@pytest.mark.long
def test_every_command_has_the_same_exit_code_whatever_its_output_can_show(
    tmp_path: Path, moorings: Moorings, recorded_once: Path
) -> None:
    """One line after the other, on one server for each encoding; in the long form the first is tried by processes."""
    codes = {}
    for encoding in (ENCODINGS[0], ENCODINGS[-1]) if not depth.long else ENCODINGS:
        rock = moorings(tmp_path / encoding, "cove")
        shutil.copytree(recorded_once / "store", rock.keep / "store", dirs_exist_ok=True)
        (rock.server / "潮 → „Flut“.txt").write_text("x")
        for line in LINES if depth.long else (line for line in LINES if line[-1:] != ["--help"]):
            told = {**WORD, "PYTHONIOENCODING": encoding}
            run = run_process if depth.long and encoding == ENCODINGS[0] else run_program
            done = run("--keep", rock.keep, *line, cwd=rock.place, environment=told)
            assert "Traceback" not in done.err and "UnicodeEncodeError" not in done.err, (line, done.err)
            codes.setdefault(" ".join(line), []).append(done.code)
    assert {line: found for line, found in codes.items() if len(set(found)) > 1} == {}
    assert codes["nonsense"][0] == 2
    assert {codes[line][0] for line in ("snapshot --note vor 4.3 → „los“ 潮", "undo --go", "verify")} == {0}


def test_signs_that_an_output_cannot_show_have_stand_ins(keeper: Program, place: Path) -> None:
    note = {"PYTHONIOENCODING": "ascii"}
    line = ("--keep", KEEP, "snapshot", "--note", "a → b … “c” 潮")
    assert run_process(*line, cwd=place, environment=note).code == 0
    told = run_process("--keep", KEEP, "history", cwd=place, environment=note)
    assert 'a -> b ... "c" \\u6f6e' in told.out


OUTPUTS = (">/dev/full", "2>/dev/full", ">&-", "<&- >&- 2>&-", ">/dev/full 2>&1", "2>&-", ">&- 2>&-", "<&-")
"""Outputs that take nothing, as a shell tells them: a full disk, and streams that were closed before the start."""
ENDS = {"restore 1": 0, "restore 1 --go": 0, "survey --nosuch": 2, "restore nosuch": 2, "snapshot": 0, "--help": 0}


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no full device here")
@pytest.mark.parametrize("output", [*depth.some(OUTPUTS, 2)])
def test_an_output_that_takes_nothing_changes_neither_exit_code_nor_work(
    keeper: Program, place: Path, server: Path, output: str
) -> None:
    keeper("snapshot")
    (server / "new").write_text("since")
    codes = {}
    for line in ENDS:
        command = ["sh", "-c", f'exec "$@" {output}', "sh", *command_line("--keep", KEEP, *line.split())]
        done = subprocess.run(command, cwd=place, env=process_environment(), capture_output=True, check=False)
        assert b"Traceback" not in done.stderr, done.stderr
        codes[line] = done.returncode
        if line == "restore 1 --go":
            told = output == ">/dev/full"
            assert (b"could not be shown: No space left" in done.stderr) == told, done.stderr
    assert codes == ENDS
    assert not (server / "new").exists()
    assert Journal(place / KEEP).waiting() is None and keeper("verify").code == 0


def test_a_reader_that_has_gone_stops_no_work(keeper: Program, place: Path, server: Path) -> None:
    keeper("snapshot")
    (server / "new").write_text("since")
    for line, code in ((["diff", "1", "live"], 1), (["restore", "1", "--go"], 0)):
        reader, writer = os.pipe()
        os.close(reader)
        told = subprocess.run(
            command_line("--keep", KEEP, *line), cwd=place, env=process_environment(), stdout=writer,
            stderr=subprocess.PIPE, check=False,
        )  # fmt: skip
        os.close(writer)
        assert (told.returncode, told.stderr) == (code, b"")
    assert not (server / "new").exists()


def test_a_fault_in_showing_a_result_changes_no_exit_code(
    keeper: Program, server: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    keeper("snapshot")
    (server / "new").write_text("since")
    monkeypatch.setattr(view, "restore_plan", lambda *told: 1 / 0)
    done = keeper("restore", "1", "--go")
    assert (done.code, "it was done, and could not be shown" in done.err) == (0, True), done.err
    assert not (server / "new").exists()


def test_a_fault_of_ours_in_a_run_takes_it_back(
    keeper: Program, place: Path, server: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    keeper("snapshot")
    (server / "new").write_text("since")
    (server / "keeper.properties").unlink()
    state = tree_state(server)
    touch = Journal.step_done
    monkeypatch.setattr(
        Journal, "step_done", lambda self, run, at, now: touch(self, run, at, now) if at == 0 else {}[at]
    )
    done = keeper("restore", "1", "--go")
    assert (done.code, "all was put back as it was" in done.err) == (5, True), done.err
    assert "KeyError" in done.err
    assert tree_state(server) == state
    assert Journal(place / KEEP).waiting() is None


def test_a_fault_of_ours_elsewhere_has_a_code_of_its_own(keeper: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ladder, "judge", lambda *told: 1 / 0)
    monkeypatch.setattr("emberkeep.operations.upkeep.thin.judge", lambda *told: 1 / 0)
    keeper("snapshot")
    done = keeper("thin")
    assert (done.code, "'emberkeep history'" in done.err) == (FAULT, True), done.err


FORGED = "a\nAll sound: 9 blocks\x1b[2J\rb"


@pytest.mark.skipif(os.name == "nt", reason="such names cannot be here")
def test_a_name_forges_no_line_of_output(keeper: Program, server: Path) -> None:
    (server / FORGED).write_text("x")
    keeper("snapshot", "--note", "with\nline")
    (server / FORGED).write_text("xyz")
    for line in (
        ["diff", "1", "live"],
        ["survey"],
        ["restore", "1"],
        ["restore", "1", "--go"],
        ["history"],
        ["verify"],
    ):
        done = keeper(*line)
        shown = (done.out + done.err).split("\n")
        assert not any(told.startswith(("All sound: 9", "line")) or "\x1b" in told or "\r" in told for told in shown), (
            line
        )
    assert json.loads(keeper("diff", "1", "live", "--json").out)["exit"] == 0


@pytest.mark.parametrize("name", ["a\\rb", "a\\nb", "\\u001b[2J"])
def test_a_name_in_keep_toml_is_one_line(keeper: Program, place: Path, name: str) -> None:
    with (place / KEEP / "keep.toml").open("a") as told:
        told.write(f'\n[[event]]\nname = "{name}"\nkind = "wipe"\nwhen = "second Friday 19:00"\nscopes = ["map"]\n')
    done = keeper("calendar")
    assert (done.code, "should be one line" in done.err, "\r" in done.err) == (2, True, False), done.err
