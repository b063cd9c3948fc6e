"""The families that are kept back, of shapes of their own: who works on the inference looks at the figures of the last run, and at
nothing else of them."""

from __future__ import annotations

import io
import json
import zipfile

from further import VERSION, Shapes, launched, logged, settled
from ground import Ground
from parts import ELF, PE, World


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
    g.role("players", *theirs, about="two files of each player")
    g.fact("bound", "players' files", *theirs)
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


SHAPES: Shapes = {
    "pebble": (told_apart, ("economy",)),
    "dune": (of_powershell, ("notes",)),
    "orchard": (packed, ("vendor", "odd")),
    "brook": (by_default, ("dumps", "cache")),
}
