"""The demo: what a newcomer sees first."""

from __future__ import annotations

import os
import re
import shlex
import signal
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import free_ports, tree_state
from tests.program import Ran, run_process, run_program

README = Path(__file__).parent.parent / "README.md"


@pytest.fixture(scope="module")
def walked(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Ran]:
    """The demo, run once."""
    place = tmp_path_factory.mktemp("walked")
    return place, run_process("demo", "rock", "--size", "village", cwd=place)


@pytest.mark.long
def test_the_demo_of_databases_steps_one_on_and_back(tmp_path: Path) -> None:
    done = run_process("demo", "rock", "--size", "village", "--databases", "--full", cwd=tmp_path)
    assert done.code == 0, done.out[-2000:] + done.err
    assert "Traceback" not in done.out + done.err
    ran = re.findall(r"^\$ emberkeep (\w+)", done.out, re.MULTILINE)
    wanted = "adopt survey snapshot migrate migrate diff defaults defaults merge merge undo undo"
    assert " ".join(ran) == wanted
    assert "row[good=hardtack] @worth  was 3, yours 6, new 4" in done.out
    assert "byte for byte" in done.out


@pytest.mark.long
def test_the_demo_walks_through_a_whole_update_day(walked: tuple[Path, Ran]) -> None:
    place, done = walked
    assert done.code == 0, done.out[-2000:] + done.err
    assert "Traceback" not in done.out + done.err
    ran = re.findall(r"^\$ emberkeep (\w+)", done.out, re.MULTILINE)
    story = "adopt survey start check snapshot drill defaults diff orders merge update stop verify restore"
    assert set(ran) == set(story.split())
    assert "Every landmark is where it was." in done.out
    assert "the world was converted" in done.out
    assert "lamp doused" in (place / "rock" / "gannet-rock" / "log" / "latest.log").read_text()
    assert not (place / "rock" / "gannet-rock" / "log" / "skerrylight.pid").exists()
    prints = re.findall(r"sha256 ([0-9a-f]{64})", done.out)
    assert len(prints) == 2
    assert prints[0] == prints[1]
    assert "5 questions wait for you" in done.out
    assert "All sound" in done.out
    assert (place / "rock" / "gannet-rock.keep" / "keep.toml").is_file()


@pytest.mark.long
def test_the_demo_can_be_read_and_keeps_all_that_it_left_out(walked: tuple[Path, Ran]) -> None:
    place, done = walked
    lines = done.out.splitlines()
    assert len(lines) <= 150
    assert max(map(len, lines)) <= 170
    outputs = sorted((place / "rock" / "output").iterdir())
    ran = re.findall(r"^\$ emberkeep (\w+)", done.out, re.MULTILINE)
    assert [path.name for path in outputs] == [f"{at:02}-{name}.txt" for at, name in enumerate(ran, 1)]
    for path in outputs:
        whole = iter(path.read_text().splitlines())
        said = done.out.split("\n$ emberkeep ")[int(path.name[:2])].split("\n\n")[0].splitlines()[1:]
        said = [line.removesuffix("…") for line in said if not re.match(r"\(|  (before|after|the) |===", line)]
        assert said, path.name
        for line in said:  # each as it stands in the whole output, in its order
            assert any(one.startswith(line) for one in whole), (path.name, line)


@pytest.mark.long
def test_the_whole_demo_wipes_and_takes_it_back(tmp_path: Path) -> None:
    done = run_process("demo", "rock", "--size", "village", "--full", cwd=tmp_path)
    assert done.code == 0, done.out[-2000:] + done.err
    ran = re.findall(r"^\$ emberkeep (\w+)", done.out, re.MULTILINE)
    assert {"history", "calendar", "wipe", "undo"} <= set(ran)
    assert "--rehearse" in done.out and "--player" in done.out
    assert done.out.count("  the same") == 2
    assert not (tmp_path / "rock" / "output").exists()


@pytest.mark.long
def test_the_demo_waits_for_enter(tmp_path: Path) -> None:
    """With no more lines to read it goes on to its end."""
    done = run_process("demo", "rock", "--size", "cove", "--step", cwd=tmp_path, input=b"\n")
    assert done.code == 0, done.out[-2000:] + done.err
    assert done.err.count("(Enter goes on)") == done.out.count("\n$ emberkeep ")


@pytest.mark.long
def test_what_the_demo_says_to_try_next_works(walked: tuple[Path, Ran]) -> None:
    place, done = walked
    tail = done.out.split("try:")[1].splitlines()
    lines = [line.strip() for line in tail if line.strip().startswith("emberkeep")]
    assert len(lines) >= 4
    for line in lines:
        for part in line.split("&&"):
            words = shlex.split(part)[1:]
            again = run_program(*words, cwd=place / "rock", environment={"EMBERKEEP_KEEP": "gannet-rock.keep"})
            assert again.code in (0, 1), (part, again.err)


def test_the_demo_never_touches_a_folder_that_holds_something(tmp_path: Path) -> None:
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "year-of-play").write_text("do not touch")
    before = tree_state(tmp_path)
    done = run_program("demo", "mine", cwd=tmp_path)
    assert done.code == 3
    assert tree_state(tmp_path) == before


def test_only_the_sample_as_json(tmp_path: Path) -> None:
    done = run_process("demo", "rock", "--size", "village", "--json", cwd=tmp_path)
    assert done.json["server"].endswith("gannet-rock")
    assert not (tmp_path / "rock" / "gannet-rock.keep").exists()


def test_the_readme_names_the_two_commands() -> None:
    text = README.read_text()
    assert "python3 -m pip install . && emberkeep demo\n" in text
    assert "python3 -m pip install '.[test]' && python3 -m pytest\n" in text


@pytest.mark.skipif(os.name == "nt", reason="signals")
def test_the_stand_in_engine_in_the_foreground(tmp_path: Path) -> None:
    """--serve builds the sample where there is none, runs its engine, and ends it on Ctrl-C."""
    port, console = free_ports(2)
    assert run_program("demo", "rock", "--size", "cove", "--build-only", cwd=tmp_path).code == 0
    settings = tmp_path / "rock" / "gannet-rock" / "keeper.properties"
    settings.write_text(settings.read_text().replace("=27800", f"={port}").replace("=27900", f"={console}"))
    line = [sys.executable, "-m", "emberkeep", "demo", "rock", "--serve"]
    environment = {**os.environ, "ROCK_CONSOLE": "a word"}
    process = subprocess.Popen(line, cwd=tmp_path, env=environment, stdout=subprocess.PIPE, start_new_session=True)
    assert process.stdout is not None
    while b"lamp lit" not in (told := process.stdout.readline()):
        assert told
    with socket.create_connection(("127.0.0.1", console), timeout=5) as spoken, spoken.makefile("rwb") as stream:
        for line_out, answer in (
            ("a word", "aye"),
            ("cry mind the rocks", "cried"),
            ("sing", "nay, nobody knows 'sing'"),
        ):
            stream.write(line_out.encode() + b"\n")
            stream.flush()
            assert stream.readline().decode().strip() == answer
    os.killpg(process.pid, signal.SIGINT)
    rest = process.stdout.read()
    assert process.wait() == 0
    assert b"lamp doused" in rest
