"""Families of a sixth set of shapes, once kept back."""

from __future__ import annotations

import json
import os
import uuid

from further import VERSION, Shapes, launched, logged, settled
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
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
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
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
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
    g.role("players", *theirs, about="a file of each player, by its initial")
    g.fact("bound", "players' files", *theirs)
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


LATER: Shapes = {
    "knoll": (few_files, ("notes", "vendor")),
    "quoin": (releases, ("odd",)),
    "loam": (checked, ("economy",)),
    "weir": (two_programs, ("notes", "cache")),
    "tor": (hidden, ()),
    "moor": (rooms, ("dumps",)),
}
