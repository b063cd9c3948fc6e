"""Families of a sixth to a ninth set of shapes, once kept back."""

from __future__ import annotations

import gzip
import io
import json
import os
import sqlite3
import uuid
import zipfile
from contextlib import closing

from further import VERSION, Shapes, launched, logged, owned, settled
from ground import Ground
from parts import ELF, PE, World, archive


def few_files(g: Ground) -> World:
    """All that there is are a few files of bytes: the world, its players, who is banned; settings without marks."""
    g.players = g.people(5, "name")
    live = g.write("data/world.dat", g.blob(220), days=0.01)
    copies = [g.write(f"data/world.dat.{at}", g.blob(219), days=at / 2) for at in (1, 2, 3)]
    g.role(
        "progress|players|world|unsorted", g.write("data/players.dat", g.blob(6), days=0.01), about="players in bytes"
    )
    g.role("access|unsorted|world|progress", g.write("data/bans.dat", g.blob(0.3), days=60), about="bans in bytes")
    g.role(
        "settings",
        g.write(
            f"{g.name('knoll')}.cfg",
            f'// {g.word("knoll")}\nhostname "{g.text("{knoll} Top")}"\nport 27400\nslots 16\n{g.word("tempo")} 1.5\nexec more.cfg\n',
            days=33,
        ),
    )
    g.role("settings", g.write("more.cfg", f"{g.word('gravity')} 9\n{g.word('haze')} 3\n{g.word('echo')} 0\n", days=33))
    program = g.write(f"{g.name('knoll')}_ds", ELF + g.blob(30), days=70)
    g.run(program)
    launched(
        g,
        "run",
        f"#!/bin/sh\n# {g.word('knoll')}\ncd `dirname $0`\n./{program} +port 27400 +exec {g.name('knoll')}.cfg\n",
        program,
    )
    return World(live, "", [live], copies=copies, also=["data"])


def releases(g: Ground) -> World:
    """The program in a folder of its release, to which a link leads; the data in a folder that all releases share."""
    players = g.players = g.people(9, "uuid")
    for version, days in (("2.5.0", 200), (VERSION, 20)):
        path = g.write(f"releases/{version}/bin/{g.name('quoin')}", ELF + g.blob(30), days=days)
        g.run(path, days)
        g.write(
            f"releases/{version}/share/{g.word('tongue')}.json",
            json.dumps({"yes": g.word("yes"), "no": g.word("no")}),
            days=days,
        )
    os.symlink(f"releases/{VERSION}", g.root / "current")
    name = g.name("long room")
    live = [
        g.write(f"shared/{name}/{g.word('block')}s/b.{x}.{y}.blk", g.blob(5), days=0.02 + x)
        for x in range(4)
        for y in range(3)
    ]
    theirs = [g.write(f"shared/{g.name('masons')}/{one.id}.nbt", g.blob(1), days=at) for at, one in enumerate(players)]
    owned(g, theirs)
    path = settled(
        g,
        "shared/config.toml",
        f'title = "{g.text("The {quoin} House")}"\nport = 27400\n[{g.word("quoin")}]\nroom = "{name}"\n',
    )
    g.fact("pointer", "world", f"{path}:room")
    g.role(
        "access",
        g.write(
            "shared/allow.toml",
            "".join(f'[[{g.word("guest")}]]\nid = "{one.id}"\nname = "{one.name}"\n' for one in players),
            days=8,
        ),
        about="people in TOML",
    )
    g.fact("players", "known by id", str(len(players)))
    g.fact("version", "engine", VERSION)
    program = f"releases/{VERSION}/bin/{g.name('quoin')}"
    g.role("engine", program, about="the program")
    g.role(
        "scripts",
        g.write(
            "up.sh",
            f'#!/bin/sh\nset -e\nROOT=$(dirname "$(readlink -f "$0")")\nexec "$ROOT/current/bin/{g.name("quoin")}" --data "$ROOT/shared" --port 27400\n',
            days=20,
        ),
    )
    g.run("up.sh", 20)
    g.fact("script", "launch", "up.sh")
    g.fact("port", "launch", "27400")
    return World(f"shared/{name}", name, live)


def checked(g: Ground) -> World:
    """Parts of a world with sums in a manifest, in a folder by UUID; players one JSON a line; a list with semicolons and a header."""
    players = g.players = g.people(10, "long")
    over = g.name("sessions")
    made = []
    for days in (0.02, 45):
        ident = str(uuid.UUID(int=g.random.getrandbits(128), version=4))
        parts = [
            g.write(f"{over}/{ident}/{g.word(part)}.pb", g.blob(45), days=days) for part in ("loam", "clay", "silt")
        ]
        parts.append(
            g.write(
                f"{over}/{ident}/manifest.json",
                json.dumps(
                    {
                        "parts": {path.rpartition("/")[2]: g.random.randbytes(8).hex() for path in parts},
                        "saved": 1795990000 - int(days * 86400),
                    }
                ),
                days=days,
            )
        )
        made.append((ident, parts))
    lines = "".join(
        json.dumps({"id": one.id, "name": one.name, g.word("spades"): at * 3, "at": [at, at + 2]}) + "\n"
        for at, one in enumerate(players)
    )
    g.role("progress|players", g.write(f"{g.name('profiles')}.jsonl", lines, days=0.02), about="a line for each player")
    g.role(
        "access",
        g.write(
            f"{g.name('wardens')}.csv",
            "id;name;since\n"
            + "".join(f"{one.id};{one.name};2026-0{at + 1}-01\n" for at, one in enumerate(players[:4])),
            days=12,
        ),
        about="people with semicolons",
    )
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        f"{g.name('loam')}.yaml",
        f"name: {g.text('Deep {loam}')}\nnet:\n  port: 27400\nstorage:\n  keep: 5\n  session: {made[0][0]}\n",
    )
    g.fact("pointer", "world", f"{path}:session")
    g.fact("name", "server", g.text("Deep {loam}"))
    program = g.write(f"{g.name('loam')}-{VERSION}/{g.name('loam')}.dll", PE + g.blob(20), days=40)
    g.role("engine", g.write(f"{g.name('loam')}-{VERSION}/other.dll", PE + g.blob(5), days=40), about="a library")
    g.fact("version", "engine", VERSION)
    launched(
        g,
        "start.sh",
        f'#!/bin/bash\npushd "$(dirname "${{BASH_SOURCE[0]}}")" >/dev/null\ndotnet {g.name("loam")}-{VERSION}/{g.name("loam")}.dll --urls http://0.0.0.0:80 --port 27400 "$@"\n',
        program,
    )
    return World(f"{over}/{made[0][0]}", made[0][0], made[0][1], made[1][1])


def two_programs(g: Ground) -> World:
    """A door before the game, each in a folder of its own; the door knows nothing of the world."""
    players = g.players = g.people(8, "bare")
    name = g.name("old weir")
    live = [
        g.write(f"game/{g.name('<maps>')}/{name}/{part}.{ending}", g.blob(30), days=0.03)
        for part in ("a", "b")
        for ending in ("hgt", "veg")
    ]
    theirs = [g.write(f"game/{g.name('anglers')}/{one.id}.sav", g.blob(1), days=at) for at, one in enumerate(players)]
    owned(g, theirs)
    path = settled(g, "game/game.ini", f"[Game]\nTitle={g.text('{weir} Bridge')}\nMap={name}\nPort=27410\n")
    g.fact("pointer", "world", f"{path}:Map")
    g.fact("name", "server", g.text("{weir} Bridge"))
    settled(
        g,
        "door/door.yml",
        f"listen: 0.0.0.0:27400\nbehind:\n  {g.word('weir')}:\n    address: 127.0.0.1:27410\n    motd: {g.text('{weir}')}\n",
    )
    g.role("access", g.write("door/banned.txt", "".join(f"{one.id}\n" for one in players[:5]), days=7), about="ids")
    g.fact("players", "known by id", str(len(players)))
    door = g.write(
        "door/door.jar",
        archive({"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\nImplementation-Version: 9.1\n"}),
        days=90,
    )
    program = g.write(f"game/{g.name('weir')}", ELF + g.blob(30), days=60)
    g.run(program)
    g.role("engine", program, door, about="both programs")
    g.role(
        "scripts",
        g.write(
            "start all.sh",
            f"#!/bin/sh\n(cd door && java -jar door.jar) &\ncd game || exit 1\nexec ./{g.name('weir')} -config game.ini\n",
            days=30,
        ),
    )
    g.run("start all.sh", 30)
    g.fact("script", "launch", "start all.sh")
    g.fact("program", "launch", program, door)
    return World(f"game/{g.name('<maps>')}/{name}", name, live)


def hidden(g: Ground) -> World:
    """All in hidden folders of a home; the program elsewhere in it, with a space in its folder's name."""
    players = g.players = g.people(7, "small")
    home = f".local/share/{g.name('tor hill')}"
    made = {
        which: g.write(f"{home}/Saves/{g.name(which)}.tor", g.blob(140), days=days)
        for which, days in (("granite", 0.02), ("basalt", 30))
    }
    g.write(f"{home}/Saves/{g.name('granite')}.tor.old", g.blob(139), days=0.4)
    copies = [f"{home}/Saves/{g.name('granite')}.tor.old"]
    path = settled(
        g,
        f".config/{g.name('tor hill')}/server.json",
        json.dumps(
            {
                "ServerName": g.text("The {tor}"),
                "Save": g.name("granite"),
                "Port": 27400,
                "Rules": {"pvp": False, "size": 3},
            }
        ),
    )
    g.fact("pointer", "world", f"{path}:Save")
    g.fact("name", "server", g.text("The {tor}"))
    ranks = json.dumps(
        {
            "version": 2,
            "players": [{"uid": int(one.id), "nick": one.name, "rank": at % 3} for at, one in enumerate(players)],
        }
    )
    g.role(
        "access",
        g.write(f".config/{g.name('tor hill')}/ranks.json", ranks, days=9),
        about="people within an object, beside its version",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('<server> files')}/{g.name('tor')}.x86_64", ELF + g.blob(30), days=50)
    g.run(program)
    launched(
        g,
        "start.sh",
        f'#!/usr/bin/env bash\nexport HOME="$(cd "$(dirname "$0")" && pwd)"\n"$HOME/{g.name("<server> files")}/{g.name("tor")}.x86_64" -nographics -port 27400 2>&1 | tee -a "$HOME/out.log"\n',
        program,
    )
    lines = [
        f"<{at:03}.{at}50> {line}"
        for at, line in enumerate([f"{g.word('tor')} {VERSION} starting", g.text("{granite} read"), "server is ready"])
    ]
    logged(g, "out.log", lines)
    return World(made["granite"], g.name("granite"), [made["granite"]], [made["basalt"]], copies)


def rooms(g: Ground) -> World:
    """Lands that builders write as texts, which playing does not change; players as texts by name, in folders by their initials."""
    players = g.players = g.people(9, "name")
    made = [
        g.write(
            f"area/{g.word('moor')}{at}.are",
            f"#{g.word('moor').upper()} {at}\n"
            + "".join(
                f"#{at}{room:02}\n{g.word('path')} {room}~\n{g.word('long')} {g.word('grass')}.\n~\n0 {room} 1\nS\n"
                for room in range(20)
            )
            + "#$\n",
            days=100 + at,
        )
        for at in range(12)
    ]
    g.role("economy|engine|unsorted|settings", *made, about="lands that builders write")
    theirs = [
        g.write(
            f"player/{one.name[0].lower()}/{one.name}",
            f"#PLAYER\nName {one.name}~\nLevl {at + 3}\nRoom {at * 40}\nGold {at * 11}\nEnd\n#END\n",
            days=at / 3,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs, "a file of each player, by its initial")
    g.fact("players", "known by id", str(len(players)))
    g.role(
        "access",
        g.write("system/immortals.txt", "".join(f"{one.name}\n" for one in players[:3]), days=20),
        about="names",
    )
    program = g.write(f"src/{g.name('moor')}", ELF + g.blob(40), days=90)
    g.run(program)
    g.role("engine", program, about="the program")
    g.role(
        "scripts",
        g.write(
            "src/startup",
            f'#!/bin/csh -f\nset port = 27400\nif ( "$1" != "" ) set port="$1"\ncd ../area\nwhile ( 1 )\n  ../src/{g.name("moor")} $port >&! ../log/1000.log\n  sleep 5\nend\n',
            days=90,
        ),
    )
    g.run("src/startup", 90)
    g.fact("script", "launch", "src/startup")
    g.fact("program", "launch", program)
    lines = [
        f"Sat Nov 28 19:12:4{at} 2026 :: {line}"
        for at, line in enumerate(
            [
                f"{g.word('moor')} {VERSION}",
                "booting",
                "ready to rock on port 27400",
                *(f"{one.name} {word}" for one in players[:4] for word in ("descends", "leaves")),
            ]
        )
    ]
    logged(g, "log/1000.log", lines)
    g.fact("no world", "lands that playing does not change", "none")
    return World("", "", [])


def composed(g: Ground) -> World:
    """Nothing but data and the description of containers; the world's name in a file of variables."""
    players = g.players = g.people(8, "uuid")
    name = g.name("sea stack")
    made = {
        which: [
            g.write(f"data/{g.word('charts')}/{g.name(which)}/{part}.dat", g.blob(60), days=days) for part in "abcd"
        ]
        for which, days in (("sea stack", 0.01), ("sea cave", 60))
    }
    theirs = [
        g.write(
            f"data/{g.word('divers')}/{one.id}.json",
            json.dumps({"name": one.name, g.word("pearls"): at * 3, "pos": [at, 2, 9]}),
            days=at / 2,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    g.role(
        "settings",
        g.write(
            "compose.yaml",
            f"services:\n  {g.word('buoy')}:\n    image: registry.example/{g.word('buoy')}:{VERSION}\n    env_file: .env\n"
            f'    ports:\n      - "27400:27400/udp"\n    volumes:\n      - ./data:/srv/{g.word("buoy")}\n  backup:\n    image: registry.example/copies:1\n',
            days=40,
        ),
    )
    path = settled(
        g,
        ".env",
        f'WORLD={name}\nSERVER_NAME="{g.text("The {buoy} Light")}"\nSLOTS=20\n{g.word("tide").upper()}=high\n',
    )
    g.fact("pointer", "world", f"{path}:WORLD")
    g.fact("name", "server", g.text("The {buoy} Light"))
    g.fact("version", "engine", VERSION)
    g.role("scripts", g.write("up.sh", "#!/bin/sh\nset -eu\ndocker compose pull\nexec docker compose up -d\n", days=40))
    g.run("up.sh", 40)
    g.fact("script", "launch", "up.sh")
    return World(
        f"data/{g.word('charts')}/{name}", name, made["sea stack"], made["sea cave"], also=[f"data/{g.word('charts')}"]
    )


def ring(g: Ground) -> World:
    """Saves written in turn, of which the newest has not the highest number; a unit of the system beside a script."""
    g.players = g.people(6, "long")
    folder = g.name("<saves>")
    ages = {1: 0.6, 2: 0.4, 3: 0.01, 4: 1.2, 5: 0.9}
    made = {at: g.write(f"{folder}/turn_{at}.{g.word('crn')[:3]}", g.blob(130), days=days) for at, days in ages.items()}
    kept = [
        g.write(f"{folder}/{g.name('by hand')} {at}.{g.word('crn')[:3]}", g.blob(120), days=50 + at) for at in (1, 2)
    ]
    program = g.write(f"bin/{g.name('crannog')}", ELF + g.blob(30), days=44)
    g.run(program, 44)
    g.role(
        "access",
        g.write(
            "etc/people.conf",
            "# who may do what\n[stewards]\n"
            + "".join(f"{one.id} = {one.name}\n" for one in g.players[:2])
            + "[guests]\n"
            + "".join(f"{one.id} = {one.name}\n" for one in g.players[2:]),
            days=15,
        ),
        about="people under headers",
    )
    g.fact("players", "known by id", str(len(g.players)))
    settled(
        g,
        "etc/main.conf",
        f"name = {g.text('Upper {crannog}')}\nbind = 0.0.0.0\nautosave = 300\nturns = 5\nlogfile = log/main.log\n",
    )
    g.fact("name", "server", g.text("Upper {crannog}"))
    g.role(
        "scripts|settings|unsorted",
        g.write(
            f"{g.name('crannog')}.service",
            f"[Unit]\nDescription={g.text('Upper {crannog}')}\n[Service]\nExecStart=/srv/{g.word('crannog')}/start.sh\nRestart=always\nUser=games\n[Install]\nWantedBy=multi-user.target\n",
            days=44,
        ),
        about="a unit of the system",
    )
    launched(
        g,
        "start.sh",
        f'#!/bin/sh\n: "${{PORT:=27400}}"\ncd "${{0%/*}}" || exit\nexec bin/{g.name("crannog")} --etc etc --port 27400 --resume newest\n',
        program,
    )
    logged(
        g,
        "log/main.log",
        [
            f"2026-11-28T19:12:4{at}.10{at}Z INFO {line}"
            for at, line in enumerate(
                [
                    f"{g.word('crannog')} {VERSION} (built 2026-10-02)",
                    f"resuming {folder}/turn_2",
                    "ready, listening on 27400",
                    *(f"{one.name} ({one.id}) descends" for one in g.players[:3]),
                    "saved turn_3 in 0.71 s",
                ]
            )
        ],
    )
    return World(made[3], "", [made[3]], kept, [made[at] for at in (1, 2, 4, 5)])


def interpreted(g: Ground) -> World:
    """A server in Python with all that it needs beside it; settings are assignments in a program; the world in SQLite."""
    players = g.players = g.people(7, "small")
    package = g.name("gorse") if g.style.join == "_" else g.word("gorse")
    over = f"data/{g.name('gorse hill')}.sqlite"
    for path, rows, days in ((over, 900, 0.01), (f"data/{g.name('gorse hill')}-2026-10-01.sqlite", 700, 58)):
        file = g.root / path
        file.parent.mkdir(parents=True, exist_ok=True)
        with closing(sqlite3.connect(file)) as database, database:
            database.execute(f"create table {g.word('cell')} (x int, y int, data blob, primary key (x, y))")
            database.executemany(
                f"insert into {g.word('cell')} values (?, ?, ?)",
                [(at % 30, at // 30, g.random.randbytes(200)) for at in range(rows)],
            )
        g.times[path] = days
    theirs = [
        g.write(
            f"data/accounts/{one.id}.json",
            json.dumps({"id": int(one.id), "name": one.name, g.word("coins"): at * 5}),
            days=at / 3,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs, "a file of each account")
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        "config.py",
        f'"""Settings."""\nSERVER_NAME = "{g.text("{gorse} Hill")}"\nPORT = 27400\nWORLD = "{over}"\nADMINS = [{players[0].id}, {players[3].id}]\nPVP = False\n',
    )
    g.fact("pointer", "world", f"{path}:WORLD")
    g.fact("name", "server", g.text("{gorse} Hill"))
    program = g.write(
        f"{package}/__main__.py", 'from .core import main\n\nif __name__ == "__main__":\n    main()\n', days=70
    )
    code = [
        g.write(f"{package}/{name}.py", f"import json\n\n\ndef main():\n    return {at}\n", days=70)
        for at, name in enumerate(("core", "net", "cells", "rules"))
    ]
    code.append(g.write(f"{package}/__init__.py", f'__version__ = "{VERSION}"\n', days=70))
    g.role("engine", *code, about="the server's code")
    g.role(
        "engine|unsorted",
        *[
            g.write(f"venv/lib/python3.11/site-packages/{g.word('lib')}{at}/{name}.py", f"a = {at}\n", days=71)
            for at in range(20)
            for name in ("__init__", "core", "util")
        ],
        about="libraries",
    )
    g.fact("version", "engine", VERSION)
    g.role(
        "unsorted|engine|settings",
        g.write("requirements.txt", "aiohttp==3.9.1\nmsgpack>=1.0\n", days=71),
        about="what it needs",
    )
    launched(
        g,
        "run.sh",
        f'#!/bin/bash\ncd -- "$(dirname -- "$0")"\nsource venv/bin/activate\nexec python3 -m {package} --port 27400\n',
        program,
    )
    return World(over, over, [over], copies=[f"data/{g.name('gorse hill')}-2026-10-01.sqlite"])


def of_windows(g: Ground) -> World:
    """A batch file with a variable for the save, names with capitals and spaces, line ends and logs of Windows."""
    players = g.players = g.people(9, "long")
    name = g.name("iron hulk")
    live = g.write(f"Saves/{name}.hsv", g.blob(180), days=0.01)
    dead = g.write(f"Saves/{g.name('old hulk')}.hsv", g.blob(170), days=90)
    copies = [
        g.write(f"Saves/{name}.hsv.{ending}", g.blob(179), days=days) for ending, days in (("bak", 0.5), ("bak2", 1.5))
    ]
    theirs = [
        g.write(
            f"Profiles/{one.id}.xml",
            f'<?xml version="1.0" encoding="utf-8"?>\r\n<{g.word("profile")} name="{one.name}" {g.word("scrap")}="{at * 9}" />\r\n',
            days=at / 2,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    g.role(
        "access",
        g.write(
            "Admins.xml",
            '<?xml version="1.0" encoding="utf-8"?>\r\n<admins>\r\n'
            + "".join(f'  <user id="{one.id}" level="{at}" />\r\n' for at, one in enumerate(players[:3]))
            + "</admins>\r\n",
            days=20,
        ),
        about="people in XML",
    )
    settled(
        g,
        "Server.ini",
        f'[Server]\r\nName={g.text("The {hulk}")}\r\nMaxPlayers=24\r\nRules=(Speed=1.5,Loot=2,Motto="{g.word("rust")}")\r\n[World]\r\nSize=4096\r\n',
    )
    g.fact("name", "server", g.text("The {hulk}"))
    program = g.write(f"Bin/{g.name('hulk')}Server.exe", PE + g.blob(40), days=33)
    g.role("engine", program, g.write("Bin/physics.dll", PE + g.blob(10), days=33), about="the program")
    start = g.write(
        "Start Server.bat",
        f'@echo off\r\ncd /d "%~dp0"\r\nset SAVE={name}\r\nset PORT=27400\r\n:again\r\nBin\\{g.name("hulk")}Server.exe -save "%SAVE%" -port %PORT% -config Server.ini\r\ntimeout /t 10\r\ngoto again\r\n',
        days=30,
    )
    g.role("scripts", start)
    g.fact("script", "launch", start)
    g.fact("program", "launch", program)
    g.fact("pointer", "world", f"{start}:SAVE")
    g.fact("port", "launch", "27400")
    lines = [
        f"[28.11.2026 19:12:4{at}] {line}"
        for at, line in enumerate(
            [
                f"{g.word('hulk')} dedicated server {VERSION}",
                f"Loading {name}.hsv",
                "Server is ready for players.",
                *(f"{one.name} descends" for one in players[:4]),
            ]
        )
    ]
    g.write(
        "Bin/Logs/2026-11-28.log", ("\ufeff" + "".join(f"{line}\r\n" for line in lines)).encode("utf-16-le"), days=0.01
    )
    g.role("logs", "Bin/Logs/2026-11-28.log")
    g.fact("version", "engine", VERSION)
    g.fact("ready", "log", lines[2])
    g.fact("joined", "log", lines[3])
    return World(live, name, [live], [dead], copies)


def addressed(g: Ground) -> World:
    """A world of pieces named by their contents, which a short text names; older ones share most of them."""
    players = g.players = g.people(6, "bare")
    over = g.name("marl pit")
    pieces = [g.random.randbytes(20).hex() for _ in range(40)]
    made = [
        g.write(f"{over}/pieces/{piece[:2]}/{piece[2:]}", g.blob(6), days=0.01 if at > 33 else 20 + at)
        for at, piece in enumerate(pieces)
    ]
    live = g.write(f"{over}/refs/{g.word('today')}", f"{pieces[-1]}\n", days=0.01)
    g.write(f"{over}/refs/{g.word('spring')}", f"{pieces[3]}\n", days=100)
    path = settled(
        g,
        f"{g.name('marl')}.yml",
        f"title: {g.text('{marl} Pit')}\nlisten:\n  host: 0.0.0.0\n  port: 27400\nstore:\n  path: {over}\n  keep: 12\n",
    )
    g.fact("pointer", "world", f"{path}:path")
    g.fact("name", "server", g.text("{marl} Pit"))
    g.role(
        "access|players",
        g.write(
            "ranks.yml",
            "ranks:\n"
            + "".join(f"  {one.id}:\n    name: {one.name}\n    rank: {at % 3}\n" for at, one in enumerate(players)),
            days=6,
        ),
        about="people as keys",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('marl')}-{VERSION}.linux", ELF + g.blob(30), days=25)
    g.run(program, 25)
    older = g.write(f"{g.name('marl')}-2.5.9.linux", ELF + g.blob(29), days=120)
    g.run(older, 120)
    g.role("engine|unsorted", older, about="the program before")
    g.fact("version", "engine", VERSION)
    launched(
        g,
        "go.sh",
        f'#!/usr/bin/env bash\nVERSION={VERSION}\nHERE=$(cd "$(dirname "$0")" && pwd)\n"$HERE/{g.name("marl")}-$VERSION.linux" -c "$HERE/{g.name("marl")}.yml" -port 27400\n',
        program,
    )
    return World(over, over, [*made, live])


def journaled(g: Ground) -> World:
    """A state that is written seldom, and what happened since, which is written all the time; logs as JSON."""
    players = g.players = g.people(8, "uuid")
    state = g.write("state/base.img", g.blob(300), days=1.2)
    since = [
        g.write(f"state/since.{number:06}", g.blob(20), days=(214 - number) / 3 + 0.01) for number in range(211, 215)
    ]
    before = g.write("state/base.img~", g.blob(298), days=2.4)
    theirs = [
        g.write(
            f"people/{one.id[:2]}/{one.id}.toml",
            f'name = "{one.name}"\n[{g.word("pack")}]\n{g.word("eels")} = {at}\n',
            days=at / 4,
        )
        for at, one in enumerate(players)
    ]
    owned(g, theirs)
    g.fact("players", "known by id", str(len(players)))
    g.role(
        "access",
        g.write("deny.list", "# by id\n" + "".join(f"{one.id}  # {one.name}\n" for one in players[5:]), days=9),
        about="ids with names behind",
    )
    settled(
        g,
        "ling.ini".replace("ling", g.word("ling")),
        f"[public]\nname = {g.text('{ling} Sound')}\n[public.net]\nport = 27400\n[state]\nfolder = state\nevery = 6h\n",
    )
    g.fact("name", "server", g.text("{ling} Sound"))
    program = g.write(f"lib/{g.name('ling')}d", ELF + g.blob(30), days=61)
    g.run(program, 61)
    launched(
        g,
        "serve.sh",
        f'#!/bin/sh\ncd /srv/{g.word("ling")} 2>/dev/null || cd "$(dirname "$0")"\nwhile :; do\n  lib/{g.name("ling")}d {g.word("ling")}.ini --port=27400 >> out/day.json\n  sleep 3\ndone\n',
        program,
    )
    lines = [
        json.dumps({"t": f"2026-11-28T19:12:4{at}Z", "lvl": "info", "msg": line})
        for at, line in enumerate(
            [
                f"{g.word('ling')} {VERSION}",
                "reading state/base.img",
                "ready for players",
                *(f"{one.name} descends" for one in players[:4]),
            ]
        )
    ]
    logged(g, "out/day.json", lines)
    return World("state", "state", [state, *since], copies=[before])


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
    owned(g, theirs)
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
    owned(g, theirs, "a file of each player, in the world", role="players|world")
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


def told_apart(g: Ground) -> World:
    """Arguments in a file of their own, one a line; a world of layers; a player in two files; people one a line with marks."""
    players = g.players = g.people(8, "hash")
    name = g.name("round pebble")
    live = [
        g.write(f"beach/{name}/layer{at}.{part}", g.blob(20), days=0.01 + at / 9)
        for at in range(6)
        for part in ("idx", "pak")
    ]
    dead = [
        g.write(f"beach/{g.name('flat pebble')}/layer{at}.{part}", g.blob(20), days=44)
        for at in range(4)
        for part in ("idx", "pak")
    ]
    theirs = [
        g.write(f"walkers/{one.id}.{ending}", g.blob(0.6), days=at / 2)
        for at, one in enumerate(players)
        for ending in ("pos", "bag")
    ]
    owned(g, theirs, "two files of each player")
    g.role(
        "access",
        g.write(
            "roles.txt",
            "; who is what\n"
            + "".join(f"{'+' if at < 2 else '-'}{one.id} {one.name}\n" for at, one in enumerate(players)),
            days=14,
        ),
        about="people with marks before them",
    )
    g.fact("players", "known by id", str(len(players)))
    program = g.write(f"{g.name('pebble')}d", ELF + g.blob(30), days=52)
    g.run(program, 52)
    path = settled(
        g,
        "args.txt",
        f"--title={g.text('{pebble} Strand')}\n--beach={name}\n--port=27400\n--slots=12\n--{g.word('surf')}=0.5\n",
    )
    g.fact("pointer", "world", f"{path}:beach")
    g.fact("name", "server", g.text("{pebble} Strand"))
    g.role(
        "scripts", g.write("go.sh", f'#!/bin/sh\ncd "$(dirname "$0")"\nexec ./{g.name("pebble")}d @args.txt\n', days=30)
    )
    g.run("go.sh", 30)
    g.role("engine", program, about="the program")
    g.fact("script", "launch", "go.sh")
    g.fact("program", "launch", program)
    logged(
        g,
        "strand.log",
        [
            f"11-28 19:12:4{at} {line}"
            for at, line in enumerate(
                [
                    f"{g.word('pebble')}d {VERSION} up",
                    "strand is ready",
                    *(f"{one.name} descends" for one in players[:4]),
                    *(f"{one.name} leaves" for one in players[:3]),
                ]
            )
        ],
    )
    return World(f"beach/{name}", name, live, dead, also=["beach"])


def of_powershell(g: Ground) -> World:
    """A script of PowerShell with a table of arguments; a program of .NET with its libraries; saves by number in the name of the
    world; settings in JSON with comments."""
    players = g.players = g.people(9, "long")
    name = g.name("high dune")
    live = g.write(f"Storage/{name}/world.dun", g.blob(190), days=0.01)
    parts = [g.write(f"Storage/{name}/region_{at:02}.dun", g.blob(30), days=0.1) for at in range(5)]
    copies = [
        g.write(f"Storage/_backups/{name}_2026112{at}-0400/{part}.dun", g.blob(60), days=29 - at)
        for at in (6, 7)
        for part in ("world", "region_00")
    ]
    theirs = [
        g.write(f"Storage/{name}/pilots/p{one.id}.dun", g.blob(0.8), days=at / 3) for at, one in enumerate(players)
    ]
    g.role("players|world", *theirs, about="a file of each player, in the world")
    g.role(
        "access",
        g.write(
            "Config/Roles.json",
            json.dumps(
                {"Admins": [one.id for one in players[:2]], "Guests": [one.id for one in players[2:]]}, indent=2
            ),
            days=18,
        ),
        about="ids by role",
    )
    g.fact("players", "known by id", str(len(players)))
    settled(
        g,
        "Config/Server.json",
        f'// {g.word("dune")}\n{{\n  "Title": "{g.text("The {dune}")}", // shown\n  "Slots": 30,\n  "{g.word("Storm").capitalize()}": 0.25\n}}\n',
    )
    g.fact("name", "server", g.text("The {dune}"))
    program = g.write(f"Engine/{g.name('dune')}Server.exe", PE + g.blob(20), days=37)
    libraries = [g.write(f"Engine/{g.word(lib)}.dll", PE + g.blob(5), days=37) for lib in ("net", "sand", "wind")]
    g.role("engine", program, *libraries, about="program and libraries")
    facts = {"runtimeTarget": {"name": "any"}, "libraries": {f"{g.name('dune')}Server/{VERSION}": {"type": "project"}}}
    g.role(
        "engine", g.write(f"Engine/{g.name('dune')}Server.deps.json", json.dumps(facts), days=37), about="what it needs"
    )
    start = g.write(
        "Start-Server.ps1",
        f"$World = '{name}'\r\n$Port = 27400\r\nSet-Location $PSScriptRoot\r\n$Options = @('-world', $World, '-port', $Port)\r\nwhile ($true) {{\r\n  & .\\Engine\\{g.name('dune')}Server.exe @Options\r\n  Start-Sleep 5\r\n}}\r\n",
        days=30,
    )
    g.role("scripts", start)
    g.fact("script", "launch", start)
    g.fact("program", "launch", program)
    g.fact("pointer", "world", f"{start}:World")
    g.fact("port", "launch", "27400")
    return World(f"Storage/{name}", name, [live, *parts], copies=copies, also=["Storage"])


def packed(g: Ground) -> World:
    """The world in an archive that is written anew, with those of moments before in a folder; all players in one text by name."""
    players = g.players = g.people(7, "name")

    def pack(days: float, path: str) -> str:
        held = io.BytesIO()
        with zipfile.ZipFile(held, "w") as made:
            for part in ("ground", "trees"):
                made.writestr(zipfile.ZipInfo(f"{part}.raw", (2026, 11, 20, 0, 0, 0)), g.blob(60))
        return g.write(path, held.getvalue(), days=days)

    end = g.word("orc")[:3]
    live = pack(0.01, f"grove/{g.name('old orchard')}.{end}")
    copies = [pack(at / 3, f"grove/before/{g.name('old orchard')}_2026-11-2{8 - at}_0600.{end}") for at in (1, 2, 3)]
    everybody = {
        one.name: {g.word("baskets"): at * 3, "seen": f"2026-11-{10 + at}", "at": {"x": at, "y": 2}}
        for at, one in enumerate(players)
    }
    g.role(
        "progress|players",
        g.write("grove/pickers.json", json.dumps(everybody, indent=1), days=0.01),
        about="all players in one",
    )
    g.role(
        "access",
        g.write("allowed.txt", "".join(f"{one.name}\n" for one in players), days=22),
        about="names, one a line",
    )
    g.fact("players", "known by id", str(len(players)))
    path = settled(
        g,
        "orchard.toml".replace("orchard", g.word("orchard")),
        f'[server]\nname = "{g.text("{orchard} Hill")}"\nbind = "0.0.0.0:27400"\n[grove]\nfile = "grove/{g.name("old orchard")}.{end}"\nkeep = 3\n',
    )
    g.fact("pointer", "world", f"{path}:file")
    g.fact("name", "server", g.text("{orchard} Hill"))
    program = g.write(f"bin/{g.name('orchard')}-{VERSION}-x86_64", ELF + g.blob(30), days=41)
    g.run(program, 41)
    g.fact("version", "engine", VERSION)
    launched(
        g,
        "bin/start.sh",
        f'#!/bin/bash\nset -euo pipefail\ncd "$(dirname "${{BASH_SOURCE[0]}}")/.."\nexec bin/{g.name("orchard")}-{VERSION}-x86_64 --config {g.word("orchard")}.toml --port 27400\n',
        program,
    )
    return World(live, live, [live], copies=copies)


def by_default(g: Ground) -> World:
    """A world named by a variable with a default; a table of the players in SQLite beside a world of files; a framework of Lua."""
    players = g.players = g.people(9, "uuid")
    name = g.name("clear brook")
    live = [
        g.write(f"realms/{name}/{kind}/{x}_{y}.bk", g.blob(3), days=0.01 + x)
        for kind in ("water", "stone")
        for x in range(4)
        for y in range(3)
    ]
    dead = [g.write(f"realms/{g.name('dry brook')}/stone/{x}_0.bk", g.blob(3), days=200) for x in range(4)]
    theirs = [
        g.write(
            f"anglers/{one.id[:8]}-{one.name}.json",
            json.dumps({"id": one.id, "name": one.name, g.word("trout"): at}),
            days=at / 2,
        )
        for at, one in enumerate(players)
    ]
    g.role("players", *theirs, about="a file of each player, by a part of the id and the name")
    g.role(
        "access",
        g.write("keepers.json", json.dumps([{"id": one.id, "name": one.name} for one in players[:4]]), days=12),
        about="people in JSON",
    )
    scripts = [
        g.write(f"acts/{g.word(act)}.lua", f"-- version: 1.{at}\nreturn {{ on = true }}\n", days=33)
        for at, act in enumerate(("rain", "mill", "fish"))
    ]
    g.role("extensions|engine|settings|unsorted|scripts", *scripts, about="small programs")
    settled(
        g,
        "brook.properties".replace("brook", g.word("brook")),
        f"motd={g.text('{brook} Side')}\nport=27400\nmax={len(players)}\n",
    )
    g.fact("name", "server", g.text("{brook} Side"))
    program = g.write(f"{g.name('brook')}.bin", ELF + g.blob(30), days=47)
    g.run(program, 47)
    script = launched(
        g,
        "launch.sh",
        f'#!/usr/bin/env bash\nREALM="${{REALM:-{name}}}"\nPORT="${{PORT:-27400}}"\ncd "${{0%/*}}"\n./{g.name("brook")}.bin --realm "$REALM" --port "$PORT"\n',
        program,
    )
    g.fact("pointer", "world", f"{script}:REALM")
    logged(
        g,
        "log/brook.txt".replace("brook", g.word("brook")),
        [
            f"Nov 28 19:12:4{at} host {g.word('brook')}[412]: {line}"
            for at, line in enumerate(
                [
                    f"version {VERSION}",
                    "ready to be fished",
                    *(f"{one.name} descends" for one in players[:4]),
                    *(f"{one.name} leaves" for one in players[:4]),
                ]
            )
        ],
    )
    return World(f"realms/{name}", name, live, dead, also=["realms"])


LATER: Shapes = {
    "knoll": (few_files, ("notes", "vendor")),
    "quoin": (releases, ("odd",)),
    "loam": (checked, ("economy",)),
    "weir": (two_programs, ("notes", "cache")),
    "tor": (hidden, ()),
    "moor": (rooms, ("dumps",)),
    "buoy": (composed, ("notes",)),
    "crannog": (ring, ("dumps", "economy")),
    "gorse": (interpreted, ("odd",)),
    "hulk": (of_windows, ("vendor", "cache")),
    "marl": (addressed, ("notes", "economy")),
    "ling": (journaled, ()),
    "abbey": (by_day, ("notes", "economy")),
    "glass": (with_mods, ("vendor",)),
    "tarn": (in_home, ("dumps",)),
    "salt": (two_shells, ("economy", "cache")),
    "pebble": (told_apart, ("economy",)),
    "dune": (of_powershell, ("notes",)),
    "orchard": (packed, ("vendor", "odd")),
    "brook": (by_default, ("dumps", "cache")),
}
