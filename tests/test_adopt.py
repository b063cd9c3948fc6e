"""Adopt: right on the sample server, sensible on a server of another shape, harmless on any folder."""

from __future__ import annotations

import os
import random
import sqlite3
import uuid
import zipfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.demo import sample
from emberkeep.keep import UNSORTED, read_config
from emberkeep.servers.adopt import Adoption, adopt
from emberkeep.servers.draft import draft
from emberkeep.servers.roles import Roles
from tests.conftest import Program, run_program, tree_state

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
    assert {(item.name, item.version) for item in found.versions} == {("engine", "4.2.0"), ("save", "17")}
    world = found.world
    assert (world.folder, world.pointer_file, world.pointer_key) == ("outer-skerries", "keeper.properties", "waters")
    assert (world.tiles, world.sector, world.numbered) == (
        "chart/strip.{x}.{y}.sea",
        4096,
        "anchorage.*.*.{number}.isle",
    )
    rules = {record.path: record.rule for record in found.records}
    assert rules == {
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
    assert [path.name for path in (place / "gannet-rock.keep").iterdir()] == ["keep.toml"]


def test_the_draft_passes_our_own_check_and_carries_its_evidence(keeper: Program, place: Path) -> None:
    text = (place / "gannet-rock.keep" / "keep.toml").read_text()
    config = read_config(place / "gannet-rock.keep" / "keep.toml")
    assert config.folder == "../gannet-rock"
    assert "# sure: 12 files named by an id" in text
    assert "# likely: SQLite; known players' ids in learned" in text
    assert config.world.numbered == "anchorage.*.*.{number}.isle"


def test_a_keep_that_is_there_is_not_drafted_over(keeper: Program, place: Path) -> None:
    before = (place / "gannet-rock.keep" / "keep.toml").read_bytes()
    again = run_program("adopt", "gannet-rock", cwd=place)
    assert (again.code, "is there already" in again.err) == (3, True)
    assert (place / "gannet-rock.keep" / "keep.toml").read_bytes() == before


def test_a_keep_inside_the_server_is_refused(place: Path) -> None:
    done = run_program("--keep", "gannet-rock/keep", "adopt", "gannet-rock", cwd=place)
    assert done.code == 3
    assert not (place / "gannet-rock" / "keep").exists()


def test_a_server_of_another_shape(tmp_path: Path) -> None:
    """One big save file, INI settings, a batch file, players by number, no extensions."""
    root = tmp_path / "moor"
    (root / "saves").mkdir(parents=True)
    (root / "players").mkdir()
    some = random.Random(3)
    (root / "peatd.exe").write_bytes(b"MZ" + some.randbytes(4000))
    (root / "go.bat").write_text("@echo off\r\npeatd.exe -config moor.ini\r\n")
    (root / "moor.ini").write_text("[world]\nname = Long Moor\nsave = saves/moor.sav\n")
    (root / "saves" / "moor.sav").write_bytes(some.randbytes(200_000))
    for number in range(5):
        (root / "players" / f"7656119000000{number:04}.dat").write_bytes(some.randbytes(300))
    (root / "banned.txt").write_text("76561190000000001\n")
    (root / "server.log").write_text("Peat 1.7.3 up\n")
    found = adopt(root)
    roles = roles_of(found)
    expected = {
        "peatd.exe": "engine",
        "go.bat": "scripts",
        "moor.ini": "settings",
        "players/76561190000000003.dat": "players",
        "server.log": "logs",
    }
    assert {path: roles.of(path) for path in expected} == expected
    assert found.world.folder == ""


@pytest.fixture
def odd(tmp_path: Path) -> Path:
    """A folder of strange and hostile things."""
    root = tmp_path / "odd"
    root.mkdir()
    (root / "laughs.xml").write_text('<!DOCTYPE a [<!ENTITY b "&c;"><!ENTITY c "x">]><a>&b;</a>')
    (root / "broken.xml").write_text("<a>\n<b></a>")
    (root / "broken.json").write_text('{"a": [')
    (root / "deep.json").write_text("[" * 100_000)
    (root / "x.db").write_bytes(b"SQLite format 3\0" + b"\xff" * 500)
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
    locked = sqlite3.connect(root / "held.db")
    locked.execute("create table t (a)")
    locked.commit()
    locked.close()
    return root


def test_strange_folders_are_adopted_without_harm(odd: Path, tmp_path: Path) -> None:
    done = run_program("adopt", "odd", cwd=tmp_path)
    assert done.code == 0, done.err
    assert "\x1b" not in done.out
    assert "broken.xml:2:6" in done.out
    assert "laughs.xml:1" in done.out
    assert "left out: pipe" in done.out
    read_config(tmp_path / "odd.keep" / "keep.toml")
    again = run_program("survey", cwd=odd)
    assert again.code == 1
    assert "Traceback" not in again.err


def test_a_folder_that_may_not_be_read_is_told(tmp_path: Path) -> None:
    if os.geteuid() == 0:
        pytest.skip("root may read everything")
    (tmp_path / "s" / "shut").mkdir(parents=True)
    (tmp_path / "s" / "shut").chmod(0)
    assert "cannot be listed" in adopt(tmp_path / "s").skipped[0].why


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
