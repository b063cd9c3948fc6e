"""Adopt: right on the sample server, sensible on a server of another shape, harmless on any folder."""

from __future__ import annotations

import os
import re
import sqlite3
import subprocess
import sys
import uuid
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.demo import sample
from emberkeep.detection import logs
from emberkeep.detection.adopt import adopt
from emberkeep.detection.doubts import doubts
from emberkeep.detection.draft import draft
from emberkeep.detection.findings import Adoption, Sure
from emberkeep.detection.people import listed_people
from emberkeep.documents import edit
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import read_config
from emberkeep.keep.tables.server import UNSORTED
from tests.conftest import tree_state
from tests.helpers import moor
from tests.program import Program, run_program

TRUE_ROLES = {
    "skerrylight-4.2.0.bin": "engine",
    "RELEASE": "engine",
    "lib/libtide.so": "engine",
    "lib/libgale.so": "engine",
    "lib/keelson.rig": "engine",
    "keelson/keelson-2.1.0.lay": "engine",
    "keelson/keelson.ini": "settings",
    "cast-off.sh": "scripts",
    "keeper.properties": "settings",
    "wardens.json": "access",
    "barred-keepers.json": "access",
    "barred-addresses.json": "access",
    "welcome.json": "access",
    "roll.json": "access",
    "outer-skerries/chart/strip.0.0.sea": "world",
    "outer-skerries/anchorage.4096.770421.17.isle": "world",
    "outer-skerries/moorings.isle.lst": "world",
    "tidepool/chart/strip.0.0.sea": "world",
    "outer-skerries/logbook.5.db": "progress",
    "mission/economy/stores.xml": "economy",
    "mission/economy/squalls.xml": "economy",
    "mission/economy/reaches.xml": "economy",
    "mission/economy/prices.json": "economy",
    "mission/weather.yaml": "economy",
    "mission/harbour.toml": "economy",
    "mission/first-light.rig": "scripts",
    "extensions/gullpost-1.4.2.ext": "extensions",
    "extensions/tarline-0.9.1.ext": "extensions",
    "extensions/gullpost/settings.ini": "settings",
    "extensions/gullpost/routes.json": "extension-data",
    "extensions/tarline/settings.ini": "settings",
    "extensions/tarline/tallies.json": "extension-data",
    "extensions/tarline/shops.json": "extension-data",
    "log/latest.log": "logs",
    "latest.log": "logs",
    "una-notes.txt": UNSORTED,
    "old-chart.bak": UNSORTED,
}


def roles_of(found: Adoption) -> Roles:
    names = dict.fromkeys(item.role for item in found.roles)
    return Roles([(role, [item.glob for item in found.roles if item.role == role]) for role in names])


def test_every_file_of_the_sample_has_its_true_role(server: Path) -> None:
    roles = roles_of(adopt(server))
    for path in tree_state(server):
        if (server / path).is_dir():
            continue
        expected = TRUE_ROLES.get(path)
        if path.startswith("outer-skerries/keepers/"):
            expected = "players"
        elif "/chart/" in path:
            expected = "world"
        elif path.startswith("extensions/gullpost/perches/"):
            expected = "extension-data"
        assert roles.of(path) == expected, path


def test_what_else_is_found_on_the_sample(server: Path) -> None:
    found = adopt(server)
    assert found.name == "Gannet Rock"
    assert {item.name: item.version for item in found.versions} == {
        "engine": "4.2.0",
        "framework": "2.1.0",
        "save": "17",
        "logbook": "5",
        "gullpost": "1.4.2",
        "tarline": "0.9.1",
    }
    world = found.world
    assert (world.folder, world.pointer_file, world.pointer_key) == ("outer-skerries", "keeper.properties", "waters")
    assert (world.tiles, world.sector, world.numbered) == (
        "chart/strip.{x}.{y}.sea",
        4096,
        "anchorage.*.*.{number}.isle",
    )
    assert world.dimensions == ("tidepool",)
    rules = {record.path: record.rule for record in found.records}
    assert rules == {
        "/berth": ("name",),
        "stores/good": ("@id",),
        "stores/good/found": ("@at",),
        "squalls/group": ("@name",),
        "squalls/group/squall": ("@id",),
        "reaches/water": ("@kind",),
        "reaches/water/reach": (),
    }
    assert set(found.unsorted) == {"una-notes.txt", "old-chart.bak"}
    assert all(item.evidence for item in found.roles)


def test_new_builds_and_files_of_the_next_release_are_covered_too(server: Path) -> None:
    roles = roles_of(adopt(server))
    for path, role in {
        "skerrylight-4.3.0.bin": "engine",
        "mission/economy/tidefalls.xml": "economy",
        "extensions/gullpost-2.0.0.ext": "extensions",
        "outer-skerries/logbook.6.db": "progress",
        "outer-skerries/anchorage.4096.770421.18.isle": "world",
    }.items():
        assert roles.of(path) == role, path


def test_the_server_folder_is_only_read(place: Path, server: Path) -> None:
    before = tree_state(server)
    assert run_program("adopt", "gannet-rock", cwd=place).code == 0
    assert tree_state(server) == before
    assert sorted(path.name for path in (place / "gannet-rock.keep").iterdir()) == ["keep.schema.json", "keep.toml"]


def test_the_draft_passes_our_own_check_and_carries_its_evidence(keeper: Program, place: Path) -> None:
    text = (place / "gannet-rock.keep" / "keep.toml").read_text()
    config = read_config(place / "gannet-rock.keep" / "keep.toml")
    assert config.folder == "../gannet-rock"
    assert "# sure: 12 files named by players' ids" in text
    assert 'name = "Gannet Rock"    # likely: title in keeper.properties' in text
    assert "# likely: SQLite, players' ids in learned" in text
    assert config.world.numbered == "anchorage.*.*.{number}.isle"


def test_a_keep_that_is_there_is_not_drafted_over(keeper: Program, place: Path) -> None:
    before = (place / "gannet-rock.keep" / "keep.toml").read_bytes()
    again = run_program("adopt", "gannet-rock", cwd=place)
    assert (again.code, "is there already" in again.err) == (3, True)
    assert (place / "gannet-rock.keep" / "keep.toml").read_bytes() == before


def test_a_part_of_a_server_is_not_adopted(keeper: Program, place: Path) -> None:
    before = tree_state(place)
    done = run_program("adopt", "gannet-rock/mission", cwd=place)
    assert (done.code, "is part of the server folder" in done.err) == (3, True)
    assert tree_state(place) == before


def test_a_keep_inside_the_server_is_refused(place: Path) -> None:
    done = run_program("--keep", "gannet-rock/keep", "adopt", "gannet-rock", cwd=place)
    assert done.code == 3
    assert not (place / "gannet-rock" / "keep").exists()


def test_the_launch_script_and_its_arguments(server: Path) -> None:
    launch = adopt(server).launch
    assert launch is not None
    assert (launch.script, launch.program) == ("cast-off.sh", "skerrylight-4.2.0.bin")
    told = {item.purpose: (item.key, item.value, item.sure) for item in launch.arguments}
    assert told == {
        "seed": ("SEED", "770421", Sure.SURE),
        "size": ("SPAN", "4096", Sure.LIKELY),
        "name": ("TITLE", "Gannet Rock", Sure.SURE),
    }


def test_the_lines_of_the_log(server: Path) -> None:
    with (server / "log" / "latest.log").open("a") as handle:
        handle.write("23:11:00 extension tarline 0.9.1 could not be rigged\n23:11:02 ERROR the lamp is out\n")
    log = adopt(server).log
    assert log is not None
    examples = {line.kind: (line.example, line.sure) for line in log.lines}
    assert examples == {
        "version": ("Skerrylight 4.2.0 wakes", Sure.SURE),
        "loaded": ("extension tarline 0.9.1 rigged", Sure.SURE),
        "ready": ("lamp lit in 8 s", Sure.LIKELY),
        "failed": ("extension tarline 0.9.1 could not be rigged", Sure.LIKELY),
        "error": ("ERROR the lamp is out", Sure.LIKELY),
        "seed": ("chart seed 770421, span 4096, save format 17", Sure.SURE),
        "joined": ("Marlin0 comes ashore", Sure.LIKELY),
        "left": ("Marlin0 casts off", Sure.LIKELY),
    }
    patterns = {line.kind: re.compile(line.pattern) for line in log.lines}
    found = patterns["loaded"].search("19:00:00 extension gullpost 2.0.0 rigged")
    assert found is not None
    assert found.groupdict() == {"name": "gullpost", "version": "2.0.0"}
    ready = patterns["ready"].search("lamp lit in 113.5 s")
    assert ready is not None
    assert ready[1] == "113.5"
    assert not patterns["failed"].search("extension gullpost 2.0.0 rigged")


def test_extension_data_of_single_players_is_told_by_the_ids_in_it(server: Path) -> None:
    found = {item.glob: item for item in adopt(server).player_bound}
    keepers = {path.stem for path in (server / "outer-skerries" / "keepers").iterdir()}
    assert set(found) == {"extensions/gullpost/perches/*.json", "extensions/tarline/tallies.json"}
    assert {ident for item in found.values() for ident in item.ids} == keepers
    assert found["extensions/gullpost/perches/*.json"].files == 12
    # Definitions of the admin's hold no ids.
    config_globs = [item for item in found if "routes" in item or "shops" in item]
    assert config_globs == []


def test_a_server_of_another_shape_is_understood_too(tmp_path: Path) -> None:
    root = moor(tmp_path)
    found = adopt(root)
    roles = roles_of(found)
    expected = {
        "peatd.exe": "engine",
        "version.txt": "engine",
        "go.bat": "scripts",
        "moor.ini": "settings",
        "balance/goods.yaml": "economy",
        "balance/weather.yaml": "economy",
        "players/44110190000000003.dat": "players",
        "banned.txt": "access",
        "operators.txt": "access",
        "saves/moor.sav": "world",
        "saves/moor.1.sav": "world",
        "server.log": "logs",
    }
    assert {path: roles.of(path) for path in expected} == expected
    assert found.unsorted == ()
    assert found.name == "Long Moor"
    world = found.world
    assert (world.folder, world.pointer_file, world.pointer_key) == ("saves/moor.sav", "moor.ini", "world.save")
    assert {item.name: item.version for item in found.versions} == {"engine": "1.7.3"}
    assert {record.path: record.rule for record in found.records} == {"/goods/[]": ("code",)}
    assert found.launch is not None
    told = {item.purpose: (item.key, item.value) for item in found.launch.arguments}
    assert told == {"port": ("PORT", "27500"), "seed": ("+worldseed", "8812")}
    assert found.log is not None
    assert {line.kind: line.example for line in found.log.lines if line.example} == {
        "version": "Peat 1.7.3 up",
        "ready": "server ready, 7.2 s",
    }
    assert found.extensions == ()
    assert found.player_bound == ()


def test_the_pointer_names_a_save_and_not_one_of_its_parts(tmp_path: Path) -> None:
    root = moor(tmp_path)
    (root / "saves" / "moor.hgt").write_bytes(bytes(range(256)) * 900)
    (root / "moor.ini").write_text("[net]\nport = 27500\n[files]\nplain = saves/moor.sav\nheights = saves/moor.hgt\n")
    (root / "go.bat").write_text("@echo off\nset PLAYED=moor\npeatd.exe -config moor.ini -load %PLAYED%\n")
    assert adopt(root).world.pointer_key == "PLAYED"


def test_the_other_server_in_the_commands(tmp_path: Path) -> None:
    root = moor(tmp_path)
    assert run_program("adopt", "moor", cwd=tmp_path).code == 0
    assert run_program("snapshot", cwd=root).code == 0
    calm = run_program("survey", cwd=root)
    assert (calm.code, calm.err) == (0, "")
    assert "world pointer moor.ini: world.save = moor, is there" in calm.out
    goods = root / "balance" / "goods.yaml"
    goods.write_text(goods.read_text().replace("price: 7\n", "price: 70\n").replace("weight: 1.0\n", "weight: [1\n"))
    broken = run_program("survey", cwd=root)
    assert broken.code == 1
    assert re.search(r"! balance/goods.yaml:\d+:\d+: not valid YAML", broken.out)
    goods.write_text(goods.read_text().replace("weight: [1\n", "weight: 1.00\n"))
    done = run_program("diff", "latest", cwd=root)
    assert "~ goods/[code=good-7] price  7 → 70" in done.out
    assert "weight" not in done.out.split("Totals")[0]  # 1.0 and 1.00 are the same weight


def test_saves_that_share_a_number_and_databases_with_another(tmp_path: Path) -> None:
    root = tmp_path / "s"
    (root / "fen" / "parts").mkdir(parents=True)
    for x in range(3):
        for y in range(3):
            (root / "fen" / "parts" / f"sod.{x}.{y}.bin").write_bytes(bytes([0, x, y]) * 900)
    for name in ("ground", "crew", "weather"):
        (root / "fen" / f"{name}_221.sav").write_bytes(bytes([0, 1, 2]) * 500)
    with closing(sqlite3.connect(root / "fen" / "skills.4.db")) as made, made:
        made.execute("create table skills (who text)")
    (root / "s.ini").write_text("[a]\nworld = fen\n")
    found = adopt(root)
    assert (found.world.folder, found.world.numbered) == ("fen", "*_{number}.sav")
    versions = {item.name: (item.version, item.pattern) for item in found.versions}
    assert versions["save"][0] == "221"
    assert versions["skills"][0] == "4"
    assert re.search(versions["save"][1], "fen/crew_222.sav")


def test_a_place_in_the_name_of_a_tile_is_no_number_of_the_save(tmp_path: Path) -> None:
    root = tmp_path / "s"
    (root / "fen").mkdir(parents=True)
    for x in range(-2, 2):
        for y in range(3):
            (root / "fen" / f"sod_{x}_{y}.bin").write_bytes(bytes([0, x % 7, y]) * 900)
    (root / "s.ini").write_text("[a]\nworld = fen\nidle = 0\n")
    found = adopt(root)
    assert (found.world.folder, found.world.numbered) == ("fen", "")
    assert [item.name for item in found.versions] == []
    assert found.world.evidence.count("12 tiles") == 1
    for path in (root / "fen").iterdir():  # all of one format
        path.rename(path.with_name(path.name.replace(".bin", "_17.bin")))
    assert adopt(root).world.numbered.endswith("_{number}.bin")


def fresh(root: Path, line: str) -> Path:
    """An install on which nobody has played: a program, a launch script with this last line, data of the vendor's."""
    (root / "data" / "pics").mkdir(parents=True)
    (root / "peatd").write_bytes(b"\x7fELF" + bytes(range(256)) * 20)
    for number in range(30):
        (root / "data" / "pics" / f"sod{number}.png").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(range(256)) * 40)
        (root / "data" / f"sod{number}.txt").write_text(f"What grows on sod {number}.\n")
    (root / "start.sh").write_text(f'#!/bin/sh\ncd "$(dirname "$0")"\n{line}\n')
    for path in (root / "peatd", root / "start.sh"):
        path.chmod(0o755)
    return root


def test_pictures_are_no_saves(tmp_path: Path) -> None:
    root = fresh(tmp_path / "s", "exec ./peatd --data data")
    assert adopt(root).world.evidence == ""


def test_a_folder_in_which_hardly_anything_was_saved_is_at_most_a_guess(tmp_path: Path) -> None:
    root = fresh(tmp_path / "s", "exec ./peatd --data data")
    (root / "data" / "sods.pak").write_bytes(bytes(range(256)) * 4000)
    found = adopt(root)
    assert (found.world.folder, found.world.sure) == ("data", Sure.GUESS)
    assert any(question.startswith("is data the world?") for question in found.questions)


def test_what_a_launch_script_lets_print_is_a_log(tmp_path: Path) -> None:
    for at, line in enumerate(
        (
            "exec ./peatd > told.txt 2>&1",
            'OUT=told.txt\nexec ./peatd -x 1 >> "$OUT" < /dev/null',
            "./peatd | tee -a told.txt",
        )
    ):
        root = fresh(tmp_path / str(at), line)
        (root / "told.txt").write_text("up\nport = 1\nname = Peat\n")
        found = adopt(root)
        assert roles_of(found).of("told.txt") == "logs", line
        assert found.name == str(at)


def test_the_servers_name_is_not_somebodys(tmp_path: Path) -> None:
    root = fresh(tmp_path / "s", "exec ./peatd peat.ini")
    (root / "peat.ini").write_text("[player]\nname = Guest\n[server]\nname = Long Moor\n[net]\nport = 27500\n")
    assert adopt(root).name == "Long Moor"


def test_folders_of_the_vendors_that_a_server_names_are_nobodys(tmp_path: Path) -> None:
    root = fresh(tmp_path / "s", "exec ./peatd --world moor")
    mods = ("turf", "sedge", "bogbean", "heather", "sundew")
    for mod in mods:
        (root / "mods" / mod).mkdir(parents=True)
        (root / "mods" / mod / "code.lua").write_text(f"return '{mod}'\n")
    for path in root.rglob("*"):
        os.utime(path, (1_700_000_000, 1_700_000_000))
    (root / "moor").mkdir()
    (root / "moor" / "land.bin").write_bytes(bytes(range(256)) * 900)
    (root / "moor" / "env.txt").write_text("day = 0\nloaded = " + ",".join(mods) + "\n")
    found = adopt(root)
    assert {roles_of(found).of(f"mods/{mod}/code.lua") for mod in mods}.isdisjoint({"players", "progress"})
    assert found.world.folder in ("moor", "moor/land.bin")


def test_a_draft_is_not_contradicted_by_check_over_folders_that_are_empty(tmp_path: Path) -> None:
    root = moor(tmp_path)
    (root / "logs").mkdir()
    (root / "cache").mkdir()
    assert run_program("adopt", "moor", cwd=tmp_path).code == 0
    drafted = (tmp_path / "moor.keep" / "keep.toml").read_text()
    assert '"logs/**"' in drafted
    assert '"cache/**"' in drafted
    assert "nothing there fits" not in run_program("check", cwd=root).out


def test_what_many_say_at_once_is_no_visit() -> None:
    lines = [f"access for '{word}' is {told}" for word in ("say", "kick", "left") for told in ("given", "taken")]
    assert logs.visitors(lines, ["10:00:01 "] * 6) == set()
    assert logs.visitors(lines, [f"10:00:0{at} " for at in range(6)]) == {"say", "kick", "left"}


def test_an_address_is_no_version(tmp_path: Path) -> None:
    lines = ("World at moor", "Server listening on {}", "Peat 10.2 is up", "Somebody enters")
    for address in ("127.0.0.1:27500", "192.168.3.4", "81.2.3.4:27500", "0.0.0.0"):
        root = moor(tmp_path / address.replace(":", "-"))
        (root / "version.txt").unlink()
        (root / "server.log").write_text("".join(f"[10:00:01] {line.format(address)}\n" for line in lines))
        assert [item.version for item in adopt(root).versions if item.name == "engine"] == ["10.2"], address


def test_what_several_share_in_a_list_is_nobodys_name(tmp_path: Path) -> None:
    (tmp_path / "masters").write_text("Annika:potrzebie:*\nBertil:potrzebie:*\n")
    (tmp_path / "lone").write_text("Cilla:potrzebie:*\n")
    ids = ("44110190000000003", "44110190000000004", "44110190000000005")
    called = zip(ids, ("Annika", "Bertil", "Cilla"), strict=True)
    (tmp_path / "banned").write_text("".join(f"{ident},{name},warden\n" for ident, name in called))
    tree = FolderTree(tmp_path)
    assert listed_people(tree, ["masters", "lone"]) == {"Annika": "", "Bertil": "", "Cilla": ""}
    assert listed_people(tree, ["banned"]) == dict(zip(ids, ("Annika", "Bertil", "Cilla"), strict=True))


def test_what_is_only_guessed_is_asked(tmp_path: Path) -> None:
    (tmp_path / "s").mkdir()
    (tmp_path / "s" / "heap.bin").write_bytes(bytes(range(256)) * 400)
    (tmp_path / "s" / "server.log").write_text("Thing 3.1 here\n")
    done = run_program("adopt", "s", cwd=tmp_path)
    assert re.search(r"\? \d\. is heap.bin the world\? one save file", done.out)
    keep = tmp_path / "s.keep" / "keep.toml"
    questions = read_config(keep).questions
    assert any(question.startswith("is 3.1 the version of the engine?") for question in questions)
    asked = run_program("survey", cwd=tmp_path / "s")
    assert asked.code == 1
    assert "? is heap.bin the world?" in asked.out
    keep.write_text("".join(line for line in keep.read_text().splitlines(True) if not line.startswith("# ?")))
    assert "?" not in run_program("survey", cwd=tmp_path / "s").out


# --- refresh -----------------------------------------------------------------


def test_a_fresh_look_right_away_proposes_nothing(keeper: Program) -> None:
    done = keeper("adopt", "--refresh")
    assert (done.code, "tells all that there is to see" in done.out) == (0, True)


def test_a_fresh_look_adds_what_came_and_keeps_the_admins_writing(keeper: Program, server: Path, place: Path) -> None:
    keep = place / "gannet-rock.keep" / "keep.toml"
    text = keep.read_text()
    text = text.replace('name = "Gannet Rock"', 'name = "Our Rock"   # as we call it')
    text = text.replace("[world]", "# Una: do not touch\n[world]").replace('"una', '"una')
    text = text.replace('    "mission/**",', '    "mission/**",    # ours\n    "una-notes.txt",')
    text = re.sub(r"\n\[log\]\n.*?(?=\n\[)", "", text, flags=re.DOTALL)
    keep.write_text(text)
    (server / "relics.xml").write_text('<r><relic id="a" worth="3"/><relic id="b" worth="4"/></r>')
    (server / "extensions" / "gullpost-1.4.2.ext").rename(server / "extensions" / "gullpost-x.ext")
    shown = keeper("adopt", "--refresh")
    assert (shown.code, keep.read_text()) == (1, text)
    assert "+ roles.economy: add relics.xml" in shown.out
    assert "+ records.relics.xml: r/relic in relics.xml is told apart by @id" in shown.out
    assert "+ log.ready: as in “lamp lit in 8 s”" in shown.out
    done = keeper("adopt", "--refresh", "--go")
    assert done.code == 0
    after = keep.read_text()
    mine = [line for line in text.splitlines() if line.strip()]
    missing = [line for line in mine if line not in after.splitlines()]
    assert missing == []
    config = read_config(keep)
    assert config.name == "Our Rock"
    assert config.log.patterns["ready"].startswith("lamp lit in ")
    assert Roles(config.roles).of("relics.xml") == "economy"
    assert Roles(config.roles).of("una-notes.txt") == "economy"
    assert "# likely: repeated records" in after
    assert keeper("adopt", "--refresh").code == 0


def test_a_fresh_look_puts_right_what_points_at_nothing(keeper: Program, server: Path, place: Path) -> None:
    (server / "skerrylight-4.2.0.bin").rename(server / "skerrylight-4.3.0.bin")
    script = server / "cast-off.sh"
    script.write_text(script.read_text().replace("4.2.0", "4.3.0"))
    (server / "keelson" / "keelson.ini").unlink()
    done = keeper("adopt", "--refresh", "--go")
    assert "+ launch.program: the program is skerrylight-4.3.0.bin" in done.out
    assert "roles.settings: keelson/keelson.ini matches nothing now (left as it is)" in done.out
    assert read_config(place / "gannet-rock.keep" / "keep.toml").launch.program == "skerrylight-4.3.0.bin"


def test_recorded_defaults_help_to_learn_what_identifies_a_record(tmp_path: Path) -> None:
    for folder, second in (("live", "tar"), ("shipped", "rope")):
        (tmp_path / folder).mkdir()
        rows = f'<g name="rope" mark="a" worth="1"/><g name="{second}" mark="b" worth="2"/>'
        (tmp_path / folder / "goods.xml").write_text(f"<s>{rows}</s>")
    alone = adopt(tmp_path / "live").records
    beside = adopt(tmp_path / "live", [FolderTree(tmp_path / "shipped")]).records
    assert ([item.rule for item in alone], [item.rule for item in beside]) == ([("@name",)], [("@mark",)])


# --- odd folders -------------------------------------------------------------


@pytest.fixture
def odd(tmp_path: Path) -> Iterator[Path]:
    """A folder of strange and hostile things."""
    root = tmp_path / "odd"
    root.mkdir()
    (root / "laughs.xml").write_text('<!DOCTYPE a [<!ENTITY b "&c;"><!ENTITY c "x">]><a>&b;</a>')
    (root / "broken.xml").write_text("<a>\n<b></a>")
    (root / "broken.json").write_text('{"a": [')
    (root / "deep.json").write_text("[" * 100_000)
    (root / "x.db").write_bytes(b"SQLite format 3\0" + b"\xff" * 500)
    with (root / "endless.json").open("wb") as handle:  # a gigabyte in one line, most of it a hole
        handle.write(b'{"a": "')
        handle.seek(1 << 30)
        handle.write(b'"}')
    with zipfile.ZipFile(root / "thing.ext", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("manifest.json", " " * 30_000_000)
    (root / "cut.zip").write_bytes(b"PK\x03\x04 and no more")
    (root / "loop").symlink_to("loop")
    (root / "up").symlink_to("..", target_is_directory=True)
    os.mkfifo(root / "pipe")
    (root / "new\nline \x1b[31m.txt").write_text("x")
    deep = root
    for _ in range(60):
        deep = deep / "d"
    deep.mkdir(parents=True)
    (deep / "a.ini").write_text("[a]\nb=1\n")
    (root / "\udcff\udcfe.txt").write_text("not UTF-8")
    held = sqlite3.connect(root / "held.db", isolation_level=None)
    held.execute("create table t (a)")
    held.execute("begin exclusive")
    yield root
    held.close()


def test_strange_folders_are_adopted_without_harm(odd: Path, tmp_path: Path) -> None:
    done = run_program("adopt", "odd", cwd=tmp_path)
    assert done.code == 0, done.err
    assert "\x1b" not in done.out
    assert "broken.xml:2:6" in done.out
    assert "laughs.xml:1" in done.out
    assert "left out: pipe" in done.out
    assert "left out: held.db (this database cannot be read: database is locked)" in done.out
    assert "left out: x.db (this database cannot be read: " in done.out
    read_config(tmp_path / "odd.keep" / "keep.toml")
    again = run_program("survey", cwd=odd)
    assert again.code == 1
    assert "Traceback" not in again.err


def test_what_may_not_be_read_is_told(tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    (tmp_path / "s" / "shut").mkdir(parents=True)
    (tmp_path / "s" / "secret.ini").write_text("[a]\nb=1\n")
    (tmp_path / "s" / "secret.ini").chmod(0)
    (tmp_path / "s" / "shut").chmod(0)
    code = (
        "import os; from pathlib import Path; from emberkeep.detection.adopt import adopt\n"
        "adopt(Path('empty')); os.geteuid() == 0 and os.seteuid(65534)\n"
        "print(sorted((item.path, item.why) for item in adopt(Path('s')).skipped))"
    )
    for folder in (tmp_path, *tmp_path.parents):
        if folder.owner() == Path.home().owner() and folder != Path(folder.anchor):
            folder.chmod(folder.stat().st_mode | 0o055)
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.stdout == (
        "[('secret.ini', 'cannot be read: Permission denied'), ('shut', 'cannot be listed: Permission denied')]\n"
    ), done.stderr


shapes = st.dictionaries(
    st.from_regex(r"\A[a-z0-9._\-]{1,8}(/[a-z0-9._\-]{1,8}){0,2}\Z").filter(
        lambda path: not {".", ".."} & set(path.split("/"))
    ),
    st.one_of(st.binary(max_size=60), st.sampled_from([b"[a]\nb=1", b"<a/>", b"{}", b"#!/bin/sh\n./x", b"\x7fELF"])),
    max_size=10,
)


@given(shapes)
def test_any_folder_gives_a_draft_that_reads_back(
    tmp_path_factory: pytest.TempPathFactory, contents: dict[str, bytes]
) -> None:
    root = tmp_path_factory.mktemp("any") / "s"
    root.mkdir()
    for path, data in contents.items():
        target = root / path
        if any(parent.is_file() for parent in target.parents) or target.is_dir():
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
    found = adopt(root)
    (root.parent / "keep.toml").write_text(draft(found, "../s", "UTC"))
    config = read_config(root.parent / "keep.toml")
    told = Roles(config.roles)
    for path in found.unsorted:
        assert told.of(path) == UNSORTED


def test_the_sample_is_the_same_each_time(built: Path, tmp_path: Path) -> None:
    sample.build(tmp_path / "again", "village")
    for name in ("gannet-rock", "releases"):
        assert tree_state(tmp_path / "again" / name) == tree_state(built / name)
    assert uuid.UUID(next((built / "gannet-rock/outer-skerries/keepers").iterdir()).stem)


def test_a_version_of_the_log_alone_is_asked_once_and_forgotten_whole(tmp_path: Path) -> None:
    root = moor(tmp_path)
    (root / "version.txt").unlink()
    (root / "server.log").write_text("[10:00:01] Zlib 1.2.3 is used\n[10:00:02] ready\n")
    keep = tmp_path / "moor.keep"
    assert run_program("adopt", "moor", cwd=tmp_path).code == 0
    asked = [one for one in read_config(keep / "keep.toml").questions if "1.2.3" in one]
    assert asked == ["is 1.2.3 the version of the engine? 'Zlib 1.2.3' in server.log"]
    found = adopt(root)
    doubt = next(one for one in doubts(found) if "1.2.3" in one.text)
    document = tomlkit.parse((keep / "keep.toml").read_text())
    change = doubt.choices[-1].edit
    assert change is not None
    change(document)
    assert "1.2.3" not in "".join(line for line in tomlkit.dumps(document).splitlines(True) if not line.startswith("#"))
    # what the program is called by is its version, wherever it stands
    (root / "server.log").write_text("[10:00:01] Zlib 1.2.3 is used\n[10:00:02] Peat 4.5 is up\n[10:00:03] ready\n")
    assert [(one.version, one.sure) for one in adopt(root).versions if one.name == "engine"] == [("4.5", Sure.LIKELY)]


@pytest.mark.parametrize(
    ("text", "key", "name"),
    [
        (
            '<server><server-name value="Long Moor"/><port value="27500"/><level value="moor"/></server>',
            "level",
            "server-name",
        ),
        (
            '<s>\n  <property name="ServerName" value="Long Moor"/>\n  <property name="ServerPort" value="27500"/>\n'
            '  <property name="GameWorld" value="moor"/>\n</s>',
            "GameWorld",
            "ServerName",
        ),
    ],
)
def test_settings_in_attributes_of_xml(tmp_path: Path, text: str, key: str, name: str) -> None:
    root = moor(tmp_path)
    (root / "moor.ini").unlink()
    (root / "peat.xml").write_text(f'<?xml version="1.0"?>\n{text}\n')
    (root / "go.bat").write_text("@echo off\npeatd.exe -config peat.xml\n")
    found = adopt(root)
    assert (found.name, found.world.folder, found.world.pointer_key) == ("Long Moor", "saves/moor.sav", key)
    data = (root / "peat.xml").read_bytes()
    assert edit.value("peat.xml", data, name) == "Long Moor"
    assert edit.set_value("peat.xml", data, key, "fen").decode() == data.decode().replace('"moor"', '"fen"')


def test_logs_called_after_moments_are_known_when_the_next_start_writes_another(tmp_path: Path) -> None:
    root = moor(tmp_path)
    (root / "server.log").rename(root / "Moor-20310402-040255.log")
    (root / "version.txt").unlink()
    keep = tmp_path / "moor.keep"
    assert run_program("adopt", "moor", cwd=tmp_path).code == 0
    (root / "Moor-20310402-040255.log").rename(root / "Moor-20310403-110001.log")
    config = read_config(keep / "keep.toml")
    assert Roles(config.roles).of("Moor-20310403-110001.log") == "logs"
    seen = run_program("--keep", str(keep), "survey", cwd=tmp_path).out
    assert re.search(r"engine\s+1\.7\.3\s+Moor-20310403-110001\.log", seen), seen
