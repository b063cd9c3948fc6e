"""What could stop a run, found beforehand: by ``check``, and by every run before anybody is told."""

from __future__ import annotations

import json
import os
import re
import shutil
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest

from emberkeep.detection.adopt import adopt
from emberkeep.detection.doubts import answered, doubts
from emberkeep.errors import Refused
from emberkeep.keep.config import Config, check_text
from emberkeep.keep.tables.process import Console
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps.snapshot import unconfirmed
from emberkeep.process.console import require_reached
from tests import depth
from tests.conftest import KEEP, Rock, free_ports, tree_state
from tests.program import Program, Ran, run_program


def _edit(place: Path, *pairs: tuple[str, str]) -> None:
    path = place / KEEP / "keep.toml"
    text = path.read_text()
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new)
    path.write_text(text)


@pytest.fixture
def ready(keeper: Program, place: Path) -> Program:
    """The sample with nothing in the way of a run."""
    path = place / KEEP / "keep.toml"
    text = path.read_text()
    text = "".join(line for line in text.splitlines(keepends=True) if not line.startswith("# ?"))
    path.write_text(text)
    return keeper


def _obstacles(program: Callable[..., Ran]) -> dict[str, list[str]]:
    done = program("check", "--json")
    told = json.loads(done.out)
    found: dict[str, list[str]] = {}
    for item in told["check"]["obstacles"]:
        found.setdefault(item["area"], []).append(item["fault"]["what"])
    assert done.code == (1 if found else 0)
    assert not found.keys() & set(told["check"]["clear"])
    return found


def test_nothing_is_in_the_way_of_the_sample_and_nothing_is_touched(ready: Program, place: Path) -> None:
    before = tree_state(place)
    done = ready("check")
    assert (done.code, done.err) == (0, "")
    assert "all right: runs and questions, start, console, log, versions, roles, world, wipe scopes" in done.out
    assert tree_state(place) == before


def test_a_disk_without_room_is_told(ready: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(shutil, "disk_usage", lambda path: SimpleNamespace(free=1 << 18))
    assert any("MB are free" in what for what in _obstacles(ready)["disk"])


Change = Callable[[Path], None]


def _may_not_be_executed(place: Path) -> None:
    (place / "gannet-rock" / "cast-off.sh").chmod(0o644)


def _is_gone(place: Path) -> None:
    (place / "gannet-rock" / "cast-off.sh").unlink()


def _no_ready_line(place: Path) -> None:
    text = (place / KEEP / "keep.toml").read_text()
    lines = [line for line in text.splitlines(keepends=True) if not line.startswith("ready = ")]
    assert len(lines) < len(text.splitlines())
    (place / KEEP / "keep.toml").write_text("".join(lines))


def _ready_line_never_seen(place: Path) -> None:
    log = place / "gannet-rock" / "log" / "latest.log"
    log.write_text(log.read_text().replace("lamp lit", "lamp out"))


def _secret_not_set(place: Path) -> None:
    with (place / KEEP / "keep.toml").open("a") as handle:
        handle.write('\n[console]\nkind = "line"\naddress = "127.0.0.1:9"\nsecret = { env = "NOT_SET_ANYWHERE" }\n')


def _role_of_nothing(place: Path) -> None:
    _edit(place, ('"outer-skerries/**",', '"outer-skerries/**", "elsewhere/**",'))


def _pointer_elsewhere(place: Path) -> None:
    path = place / "gannet-rock" / "keeper.properties"
    path.write_text(path.read_text().replace("outer-skerries", "inner-skerries"))


def _version_moved(place: Path) -> None:
    shutil.move(place / "gannet-rock" / "extensions" / "tarline-0.9.1.ext", place / "tarline.ext")


def _scope_of_settings(place: Path) -> None:
    _edit(place, ('files = ["players"]', 'files = ["keeper.properties"]'))


def _broken_recipe(place: Path) -> None:
    (place / KEEP / "recipes").mkdir()
    (place / KEEP / "recipes" / "next.toml").write_text("from = 4.2\n")


def _from_tomorrow(place: Path) -> None:
    path = place / "gannet-rock" / "roll.json"
    os.utime(path, (4e9, 4e9))


def _source_gone(place: Path) -> None:
    with (place / KEEP / "keep.toml").open("a") as handle:
        handle.write('\n[[event]]\nname = "next"\nkind = "update"\nwhen = "last Tuesday 19:00"\n')
        handle.write('source = "../releases/none.zip"\nto = "9.9"\n')


def _vault_without_its_word(place: Path) -> None:
    with (place / KEEP / "keep.toml").open("a") as handle:
        handle.write('\n[[vault]]\nname = "attic"\ntarget = "attic"\nsecret = { env = "NOT_SET_ANYWHERE" }\n')


def _question(place: Path) -> None:
    with (place / KEEP / "keep.toml").open("a") as handle:
        handle.write("\n# ? is this so?\n")


@pytest.mark.parametrize(
    ("area", "change", "words"),
    [
        ("start", _may_not_be_executed, "may not be executed"),
        ("start", _is_gone, "there is no ./cast-off.sh"),
        ("start", _no_ready_line, "does not say which log line tells that the server is ready"),
        ("log", _ready_line_never_seen, "no line of it says that the server is ready"),
        ("console", _secret_not_set, "NOT_SET_ANYWHERE is not set"),
        ("roles", _role_of_nothing, "names elsewhere/**, and nothing there fits"),
        ("world", _pointer_elsewhere, "says inner-skerries"),
        ("versions", _version_moved, "[versions.tarline] finds no version"),
        ("wipe scopes", _scope_of_settings, "made by hand"),
        ("recipes", _broken_recipe, ""),
        ("clock", _from_tomorrow, "1 of its files are newer than now"),
        ("events", _source_gone, "takes ../releases/none.zip, which is not there"),
        ("vaults", _vault_without_its_word, "NOT_SET_ANYWHERE is not set"),
        ("runs and questions", _question, "is this so?"),
    ],
)
def test_each_thing_in_the_way_is_told_with_what_to_do(
    ready: Program, place: Path, area: str, change: Change, words: str
) -> None:
    change(place)
    found = _obstacles(ready)
    assert area in found, found
    assert any(words in told for told in found[area]), found[area]


def test_recipes_have_to_lead_to_every_release_that_is_recorded(rock: Rock) -> None:
    assert "recipes" not in _obstacles(rock.run)
    with zipfile.ZipFile(rock.place / "releases" / "skerrylight-4.3.zip") as archive:
        archive.extractall(rock.place / "new")
    assert rock.run("defaults", "record", "9.9", rock.place / "new" / "skerrylight-4.3").code == 0
    assert any("towards 9.9" in what for what in _obstacles(rock.run)["recipes"])


def test_answers_that_cannot_be_read_and_open_questions_are_told(rock: Rock) -> None:
    assert "merging" not in _obstacles(rock.run)
    assert rock.run("defaults", "record", "4.3", "releases/skerrylight-4.3.zip").code == 0
    assert rock.run("merge", "--to", "4.3", "--go").code == 1
    assert any("questions of the last merge are open" in what for what in _obstacles(rock.run)["merging"])
    (rock.keep / "answers.toml").write_text("[[question]]\nfile = 3\n")
    assert "merging" in _obstacles(rock.run)


def test_a_running_servers_console_is_asked_to_let_us_in_and_nothing_is_said(rock: Rock) -> None:
    assert rock.run("start", "--go").code == 0
    log = rock.server / "log" / "latest.log"
    before = log.read_text()
    assert "console" not in _obstacles(rock.run)
    assert log.read_text() == before
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    keep.write_text(re.sub(r'address = "127.0.0.1:\d+"', f'address = "127.0.0.1:{free_ports(1)[0]}"', text, count=1))
    assert any("cannot be reached" in what for what in _obstacles(rock.run)["console"])
    keep.write_text(text)
    assert rock.run("stop", "--now", "--go").code == 0


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="named pipes are of POSIX systems")
def test_a_console_on_a_pipe_that_nobody_reads_is_told(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "in")
    told = Console("fifo", path=str(tmp_path / "in"), phrases={"stop": "quit"})
    with pytest.raises(Refused, match="cannot be reached"):
        require_reached(told, {})
    reader = os.open(tmp_path / "in", os.O_RDONLY | os.O_NONBLOCK)
    require_reached(told, {})
    assert os.read(reader, 10) == b""
    os.close(reader)


# --- what was only guessed --------------------------------------------------------


@pytest.fixture
def two_worlds(tmp_path: Path) -> Path:
    """A server with two worlds of which nothing tells which one is played, adopted."""
    for world, when in (("north", 1e9), ("south", 1.1e9)):
        for part in ("a", "b"):
            path = tmp_path / "isle" / "worlds" / world / f"{part}.bin"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(bytes(range(256)) * 80)
            os.utime(path, (when, when))
    (tmp_path / "isle" / "notes of ours.txt").write_text("ask about the lamp\n")
    assert run_program("adopt", "isle", cwd=tmp_path).code == 0
    return tmp_path


def test_nothing_is_deleted_on_the_strength_of_a_guess(two_worlds: Path) -> None:
    isle = two_worlds / "isle"
    before = tree_state(isle)
    assert "rests on a guess that is not confirmed" in run_program("wipe", "map", "--no-start", cwd=isle).out
    done = run_program("wipe", "map", "--no-start", "--go", cwd=isle)
    assert (done.code, "adopt --ask" in done.err) == (3, True)
    assert tree_state(isle) == before


def test_a_run_rests_on_the_roles_that_open_questions_are_about() -> None:
    asked = (
        "is isles/skua the world? 3 saved files",
        "is data/*.bin players? 4 files",
        "is 3.1 the version of the engine? 'Thing 3.1' in server.log",
        "which version is the engine? no file name tells it",
    )
    config = Config("x", "server", "UTC", questions=asked)
    assert config.guesses == (("world", asked[0]), ("players", asked[1]))
    assert [fault.what for fault in unconfirmed(config, ("players",))] == [
        f"this rests on a guess that is not confirmed: {asked[1]}"
    ]


@pytest.mark.skipif(sys.platform == "win32", reason="pexpect drives pseudo-terminals of POSIX systems")
def test_a_guess_is_asked_and_the_answer_is_what_is_wiped(two_worlds: Path) -> None:
    import pexpect

    isle = two_worlds / "isle"
    assert run_program("adopt", "--ask", cwd=isle).code == 3, "nobody to ask"
    child = pexpect.spawn(
        sys.executable, ["-m", "emberkeep", "adopt", "--ask"], cwd=str(isle), encoding="utf-8", timeout=60, dimensions=(40, 160)
    )  # fmt: skip
    child.expect("1 of 2: is .* the world")
    child.expect("worlds/south: 2 files, 0.0 MB, last written 2004-11-09")
    child.expect("(\\d)  worlds/south")
    number = child.match[1]
    child.expect("not now: ")
    child.sendline("9")
    child.expect("not now: ")
    child.sendline(number)
    child.expect("2 of 2: which version")
    child.expect("1 of 2 questions answered")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 1
    assert run_program("wipe", "map", "--no-start", cwd=isle).code in (0, 1)
    assert run_program("wipe", "map", "--no-start", "--go", cwd=isle).code in (0, 1)
    assert [path.name for path in sorted((isle / "worlds").rglob("*.bin"))] == ["a.bin", "b.bin"]
    assert (isle / "worlds" / "north" / "a.bin").exists()


def test_every_answer_gives_a_keep_that_passes_our_check(two_worlds: Path) -> None:
    path = two_worlds / "isle.keep" / "keep.toml"
    text = path.read_text()
    asked = [one for one in doubts(adopt(two_worlds / "isle")) if one.choices]
    assert asked
    for doubt in asked:
        assert doubt.text in text
        for choice in doubt.choices:
            told = answered(text, doubt, choice)
            assert doubt.text not in told
            check_text(told, path)


# --- every run ----------------------------------------------------------------------


@pytest.mark.parametrize(
    "line", depth.some([("wipe", "map"), ("update", "releases/skerrylight-4.4.tar.gz", "--to", "4.4"), ("start",)], 2)
)
def test_a_run_refuses_before_anybody_is_told_or_anything_stopped(rock: Rock, line: tuple[str, ...]) -> None:
    """The start command may not be executed: found before the warning, not after the clearing."""
    begin = rock.server / "begin.sh"
    begin.write_text("#!/bin/sh\nexec ./cast-off.sh\n")
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    assert 'command = ["./cast-off.sh"]' in text
    keep.write_text(text.replace('command = ["./cast-off.sh"]', 'command = ["./begin.sh"]'))
    begin.chmod(0o644)
    before, runs = tree_state(rock.server), Journal(rock.keep).runs()
    shown = rock.run(*line)
    assert "begin.sh may not be executed" in shown.out + shown.err
    done = rock.run(*line, "--go")
    assert (done.code, "begin.sh may not be executed" in done.err) == (3, True), done
    assert tree_state(rock.server) == before
    assert Journal(rock.keep).runs() == runs
    begin.chmod(0o755)
    assert "may not be executed" not in rock.run(*line).out
