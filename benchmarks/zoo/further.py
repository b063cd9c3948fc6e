"""Families put together from shapes of their own, which were kept back at first: looked at since, as they showed faults."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import sqlite3
import uuid
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from families import of_the_world
from ground import Ground, Style
from parts import ELF, PE, World, archive, decoys, noise

Maker = Callable[[Ground], World]
Shapes = dict[str, tuple[Maker, tuple[str, ...]]]
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
    owned(g, theirs, "a folder of each player")
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


def universes(g: Ground) -> World:
    """Worlds by UUID, of which settings name one; players by name in one file of the world."""
    players = g.players = g.people(9, "name")
    over = g.name("universe")
    made = {}
    for days in (0.02, 70, 300):
        ident = str(uuid.UUID(int=g.random.getrandbits(128), version=4))
        made[ident] = [g.write(f"{over}/{ident}/{g.name('sector')}_{at}.sec", g.blob(25), days=days) for at in range(4)]
    live, *dead = made
    theirs = g.write(
        f"{over}/{live}/{g.name('crew')}.json",
        json.dumps({one.name: {g.word("ore"): at} for at, one in enumerate(players)}),
        days=0.02,
    )
    g.role("progress|players", theirs, about="what players have, by name")
    settled(g, f"{g.name('terrace')}.yaml", f"{g.word('terrace')}:\n  {g.name('universe')}: {live}\n  slots: 30\n")
    g.fact("pointer", "world", f"{g.name('terrace')}.yaml:{g.name('universe')}")
    program = g.write(g.name("terrace"), ELF + g.blob(30), days=90)
    g.run(program)
    launched(
        g,
        f"{g.name('go')}.sh",
        f"#!/bin/sh\nulimit -n 4096\nexport LD_LIBRARY_PATH=.\n./{program} --port 27400\n",
        program,
    )
    lines = [
        f"19:12:4{at} - {line}"
        for at, line in enumerate(
            [
                f"{g.word('terrace')} 2.6.1",
                "ready in 3.0 s",
                *(f"{word} {one.name}" for one in players[:4] for word in ("welcome", "farewell")),
            ]
        )
    ]
    logged(g, f"{g.name('<logs>')}/{g.name('server')}.log", lines)
    return World(f"{over}/{live}", live, made[live], [path for one in dead for path in made[one]])


def two_files(g: Ground) -> World:
    """Two worlds that are a file each, and backups in a folder; a program in a folder to which a cmd script changes."""
    players = g.players = g.people(8, "long")
    first, second = (
        g.write(f"{g.name('lagoon')}_{which}.shore", g.blob(150), days=days) for which, days in (("A", 60), ("B", 0.1))
    )
    copies = [
        g.write(
            f"<Backups>/{g.name('lagoon')}_B_2026-11-{day}.shore".replace("<Backups>", "Backups"),
            g.blob(149),
            days=29 - day,
        )
        for day in (20, 24, 27)
    ]
    path = settled(
        g, f"{g.name('lagoon')}.ini", f"[{g.word('lagoon')}]\nShore={second}\nTitle={g.text('The {lagoon} Bar')}\n"
    )
    g.fact("pointer", "world", f"{path}:Shore")
    g.fact("name", "server", g.text("The {lagoon} Bar"))
    g.role("access", g.write("admins.txt", "".join(f"{one.id};{one.name};2\n" for one in players), days=6))
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"bin/{g.name('lagoon')}.exe", PE + g.blob(20), days=100)
    g.write("bin/extra.dll", PE + g.blob(9), days=100)
    launched(
        g,
        "run.cmd",
        f"@echo off\r\ncd /d %~dp0bin\r\n:again\r\n{g.name('lagoon')}.exe -config ..\\{path} -port 27400\r\ngoto again\r\n",
        program,
    )
    return World(second, "", [second], [first], copies)


def everything(g: Ground) -> World:
    """One database that holds the world and its players."""
    players = g.players = g.people(11, "uuid")
    path = f"{g.name('spire')}/{g.name('all')}.db"
    (g.root / path).parent.mkdir(parents=True)
    with closing(sqlite3.connect(g.root / path)) as database, database:
        database.execute(f"create table {g.word('stone')} (x integer, y integer, b blob)")
        database.executemany(
            f"insert into {g.word('stone')} values (?, ?, ?)",
            ((at % 30, at // 30, g.random.randbytes(200)) for at in range(600)),
        )
        database.execute(f"create table {g.word('climbers')} (id text primary key, {g.word('rope')} integer)")
        database.executemany(
            f"insert into {g.word('climbers')} values (?, ?)", ((one.id, at) for at, one in enumerate(players))
        )
    g.times[path] = 0.01
    g.fact("tables", path, g.word("climbers"))
    of_all(g, path, "stone", "climbers")
    g.role(
        "access",
        g.write(
            f"{g.name('guides')}.json", json.dumps([{"key": one.id, g.word("rope"): 4} for one in players[:2]]), days=40
        ),
    )
    g.fact("players", "known by id", str(len(players)))
    settled(g, f"{g.name('spire')}.toml", f'title = "{g.text("The {spire}")}"\n[{g.word("keep")}]\nfile = "{path}"\n')
    g.fact("pointer", "world", f"{g.name('spire')}.toml:file")
    g.fact("name", "server", g.text("The {spire}"))
    program = g.write(
        f"{g.name('spire')}.jar",
        archive({"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\nImplementation-Version: 2.6.1\n"}),
        days=80,
    )
    g.fact("version", "engine", "2.6.1")
    launched(
        g,
        "up.sh",
        f'#!/usr/bin/env bash\nset -eu\njava -Xms1G -Xmx2G -jar "{program}" --port 27400\n',
        program,
    )
    return World(path, path, [path], by_rows=True)


def named_files(g: Ground) -> World:
    """Players' files by name, in YAML; who may come in on one line of the settings; tiles of two floors."""
    players = g.players = g.people(10, "name")
    live = [
        g.write(f"{g.name('quarry')}/{floor}/q_{x}_{y}.dat", g.blob(3), days=0.1 * (x + 3))
        for floor in (g.word("upper"), g.word("lower"))
        for x in range(-2, 2)
        for y in range(3)
    ]
    theirs = [
        g.write(f"{g.name('miners')}/{one.name}.yml", f"{g.word('coal')}: {at}\n{g.word('seat')}: [1, {at}]\n", days=at)
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    path = settled(
        g,
        f"{g.name('quarry')}.properties",
        f"allowed={','.join(one.name for one in players)}\n{g.name('dig')}={g.name('quarry')}\ntitle={g.text('Deep {quarry}')}\n",
    )
    g.fact("pointer", "world", f"{path}:{g.name('dig')}")
    g.fact("name", "server", g.text("Deep {quarry}"))
    g.fact("players", "known by id", str(len(players)))
    program = g.write(g.name("quarry <server>"), ELF + g.blob(30), days=44)
    g.run(program)
    launched(
        g,
        "start.sh",
        f"#!/bin/sh\ntrap 'exit 0' TERM\nwhile :\ndo\n  ./{program} -port 27400 || true\n  echo restarting\ndone\n",
        program,
    )
    return World(g.name("quarry"), g.name("quarry"), live)


def beside(g: Ground) -> World:
    """A world whose other floors stand beside it, called after it; settings tell its name."""
    players = g.players = g.people(7, "uuid")
    name = g.name("loch")
    live = [
        g.write(f"{name}{ending}/{g.word('cells')}/c.{x}.{y}.cel", g.blob(4), days=0.05 + x)
        for ending in ("", "_deep")
        for x in range(3)
        for y in range(3)
    ]
    theirs = [
        g.write(f"{name}/{g.name('swimmers')}/{one.id}.dat", g.blob(1), days=at) for at, one in enumerate(players)
    ]
    owned(g, theirs)
    path = settled(
        g,
        f"{g.name('loch')}-settings.json",
        json.dumps({"title": g.text("{loch} side"), "port": 27400, g.name("water"): name}),
    )
    g.fact("pointer", "world", f"{path}:{g.name('water')}")
    g.fact("name", "server", g.text("{loch} side"))
    g.role(
        "access", g.write("guests.json", json.dumps([{"key": one.id, "called": one.name} for one in players]), days=3)
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(
        f"lib/{g.name('loch')}-2.6.1.jar", archive({"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\n"}), days=33
    )
    g.fact("version", "engine", "2.6.1")
    launched(
        g,
        "start.sh",
        f'#!/bin/sh\ncd "$(dirname "$0")" || exit 1\nexec java @args.txt -jar lib/{g.name("loch")}-2.6.1.jar --port 27400\n',
        program,
    )
    return World(name, name, live)


def nothing(g: Ground) -> World:
    """A fresh install: a program, its settings, what the vendor ships, and nothing that was ever saved."""
    settled(
        g,
        f"{g.name('mesa')}.cfg",
        f'// fresh\ntitle = "{g.text("The {mesa}")}";\nslots = 20;\n{g.name("land")} = "{g.name("mesa")}";\n',
    )
    g.fact("name", "server", g.text("The {mesa}"))
    for number in range(30):
        g.write(f"{g.name('assets')}/{g.word('rock')}{number}.tex", g.blob(6), days=90)
    program = g.write(g.name("mesa"), ELF + g.blob(30), days=90)
    g.run(program)
    launched(g, "start.sh", f"#!/bin/sh\n./{program} --port 27400\n", program)
    g.fact("no world", "a fresh install", "none")
    return World("", "", [])


def lua_tables(g: Ground) -> World:
    """Settings as Lua tables with comments; a table of bans in Lua; a file per player in Lua; PowerShell starts the program."""
    players = g.players = g.people(9, "long")
    over = g.name("<worlds>")
    made = {
        which: [
            g.write(f"{over}/{g.name(which)}/{g.word('plot')}_{at}.plt", g.blob(20), days=days + at / 9)
            for at in range(5)
        ]
        for which, days in (("fen mere", 0.02), ("wold", 60))
    }
    live, dead = made["fen mere"], made["wold"]
    path = settled(
        g,
        f"{g.name('<config>')}.lua",
        f'-- {g.word("osier")} settings\nServer = {{\n  title = "{g.text("The {osier} Bed")}", -- shown in the list\n'
        f'  slots = 24,\n  {g.word("land")} = {{\n    {g.word("plotset")} = "{g.name("fen mere")}",\n    depth = 3,\n  }},\n}}\n',
    )
    g.fact("pointer", "world", f"{path}:{g.word('plotset')}")
    g.fact("name", "server", g.text("The {osier} Bed"))
    bans = "".join(f'  {{ id = "{one.id}", name = "{one.name}" }},\n' for one in players[5:])
    g.role("access", g.write("turned_away.lua", f"return {{\n{bans}}}\n", days=11), about="a table of bans in Lua")
    theirs = [
        g.write(
            f"{g.name('cutters')}/u{one.id}.lua",
            f"return {{ {g.word('reed')} = {at}, {g.word('purse')} = {at * 2} }}\n",
            days=at,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"bin/{g.name('osier')}.exe", PE + g.blob(30), days=44)
    launched(
        g,
        f"{g.name('go')}.ps1",
        "$ErrorActionPreference = 'Stop'\nSet-Location $PSScriptRoot\n"
        f"Start-Process -FilePath \".\\bin\\{g.name('osier')}.exe\" -ArgumentList '-port 27400','-quiet' -Wait\n",
        program,
    )
    return World(f"{over}/{g.name('fen mere')}", g.name("fen mere"), live, dead)


def by_the_hour(g: Ground) -> World:
    """Each save is a folder called after its time; the newest is played; nothing leads to it."""
    players = g.players = g.people(8, "uuid")
    over = g.name("<saves>")
    made = [
        [
            g.write(f"{over}/2026-11-{day}_{hour:02}-00/{g.name(part)}.bin", g.blob(40), days=29 - day - hour / 24)
            for part in ("heath", "stock")
        ]
        for day, hour in ((27, 18), (28, 6), (28, 18), (28, 23))
    ]
    *copies, live = made
    g.role(
        "access",
        g.write(
            f"{g.name('trusted')}.txt",
            "; one a line\n" + "".join(f"{one.id} = {one.name}\n" for one in players),
            days=3,
        ),
        about="ids with names behind an equals sign",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(
        g, f"{g.name('heath')}.conf", f"# {g.word('heath')}\ntitle {g.text('High {heath}')}\nport 27400\nslots 30\n"
    )
    program = g.write(g.name("heathd"), ELF + g.blob(30), days=51)
    g.run(program)
    launched(
        g,
        "run.sh",
        f'#!/bin/bash\nset -e\nDIR=$(cd "$(dirname "$0")" && pwd)\n"$DIR/{program}" --port=27400 --latest\n',
        program,
    )
    lines = [
        f"[28/Nov/2026:19:12:4{at} +0100] {line}"
        for at, line in enumerate(
            [f"{g.word('heathd')} release {VERSION}", g.text("{heath} laid out"), "now ready for connections"]
        )
    ]
    logged(g, f"{g.name('<logs>')}/{g.name('heathd')}.out", lines)
    newest = live[0].rpartition("/")[0]
    g.fact("clears map", "those before it, which would be played else", *(path for one in copies for path in one))
    return World(newest, "", live, copies=[path for one in copies for path in one], also=[over])


def shards(g: Ground) -> World:
    """Two parts of one world, each with its settings and its log, both started by one script in the background."""
    players = g.players = g.people(10, "bare")
    over = g.name("twin dale")
    live = [
        g.write(f"{over}/{g.name(which)}/{g.name('<saves>')}/{g.word('dale')}{at:04}", g.blob(15), days=0.01 * at)
        for which in ("day side", "night side")
        for at in range(1, 7)
    ]
    for which in ("day side", "night side"):
        settled(
            g,
            f"{over}/{g.name(which)}/{g.name('<server>')}.ini",
            f"[NETWORK]\nport={27400 if which == 'day side' else 27401}\n[{g.word('dale')}]\nmain={'yes' if which == 'day side' else 'no'}\n",
        )
    settled(g, f"{over}/{g.name('dale')}.ini", f"[{g.word('dale')}]\ntitle = {g.text('Both {dale}s')}\nslots = 12\n")
    g.role(
        "access",
        g.write(f"{over}/{g.name('stewards')}.txt", "".join(f"{one.id}\n" for one in players), days=8),
        about="ids, one a line",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"bin64/{g.name('dale')}", ELF + g.blob(30), days=40)
    g.run(program)
    calls = "".join(
        f'./{g.name("dale")} -cluster "{over}" -part "{g.name(which)}" &\n' for which in ("day side", "night side")
    )
    g.role("scripts", g.write("both.sh", f'#!/bin/sh\ncd "$(dirname "$0")/bin64" || exit\n{calls}wait\n', days=30))
    g.run("both.sh", 30)
    g.role("engine", program, about="the program")
    g.fact("script", "launch", "both.sh")
    g.fact("program", "launch", program)
    return World(over, over, live)


def env_file(g: Ground) -> World:
    """Variables in a file of their own, which the script reads; the world in a folder for data."""
    players = g.players = g.people(9, "hash")
    data = "volume"
    live = [
        g.write(f"{data}/{g.name('long barrow')}/{g.word('mound')}/{x}/{y}.cell", g.blob(4), days=0.1 + x)
        for x in range(4)
        for y in range(4)
    ]
    live.append(g.write(f"{data}/{g.name('long barrow')}/{g.name('barrow')}.idx", g.blob(2), days=0.05))
    dead = [
        g.write(f"{data}/{g.name('short barrow')}/{g.word('mound')}/{x}/{y}.cell", g.blob(4), days=90 + x)
        for x in range(4)
        for y in range(4)
    ]
    theirs = [
        g.write(
            f"{data}/{g.name('diggers')}/{one.id[:2]}/{one.id}.json",
            json.dumps({g.word("flint"): at, g.word("pots"): [at]}),
            days=at,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs, "a file of each player, in folders by their first digits")
    g.role(
        "access",
        g.write(
            f"{g.name('wardens')}.json",
            json.dumps({one.id: {"called": one.name, "rank": 3} for one in players}),
            days=5,
        ),
        about="people by id, as keys",
    )
    g.fact("players", "known by id", str(len(players)))
    key = f"{g.word('barrow').upper()}_WORLD"
    g.role(
        "settings|scripts",
        g.write(".env", f"# read by start.sh\n{key}={g.name('long barrow')}\nPORT=27400\nSLOTS=40\n", days=9),
        about="variables",
    )
    g.fact("pointer", "world", f".env:{key}")
    program = g.write(
        "server.jar",
        archive({"META-INF/MANIFEST.MF": f"Manifest-Version: 1.0\nImplementation-Version: {VERSION}\n"}),
        days=33,
    )
    g.fact("version", "engine", VERSION)
    g.role(
        "scripts",
        g.write(
            "start.sh",
            f'#!/bin/sh\nset -a\n. ./.env\nset +a\nexec java ${{JAVA_OPTS:--Xmx2G}} -jar server.jar --world "${key}" --port "$PORT"\n',
            days=30,
        ),
    )
    g.run("start.sh", 30)
    g.role("engine", program, about="the program")
    g.fact("script", "launch", "start.sh")
    g.fact("program", "launch", program)
    return World(f"{data}/{g.name('long barrow')}", g.name("long barrow"), live, dead)


def texts(g: Ground) -> World:
    """The vendor's lands as texts, and those that were changed by playing under the same names elsewhere; players as folders of texts."""
    players = g.players = g.people(7, "name")

    def land(at: int, more: str = "") -> str:
        body = "".join(
            f"{g.word('thing')} {g.word(word)}\n{g.word('at')} {at} {number}\nend\n"
            for number, word in enumerate(("oak", "well", "gate"))
        )
        return f"{g.word('thing')} {g.word('land')}\nname {g.word('land')}{at}\nend\n{body}{more}"

    vendor = [
        g.write(f"share/{g.name('lands')}/{g.word('shire')}{at // 10}/{g.word('field')}_{at % 10}", land(at), days=200)
        for at in range(60)
    ]
    g.role("engine|unsorted", *vendor, about="the lands as the vendor ships them")
    live = [
        g.write(
            f"var/{g.name('lands')}/{g.word('shire')}{at // 10}/{g.word('field')}_{at % 10}",
            land(at, f"{g.word('thing')} {g.word('chest')}\nvalue {at * 7}\nend\n"),
            days=at / 20,
        )
        for at in range(0, 60, 3)
    ]
    theirs = [
        g.write(
            f"var/{g.name('players')}/{one.name}/{name}",
            f"{g.word('thing')} {one.name}\n{g.word('at')} {at} 4\nend\n",
            days=at,
        )
        for at, one in enumerate(players)
        for name in (one.name, "bank")
    ]
    owned(g, theirs, "a folder of each player")
    g.fact("players", "known by id", str(len(players)))
    g.role(
        "settings",
        g.write(
            "etc/settings",
            f"# {g.word('shire')}\nport 27400\n{g.word('motto')} {g.text('peace in the {shire}')}\nlocaldir var\n",
            days=80,
        ),
        about="settings without an ending",
    )
    g.role(
        "access",
        g.write("etc/banned", "# who may not come in\n" + "".join(f"{one.name}@*\n" for one in players[4:]), days=4),
        about="names with a mark behind",
    )
    program = g.write(f"sbin/{g.name('shire')}-server", ELF + g.blob(30), days=200)
    g.run(program)
    launched(
        g,
        "start",
        f"#!/bin/sh\ncd $(dirname $0)\nexec sbin/{g.name('shire')}-server -port 27400 -data share -local var -conf etc\n",
        program,
    )
    return World(f"var/{g.name('lands')}", "", live, also=["var"])


def sidecars(g: Ground) -> World:
    """Saves that each have a text beside them, which tells of them; a setting names the one to load; thumbnails."""
    players = g.players = g.people(6, "small")
    folder = g.name("voyages")
    made = {}
    for which, days in (("red sail", 0.03), ("blue sail", 31), ("test", 80)):
        made[which] = [
            g.write(f"{folder}/{g.name(which)}.voy", g.blob(130), days=days),
            g.write(
                f"{folder}/{g.name(which)}.json",
                json.dumps(
                    {
                        "saved": f"2026-11-{29 - int(min(days, 28))}",
                        "version": VERSION,
                        g.word("miles"): 412,
                        "players": len(players),
                    }
                ),
                days=days,
            ),
            g.write(f"{folder}/{g.name(which)}.png", b"\x89PNG\r\n\x1a\n" + g.blob(4), days=days),
        ]
    live = made["red sail"]
    path = settled(
        g,
        f"{g.name('sloop')}.json",
        json.dumps(
            {
                "title": g.text("{sloop} Races"),
                "autoload": g.name("red sail"),
                "port": 27400,
                "teams": [{"n": 1}, {"n": 2}],
            },
            indent=2,
        ),
    )
    g.fact("pointer", "world", f"{path}:autoload")
    g.fact("name", "server", g.text("{sloop} Races"))
    file = g.root / f"{g.name('ranks')}.sqlite3"
    with closing(sqlite3.connect(file)) as database, database:
        database.execute(
            f"create table {g.word('sailors')} (no integer primary key, nick text, {g.word('knots')} real)"
        )
        database.executemany(
            f"insert into {g.word('sailors')} values (?, ?, ?)",
            ((int(one.id), one.name, at) for at, one in enumerate(players)),
        )
        database.execute("create table meta (k text, v text)")
        database.execute("insert into meta values ('format', '7')")
    g.times[f"{g.name('ranks')}.sqlite3"] = 0.05
    g.role("progress", f"{g.name('ranks')}.sqlite3")
    g.fact("tables", f"{g.name('ranks')}.sqlite3", g.word("sailors"))
    g.role(
        "access",
        g.write(
            f"{g.name('marshals')}.yaml",
            f"{g.word('marshals')}:\n" + "".join(f"  - {{no: {one.id}, nick: {one.name}}}\n" for one in players),
            days=7,
        ),
        about="people in YAML, one a line",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('sloop <server>')}.x86_64", ELF + g.blob(30), days=40)
    g.run(program)
    launched(
        g,
        "launch.sh",
        f'#!/bin/sh\nexport LD_LIBRARY_PATH="./lib:$LD_LIBRARY_PATH"\nchmod +x ./{program}\nnohup ./{program} -batchmode -logFile "-" -port 27400 > sloop.out 2>&1 &\necho $! > sloop.pid\n',
        program,
    )
    return World(live[0], g.name("red sail"), live[:1], [made["blue sail"][0], made["test"][0]])


def turned(g: Ground) -> World:
    """Saves in archives that are written in turn; the newest is loaded; names only in the list of who may come in."""
    players = g.players = g.people(9, "name")
    folder = g.name("<saves>")
    made = [
        g.write(
            f"{folder}/{g.word('turn')}{at}.zip",
            archive({f"{g.word('turn')}/level{part}.bin": "\0\3" * (20_000 + at) for part in range(3)}),
            days=days,
        )
        for at, days in ((1, 0.6), (2, 0.01), (3, 0.3))
    ]
    live = made[1]
    g.role(
        "access", g.write(f"{g.name('members')}.json", json.dumps([one.name for one in players]), days=6), about="names"
    )
    g.fact("players", "known by id", str(len(players)))
    entries = {"name": g.text("The {mill} Race"), "description": "", "max": 0, "autosave": {"every": 10, "keep": 3}}
    settled(g, f"{g.name('mill')}-settings.json", json.dumps(entries, indent=2))
    g.fact("name", "server", g.text("The {mill} Race"))
    for word, version in (("sluice", "0.3.1"), ("weir", "1.10.0")):
        about = json.dumps({"name": g.word(word), "version": version, "title": g.word(word)})
        path = g.write(
            f"{g.name('<mods>')}/{g.word(word)}_{version}.zip",
            archive(
                {f"{g.word(word)}_{version}/about.json": about, f"{g.word(word)}_{version}/code.lua": "return 1\n"}
            ),
            days=70,
        )
        g.role("extensions", path, about=f"the extension {word}")
        g.fact("extension", g.word(word), version)
    program = g.write(f"bin/x64/{g.name('mill')}", ELF + g.blob(30), days=33)
    g.run(program)
    launched(
        g,
        "serve.sh",
        f"#!/bin/sh\n./bin/x64/{g.name('mill')} --start-latest --settings {g.name('mill')}-settings.json --port 27400\n",
        program,
    )
    lines = [
        f"   {at}.{at}31 {line}"
        for at, line in enumerate(
            [f"2026-11-28 19:12:40; {g.word('mill')} {VERSION} (build 61)", g.text("{mill} wheel"), "ready for peers"]
        )
    ]
    logged(g, f"{g.name('mill')}-current.log", lines)
    g.fact("clears map", "those beside it, which would be loaded else", made[0], made[2])
    return World(live, "", [live], copies=[made[0], made[2]], also=[folder])


def one_text(g: Ground) -> World:
    """The world is one large JSON file; a program that is interpreted; players as files by name; log lines that are JSON."""
    players = g.players = g.people(8, "name")
    state = {
        "tick": 81234,
        g.word("fields"): [
            {"x": at % 40, "y": at // 40, g.word("crop"): g.word(("oat", "rye")[at % 2]), "age": at % 9}
            for at in range(900)
        ],
    }
    live = g.write(f"data/{g.name('croft')}.json", json.dumps(state), days=0.01)
    copies = [
        g.write(
            f"data/backup/{g.name('croft')}.{1795900000 + at * 3600}.json", json.dumps(state), days=1 + (9 - at) / 24
        )
        for at in range(5)
    ]
    theirs = [
        g.write(
            f"data/{g.name('crofters')}/{one.name}.json",
            json.dumps({"pw": hashlib.sha1(one.name.encode()).hexdigest(), g.word("coins"): at}),
            days=at,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        "config.json",
        json.dumps(
            {
                "port": 27400,
                "title": g.text("A {croft} for all"),
                "admins": [one.name for one in players[:3]],
                "save": {"file": f"data/{g.name('croft')}.json", "minutes": 5},
            },
            indent=1,
        ),
    )
    g.fact("pointer", "world", f"{path}:file")
    g.fact("name", "server", g.text("A {croft} for all"))
    g.role(
        "engine|unsorted",
        g.write(
            "package.json", json.dumps({"name": g.word("croft"), "version": VERSION, "main": "src/index.js"}), days=60
        ),
    )
    program = g.write("src/index.js", "const fs = require('fs')\nrequire('./play')\n", days=60)
    g.role("engine", g.write("src/play.js", "module.exports = {}\n", days=60), about="code beside the program")
    launched(
        g,
        "start.sh",
        '#!/bin/sh\ncd "$(dirname "$0")"\nexec node --max-old-space-size=2048 src/index.js --port 27400\n',
        program,
    )
    lines = [
        json.dumps({"t": 1795900000 + at, "msg": line})
        for at, line in enumerate(
            [
                f"{g.word('croft')} {VERSION}",
                "loaded",
                "ready, 900 fields",
                *(f"{one.name} {word}" for one in players[:4] for word in ("descends", "leaves")),
            ]
        )
    ]
    logged(g, "logs/out.ndjson", lines)
    return World(live, live, [live], copies=copies)


def classpath(g: Ground) -> World:
    """A program of several archives by a class path; sectors in XML; accounts in a database beside a table of prices."""
    players = g.players = g.people(11, "uuid")
    over = g.name("<worlds>")
    made = {}
    for which, days in (("outer arm", 0.02), ("inner arm", 0.2)):
        made[which] = [
            g.write(
                f"{over}/{g.name(which)}/{g.word('sector')}_{at:03}.xml",
                f"<?xml version='1.0'?>\n<{g.word('sector')} n='{at}'>\n"
                + "".join(f"  <{g.word('rock')} x='{x}' y='{x * 3}' {g.word('ore')}='{x % 7}'/>\n" for x in range(60))
                + f"</{g.word('sector')}>\n",
                days=days + at / 30,
            )
            for at in range(12)
        ]
    live = made["outer arm"] + made["inner arm"]
    path = f"{g.name('<data>')}/{g.name('ledger')}.sqlite"
    (g.root / path).parent.mkdir(parents=True, exist_ok=True)
    with closing(sqlite3.connect(g.root / path)) as database, database:
        database.execute("create table accounts (uuid text primary key, nick text, made integer)")
        database.executemany(
            "insert into accounts values (?, ?, ?)",
            ((one.id, one.name, 1790000000 + at) for at, one in enumerate(players)),
        )
        database.execute(f"create table {g.word('holds')} (owner text, item text, n integer)")
        database.executemany(
            f"insert into {g.word('holds')} values (?, ?, ?)",
            ((one.id, g.word("ore"), at) for at, one in enumerate(players)),
        )
        database.execute("create table prices (item text, buy integer, sell integer)")
        database.executemany(
            "insert into prices values (?, ?, ?)",
            ((g.word(word), at, at + 2) for at, word in enumerate(("ore", "ice", "gas", "salt", "slag"))),
        )
    g.times[path] = 0.02
    g.role("progress|databases", path)
    g.fact("tables", path, "+".join(sorted(("accounts", g.word("holds")))))
    g.fact("leaves progress", "a database with prices", path)
    g.role(
        "access",
        g.write(
            "ops.xml",
            "<ops>\n"
            + "".join(f"  <op><uuid>{one.id}</uuid><nick>{one.name}</nick></op>\n" for one in players[:3])
            + "</ops>\n",
            days=12,
        ),
        about="people in XML, as elements",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(
        g,
        "server.xml",
        f"<?xml version='1.0'?>\n<server>\n  <title>{g.text('Two {arm}s')}</title>\n  <port>27400</port>\n  <{g.word('arm')}s>\n    <{g.word('arm')}>{g.name('outer arm')}</{g.word('arm')}>\n    <{g.word('arm')}>{g.name('inner arm')}</{g.word('arm')}>\n  </{g.word('arm')}s>\n</server>\n",
    )
    g.fact("name", "server", g.text("Two {arm}s"))
    program = g.write(
        f"lib/{g.word('arm')}-server.jar",
        archive(
            {
                "META-INF/MANIFEST.MF": f"Manifest-Version: 1.0\nImplementation-Version: {VERSION}\n",
                "x/Main.class": "\0\1",
            }
        ),
        days=44,
    )
    g.role(
        "engine",
        g.write(
            "lib/things-1.2.jar",
            archive({"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\n", "y/Z.class": "\0\1"}),
            days=44,
        ),
        about="a library",
    )
    g.fact("version", "engine", VERSION)
    g.role(
        "scripts",
        g.write(
            "bin/serve",
            '#!/bin/sh\nAPP_HOME=$(cd "$(dirname "$0")/.." && pwd)\nCLASSPATH="$APP_HOME/lib/*"\ncd "$APP_HOME"\nexec java -Xmx1G -cp "$CLASSPATH" x.Main --port 27400\n',
            days=44,
        ),
    )
    g.run("bin/serve", 44)
    g.role("engine", program, about="the program")
    g.fact("script", "launch", "bin/serve")
    g.fact("port", "launch", "27400")
    return World(over, over, live, also=[f"{over}/{g.name(which)}" for which in ("outer arm", "inner arm")])


def all_in_one(g: Ground) -> World:
    """One database of the world and of its players, with what SQLite keeps beside it; another of who may come in."""
    players = g.players = g.people(9, "small")
    path = f"{g.name('save')}.db"
    with closing(sqlite3.connect(g.root / path)) as database, database:
        database.execute(f"create table {g.word('tiles')} (k integer primary key, v blob)")
        database.executemany(
            f"insert into {g.word('tiles')} values (?, ?)",
            ((at * 65536 + 3, g.random.randbytes(150)) for at in range(700)),
        )
        database.execute(f"create table {g.word('folk')} (no integer primary key, nick text, bag blob)")
        database.executemany(
            f"insert into {g.word('folk')} values (?, ?, ?)",
            ((int(one.id), one.name, g.random.randbytes(60)) for one in players),
        )
        database.execute("create table info (k text, v text)")
        database.executemany(
            "insert into info values (?, ?)", (("schema", "14"), ("seed", "48151"), ("made", "2026-02-01"))
        )
    g.times[path] = 0.01
    g.write(f"{path}-shm", bytes(32768), days=0.01)
    other = "access.db"
    with closing(sqlite3.connect(g.root / other)) as database, database:
        database.execute("create table allowed (no integer, since text)")
        database.executemany("insert into allowed values (?, ?)", ((int(one.id), "2026-04-01") for one in players))
    g.times[other] = 5
    g.role("access|progress|databases", other, about="a database of who may come in")
    g.fact("tables", path, g.word("folk"))
    g.fact("players", "known by id", str(len(players)))
    of_all(g, path, "tiles", "folk")
    settled(
        g,
        "server.yml",
        f"title: '{g.text('{croy} Island')}'\nport: 27400\n{g.word('store')}:\n  kind: sqlite\n  path: ./{path}\n",
    )
    g.fact("pointer", "world", "server.yml:path")
    g.fact("name", "server", g.text("{croy} Island"))
    program = g.write(g.name("croy"), ELF + g.blob(30), days=33)
    g.run(program)
    launched(g, "go.sh", f"#!/bin/sh\nwhile sleep 2; do ./{program} -p -port 27400; done\n", program)
    lines = [
        f"{g.word('croy')}[812]: 2026-11-28T19:12:4{at}+01:00 {line}"
        for at, line in enumerate([f"version {VERSION}", "store opened", "ready"])
    ]
    logged(g, "server.log", lines)
    return World(path, path, [path], by_rows=True)


def groups(g: Ground) -> World:
    """Rights by groups in YAML; players by the hash of their names; a cmd script with variables; tiles with names of hex numbers."""
    players = g.players = g.people(9, "hash")
    world = g.name("green holm")
    live = [
        g.write(f"{g.name('<maps>')}/{world}/{at * 977:08x}.sct", g.blob(6), days=0.02 + at / 12) for at in range(1, 40)
    ]
    dead = [
        g.write(f"{g.name('<maps>')}/{g.name('grey holm')}/{at * 911:08x}.sct", g.blob(7), days=50 + at)
        for at in range(1, 30)
    ]
    theirs = [
        g.write(
            f"{g.name('islanders')}/{one.id}.ini",
            f"[{g.word('self')}]\nname={one.name}\n{g.word('shells')}={at}\n",
            days=at,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    rights = "".join(
        f"  {rank}:\n    can: [{g.word('build')}, {g.word('talk')}]\n    who:\n"
        + "".join(f"      - {one.id}   # {one.name}\n" for one in some)
        for rank, some in (("chiefs", players[:2]), ("folk", players[2:]))
    )
    g.role("access", g.write(f"{g.name('rights')}.yml", f"groups:\n{rights}", days=9), about="rights by groups")
    settled(g, f"{g.name('holm')}.cfg", f'# {g.word("holm")}\ntitle = "{g.text("The {holm}")}"\nslots = 16\n')
    g.fact("name", "server", g.text("The {holm}"))
    program = g.write(f"{g.name('holm <server>')}.exe", PE + g.blob(30), days=90)
    g.role("engine", g.write("steam.dll".replace("steam", g.word("wind")), PE + g.blob(9), days=90), about="a library")
    g.role(
        "scripts",
        g.write(
            "run server.bat",
            f'@echo off\r\nsetlocal\r\nset MAP={world}\r\nset PORT=27400\r\ncd /d "%~dp0"\r\n:loop\r\n"{g.name("holm <server>")}.exe" /map:%MAP% /port:%PORT% /console\r\nif %errorlevel% neq 0 goto loop\r\n',
            days=30,
        ),
    )
    g.role("engine", program, about="the program")
    g.fact("script", "launch", "run server.bat")
    g.fact("program", "launch", program)
    g.fact("pointer", "world", "run server.bat:MAP")
    return World(f"{g.name('<maps>')}/{world}", world, live, dead)


def several(g: Ground) -> World:
    """Several worlds that are all played, listed in YAML with ports of their own; each with its players inside."""
    players = g.players = g.people(8, "long")
    over = "worlds"
    entries, live, theirs = "", [], []
    for at, which in enumerate(("first quay", "second quay")):
        live += [
            g.write(f"{over}/{g.name(which)}/{g.name('<map>')}/{x}_{y}.tile", g.blob(4), days=0.02 + x / 9 + at / 5)
            for x in range(3)
            for y in range(4)
        ]
        theirs += [
            g.write(f"{over}/{g.name(which)}/{g.name('sailors')}/{one.id}.dat", g.blob(1), days=number)
            for number, one in enumerate(players)
        ]
        entries += f"  - name: {g.name(which)}\n    port: {27400 + at}\n    open: true\n"
    dead = [
        g.write(f"{over}/{g.name('old quay')}/{g.name('<map>')}/{x}_{y}.tile", g.blob(4), days=150)
        for x in range(3)
        for y in range(4)
    ]
    owned(g, theirs, "a file of each player in each world")
    settled(g, "server.yaml", f"title: {g.text('{quay}side')}\n{over}:\n{entries}")
    g.fact("name", "server", g.text("{quay}side"))
    g.role(
        "access",
        g.write(
            "bans.txt",
            "# id since why\n"
            + "".join(f"{one.id} 2026-05-0{at + 1} {g.word('spam')}\n" for at, one in enumerate(players[:4])),
            days=9,
        ),
        about="ids with reasons",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(g.name("quay"), ELF + g.blob(30), days=60)
    g.run(program)
    g.role(
        "scripts",
        g.write(
            "start.sh",
            f'#!/usr/bin/env bash\ntrap "kill 0" EXIT\nfor w in {over}/*/; do\n  ./{program} --config server.yaml --world "$w" &\ndone\nwait\n',
            days=30,
        ),
    )
    g.run("start.sh", 30)
    g.role("engine", program, about="the program")
    g.fact("script", "launch", "start.sh")
    g.fact("program", "launch", program)
    return World(over, over, live, dead, also=[f"{over}/{g.name(which)}" for which in ("first quay", "second quay")])


FURTHER: Shapes = {
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
    "terrace": (universes, ("vendor",)),
    "terraced": (universes, ("economy", "dumps")),
    "lagoon": (two_files, ("notes",)),
    "lagoons": (two_files, ("vendor", "odd")),
    "spire": (everything, ("economy",)),
    "spires": (everything, ("cache", "notes")),
    "quarry": (named_files, ("vendor",)),
    "quarries": (named_files, ("economy", "odd")),
    "loch": (beside, ("notes", "dumps")),
    "lochan": (beside, ("vendor",)),
    "mesa": (nothing, ()),
    "mesas": (nothing, ("notes",)),
    "osier": (lua_tables, ("economy",)),
    "heath": (by_the_hour, ("vendor", "notes")),
    "dale": (shards, ("odd",)),
    "barrow": (env_file, ("vendor", "cache")),
    "shire": (texts, ("notes",)),
    "sloop": (sidecars, ("dumps", "economy")),
    "mill": (turned, ("vendor",)),
    "croft": (one_text, ("notes", "economy")),
    "arm": (classpath, ("odd",)),
    "croy": (all_in_one, ("cache",)),
    "islet": (groups, ("dumps", "vendor")),
    "quay": (several, ("notes",)),
}


def build_shape(shapes: Shapes, name: str, root: Path, style: Style) -> Ground:
    """One folder of a family of these shapes."""
    make, about = shapes[name]
    g = Ground(root, name, style)
    world = make(g)
    noise(g, about, world)
    if world.live:
        if style.decoys:
            decoys(g, world)
        of_the_world(g, world, [world.at, *world.also])
    g.finish()
    return g


def of_all(g: Ground, path: str, world: str, players: str) -> None:
    """What wipes must clear and leave of a database that holds the world and its players."""
    for scope, mine, other in (("map", world, players), ("players", players, world)):
        g.fact(f"clears {scope} rows", "the database of all", f"{path}:{g.word(mine)}")
        g.fact(f"leaves {scope} rows", "the database of all", f"{path}:{g.word(other)}")
        g.fact(f"leaves {scope}", "the database of all", path)
    g.fact("leaves progress", "the database of all", path)


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


def owned(g: Ground, theirs: list[str], about: str = "a file of each player", role: str = "players") -> None:
    """Files are players', and the tool has to know them for such."""
    g.role(role, *theirs, about=about)
    g.fact("bound", "players' files", *theirs)
