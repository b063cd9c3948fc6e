"""Builds the sample: the live server Gannet Rock at 4.2 and the vendor's releases 4.2, 4.3 and 4.4. Same bytes
each time."""

from __future__ import annotations

import gzip
import io
import json
import os
import random
import sqlite3
import tarfile
import uuid
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from emberkeep.demo import engine, mission, stores
from emberkeep.fs import metadata, system, writing

SERVER = "gannet-rock"
WORLD = "outer-skerries"
SEED, SPAN, SAVE, LOGBOOK = 770421, 4096, 17, 5
SECTOR = 4096
FORMATS = {"4.2": 17, "4.3": 18, "4.4": 18}
"""Number of the save format that each release reads and writes."""
EXTENSIONS_FROM = {"4.2": "4.1", "4.3": "4.3", "4.4": "4.3"}
"""The oldest engine of which each release still rigs the builds of extensions."""
EPOCH = int(datetime(2026, 4, 1, 18, 0, tzinfo=UTC).timestamp())
RELEASED = {"4.2": "2025-04-01", "4.3": "2026-03-31", "4.4": "2026-06-23"}
"""Skerrylight's vendor releases on every fourth Tuesday, or on none of them."""


@dataclass(frozen=True)
class Size:
    """How large the sample is: tiles on each side, sectors a tile, players."""

    tiles: int
    sectors: int
    players: int


SIZES = {"cove": Size(2, 1, 4), "village": Size(4, 16, 12), "town": Size(8, 16, 60), "large": Size(34, 256, 20_000)}
"""``cove`` and ``village`` are for tests, ``town`` for the demo, ``large`` (about 1.5 GB) for benchmarks."""


def build(folder: Path, size: str = "town") -> None:
    """Make ``folder/gannet-rock`` and ``folder/releases``."""
    writing.make_folder(folder / SERVER)
    writing.make_folder(folder / "releases")
    keepers = _keepers(SIZES[size].players)
    _put(folder / SERVER, _live_files(keepers))
    _world(folder / SERVER / WORLD, SIZES[size], keepers)
    _odds_and_ends(folder / SERVER)
    _put(folder / "releases" / "skerrylight-4.2", release_files("4.2"))
    _put(folder / "releases" / "extensions-4.3", _builds("4.3", ("gullpost", "1.5.0"), ("tarline", "0.9.4")))
    _put(folder / "releases" / "recipes", {name: text.encode() for name, text in mission.RECIPES.items()})
    for release, pack in (("4.3", _zip), ("4.4", _tar)):
        name = f"skerrylight-{release}"
        suffix = ".zip" if pack is _zip else ".tar.gz"
        data = pack(name, release_files(release))
        writing.write_whole(folder / "releases" / (name + suffix), [data], otherwise=writing.SHARED)
    _set_times(folder)


# --- what the vendor ships ---------------------------------------------------


def release_files(release: str) -> dict[str, bytes]:
    """All files of one release, by path; scripts and programs are those ending in .sh and .bin."""
    goods = stores.release_42()
    if release != "4.2":
        goods = stores.release_43(goods)
    if release == "4.4":
        goods = stores.release_44(goods)
    texts = {
        "RELEASE": f"Skerrylight {mission.full(release)}\nreleased {RELEASED[release]}\n"
        f"save format {FORMATS[release]}\n",
        "cast-off.sh": mission.launch_script(release),
        "keeper.properties": mission.settings(release),
        "mission/economy/stores.xml": stores.render(goods, release),
        "mission/economy/squalls.xml": mission.squalls(release),
        "mission/economy/reaches.xml": mission.reaches(release),
        "mission/economy/prices.json": mission.prices(release),
        "mission/weather.yaml": mission.weather(release),
        "mission/harbour.toml": mission.harbour(release),
        "mission/first-light.rig": mission.first_light(release),
    }
    if release != "4.2":
        texts["mission/economy/tidefalls.xml"] = mission.tidefalls()
    return {
        f"skerrylight-{mission.full(release)}.bin": _engine(release),
        "lib/libtide.so": _program(f"libtide {release}", 60_000),
        "lib/libgale.so": _program(f"libgale {release}", 40_000),
        **{path: text.encode() for path, text in texts.items()},
    }


def _engine(release: str) -> bytes:
    """The stand-in engine as a program: an executable zip (PEP 441), with some bulk as programs have it."""
    manifest = {
        "name": "Skerrylight",
        "version": mission.full(release),
        "save": FORMATS[release],
        "logbook": LOGBOOK,
        "extensions-from": EXTENSIONS_FROM[release],
    }
    inside = {
        "__main__.py": Path(engine.__file__).read_bytes().replace(b"\r\n", b"\n"),
        "release.json": json.dumps(manifest).encode(),
        "hull.dat": random.Random(f"engine {release}").randbytes(180_000),
    }
    return _zip("", inside, b"#!/usr/bin/env python3\n")


def _program(name: str, size: int) -> bytes:
    """Bytes that begin as a Linux program does; made up, not for running."""
    return b"\x7fELF\x02\x01\x01" + bytes(9) + name.encode() + b"\0" + random.Random(name).randbytes(size)


# --- the live server ---------------------------------------------------------


def _keepers(count: int) -> list[tuple[str, str]]:
    """Name and id of each player."""
    chance = random.Random("gannet rock keepers")
    starts = ("Bri", "Tor", "Ese", "Mar", "Odd", "Run", "Sol", "Ul", "Ves", "Yr", "Ken", "Hal")
    ends = ("na", "vik", "rid", "mund", "a", "e", "dis", "lin", "gar", "wen")
    return [
        (
            f"{chance.choice(starts)}{chance.choice(ends)}{number}",
            str(uuid.UUID(int=chance.getrandbits(128), version=4)),
        )
        for number in range(count)
    ]


def _live_files(keepers: list[tuple[str, str]]) -> dict[str, bytes]:
    shipped = release_files("4.2")
    edits: dict[str, Callable[[str], str]] = {
        "cast-off.sh": mission.launch_script_edited,
        "keeper.properties": mission.settings_edited,
        "mission/economy/stores.xml": stores.hand_edited,
        "mission/economy/squalls.xml": mission.squalls_edited,
        "mission/economy/reaches.xml": mission.reaches_edited,
        "mission/first-light.rig": lambda text: text.replace("give rope 1", "give rope 2\n  give lamp-oil 1"),
    }
    live = {path: edits[path](data.decode()).encode() if path in edits else data for path, data in shipped.items()}
    live["mission/weather.yaml"] = live["mission/weather.yaml"].replace(b"gale-above: 8", b"gale-above: 9")
    live.update(_framework())
    live.update(_access(keepers))
    live.update(_extensions(keepers[:12]))
    live["log/latest.log"] = _log(keepers)
    live["una-notes.txt"] = b"ask Odd about the reef by the old pier\nlens came from the second wreck\n"
    live["old-chart.bak"] = random.Random("old chart").randbytes(3000)
    return live


def _framework() -> dict[str, bytes]:
    """A modding framework whose files lie over the engine's, with the archive they came from."""
    laid = {
        "lib/libgale.so": _program("libgale by keelson 2.1.0", 41_000),
        "lib/keelson.rig": b"keelson 2.1.0\nload extensions/*.ext\n",
    }
    archive = _zip("", laid)
    return {
        **laid,
        "keelson/keelson-2.1.0.lay": archive,
        "keelson/keelson.ini": b"[keelson]\nload = all\nverbose = no\n",
    }


def _access(keepers: list[tuple[str, str]]) -> dict[str, bytes]:
    people = [{"name": name, "id": ident} for name, ident in keepers]
    lists: dict[str, list[dict[str, object]]] = {
        "wardens.json": [{**person, "rank": 4 - at} for at, person in enumerate(people[:3])],
        "barred-keepers.json": [{**people[-1], "why": "cut the mooring lines", "until": "2027-01-01"}],
        "barred-addresses.json": [
            {"address": "203.0.113.41", "why": "flooding"},
            {"address": "198.51.100.7", "why": ""},
        ],
        "welcome.json": [dict(person) for person in people],
        "roll.json": [{**person, "seen": "2026-03-30"} for person in people],
    }
    return {name: (json.dumps(rows, indent=2) + "\n").encode() for name, rows in lists.items()}


def _extensions(keepers: list[tuple[str, str]]) -> dict[str, bytes]:
    builds = _builds("4.2", ("gullpost", "1.4.2"), ("tarline", "0.9.1"))
    found = {f"extensions/{name}": data for name, data in builds.items()}
    found["extensions/gullpost/settings.ini"] = b"; gullpost carries letters\n[post]\nfee = 2\nlargest = 12\n"
    routes = [
        {"route": "pier-to-light", "stops": ["old pier", "lantern steps"]},
        {"route": "north", "stops": ["reef"]},
    ]
    found["extensions/gullpost/routes.json"] = json.dumps(routes, indent=1).encode()
    for name, ident in keepers:
        perch = {"keeper": ident, "at": [len(name) * 7, -40], "letters": [f"to {name}"]}
        found[f"extensions/gullpost/perches/{ident}.json"] = json.dumps(perch).encode()
    found["extensions/tarline/settings.ini"] = b"[tarline]\ninterest = 0.01\n"
    found["extensions/tarline/tallies.json"] = json.dumps(
        {ident: 100 + at for at, (_, ident) in enumerate(keepers)}
    ).encode()
    found["extensions/tarline/shops.json"] = json.dumps([{"shop": "chandler", "sells": ["rope", "tar"]}]).encode()
    return found


NEEDS = {"gullpost": ["tarline"], "tarline": []}


def _builds(built_for: str, *extensions: tuple[str, str]) -> dict[str, bytes]:
    """Builds of extensions, by file name."""
    found = {}
    for name, version in extensions:
        manifest = {"name": name, "version": version, "built-for": built_for, "needs": NEEDS[name]}
        inside = {
            "manifest.json": json.dumps(manifest).encode(),
            "code.rig": f"extension {name}\n".encode() * 40,
        }
        found[f"{name}-{version}.ext"] = _zip("", inside)
    return found


def _log(keepers: list[tuple[str, str]]) -> bytes:
    lines = [
        "18:00:01 Skerrylight 4.2.0 wakes",
        "18:00:02 chart seed 770421, span 4096, save format 17",
        "18:00:03 keelson 2.1.0 laid over the engine",
        "18:00:03 extension tarline 0.9.1 rigged",
        "18:00:04 extension gullpost 1.4.2 rigged",
        "18:00:09 lamp lit in 8 s",
    ]
    lines += [f"18:{at // 60 + 1:02}:{at % 60:02} {name} comes ashore" for at, (name, _) in enumerate(keepers[:200])]
    lines += [f"22:{at // 60 % 60:02}:{at % 60:02} {name} casts off" for at, (name, _) in enumerate(keepers[:200])]
    lines.append("23:10:00 lamp doused")
    return ("\n".join(lines) + "\n").encode()


def _world(folder: Path, size: Size, keepers: list[tuple[str, str]]) -> None:
    _tiles(folder / "chart", size.tiles, size.sectors, "outer")
    _tiles(folder.with_name("tidepool") / "chart", max(2, size.tiles // 2 - 1), size.sectors, "tidepool")
    save = random.Random("anchorage").randbytes(9000)
    _put(
        folder,
        {
            f"anchorage.{SPAN}.{SEED}.{SAVE}.isle": b"ISLE" + bytes([SAVE]) + save,
            "moorings.isle.lst": b"old pier\nlantern steps\n",
        },
    )
    chance = random.Random("belongings")
    goods = [good.id for good in stores.release_42()]
    _put(folder / "keepers", {f"{ident}.json": _keeper(chance, name, ident, goods) for name, ident in keepers})
    _logbook(folder / f"logbook.{LOGBOOK}.db", keepers)


def _tiles(folder: Path, side: int, sectors: int, name: str) -> None:
    """Tile files of ``sectors`` sectors, about half of each sector compressible."""
    writing.make_folder(folder)
    for x in range(-(side // 2), side - side // 2):
        for y in range(-(side // 2), side - side // 2):
            chance = random.Random(f"{name} {x} {y}")
            ground = bytes([(x * 7 + y * 13) % 251]) * (SECTOR // 2)
            body = b"".join(chance.randbytes(SECTOR // 2) + ground for _ in range(sectors))
            _write(folder / f"strip.{x}.{y}.sea", body)


def _keeper(chance: random.Random, name: str, ident: str, goods: list[str]) -> bytes:
    bag = {good: chance.randrange(1, 30) for good in chance.sample(goods, 8)}
    facts = {
        "keeper": name,
        "id": ident,
        "at": [chance.randrange(-2000, 2000), chance.randrange(-2000, 2000)],
        "warmth": chance.randrange(20, 100),
        "bag": bag,
    }
    return (json.dumps(facts, indent=1) + "\n").encode()


def _logbook(path: Path, keepers: list[tuple[str, str]]) -> None:
    database = sqlite3.connect(path)
    with database:
        database.execute("create table learned (keeper text, craft text, day integer, primary key (keeper, craft))")
        database.execute("create table about (name text primary key, value text)")
        database.execute("insert into about values ('format', ?)", (str(LOGBOOK),))
        chance = random.Random("logbook")
        rows = [
            (ident, craft, chance.randrange(365))
            for _, ident in keepers
            for craft in ("caulking", "signals", "piloting")
        ]
        database.executemany("insert into learned values (?, ?, ?)", rows)
    database.close()


def _odds_and_ends(server: Path) -> None:
    writing.make_folder(server / "inbox")
    if hasattr(os, "symlink"):
        try:
            writing.place_link(server / "latest.log", "log/latest.log", metadata.Metadata())
        except OSError:  # Windows asks for a privilege; the sample does without
            return


# --- writing -----------------------------------------------------------------


def _put(folder: Path, contents: Mapping[str, bytes]) -> None:
    for path, data in contents.items():
        writing.make_folder((folder / path).parent)
        _write(folder / path, data)


def _write(path: Path, data: bytes) -> None:
    """Sample data needs no syncing."""
    path.write_bytes(data)
    path.chmod(0o755 if path.suffix in (".sh", ".bin") else 0o644)


def _set_times(folder: Path) -> None:
    for at, (where, names, below) in enumerate(sorted(os.walk(folder, topdown=False))):
        for number, name in enumerate(sorted(below)):
            moment = (EPOCH + at * 60 + number % 60) * 1_000_000_000 + 123_456_789
            system.io.utime(Path(where, name), moment)
        names.sort()
    for where, _, _ in os.walk(folder, topdown=False):
        system.io.utime(Path(where), EPOCH * 1_000_000_000)


def _zip(top: str, contents: Mapping[str, bytes], start: bytes = b"") -> bytes:
    out = io.BytesIO()
    out.write(start)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, data in contents.items():
            info = zipfile.ZipInfo(f"{top}/{path}" if top else path, (2026, 3, 27, 12, 0, 0))
            info.external_attr = (0o100755 if path.endswith((".sh", ".bin")) else 0o100644) << 16
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, data)
    return out.getvalue()


def _tar(top: str, contents: Mapping[str, bytes]) -> bytes:
    out = io.BytesIO()
    with (
        gzip.GzipFile(fileobj=out, mode="wb", mtime=0) as packed,
        tarfile.open(fileobj=packed, mode="w") as archive,
    ):
        for path, data in contents.items():
            info = tarfile.TarInfo(f"{top}/{path}")
            info.size, info.mtime = len(data), EPOCH
            info.mode = 0o755 if path.endswith((".sh", ".bin")) else 0o644
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()
