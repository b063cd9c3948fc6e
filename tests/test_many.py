"""One command on every keep of a caretaker."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path

import psutil
import pytest

from emberkeep.cli import all_keeps, main
from emberkeep.show import many
from emberkeep.store.store import Store
from tests.program import run_program


@pytest.fixture
def keeps(built: Path, tmp_path: Path) -> Path:
    """Six servers with their keeps; one of them is not there any more, one keep.toml is broken."""
    folder = tmp_path / "keeps"
    for name in ("a", "b", "c", "d", "e", "f"):
        shutil.copytree(built / "gannet-rock", folder / name, symlinks=True)
    assert run_program("adopt", "a", cwd=folder).code == 0
    for name in ("b", "c", "d", "e", "f"):
        shutil.copytree(folder / "a.keep", folder / f"{name}.keep")
        told = folder / f"{name}.keep" / "keep.toml"
        told.write_text(told.read_text().replace('"../a"', f'"../{name}"'))
    shutil.rmtree(folder / "b")
    (folder / "e.keep" / "keep.toml").write_text("format = 1\n[servre]\n")
    return folder


def test_every_keep_is_dealt_with_whatever_becomes_of_the_others(keeps: Path, tmp_path: Path) -> None:
    done = run_program("snapshot", "--note", "all together", "--all", "keeps", cwd=tmp_path)
    assert done.code == 2
    lines = {line.split()[0]: line for line in done.out.splitlines() if ".keep" in line}
    assert list(lines) == [f"{name}.keep" for name in "abcdef"]
    assert all("snapshot 1, " in lines[f"{name}.keep"] for name in "acdf")
    assert "the server folder" in lines["b.keep"]
    assert "lacks the key 'name' (and 2 more faults)" in lines["e.keep"]
    assert "6 keeps: 4 done, 2 wrong." in done.out
    for name in "acdf":
        store = Store(keeps / f"{name}.keep" / "store")
        assert store.about("1").note == "all together"
        store.close()


def test_the_same_facts_as_json_and_the_worst_exit_code(keeps: Path, tmp_path: Path) -> None:
    assert run_program("snapshot", "--all", "keeps", cwd=tmp_path).code == 2
    pack = next((keeps / "d.keep" / "store" / "packs").glob("*.pack"))
    data = bytearray(pack.read_bytes())
    data[len(data) // 2] ^= 1
    pack.write_bytes(bytes(data))
    told = run_program("verify", "--all=keeps", "--json", cwd=tmp_path)
    assert told.code == 4
    assert {one["keep"][0]: one["exit"] for one in told.json["keeps"]} == {
        "a": 0,
        "b": 0,
        "c": 0,
        "d": 4,
        "e": 2,
        "f": 0,
    }
    damaged = next(one for one in told.json["keeps"] if one["keep"] == "d.keep")
    assert damaged["answer"]["verification"]["files"]
    shown = run_program("survey", "--offline", "--all", "keeps", cwd=tmp_path)
    assert shown.out.count("Gannet Rock 4.2.0, not running") == 4
    assert run_program("due", "--all", "keeps", "--go", cwd=tmp_path).out.count("nothing is due") == 5


def test_a_line_for_each_keep_as_soon_as_it_is_done(keeps: Path, tmp_path: Path) -> None:
    done = run_program("snapshot", "--all", "keeps", "--jobs", "2", "--json-lines", cwd=tmp_path)
    found = [json.loads(line) for line in done.out.splitlines()]
    assert sorted(one["keep"] for one in found) == [f"{name}.keep" for name in "abcdef"]
    assert done.code == max(one["exit"] for one in found) == 2
    assert all(one["answer"]["command"] == "snapshot" for one in found)


@pytest.mark.long
def test_a_process_that_dies_takes_no_other_keep_with_it(
    keeps: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A worker is killed in the middle; what it and the others had in hand is done again."""
    killed = tmp_path / "killed"
    plain = all_keeps._in_pool

    def with_a_death(
        program: all_keeps.Program, some: Sequence[Path], words: Sequence[str], jobs: int, *, own: bool
    ) -> Iterator[all_keeps.One]:
        for one in plain(program, some, words, jobs, own=own):
            yield one
            if not killed.exists():
                killed.touch()
                for child in psutil.Process().children():
                    with suppress(psutil.Error):  # another test's child that has ended
                        if "spawn_main" in " ".join(child.cmdline()):
                            child.kill()

    monkeypatch.setattr(all_keeps, "_in_pool", with_a_death)
    done = run_program("survey", "--offline", "--all", "keeps", "--jobs", "1", cwd=tmp_path)
    assert killed.exists()
    assert done.out.count("Gannet Rock 4.2.0, not running") == 4
    assert "6 keeps: " in done.out


@pytest.mark.skipif(os.name == "nt" or os.geteuid() != 0, reason="only root can give rights up")
def test_a_keep_whose_owner_does_the_work_leaves_root_its_rights(keeps: Path, tmp_path: Path) -> None:
    told = keeps / "a.keep" / "keep.toml"
    told.write_text(told.read_text().replace("[server]\n", '[server]\nuser = "nobody"\n'))
    done = run_program("survey", "--offline", "--all", "keeps", "--jobs", "1", cwd=tmp_path)
    lines = {line.split()[0]: line for line in done.out.splitlines() if ".keep" in line}
    assert all("Gannet Rock 4.2.0" in lines[f"{name}.keep"] for name in "cdf")


def test_what_cannot_be_meant(tmp_path: Path, keeps: Path) -> None:
    (tmp_path / "none").mkdir()
    for words, told in (
        (("survey", "--all", "none"), "there is no keep in"),
        (("survey", "--all", "nowhere"), "is no folder"),
        (("--keep", "keeps/a.keep", "survey", "--all", "keeps"), "either --keep or --all"),
        (("survey", "--all", "keeps", "--jobs", "0"), "--jobs wants at least 1"),
        (("--keep", "keeps/a.keep", "survey", "--json-lines"), "--json-lines goes with --all"),
        (("--keep", "keeps/a.keep", "survey", "--jobs", "2"), "--jobs goes with --all"),
    ):
        done = run_program(*words, cwd=tmp_path)
        assert (done.code, told in done.err) == (2, True), words
    assert run_program("history", "--all", "keeps", cwd=tmp_path).code == 2


def test_every_command_for_all_keeps_has_words_for_its_row() -> None:
    for_all = {name for name in main.COMMANDS if "--all KEEPS_FOLDER" in main.command_parser(name).format_help()}
    assert for_all == set(many._SUMMARIES)
