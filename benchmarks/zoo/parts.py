"""What server folders are put together from: worlds, pointers, programs, people, extensions, logs, and what lies about."""

from __future__ import annotations

import io
import json
import sqlite3
import zipfile
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, field

from ground import Ground, Person

# --- settings ---------------------------------------------------------------------

Entries = Sequence[tuple[str, str, str]]
"""Section, key and value."""
FORMS = {
    "properties": ".properties",
    "ini": ".ini",
    "indexed": ".ini",
    "json": ".json",
    "yaml": ".yml",
    "toml": ".toml",
    "xml": ".xml",
    "lua": ".lua",
    "cfg": ".cfg",
}


def written(form: str, entries: Entries) -> str:
    """Settings in one of nine forms."""
    sections: dict[str, dict[str, str]] = {}
    for section, key, value in entries:
        sections.setdefault(section, {})[key] = value
    if form == "properties":
        return "".join(f"{key}={value}\n" for _, key, value in entries)
    if form in ("ini", "indexed"):
        lines = []
        for section, held in sections.items():
            lines.append(f"[{section}]")
            for key, value in held.items():
                lines += (
                    [f"{key}[0]={value}", f"{key}[1]=0"]
                    if form == "indexed" and value.isdigit()
                    else [f"{key}={value}"]
                )
        return "\n".join(lines) + "\n"
    if form == "json":
        return json.dumps({section: dict(held) for section, held in sections.items()})
    if form == "yaml":
        return "".join(
            f"{section}:\n" + "".join(f"  {key}: {json.dumps(value)}\n" for key, value in held.items())
            for section, held in sections.items()
        )
    if form == "toml":
        return "".join(
            f"[{section}]\n" + "".join(f"{key} = {json.dumps(value)}\n" for key, value in held.items())
            for section, held in sections.items()
        )
    if form == "xml":
        inner = "".join(
            f"  <{section}>\n"
            + "".join(f"    <{key}>{value}</{key}>\n" for key, value in held.items())
            + f"  </{section}>\n"
            for section, held in sections.items()
        )
        return f'<?xml version="1.0"?>\n<config>\n{inner}</config>\n'
    if form == "lua":
        inner = "".join(
            f"  {section} = {{\n" + "".join(f'    {key} = "{value}",\n' for key, value in held.items()) + "  },\n"
            for section, held in sections.items()
        )
        return f"return {{\n{inner}}}\n"
    return "// settings\n" + "".join(f'{key} = "{value}";\n' for _, key, value in entries)


# --- worlds -----------------------------------------------------------------------


@dataclass
class World:
    """The live world. ``at``: its folder or file; ``pointer``: what a setting says to lead to it; ``live``: its files, ``copies``: older
    ones of them, ``dead``: files of other worlds; ``numbers``: what names of saves say of it."""

    at: str
    pointer: str
    live: list[str] = field(default_factory=list)
    dead: list[str] = field(default_factory=list)
    copies: list[str] = field(default_factory=list)
    numbers: dict[str, str] = field(default_factory=dict)
    players: str = ""
    """The folder in which files of players belong, within the world."""
    by_rows: bool = False
    """Whether it is a database that holds others' tables, too, of which wipes clear rows."""
    also: list[str] = field(default_factory=list)
    """What may be said of where it is, too."""


def tiles(g: Ground) -> World:
    """Tiles by two coordinates, in a folder of the world's."""
    folder, ending = g.name("outer tarn"), "." + g.word("swell")[:4]
    world = World(folder, folder, players=f"{folder}/{g.name('wader')}")
    for x in range(-2, 3):
        for y in range(-1, 3):
            world.live.append(
                g.write(f"{folder}/{g.name('shoal')}/c.{x}.{y}{ending}", g.blob(4), days=(x * x + y * y) / 5)
            )
    world.live.append(g.write(f"{folder}/{g.name('tarn')}.dat", g.blob(1), days=0.01))
    g.fact("tiles", "names", f"{g.name('shoal')}/c.{{x}}.{{y}}{ending}")
    return world


def regions(g: Ground) -> World:
    """Tiles in folders by region, in one of several worlds under one folder."""
    over = g.name("isles")
    kept: dict[str, list[str]] = {}
    for which, days in (("skua", 0.1), ("tern", 80), ("knot", 200)):
        for x in range(3):
            for y in range(3):
                for part in ("n", "s"):
                    kept.setdefault(which, []).append(
                        g.write(
                            f"{over}/{g.name(which)}/{g.word('floe')}{part}/{x}_{y}.bin",
                            g.blob(3 if which == "skua" else 5),
                            days=days + x,
                        )
                    )
    live = f"{over}/{g.name('skua')}"
    return World(live, g.name("skua"), kept["skua"], kept["tern"] + kept["knot"], players=f"{live}/{g.name('folk')}")


def one_save(g: Ground, copies: str = "bak") -> World:
    """One large save with older copies beside it, of which one is larger."""
    folder, ending = g.name("<saves>"), ".sav"
    live = g.write(f"{folder}/{g.name('grey haven')}{ending}", g.blob(180), days=0.02)
    world = World(live, g.name("grey haven"), [live])
    for at, size in enumerate((170, 260, 150), 1):
        name = f"{ending}.bak{at}" if copies == "bak" else f".2026-11-{20 + at}{ending}"
        world.copies.append(g.write(f"{folder}/{g.name('grey haven')}{name}", g.blob(size), days=at))
    return world


def dated(g: Ground) -> World:
    """The same with dates in the copies' names."""
    return one_save(g, "dated")


def small_save(g: Ground) -> World:
    """Slots of less than 64 kB each, of which one is played."""
    over, made = g.name("slots"), []
    for at, days in ((1, 60), (2, 0.05), (3, 30)):
        made.append(
            [
                g.write(f"{over}/{g.word('slot')}{at}/{g.name(part)}.dat", g.blob(9), days=days)
                for part in ("reef", "tide", "gull")
            ]
        )
    return World(f"{over}/{g.word('slot')}2", f"{over}/{g.word('slot')}2", made[1], made[0] + made[2])


def table(g: Ground) -> World:
    """A world in a SQLite file, with a copy that is older."""
    folder = g.name("<data>")
    live = _world_table(g, f"{folder}/{g.name('brine')}.db", 400, 0.01)
    dead = _world_table(g, f"{folder}/<old>/{g.name('brine')}.db".replace("<old>", "old"), 300, 50)
    return World(live, g.name("brine"), [live], copies=[dead])


def _world_table(g: Ground, path: str, rows: int, days: float) -> str:
    file = g.root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    with closing(sqlite3.connect(file)) as database, database:
        database.execute(f"create table {g.word('blocks')} (pos integer primary key, data blob)")
        database.executemany(
            f"insert into {g.word('blocks')} values (?, ?)",
            ((at * 7, g.random.randbytes(300)) for at in range(int(rows * g.style.scale))),
        )
    g.times[path] = days
    return path


def numbered(g: Ground) -> World:
    """A save that carries size, seed and a number, with databases numbered likewise, and one with a number of its own."""
    folder = g.name("<server>")
    seed, size, number = "48151", "2400", "214"
    live = g.write(f"{folder}/{g.word('crag')}.{size}.{seed}.{number}.crag", g.blob(200), days=0.05)
    beside = [_rows_of(g, f"{folder}/{g.word(part)}.{number}.db", part) for part in ("perch", "nest")]
    g.role("progress|databases|world", *beside, about="databases of the save's number")
    other = _rows_of(g, f"{folder}/{g.word('ledger')}.5.db", "ledger")
    g.role("progress|databases", other, about="a database of another number")
    g.fact("number", "save", number)
    return World(live, "", [live], numbers={"seed": seed, "size": size})


def _rows_of(g: Ground, path: str, table: str) -> str:
    file = g.root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    with closing(sqlite3.connect(file)) as database, database:
        database.execute(f"create table {g.word(table)} (k integer primary key, v text)")
        database.executemany(f"insert into {g.word(table)} (v) values (?)", ((g.word("kelp"),) for _ in range(20)))
    g.times[path] = 0.05
    return path


def cluster(g: Ground) -> World:
    """Several maps of one cluster, all played, with a folder that they share."""
    over, live = g.name("cluster"), []
    for which in ("fen", "moor"):
        live += [
            g.write(f"{over}/{g.name(which)}/{g.name('ground')}.bin", g.blob(90), days=0.1),
            g.write(f"{over}/{g.name(which)}/{g.name('sky')}.bin", g.blob(12), days=0.1),
        ]
    live.append(g.write(f"{over}/{g.name('shared')}/{g.name('ferry')}.bin", g.blob(8), days=0.2))
    return World(over, over, live)


def hashed(g: Ground) -> World:
    """Chunks named by hashes, in folders by their first digits."""
    folder, live = f"{g.name('<saves>')}/{g.name('low marsh')}", []
    for _ in range(60):
        digits = g.random.randbytes(12).hex()
        live.append(g.write(f"{folder}/{digits[:2]}/{digits}", g.blob(3), days=g.random.random()))
    live.append(g.write(f"{folder}/{g.name('index')}.bin", g.blob(2), days=0.01))
    return World(folder, g.name("low marsh"), live)


def store(g: Ground) -> World:
    """A key-value store's folder."""
    folder = f"{g.name('<worlds>')}/{g.name('long strand')}"
    live = [
        g.write(f"{folder}/db/CURRENT", "MANIFEST-000042\n", days=0.02),
        g.write(f"{folder}/db/MANIFEST-000042", g.blob(2), days=0.02),
    ]
    live += [g.write(f"{folder}/db/{at:06}.ldb", g.blob(60), days=0.5) for at in (38, 40, 41)]
    live.append(g.write(f"{folder}/db/000043.log", g.blob(5), days=0.01))
    live.append(g.write(f"{folder}/{g.name('strand')}.dat", g.blob(1), days=0.02))
    return World(folder, g.name("long strand"), live)


def sessions(g: Ground) -> World:
    """Sessions by id, of which one is played."""
    over, made = g.name("sessions"), []
    for days in (90, 0.02, 45):
        ident = g.random.randbytes(6).hex()
        made.append(
            (
                ident,
                [g.write(f"{over}/{ident}/{g.name(part)}.state", g.blob(70), days=days) for part in ("deck", "hold")],
            )
        )
    return World(f"{over}/{made[1][0]}", made[1][0], made[1][1], made[0][1] + made[2][1])


def in_mission(g: Ground) -> World:
    """A save within the folder of a mission, whose tables are the admin's."""
    mission = g.name("mission skerry")
    rows = "".join(
        f'  <{g.word("ware")} name="{g.word(word)}">\n    <{g.word("usual")}>{at * 3}</{g.word("usual")}>\n  </{g.word("ware")}>\n'
        for at, word in enumerate(("kelp", "tar", "rope", "oil", "net", "peat"), 1)
    )
    tables = [
        g.write(
            f"{mission}/{g.name(name)}.xml",
            f'<?xml version="1.0"?>\n<{g.word("wares")}>\n{rows}</{g.word("wares")}>\n',
            days=30,
        )
        for name in ("wares", "places")
    ]
    g.role("economy", *tables, about="tables of the mission")
    g.fact("record", f"{tables[0]}:{g.word('wares')}/{g.word('ware')}", "@name")
    live = [
        g.write(f"{mission}/{g.name('<storage>')}/{g.name(part)}.bin", g.blob(40), days=0.03)
        for part in ("land", "goods")
    ]
    return World(f"{mission}/{g.name('<storage>')}", mission, live)


WORLDS: dict[str, Callable[[Ground], World]] = {
    "tiles": tiles, "regions": regions, "one save": one_save, "dated copies": dated, "small slots": small_save, "table": table,
    "numbered": numbered, "cluster": cluster, "hashed": hashed, "store": store, "sessions": sessions, "in mission": in_mission,
}  # fmt: skip


# --- programs and scripts ---------------------------------------------------------

ELF = b"\x7fELF\x02\x01\x01" + b"\0" * 9
PE = b"MZ\x90\0\x03\0\0\0" + b"\0" * 52


def archive(members: dict[str, str]) -> bytes:
    """A zip archive."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as zipped:
        for name, text in members.items():
            zipped.writestr(zipfile.ZipInfo(name), text)
    return made.getvalue()


def engine(g: Ground, kind: str, version: str) -> tuple[str, str]:
    """The program, and how a script calls it."""
    name = g.name("heron <server>")
    if kind == "elf":
        path = g.write(name, ELF + g.blob(30), days=40)
        call = f"./{path}"
        g.write("VERSION", f"{version}\n", days=40)
        g.role("engine", "VERSION")
    elif kind == "bin":
        path = g.write(f"Bin/{name}", ELF + g.blob(30), days=40)
        call = f"./{name}"
    elif kind == "pe":
        path = g.write(f"{name}.exe", PE + g.blob(30), days=40)
        call = f"{name}.exe"
    elif kind == "archive":
        path = g.write(
            f"{name}.jar",
            archive(
                {
                    "META-INF/MANIFEST.MF": f"Manifest-Version: 1.0\nImplementation-Version: {version}\nMain-Class: x.Main\n",
                    "x/Main.class": "\0\1",
                }
            ),
            days=40,
        )
        call = f"java -Xmx4G -jar {path}"
    elif kind == "named":
        path = g.write(
            f"{name}-{version}.jar",
            archive({"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\nMain-Class: x.Main\n", "x/Main.class": "\0\1"}),
            days=40,
        )
        call = f"java -jar {path}"
    else:
        path = g.write(
            f"{g.name('heron')}/main.py",
            f'"""{g.word("heron")}"""\nVERSION = "{version}"\n\n\ndef main():\n    pass\n',
            days=40,
        )
        call = f"python3 {path}"
        g.write(f"{g.name('heron')}/{g.name('loop')}.py", "import os\n\n\ndef go():\n    return os\n", days=40)
    if kind in ("elf", "bin"):
        g.run(path)
        library = g.write(f"{'Bin/' if kind == 'bin' else ''}lib{g.word('heron')}.so", ELF + g.blob(20), days=40)
        g.role("engine", library, about="a library")
    g.role("engine", path, about="the program")
    g.fact("program", "launch", path)
    return path, call


def script(g: Ground, kind: str, program: str, call: str, values: Sequence[tuple[str, str, str]]) -> str:
    """The script that starts it. ``values``: purpose, argument, value."""
    inside = program.startswith("Bin/")
    if kind == "cmd":
        lines = ["@echo off", f"rem {g.word('heron')}"]
        lines.append(" ".join([call, *(f'{argument} "{value}"' for _, argument, value in values)]))
        path = g.write(f"{g.name('start')}.cmd", "\r\n".join(lines) + "\r\n", days=20)
    elif kind == "ps1":
        lines = [f"${argument.lstrip('-')} = '{value}'" for _, argument, value in values]
        lines.append(
            " ".join([f"& ./{program}", *(f"{argument} ${argument.lstrip('-')}" for _, argument, _ in values)])
        )
        path = g.write(f"{g.name('start')}.ps1", "\n".join(lines) + "\n", days=20)
    else:
        variable = {argument: argument.lstrip("-").upper().replace("-", "_") for _, argument, _ in values}
        body = [
            "#!/bin/sh",
            *([] if kind == "arguments" else [f'{variable[argument]}="{value}"' for _, argument, value in values]),
        ]
        told = [
            f'{argument} "{value}"' if kind == "arguments" else f'{argument} "${variable[argument]}"'
            for _, argument, value in values
        ]
        line = " ".join([call, *told])
        body += (
            ["cd Bin", line]
            if inside
            else ["while true; do", f"  {line}", "  sleep 5", "done"]
            if kind == "loop"
            else [f"exec {line}"]
        )
        path = g.write(f"{g.name('start')}.sh", "\n".join(body) + "\n", days=20)
        g.run(path, 20)
    g.role("scripts", path)
    g.fact("script", "launch", path)
    for purpose, _, value in values:
        if purpose:
            g.fact(purpose, "launch", value)
    return path


# --- people and what is theirs ------------------------------------------------------


def people(g: Ground, kind: str, players: Sequence[Person]) -> None:
    """Lists of people."""
    if kind == "json":
        wardens = json.dumps([{"id": one.id, "name": one.name} for one in players[:3]], indent=2)
        made = [
            g.write(f"{g.name('wardens')}.json", wardens, days=9),
            g.write(f"{g.name('outcasts')}.json", "[]\n", days=300),
        ]
        made.append(
            g.write(
                f"{g.name('guests')}.json",
                json.dumps([{"id": one.id, "name": one.name, "since": "2026-03-01"} for one in players]),
                days=2,
            )
        )
    elif kind == "ids":
        made = [g.write(f"{g.name('guests')}.json", json.dumps([one.id for one in players]), days=2)]
    elif kind == "text":
        made = [
            g.write(
                f"{g.name('wardens')}.txt",
                "// who may do all\n" + "".join(f"{one.id} // {one.name}\n" for one in players[:3]),
                days=9,
            )
        ]
        made.append(
            g.write(
                f"{g.name('guests')}.txt", "# who may come in\n" + "".join(f"{one.id}\n" for one in players), days=2
            )
        )
    elif kind == "owner":
        lines = "".join(
            f'{word} {one.id} "{one.name}"\n'
            for one, word in zip(players, ["owner", *["helper"] * 2, *["guest"] * 20], strict=False)
        )
        made = [g.write(f"{g.name('users')}.cfg", lines, days=4)]
    elif kind == "line":
        made = [g.write(f"{g.name('guests')}.lst", ",".join(one.id for one in players) + "\n", days=4)]
    else:
        made = []
    for path in made:
        g.role("access", path)
    g.fact("players", "known by id", str(len(players)))


def player_files(g: Ground, kind: str, players: Sequence[Person], world: World) -> None:
    """A file of each player."""
    folder = world.players or g.name("<players>")
    ends = {
        "id": "{}.dat",
        "prefixed": g.word("acct") + "_{}.chr",
        "suffixed": "{}_profile.json",
        "folder": "{}/" + g.name("pack") + ".bin",
        "text": "{}.txt",
    }
    if kind not in ends:
        return
    made = []
    for at, one in enumerate(players):
        if kind == "suffixed":
            data: bytes | str = json.dumps({g.word("purse"): at * 3, g.word("haunt"): [at, at + 1]})
        elif kind == "text":
            data = f"{g.word('purse')} {at * 3}\n{g.word('haunt')} {at} {at + 1}\n"
        else:
            data = g.blob(1.5)
        made.append(g.write(f"{folder}/{ends[kind].format(one.id)}", data, days=at / 3))
    g.role("players", *made, about="a file of each player")
    g.fact("bound", "players' files", *made)


def progress(g: Ground, kind: str, players: Sequence[Person]) -> None:
    """What players earn, in SQLite: alone, or beside tables of the admin's."""
    if not kind:
        return
    path = f"{g.name('<data>')}/{g.name('tally')}.sqlite"
    file = g.root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    theirs, admins = g.word("purses"), g.word("prices")
    with closing(sqlite3.connect(file)) as database, database:
        database.execute(f"create table {theirs} (owner text, {g.word('coins')} integer)")
        database.executemany(
            f"insert into {theirs} values (?, ?)", ((one.id, at * 5) for at, one in enumerate(players))
        )
        if kind == "mixed":
            database.execute(f"create table {admins} ({g.word('good')} text, {g.word('worth')} integer)")
            database.executemany(
                f"insert into {admins} values (?, ?)",
                ((g.word(word), at) for at, word in enumerate(("kelp", "tar", "rope", "oil"))),
            )
    g.times[path] = 0.1
    g.role("progress|databases" if kind == "mixed" else "progress", path)
    g.fact("tables", path, theirs)


def extensions(g: Ground, kind: str, players: Sequence[Person], version: str) -> None:
    """Extensions, one of which has data of players and one settings of the admin's."""
    if not kind:
        return
    folder = g.name("<plugins>")
    made = [("tar", "2.1.0", ()), ("buoy", "0.9.4", ("tar",))]
    for word, told, needs in made:
        manifest = {
            "name": g.word(word),
            "version": told,
            "built-for": version,
            "needs": [g.word(need) for need in needs],
        }
        if kind in ("archives", "framework"):
            path = g.write(
                f"{folder}/{g.word(word)}-{told}.zip",
                archive({"extension.json": json.dumps(manifest), "code.bin": "\0\1"}),
                days=60,
            )
        elif kind == "unpacked":
            path = g.write(f"{folder}/{g.word(word)}/manifest.json", json.dumps(manifest), days=60)
            g.write(f"{folder}/{g.word(word)}/code.lua", "local m = {}\nreturn m\n", days=60)
        else:
            path = g.write(
                f"{folder}/{g.word(word)}.lua",
                f"-- name: {g.word(word)}\n-- version: {told}\nlocal m = {{}}\nfunction m.start()\nend\nreturn m\n",
                days=60,
            )
        g.role("extensions", path, about=f"the extension {word}")
        g.fact("extension", g.word(word), told)
    at = {
        "framework": g.name("<data>"),
        "archives": folder,
        "unpacked": g.name("<config>"),
        "scripts": g.name("<data>"),
    }[kind]
    both = {g.word("purses"): {one.id: {g.word("coins"): number} for number, one in enumerate(players)}}
    path = g.write(f"{at}/{g.word('tar')}/{g.name('state')}.json", json.dumps(both, indent=1), days=0.1)
    g.role("extension-data", path, about="what an extension keeps of players")
    g.fact("bound", "extension data", path)
    settings = g.write(
        f"{at if kind != 'framework' else g.name('<config>')}/{g.word('tar')}/{g.name('<config>')}.yml",
        f"{g.word('toll')}: 4\n{g.word('limit')}: 12\n",
        days=60,
    )
    g.role("settings", settings, about="settings of an extension")
    shop = {
        g.word("wares"): [
            {"good": g.word(word), "price": number} for number, word in enumerate(("kelp", "tar", "rope"))
        ],
        g.word("purses"): {one.id: number for number, one in enumerate(players)},
    }
    path = g.write(f"{at}/{g.word('buoy')}/{g.name('shop')}.json", json.dumps(shop, indent=1), days=0.1)
    g.role("extension-data", path, about="the admin's shop and players in one file")
    g.fact("bound", "one file for both", path)


# --- logs and noise ------------------------------------------------------------------


def log(g: Ground, kind: str, version: str, players: Sequence[Person], folder: str = "<logs>") -> None:
    """The server's log."""
    if not kind:
        return
    stamp = {
        "clock": "[19:12:4{}] ",
        "iso": "2026-11-28T19:12:4{}Z ",
        "epoch": "17959{}0400 ",
        "jsonish": "[19:12:4{}] [INFO] ",
    }[kind.partition(" ")[0]]
    said = [
        f"{g.word('heron')} {version} {g.word('wakes')}",
        g.text("{heron} reads the {tarn}"),
        g.text("{tarn} is open, ready for visitors after 3.2 s"),
    ]
    if "joined" in kind:
        said = [f"{g.word('heron')} {version} ready after 3.2 s"]
    if kind.startswith("jsonish"):
        said.append('{"event": "' + g.word("bell") + '", "help": "' + g.word("tide") + '"}')
    said += [g.text("{heron} lands ") + g.word(ware) for ware in ("kelp", "tar", "rope")]
    for one in players[:4]:
        said += [
            g.text("{wader} ") + one.name + g.text(" steps ashore"),
            g.text("{wader} ") + one.name + g.text(" rows away"),
        ]
    text = "".join(stamp.format(at % 10) + line + "\n" for at, line in enumerate(said))
    data = (
        text.encode("utf-16")
        if "utf-16" in kind
        else text.replace("steps", "stéps").encode("latin-1")
        if "latin" in kind
        else text.encode()
    )
    path = g.write(f"{g.name(folder)}/{g.name('heron')}.log", data, days=0.01)
    g.role("logs", path)
    lines = (text.replace("steps", "stéps") if "latin" in kind else text).splitlines()
    g.fact("ready", "log", next(line for line in lines if "ready" in line))
    if "joined" not in kind:
        g.fact("joined", "log", next(line for line in lines if "ashore" in line))


def noise(g: Ground, kinds: Sequence[str], world: World) -> None:
    """What else lies about."""
    if "vendor" in kinds:
        made = [
            g.write(
                f"{g.name('<share>')}/{g.name('tongues')}/{code}{number}.json",
                json.dumps({g.word(word): f"{word} {number}" for word in ("kelp", "tar", "rope")}),
                days=40,
            )
            for code in ("aa", "bb", "cc")
            for number in range(40)
        ]
        made += [
            g.write(f"{g.name('<share>')}/{g.name('looks')}/{g.word('hull')}{number}.tex", g.blob(2), days=40)
            for number in range(60)
        ]
        made += [
            g.write(
                f"{g.name('<share>')}/{g.name('acts')}/{g.word('act')}{number}.lua",
                f"local a = {number}\nreturn a\n",
                days=40,
            )
            for number in range(40)
        ]
        g.role("engine|unsorted", *made, about="what the vendor ships by the thousand")
    if "notes" in kinds:
        g.role(
            "unsorted|access|settings",
            g.write("notes to self.txt", "restart on mondays\nask about the tar\n", days=100),
            about="a note",
        )
    if "dumps" in kinds:
        g.role(
            "logs|scratch|unsorted",
            g.write(f"{g.name('<crashes>')}/{g.word('fault')}-2026-10-02.dmp", g.blob(90), days=57),
            about="a crash dump",
        )
    if "odd" in kinds:
        g.role(
            "unsorted|settings",
            g.write("Lies mich (bitte) [neu] — Äpfel & Öl.txt", "x y z\n", days=80),
            about="an odd name",
        )
    if "cache" in kinds:
        g.role(
            "scratch",
            g.write(f"<cache>/{g.word('bits')}.bin".replace("<cache>", "cache"), g.blob(20), days=0.1),
            about="a cache",
        )
    if "old server" in kinds:
        made = [
            g.write(f"old server 2025/{path}", (g.root / path).read_bytes(), days=400) for path in [*world.live[:4]]
        ]
        g.role("unsorted|world", *made, about="an old copy of the server")
        world.copies += made
    if "economy" in kinds:
        rows = "".join(
            f'  <{g.word("ware")} name="{g.word(word)}" worth="{at}"/>\n'
            for at, word in enumerate(("kelp", "tar", "rope", "oil", "net", "peat"), 1)
        )
        path = g.write(
            f"{g.name('trade')}/{g.name('wares')}.xml", f"<{g.word('wares')}>\n{rows}</{g.word('wares')}>\n", days=25
        )
        g.role("economy", path, about="a table of wares")
        stock = [
            {"good": g.word(word), "stock": number * 4, "kind": g.word("bulk")}
            for number, word in enumerate(("kelp", "tar", "rope", "oil", "net", "peat"))
        ]
        g.role(
            "economy",
            g.write(f"{g.name('trade')}/{g.name('stock')}.json", json.dumps(stock), days=25),
            about="the same wares in another table",
        )
        routes = "".join(
            f"- ware: {g.word(word)}\n  {g.word('from')}: {g.word('reef')}\n  {g.word('toll')}: {number}\n"
            for number, word in enumerate(("kelp", "tar", "rope", "oil"))
        )
        g.role(
            "economy", g.write(f"{g.name('trade')}/{g.name('routes')}.yaml", routes, days=25), about="and in a third"
        )
        g.fact("record", f"{path}:{g.word('wares')}/{g.word('ware')}", "@name")


def decoys(g: Ground, world: World) -> None:
    """What looks like something and is not: a text named like a save, a number like a seed, a value that is a file's name."""
    end = world.live[0].rsplit("/", 1)[-1].rsplit(".", 1)[-1]
    path = g.write(
        f"{g.name('about saves')}.{end}" if len(end) < 6 else f"{g.name('about saves')}.txt",
        "how saves are named, in words\n" * 4,
        days=0.001,
    )
    g.role("unsorted|settings|access", path, about="a text named like a save")
    g.fact("not world", path, path)
    for_name = next((one.rsplit("/", 1)[-1].split(".")[0] for one in (*world.dead, *world.copies)), g.name("reef"))
    path = g.write(
        f"{g.name('client')}.ini",
        f"[{g.word('look')}]\n{g.word('number')}=48151\n{g.word('banner')}={for_name}\n",
        days=70,
    )
    g.fact("not pointer", path, path)
    g.role("settings", path, about="settings of no weight")
