"""Fixtures: the sample server, the installed program, and faults in the file calls."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, settings

from emberkeep.demo import mission, sample
from emberkeep.demo.walk import free_ports

SHRINK = "EMBERKEEP_NO_SHRINK" not in os.environ
settings.register_profile(
    "emberkeep",
    deadline=None,
    phases=[phase for phase in Phase if phase is not Phase.explain and (phase is not Phase.shrink or SHRINK)],
    max_examples=int(os.environ.get("EMBERKEEP_EXAMPLES", "60")),
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture, HealthCheck.data_too_large],
)
settings.load_profile("emberkeep")


@dataclass(frozen=True)
class Ran:
    """What a run of the program came to."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Program = Callable[..., Ran]


def run_program(*words: str | Path, cwd: Path, environment: dict[str, str] | None = None) -> Ran:
    """The installed program, as a user's shell would start it."""
    inherited = {name: value for name, value in os.environ.items() if not name.startswith("EMBERKEEP_KEEP")}
    done = subprocess.run(
        [sys.executable, "-m", "emberkeep", *map(str, words)],
        cwd=cwd,
        env={**inherited, "PYTHONIOENCODING": "utf-8", **(environment or {})},
        capture_output=True,
        check=False,
        timeout=120,
    )
    return Ran(done.returncode, done.stdout.decode("utf-8"), done.stderr.decode("utf-8"))


@pytest.fixture(scope="session")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The sample at village size; never changed."""
    folder = tmp_path_factory.mktemp("built")
    sample.build(folder, "village")
    return folder


@pytest.fixture
def place(built: Path, tmp_path: Path) -> Path:
    """A fresh copy of the sample, with times and links: ``place/gannet-rock`` and ``place/releases``."""
    folder = tmp_path / "place"
    shutil.copytree(built, folder, symlinks=True)
    return folder


@pytest.fixture
def server(place: Path) -> Path:
    return place / sample.SERVER


@pytest.fixture
def keeper(place: Path) -> Program:
    """Runs the program in ``place`` on an adopted sample server."""
    adopted = run_program("adopt", sample.SERVER, cwd=place)
    assert adopted.code == 0, adopted.err

    def run(*words: str | Path, environment: dict[str, str] | None = None) -> Ran:
        keep = {"EMBERKEEP_KEEP": f"{sample.SERVER}.keep"}
        return run_program(*words, cwd=place, environment={**keep, **(environment or {})})

    return run


@pytest.fixture
def recorded(keeper: Program) -> Program:
    """The same with the defaults of 4.2 and 4.3 recorded."""
    for version, source in (("4.2", "releases/skerrylight-4.2"), ("4.3", "releases/skerrylight-4.3.zip")):
        done = keeper("defaults", "record", version, source)
        assert done.code == 0, done.err
    return keeper


def tree_state(folder: Path, *, times: bool = True) -> dict[str, tuple[object, ...]]:
    """All that a folder holds, by path: kind, mode, time, contents or target. Our own, apart from the product's scan."""
    state: dict[str, tuple[object, ...]] = {}
    for where, names, files in os.walk(folder):
        for name in [*(["."] if where == str(folder) else []), *names, *files]:
            path = Path(where, name)
            facts = path.lstat()
            when = facts.st_mtime_ns if times else None
            what: Sequence[object]
            if path.is_symlink():
                what = ("link", os.readlink(path))
            elif path.is_dir():
                what = ("folder", facts.st_mode, when)
            else:
                what = ("file", facts.st_mode, when, path.read_bytes())
            state[os.path.relpath(path, folder)] = tuple(what)
    return state


WORD = {"ROCK_CONSOLE": "a word for tests", "SKERRYLIGHT_PACE": "0.3"}
"""The environment of a server that answers its console and converts quickly."""


@dataclass
class Rock:
    """An adopted sample server that can be started: its folders, its keep, its program."""

    place: Path
    server: Path
    keep: Path

    def run(self, *words: str | Path, **environment: str) -> Ran:
        told = {"EMBERKEEP_KEEP": str(self.keep), **WORD, **environment}
        return run_program(*words, cwd=self.place, environment=told)

    def update(self, *words: str, **environment: str) -> Ran:
        """The update to 4.3 with all that goes with it."""
        line = ("update", "releases/skerrylight-4.3.zip", "--to", "4.3", "--extensions", "releases/extensions-4.3")
        return self.run(*line, *words, **environment)

    def settle(self) -> None:
        """End what still runs, by the number in its pid file."""
        told = self.server / "log" / "skerrylight.pid"
        if told.exists():
            with suppress(ProcessLookupError, ValueError):
                os.kill(int(told.read_text()), signal.SIGKILL)


def make_rock(place: Path, size: str) -> Rock:
    """The sample with a keep that knows how it is run, on ports of its own; 4.2 recorded, recipes at hand."""
    sample.build(place, size)
    rock = Rock(place, place / sample.SERVER, place / f"{sample.SERVER}.keep")
    adopted = run_program("adopt", sample.SERVER, cwd=place)
    assert adopted.code == 0, adopted.err
    port, console, _, _ = free_ports(4)
    settings = rock.server / "keeper.properties"
    facts = settings.stat()
    text = settings.read_text().replace("port=27800", f"port={port}").replace("=27900", f"={console}")
    settings.write_text(text)
    os.utime(settings, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    with (rock.keep / "keep.toml").open("a") as told:
        told.write(mission.operating(port, console))
    shutil.copytree(place / "releases" / "recipes", rock.keep / "recipes")
    done = rock.run("defaults", "record", "4.2", "releases/skerrylight-4.2")
    assert done.code == 0, done.err
    return rock


@pytest.fixture
def rock(tmp_path: Path) -> Iterator[Rock]:
    """A small server that can be started; what runs at the end is ended."""
    made = make_rock(tmp_path / "rock", "cove")
    yield made
    made.settle()
