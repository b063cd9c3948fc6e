"""The families that are kept back, of shapes of their own: who works on the inference looks at the figures of the last run, and at
nothing else of them."""

from __future__ import annotations

import json
import sqlite3
import uuid
from contextlib import closing

from further import VERSION, Shapes, launched, logged, owned, settled
from ground import Ground
from parts import ELF, PE, World


def inhabited(g: Ground) -> World:
    """Inhabitants of the world have files by id with names in them, as players have; the log alone names players."""
    players = g.players = g.people(8, "uuid")
    name = g.name("long grange")
    live = [g.write(f"lands/{name}/fields/{x}.{z}.fld", g.blob(6), days=0.01 + x) for x in range(4) for z in range(4)]
    dead = [g.write(f"lands/{g.name('short grange')}/fields/{x}.0.fld", g.blob(6), days=99) for x in range(3)]
    others = [str(uuid.UUID(int=g.random.getrandbits(128), version=4)) for _ in range(12)]
    dwellers = [
        g.write(
            f"lands/{name}/dwellers/{one}.json",
            json.dumps({"name": g.word(f"dweller{at}").capitalize(), g.word("trade"): g.word("smith"), "mood": at}),
            days=at / 5,
        )
        for at, one in enumerate(others)
    ]
    g.role("world|unsorted", *dwellers, about="inhabitants of the world")
    g.fact("leaves players", "inhabitants of the world", *dwellers)
    theirs = [
        g.write(f"guests/{one.id}.json", json.dumps({"name": one.name, g.word("sheaves"): at, "mood": 3}), days=at / 4)
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        "grange.cfg".replace("grange", g.word("grange")),
        f'title = "{g.text("{grange} Farm")}"\nland = "{name}"\nport = 27400\n',
    )
    g.fact("pointer", "world", f"{path}:land")
    g.fact("name", "server", g.text("{grange} Farm"))
    program = g.write(f"{g.name('grange')}", ELF + g.blob(30), days=150)
    g.run(program, 150)
    launched(g, "start.sh", f'#!/bin/sh\ncd "$(dirname "$0")"\nexec ./{g.name("grange")} --port 27400\n', program)
    lines = [f"{g.word('grange')} {VERSION}", "the farm is ready"]
    lines += [f"{one.name} [{one.id}] descends" for one in players] + [
        f"{one.name} [{one.id}] leaves" for one in players
    ]
    logged(g, "logs/farm.log", [f"2026-11-28 19:12:{at + 10} {line}" for at, line in enumerate(lines)])
    return World(f"lands/{name}", name, [*live, *dwellers], dead, also=["lands"])


def contained(g: Ground) -> World:
    """One container by hand, with its variables in the script."""
    players = g.players = g.people(7, "long")
    name = g.name("upper lock")
    live = [g.write(f"volume/pounds/{name}.{part}", g.blob(80), days=0.01) for part in ("water", "gates")]
    dead = [g.write(f"volume/pounds/{g.name('lower lock')}.{part}", g.blob(70), days=61) for part in ("water", "gates")]
    theirs = [g.write(f"volume/boats/{one.id}/boat.dat", g.blob(1), days=at / 3) for at, one in enumerate(players)]
    owned(g, theirs, "a folder of each player")
    g.role(
        "access",
        g.write(
            "volume/keepers.json",
            json.dumps({"keepers": [{"id": one.id, "name": one.name} for one in players]}),
            days=11,
        ),
        about="people in JSON",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(g, "volume/rules.ini", f"[rules]\n{g.word('toll')}=3\n{g.word('speed')}=slow\n[net]\nslots=12\n")
    start = g.write(
        "run.sh",
        f'#!/bin/bash\nPOUND={name}\nPORT=27400\nexec docker run --rm --name {g.word("lock")} -v "$PWD/volume:/data" -e POUND="$POUND" -p "$PORT:$PORT/udp" registry.example/{g.word("lock")}:{VERSION}\n',
        days=30,
    )
    g.run(start, 30)
    g.role("scripts", start)
    g.fact("script", "launch", start)
    g.fact("port", "launch", "27400")
    g.fact("pointer", "world", f"{start}:POUND")
    g.fact("version", "engine", VERSION)
    return World(live[0], name, live, dead, also=[live[1], "volume/pounds"])


def by_letters(g: Ground) -> World:
    """Saves in turn with letters, quick saves of players beside; a batch file with quotes about its variables."""
    players = g.players = g.people(9, "long")
    ages = {"a": 0.3, "b": 0.02, "c": 0.6, "d": 0.45}
    made = {letter: g.write(f"Games/auto-{letter}.rdg", g.blob(140), days=days) for letter, days in ages.items()}
    named = g.write(f"Games/{g.name('before winter')}.rdg", g.blob(130), days=40)
    g.role(
        "access",
        g.write("Lists/Trusted.lst", "".join(f"{one.id}\r\n" for one in players[:5]), days=13),
        about="ids, one a line",
    )
    theirs = [
        g.write(f"Climbers/{one.id}.cfg", f"name={one.name}\r\n{g.word('rope')}={at}\r\n", days=at / 2)
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    settled(
        g,
        "Ridge.cfg".replace("Ridge", g.word("ridge")),
        f"hostname={g.text('{ridge} End')}\r\nport=27400\r\nautosaves=4\r\n",
    )
    g.fact("name", "server", g.text("{ridge} End"))
    program = g.write(f"{g.name('ridge')}.exe", PE + g.blob(40), days=55)
    g.role("engine", program, about="the program")
    start = g.write(
        "run server.cmd",
        f'@echo off\r\nset "PORT=27400"\r\nset "OPTS=-nogui -continue"\r\nstart "" /b /wait "%~dp0{g.name("ridge")}.exe" %OPTS% -port %PORT%\r\n',
        days=30,
    )
    g.role("scripts", start)
    g.fact("script", "launch", start)
    g.fact("program", "launch", program)
    g.fact("port", "launch", "27400")
    lines = [f"{g.word('ridge')} {VERSION} build 4411", "loaded auto-d.rdg", "Ready."]
    lines += [f"{one.name} descends" for one in players[:4]] + [f"{one.name} leaves" for one in players[:3]]
    text = "".join(f"19:12:{at + 10} {line}\r\n" for at, line in enumerate(lines))
    g.write("server.log", ("\ufeff" + text).encode("utf-16-le"), days=0.01)
    g.role("logs", "server.log")
    g.fact("version", "engine", VERSION)
    g.fact("joined", "log", lines[3])
    return World(made["b"], "", [made["b"]], [named], [made[letter] for letter in "acd"])


def tabled(g: Ground) -> World:
    """Players and goods in one SQLite file; a world whose name carries seed and size; people in YAML maps."""
    players = g.players = g.people(10, "uuid")
    name = f"{g.name('stone stile')}_771204_2048"
    live = g.write(f"world/{name}.map", g.blob(200), days=0.01)
    copies = [g.write(f"world/{name}.map.{at}.bak", g.blob(199), days=at / 2) for at in (1, 2)]
    path = "data/ledger.sqlite3"
    (g.root / "data").mkdir(exist_ok=True)
    with closing(sqlite3.connect(g.root / path)) as database, database:
        database.execute(f"create table {g.word('walker')} (uuid text primary key, nick text, {g.word('coins')} int)")
        database.execute(f"create table {g.word('ware')} (id integer primary key, label text, cost int)")
        database.executemany(
            f"insert into {g.word('walker')} values (?, ?, ?)",
            [(one.id, one.name, at * 7) for at, one in enumerate(players)],
        )
        database.executemany(
            f"insert into {g.word('ware')} values (?, ?, ?)", [(at, g.word(f"ware{at}"), at * 3) for at in range(30)]
        )
    g.times[path] = 0.01
    g.role("progress|databases|players", path, about="players and goods in one database")
    g.fact("clears progress rows", "rows of players", f"{path}:{g.word('walker')}")
    g.fact("leaves players rows", "rows of goods", f"{path}:{g.word('ware')}")
    g.role(
        "access",
        g.write(
            "admins.yaml",
            "admins:\n"
            + "".join(
                f"  - uuid: {one.id}\n    nick: {one.name}\n    since: 2026-0{at + 1}-01\n"
                for at, one in enumerate(players[:4])
            ),
            days=17,
        ),
        about="people in YAML",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(
        g,
        "server.toml",
        f'title = "{g.text("{stile} Walk")}"\nport = 27400\n[[{g.word("gate")}]]\nname = "north"\n{g.word("toll")} = 2\n[[{g.word("gate")}]]\nname = "south"\n{g.word("toll")} = 3\n',
    )
    g.fact("name", "server", g.text("{stile} Walk"))
    program = g.write(f"{g.name('stile')}-server", ELF + g.blob(30), days=49)
    g.run(program, 49)
    script = launched(
        g,
        "serve.sh",
        f'#!/bin/sh\ncd "$(dirname "$0")" || exit 1\nexec ./{g.name("stile")}-server \\\n  --config server.toml \\\n  --seed 771204 \\\n  --size 2048 \\\n  --port 27400\n',
        program,
    )
    assert script
    g.fact("seed", "launch", "771204")
    g.fact("size", "launch", "2048")
    return World(live, "", [live], copies=copies)


SHAPES: Shapes = {
    "grange": (inhabited, ("notes",)),
    "lock": (contained, ("odd",)),
    "ridge": (by_letters, ("vendor", "dumps")),
    "stile": (tabled, ("economy",)),
}
