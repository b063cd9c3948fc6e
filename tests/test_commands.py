"""The commands as a user runs them, on the sample server: output, exit codes, JSON, and what may never happen."""

from __future__ import annotations

import io
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
import tomllib
from collections.abc import Callable
from contextlib import closing, suppress
from datetime import UTC, date, datetime
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

from emberkeep.cli.main import COMMANDS, command_of
from emberkeep.errors import Refused, RunFailed
from emberkeep.fs import system
from emberkeep.keep.keep import Keep
from emberkeep.merging import orders, paths
from emberkeep.merging.answers import Answer, Answers, save
from emberkeep.merging.results import Merge
from emberkeep.operations.engine import apply, restore_plan
from emberkeep.operations.engine.step import Plan, RunContext
from emberkeep.operations.flows.merge import write_merge
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.snapshot import find, take
from emberkeep.operations.steps import merge as runs
from emberkeep.show.cells import Cell
from emberkeep.show.console import Meter
from emberkeep.store.store import Store
from tests import depth
from tests.conftest import tree_state
from tests.faults import FaultyIO, count_calls, moments
from tests.program import Program, Ran, run_program


def calm(done: Ran) -> Ran:
    """No traceback ever reaches a user."""
    assert "Traceback" not in done.err + done.out
    return done


# --- the contract ------------------------------------------------------------


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_with_examples_and_a_place_in_the_docs(command: str, tmp_path: Path) -> None:
    done = run_program(command, "--help", cwd=tmp_path)
    assert done.code == 0
    assert f"emberkeep {command}" in done.out.split("examples:")[1]
    assert "--json" in done.out
    root = Path(__file__).parent.parent
    assert f"emberkeep {command}" in (root / "docs" / "tour.md").read_text() + (root / "README.md").read_text()


def test_help_version_and_nonsense(tmp_path: Path) -> None:
    assert all(command in run_program(cwd=tmp_path).out for command in COMMANDS)
    assert re.fullmatch(r"emberkeep \d+\.\d+\.\d+\n", run_program("--version", cwd=tmp_path).out)
    meant = run_program("mrege", cwd=tmp_path)
    assert meant.code == 2
    assert "there is no command 'mrege'; did you mean 'merge'?" in meant.err
    assert run_program("merge", "--nonsense", cwd=tmp_path).code == 2


def test_what_is_said_in_half_or_wrongly_is_not_done(tmp_path: Path) -> None:
    """``--g`` must not pass for ``--go``; the nearest is named."""
    for words, told in (
        (("restore", "latest", "--g"), "restore has no option --g; did you mean '--go'?"),
        (("survey", "--al", "x"), "survey has no option --al; did you mean '--all'?"),
        (("snapshot", "--onyl=x"), "snapshot has no option --onyl; did you mean '--only'?"),
        (("snapshot", "--zzz"), "snapshot has no option --zzz; snapshot --help lists them"),
        (("--vers",), "unrecognized arguments: --vers"),
        (("snapshot", "stray"), "unrecognized arguments: stray"),
    ):
        done = run_program(*words, cwd=tmp_path)
        assert (done.code, told in done.err, done.out) == (2, True, ""), words


def test_the_nearest_of_what_a_keep_knows_is_named(keeper: Program) -> None:
    assert keeper("snapshot", "--note", "before 4.3").code == 0
    for words, told in (
        (("restore", "befor 4.3"), "did you mean 'before 4.3'?"),
        (("diff", "lates", "live"), "did you mean 'latest'?"),
        (("restore", "zzz"), "a number from 'emberkeep history'"),
    ):
        done = keeper(*words)
        assert (done.code, told in done.err) == (2, True), done.err


@pytest.mark.parametrize(
    ("words", "command"),
    [
        (["merge", "--json"], "merge"),
        (["--keep", "diff", "survey"], "survey"),
        (["--keep=diff", "--as-owner", "survey"], "survey"),
        (["--debug"], None),
        (["--help", "merge"], None),
        (["-h", "merge"], None),
        (["--version", "merge"], None),
        (["--vers", "merge"], "merge"),
        (["no-such"], "no-such"),
        ([], None),
    ],
)
def test_the_command_is_the_first_word_that_is_no_option(words: list[str], command: str | None) -> None:
    assert command_of(words) == command


def test_a_keep_may_be_called_as_a_command_is(keeper: Program, place: Path) -> None:
    (place / "gannet-rock.keep").rename(place / "diff")
    assert keeper("--keep", "diff", "history", "--json").json["command"] == "history"


def loaded_by(words: list[str], cwd: Path, environment: dict[str, str]) -> set[str]:
    """The modules that a bare interpreter has not, after a command in a process of its own."""
    code = f"import os, sys; before = set(sys.modules); sys.argv = ['emberkeep', *{words!r}]\n"
    code += "from emberkeep.cli.main import entry\ntry: entry()\nexcept SystemExit as end: assert end.code in (None, 0, 1), end.code\n"
    code += "print('\\n' + ' '.join(sorted({*sys.modules} - before)))"
    line = [sys.executable, "-I", "-c", code]
    done = subprocess.run(line, capture_output=True, text=True, check=True, cwd=cwd, env={**os.environ, **environment})
    return set(done.stdout.splitlines()[-1].split())


def test_the_version_loads_itself_alone(tmp_path: Path) -> None:
    ours = {
        "__future__",
        "emberkeep",
        "emberkeep.cli",
        "emberkeep.cli.main",
        "gc",
        "emberkeep.show",
        "emberkeep.show.output",
    }
    assert loaded_by(["--version"], tmp_path, {}) - ours == set()


def test_help_loads_no_command(tmp_path: Path) -> None:
    loaded = loaded_by(["--help"], tmp_path, {})
    assert "argparse" in loaded
    assert {name for name in loaded if name.startswith("emberkeep.cli.commands")} == set()
    assert loaded & {"typing", "dataclasses", "json", "datetime", "pathlib", "emberkeep.errors"} == set()


def test_a_survey_loads_no_more_than_it_uses(keeper: Program, place: Path) -> None:
    """Where keep.toml tells of no events, databases, vaults and far servers, and nothing waits."""
    loaded = loaded_by(["survey"], place, {"EMBERKEEP_KEEP": str(place / "gannet-rock.keep")})
    rooms = {name.split(".")[1] for name in loaded if name.startswith("emberkeep.")}
    assert rooms & {"detection", "vault", "transfer", "schedule", "wiping", "retention", "migrating", "api"} == set()
    assert loaded & {"numpy", "scipy", "matplotlib", "msgspec", "tomlkit", "emberkeep.merging.merge"} == set()
    tables = {name for name in loaded if name.startswith("emberkeep.keep.tables.")}
    assert tables == {f"emberkeep.keep.tables.{name}" for name in ("ladder", "process", "server", "updates", "wiping")}


def test_every_command_without_a_keep_says_how_to_get_one(tmp_path: Path) -> None:
    for words in (
        ["survey"],
        ["snapshot"],
        ["history"],
        ["verify"],
        ["restore", "1"],
        ["defaults", "list"],
        ["merge"],
        ["diff", "live"],
    ):
        done = calm(run_program(*words, cwd=tmp_path))
        assert done.code == 2
        assert "adopt" in done.err
        as_json = run_program(*words, "--json", cwd=tmp_path)
        assert as_json.json["exit"] == 2
        assert as_json.json["faults"][0]["what"]


def test_a_faulty_keep_toml_lists_all_faults(keeper: Program, place: Path) -> None:
    path = place / "gannet-rock.keep" / "keep.toml"
    path.write_text(path.read_text().replace("economy =", "econmy =").replace("zone =", "zoen ="))
    done = calm(keeper("survey"))
    assert done.code == 2
    assert "did you mean 'economy'?" in done.err
    assert "did you mean 'zone'?" in done.err
    assert re.search(r"keep\.toml:\d+: roles\.econmy", done.err)


def test_a_server_folder_that_is_gone_is_said(keeper: Program, server: Path) -> None:
    server.rename(server.with_name("elsewhere"))
    for words in (["survey"], ["snapshot"], ["diff", "live", "live"]):
        done = calm(keeper(*words))
        assert (done.code, "is not there" in done.err) == (2, True)


# --- snapshot, history, verify, restore --------------------------------------


def test_snapshot_history_verify(keeper: Program, server: Path) -> None:
    before = tree_state(server)
    taken = calm(keeper("snapshot", "--note", "before 4.3"))
    assert taken.code == 0
    assert "Snapshot 1 “before 4.3”" in taken.out
    assert tree_state(server) == before
    second = keeper("snapshot", "--only", "economy", "--json").json
    assert second["snapshot"]["scope"] == ["economy"]
    assert second["snapshot"]["files"] == 6
    history = keeper("history", "--json").json
    assert [item["label"] for item in history["snapshots"]] == ["1", "2"]
    assert "before 4.3" in keeper("history").out
    assert keeper("verify").code == 0
    assert keeper("verify", "before 4.3", "--json").json["verification"]["faults"] == []


def test_verify_finds_a_flipped_bit_and_names_the_files(keeper: Program, place: Path) -> None:
    keeper("snapshot")
    pack = next((place / "gannet-rock.keep" / "store" / "packs").glob("*.pack"))
    data = bytearray(pack.read_bytes())
    data[len(data) // 2] ^= 1
    pack.write_bytes(bytes(data))
    done = calm(keeper("verify"))
    assert done.code == 4
    named = keeper("verify", "--json").json["verification"]["files"]
    assert named
    assert all(item["snapshot"] == "1" for item in named)
    assert all(item["path"] in done.out for item in named)
    refused = calm(keeper("restore", "1", "--into", "out"))
    assert refused.code == 4
    assert named[0]["path"] in refused.err


def test_restore_previews_then_puts_every_byte_back(keeper: Program, server: Path) -> None:
    keeper("snapshot")
    before = tree_state(server)
    (server / "mission" / "economy" / "stores.xml").write_text("gone")
    (server / "keeper.properties").unlink()
    (server / "stray").write_text("s")
    broken = tree_state(server)
    preview = calm(keeper("restore", "latest"))
    assert preview.code == 0
    assert tree_state(server) == broken
    for words in ("write mission/economy/stores.xml", "write keeper.properties", "remove stray", "--go"):
        assert words in preview.out
    done = calm(keeper("restore", "latest", "--go"))
    assert done.code == 0
    assert tree_state(server) == before
    assert "snapshot 2" in done.out
    assert "Nothing to do" in keeper("restore", "latest").out  # not the one just taken before the restore
    assert keeper("restore", "2", "--go").code == 0
    assert tree_state(server) == broken
    assert "Nothing to do" in keeper("restore", "2").out


def test_restore_of_a_part_and_elsewhere(keeper: Program, server: Path, place: Path) -> None:
    keeper("snapshot")
    (server / "wardens.json").unlink()
    (server / "keeper.properties").write_text("mine")
    keeper("restore", "1", "--only", "access", "--go")
    assert (server / "wardens.json").exists()
    assert (server / "keeper.properties").read_text() == "mine"
    assert keeper("restore", "1", "--into", "out").code == 0
    assert "Gannet" in (place / "out" / "keeper.properties").read_text()
    assert keeper("restore", "1", "--into", "out").code == 3
    assert keeper("restore", "1", "--into", "gannet-rock/x").code == 3
    assert not (server / "x").exists()


def test_a_running_server_is_not_copied_nor_written(keeper: Program, server: Path) -> None:
    """A real process that works in the folder with a program of it."""
    keeper("snapshot")
    (server / "old-chart.bak").unlink()
    program = server / "skerrylight-4.2.0.bin"
    program.write_text("import time\nprint('up', flush=True)\ntime.sleep(60)\n")
    running = subprocess.Popen([sys.executable, "./skerrylight-4.2.0.bin"], cwd=server, stdout=subprocess.PIPE)
    try:
        assert running.stdout is not None
        running.stdout.readline()
        before = tree_state(server)
        for words in (["snapshot"], ["restore", "1", "--go"]):
            done = calm(keeper(*words))
            assert done.code == 3
            assert f"process {running.pid}" in done.err
        assert tree_state(server) == before
        assert f"process {running.pid}" in keeper("survey").out
        told = keeper("snapshot", "--while-running", "--json")
        assert str(running.pid) in told.json["snapshot"]["running"]
    finally:
        running.kill()
        running.wait()
    assert keeper("snapshot").code == 0


def test_a_pid_file_of_a_living_process_counts(keeper: Program, server: Path) -> None:
    (server / "rock.pid").write_text(f"{os.getpid()}\n")
    assert keeper("snapshot").code == 3
    (server / "rock.pid").write_text("999999999\n")
    assert keeper("snapshot").code == 0


# --- defaults, diff, survey --------------------------------------------------


def test_defaults_are_recorded_listed_and_dropped(recorded: Program, place: Path) -> None:
    listed = recorded("defaults", "list", "--json").json["defaults"]
    assert [item["label"] for item in listed] == ["4.2", "4.3"]
    assert recorded("defaults", "record", "4.3", "releases/skerrylight-4.3.zip").code == 3
    tar = recorded("defaults", "record", "4.4", "releases/skerrylight-4.4.tar.gz", "--json").json["recorded"]
    assert (tar["below"], tar["about"]["files"]) == ("skerrylight-4.4", 14)
    assert recorded("diff", "defaults:4.4", "releases/skerrylight-4.4.tar.gz", "--json").json["difference"]["files"]
    assert recorded("defaults", "drop", "4.2").code == 0
    assert "4.2" not in recorded("defaults", "list").out
    assert recorded("defaults", "drop", "4.2").code == 2
    for words in (["record", "../x", "releases"], ["record", "5", "nowhere"], ["record", "5"], ["drop"]):
        assert calm(recorded("defaults", *words)).code == 2


def test_defaults_that_share_nothing_with_the_server_are_pointed_out(keeper: Program, place: Path) -> None:
    (place / "other").mkdir()
    (place / "other" / "x.txt").write_text("x")
    done = keeper("defaults", "record", "9", "other")
    assert done.code == 1
    assert "0 of them" in done.out


def test_hand_edits_in_the_files_own_terms(recorded: Program) -> None:
    done = calm(recorded("diff", "defaults:4.2", "--all"))
    assert done.code == 1
    for line in (
        "~ good[id=lamp-oil] afloat  40 → 80",
        "+ good[id=gannet-pie]",
        "- good[id=fever-salve]",
        "> good[id=storm-wick] stands elsewhere",
        "+ (comment)  raised after the hungry winter",
        "~ group[name=winter]/squall[id=black-northerly] @every  36 → 72",
        "~ water[kind=shallow]/reach[x=-923] @most  8 → 18",
        "~ title  A Skerrylight server → Gannet Rock — the lamp never goes out",
        "~ wind gale-above  8 → 9",
        "~ lib/libgale.so",
    ):
        assert line in done.out, line
    found = recorded("diff", "defaults:4.2", "--json").json["difference"]
    stores = next(item for item in found["files"] if item["path"].endswith("stores.xml"))
    change = next(item for item in stores["terms"]["details"] if item["record"] == "good[id=lamp-oil]")
    assert (change["field"], change["left"], change["right"]) == ("afloat", "40", "80")
    assert stores["terms"]["format"] == "xml"
    library = next(item for item in found["files"] if item["path"] == "lib/libgale.so")
    assert (library["terms"]["format"], library["terms"]["ranges"]["total"]) == ("binary", 41_041)


def test_diff_of_snapshots_live_and_paths(keeper: Program, server: Path, place: Path) -> None:
    keeper("snapshot")
    assert keeper("diff", "1").code == 0
    (server / "cast-off.sh").chmod(0o700)
    changed = keeper("diff", "1")
    assert (changed.code, "mode 755 became 700" in changed.out) == (1, True)
    assert keeper("diff", "1", "--only", "world").code == 0
    one, two = "releases/skerrylight-4.2/keeper.properties", "gannet-rock/keeper.properties"
    outside = run_program("diff", one, two, cwd=place)
    assert (outside.code, "~ storms  normal → gentle" in outside.out) == (1, True)
    assert run_program("diff", one, one, cwd=place).code == 0
    assert run_program("diff", "nowhere/x", one, cwd=place).code == 2
    assert keeper("diff", "9").code == 2
    assert keeper("diff", "defaults:9").code == 2


def test_diff_of_a_snapshot_of_a_part_keeps_to_that_part(keeper: Program, server: Path, place: Path) -> None:
    keeper("snapshot", "--only", "economy")
    assert keeper("diff", "1").code == 0
    (server / "mission" / "weather.yaml").write_text("fog: none\n")
    found = keeper("diff", "1", "--json").json["difference"]
    assert [item["path"] for item in found["files"]] == ["mission/weather.yaml"]
    words = ["diff", "./releases/skerrylight-4.2", "./gannet-rock", "--only", "*.properties"]
    assert run_program(*words, cwd=place / "releases").code == 2
    outside = run_program(*words, "--json", cwd=place)
    assert [item["path"] for item in outside.json["difference"]["files"]] == ["keeper.properties"]


def test_a_line_end_change_is_no_hand_edit_but_is_told(place: Path) -> None:
    path = place / "x.ini"
    path.write_bytes(b"[a]\nb = 1\n")
    (place / "y.ini").write_bytes(b"\xef\xbb\xbf[a]\r\nb = 1\r\n")
    done = run_program("diff", "./x.ini", "./y.ini", cwd=place)
    assert "line ends LF became CRLF" in done.out
    assert "byte-order mark came" in done.out


def test_survey_before_and_after(recorded: Program, server: Path) -> None:
    done = calm(recorded("survey"))
    assert done.code == 1  # no snapshot yet
    recorded("snapshot", "--note", "first")
    calmer = recorded("survey")
    assert calmer.code == 0
    for words in (
        "engine        4.2.0  RELEASE, log/latest.log, skerrylight-4.2.0.bin",
        "save          17     outer-skerries/anchorage.4096.770421.17.isle",
        "default data  4.2    9",
        "waters = outer-skerries, is there",
        "unsorted: old-chart.bak, una-notes.txt",
        "“first”",
    ):
        assert words in calmer.out, words
    assert re.search(r"in all\s+52\s+10\s+6\s+3", calmer.out)
    assert "nothing changed since" in calmer.out
    (server / "skerrylight-4.2.0.bin").rename(server / "skerrylight-4.3.0.bin")
    (server / "outer-skerries").rename(server / "sunken")
    worse = recorded("survey")
    assert worse.code == 1
    assert re.search(r"since then (\d+) new, \1 gone", worse.out)
    assert "19 records that 4.3 brought are missing: fog-horns, " in worse.out
    assert "engine: versions disagree, 4.2.0 in RELEASE, " in worse.out
    assert "no such folder" in worse.out
    facts = recorded("survey", "--json").json["survey"]
    assert facts["pointer"] == {"file": "keeper.properties", "key": "waters", "value": "outer-skerries", "there": False}
    assert {row["role"]: row["files"] for row in facts["roles"]}["access"] == 5


# --- merge -------------------------------------------------------------------


def test_merge_in_a_keep_from_preview_to_answers(recorded: Program, server: Path, place: Path) -> None:
    before = tree_state(server)
    preview = calm(recorded("merge", "--questions", "q.toml"))
    assert preview.code == 1
    assert tree_state(server) == before
    assert "8 questions wait" in preview.out
    assert "good[id=lamp-oil] afloat  was 40, yours 80, new 30" in preview.out
    asked = tomllib.loads((place / "q.toml").read_text())["question"]
    assert len(asked) == 8
    assert asked[0] == {
        "file": "keeper.properties",
        "record": "",
        "field": "most-keepers",
        "old": "24",
        "mine": "40",
        "new": "32",
        "answer": "",
    }
    filled = (place / "q.toml").read_text().replace('answer = ""', 'answer = "new"')
    (place / "q.toml").write_text(filled.replace('new = "30"\nanswer = "new"', 'new = "30"\nanswer = "= 55"'))
    done = calm(recorded("merge", "--answers", "q.toml", "--go"))
    assert done.code == 0, done.out
    stores = (server / "mission/economy/stores.xml").read_text()
    assert re.search(r'<good id="lamp-oil">\s*<kind>fuel</kind>\s*<afloat>55<', stores)
    assert 'id="samphire-pie"' in stores
    assert 'id="gannet-pie"' in stores
    assert "raised after the hungry winter" in stores
    assert (server / "mission/economy/tidefalls.xml").exists()
    assert b"fog-horns=on\n" in (server / "keeper.properties").read_bytes()
    assert b'lasts="5"' in (server / "mission/economy/squalls.xml").read_bytes()
    assert (server / "mission/economy/reaches.xml").read_bytes().startswith(b"\xef\xbb\xbf")
    squalls = (server / "mission/economy/squalls.xml").read_bytes()
    assert squalls.count(b"\n") == squalls.count(b"\r\n")
    assert (server / "cast-off.sh").stat().st_mode & 0o777 == 0o755
    again = recorded("merge", "--from", "4.2", "--to", "4.3")
    assert again.code == 0
    assert recorded("merge", "--json").json["old"] == "defaults:4.3"
    assert recorded("restore", "1", "--go").code == 0
    assert tree_state(server) == before


def test_merge_json_lists_everything(recorded: Program) -> None:
    found = recorded("merge", "--json").json
    assert (found["old"], found["new"], found["written"], found["open"]) == ("defaults:4.2", "defaults:4.3", False, 8)
    question = next(item for item in found["questions"] if item["record"] == "good[id=lamp-oil]")
    assert {key: question[key] for key in ("file", "field", "old", "mine", "new")} == {
        "file": "mission/economy/stores.xml",
        "field": "afloat",
        "old": "40",
        "mine": "80",
        "new": "30",
    }
    assert any(item["record"] == "good[id=samphire-pie]" for item in found["taken"])
    assert any(item["record"] == "good[id=rope]" and item["field"] == "worth" for item in found["kept"])


def test_unanswered_questions_keep_my_values_and_the_rest_is_written(recorded: Program, server: Path) -> None:
    done = recorded("merge", "--go")
    assert done.code == 1
    stores = (server / "mission/economy/stores.xml").read_text()
    assert re.search(r'<good id="lamp-oil">\s*<kind>fuel</kind>\s*<afloat>80<', stores)
    assert 'id="samphire-pie"' in stores


def test_answers_that_fit_nothing_are_told(recorded: Program, place: Path) -> None:
    (place / "a.toml").write_text('[[question]]\nfile = "x.xml"\nrecord = "y"\nfield = "z"\nanswer = "new"\n')
    done = recorded("merge", "--answers", "a.toml")
    assert "An answer fits no question: x.xml y z" in done.out


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[[question]\n", "a.toml:1"),
        ('[[question]]\nfile = "x"\nfield = "z"\nanswer = "perhaps"\n', "'perhaps' is no answer"),
        ('[[question]]\nfeild = "z"\n', "did you mean 'field'?"),
        ("[[question]]\nfile = 5\n", "should be text"),
    ],
)
def test_a_faulty_answers_file_is_named_and_nothing_written(
    recorded: Program, place: Path, server: Path, text: str, words: str
) -> None:
    (place / "a.toml").write_text(text)
    before = tree_state(server)
    done = calm(recorded("merge", "--answers", "a.toml", "--go"))
    assert (done.code, words in done.err) == (2, True)
    assert tree_state(server) == before


def test_a_malformed_file_is_merged_by_line_with_a_warning(recorded: Program, server: Path) -> None:
    path = server / "mission/economy/stores.xml"
    path.write_text(path.read_text().replace("</stores>", "</store>"))
    preview = calm(recorded("merge"))
    assert preview.code == 1
    assert re.search(r"Merged by line.*stores\.xml:\d+:\d+: not well-formed", preview.out)
    assert "most-keepers" in preview.out
    (warning,) = recorded("merge", "--json").json["warnings"]
    assert warning["place"]["line"] == path.read_text().count("\n")
    assert calm(recorded("merge", "--go")).code == 1
    assert "samphire-pie" in path.read_text()
    assert path.read_text().endswith("</store>\n")


def test_a_file_that_cannot_be_read_stops_the_writing_and_the_others_are_reported(
    recorded: Program, server: Path
) -> None:
    path = server / "mission/economy/stores.xml"
    path.unlink()
    path.mkdir()
    before = tree_state(server)
    preview = calm(recorded("merge"))
    assert preview.code == 2
    assert "most-keepers" in preview.out
    done = calm(recorded("merge", "--go"))
    assert done.code == 2
    assert "stores.xml" in done.err
    assert tree_state(server) == before


def test_merging_backwards_is_refused_with_the_way_that_works(recorded: Program) -> None:
    done = calm(recorded("merge", "--from", "4.3", "--to", "4.2"))
    assert done.code == 3
    assert "restore" in done.err
    assert recorded("merge", "--to", "9.9").code == 2


def test_only_some_files(recorded: Program, server: Path) -> None:
    stores = (server / "mission/economy/stores.xml").read_bytes()
    assert recorded("merge", "--only", "settings", "--go").code == 1
    assert b"fog-horns" in (server / "keeper.properties").read_bytes()
    assert (server / "mission/economy/stores.xml").read_bytes() == stores


def bare(place: Path, *more: str | Path, mine: str = "gannet-rock/mission") -> Ran:
    (place / "new").mkdir(exist_ok=True)
    subprocess.run(
        [sys.executable, "-m", "zipfile", "-e", "releases/skerrylight-4.3.zip", "new"], cwd=place, check=True
    )
    words = [
        "merge",
        "--old-defaults",
        "releases/skerrylight-4.2/mission",
        "--new-defaults",
        "new/skerrylight-4.3/mission",
    ]
    return calm(run_program(*words, "--mine", mine, *more, cwd=place))


@pytest.mark.long
def test_merging_folders_without_a_keep(place: Path) -> None:
    before = tree_state(place / "gannet-rock")
    done = bare(place, "--out", "merged", "--json")
    assert done.code == 1
    assert tree_state(place / "gannet-rock") == before
    assert {item["file"] for item in done.json["questions"]} == {"economy/squalls.xml", "economy/stores.xml"}
    assert (place / "merged/economy/tidefalls.xml").is_file()
    assert 'id="samphire-pie"' in (place / "merged/economy/stores.xml").read_text()
    assert bare(place, "--out", "merged").code == 3
    again = bare(place, "--out", "twice", "--json", mine="merged")
    assert not again.json["taken"]
    assert tree_state(place / "twice", times=False) == tree_state(place / "merged", times=False)


@pytest.mark.long
def test_a_folder_is_merged_over_itself_and_a_disk_that_fails_leaves_every_file_whole(place: Path) -> None:
    mine, old = place / "gannet-rock" / "mission", place / "releases" / "skerrylight-4.2" / "mission"
    bare(place)
    new = place / "new" / "skerrylight-4.3" / "mission"
    (new / "weather.yaml").unlink()
    (mine / "weather.yaml").write_bytes((old / "weather.yaml").read_bytes())
    (mine / "own").symlink_to("economy")
    before = tree_state(mine, times=False)
    found = paths.merge(old, new, mine, Answers({}))
    paths.write(found, mine, place / "whole")
    counted = place / "counted"
    shutil.copytree(mine, counted, symlinks=True)
    calls = count_calls(lambda: paths.write(found, counted, counted))
    end = tree_state(place / "whole", times=False)
    assert "weather.yaml" not in end
    assert end["own"] == ("link", "economy")
    for at in moments(calls, 1, 30):
        context = place / f"at{at}"
        shutil.copytree(mine, context, symlinks=True)
        with system.use(FaultyIO(at, OSError(28, "No space left on device"))), suppress(OSError):
            paths.write(found, context, context)
        state = tree_state(context, times=False)
        assert all(told in (before.get(path), end.get(path)) for path, told in state.items()), at
        assert before.keys() & end.keys() <= state.keys()
        paths.write(paths.merge(old, new, context, Answers({})), context, context)
        assert tree_state(context, times=False) == end, at


def test_merging_files_without_a_keep(place: Path) -> None:
    name = "mission/economy/stores.xml"
    bare(place)
    words = [
        "merge",
        "--old-defaults",
        f"releases/skerrylight-4.2/{name}",
        "--new-defaults",
        f"new/skerrylight-4.3/{name}",
    ]
    words += ["--mine", f"gannet-rock/{name}"]
    done = run_program(*words, "--out", "stores.xml", "--questions", "q.toml", cwd=place)
    assert done.code == 1
    assert 'id="samphire-pie"' in (place / "stores.xml").read_text()
    filled = (place / "q.toml").read_text().replace('answer = ""', 'answer = "mine"')
    (place / "q.toml").write_text(filled)
    assert run_program(*words, "--out", "second.xml", "--answers", "q.toml", cwd=place).code == 0
    assert (place / "second.xml").read_bytes() == (place / "stores.xml").read_bytes()


def test_bare_merges_that_cannot_be_meant(place: Path) -> None:
    assert run_program("merge", "--mine", "gannet-rock", cwd=place).code == 2
    assert bare(place, "--to", "4.3").code == 2
    assert bare(place, mine="nowhere").code == 2
    assert bare(place, mine="gannet-rock/RELEASE").code == 2
    assert bare(place, "--out", "gannet-rock/mission/inside", "--go").code == 3
    assert not (place / "gannet-rock/mission/inside").exists()


# --- output ------------------------------------------------------------------


def test_progress_tells_the_rate_and_the_time_left(monkeypatch: pytest.MonkeyPatch) -> None:
    from rich.console import Console

    shown = io.StringIO()
    meter = Meter("fetch", Console(file=shown, force_terminal=True, width=100))
    meter(0, 100_000_000)
    assert shown.getvalue() == ""  # work that is done at once shows nothing
    monkeypatch.setattr(meter, "_began", time.monotonic() - 5)
    for done in (10_000_000, 20_000_000, 30_000_000):
        meter(done, 100_000_000)
        time.sleep(0.2)
    meter.rest()
    lines = re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", shown.getvalue())
    assert re.search(r"fetch .*30\.0/100\.0 MB +[\d.]+ MB/s +0:00:0\d", lines)


def test_pipes_get_no_colour_and_no_progress(recorded: Program) -> None:
    for words in (["snapshot"], ["survey"], ["merge"], ["diff", "defaults:4.2"]):
        done = recorded(*words)
        assert "\x1b" not in done.out + done.err


def on_a_terminal(place: Path, columns: int, environment: dict[str, str], *words: str) -> str:
    """The program in a pseudo-terminal of the given width."""
    return in_a_terminal([sys.executable, "-m", "emberkeep", *words], place, columns, environment)


def in_a_terminal(command: list[str], place: Path, columns: int, environment: dict[str, str], said: str = "") -> str:
    """What a program shows in one; ``said`` is typed after three seconds."""
    import pty

    leader, follower = pty.openpty()
    variables = {**os.environ, "EMBERKEEP_KEEP": "gannet-rock.keep", "COLUMNS": str(columns), "TERM": "xterm-256color"}
    variables.pop("NO_COLOR", None)
    streams = {"stdin": follower, "stdout": follower, "stderr": follower}
    running = subprocess.Popen(command, cwd=place, env={**variables, **environment}, **streams)
    os.close(follower)
    if said:
        time.sleep(3)
        os.write(leader, said.encode())
    parts = []
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            part = os.read(leader, 65536)
        except OSError:
            break
        if not part:
            break
        parts.append(part)
    running.wait()
    os.close(leader)
    return b"".join(parts).decode()


@pytest.mark.long
def test_colour_only_where_wanted_and_a_narrow_terminal_is_respected(recorded: Program, place: Path) -> None:
    coloured = on_a_terminal(place, 100, {}, "merge")
    assert "\x1b[" in coloured
    plain = on_a_terminal(place, 100, {"NO_COLOR": "1"}, "merge")
    assert not re.search(r"\x1b\[[\d;]*3[0-9;]*m|\x1b\[38", plain)
    narrow = on_a_terminal(place, 50, {"NO_COLOR": "1"}, "history")
    assert max(map(len, plainly(narrow).split("\n"))) <= 50


MONTH = """
[[event]]
name = "our wipe"
kind = "wipe"
when = "daily 19:00"
scopes = ["map", "players", "extension-data"]
[[event]]
name = "nightly"
kind = "snapshot"
when = "daily 04:00"
"""


def test_tables_fit_eighty_columns_and_lose_nothing(recorded: Program, place: Path) -> None:
    recorded("snapshot", "--note", "before the long evening of the great tide")
    keep = place / "gannet-rock.keep" / "keep.toml"
    keep.write_text(keep.read_text(encoding="utf-8") + MONTH, encoding="utf-8")
    commands: list[list[str]] = [
        ["wipe", "map"],
        ["survey"],
        ["history"],
        ["thin"],
        ["merge"],
        ["calendar"],
        ["keep-toml"],
    ]
    for command in depth.some(commands, 2):
        shown = plainly(on_a_terminal(place, 80, {"NO_COLOR": "1"}, *command))
        assert max(map(len, shown.split("\n"))) <= 80, command
        assert not re.search(r"\d…|\w…\s", shown), command  # nothing is cut short
    month = plainly(on_a_terminal(place, 80, {"NO_COLOR": "1"}, "calendar")).split("Su")[-1]
    assert {signs for signs in re.findall(r"[ >]\d\d?(\w*)", month) if signs} == {"Ws"}


def plainly(shown: str) -> str:
    """What is left to be seen: a line that was begun anew was wiped before."""
    lines = re.sub(r"\x1b\[[\d;?]*[a-zA-Z]", "", shown).split("\n")
    return "\n".join(line.rstrip("\r").rpartition("\r")[2] for line in lines)


WORK = """
import subprocess, sys, time
from emberkeep.show.console import Screen
from emberkeep.show.waiting import heartbeat, typed
with heartbeat("merge"):
    time.sleep(1.2)
    Screen().line("Merged.")
    print("a line", file=sys.stderr)
    said = typed("Name? ")
    print("you said", said)
print("after")
"""


SLOW = """
import sys, time
from emberkeep.cli.main import main
from emberkeep.fs.scan import Scan
begin = Scan.__init__
Scan.__init__ = lambda *args: time.sleep(1.2) or begin(*args)
sys.exit(main(["survey"]))
"""


@pytest.mark.long
@pytest.mark.skipif(sys.platform == "win32", reason="needs a pseudo-terminal of POSIX systems")
def test_a_command_that_works_in_silence_says_so_on_a_terminal_and_nothing_on_a_pipe(
    recorded: Program, place: Path
) -> None:
    shown = in_a_terminal([sys.executable, "-c", SLOW], place, 80, {"NO_COLOR": "1"})
    assert "survey: at work for 1 s" in shown
    assert "at work" not in plainly(shown)
    variables = {**os.environ, "EMBERKEEP_KEEP": "gannet-rock.keep"}
    done = subprocess.run([sys.executable, "-c", SLOW], cwd=place, env=variables, capture_output=True, check=False)
    assert b"at work" not in done.stdout + done.stderr and b"engine" in done.stdout


@pytest.mark.skipif(sys.platform == "win32", reason="needs a pseudo-terminal of POSIX systems")
def test_silence_is_broken_within_a_second_and_leaves_no_trace_nor_disturbs_what_is_typed(tmp_path: Path) -> None:
    shown = in_a_terminal([sys.executable, "-c", WORK], tmp_path, 80, {"NO_COLOR": "1"}, said="Una\n")
    assert shown.startswith("merge: at work for 1 s ")
    assert re.search(r"\r +\rMerged\.", shown)
    assert "at work" not in shown.partition("Merged.")[2]  # while somebody is asked, nothing ticks
    assert plainly(shown).split("\n") == ["Merged.", "a line", "Name? Una", "you said Una", "after", ""]


@given(st.text("ab/- ", max_size=60), st.integers(4, 30))
def test_cells_wrap_at_slashes_and_lose_nothing(text: str, width: int) -> None:
    lines = Cell(text).wrap(Console(width=200), width)
    plain = [line.plain for line in lines]
    assert all(len(line) <= width for line in plain)
    assert "".join(plain).replace(" ", "") == text.replace(" ", "")
    for line, following in pairwise(plain):  # a word that fits is not broken
        if line and following and line[-1] not in "/-" and following[0] not in "/- ":
            word = re.split(r"[/ -]", line)[-1] + re.split(r"[/ -]", following)[0]
            assert len(word) > width or f"{line} {following[0]}".replace(" ", "") in text.replace(" ", "")


def test_control_codes_in_names_and_values_do_not_reach_the_terminal(recorded: Program, server: Path) -> None:
    (server / "mission" / "odd\x1b[31m\r.xml").write_text('<a><b id="\u009b31m">\u202e</b><b id="2"/></a>')
    (server / "keeper.properties").write_text("title=\\u001b]0;owned\\u0007\n")
    for words in (["survey"], ["diff", "defaults:4.2", "--all"], ["merge", "--details"], ["snapshot"]):
        done = calm(recorded(*words))
        assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202e]", done.out + done.err), words


def test_a_reader_that_goes_away_is_no_error(recorded: Program, place: Path) -> None:
    line = f'"{sys.executable}" -m emberkeep --keep gannet-rock.keep diff defaults:4.2 --json | head -n 1'
    done = subprocess.run(line, shell=True, cwd=place, capture_output=True, text=True, check=False)
    assert done.stdout == "{\n"
    assert done.stderr == ""


def test_an_interrupt_leaves_nothing_half_made(keeper: Program, place: Path) -> None:
    """Ctrl-C at random moments of a snapshot: exit code 130 (or it was done already), and all is sound."""
    some = random.Random(5)
    for number in range(25):
        (place / "gannet-rock" / f"ballast{number}").write_bytes(some.randbytes(2_000_000))
    command = [sys.executable, "-m", "emberkeep", "--keep", "gannet-rock.keep", "snapshot"]
    for wait in (0.35, 0.5, 0.7):
        running = subprocess.Popen(command, cwd=place, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        time.sleep(wait)
        running.send_signal(signal.SIGINT)
        _, err = running.communicate(timeout=60)
        assert running.returncode in (0, 130, -signal.SIGINT)
        if running.returncode == 130:
            assert "interrupted" in err
            assert "Traceback" not in err
        assert keeper("verify").code == 0
    assert keeper("snapshot").code == 0
    assert not list((place / "gannet-rock.keep").rglob("*.part"))


def test_a_merge_that_cannot_be_written_is_taken_back(recorded: Program, place: Path, server: Path) -> None:
    """The system refuses at each of the writing calls behind the snapshot: every file is as it was, exit code 5."""
    keep = Keep(place / "gannet-rock.keep")
    now = datetime.now(UTC)
    before = {path: state[:2] + state[3:] for path, state in tree_state(server).items()}  # folder times may change
    with closing(Store(keep.store_folder)) as store:
        answers = runs.load_answers(keep, None)
        wanted = runs.Request("4.2", "4.3")
        found = runs.merge_keep(keep, store, wanted, answers)
        take(keep, now)
        failures = 0
        for at in range(1, 400, depth.choose(17, 1)):
            faulty = FaultyIO(at, OSError(28, "No space left on device"))
            try:
                with system.use(faulty):
                    write_merge(keep, store, found, wanted, None, lambda: now)
            except RunFailed as error:
                failures += "put back" in str(error)
                assert "put back" in str(error)
            except (OSError, Refused):
                pass  # while the snapshot was being taken
            else:
                if faulty.left > 0:
                    break
                # The failing call was one that may fail, as writing the index, which is only a cache.
                tree = find(store, keep, "latest", now)
                apply.apply(restore_plan.plan(tree, server, lambda path: True), tree)
            assert {path: state[:2] + state[3:] for path, state in tree_state(server).items()} == before, at
        assert failures > depth.choose(1, 20)
    assert recorded("verify").code == 0


def test_a_file_that_changed_since_the_merge_was_worked_out_is_refused(
    recorded: Program, place: Path, server: Path
) -> None:
    keep = Keep(place / "gannet-rock.keep")
    with closing(Store(keep.store_folder)) as store:
        wanted = runs.Request("4.2", "4.3")
        found = runs.merge_keep(keep, store, wanted, runs.load_answers(keep, None))
        (server / "keeper.properties").write_text("edited meanwhile\n")
        with pytest.raises(Refused, match="changed while"):
            write_merge(keep, store, found, wanted, None, lambda: datetime.now(UTC))
    assert (server / "keeper.properties").read_text() == "edited meanwhile\n"


def test_what_a_run_plans_twice_is_merged_once_and_again_when_anything_it_goes_by_changed(
    recorded: Program, place: Path, server: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A run plans its steps before the server is stopped and when it comes to each: between the two, a server may write
    its settings, and somebody answer."""
    keep, now = Keep(place / "gannet-rock.keep"), datetime.now(UTC)
    wanted = runs.Request("4.2", "4.3", ("mission/economy/reaches.xml", "mission/economy/squalls.xml"))
    merges, merge_keep = [], runs.merge_keep

    def counted(*given: Any, **named: Any) -> Merge:
        merges.append(merge_keep(*given, **named))
        return merges[-1]

    monkeypatch.setattr(runs, "merge_keep", counted)
    squalls, reaches = (server / "mission" / "economy" / name for name in ("squalls.xml", "reaches.xml"))
    order = orders.Order("more", "**/squalls.xml", "x", "2", "lasts", accepted=date(2026, 1, 1))
    with closing(Store(keep.store_folder)) as store:
        step = runs.MergeStep(wanted, ())

        def planned(one: runs.MergeStep) -> Plan:
            context = RunContext(keep, store, Journal(keep.folder), Run(0, "merge", now), lambda: now)
            return one.plan(context)

        assert planned(step) == planned(step)
        assert len(merges) == 1
        changes: list[Callable[[], object]] = [
            lambda: squalls.write_bytes(squalls.read_bytes().replace(b"2", b"3")),
            lambda: squalls.chmod(0o400),
            reaches.unlink,
            lambda: save(keep.answers_file, [Answer("mission/economy/squalls.xml", "squall", "worth", "mine")]),
            lambda: orders.save(keep.orders_file, [order]),
            lambda: recorded("defaults", "record", "4.4", "releases/skerrylight-4.4.tar.gz"),
        ]
        for number, change in enumerate(changes):
            change()
            before = len(merges)
            assert planned(step) == planned(runs.MergeStep(wanted, ())), number
            assert (merges[-2], len(merges)) == (merges[-1], before + 2), number


def test_a_release_archive_lines_up_with_my_folder(place: Path) -> None:
    words = ["merge", "--old-defaults", "releases/skerrylight-4.2", "--new-defaults", "releases/skerrylight-4.3.zip"]
    done = run_program(*words, "--mine", "gannet-rock", "--json", cwd=place)
    assert done.code == 1
    assert "mission/economy/stores.xml" in {item["file"] for item in done.json["questions"]}


def test_survey_after_a_snapshot_of_a_part_says_nothing_of_the_rest(keeper: Program) -> None:
    keeper("snapshot", "--only", "economy")
    done = keeper("survey")
    assert "since" not in done.out
    assert keeper("survey", "--json").json["survey"]["since"] is None


@pytest.mark.long
@pytest.mark.skipif(os.name == "nt", reason="pseudo-terminals")
def test_on_a_terminal_the_same_is_said_in_colour_and_nothing_fails(keeper: Program, place: Path) -> None:
    """Standard output and error are terminals here, with their progress bars and colours, as they are for an admin."""
    import pty

    keeper("snapshot", "--note", "first")
    (place / "gannet-rock" / "una-notes.txt").write_text("gone")
    for words in (
        ("snapshot",),
        ("history",),
        ("history", "--growth"),
        ("verify",),
        ("thin",),
        ("restore", "first"),
        ("restore", "first", "--go"),
        ("undo",),
        ("undo", "--go"),
        ("export", "first", "out.tar"),
        ("defaults", "record", "4.2", "releases/skerrylight-4.2"),
        ("survey",),
        ("restore", "nowhere"),
    ):
        master, slave = pty.openpty()
        command = [sys.executable, "-m", "emberkeep", "--keep", "gannet-rock.keep", *words]
        environment = {**os.environ, "TERM": "xterm-256color", "COLUMNS": "120"}
        process = subprocess.Popen(command, cwd=place, stdin=slave, stdout=slave, stderr=slave, env=environment)
        os.close(slave)
        shown = b""
        with suppress(OSError):  # the terminal closes with the program
            while chunk := os.read(master, 65536):
                shown += chunk
        os.close(master)
        process.wait()
        assert b"a fault in Ember Keep itself" not in shown, shown.decode()
        assert b"Traceback" not in shown
        assert process.returncode in (0, 1, 2)
        assert b"\x1b[" in shown
