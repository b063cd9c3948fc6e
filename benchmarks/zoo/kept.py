"""The families that are kept back, of shapes of their own: who works on the inference looks at the figures of the last run, and at
nothing else of them."""

from __future__ import annotations

import json
import sqlite3
import uuid
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from families import of_the_world
from further import launched, logged, settled
from ground import Ground, Style
from parts import ELF, PE, World, archive, decoys, noise


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
    g.fact("leaves players", "the database of all", path)
    g.fact("leaves progress", "the database of all", path)
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
    g.facts = [fact for fact in g.facts if fact.about != "the live world"]
    return World(path, path, [path])


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
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
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
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
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


SHAPES: dict[str, tuple[Callable[[Ground], World], tuple[str, ...]]] = {
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
}


def build_kept(name: str, root: Path, style: Style) -> Ground:
    """One folder of a family that is kept back."""
    make, about = SHAPES[name]
    g = Ground(root, name, style)
    world = make(g)
    noise(g, about, world)
    if world.live:
        if style.decoys:
            decoys(g, world)
        of_the_world(g, world, [world.at])
    g.finish()
    return g
