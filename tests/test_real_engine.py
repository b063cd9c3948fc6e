"""A real, open-source game server, adopted without a hint: snapshot, damage, restore, carry, start.

Debian's packages ``minetest-server`` and ``minetest-data`` bring it. Where they are missing these tests are skipped,
unless EMBERKEEP_REAL_ENGINE is ``required``, as in CI.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from emberkeep.servers.process import wait_for
from tests.conftest import free_ports, tree_state
from tests.program import Ran, run_program

PROGRAM = shutil.which("minetestserver", path=f"{os.environ.get('PATH', '')}{os.pathsep}/usr/games")
REQUIRED = os.environ.get("EMBERKEEP_REAL_ENGINE") == "required"
pytestmark = [
    pytest.mark.real_engine,
    pytest.mark.skipif(PROGRAM is None and not REQUIRED, reason="minetest-server is not installed"),
]
RUNS = """
[start]
command = ["{program}", "--world", "world", "--gameid", "minetest_game", "--port", "{port}", "--config", "server.conf",
           "--logfile", "debug.txt"]
log = ["debug.txt"]
ready = 'listening on'
limit = "60 s"

[stop]
limit = "1 s"
still = "1 s"
terminate = "30 s"
"""


class Real:
    """A server folder of the real engine, adopted, and how it is run."""

    def __init__(self, place: Path, name: str) -> None:
        self.place, self.server, self.keep = place, place / name, place / f"{name}.keep"

    def make(self) -> None:
        (self.server / "world").mkdir(parents=True)
        (self.server / "server.conf").write_text("bind_address = 127.0.0.1\nserver_announce = false\nmotd = hello\n")
        backends = "".join(f"{name} = sqlite3\n" for name in ("backend", "player_backend", "auth_backend"))
        (self.server / "world" / "world.mt").write_text(f"gameid = minetest_game\n{backends}")

    def tell(self) -> None:
        """What an admin adds to keep.toml."""
        assert PROGRAM is not None, "minetest-server is required here and missing"
        with (self.keep / "keep.toml").open("a") as told:
            told.write(RUNS.format(program=PROGRAM, port=free_ports(1)[0]))

    def run(self, *words: str | Path) -> Ran:
        return run_program("--keep", self.keep, *words, cwd=self.place)

    def ok(self, *words: str | Path) -> Ran:
        done = self.run(*words)
        assert done.code == 0, (words, done.out, done.err)
        return done


@pytest.fixture
def real(tmp_path: Path) -> Iterator[Real]:
    made = Real(tmp_path, "server")
    made.make()
    assert run_program("adopt", made.server, cwd=tmp_path).code == 0
    made.tell()
    made.ok("start", "--go")
    yield made
    made.run("stop", "--go")


def blocks(world: Path) -> int:
    with sqlite3.connect(world / "map.sqlite") as database:
        count: int = database.execute("select count(*) from blocks").fetchone()[0]
    return count


@pytest.mark.long
def test_from_adoption_to_a_second_folder(real: Real) -> None:
    told = real.ok("watch")
    assert "listening on" in told.out
    assert wait_for((real.server / "world" / "map.sqlite").exists, 60)  # it writes its map some seconds after it began
    assert "open for writing" in real.run("survey").out
    refused = real.run("snapshot")
    assert refused.code == 3
    real.ok("snapshot", "--while-running", "--note", "hot")
    (real.server / "notes.txt").write_text("one more")
    assert real.run("restore", "hot", "--go").code == 3
    real.ok("stop", "--go")

    # adopted anew, with no hint, now that it has a world and a log
    shutil.rmtree(real.keep)
    assert run_program("adopt", real.server, cwd=real.place).code == 0
    real.tell()
    drafted = (real.keep / "keep.toml").read_text()
    assert "world/map.sqlite" in drafted, drafted
    real.ok("snapshot", "--note", "cold")
    whole = tree_state(real.server)
    count = blocks(real.server / "world")

    damaged = real.server / "world" / "map.sqlite"
    data = bytearray(damaged.read_bytes())
    data[4096:] = b"griefed".ljust(len(data) - 4096, b"\0")
    damaged.write_bytes(data)
    (real.server / "world" / "world.mt").unlink()
    shown = real.run("diff", "cold", "live")
    assert shown.code == 2, shown.out  # one of them cannot be read any more
    assert "world/world.mt" in shown.out, shown.out
    assert "malformed" in shown.out
    real.ok("restore", "cold", "--go")
    assert tree_state(real.server) == whole
    assert blocks(real.server / "world") == count

    second = Real(real.place, "second")
    second.make()
    (second.server / "server.conf").write_text("bind_address = 127.0.0.1\nserver_announce = false\nmax_users = 9\n")
    guessed = real.run("carry", real.server, second.server, "--go")
    assert (guessed.code, "is not confirmed: is world/map.sqlite the world?" in guessed.err) == (3, True), guessed
    told = real.keep / "keep.toml"
    told.write_text("".join(line for line in told.read_text().splitlines(True) if not line.startswith("# ?")))
    real.ok("carry", real.server, second.server, "--go")
    assert (second.server / "world" / "map.sqlite").read_bytes() == damaged.read_bytes()
    settings = (second.server / "server.conf").read_text()
    assert "motd = hello" in settings
    assert "max_users = 9" in settings
    second.ok("start", "--go")
    try:
        assert "listening on" in second.ok("watch").out
    finally:
        second.ok("stop", "--go")
    assert tree_state(real.server) == whole
    real.ok("start", "--go")
    assert "listening on" in real.ok("watch").out
