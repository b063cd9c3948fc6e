"""Fixtures: the sample server, adopted, recorded and ready to start; how hard the tests look; a keyboard that interrupts."""

from __future__ import annotations

import os
import shutil
import signal
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, settings

from emberkeep.demo import mission, sample
from emberkeep.demo.walk import free_ports
from emberkeep.operations.record.journal import Journal
from emberkeep.process import announce, signs
from emberkeep.transfer import pool
from tests import depth
from tests.program import Program, Ran, run_program, start_program

KEEP = f"{sample.SERVER}.keep"


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--long", action="store_true", help="look as hard as the tests can: what CI runs")


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_auto_num_workers() -> int:
    """One more than there are processors: some tests wait for other programs."""
    return (os.cpu_count() or 1) + 1


def pytest_configure(config: pytest.Config) -> None:
    depth.long = config.getoption("--long")
    # A shell starts what it puts in the background with SIGINT ignored, and so would be every program that tests interrupt.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    shrinks = "EMBERKEEP_NO_SHRINK" not in os.environ
    settings.register_profile(
        "emberkeep",
        deadline=None,
        phases=[phase for phase in Phase if phase is not Phase.explain and (phase is not Phase.shrink or shrinks)],
        max_examples=depth.number("EXAMPLES", 15, 60),
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture, HealthCheck.data_too_large],
    )
    settings.load_profile("emberkeep")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    if depth.long:
        return
    left_out = [item for item in items if item.get_closest_marker("long")]
    if left_out:
        config.hook.pytest_deselected(items=left_out)
        items[:] = [item for item in items if item not in left_out]


@pytest.fixture(scope="session", autouse=True)
def short_looks() -> Iterator[None]:
    """A log that was just written to is watched for a moment to see whether it grows: a shorter one than at work."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(signs, "LOOKS_AGAIN", 0.15)
        yield


@pytest.fixture
def no_pauses(monkeypatch: pytest.MonkeyPatch) -> None:
    """Tries at a host, and at who receives announcements, follow one another without waiting."""
    for module, names in ((pool, ("FIRST_PAUSE", "LONGEST_PAUSE")), (announce, ("PAUSE", "LONGEST_PAUSE"))):
        for name in names:
            monkeypatch.setattr(module, name, 0.01)


# --- the sample server, built, adopted and recorded once in each worker, and copied ---------------------------------


@pytest.fixture(scope="session")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The sample at village size; never changed."""
    folder = tmp_path_factory.mktemp("built")
    sample.build(folder, "village")
    return folder


def said_yes(ran: Ran) -> Ran:
    """A run of the program that had to end well."""
    assert ran.code == 0, ran.out + ran.err
    return ran


@pytest.fixture(scope="session")
def adopted_once(built: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The keep that ``adopt`` drafts of the sample; never changed."""
    folder = tmp_path_factory.mktemp("adopted")
    shutil.copytree(built, folder, symlinks=True, dirs_exist_ok=True)
    said_yes(run_program("adopt", sample.SERVER, cwd=folder))
    return folder / KEEP


@pytest.fixture(scope="session")
def recorded_once(adopted_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same keep with the defaults of 4.2 and 4.3; never changed."""
    folder = tmp_path_factory.mktemp("recorded")
    shutil.copytree(adopted_once.parent, folder, symlinks=True, dirs_exist_ok=True)
    for version, source in (("4.2", "releases/skerrylight-4.2"), ("4.3", "releases/skerrylight-4.3.zip")):
        said_yes(run_program("--keep", KEEP, "defaults", "record", version, source, cwd=folder))
    return folder / KEEP


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
def keeper(place: Path, adopted_once: Path) -> Program:
    """Runs the program in ``place`` on an adopted sample server."""
    shutil.copytree(adopted_once, place / KEEP)

    def run(*words: str | Path, environment: dict[str, str] | None = None) -> Ran:
        return run_program(*words, cwd=place, environment={"EMBERKEEP_KEEP": KEEP, **(environment or {})})

    return run


@pytest.fixture
def recorded(keeper: Program, place: Path, recorded_once: Path) -> Program:
    """The same with the defaults of 4.2 and 4.3 recorded."""
    shutil.copytree(recorded_once, place / KEEP, dirs_exist_ok=True)
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
            elif stat.S_ISREG(facts.st_mode):
                what = ("file", facts.st_mode, when, path.read_bytes())
            else:
                what = ("special", facts.st_mode)
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


def killed_at_each(rock: Rock, words: Sequence[str], names: Sequence[str], prepare: Callable[[], object]) -> set[str]:
    """kill -9 of the real program in each of these steps; then resumed (every other time) and undone, back to the byte.
    The steps in which it could be caught."""
    before = tree_state(rock.server)
    journal = Journal(rock.keep)
    reached = set()
    for number, name in enumerate(names):
        prepare()
        process = start_program("--keep", rock.keep, *words, cwd=rock.place, environment=WORD)
        while process.poll() is None:
            run = journal.waiting()
            if run and any(step.name == name for step in run.steps):
                break
            time.sleep(0.005)
        process.send_signal(signal.SIGKILL)
        process.wait()
        run = journal.waiting()
        if run is None:
            assert rock.run("stop", "--now", "--go").code == 0
            assert rock.run("undo", "--go").code == 0
            assert tree_state(rock.server) == before
            continue
        reached.add(name)
        assert "interrupted" in rock.run("history").out
        if number % 2:
            done = rock.run("resume", "--go")
            assert done.code == 0, (name, done.err)
            assert "lamp lit" in rock.run("watch").out
        stopped = rock.run("stop", "--now", "--go")
        assert stopped.code == 0, (name, stopped.err)
        back = rock.run("undo", "--go")
        assert back.code == 0, (name, back.err)
        assert tree_state(rock.server) == before, name
    return reached


Moorings = Callable[[Path, str], Rock]


@pytest.fixture(scope="session")
def moorings(tmp_path_factory: pytest.TempPathFactory) -> Moorings:
    """Makes rocks of a size (``cove``, ``village``) in a new folder: the sample with a keep that knows how it is run, on
    ports of its own; 4.2 recorded, recipes at hand. What is the same in all of a size is made once in a worker."""
    made: dict[str, Path] = {}

    def moor(place: Path, size: str) -> Rock:
        if size not in made:
            made[size] = _moored_once(tmp_path_factory.mktemp(size), size)
        shutil.copytree(made[size], place, symlinks=True)
        return _with_ports(Rock(place, place / sample.SERVER, place / KEEP))

    return moor


def _moored_once(place: Path, size: str) -> Path:
    sample.build(place, size)
    said_yes(run_program("adopt", sample.SERVER, cwd=place))
    said_yes(run_program("--keep", KEEP, "defaults", "record", "4.2", "releases/skerrylight-4.2", cwd=place))
    shutil.copytree(place / "releases" / "recipes", place / KEEP / "recipes")
    return place


def _with_ports(rock: Rock) -> Rock:
    """The rock told of free ports, its settings' time as it was; its players are warned briefly."""
    port, console, _, _ = free_ports(4)
    settings = rock.server / "keeper.properties"
    facts = settings.stat()
    settings.write_text(settings.read_text().replace("port=27800", f"port={port}").replace("=27900", f"={console}"))
    os.utime(settings, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    told = rock.keep / "keep.toml"
    text = mission.operated(told.read_text(), port, console)
    waits = {'tell = ["1 s"]': 'tell = ["0.2 s", "0.1 s"]', 'still = "0.3 s"': 'still = "0.2 s"'}
    assert all(text.count(slow) == 1 for slow in waits), "the sample waits otherwise now"
    for slow, quick in waits.items():
        text = text.replace(slow, quick)
    told.write_text(text)
    return rock


@pytest.fixture
def rock(tmp_path: Path, moorings: Moorings) -> Iterator[Rock]:
    """A small server that can be started; what runs at the end is ended."""
    made = moorings(tmp_path / "rock", "cove")
    yield made
    made.settle()
