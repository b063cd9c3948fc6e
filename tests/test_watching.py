"""Following a start, look by look, with a clock of the test's own: what counts as ready, dead, late or silent, and why."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from emberkeep.keep.tables.process import Service
from emberkeep.keep.tables.server import Log
from emberkeep.process import watch as watching
from emberkeep.process.watch import Activity, Follower, Movement, State, Watch, Watched, last_start, world_folders

PATTERNS = {"version": r"game (\d\.\d)", "ready": "open for players"}
LOG = Log(("log/*.txt",), PATTERNS)


class Clock:
    """Seconds that pass only when somebody sleeps; ``at_turn`` is called after each sleep."""

    def __init__(self) -> None:
        self.now = 1000.0
        self.at_turn: Callable[[], object] = lambda: None

    def sleep(self, seconds: float) -> None:
        self.now += seconds
        self.at_turn()


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    made = Clock()
    monkeypatch.setattr(watching, "time", SimpleNamespace(monotonic=lambda: made.now, sleep=made.sleep))
    monkeypatch.setattr(watching, "TURN", 0.125)  # which floats can add up to the letter
    return made


class Server:
    """A server folder with a log, and a watch over its start; its process is this one while it lives."""

    def __init__(self, root: Path, movement: Movement | None = None, limit: float = 60, silent: float = 10) -> None:
        (root / "log").mkdir()
        self.root, self.pids = root, [os.getpid()]
        service = Service("it", ("x",), limit=timedelta(seconds=limit), silent=timedelta(seconds=silent))
        self.watch = Watch(LOG, service, Follower(root, LOG.within, behind=True), lambda: self.pids, movement)
        self.watch.began = watching.time.monotonic()

    def says(self, text: str, name: str = "now.txt") -> None:
        with (self.root / "log" / name).open("a") as log:
            log.write(text)


# --- how a start goes --------------------------------------------------------------------------------


def test_a_start_is_told_turn_by_turn_until_it_is_ready(tmp_path: Path, clock: Clock) -> None:
    server = Server(tmp_path)
    said = iter(["game 2.5\n", "reading\n", "", "open for pl", "ayers\n"])
    clock.at_turn = lambda: server.says(next(said))
    heard: list[Watched] = []
    seen = server.watch.run(heard.append)
    assert [one.waits_for for one in heard] == [
        ("version", "ready"),
        ("ready",),
        ("ready",),
        ("ready",),
        ("ready",),
        (),
    ]
    assert [one.state for one in heard] == [State.WAITING] * 5 + [State.READY]
    assert [one.quiet for one in heard] == [0, 0, 0, 0.125, 0.25, 0]
    assert [one.seconds for one in heard] == [0, 0.125, 0.25, 0.375, 0.5, 0.625]
    assert (seen.version, seen.ready, seen.last) == ("2.5", "open for players", "open for players")
    assert seen == heard[-1]


def test_without_a_version_pattern_the_ready_line_is_enough(tmp_path: Path, clock: Clock) -> None:
    server = Server(tmp_path)
    server.watch.log = Log(LOG.within, {"ready": "nothing says this"})
    server.watch.service = Service("it", ("x",), ready="lamp lit")
    clock.at_turn = lambda: server.says("lamp lit\n")
    assert server.watch.run().state is State.READY


def test_what_was_seen_before_the_watch_counts(tmp_path: Path, clock: Clock) -> None:
    server = Server(tmp_path)
    server.watch.resume_from(Watched(version="2.5"))
    clock.at_turn = lambda: server.says("open for players\n")
    seen = server.watch.run()
    assert (seen.state, seen.version) == (State.READY, "2.5")


def test_a_server_that_is_gone_has_died_and_its_last_lines_count(tmp_path: Path, clock: Clock) -> None:
    server = Server(tmp_path)

    def dies() -> None:
        server.says("the sky fell\n")
        server.pids = []

    clock.at_turn = dies
    seen = server.watch.run()
    assert (seen.state, seen.last) == (State.DIED, "the sky fell")
    (tmp_path / "other").mkdir()
    other = Server(tmp_path / "other")

    def lit_then_gone() -> None:
        other.says("game 2.5\nopen for players\n")
        other.pids = []

    clock.at_turn = lit_then_gone
    assert other.watch.run().state is State.READY


def test_a_script_that_ends_before_its_server_shows_has_not_died_unless_it_failed(tmp_path: Path, clock: Clock) -> None:
    server = Server(tmp_path)
    server.pids = []
    shows = iter([*[False] * 12, True])

    def after_a_while() -> None:
        if next(shows, True):
            server.pids = [os.getpid()]
            server.says("game 2.5\nopen for players\n")

    clock.at_turn = after_a_while
    assert server.watch.run().state is State.READY
    (tmp_path / "other").mkdir()
    other = Server(tmp_path / "other")
    other.pids, other.watch.failed = [], lambda: True
    clock.at_turn = lambda: None
    assert (other.watch.run().state, clock.now) == (State.DIED, 1000.0 + 13 * 0.125)


@pytest.mark.parametrize(
    ("limit", "silent", "state", "after"), [(0.5, 10, State.LATE, 0.625), (10, 0.5, State.SILENT, 0.625)]
)
def test_more_than_the_limit_is_late_and_more_than_the_silence_is_silent(
    tmp_path: Path, clock: Clock, limit: float, silent: float, state: State, after: float
) -> None:
    server = Server(tmp_path, limit=limit, silent=silent)
    heard: list[Watched] = []
    assert server.watch.run(heard.append).state is state
    assert heard[-1].seconds == after
    assert (heard[-2].seconds, heard[-2].state) == (0.5, State.WAITING)


def test_each_line_ends_a_silence(tmp_path: Path, clock: Clock) -> None:
    server = Server(tmp_path, silent=0.25)
    lines = iter(["reading\n", "", "reading\n", "", "reading\n", ""])
    clock.at_turn = lambda: server.says(next(lines, ""))
    seen = server.watch.run()
    assert seen.state is State.SILENT
    assert seen.seconds == 5 * 0.125 + 0.375  # more than the silence behind the last of them


@pytest.mark.parametrize(
    ("pattern", "loaded"),
    [
        (r"mod (?P<name>\w+) (?P<version>[\d.]+) in", [("oak", "1.2")]),
        (r"mod (?P<name>\w+)", [("oak", "")]),
        (r"mod (\w+)", [("oak", "")]),
        (r"mod \w+", [("mod oak", "")]),
    ],
)
def test_how_a_line_names_what_was_loaded(pattern: str, loaded: list[tuple[str, str]]) -> None:
    seen = watching.read_line(Watched(), "mod oak 1.2 in", {"loaded": pattern})
    assert [(one.name, one.version) for one in seen.loaded] == loaded


# --- what moves -------------------------------------------------------------------------------------


class Moving(Movement):
    """What a test says it has looked like, one look a turn."""

    def __init__(self, *looks: Activity) -> None:
        super().__init__(Path(), (), list)
        self.looks = list(looks)

    def due(self) -> bool:
        return bool(self.looks)

    def look(self) -> Activity:
        return self.looks.pop(0)


def test_what_works_is_not_silent_and_a_world_that_changes_was_converted(tmp_path: Path, clock: Clock) -> None:
    idle, busy, changes = Activity(), Activity(processor=0.5), Activity(changed=1)
    server = Server(tmp_path, Moving(idle, busy, busy, idle, idle), silent=0.25)
    heard: list[Watched] = []
    assert server.watch.run(heard.append).state is State.SILENT
    assert [one.still for one in heard] == [0, 0, 0, 0.125, 0.25, 0.375]
    assert [one.quiet for one in heard] == [0, 0.125, 0.25, 0.375, 0.5, 0.625]
    assert [one.activity for one in heard[:4]] == [idle, busy, busy, idle]
    assert not any(one.converted for one in heard)
    (tmp_path / "other").mkdir()
    other = Server(tmp_path / "other", Moving(changes, idle, idle, idle), silent=0.25)
    heard.clear()
    other.watch.run(heard.append)
    assert all(one.converted for one in heard)


class Process:
    """A process as psutil tells of it."""

    def __init__(self, pid: int, user: float = 0, system: float = 0, read: int | None = 0, wrote: int = 0) -> None:
        self.pid, self.told, self.gone = pid, (user, system, read, wrote), False
        self.below: list[Process] = []

    def children(self, recursive: bool) -> list[Process]:
        assert recursive
        return self.below

    def cpu_times(self) -> SimpleNamespace:
        return SimpleNamespace(user=self.told[0], system=self.told[1])

    def io_counters(self) -> SimpleNamespace | None:
        return None if self.told[2] is None else SimpleNamespace(read_bytes=self.told[2], write_bytes=self.told[3])


class NoSuchProcess(Exception):
    pass


@pytest.fixture
def processes(monkeypatch: pytest.MonkeyPatch) -> dict[int, Process]:
    there: dict[int, Process] = {}

    def process(pid: int) -> Process:
        if pid not in there:
            raise NoSuchProcess
        return there[pid]

    monkeypatch.setitem(sys.modules, "psutil", SimpleNamespace(Process=process, Error=NoSuchProcess))  # type: ignore[arg-type]
    return there


def test_processor_and_disk_are_what_was_used_between_two_looks(
    tmp_path: Path, clock: Clock, processes: dict[int, Process]
) -> None:
    first, child, second = Process(1, 10, 2, 100, 50), Process(7, 1, 1, 5, 5), Process(2, 3, 3, None)
    first.below = [child]
    processes.update({1: first, 2: second})
    movement = Movement(tmp_path, (), lambda: [1, 9, 2])
    assert movement.look() == Activity()  # there is nothing to compare with
    clock.now += 4
    first.told, child.told, second.told = (11, 3, 130, 60), (2, 1, 6, 5), (3, 4, None, 0)
    assert movement.look() == Activity(processor=1.0, disk=41)
    clock.now += 4
    assert movement.look() == Activity()
    processes[3] = Process(3, 500, 500, 900, 900)  # one that is new has used nothing yet
    movement.pids = lambda: [1, 2, 3]
    clock.now += 4
    assert movement.look() == Activity()


def test_where_the_system_counts_no_bytes_there_are_none(
    tmp_path: Path, clock: Clock, processes: dict[int, Process], monkeypatch: pytest.MonkeyPatch
) -> None:
    processes[1] = Process(1, 1, 0, 10, 10)
    monkeypatch.delattr(Process, "io_counters")
    movement = Movement(tmp_path, (), lambda: [1])
    movement.look()
    clock.now += 1
    processes[1].told = (2, 0, 99, 99)
    assert movement.look() == Activity(processor=1.0)


def test_files_of_the_world_that_came_went_and_grew(
    tmp_path: Path, clock: Clock, processes: dict[int, Process]
) -> None:
    world = tmp_path / "world" / "deep"
    world.mkdir(parents=True)
    for name in ("a", "b", "c"):
        (world / name).write_bytes(bytes(10))
    (tmp_path / "else").write_bytes(bytes(10))
    movement = Movement(tmp_path, ("world", "not there"), list)
    assert movement.look() == Activity()
    clock.now += 1
    assert movement.look() == Activity()
    (world / "a").write_bytes(bytes(25))
    (world / "b").unlink()
    (world / "d").write_bytes(bytes(3))
    (tmp_path / "else").write_bytes(bytes(99))
    clock.now += 1
    assert movement.look() == Activity(changed=3, grown=8)
    os.utime(world / "c", ns=(0, 0))
    clock.now += 1
    assert movement.look() == Activity(changed=1)


def test_a_look_is_due_by_what_the_last_one_took(
    tmp_path: Path, clock: Clock, processes: dict[int, Process], monkeypatch: pytest.MonkeyPatch
) -> None:
    movement = Movement(tmp_path, (), list)
    assert movement.due()
    movement.look()
    for passed, due in ((watching.LOOKS, False), (0.01, True)):
        clock.now += passed
        assert movement.due() is due
    movement.pids = lambda: clock.sleep(0.3) or []  # type: ignore[func-returns-value]
    movement.look()  # which took three tenths of a second: the next is due after six
    clock.now += 5.6
    assert not movement.due()
    clock.now += 0.2
    assert movement.due()


def test_the_worlds_folders_are_how_its_globs_begin() -> None:
    table = (
        ("engine", ("lib/**",)),
        ("world", ("out/chart/**", "out/chart/*.sea", "pool/x?/y", "*.dat", "a/b.sav", "[x]/y")),
    )
    assert world_folders(table) == ("out/chart", "pool", "a")


# --- the log ----------------------------------------------------------------------------------------


def test_lines_come_whole_each_once_and_oldest_file_first(tmp_path: Path) -> None:
    log = tmp_path / "log"
    log.mkdir()
    (log / "old.txt").write_text("of old\n")
    follower = Follower(tmp_path, ["log/*.txt"], behind=True)
    assert list(follower.lines()) == []
    for name, text, when in (("b.txt", "two\r\nthr", 200), ("a.txt", "four\n", 300), ("c.txt", "one\n", 100)):
        (log / name).write_bytes(text.encode())
        os.utime(log / name, (0, when))
    (log / "else.log").write_text("not one of them\n")
    assert list(follower.lines()) == ["one", "two", "four"]
    assert list(follower.lines()) == []
    with (log / "b.txt").open("ab") as more:
        more.write(b"ee \xff\nhal")
    assert list(follower.lines()) == ["three \ufffd"]
    (log / "b.txt").rename(log / "b.1.txt")
    with (log / "b.1.txt").open("ab") as more:
        more.write(b"f\n")
    assert list(follower.lines()) == ["half"]
    (log / "b.1.txt").write_bytes(b"anew\n")  # emptied, and shorter than before
    assert list(follower.lines()) == ["anew"]
    assert list(Follower(tmp_path, ["log/old.txt"], behind=False).lines()) == ["of old"]


def test_a_beginning_of_a_line_in_a_log_that_was_emptied_is_forgotten(tmp_path: Path) -> None:
    log = tmp_path / "now.log"
    log.write_bytes(b"a whole line\nand a half")
    follower = Follower(tmp_path, ["now.log"], behind=False)
    assert list(follower.lines()) == ["a whole line"]
    log.write_bytes(b"anew\n")
    assert list(follower.lines()) == ["anew"]


SHORT = b"one 1.2\ntwo\n"


@pytest.mark.parametrize(
    "again",
    [
        SHORT,  # the same once more
        b"one 1.2\ntwo\nthree\nfour\n",  # the same, and more: as if it had been written on
        b"else\ntwo\n  \n",  # as long, and another
        b"one 1.3\ntwo\nmore and more\n",  # longer, and another
        b"x\n",
    ],
)
def test_a_log_that_is_refilled_in_place_between_two_looks(tmp_path: Path, again: bytes) -> None:
    log = tmp_path / "now.log"
    log.write_bytes(SHORT)
    for behind in (False, True):
        follower = Follower(tmp_path, ["now.log"], behind=behind)
        assert list(follower.lines()) == ([] if behind else ["one 1.2", "two"])
        before = log.stat()
        with log.open("r+b") as handle:  # the same file, cut to nothing and written anew, as a shell's > does it
            handle.truncate(0)
            handle.write(again)
        os.utime(log, ns=(before.st_atime_ns, before.st_mtime_ns + 10**9))
        lines = again.decode().splitlines()
        wanted = lines[2:] if again.startswith(SHORT) and again != SHORT else [line.rstrip() for line in lines]
        assert [line.rstrip() for line in follower.lines()] == wanted
        log.write_bytes(SHORT)


def test_a_log_that_grows_while_it_is_read_is_not_read_twice(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    log = tmp_path / "now.log"
    log.write_text("one\n")
    follower = Follower(tmp_path, ["now.log"], behind=False)
    opened = Path.open

    def grown(path: Path, *how: Any, **named: Any) -> Any:
        with opened(log, "ab") as handle:
            handle.write(b"two\n")
        os.utime(log, (2e9, 2e9))
        return opened(path, *how, **named)

    monkeypatch.setattr(Path, "open", grown)
    assert list(follower.lines()) == ["one", "two"]
    monkeypatch.setattr(Path, "open", opened)
    assert list(follower.lines()) == []


def test_one_line_may_tell_version_ready_and_more(tmp_path: Path) -> None:
    patterns = {"version": r"Thing (\d+\.\d+)", "ready": "ready", "seed": r"seed (\d+)", "error": "error"}
    seen = watching.read_line(Watched(ready="old"), "Thing 1.4 ready, seed 77, 0 error", patterns)
    assert (seen.version, seen.ready != "", seen.seed, len(seen.errors)) == ("1.4", True, "77", 1)
    again = watching.read_line(seen, "Thing 1.5 wakes", patterns)
    assert (again.version, again.ready, again.errors) == ("1.5", "", ())


def test_a_log_that_goes_between_two_questions_is_passed_over(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("a.log", "b.log"):
        (tmp_path / name).write_text(f"{name}\n")
    gone = tmp_path / "gone.log"
    monkeypatch.setattr(watching, "matching", lambda root, within: [gone, tmp_path / "a.log", tmp_path / "b.log"])
    follower = Follower(tmp_path, ["*.log"], behind=False)
    assert sorted(follower.lines()) == ["a.log", "b.log"]


def test_what_the_newest_log_tells_of_the_last_start(tmp_path: Path) -> None:
    assert last_start(tmp_path, LOG) == Watched()
    (tmp_path / "log").mkdir()
    texts = {
        "old.txt": ("game 2.4\nopen for players\n", 100),
        "new[1].txt": ("game 2.4\nopen for players\ngame 2.5\nreading\n", 200),
    }
    for name, (text, when) in texts.items():
        (tmp_path / "log" / name).write_text(text)
        os.utime(tmp_path / "log" / name, (0, when))
    seen = last_start(tmp_path, LOG)
    assert (seen.version, seen.ready, seen.last, seen.waits_for, seen.state) == (
        "2.5",
        "",
        "reading",
        ("ready",),
        State.WAITING,
    )
    with (tmp_path / "log" / "new[1].txt").open("a") as log:
        log.write("open for players\n")
    seen = last_start(tmp_path, LOG)
    assert (seen.ready, seen.waits_for, seen.state) == ("open for players", (), State.READY)
