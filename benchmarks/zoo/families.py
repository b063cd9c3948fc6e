"""Families of made-up servers, as unlike each other as real ones are: two thirds of them, which the inference may learn from."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import parts
from ground import Ground, Style


@dataclass(frozen=True)
class Family:
    """What a family is put together from. ``pointer``: a form of settings, ``variable`` or ``argument`` of the script, or ""
    where nothing leads to the world; ``players``: how their files are named, "" for none."""

    name: str
    world: str
    pointer: str
    engine: str
    script: str
    ids: str
    people: str
    players: str = ""
    progress: str = ""
    extensions: str = ""
    log: str = ""
    logs: str = "<logs>"
    noise: tuple[str, ...] = ()
    further: str = ""
    """A second settings file, of this form, which says nothing of the world."""
    updater: bool = False
    old_script: str = ""


OPEN = (
    Family(
        "selkie",
        "tiles",
        "properties",
        "elf",
        "variables",
        "uuid",
        "json",
        "id",
        "",
        "archives",
        "clock utf-8",
        noise=("cache", "notes"),
    ),
    Family(
        "bight",
        "one save",
        "ini",
        "pe",
        "cmd",
        "long",
        "text",
        "prefixed",
        "",
        "",
        "iso utf-8",
        noise=("dumps", "economy"),
        further="cfg",
    ),
    Family(
        "gannetry", "table", "yaml", "archive", "loop", "uuid", "owner", "", "mixed", "framework", "", noise=("notes",)
    ),
    Family("stacks", "numbered", "", "elf", "arguments", "long", "ids", "", "own", "", "epoch utf-8", further="cfg"),
    Family(
        "skerries",
        "regions",
        "yaml",
        "named",
        "variables",
        "small",
        "json",
        "folder",
        "",
        "unpacked",
        "clock utf-8",
        noise=("old server",),
    ),
    Family(
        "causeway",
        "cluster",
        "argument",
        "elf",
        "arguments",
        "hash",
        "json",
        "id",
        "",
        "",
        "iso latin-1",
        further="indexed",
    ),
    Family("saltmarsh", "hashed", "toml", "bin", "variables", "bare", "json", "id", "", "scripts", "clock joined"),
    Family(
        "strand", "store", "json", "elf", "loop", "uuid", "json", "", "own", "archives", "iso utf-8", noise=("cache",)
    ),
    Family("fleet", "sessions", "argument", "pe", "ps1", "bare", "line", "suffixed", "", "", "", further="xml"),
    Family(
        "coombe",
        "small slots",
        "properties",
        "interpreted",
        "variables",
        "name",
        "",
        "text",
        "",
        "",
        "clock utf-8",
        further="lua",
    ),
    Family(
        "garrison",
        "in mission",
        "cfg",
        "pe",
        "cmd",
        "long",
        "text",
        "",
        "mixed",
        "",
        "clock utf-16",
        noise=("dumps",),
        old_script="sh",
    ),
    Family(
        "guild",
        "one save",
        "xml",
        "archive",
        "variables",
        "uuid",
        "json",
        "id",
        "",
        "framework",
        "jsonish utf-8",
        noise=("vendor",),
    ),
    Family(
        "haar",
        "dated copies",
        "lua",
        "elf",
        "variables",
        "long",
        "owner",
        "suffixed",
        "",
        "scripts",
        "iso utf-8",
        logs="journal",
        updater=True,
    ),
    Family(
        "vendored",
        "tiles",
        "json",
        "bin",
        "loop",
        "bare",
        "ids",
        "id",
        "",
        "unpacked",
        "epoch utf-8",
        noise=("vendor", "odd"),
    ),
    Family(
        "whelk",
        "regions",
        "variable",
        "elf",
        "variables",
        "long",
        "text",
        "prefixed",
        "mixed",
        "",
        "clock latin-1",
        noise=("old server", "economy"),
        further="ini",
    ),
    Family(
        "ness",
        "table",
        "indexed",
        "pe",
        "cmd",
        "hash",
        "line",
        "id",
        "",
        "",
        "iso utf-16",
        further="json",
        updater=True,
    ),
    Family(
        "holm",
        "hashed",
        "variable",
        "named",
        "variables",
        "uuid",
        "owner",
        "folder",
        "own",
        "framework",
        "clock utf-8",
        noise=("cache", "dumps"),
    ),
    Family(
        "geo",
        "store",
        "toml",
        "interpreted",
        "arguments",
        "small",
        "json",
        "",
        "mixed",
        "archives",
        "",
        noise=("vendor", "notes"),
    ),
    Family(
        "drift",
        "small slots",
        "argument",
        "elf",
        "loop",
        "long",
        "ids",
        "prefixed",
        "",
        "unpacked",
        "clock joined utf-8",
        old_script="cmd",
    ),
    Family(
        "cairn",
        "sessions",
        "cfg",
        "bin",
        "variables",
        "uuid",
        "json",
        "id",
        "",
        "scripts",
        "jsonish utf-8",
        noise=("odd", "economy"),
    ),
    # kept back at first, and looked at by their figures alone
    Family(
        "ayre",
        "one save",
        "properties",
        "elf",
        "loop",
        "hash",
        "text",
        "folder",
        "mixed",
        "",
        "iso utf-8",
        noise=("vendor", "odd"),
        further="yaml",
    ),
    Family("baa", "regions", "json", "bin", "arguments", "uuid", "owner", "suffixed", "", "framework", "clock utf-16"),
    Family(
        "clett",
        "tiles",
        "cfg",
        "pe",
        "ps1",
        "long",
        "ids",
        "text",
        "own",
        "",
        "epoch latin-1",
        noise=("economy", "dumps"),
    ),
    Family(
        "drong",
        "table",
        "argument",
        "interpreted",
        "arguments",
        "bare",
        "json",
        "id",
        "",
        "scripts",
        "",
        further="toml",
    ),
    Family(
        "eynhal",
        "numbered",
        "",
        "archive",
        "variables",
        "small",
        "json",
        "prefixed",
        "",
        "archives",
        "clock joined",
        further="xml",
        noise=("notes",),
    ),
    Family(
        "fugla",
        "cluster",
        "toml",
        "named",
        "loop",
        "long",
        "line",
        "id",
        "",
        "unpacked",
        "iso utf-8",
        noise=("old server",),
    ),
    Family(
        "grund", "hashed", "xml", "elf", "arguments", "name", "", "text", "mixed", "", "jsonish utf-8", further="lua"
    ),
    Family(
        "hunda",
        "store",
        "variable",
        "elf",
        "variables",
        "long",
        "text",
        "",
        "own",
        "framework",
        "clock latin-1",
        noise=("cache", "odd"),
        updater=True,
    ),
    Family(
        "lunna",
        "sessions",
        "yaml",
        "archive",
        "loop",
        "uuid",
        "ids",
        "folder",
        "",
        "archives",
        "epoch utf-8",
        noise=("vendor",),
    ),
    Family(
        "mousa",
        "in mission",
        "indexed",
        "elf",
        "arguments",
        "small",
        "owner",
        "suffixed",
        "own",
        "scripts",
        "iso utf-8",
        logs="records",
        old_script="cmd",
    ),
)

STYLES = (
    Style(),
    Style(seed=1, decoys=True),
    Style(seed=2, join="_", scale=0.4, alike=True),
    Style(seed=3, join="", case="camel", scale=3.0, decoys=True),
)


def by_name(name: str) -> Family:
    """A family of the open ones."""
    return next(family for family in OPEN if family.name == name)


def build(family: Family, root: Path, style: Style) -> Ground:
    """One folder of a family, with what is true of it."""
    g = Ground(root, family.name, style)
    version = f"{g.random.randrange(1, 6)}.{g.random.randrange(10)}.{g.random.randrange(10)}"
    players = g.players = g.people(12, family.ids)
    world = parts.WORLDS[family.world](g)
    program, call = parts.engine(g, family.engine, version)
    title, pointer_key = g.text("The {selkie} Stone"), g.name("active tarn")
    pointed = [(g.word("voyage"), pointer_key, world.pointer)] if family.pointer in parts.FORMS else []
    form = family.pointer if family.pointer in parts.FORMS else "ini"
    entries = [
        (g.word("harbour"), "title", title),
        (g.word("harbour"), g.name("most wader"), "40"),
        *pointed,
        (g.word("voyage"), g.name("tide length"), "900"),
    ]
    settings = g.write(g.name("heron") + parts.FORMS[form], parts.written(form, entries), days=15)
    g.role("settings", settings)
    g.fact("name", "server", title)
    if pointed:
        g.fact("pointer", "world", f"{settings}:{pointer_key}")
    if family.further:
        further = [
            (g.word("look"), g.word(word), str(at * 3)) for at, word in enumerate(("fog", "swell", "gull", "foam"), 1)
        ]
        g.role(
            "settings",
            g.write(g.name("further") + parts.FORMS[family.further], parts.written(family.further, further), days=33),
        )
    _launched(g, family, world, program, call)
    _beside(g, family, program, call)
    parts.people(g, family.people, players)
    parts.player_files(g, family.players, players, world)
    parts.progress(g, family.progress, players)
    parts.extensions(g, family.extensions, players, version)
    parts.log(g, family.log, version, players, family.logs)
    parts.noise(g, family.noise, world)
    if style.decoys:
        parts.decoys(g, world)
    told = [version] if family.engine in ("elf", "archive", "named", "interpreted") or family.log else []
    if told:
        g.fact("version", "engine", version)
    at = [world.at]
    if family.world in ("numbered", "one save", "dated copies", "table"):
        at.append(world.at.rpartition("/")[0])
    if family.world == "store":
        at.append(f"{world.at}/db")
    of_the_world(g, world, at)
    for fact in list(g.facts):
        if fact.kind == "tables" and family.progress == "mixed":
            g.fact("leaves progress", "a database with tables of the admin's", fact.about)
        elif fact.kind == "tables":
            g.fact("clears progress", "a database of players alone", fact.about)
    g.finish()
    return g


def _launched(g: Ground, family: Family, world: parts.World, program: str, call: str) -> None:
    values = [("port", "--port", "27400"), ("", "--slots", "40")]
    if "seed" in world.numbers:
        values += [
            ("seed", f"--{g.word('gale')}", world.numbers["seed"]),
            ("size", f"--{g.word('breadth')}", world.numbers["size"]),
        ]
    argument = f"--{g.word('tarn')}"
    if family.pointer in ("variable", "argument"):
        values.append(("", argument, world.pointer))
    script = parts.script(g, family.script, program, call, values)
    if family.pointer in ("variable", "argument"):
        key = argument.lstrip("-").upper().replace("-", "_") if family.script in ("variables", "loop") else argument
        g.fact("pointer", "world", f"{script}:{key}")


def _beside(g: Ground, family: Family, program: str, call: str) -> None:
    if family.updater:
        g.role(
            "scripts",
            g.write(
                f"{g.name('<update>')}.sh",
                "#!/bin/sh\ncurl -O https://example.org/next.tar\ntar xf next.tar\n",
                days=200,
            ),
            about="an updater",
        )
        g.run(f"{g.name('<update>')}.sh", 200)
    if family.old_script == "cmd":
        g.role(
            "scripts",
            g.write(f"{g.name('start')}.cmd", f"@echo off\r\n{call} --port 27400\r\n", days=300),
            about="the script of another system",
        )
    if family.old_script == "sh":
        g.role(
            "scripts",
            g.write("start-old.sh", f"#!/bin/sh\n# before the move\n./{g.word('ferry')}.bin --port 1\n", days=700),
            about="an old script",
        )


def of_the_world(g: Ground, world: parts.World, at: list[str]) -> None:
    """Which files are the world's and what wipes must clear and leave. ``at``: what may be said of where it is."""
    g.fact("world", "live", *at)
    g.role("world", *world.live, about="the live world")
    if world.dead:
        g.role("world|unsorted", *world.dead, about="worlds that are not played")
        g.fact("leaves map", "worlds that are not played", *world.dead)
    if not world.by_rows:
        g.fact("clears map", "the live world", *world.live)
    kinds = ("settings", "economy", "access", "scripts", "engine", "extensions")
    made = [path for fact in g.facts if fact.kind == "role" and fact.expected[0] in kinds for path in fact.paths]
    g.fact("leaves map", "what the admin and the vendor made", *made)
    theirs = [path for fact in g.facts if fact.kind == "role" and fact.expected == ("players",) for path in fact.paths]
    if theirs:
        g.fact("clears players", "a file of each player", *theirs)
    g.fact("leaves players", "what the admin and the vendor made", *made)
