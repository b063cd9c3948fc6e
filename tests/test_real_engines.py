"""Real, open-source game servers of other shapes: run, adopted with no hint, snapshotted hot and cold, proven by drills,
damaged, restored, wiped, updated.

Debian's packages ``openttd``, ``freeciv-server`` and ``tinymux`` bring them. Where one is missing its tests are skipped,
unless EMBERKEEP_REAL_ENGINE is ``required``, as in CI. Each runs on loopback in a temporary folder, and is ended by its
console or its own id.
"""

from __future__ import annotations

import os
import shutil
import socket
import tomllib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import pytest

from emberkeep.servers.process import wait_for
from tests.conftest import free_ports, tree_state
from tests.program import Ran, run_program

REQUIRED = os.environ.get("EMBERKEEP_REAL_ENGINE") == "required"
NOBODY = 65534
pytestmark = [pytest.mark.real_engine, pytest.mark.long]


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
    as_root: bool = True


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
    {"rock.serv": "# Gannet Rock\nset aifill 3\nset saveturns 1\nset savename rock\nset endturn 9\nset minplayers 0\nset timeout -1\n"},
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
    as_root=False,
)
ENGINES = [
    pytest.param(
        one,
        id=one.name,
        marks=pytest.mark.skipif(not REQUIRED and not Path(one.program).exists(), reason=f"no {one.program} here"),
    )
    for one in (RAILS, REALMS, WORDS)
]
READY = {
    "rails": "Network revision name",
    "realms": "Now accepting new client connections",
    "words": "Load complete",
}
LOGS = {"rails": "server.log", "realms": "server.log", "words": "*.log"}


class Played:
    """A server folder of a real engine, adopted, and how it is run."""

    def __init__(self, engine: Engine, place: Path) -> None:
        self.engine, self.place = engine, place
        self.server, self.keep = place / engine.name, place / f"{engine.name}.keep"
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
            (server / path).write_text(text)
        self.own(server)

    def own(self, server: Path) -> None:
        """Some engines refuse to be root: then all of it is of somebody else."""
        if os.geteuid() == 0 and not self.engine.as_root:
            for path in (server, *server.rglob("*")):
                os.chown(path, NOBODY, NOBODY, follow_symlinks=False)
            self.place.chmod(0o755)
            for parent in self.place.parents[:3]:
                parent.chmod(parent.stat().st_mode | 0o111)

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
            f"ready = '{READY[self.engine.name]}'\nlimit = \"60 s\"{user}\n"
        )
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
def played(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Played]:
    made = Played(request.param, tmp_path)
    made.make(made.server)
    assert run_program("adopt", made.server, cwd=tmp_path).code == 0
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
        "pointer": world.get("pointer", {}).get("key"),
        "name": told["server"]["name"],
    }


@pytest.mark.parametrize("played", ENGINES, indirect=True)
def test_from_adoption_to_an_update_that_is_taken_back(played: Played) -> None:
    engine = played.engine
    played.ok("start", "--go", codes=(0, 1))
    engine.play(played.server, played.port)
    saved = [path for glob in engine.world for path in played.server.glob(glob)]
    assert saved or wait_for(lambda: any(played.server.glob(engine.world[0])), 30)
    assert "running" in played.run("survey").out
    played.ok("snapshot", "--while-running", "--note", "hot", codes=(0, 1))
    played.ok("stop", "--go")
    assert not [line for line in played.run("survey").out.splitlines() if line.startswith("running")]

    # adopted anew, with no hint, now that it has been played on
    played.ok("drill", "hot", codes=(0, 1))
    shutil.rmtree(played.keep)
    assert run_program("adopt", played.server, cwd=played.place).code == 0
    found = _found(played.keep)
    for kind, wanted in engine.facts.items():
        said = found[kind]
        assert wanted in said if isinstance(said, list) else said == wanted, (kind, said)
    played.tell()
    assert played.run("check").code in (0, 1)
    played.ok("snapshot", "--note", "cold", codes=(0, 1))
    played.ok("drill", "cold", codes=(0, 1))

    whole = tree_state(played.server)
    for path in [path for glob in engine.world for path in played.server.glob(glob)]:
        path.write_bytes(b"griefed")
    (played.server / engine.script).unlink()
    played.ok("restore", "cold", "--go", codes=(0, 1))
    assert tree_state(played.server) == whole

    played.ok("wipe", "map", "--no-start", codes=(0, 1))
    done = played.ok("wipe", "map", "--no-start", "--go", codes=(0, 1))
    gone = {path for path in whole if path not in tree_state(played.server) and whole[path][0] == "file"}
    assert gone, done.out
    fits = {path.relative_to(played.server).as_posix() for glob in engine.world for path in played.server.glob(glob)}
    assert not fits & {path for path in whole if path not in gone} or engine.name == "words"
    played.ok("undo", "--go", codes=(0, 1))
    assert tree_state(played.server) == whole

    _update(played, whole)


def _update(played: Played, whole: Mapping[str, tuple[object, ...]]) -> None:
    """A made-up next release, of the real files and two more: they come, it runs and tells its own number, and all of it
    is taken back to the byte."""
    new = played.place / "release"
    played.make(new)
    for path in played.engine.further:
        (new / path).unlink()
    played.ok("defaults", "record", "1.0", new, codes=(0, 1))
    brought = [f"{Path(str(played.engine.facts['program'])).parent!s}/brought.so", "news-of-the-release.txt"]
    for path in brought:
        (new / path).write_bytes(b"\x7fELF brought by the release")
    words: tuple[str | Path, ...] = ("update", new, "--to", "99.1")
    if played.run(*words).code == 3:  # nothing in its files or log tells a version: the admin does
        words = (*words, "--from", "1.0")
    played.ok(*words, codes=(0, 1))
    before = tree_state(played.server)
    rehearsed = played.ok(*words, "--rehearse", played.place / "rehearsal", codes=(0, 1))
    assert "Ready: " in rehearsed.out, rehearsed.out
    assert tree_state(played.server) == before
    done = played.ok(*words, "--go", codes=(0, 1))
    assert "--from" in words or "99.1 was to run, and the log" in done.out, done.out
    assert all((played.server / path).exists() for path in brought), done.out
    played.ok("stop", "--go")
    played.ok("undo", "--go", codes=(0, 1))
    after = tree_state(played.server)
    logs = tuple(path for path in {*after, *whole} if path.endswith(".log") or path in (".", "orders"))
    assert {path: told for path, told in after.items() if path not in logs} == {
        path: told for path, told in whole.items() if path not in logs
    }
