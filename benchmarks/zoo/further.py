"""Families put together from shapes of their own, which were kept back at first: looked at since, as they showed faults."""

from __future__ import annotations

import csv
import io
import json
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from families import of_the_world
from ground import Ground, Style
from parts import ELF, PE, World, archive, decoys, noise

Maker = Callable[[Ground], World]
VERSION = "2.6.1"


def generations(g: Ground) -> World:
    """Saves that are numbered on, the highest is played; a text says nothing; people in a table of commas; a profile per player in
    XML; syslog stamps; the program in a subfolder, started by a script in another."""
    players = g.players = g.people(9, "long")
    folder = g.name("<saves>")
    made = [
        g.write(f"{folder}/{g.word('brae')}_{number:06}.sav", g.blob(120), days=(133 - number) / 4 + 0.01)
        for number in (118, 124, 129, 133)
    ]
    world = World(made[-1], "", [made[-1]], copies=made[:-1])
    table = io.StringIO()
    csv.writer(table).writerows([("name", "id", "since"), *((one.name, one.id, "2026-02-01") for one in players)])
    g.role(
        "access|players",
        g.write(f"{g.name('<admin>')}/{g.name('crew')}.csv", table.getvalue(), days=3),
        about="people in a table of commas",
    )
    theirs = [
        g.write(
            f"{g.name('folk')}/P_{one.id}/{g.name('sheet')}.xml",
            f"<{g.word('sheet')}><{g.word('purse')}>{at}</{g.word('purse')}></{g.word('sheet')}>\n",
            days=at,
        )
        for at, one in enumerate(players)
    ]
    g.role("players", *theirs, about="a folder of each player")
    g.fact("bound", "players' files", *theirs)
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('works')}/{g.name('kiln')}", ELF + g.blob(30), days=60)
    g.run(program)
    launched(
        g,
        f"{g.name('works')}/{g.name('begin')}.sh",
        f'#!/bin/bash\ncd "$(dirname "$0")"\n./{g.name("kiln")} --port 27400 >> ../{g.name("out")}.txt 2>&1\n',
        program,
    )
    lines = [
        f"Nov 28 19:12:4{at} {g.word('kiln')}: {line}"
        for at, line in enumerate(
            [f"{g.word('kiln')} v{VERSION} {g.word('glows')}", g.text("{brae} laid out"), "server ready in 4.1 seconds"]
        )
    ]
    logged(g, f"{g.name('out')}.txt", lines)
    return world


def two_halves(g: Ground) -> World:
    """Two folders written to in turn, and a small file that names the one that counts."""
    players = g.players = g.people(8, "uuid")
    over = g.name("ledge")
    made = {
        half: [g.write(f"{over}/{half}/{g.name(part)}.bin", g.blob(50), days=days) for part in ("rock", "scree")]
        for half, days in (("A", 0.02), ("B", 0.05))
    }
    g.write(f"{over}/{g.name('which')}.txt", "A\n", days=0.02)
    world = World(over, over, made["A"] + made["B"])
    g.role(
        "access",
        g.write(f"{g.name('crew')}.yml", "".join(f"- id: {one.id}\n  name: {one.name}\n" for one in players), days=5),
        about="people in YAML",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('kiln')}.exe", PE + g.blob(20), days=90)
    entries = {
        "server": {
            "title": g.text("The {ledge} House"),
            g.name("worlds"): [{"name": g.name("ledge"), "active": True}, {"name": g.name("former"), "active": False}],
        }
    }
    settled(g, f"{g.name('kiln')}.json", json.dumps(entries, indent=2))
    g.fact("name", "server", g.text("The {ledge} House"))
    launched(
        g,
        f"{g.name('begin')}.bat",
        f"@echo off\r\npushd %~dp0\r\nstart /b {g.name('kiln')}.exe --port 27400\r\n",
        program,
    )
    return world


def profile(g: Ground) -> World:
    """A world deep in a profile's folder, which an argument names; a Java-less archive run by a program beside it; ids in sections of an INI."""
    players = g.players = g.people(7, "long")
    name = g.name("north bank")
    live = [
        g.write(f"{g.name('<profiles>')}/{name}/{g.name('<saves>')}/{g.name('bank')}{at}.dat", g.blob(70), days=0.1)
        for at in range(3)
    ]
    dead = [
        g.write(
            f"{g.name('<profiles>')}/{g.name('south bank')}/{g.name('<saves>')}/{g.name('bank')}{at}.dat",
            g.blob(70),
            days=120,
        )
        for at in range(3)
    ]
    world = World(f"{g.name('<profiles>')}/{name}/{g.name('<saves>')}", name, live, dead)
    text = "".join(f"[{one.id}]\n{g.word('purse')}={at}\n{g.word('rank')}=2\n" for at, one in enumerate(players))
    path = g.write(f"{g.name('<profiles>')}/{name}/{g.name('tally')}.ini", text, days=0.1)
    g.role("progress|players|extension-data", path, about="what players have, in sections")
    g.fact("bound", "sections by id", path)
    g.role(
        "access",
        g.write(
            f"{g.name('gate')}.xml",
            f"<{g.word('gate')}>\n"
            + "".join(f'  <{g.word("guest")} id="{one.id}" name="{one.name}"/>\n' for one in players)
            + f"</{g.word('gate')}>\n",
            days=9,
        ),
        about="people in XML",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('kiln')}-x64", ELF + g.blob(40), days=50)
    g.run(program)
    script = launched(
        g,
        f"{g.name('begin')}.sh",
        f'#!/bin/sh\nPROFILE={name}\n./{g.name("kiln")}-x64 -quiet -profile "$PROFILE" -port 27400 -nolog\n',
        program,
    )
    g.fact("pointer", "world", f"{script}:PROFILE")
    return world


def cubes(g: Ground) -> World:
    """Chunks by three coordinates; players as rows of a table with small ids; logs with bars."""
    players = g.players = g.people(10, "small")
    folder = g.name("deep")
    live = [
        g.write(f"{folder}/{x}.{y}.{z}.cube", g.blob(2), days=(x + y + z) / 9)
        for x in range(3)
        for y in range(-1, 2)
        for z in range(2)
    ]
    world = World(folder, folder, live)
    file = g.root / f"{g.name('book')}.db"
    with closing(sqlite3.connect(file)) as database, database:
        database.execute(
            f"create table {g.word('miners')} (id integer primary key, called text, {g.word('coal')} integer)"
        )
        database.executemany(
            f"insert into {g.word('miners')} values (?, ?, ?)",
            ((int(one.id), one.name, at) for at, one in enumerate(players)),
        )
        database.execute(f"create table {g.word('tariff')} (good text, worth integer)")
        database.executemany(
            f"insert into {g.word('tariff')} values (?, ?)",
            ((g.word(word), at) for at, word in enumerate(("coal", "slate", "peat", "iron"))),
        )
    g.times[f"{g.name('book')}.db"] = 0.05
    g.role("progress|databases", f"{g.name('book')}.db")
    g.fact("tables", f"{g.name('book')}.db", g.word("miners"))
    g.role(
        "access|players",
        g.write(f"{g.name('crew')}.txt", "".join(f"id:{one.id} {one.name}\n" for one in players), days=4),
        about="people with a mark before their ids",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('kiln')}.exe", PE + g.blob(20), days=70)
    launched(
        g,
        f"{g.name('begin')}.sh",
        f'#!/bin/sh\nexport THING=1\nif [ -z "$1" ]; then\n  exec mono {g.name("kiln")}.exe -port 27400 -depth 3\nfi\n',
        program,
    )
    lines = [
        f"2026/11/28 19:12:4{at}.120 | INFO | {line}"
        for at, line in enumerate(
            [
                f"{g.word('kiln')} {VERSION}",
                "loading",
                "ready, accepting players (2.2 s)",
                *(f"{one.name} {word}" for one in players[:4] for word in ("descends", "leaves")),
            ]
        )
    ]
    logged(g, f"{g.name('<logs>')}/current.txt", lines)
    settings = f"[{g.word('mine')}]\nMap={g.name('former')}\nMap={folder}\nLamps[0]=4\nLamps[1]=5\n"
    path = settled(g, f"{g.name('mine')}.ini", settings)
    g.fact("pointer", "world", f"{path}:Map")
    return world


def packed(g: Ground) -> World:
    """A world in an archive, with dated ones beside it; extensions with manifests in TOML and XML; a JSON line per player."""
    players = g.players = g.people(6, "bare")
    folder = g.name("harvest")
    live = g.write(
        f"{folder}/{g.name('field')}.zip", archive({"a.bin": "\0\1" * 30_000, "b.bin": "\0\2" * 9_000}), days=0.03
    )
    copies = [
        g.write(
            f"{folder}/{g.name('<old>')}/{g.name('field')}-2026110{at}.zip",
            archive({"a.bin": "\0\1" * 29_000}),
            days=9 - at,
        )
        for at in range(1, 4)
    ]
    world = World(live, g.name("field"), [live], copies=copies)
    for word, version in (("plough", "1.4.0"), ("scythe", "3.0.2")):
        path = g.write(
            f"{g.name('<mods>')}/{g.word(word)}/about.toml",
            f'name = "{g.word(word)}"\nversion = "{version}"\n',
            days=50,
        )
        g.write(f"{g.name('<mods>')}/{g.word(word)}/main.lua", "return {}\n", days=50)
        g.role("extensions", path, about=f"the extension {word}")
        g.fact("extension", g.word(word), version)
    lines = "".join(json.dumps({"who": one.id, g.word("sheaves"): at}) + "\n" for at, one in enumerate(players))
    path = g.write(f"{g.name('<mods>')}/{g.word('plough')}/{g.name('yield')}.jsonl", lines, days=0.2)
    g.role("extension-data|progress", path, about="a line for each player")
    g.fact("bound", "a line for each player", path)
    g.role(
        "access",
        g.write(
            f"{g.name('crew')}.json",
            json.dumps({"members": [{"uid": one.id, "nick": one.name} for one in players]}),
            days=4,
        ),
        about="people within an object",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('<bin>')}/{g.name('kiln')}", ELF + g.blob(20), days=70)
    g.run(program)
    script = launched(
        g,
        f"{g.name('begin')}.sh",
        f"#!/bin/sh\nHERE=$(dirname $0)\nuntil $HERE/{g.name('<bin>')}/{g.name('kiln')} --load {folder}/{g.name('field')}.zip --port 27400; do sleep 1; done\n",
        program,
    )
    g.fact("pointer", "world", f"{script}:--load")
    return world


FURTHER: dict[str, tuple[Maker, tuple[str, ...]]] = {
    "brae": (generations, ("vendor",)),
    "braeside": (generations, ("odd", "economy")),
    "ledge": (two_halves, ("notes",)),
    "ledgeway": (two_halves, ("vendor", "dumps")),
    "bank": (profile, ("old server",)),
    "bankhead": (profile, ("cache", "economy")),
    "deep": (cubes, ("notes", "dumps")),
    "deepwell": (cubes, ("vendor",)),
    "harvest": (packed, ("odd",)),
    "harvester": (packed, ("old server", "cache")),
}


def build_further(name: str, root: Path, style: Style) -> Ground:
    """One folder of a family of these shapes."""
    make, about = FURTHER[name]
    g = Ground(root, name, style)
    world = make(g)
    noise(g, about, world)
    if style.decoys:
        decoys(g, world)
    of_the_world(g, world, [world.at])
    g.finish()
    return g


def launched(g: Ground, path: str, text: str, program: str) -> str:
    g.write(path, text, days=30)
    if path.endswith(".sh"):
        g.run(path, 30)
    g.role("scripts", path)
    g.role("engine", program, about="the program")
    g.fact("script", "launch", path)
    g.fact("program", "launch", program)
    g.fact("port", "launch", "27400")
    return path


def settled(g: Ground, path: str, text: str) -> str:
    g.role("settings", g.write(path, text, days=12))
    return path


def logged(g: Ground, path: str, lines: list[str]) -> None:
    g.write(path, "".join(f"{line}\n" for line in lines), days=0.01)
    g.role("logs", path)
    g.fact("version", "engine", VERSION)
    g.fact("ready", "log", next(line for line in lines if "ready" in line))
    joined = next((line for line in lines if "descends" in line), "")
    if joined:
        g.fact("joined", "log", joined)
