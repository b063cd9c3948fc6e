"""The families that are kept back, of shapes of their own: who works on the inference looks at the figures of the last run, and at
nothing else of them."""

from __future__ import annotations

import gzip
import json

from further import VERSION, Shapes, launched, logged, settled
from ground import Ground
from parts import ELF, World, archive


def by_day(g: Ground) -> World:
    """A save of each day in folders by month, the last is played; people under headers of YAML lists; settings in a language of
    blocks."""
    players = g.players = g.people(9, "long")
    over = g.name("chronicle")
    ages = {("2026-11", 28): 0.02, ("2026-11", 27): 1.0, ("2026-11", 26): 2.0, ("2026-10", 30): 29.0}
    made = {
        (month, day): g.write(f"{over}/{month}/{day:02}.{g.word('chr')[:3]}", g.blob(150), days=days)
        for (month, day), days in ages.items()
    }
    theirs = [
        g.write(f"{g.name('pilgrims')}/{one.id}/{part}.dat", g.blob(1) if part == "bag" else g.blob(0.5), days=at / 3)
        for at, one in enumerate(players)
        for part in ("bag", "way")
    ]
    g.role("players", *theirs, about="a folder of each player")
    g.role(
        "access",
        g.write(
            "people.yml",
            "owners:\n"
            + "".join(f"  - {one.id}\n" for one in players[:1])
            + "helpers:\n"
            + "".join(f"  - {one.id}\n" for one in players[1:4])
            + "banned: []\n",
            days=20,
        ),
        about="people in lists",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(
        g,
        "server.conf",
        f'server {{\n  name "{g.text("{abbey} of All")}"\n  port 27400\n  slots 40\n}}\nrules {{\n  {g.word("fasting")} on\n  {g.word("bells")} 3\n}}\n',
    )
    g.fact("name", "server", g.text("{abbey} of All"))
    program = g.write(f"{g.name('abbey')}", ELF + g.blob(30), days=50)
    g.run(program, 50)
    launched(
        g,
        "begin.sh",
        f'#!/bin/sh\ncd "$(dirname "$0")" && exec ./{g.name("abbey")} server.conf --port 27400 >log.txt 2>&1\n',
        program,
    )
    logged(
        g,
        "log.txt",
        [
            f"28/11/2026 19:12:4{at} | {line}"
            for at, line in enumerate(
                [
                    f"{g.word('abbey')} v{VERSION}",
                    "ready in 3.2 s",
                    *(f"{one.name} descends, {one.id}" for one in players[:3]),
                    *(f"{one.name} leaves, {one.id}" for one in players[:2]),
                ]
            )
        ],
    )
    live = made["2026-11", 28]
    return World(live, "", [live], copies=[path for path in made.values() if path != live], also=[over])


def with_mods(g: Ground) -> World:
    """A program in an archive with arguments of its machine, a world of chunks packed one by one, a list of people in XML with
    attributes, settings in XML with attributes."""
    players = g.players = g.people(8, "uuid")
    name = g.name("glass fen")
    live = [
        g.write(f"worlds/{name}/{x}/{z}.gz", gzip.compress(g.blob(4), mtime=0), days=0.01 + x / 2)
        for x in range(5)
        for z in range(5)
    ]
    live.append(g.write(f"worlds/{name}/head.json", json.dumps({"seed": 771203, "day": 88}), days=0.01))
    dead = [
        g.write(f"worlds/{g.name('test fen')}/{x}/0.gz", gzip.compress(g.blob(4), mtime=0), days=120) for x in range(3)
    ]
    dead.append(g.write(f"worlds/{g.name('test fen')}/head.json", json.dumps({"seed": 5, "day": 1}), days=120))
    theirs = [
        g.write(
            f"folk/{one.id}.json",
            json.dumps({"uuid": one.id, "last": {"name": one.name, "seen": 1795990000 + at}, g.word("reeds"): at}),
            days=at / 2,
        )
        for at, one in enumerate(players)
    ]
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
    g.role(
        "access",
        g.write(
            "ops.xml",
            "<ops>\n" + "".join(f'  <op uuid="{one.id}" name="{one.name}"/>\n' for one in players[:2]) + "</ops>\n",
            days=30,
        ),
        about="people in XML",
    )
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        "config.xml",
        f'<?xml version="1.0"?>\n<config>\n  <option key="title" value="{g.text("The {glass} Fen")}"/>\n  <option key="world" value="{name}"/>\n  <option key="port" value="27400"/>\n  <option key="{g.word("mist")}" value="0.4"/>\n</config>\n',
    )
    g.fact("pointer", "world", f"{path}:world")
    g.fact("name", "server", g.text("The {glass} Fen"))
    program = g.write(
        f"{g.name('fen')}-{VERSION}.jar",
        archive({"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\nMain-Class: a.B\n", "a/B.class": "x"}),
        days=35,
    )
    g.fact("version", "engine", VERSION)
    launched(
        g,
        "run.sh",
        f'#!/bin/bash\nJAVA_OPTS="-Xms2G -Xmx6G"\nwhile true; do\n  java $JAVA_OPTS -jar {g.name("fen")}-{VERSION}.jar --config config.xml --port 27400\n  [ $? -eq 42 ] || break\ndone\n',
        program,
    )
    return World(f"worlds/{name}", name, live, dead, also=["worlds"])


def in_home(g: Ground) -> World:
    """A folder of state beside one of the program; the world is one file that a JSON of state names; names are the ids."""
    players = g.players = g.people(7, "name")
    name = g.name("low tarn")
    live = g.write(f"var/{name}.{g.word('trn')[:3]}.zst", b"\x28\xb5\x2f\xfd" + g.blob(240), days=0.01)
    older = g.write(f"var/{name}.{g.word('trn')[:3]}.zst.prev", b"\x28\xb5\x2f\xfd" + g.blob(239), days=0.3)
    dead = g.write(f"var/{g.name('high tarn')}.{g.word('trn')[:3]}.zst", b"\x28\xb5\x2f\xfd" + g.blob(200), days=80)
    state = g.write("var/state.json", json.dumps({"loaded": name, "since": 1795000000, "turns": 4411}), days=0.01)
    g.role("settings|world|progress|unsorted|scratch", state, about="what was loaded last")
    g.fact("pointer", "world", f"{state}:loaded")
    g.role(
        "players|progress",
        *[
            g.write(f"var/crew/{one.name}.ini", f"[crew]\nname={one.name}\n{g.word('oars')}={at}\n", days=at / 2)
            for at, one in enumerate(players)
        ],
        about="a file of each player",
    )
    g.role(
        "access",
        g.write("etc/stewards", "".join(f"{one.name}\n" for one in players[:3]), days=40),
        about="names in a text without an ending",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(g, "etc/server", f'TITLE="{g.text("{tarn} Boats")}"\nPORT=27400\nPVP=no\n')
    g.fact("name", "server", g.text("{tarn} Boats"))
    program = g.write(f"opt/{g.name('tarn')}/{g.name('tarn')}-server", ELF + g.blob(30), days=66)
    g.run(program, 66)
    g.role("engine", g.write(f"opt/{g.name('tarn')}/VERSION", f"{VERSION}\n", days=66), about="a version alone")
    g.fact("version", "engine", VERSION)
    launched(
        g,
        "service.sh",
        f'#!/bin/sh -e\nBASE=$(cd "$(dirname "$0")"; pwd)\n. "$BASE/etc/server"\nexec "$BASE/opt/{g.name("tarn")}/{g.name("tarn")}-server" --state "$BASE/var" --port 27400\n',
        program,
    )
    return World(live, name, [live], [dead], [older])


def two_shells(g: Ground) -> World:
    """Scripts for two systems side by side; a world of parts by kind; bans one a file; a table of goods beside."""
    players = g.players = g.people(8, "bare")
    name = g.name("salt pan")
    live = [
        g.write(f"save/{name}/{part}.bin", g.blob(size), days=0.01)
        for part, size in (("terrain", 160), ("objects", 70), ("weather", 5))
    ]
    dead = [
        g.write(f"save/{g.name('clay pan')}/{part}.bin", g.blob(size), days=70)
        for part, size in (("terrain", 150), ("objects", 60), ("weather", 5))
    ]
    theirs = [g.write(f"save/{name}/souls/{one.id}.bin", g.blob(1), days=at / 2) for at, one in enumerate(players)]
    g.role("players|world", *theirs, about="a file of each player, in the world")
    g.fact("bound", "players' files", *theirs)
    bans = [
        g.write(
            f"bans/{one.id}.json",
            json.dumps({"id": one.id, "name": one.name, "why": "griefing", "until": "2027-01-01"}),
            days=9 + at,
        )
        for at, one in enumerate(players[5:])
    ]
    g.role("access|players|progress", *bans, about="a ban a file")
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        "settings.lua",
        f'return {{\n  title = "{g.text("{salt} Flats")}",\n  world = "{name}",\n  port = 27400,\n  rates = {{ {g.word("brine")} = 2, {g.word("crust")} = 0.5 }},\n}}\n',
    )
    g.fact("pointer", "world", f"{path}:world")
    g.fact("name", "server", g.text("{salt} Flats"))
    program = g.write(f"bin/linux/{g.name('salt')}", ELF + g.blob(30), days=45)
    g.run(program, 45)
    g.role(
        "engine", g.write(f"bin/win/{g.name('salt')}.exe", b"MZ" + g.blob(30), days=45), about="that of another system"
    )
    g.role(
        "scripts",
        g.write(
            "start.cmd", f"@echo off\r\nbin\\win\\{g.name('salt')}.exe -settings settings.lua -port 27400\r\n", days=45
        ),
        about="that of another system",
    )
    launched(g, "start.sh", f"#!/bin/sh\nbin/linux/{g.name('salt')} -settings settings.lua -port 27400\n", program)
    logged(
        g,
        "logs/latest.txt",
        [
            f"[19:12:4{at}] [main/INFO] {line}"
            for at, line in enumerate(
                [
                    f"{g.word('salt')} server {VERSION}",
                    f"world {name} loaded",
                    "ready",
                    *(f"{one.name} descends" for one in players[:3]),
                    *(f"{one.name} leaves" for one in players[:3]),
                ]
            )
        ],
    )
    return World(f"save/{name}", name, live, dead, also=["save"])


SHAPES: Shapes = {
    "abbey": (by_day, ("notes", "economy")),
    "glass": (with_mods, ("vendor",)),
    "tarn": (in_home, ("dumps",)),
    "salt": (two_shells, ("economy", "cache")),
}
