"""Drills: a snapshot proven by starting its server on it, elsewhere, with the stand-in engine really running."""

from __future__ import annotations

import os
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from emberkeep.keep.keep import Keep
from emberkeep.operations.flows import drill, due
from emberkeep.operations.record.drills import Drills
from emberkeep.operations.record.due import DueRecords
from emberkeep.operations.record.facts import DONE
from emberkeep.operations.record.journal import Journal
from emberkeep.process.signs import running_signs
from tests.conftest import Rock, tree_state

pytestmark = pytest.mark.skipif(os.name == "nt", reason="the launch script is one for sh")


def test_a_snapshot_is_proven_and_nothing_else_is_touched(rock: Rock) -> None:
    assert "no snapshot was ever tried" not in rock.run("survey").out  # there is none yet
    assert rock.run("drill").code == 3
    assert rock.run("snapshot", "--note", "as it was").code == 0
    assert "no snapshot was ever tried" in rock.run("survey").out
    (rock.server / "outer-skerries" / "chart" / "strip.0.0.sea").write_bytes(b"griefed since")
    before = tree_state(rock.server)
    done = rock.run("drill", "--json")
    assert done.code == 0, (done.out, done.err)
    told = done.json["drill"]
    assert (done.json["proven"], told["snapshot"], told["missed"], told["seen"]["state"]) == (True, "1", [], "ready")
    assert "4 tiles in outer-skerries" in told["measured"]
    assert tree_state(rock.server) == before
    assert not (rock.keep / drill.FOLDER).exists()
    assert running_signs(rock.server) == ()
    (record,) = Drills(rock.keep).all()
    assert (record.snapshot, record.proven) == ("1", True)
    assert "proven" in rock.run("history").out
    assert "last drill: snapshot 1" in rock.run("survey").out
    assert Journal(rock.keep).runs() == []


@pytest.mark.long
def test_while_players_are_on_another_server_is_started_and_only_that_one_ends(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    assert rock.run("start", "--go").code == 0
    pid = (rock.server / "log" / "skerrylight.pid").read_text()
    assert rock.run("drill").code == 0
    assert (rock.server / "log" / "skerrylight.pid").read_text() == pid
    assert "lamp doused" not in (rock.server / "log" / "latest.log").read_text()
    assert rock.run("watch").code == 0
    assert rock.run("stop", "--now", "--go").code == 0


def _without_its_save(server: Path) -> None:
    next(server.glob("outer-skerries/anchorage.*")).write_bytes(b"no save at all")


def _without_its_program(server: Path) -> None:
    (server / "skerrylight-4.2.0.bin").unlink()


@pytest.mark.long
@pytest.mark.parametrize("change", [_without_its_save, _without_its_program])
def test_a_snapshot_on_which_no_server_starts_is_not_proven(rock: Rock, change: object) -> None:
    assert rock.run("snapshot", "--note", "good").code == 0
    change(rock.server)  # type: ignore[operator]
    assert rock.run("snapshot", "--note", "bad").code == 0
    keep = rock.keep / "keep.toml"
    keep.write_text(keep.read_text().replace("[start]", '[start]\nlimit = "20 s"\nsilent = "20 s"', 1))
    done = rock.run("drill")
    assert (done.code, "Not proven." in done.out) == (5, True), done
    assert "not proven" in rock.run("history").out
    assert "not proven" in rock.run("survey").out
    assert not (rock.keep / drill.FOLDER).exists()
    assert rock.run("drill", "good").code == 0


def test_a_landmark_that_the_start_itself_loses_is_named(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    script = rock.server / "cast-off.sh"
    text = script.read_text()
    lines = text.splitlines(keepends=True)
    script.write_text("".join([lines[0], "rm -f outer-skerries/chart/strip.0.0.sea\n", *lines[1:]]))
    assert rock.run("snapshot", "--note", "greedy").code == 0
    done = rock.run("drill")
    assert (done.code, "tiles in outer-skerries missing: 4 before, 3 now" in done.out) == (5, True), done


def test_what_cannot_be_tried_is_refused_and_leaves_nothing(rock: Rock) -> None:
    assert rock.run("snapshot", "--only", "settings").code == 0
    assert "there is no snapshot of the whole folder" in rock.run("drill").err
    assert "no server starts on that" in rock.run("drill", "1").err
    assert rock.run("snapshot").code == 0
    assert rock.run("drill", "2", "--any").code == 2
    (rock.place / "full").mkdir()
    (rock.place / "full" / "x").write_text("x")
    assert rock.run("drill", "--in", "full").code == 3
    assert (rock.place / "full" / "x").exists()
    (rock.server / "mission" / "kept").symlink_to(rock.place / "full")
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    keep.write_text(text[: text.index("\n[start]")] + text[text.index("\n[", text.index("\n[start]") + 2) :])
    assert "does not tell how the server is started" in rock.run("drill").err


@pytest.mark.skipif(os.name == "nt" or os.geteuid() != 0, reason="only root starts a server as somebody else")
def test_a_copy_is_not_made_where_the_servers_own_user_may_not_go(rock: Rock) -> None:
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    keep.write_text(re.sub(r"(?m)^\[start\].*$", '[start]\nuser = "nobody"', text))
    assert 'user = "nobody"' in keep.read_text()
    assert rock.run("snapshot").code == 0
    (rock.place / "private").mkdir(mode=0o700)
    done = rock.run("drill", "--in", rock.place / "private" / "look")
    assert (done.code, "runs as nobody, who may not enter" in done.err) == (3, True), done
    assert not list((rock.place / "private").iterdir())


def test_the_mark_of_a_running_server_does_not_go_along(rock: Rock) -> None:
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    keep.write_text(
        re.sub(r"(?m)^(\[roles\].*)$", r'\1\nscratch = ["keeper.mark"]', re.sub(r"(?m)^scratch = .*$", "", text))
    )
    for mark in ("keeper.mark", "keeper.pid"):
        (rock.server / mark).write_text("1073741824\n")
    assert rock.run("snapshot").code == 0
    done = rock.run("drill", "--in", "look", "--leave")
    assert done.code == 0, (done.out, done.err)
    copy = rock.place / "look" / rock.server.name
    assert (copy / "keeper.properties").exists()
    assert not (copy / "keeper.mark").exists()
    assert not (copy / "keeper.pid").exists()


def test_what_a_drill_left_that_was_killed_is_cleared_by_the_next(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    left = rock.keep / drill.FOLDER / rock.server.name
    left.mkdir(parents=True)
    (left / "half.bin").write_bytes(b"x")
    assert rock.run("drill").code == 0
    assert not left.exists()


def test_the_copy_stays_where_it_is_asked_for(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    done = rock.run("drill", "--in", "look", "--leave")
    assert done.code == 0, done.err
    assert f"The copy stays in {rock.place / 'look'}" in done.out
    assert (rock.place / "look" / rock.server.name / "keeper.properties").exists()


def test_a_drill_comes_round_by_itself(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    with (rock.keep / "keep.toml").open("a") as keep:
        keep.write('\n[[event]]\nname = "proof"\nkind = "drill"\nwhich = "any"\nwhen = "every day 04:00"\n')
        keep.write('missed = "late"\nwithin = "30 days"\n')
    assert "proof" in rock.run("calendar").out
    keep = Keep(rock.keep)
    (event,) = [one for one in keep.config.calendar.events if one.name == "proof"]
    known = datetime.now(UTC) - timedelta(days=1)
    DueRecords(rock.keep).acquire("proof", due.signature(event), "known since", DONE, known)
    done = rock.run("due", "--go", "--json")
    assert done.code == 0, (done.out, done.err)
    (came,) = [one for one in done.json["due"] if one["event"] == "proof"]
    assert came["state"] == "done"
    assert came["words"].startswith("snapshot 1: ready after")
    assert len(Drills(rock.keep).all()) == 1
