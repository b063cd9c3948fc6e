"""The families that are kept back, of shapes of their own: who works on the inference looks at the figures of the last run, and at
nothing else of them."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from contextlib import closing

from further import VERSION, Shapes, launched, logged, of_all, settled
from ground import Ground
from parts import ELF, PE, World, archive


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
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
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
    g.role("players", *theirs, about="a file of each player")
    g.fact("bound", "players' files", *theirs)
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
    g.role("players", *theirs, about="a file of each player in each world")
    g.fact("bound", "players' files", *theirs)
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


SHAPES: Shapes = {
    "mill": (turned, ("vendor",)),
    "croft": (one_text, ("notes", "economy")),
    "arm": (classpath, ("odd",)),
    "croy": (all_in_one, ("cache",)),
    "islet": (groups, ("dumps", "vendor")),
    "quay": (several, ("notes",)),
}
