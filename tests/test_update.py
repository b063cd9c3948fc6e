"""Update day with the stand-in engine really running: all of it, its refusals, its faults, its way back."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import time
import zipfile
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from emberkeep.keep.keep import Keep
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows import due, rehearsal
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.record.starts import Starts
from emberkeep.store.store import Store
from tests import depth
from tests.conftest import WORD, Rock, free_ports, killed_at_each, tree_state
from tests.helpers import new_keep
from tests.program import run_program

pytestmark = pytest.mark.skipif(os.name == "nt", reason="the launch script is one for sh")


def without_log(state: dict[str, tuple[object, ...]]) -> dict[str, tuple[object, ...]]:
    return {path: told for path, told in state.items() if not path.startswith("log") and path != "."}


def test_a_whole_update_day_and_back(rock: Rock) -> None:
    assert rock.run("start", "--go").code == 0
    before_stop = rock.run("snapshot", "--while-running")
    assert before_stop.code == 0
    done = rock.update("--go", "--json", "--report", "day.html")
    assert done.code == 1, done.err  # open questions
    report = done.json["report"]
    assert report["missed"] == []
    assert report["watched"]["version"] == "4.3.0"
    assert {item["name"] for item in report["watched"]["loaded"]} == {"gullpost", "tarline"}
    assert "told the players" in done.err
    assert (rock.server / "skerrylight-4.3.0.bin").exists()
    assert not (rock.server / "skerrylight-4.2.0.bin").exists()
    assert [path.name for path in rock.server.glob("outer-skerries/anchorage.*")] == ["anchorage.4096.770421.18.isle"]
    keeper = json.loads(next((rock.server / "outer-skerries" / "keepers").iterdir()).read_text())
    assert "satchel" in keeper
    assert keeper["salt"] == 0
    assert "4.3.0" in (rock.server / "cast-off.sh").read_text()
    assert b"by keelson" in (rock.server / "lib" / "libgale.so").read_bytes()[:200]
    assert "Every one is where it was" in (rock.place / "day.html").read_text()
    assert "lamp lit" in rock.run("watch").out
    assert rock.run("undo", "--go").code == 3  # it runs
    assert rock.run("stop", "--now", "--go").code == 0
    label = report["before"]
    assert rock.run("undo", "--go").code == 0
    assert rock.run("diff", label, "live").code == 0
    assert "4.3" not in rock.run("defaults", "list").out
    assert [path.name for path in rock.server.glob("outer-skerries/anchorage.*")] == ["anchorage.4096.770421.17.isle"]
    assert rock.run("start", "--go").code == 0  # and the old one starts again


def test_what_a_release_dropped_leaves_no_empty_folder(rock: Rock) -> None:
    for place in (rock.server, rock.place / "releases" / "skerrylight-4.2"):
        for path in ("lib/gust/libgust.so", "mission/lights/buoys.xml"):
            (place / path).parent.mkdir()
            (place / path).write_bytes(b"\x7fELF" if path.endswith("so") else b"<b><x n='1'/><x n='2'/></b>\n")
    rock.run("defaults", "drop", "4.2")
    assert rock.run("defaults", "record", "4.2", "releases/skerrylight-4.2").code == 0
    before = tree_state(rock.server)
    done = rock.update("--no-start", "--go")
    assert done.code in (0, 1), done.err
    assert not (rock.server / "lib" / "gust").exists()
    assert not (rock.server / "mission" / "lights").exists()
    assert rock.run("undo", "--go").code == 0
    assert tree_state(rock.server) == before


@pytest.mark.long
@pytest.mark.parametrize("strict", [False, True])
def test_a_log_that_tells_another_version_than_the_one_that_was_to_run(rock: Rock, strict: bool) -> None:
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    assert "\nversion = 'Skerrylight (" in text  # as if the program that runs told another number
    keep.write_text(re.sub(r"\nversion = 'Skerrylight .*", r"\nversion = 'save format (\\d+)'", text))
    before = tree_state(rock.server)
    done = rock.update("--go", *(["--strict"] if strict else []))
    told = "4.3 was to run, and the log (log/latest.log) says 18"
    if strict:
        assert (done.code, told in done.err) == (5, True), done
        assert without_log(tree_state(rock.server)) == without_log(before)
    else:
        assert (done.code, told in done.out) == (1, True), done
        assert rock.run("stop", "--now", "--go").code == 0


@pytest.mark.long
@pytest.mark.parametrize("target", depth.some(["gone", "there"], 1))
def test_after_going_back_by_a_restore_the_same_update_goes_on(rock: Rock, target: str) -> None:
    """The journal tells of an update, and the saves are no longer what that made of them."""
    state = tree_state(rock.server)
    assert rock.run("snapshot", "--note", "as it was").code == 0
    assert rock.update("--no-start", "--go").code == 1  # questions wait
    assert rock.run("restore", "as it was", "--only", "settings", "--go").code == 0
    again = rock.update("--no-start")
    assert (again.code, "4.3" in again.err) == (3, True), again.err  # settings alone are no saves
    assert rock.run("restore", "as it was", "--go").code == 0
    assert tree_state(rock.server) == state
    if target == "gone":
        (rock.keep / "store" / "snapshots" / "000001.manifest").unlink()
    seen = rock.update("--no-start", "--go")
    assert seen.code == 1, seen.err
    assert (rock.server / "outer-skerries" / "anchorage.4096.770421.18.isle").exists()


def test_a_preview_changes_nothing_and_names_every_file(rock: Rock) -> None:
    before = tree_state(rock.place)
    done = rock.update("--json")
    assert done.code == 1, done.err
    after = {path: told for path, told in tree_state(rock.place).items() if "journal" not in path}
    assert {path: told for path, told in before.items() if "journal" not in path} == after
    changes = {(item["what"], item["path"]) for step in done.json["preview"]["steps"] for item in step["changes"]}
    for what, path in (
        ("write", "skerrylight-4.3.0.bin"),
        ("delete", "skerrylight-4.2.0.bin"),
        ("replace", "mission/economy/stores.xml"),
        ("rename", "outer-skerries/anchorage.4096.770421.18.isle"),
        ("replace", "outer-skerries/logbook.5.db"),
    ):
        assert (what, path) in changes
    rock.update("--go", "--no-start")
    changed = {path for path, told in tree_state(rock.server).items() if told != without(before, rock).get(path)}
    gone = without(before, rock).keys() - tree_state(rock.server).keys()
    files = {path for path in changed | gone if (rock.server / path).is_file() or path in gone}
    assert files == {path for _, path in changes} | {"outer-skerries/anchorage.4096.770421.17.isle"}


def without(state: dict[str, tuple[object, ...]], rock: Rock) -> dict[str, tuple[object, ...]]:
    start = f"{rock.server.name}/"
    return {path.removeprefix(start): told for path, told in state.items() if path.startswith(start)}


@pytest.mark.parametrize(
    ("faults", "told"),
    [
        ("crash", "the keel is cracked"),
        pytest.param("crash-late", "the keel cracked", marks=pytest.mark.long),
        pytest.param("port-taken", "is taken: Address already in use", marks=pytest.mark.long),
        pytest.param("refuse-save", "the save is damaged", marks=pytest.mark.long),
        ("tear=outer-skerries/chart/strip.0.0.sea", "the great lantern"),
        pytest.param("lose=outer-skerries/chart/strip.-1.-1.sea", "tiles", marks=pytest.mark.long),
    ],
)
def test_an_update_that_goes_wrong_is_taken_back_to_the_byte(rock: Rock, faults: str, told: str) -> None:
    before = tree_state(rock.server)
    done = rock.update("--go", SKERRYLIGHT_FAULTS=faults)
    assert done.code == 5, done.err
    assert told in done.err
    assert "all was put back as it was" in done.err
    assert tree_state(rock.server) == before
    assert not (rock.server / "log" / "skerrylight.pid").exists()
    assert Journal(rock.keep).waiting() is None
    assert "4.3" not in rock.run("defaults", "list").out


def quick(rock: Rock, **limits: str) -> None:
    """Give a start less time."""
    path = rock.keep / "keep.toml"
    told = "".join(f'{key} = "{value}"\n' for key, value in limits.items())
    path.write_text(path.read_text().replace("[start]", f"[start]\n{told}#", 1).replace("#    #", "#"))


@pytest.mark.parametrize(
    ("faults", "limit", "told"),
    [
        ("never-ready", {"limit": "2 s"}, "was not ready"),
        pytest.param("hang stubborn", {"silent": "3 s"}, "hangs", marks=pytest.mark.long),
    ],
)
def test_a_server_that_never_becomes_ready_is_ended_and_all_put_back(
    rock: Rock, faults: str, limit: dict[str, str], told: str
) -> None:
    quick(rock, **limit)
    before = tree_state(rock.server)
    done = rock.update("--go", SKERRYLIGHT_FAULTS=faults)
    assert done.code == 5, done.err
    assert told in done.err
    assert tree_state(rock.server) == before


@pytest.mark.long
def test_after_going_back_it_is_told_that_the_server_is_stopped(rock: Rock) -> None:
    assert rock.run("start", "--go").code == 0
    done = rock.update("--go", SKERRYLIGHT_FAULTS="crash")
    assert done.code == 5
    assert "the server is stopped, 'emberkeep start --go' starts it" in done.err
    assert rock.run("start", "--go").code == 0


@pytest.mark.long
def test_stay_leaves_a_failed_update_for_a_look(rock: Rock) -> None:
    before = tree_state(rock.server)
    done = rock.update("--go", "--stay", SKERRYLIGHT_FAULTS="crash")
    assert done.code == 5
    assert "stays as it is" in done.err
    assert (rock.server / "skerrylight-4.3.0.bin").exists()
    waiting = rock.run("snapshot")
    assert waiting.code == 0  # looking is allowed, changing is not
    assert rock.update("--go").code == 3
    left = rock.run("resume")
    assert left.code == 0, left.err
    assert "2 steps left to do" in left.out
    finished = rock.run("resume", "--go")
    assert finished.code == 0, finished.err
    assert rock.run("watch").code == 0
    rock.run("stop", "--now", "--go")
    assert rock.run("undo", "--go").code == 0
    assert tree_state(rock.server) == before


def test_failures_of_extensions_are_told_and_the_update_stands(rock: Rock) -> None:
    done = rock.update("--go", "--json", SKERRYLIGHT_FAULTS="fail=gullpost")
    assert done.code == 1
    assert any("gullpost 1.5.0 could not be rigged" in line for line in done.json["report"]["waits"])
    assert rock.run("watch", "--once").code == 1


@pytest.mark.long
def test_an_extension_without_a_new_build_is_asked_about_and_the_choice_is_remembered(rock: Rock) -> None:
    (rock.place / "releases" / "extensions-4.3" / "gullpost-1.5.0.ext").unlink()
    shown = rock.update("--json")
    assert any("gullpost 1.4.2 has no new build" in line for line in shown.json["preview"]["steps"][0]["warnings"])
    assert rock.update("--without-build", "gullpost=stop").code == 3
    assert rock.update("--without-build", "gullpost=sink").code == 2
    done = rock.update("--without-build", "gullpost=remove", "--no-start", "--go")
    assert done.code == 1, done.err
    assert not list(rock.server.glob("extensions/gullpost-*"))
    assert (rock.server / "extensions" / "gullpost" / "routes.json").exists()
    assert 'gullpost = "remove"' in (rock.keep / "keep.toml").read_text()


def test_a_build_for_another_engine_is_warned_of(rock: Rock) -> None:
    builds = rock.place / "releases" / "extensions-4.3"
    shutil.copyfile(rock.server / "extensions" / "gullpost-1.4.2.ext", builds / "gullpost-1.5.0.ext")
    warned = rock.update("--json").json["preview"]["steps"][0]["warnings"]
    assert warned == ["the new build gullpost-1.5.0.ext was built for 4.2, not for 4.3"]


def test_an_extension_that_the_log_does_not_tell_of_is_named(rock: Rock) -> None:
    log = rock.keep / "keep.toml"
    log.write_text(log.read_text().replace("loaded = 'extension", "loaded = 'extension (?=tarline)"))
    done = rock.run("start", "--go")
    assert done.code == 1, done.out
    assert "gullpost is installed, and the log does not tell of it" in done.out


@pytest.mark.long
def test_the_overlay_tells_how_many_files_it_replaces_and_how_many_last_time(rock: Rock) -> None:
    first = rock.update("--no-start")
    assert "2 files, 1 of them over the engine's own" in first.out
    assert "last time" not in first.out
    assert rock.update("--no-start", "--go").code == 1
    again = rock.run("update", "releases/skerrylight-4.4.tar.gz", "--to", "4.4", "--no-start")
    assert "2 files, 1 of them over the engine's own (1 last time)" in again.out


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("releases/skerrylight-4.2", "--to", "4.1"), "newer than 4.1"),
        (("releases/skerrylight-4.2", "--to", "4.3"), "is release 4.2.0, not 4.3"),
        (("releases/skerrylight-4.4.tar.gz", "--to", "4.5"), "no recipe that leads from 4.4"),
        (("releases/recipes", "--to", "4.3"), "has the role engine"),
    ],
)
def test_what_cannot_go_well_is_refused_before_anything_is_done(rock: Rock, words: tuple[str, ...], told: str) -> None:
    before = tree_state(rock.server)
    done = rock.run("update", *words, "--go")
    assert done.code == 3, done.err
    assert told in done.err
    assert tree_state(rock.server) == before
    assert Journal(rock.keep).runs() == []  # not even begun: nobody was warned, nothing stopped


def test_several_versions_behind_means_several_recipes_in_order(rock: Rock) -> None:
    done = rock.run("update", "releases/skerrylight-4.4.tar.gz", "--to", "4.4", "--no-start", "--json")
    titles = [step["title"] for step in done.json["preview"]["steps"] if step["name"] == "migrate"]
    assert [title.split(":")[0] for title in titles] == ["migrate 4.2 → 4.3"] * 4 + ["migrate 4.3 → 4.4"]
    (rock.keep / "recipes" / "4.3-to-4.4.toml").unlink()
    refused = rock.run("update", "releases/skerrylight-4.4.tar.gz", "--to", "4.4")
    assert refused.code == 3
    assert "from 4.3 towards 4.4 (there are 4.2 → 4.3)" in refused.err


def test_a_rehearsal_leaves_the_live_folder_alone_and_tells_how_long_it_takes(rock: Rock) -> None:
    before = tree_state(rock.server)
    kept = {path: told for path, told in tree_state(rock.keep, times=False).items() if "journal" not in path}
    done = rock.update("--rehearse", "again")
    assert done.code == 1, done.err
    assert "The real one will take about" in done.out
    assert "Every landmark is where it was" in done.out
    assert tree_state(rock.server) == before
    assert {p: told for p, told in tree_state(rock.keep, times=False).items() if "journal" not in p} == kept
    copy = rock.place / "again" / rock.server.name
    assert (copy / "skerrylight-4.3.0.bin").exists()
    assert not (copy / "log" / "skerrylight.pid").exists()  # it was stopped again
    assert rock.run("verify").code == 0
    assert rock.update("--rehearse", "again").code == 3  # not empty


@pytest.mark.long
def test_a_rehearsal_of_a_server_that_knows_its_own_full_path(rock: Rock) -> None:
    """In its script, in a setting, in a link, in the command that starts it."""
    script = rock.server / "cast-off.sh"
    text = script.read_text()
    script.write_text(text.replace("./skerrylight-4.2.0.bin", f"'{rock.server}/skerrylight-4.2.0.bin'", 1))
    assert script.read_text() != text
    with (rock.server / "keeper.properties").open("a") as settings:
        settings.write(f"chart-room={rock.server}/outer-skerries\nelsewhere={rock.server}-old/x\n")
    (rock.server / "way").symlink_to(rock.server / "outer-skerries")
    keep = rock.keep / "keep.toml"
    keep.write_text(keep.read_text().replace('command = ["./cast-off.sh"]', f'command = ["{rock.server}/cast-off.sh"]'))
    before = tree_state(rock.server)
    done = rock.update("--rehearse", "again")
    assert done.code == 1, done.err
    assert "3 files named the live folder by its full path" in done.err
    assert "is not as it was before the rehearsal" not in done.out
    assert tree_state(rock.server) == before
    copy = rock.place / "again" / rock.server.name
    assert f"'{copy}/skerrylight-4.3.0.bin'" in (copy / "cast-off.sh").read_text()
    told = (copy / "keeper.properties").read_text()
    assert f"chart-room={copy}/outer-skerries\n" in told
    assert f"elsewhere={rock.server}-old/x\n" in told
    assert os.readlink(copy / "way") == f"{copy}/outer-skerries"


def test_a_rehearsal_never_speaks_to_the_live_server_and_takes_a_port_by_itself(rock: Rock) -> None:
    """keep.toml tells no other ports: the launch script's is set, and the console that is left would be the live one."""
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    (port,) = free_ports(1)
    at = text.index("[rehearse]")
    text = text[:at] + text[text.index("}", text.index("}", at) + 1) + 1 :]
    script = rock.server / "cast-off.sh"
    script.write_text(script.read_text().replace("SEED=770421", f"SEED=770421\nPORT={port}"))
    keep.write_text(text.replace("[launch]", '[launch]\nport = "PORT"', 1))
    found = Keep(rock.keep, WORD)
    assert [told[:2] for told in rehearsal.ports(found)] == [("cast-off.sh", "PORT")]
    assert int(rehearsal.ports(found)[0][2]) >= port + 1000
    with closing(Store(found.store_folder)) as store:
        copy = rehearsal.prepare(found, store, rock.place / "again")
    told = copy.config
    assert told.running.console is None
    assert told.running.process.address == ""
    assert told.running.stop.terminate is not None
    assert told.updating.set_for_rehearsal == rehearsal.ports(found)


def test_an_update_needs_no_recipe_where_the_release_reads_the_saves_as_they_are(rock: Rock) -> None:
    shutil.rmtree(rock.keep / "recipes")
    refused = rock.update("--no-start")
    assert (refused.code, "there is no recipe that leads from 4.2 towards 4.3" in refused.err) == (3, True), refused
    with zipfile.ZipFile(rock.place / "releases" / "skerrylight-4.3.zip") as archive:
        archive.extractall(rock.place / "new")
    told = rock.place / "new" / "skerrylight-4.3" / "RELEASE"
    told.write_text(told.read_text().replace("18", "17"))
    done = rock.run("update", "new", "--to", "4.3", "--no-start")
    assert done.code in (0, 1), done.err
    assert "no recipe is needed: the saves carry the number 17, which 4.3 reads" in done.out


def test_a_version_pattern_that_fits_nothing_is_to_be_mended(rock: Rock) -> None:
    keep = rock.keep / "keep.toml"
    text = keep.read_text()
    at = text.index("[versions.engine]")
    end = text.index("\n\n", at)
    keep.write_text(text[:at] + "[versions.engine]\npattern = 'Nothing (\\d+)'\nin = [\"RELEASE\"]" + text[end:])
    done = rock.update("--no-start")
    assert "mend [versions.engine] in keep.toml: pattern Nothing (\\d+) fits nothing in RELEASE" in done.err, done.err


def test_a_rehearsal_is_refused_where_a_link_leads_what_is_saved_elsewhere(rock: Rock) -> None:
    shutil.move(rock.server / "tidepool", rock.place / "other disk")
    (rock.server / "tidepool").symlink_to(rock.place / "other disk")
    done = rock.update("--rehearse", "again")
    assert (done.code, "which the copy would write to" in done.err) == (3, True), done
    assert not (rock.place / "again").exists()


@pytest.mark.long
def test_a_rehearsal_that_changes_the_live_folder_is_told(rock: Rock) -> None:
    """By a way that nobody can see beforehand: the path is put together by the script."""
    script = rock.server / "cast-off.sh"
    head, tail = str(rock.server)[:-3], str(rock.server)[-3:]
    lines = script.read_text().splitlines(keepends=True)
    script.write_text("".join([lines[0], f'HERE="{head}""{tail}"\ntouch "$HERE/left-behind"\n', *lines[1:]]))
    done = rock.update("--rehearse", "again")
    assert (done.code, "is not as it was before the rehearsal" in done.out) == (1, True), done


@pytest.mark.long
def test_a_rehearsal_while_players_are_on(rock: Rock) -> None:
    assert rock.run("snapshot").code == 0
    assert rock.run("start", "--go").code == 0
    pid = (rock.server / "log" / "skerrylight.pid").read_text()
    done = rock.update("--rehearse", "again")
    assert done.code == 1, done.err
    assert (rock.server / "log" / "skerrylight.pid").read_text() == pid
    assert "lamp doused" not in (rock.server / "log" / "latest.log").read_text()
    assert rock.run("watch").code == 0


@pytest.mark.long
def test_killed_at_any_moment_an_update_is_taken_back_or_finished(rock: Rock) -> None:
    """At moments spread over the whole update, the engine's start included."""
    line = ["update", "releases/skerrylight-4.3.zip", "--to", "4.3", "--extensions", "releases/extensions-4.3", "--go"]
    names = ("snapshot", "engine", "merge", "migrate", "start", "landmarks")
    reached = killed_at_each(rock, line, names, lambda: None)
    assert len(reached) >= 4, reached


@pytest.mark.long
def test_one_shot_settings_are_set_back_after_the_first_good_start(rock: Rock) -> None:
    settings = rock.server / "keeper.properties"
    done = rock.run("start", "--once", "keeper.properties:storms=wild", "--go")
    assert done.code == 0, done.err
    assert "storms=gentle" in settings.read_text()
    assert rock.run("stop", "--now", "--go").code == 0  # the engine writes what it had read when it exits …
    assert "storms=gentle" in settings.read_text()  # … and it is put right once more
    assert Starts(rock.keep).temporary() == []
    assert rock.run("start", "--once", "keeper.properties:no-such=1", "--go").code == 3
    assert rock.run("start", "--once", "nonsense", "--go").code == 2


def test_the_learned_checks_are_made_again_before_a_start(rock: Rock) -> None:
    assert rock.run("start").code == 0
    path = rock.server / "mission" / "economy" / "stores.xml"
    path.write_text(path.read_text().replace("<least>12</least>", "<least>9999</least>", 1))
    shown = rock.run("start")
    assert shown.code == 1, shown.out
    assert re.search(r"! mission/economy/stores.xml:\d+: .*least", shown.out)
    done = rock.run("start", "--go", "--json")
    assert done.code == 1
    assert len(done.json["checks"]) == 1
    rock.run("stop", "--now", "--go")
    assert rock.run("start", "--go", "--no-checks").code == 0


@pytest.mark.long
def test_a_start_is_refused_while_the_server_runs_and_a_stop_when_it_will_not_end(rock: Rock) -> None:
    assert rock.run("start", "--go", SKERRYLIGHT_FAULTS="stubborn").code == 0
    again = rock.run("start", "--go")
    assert again.code == 3
    assert "running already" in again.err
    path = rock.keep / "keep.toml"
    path.write_text(path.read_text().replace('limit = "20 s"', 'limit = "1 s"'))
    stuck = rock.run("stop", "--now", "--go")
    assert stuck.code == 5
    assert "did not stop within 1 second" in stuck.err
    path.write_text(path.read_text().replace('still = "0.2 s"', 'still = "0.2 s"\nterminate = "1 s"\nkill = "5 s"'))
    forced = rock.run("stop", "--now", "--go", "--json")
    assert forced.code == 0, forced.err
    assert forced.json["stopped"]["forced"] == "killed"


def test_a_port_that_is_taken_and_a_script_that_is_not_there(rock: Rock) -> None:
    other = subprocess.Popen(["./cast-off.sh"], cwd=rock.server, env={**os.environ, **WORD}, stdout=subprocess.DEVNULL)
    try:
        time.sleep(0.6)
        assert rock.run("start", "--go").code == 3
    finally:
        other.terminate()
        other.wait()
    script = rock.server / "cast-off.sh"
    script.unlink()
    gone = rock.run("start", "--go")
    assert gone.code == 3
    assert "cannot be started" in gone.err


def test_history_tells_the_steps_and_how_long_each_took(rock: Rock) -> None:
    rock.update("--go", "--no-start")
    told = rock.run("history", "--run", "1")
    assert told.code == 0, told.err
    assert re.search(r"put the engine 4\.3 in place +\d+\.\d s", told.out)
    assert rock.run("history", "--run", "7").code == 2


@pytest.mark.long
def test_passwords_reach_neither_journal_nor_report_nor_output(rock: Rock) -> None:
    secret = "do not write this down 4711"
    rock.run("start", "--go", ROCK_CONSOLE=secret)
    done = rock.update("--go", "--report", "day.html", "--json", ROCK_CONSOLE=secret)
    assert done.code == 1, done.err
    assert secret not in done.out + done.err + (rock.place / "day.html").read_text()
    for path in rock.keep.rglob("*"):
        if path.is_file():
            assert secret.encode() not in path.read_bytes(), path


def test_without_a_keep_that_knows_how_it_is_started(tmp_path: Path) -> None:
    (tmp_path / "server").mkdir()
    (tmp_path / "server" / "notes.txt").write_text("nothing here")
    assert run_program("adopt", "server", cwd=tmp_path).code == 0
    for words in (("start",), ("start", "--go"), ("say", "hello")):
        done = run_program("--keep", "server.keep", *words, cwd=tmp_path)
        assert done.code == 3, done.err
        assert "keep.toml" in done.err
    assert run_program("--keep", "server.keep", "stop", cwd=tmp_path).code == 0


@pytest.mark.long
def test_the_admins_own_updater_brings_the_engine(rock: Rock) -> None:
    shutil.unpack_archive(rock.place / "releases" / "skerrylight-4.3.zip", rock.place)
    new = rock.place / "skerrylight-4.3"
    tool = rock.place / "fetch.sh"
    tool.write_text(
        f"#!/bin/sh\nset -e\ncp {new}/RELEASE {new}/*.bin .\ncp {new}/lib/* lib/\nchmod +x *.bin\nrm skerrylight-4.2.0.bin\n"
        "echo fetched\n"
    )
    tool.chmod(0o755)
    told = rock.keep / "keep.toml"
    told.write_text(told.read_text().replace("[update]\n", f'[update]\ncommand = ["{tool}"]\n'))
    before = tree_state(rock.server)
    assert rock.run("update", "--to", "4.3", "--go").code == 2  # its defaults are not recorded
    assert rock.run("defaults", "record", "4.3", "releases/skerrylight-4.3.zip").code == 0
    done = rock.run("update", "--to", "4.3", "--extensions", "releases/extensions-4.3", "--go", "--json")
    assert done.code == 1, done.err
    assert done.json["report"]["watched"]["version"] == "4.3.0"
    assert rock.run("stop", "--now", "--go").code == 0
    assert rock.run("undo", "--go").code == 0
    assert tree_state(rock.server) == before
    tool.write_text("#!/bin/sh\nrm RELEASE\nexit 3\n")
    failed = rock.run("update", "--to", "4.3", "--go")
    assert failed.code == 5
    assert "ended with 3" in failed.err
    assert tree_state(rock.server) == before


@pytest.mark.parametrize(("presses", "state"), [("y", "taken back"), ("n", "begun"), ("", "taken back")])
@pytest.mark.long
def test_ctrl_c_asks_whether_to_go_back_and_the_second_one_goes_back(rock: Rock, presses: str, state: str) -> None:
    pexpect = pytest.importorskip("pexpect")
    before = tree_state(rock.server)
    line = ["--keep", str(rock.keep), "update", "releases/skerrylight-4.3.zip", "--to", "4.3", "--go"]
    environment = {**os.environ, **WORD, "SKERRYLIGHT_FAULTS": "never-ready"}
    child = pexpect.spawn(
        sys.executable,
        ["-m", "emberkeep", *line],
        cwd=str(rock.place),
        env=environment,
        timeout=60,
        dimensions=(40, 160),
    )
    for _ in range(2):  # tarline and gullpost have no new build
        child.expect("keep, remove or stop")
        child.sendline("keep")
    child.expect("start the server and follow")
    time.sleep(1)
    child.sendintr()
    child.expect("Go back to what stood there before")
    child.sendline(presses) if presses else child.sendintr()
    child.expect(pexpect.EOF)
    child.wait()
    assert Journal(rock.keep).runs()[-1].state == state, child.before
    assert 'tarline = "keep"' in (rock.keep / "keep.toml").read_text()
    if state == "begun":
        assert rock.run("stop", "--now", "--go").code == 0
        assert rock.run("undo", "--go").code == 0
    assert tree_state(rock.server) == before


def test_what_a_release_ships_is_brought_whatever_its_role_or_told(tmp_path: Path) -> None:
    keep = new_keep(tmp_path, '[roles]\nextensions = ["extras/**"]\nworld = ["moor/**"]\n')
    for version in ("1", "2"):
        for path in ("extras/reed.lay", "extras/notes.txt", "moor/first.sav", "moor/second.sav"):
            file = tmp_path / version / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(f"of {version}\n")
    shutil.copytree(tmp_path / "1", keep.server, dirs_exist_ok=True)
    (tmp_path / "2" / "moor" / "second.sav").write_text("of 1\n")
    (keep.server / "moor" / "first.sav").write_text("played\n")
    (keep.server / "extras" / "notes.txt").write_text("of 1\nmine\n")
    words = ("--keep", str(keep.folder))
    for version in ("1", "2"):
        assert run_program(*words, "defaults", "record", version, str(tmp_path / version), cwd=tmp_path).code == 0
    done = run_program(*words, "merge", "--from", "1", "--to", "2", "--go", cwd=tmp_path)
    assert (keep.server / "extras" / "reed.lay").read_text() == "of 2\n", done
    assert (keep.server / "moor" / "first.sav").read_text() == "played\n"
    assert "it is left as it is here: moor/first.sav (world)" in done.out, done.out
    assert "second.sav" not in done.out
    told = run_program(*words, "merge", "--from", "1", "--to", "2", "--json", cwd=tmp_path).json
    assert told["left_alone"] == [{"file": "moor/first.sav", "role": "world"}], told


def test_an_update_that_the_calendar_tells_is_carried_out_when_it_is_due(rock: Rock) -> None:
    told = rock.keep / "keep.toml"
    event = (
        'name = "patch"\nkind = "update"\nwhen = "daily 04:00"\nsource = "../releases/skerrylight-4.3.zip"\nto = "4.3"'
    )
    told.write_text(f"{told.read_text()}\n[[event]]\n{event}\n")
    keep = Keep(rock.keep)
    now = datetime(2031, 6, 1, 3, tzinfo=UTC)

    def context(store: Store, asked: Run) -> RunContext:
        return RunContext(keep, store, Journal(keep.folder), asked, lambda: now, {**os.environ, **WORD})

    hands = due.Hands(context, lambda: now, WORD)
    assert due.do(keep, hands) == []
    now += timedelta(hours=1, minutes=1)
    (came,) = due.do(keep, hands)
    assert (came.event, came.state) == ("patch", due.OPEN), came  # questions wait
    assert "questions" in came.words
    assert "extension tarline 0.9.1 could not be rigged" in came.words
    assert (rock.server / "skerrylight-4.3.0.bin").exists()
    assert "version 4.3.0" in rock.run("watch").out
    assert due.do(keep, hands) == []
    assert rock.run("stop", "--now", "--go").code == 0


# --- the admin's own updater ------------------------------------------------------------------------------------------


@pytest.fixture
def fetching(rock: Rock) -> Rock:
    """A keep whose own updater brings the release, and does no more."""
    with zipfile.ZipFile(rock.place / "releases" / "skerrylight-4.3.zip") as release:
        release.extractall(rock.place / "mirror")
    assert rock.run("defaults", "record", "4.3", "releases/skerrylight-4.3.zip").code == 0
    (program,) = (rock.place / "mirror").rglob("skerrylight-4.3.0.bin")
    script = rock.place / "fetch.sh"
    script.write_text(
        f"#!/bin/sh\nset -e\necho fetching\ncd {rock.server}\ncp -a {program} {program.parent}/lib {program.parent}/RELEASE .\nrm skerrylight-4.2.0.bin\n"
    )
    script.chmod(0o755)
    told = rock.keep / "keep.toml"
    told.write_text(told.read_text().replace("[update]\n", '[update]\ncommand = ["../fetch.sh"]\n'))
    return rock


@pytest.mark.long
@pytest.mark.skipif(os.name == "nt", reason="a shell script")
def test_the_admins_own_updater_takes_the_place_of_the_engine_step(fetching: Rock) -> None:
    before = tree_state(fetching.server)
    words = ("update", "--to", "4.3", "--no-start")
    shown = fetching.run(*words)
    assert "run ../fetch.sh" in shown.out, shown
    assert "only known when it has run" in shown.out
    assert tree_state(fetching.server) == before
    done = fetching.run(*words, "--go", "--json")
    assert done.code == 1, done.err  # open questions
    assert (fetching.server / "skerrylight-4.3.0.bin").exists()
    assert not (fetching.server / "skerrylight-4.2.0.bin").exists()
    assert "4.3.0" in (fetching.server / "cast-off.sh").read_text()
    assert (fetching.server / "outer-skerries" / "anchorage.4096.770421.18.isle").exists(), "the saves were migrated"
    assert fetching.run("undo", "--go").code == 0
    assert tree_state(fetching.server) == before


@pytest.mark.long
@pytest.mark.skipif(os.name == "nt", reason="a shell script")
def test_a_launch_script_of_the_admins_names_the_program_that_the_updater_brought(fetching: Rock) -> None:
    script = fetching.server / "cast-off.sh"
    script.write_text(script.read_text().replace("ENGINE=./skerry", 'ENGINE="$PWD"/skerry'))
    done = fetching.run("update", "--to", "4.3", "--no-start", "--go")
    assert done.code == 1, done.err  # open questions, of this line too
    assert 'ENGINE="$PWD"/skerrylight-4.3.0.bin' in script.read_text()


@pytest.mark.long
@pytest.mark.skipif(os.name == "nt", reason="a shell script")
def test_an_updater_that_fails_is_told_and_all_it_did_is_taken_back(fetching: Rock) -> None:
    before = tree_state(fetching.server)
    script = fetching.place / "fetch.sh"
    whole = script.read_text()
    for text, told in (
        (f"{whole}echo the mirror is shut\nexit 7\n", "../fetch.sh ended with 7: the mirror is shut"),
        (whole.replace("/RELEASE .", "/RELEASE /dev/null"), "ended with 1"),
        (re.sub(r"\S+/RELEASE ", "", whole), "the engine reads 17"),  # it brought but a part of the release
    ):
        script.write_text(text)
        done = fetching.run("update", "--to", "4.3", "--no-start", "--go")
        assert (done.code, told in done.err) == (5, True), done
        assert "all was put back as it was" in done.err
        assert tree_state(fetching.server) == before


def test_without_a_release_and_an_updater_there_is_nothing_to_update_to(rock: Rock) -> None:
    done = rock.run("update", "--to", "4.3")
    assert (done.code, "a SOURCE is wanted" in done.err) == (2, True), done
