"""Real, open-source game servers of other shapes: run, adopted with no hint, snapshotted hot and cold, proven by drills,
damaged, restored, wiped, updated, carried into a fresh install.

Debian's packages ``minetest-server``, ``openttd``, ``freeciv-server``, ``tinymux``, ``crossfire-server`` and ``crossfire-maps`` bring them. Where
one is missing its tests are skipped, unless EMBERKEEP_REAL_ENGINE is ``required``, as in CI. Each runs in a temporary folder,
is spoken to on loopback, and is ended by its console or its own id.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import socket
import struct
import tempfile
import tomllib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import pytest

from emberkeep.process.signs import wait_for
from tests.conftest import free_ports, tree_state
from tests.program import Ran, run_program

REQUIRED = os.environ.get("EMBERKEEP_REAL_ENGINE") == "required"
NOBODY = 65534
pytestmark = [pytest.mark.real_engine, pytest.mark.long]


@dataclass(frozen=True)
class Edited:
    """A text of a package, and what admin and vendor write instead of two of its lines."""

    path: str
    mine: tuple[str, str]
    vendors: tuple[str, str]

    def edit(self, server: Path, *sides: tuple[str, str]) -> None:
        """Write the sides' values in."""
        text = (server / self.path).read_text()
        for before, after in sides:
            assert text.count(before) == 1, (self.path, before)
            text = text.replace(before, after)
        (server / self.path).write_text(text)


@dataclass(frozen=True)
class Engine:
    """What a server folder is made of, and what an admin who read our docs adds to keep.toml."""

    name: str
    program: str
    data: Mapping[str, str]
    """Folders of the package -> where they lie in the server folder; files too."""
    script: str
    launch: str
    further: Mapping[str, str]
    """Files that the admin writes."""
    told: str
    play: Callable[[Path, int], object]
    """What happens there while it runs."""
    facts: Mapping[str, object]
    """What adopt must find once it has run: see :func:`_found`."""
    world: tuple[str, ...]
    """Globs of what a wipe of the map clears."""
    edited: Edited
    """The admin's and the vendor's edits of one of the package's own files."""
    changed: str
    dropped: str
    """Files of the package that the next release changes, and has no more."""
    as_root: bool = True
    roles: str = ""
    """Roles that the admin adds, in keep.toml's words."""
    players: tuple[str, ...] = ()
    """Files of two players, each called as its player is."""


def _order(line: str) -> Callable[[Path, int], object]:
    def play(server: Path, port: int) -> None:
        with (server / "orders").open("w") as pipe:
            pipe.write(line + "\n")

    return play


def _visit(server: Path, port: int) -> None:
    """Somebody comes in by the game's own text protocol, makes something, and leaves."""
    for name in ("Annika", "Bertil"):
        with socket.create_connection(("127.0.0.1", port), timeout=10) as line:
            line.settimeout(2)
            line.sendall(f"create {name} secret12\r\n@create chest\r\n@dig Cave\r\nQUIT\r\n".encode())
            while line.recv(65536):
                pass


RAILS = Engine(
    "rails",
    "/usr/games/openttd",
    {"/usr/share/games/openttd": "."},
    "start.sh",
    """#!/bin/sh
cd "$(dirname "$0")" || exit 1
[ -p orders ] || mkfifo orders
LOAD=""
[ -f save/evening.sav ] && LOAD="-g save/evening.sav"
exec ./openttd -D 127.0.0.1:{port} -c openttd.cfg $LOAD <> orders >> server.log 2>&1
""",
    {"openttd.cfg": "[network]\nserver_name = Gannet Rock rails\nmax_clients = 9\n"},
    """
[console]
kind = "fifo"
path = "orders"
phrases = {{ save = "save evening", stop = "quit" }}
[stop]
still = "1 s"
limit = "20 s"
terminate = "10 s"
[rehearse]
set = {{ "start.sh" = {{ "-D" = "127.0.0.1:{other}" }} }}
""",
    _order("save evening"),
    {
        "script": "start.sh",
        "program": "openttd",
        "world": "save/evening.sav",
        "settings": "openttd.cfg",
        "log": "server.log",
        "name": "Gannet Rock rails",
    },
    ("save/evening.sav",),
    Edited(
        "baseset/no_sound.obs",
        ("description.en_US = A sound pack without any sounds.", "description.en_US = Silence on Gannet Rock."),
        ("version           = 2\n", "version           = 3\n"),
    ),
    "ai/compat_0.7.nut",
    "game/compat_1.2.nut",
)
REALMS = Engine(
    "realms",
    "/usr/games/freeciv-server",
    {"/usr/share/games/freeciv/civ2civ3": "data/civ2civ3", "/usr/share/games/freeciv/override": "data/override",
     "/usr/share/games/freeciv/default": "data/default", "/usr/share/games/freeciv/nation": "data/nation",
     "/usr/share/games/freeciv/civ2civ3.serv": "data/civ2civ3.serv"},
    "start.sh",
    """#!/bin/sh
cd "$(dirname "$0")" || exit 1
[ -p orders ] || mkfifo orders
export FREECIV_DATA_PATH=data
exec ./freeciv-server --port {port} --bind 127.0.0.1 --read rock.serv --saves saves --log server.log <> orders > /dev/null 2>&1
""",
    {"rock.serv": "# Gannet Rock\nset aifill 3\nset saveturns 1\nset savename rock\nset endturn 2000\nset minplayers 0\nset timeout 2\n"},
    """
[console]
kind = "fifo"
path = "orders"
phrases = {{ stop = "quit" }}
[stop]
still = "1 s"
limit = "20 s"
terminate = "10 s"
""",
    _order("start"),
    {"script": "start.sh", "program": "freeciv-server", "world": "saves", "log": "server.log", "pointer": "--saves"},
    ("saves/*",),
    Edited(
        "data/civ2civ3/game.ruleset",
        ("init_vis_radius_sq      = 5\n", "init_vis_radius_sq      = 9\n"),
        ("base_pollution   = -20\n", "base_pollution   = -18\n"),
    ),
    "data/civ2civ3/README.civ2civ3",
    "data/override/shields.spec",
    as_root=False,
)  # fmt: skip
WORDS = Engine(
    "words",
    "/usr/lib/tinymux/game/bin/netmux",
    {"/usr/share/tinymux/game": ".", "/usr/lib/tinymux/game/bin": "bin"},
    "Startmux",
    "",
    {},
    """
[console]
kind = "line"
address = "127.0.0.1:{port}"
secret = {{ env = "WIZARD" }}
phrases = {{ save = "@dump", stop = "@shutdown" }}
pause = "1 s"
[stop]
still = "1 s"
limit = "20 s"
terminate = "10 s"
[rehearse]
set = {{ "netmux.conf" = {{ port = "{other}" }} }}
""",
    _visit,
    {
        "script": "Startmux",
        "program": "bin/netmux",
        "world": "data/netmux.db",
        "settings": "netmux.conf",
        "pointer": "GAMENAME",
    },
    ("data/netmux.*",),
    Edited(
        "netmux.conf",
        ("raw_helpfile help text/help\n", "raw_helpfile help text/help\nmoney_name_singular shell\n"),
        ("mud_name AnonymousMUX\n", "mud_name GannetMUX\n"),
    ),
    "text/news.txt",
    "text/badsite.txt",
    as_root=False,
)
DATA, MAPS = Path("/usr/share/games/crossfire"), ("world", "unlinked", "mlab", "brest", "pup_land")
"""Folders of maps that stay away for their size; of the first the middle is there."""


def _visit_mazes(server: Path, port: int) -> None:
    """Two players come, are saved, and one changes a map: lengths before all that is said, as its protocol has it."""
    for name in (b"Annika", b"Bertil"):
        made = [b"race human_player", b"class warrior_class", b"starting_map map_scorn"]
        made += [stat + b" 12" for stat in (b"Str", b"Dex", b"Con", b"Int", b"Wis", b"Pow", b"Cha")]
        said = [b"version 1023 1029 visitor", b"setup loginmethod 2 map2cmd 1 newmapcmd 1 extendedTextInfos 1"]
        said += [b"accountnew " + b"".join(bytes([len(word)]) + word for word in (name.lower(), b"secret12"))]
        said += [b"createplayer " + b"".join(bytes([len(word)]) + word for word in (name, b"secret12"))]
        said[-1] += b"".join(bytes([len(word) + 1]) + word + b"\0" for word in made)
        orders = [
            b"dm potrzebie",
            b"addexp " + name + b" 5000",
            b"goto /scorn/apartment/apartments",
            b"save",
            b"overlay_save",
        ]
        said += [b"ncom " + struct.pack(">HI", 1, 1) + order for order in orders]
        with socket.create_connection(("127.0.0.1", port), timeout=10) as line:
            line.settimeout(0.7)
            for words in said:
                line.sendall(struct.pack(">H", len(words)) + words)
                with contextlib.suppress(TimeoutError):
                    while line.recv(65536):
                        pass
        assert wait_for((server / "var" / "players" / name.decode() / f"{name.decode()}.pl").exists, 10)


MAZES = Engine(
    "mazes",
    "/usr/sbin/crossfire-server",
    {"/etc/crossfire": "etc"}
    | {str(path): f"share/{path.name}" for path in (DATA.iterdir() if DATA.exists() else ()) if path.name != "maps"}
    | {
        str(path): f"share/maps/{path.name}"
        for path in ((DATA / "maps").iterdir() if DATA.exists() else ())
        if path.name not in MAPS and path.exists()
    }
    | {
        str(DATA / "maps" / "world" / name): f"share/maps/world/{name}"
        for x in range(103, 108)
        for y in range(113, 118)
        if (name := f"world_{x}_{y}")
    },
    "start.sh",
    """#!/bin/sh
cd "$(dirname "$0")" || exit 1
exec ./crossfire-server -conf etc -data share -local var -p {port} -disable-plugin All -log logfile > /dev/null 2>&1
""",
    {
        "etc/dm_file": "Annika:potrzebie:*\nBertil:potrzebie:*\n",
        **{f"var/{name}/.keep": "" for name in ("account", "datafiles", "players", "temp.maps", "unique-items")},
    },
    """
[stop]
still = "1 s"
limit = "2 s"
terminate = "10 s"
""",
    _visit_mazes,
    {
        "script": "start.sh",
        "program": "crossfire-server",
        "settings": "etc/settings",
        "log": "logfile",
        "world": [],
        "players": "var/players/*/**",
    },
    ("var/maps/**/*", "var/unique-items/*"),
    Edited(
        "etc/settings",
        ("starting_stat_max 18\n", "starting_stat_max 19\n"),
        ("pk_luck_penalty 1\n", "pk_luck_penalty 2\n"),
    ),
    "share/maps/start/newbieshouse",
    "share/maps/test/quest_handling/timetest.msg",
    as_root=False,
    roles='world = ["var/maps/**", "var/unique-items/**"]\n',
    players=("var/players/Annika/Annika.pl", "var/players/Bertil/Bertil.pl"),
)
LANDS = Engine(
    "lands",
    "/usr/lib/minetest/minetestserver",
    {"/usr/share/games/minetest/games/minetest_game": "games/skerries", "/etc/minetest/minetest.conf": "server.conf"},
    "start.sh",
    """#!/bin/sh
cd "$(dirname "$0")" || exit 1
export MINETEST_SUBGAME_PATH="$PWD/games"
exec ./minetestserver --world world --gameid skerries --port {port} --config server.conf --logfile debug.txt > /dev/null 2>&1
""",
    {
        "world/world.mt": "gameid = skerries\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\n",
    },
    """
[stop]
still = "1 s"
limit = "1 s"
terminate = "30 s"
""",
    lambda server, port: None,
    {
        "script": "start.sh",
        "program": "minetestserver",
        "world": "world",
        "settings": "server.conf",
        "log": "debug.txt",
    },
    ("world/map.sqlite", "world/force_loaded.txt", "world/ipban.txt"),  # the last is empty
    Edited(
        "server.conf",
        ("ipv6_server = true\n", "ipv6_server = false\nbind_address = 127.0.0.1\n"),
        ("max_users = 15\n", "max_users = 20\n"),
    ),
    "games/skerries/mods/keys/README.txt",
    "games/skerries/schematic_tables.txt",
)
ENGINES = [
    pytest.param(
        one,
        id=one.name,
        marks=pytest.mark.skipif(not REQUIRED and not Path(one.program).exists(), reason=f"no {one.program} here"),
    )
    for one in (LANDS, RAILS, REALMS, WORDS, MAZES)
]
READY = {
    "lands": "listening on",
    "rails": "Network revision name",
    "realms": "Now accepting new client connections",
    "words": "Load complete",
    "mazes": "Waiting for connections",
}
LOGS = {"lands": "debug.txt", "rails": "server.log", "realms": "server.log", "words": "*.log", "mazes": "logfile"}


class Played:
    """A server folder of a real engine, adopted, and how it is run."""

    def __init__(self, engine: Engine, place: Path, name: str = "") -> None:
        self.engine, self.place = engine, place
        self.server, self.keep = place / (name or engine.name), place / f"{name or engine.name}.keep"
        self.port, self.other = free_ports(2)

    def make(self, server: Path) -> None:
        """A fresh install."""
        server.mkdir()
        for source, target in self.engine.data.items():
            copy = shutil.copytree if Path(source).is_dir() else shutil.copy2
            (server / target).parent.mkdir(parents=True, exist_ok=True)
            copy(source, server / target, **({"dirs_exist_ok": True} if Path(source).is_dir() else {}))
        if self.engine.launch:
            shutil.copy2(self.engine.program, server / Path(self.engine.program).name)
            (server / self.engine.script).write_text(self.engine.launch.format(port=self.port))
            (server / self.engine.script).chmod(0o755)
        else:
            told = (server / "netmux.conf").read_text().replace("port 2860", f"port {self.port}")
            (server / "netmux.conf").write_text(told)
        for path, text in self.engine.further.items():
            (server / path).parent.mkdir(parents=True, exist_ok=True)
            (server / path).write_text(text)
        self.own(server)

    def own(self, server: Path) -> None:
        """Some engines refuse to be root: then all of it is of somebody else."""
        if os.geteuid() == 0 and not self.engine.as_root:
            for path in (server, *server.rglob("*")):
                os.chown(path, NOBODY, NOBODY, follow_symlinks=False)

    def release(self, name: str) -> Path:
        """What the vendor gives."""
        self.make(self.place / name)
        for path in self.engine.further:
            (self.place / name / path).unlink()
        return self.place / name

    def of_world(self) -> list[Path]:
        """Files of the map."""
        found = {path for glob in self.engine.world for path in self.server.glob(glob) if path.is_file()}
        return sorted(found)

    def tell(self) -> None:
        """What an admin adds to keep.toml, from our docs alone."""
        told = self.keep / "keep.toml"
        lines = [line for line in told.read_text().splitlines() if not line.startswith(("# ?", "ready = "))]
        text = "\n".join(lines) + "\n"
        at = text.find("\n[start]")
        if at >= 0:
            end = text.find("\n[", at + 2)
            text = text[:at] + (text[end:] if end >= 0 else "\n")
        user = '\nuser = "nobody"' if os.geteuid() == 0 and not self.engine.as_root else ""
        start = (
            f'\n[start]\ncommand = ["./{self.engine.script}"]\nlog = ["{LOGS[self.engine.name]}"]\n'
            f"ready = '{READY[self.engine.name]}'\nlimit = \"180 s\"{user}\n"
        )
        if self.engine.roles:
            text = (
                text.replace("\n[roles]", '\n[scopes.map]\nfiles = ["world"]\n\n[roles]')
                if "[scopes.map]" not in text
                else text
            )
            text = re.sub(r"(?m)^(\[roles\].*)$", rf"\1\n{self.engine.roles}", text)
        told.write_text(text + start + self.engine.told.format(port=self.port, other=self.other))

    def run(self, *words: str | Path) -> Ran:
        return run_program(
            "--keep", self.keep, *words, cwd=self.place, environment={"WIZARD": "connect wizard potrzebie"}
        )

    def ok(self, *words: str | Path, codes: tuple[int, ...] = (0,)) -> Ran:
        done = self.run(*words)
        assert done.code in codes, (words, done.out, done.err)
        return done


@pytest.fixture
def played(request: pytest.FixtureRequest) -> Iterator[Played]:
    """In a folder of its own that other users can come to: pytest closes its own to them, at each start of another."""
    with tempfile.TemporaryDirectory() as room:
        Path(room).chmod(0o755)
        made = Played(request.param, Path(room))
        made.make(made.server)
        made.engine.edited.edit(made.server, made.engine.edited.mine)
        made.own(made.server)
        assert run_program("adopt", made.server, cwd=made.place).code == 0
        made.tell()
        yield made
        made.run("stop", "--go")


def _found(keep: Path) -> dict[str, object]:
    told = tomllib.loads((keep / "keep.toml").read_text())
    roles = told["roles"]
    world = told.get("world", {})
    return {
        "script": told.get("launch", {}).get("script"),
        "program": told.get("launch", {}).get("program"),
        "world": [glob.removesuffix("/**") for glob in roles.get("world", [])],
        "settings": roles.get("settings", []),
        "log": told.get("log", {}).get("in", []),
        "players": roles.get("players", []),
        "pointer": world.get("pointer", {}).get("key"),
        "name": told["server"]["name"],
    }


@pytest.mark.parametrize("played", ENGINES, indirect=True)
def test_from_adoption_to_an_update_that_is_taken_back(played: Played) -> None:
    engine = played.engine
    played.ok("start", "--go", codes=(0, 1))
    engine.play(played.server, played.port)
    assert wait_for(lambda: any(any(played.server.glob(glob)) for glob in engine.world), 30)
    assert _runs(played)
    assert played.run("snapshot").code == 3
    played.ok("snapshot", "--while-running", "--note", "hot", codes=(0, 1))
    (played.server / "notes.txt").write_text("one more")
    assert played.run("restore", "hot", "--go").code == 3
    (played.server / "notes.txt").unlink()
    played.ok("stop", "--go")
    assert not _runs(played)

    # adopted anew, with no hint, now that it has been played on
    played.ok("drill", "hot", codes=(0, 1))
    shutil.rmtree(played.keep)
    assert run_program("adopt", played.server, cwd=played.place).code == 0
    found = _found(played.keep)
    for kind, wanted in engine.facts.items():
        said = found[kind]
        is_among = isinstance(said, list) and not isinstance(wanted, list)
        assert wanted in said if is_among else said == wanted, (kind, said)
    played.tell()
    assert played.run("check").code in (0, 1)
    played.ok("snapshot", "--note", "cold", codes=(0, 1))
    played.ok("drill", "cold", codes=(0, 1))

    whole = tree_state(played.server)
    for path in played.of_world():
        path.write_bytes(b"griefed")
    (played.server / engine.script).unlink()
    shown = played.run("diff", "cold", "live")
    assert engine.script in shown.out
    assert shown.code == 1 or "not a database" in shown.out, shown  # 2: a side cannot be read any more
    played.ok("restore", "cold", "--go", codes=(0, 1))
    assert tree_state(played.server) == whole

    played.ok("wipe", "map", "--no-start", codes=(0, 1))
    cleared = {path.relative_to(played.server).as_posix() for path in played.of_world()}
    played.ok("wipe", "map", "--no-start", "--go", codes=(0, 1))
    now = tree_state(played.server)
    assert {path for path in whole if whole[path][0] == "file" and path not in now} == cleared
    played.ok("undo", "--go", codes=(0, 1))
    assert tree_state(played.server) == whole

    _update(played, whole)
    _carry(played)
    if engine.players:
        _one_player(played)


def _runs(played: Played) -> bool:
    return any(line.startswith("running") for line in played.run("survey").out.splitlines())


def _one_player(played: Played) -> None:
    """One player is as she was, and another as he is."""
    hers, his = (played.server / path for path in played.engine.players)
    whole, facts, before = tree_state(played.server), his.stat(), his.read_bytes()
    for path in (hers, his):
        path.write_bytes(b"robbed")
    played.ok("restore", "cold", "--player", hers.stem, "--go", codes=(0, 1))
    assert his.read_bytes() == b"robbed"
    his.write_bytes(before)
    os.utime(his, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    assert _but_folders(tree_state(played.server)) == _but_folders(whole)
    assert "potrzebie" not in played.ok("history").out  # her word for the lines of administrators is not her name


def _but_folders(state: Mapping[str, tuple[object, ...]]) -> dict[str, tuple[object, ...]]:
    return {path: told for path, told in state.items() if told[0] == "file"}


def _update(played: Played, whole: Mapping[str, tuple[object, ...]]) -> None:
    """A made-up next release of the real files, of which some are new, changed and gone: it comes, runs and tells its own
    number; one that does not start is taken back by itself; and all of it is taken back to the byte."""
    engine = played.engine
    pristine, new = played.release("pristine"), played.release("release")
    played.ok("defaults", "record", "1.0", pristine, codes=(0, 1))
    brought = [f"{Path(str(engine.facts['program'])).parent!s}/brought.so", "news-of-the-release.txt"]
    for path in brought:
        (new / path).write_bytes(b"\x7fELF brought by the release")
    engine.edited.edit(new, engine.edited.vendors)
    with (new / engine.changed).open("a") as changed:
        changed.write("\n")
    (new / engine.dropped).unlink()

    words: tuple[str | Path, ...] = ("update", new, "--to", "99.1")
    if played.run(*words).code == 3:  # nothing in its files or log tells a version: the admin does
        words = (*words, "--from", "1.0")
    played.ok(*words, codes=(0, 1))
    before = tree_state(played.server)
    rehearsed = played.ok(*words, "--rehearse", played.place / "rehearsal", codes=(0, 1))
    assert "Ready: " in rehearsed.out, rehearsed.out
    assert tree_state(played.server) == before

    program = new / str(engine.facts["program"])
    works = program.read_bytes()
    program.write_text("#!/bin/sh\nexit 3\n")
    failed = played.run(*words, "--go")
    assert (failed.code, _but_logs(tree_state(played.server))) == (5, _but_logs(whole)), failed
    program.write_bytes(works)

    done = played.ok(*words, "--go", codes=(0, 1))
    assert "--from" in words or "99.1 was to run, and the log" in done.out, done.out
    assert all((played.server / path).exists() for path in brought), done.out
    assert (played.server / engine.changed).read_bytes() == (new / engine.changed).read_bytes()
    assert not (played.server / engine.dropped).exists(), done.out
    engine.edited.edit(pristine, engine.edited.mine, engine.edited.vendors)
    assert (played.server / engine.edited.path).read_text() == (pristine / engine.edited.path).read_text()
    played.ok("stop", "--go")
    played.ok("undo", "--go", codes=(0, 1))
    assert _but_logs(tree_state(played.server)) == _but_logs(whole)


def _but_logs(state: Mapping[str, tuple[object, ...]]) -> dict[str, tuple[object, ...]]:
    """What an engine writes while it starts is left out, and the folder in which that lies."""
    return {
        path: told for path, told in state.items() if not path.endswith(("log", "/.")) and path not in (".", "orders")
    }


def _carry(played: Played) -> None:
    """A fresh install beside it gets all that is the server's own, and starts."""
    second = Played(played.engine, played.place, "second")
    second.make(second.server)
    whole = tree_state(played.server)
    played.ok("carry", played.server, second.server, "--mine", "--from", "1.0", codes=(0, 1))
    played.ok("carry", played.server, second.server, "--mine", "--from", "1.0", "--go", codes=(0, 1))
    for path in played.of_world():
        assert (second.server / path.relative_to(played.server)).read_bytes() == path.read_bytes()
    second.own(second.server)
    second.ok("start", "--go", codes=(0, 1))
    second.ok("stop", "--go")
    assert tree_state(played.server) == whole
