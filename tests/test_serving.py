"""The server as a process: its signs, every kind of console, services in order, logs that rotate, conversions and hangs."""

from __future__ import annotations

import os
import shutil
import signal
import socketserver
import struct
import subprocess
import sys
import textwrap
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path

import pytest

from emberkeep.errors import EmberKeepError, Refused
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.process import Console, Service
from emberkeep.keep.tables.server import Log
from emberkeep.keep.toml_reader import duration
from emberkeep.operations.record.starts import Starts
from emberkeep.process import console, lifecycle
from emberkeep.process import watch as watching
from emberkeep.process.signs import is_locked, running_signs, wait_for
from emberkeep.process.watch import Activity, Follower, Movement, State, Watch, read_line
from tests.conftest import free_ports
from tests.helpers import new_keep
from tests.program import run_program

posix = pytest.mark.skipif(os.name == "nt", reason="POSIX only")


def keep_of(folder: Path, more: str) -> Keep:
    return new_keep(folder, textwrap.dedent(more))


# --- consoles ------------------------------------------------------------------


class Packets(socketserver.StreamRequestHandler):
    """A remote console that takes packets, as games have them; the empty answer before the verdict included."""

    def handle(self) -> None:
        let_in = False
        while head := self.rfile.read(4):
            (length,) = struct.unpack("<i", head)
            content = self.rfile.read(length)
            number, kind = struct.unpack("<ii", content[:8])
            body = content[8:-2].decode()
            if kind == 3:
                let_in = body == "open up"
                self.send(number, 0, "")
                self.send(number if let_in else -1, 2, "")
            elif let_in:
                self.server.heard.append(body)
                for at in range(0, max(1, len(body)), 4000):
                    self.send(number, 0, f"heard {body}"[at : at + 4000])

    def send(self, number: int, kind: int, body: str) -> None:
        content = struct.pack("<ii", number, kind) + body.encode() + b"\0\0"
        self.wfile.write(struct.pack("<i", len(content)) + content)


@contextmanager
def served(handler: type) -> Iterator[socketserver.ThreadingTCPServer]:
    server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), handler)
    server.daemon_threads = True
    server.heard = []
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()


def test_the_packet_form_of_remote_consoles() -> None:
    with served(Packets) as server:
        told = Console(
            "packet",
            f"127.0.0.1:{server.server_address[1]}",
            secret_env="WORD",
            phrases={"say": "broadcast {text}", "save": "save-all", "stop": "quit"},
            good="^heard",
        )
        console.order(told, {"WORD": "open up"}, "save", "stop")
        assert console.say(told, {"WORD": "open up"}, "two\nlines \x1b[31m") == "heard broadcast two lines [31m"
        assert server.heard == ["save-all", "quit", "broadcast two lines [31m"]
        with pytest.raises(Refused, match="did not take the secret"):
            console.order(told, {"WORD": "wrong"}, "save")
        with pytest.raises(Refused, match="WORD is not set"):
            console.order(told, {}, "save")


def test_a_console_that_nobody_listens_to_and_one_that_speaks_otherwise() -> None:
    gone = Console("packet", f"127.0.0.1:{free_ports(1)[0]}", phrases={"save": "s"})
    with pytest.raises(Refused, match="cannot be reached"):
        console.order(gone, {}, "save")

    class Chatty(socketserver.StreamRequestHandler):
        def handle(self) -> None:
            self.wfile.write(b"welcome to the server\r\n" * 3)

    with served(Chatty) as server:
        odd = Console("packet", f"127.0.0.1:{server.server_address[1]}", phrases={"save": "s"})
        with pytest.raises(Refused, match="no packet"):
            console.order(odd, {}, "save")


@posix
def test_a_fifo_never_waits_for_a_reader(tmp_path: Path) -> None:
    pipe = tmp_path / "orders"
    os.mkfifo(pipe)
    told = Console("fifo", path=str(pipe), phrases={"save": "log all"})
    with pytest.raises(Refused, match="did not take 'log all'"):
        console.order(told, {}, "save")
    reader = os.open(pipe, os.O_RDONLY | os.O_NONBLOCK)
    console.order(told, {}, "save")
    assert os.read(reader, 100) == b"log all\n"
    os.close(reader)


ONE_A_WAKE = """
import os, time
pipe = os.open("orders", os.O_RDWR)
open("up", "w").close()
while True:
    time.sleep(0.3)  # looks at its console now and then, and takes one line of what came, as some engines do
    line = os.read(pipe, 4096).split(b"\\n")[0]
    if line == b"log all":
        open("world.bin", "ab").write(b"saved")
    if line == b"douse":
        break
"""


@posix
@pytest.mark.long
@pytest.mark.parametrize("wrote", [True, False])
def test_each_phrase_is_given_time_to_take_effect(tmp_path: Path, wrote: bool) -> None:
    keep = new_keep(tmp_path)
    keep.server.mkdir(exist_ok=True)
    os.mkfifo(keep.server / "orders")
    (keep.server / "play.py").write_text(ONE_A_WAKE if wrote else ONE_A_WAKE.replace('"log all"', '"other"'))
    with (keep.folder / "keep.toml").open("a") as told:
        told.write(f'\n[console]\nkind = "fifo"\npath = "{keep.server / "orders"}"\n')
        told.write('phrases = { save = "log all", stop = "douse" }\n\n[stop]\nstill = "1 s"\nlimit = "10 s"\n')
    program = subprocess.Popen([sys.executable, "play.py"], cwd=keep.server)
    try:
        assert wait_for((keep.server / "up").exists, 20)
        said: list[str] = []
        threading.Thread(target=program.wait, daemon=True).start()  # so that it is no zombie
        done = lifecycle.stop(Keep(keep.folder), {}, said.append)
        assert (done.forced, program.wait(5)) == ("", 0)
    finally:
        program.kill()
    assert (keep.server / "world.bin").exists() is wrote
    assert said[0] == "said 'log all'" + (", and it wrote" if wrote else "; nothing was seen to be written yet")


@posix
@pytest.mark.skipif(shutil.which("tmux") is None, reason="tmux is not installed")
def test_keys_sent_to_a_tmux_session(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TMUX_TMPDIR", str(tmp_path))
    heard = tmp_path / "heard"
    subprocess.run(["tmux", "new-session", "-d", "-s", "rock", f"cat > {heard}"], check=True)
    try:
        assert wait_for(heard.exists, 10)
        console.order(Console("tmux", session="rock", phrases={"save": "log 'all'; $HOME"}), {}, "save")
        assert wait_for(lambda: heard.read_bytes() == b"log 'all'; $HOME\n", 10), heard.read_bytes()
    finally:
        subprocess.run(["tmux", "kill-server"], check=False)
    with pytest.raises(Refused, match="did not take"):
        console.order(Console("tmux", session="rock", phrases={"save": "x"}), {}, "save")


@posix
@pytest.mark.skipif(shutil.which("screen") is None, reason="screen is not installed")
def test_keys_sent_to_a_screen_session(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "s").mkdir(mode=0o700)
    monkeypatch.setenv("SCREENDIR", str(tmp_path / "s"))
    heard = tmp_path / "heard"
    subprocess.run(["screen", "-dmS", "rock", "sh", "-c", f"cat > {heard}"], check=True)
    told = Console("screen", session="rock", phrases={"save": "log 'all'; $HOME ^a \\n"})
    try:
        assert wait_for(heard.exists, 10)
        console.order(told, {}, "save")
        assert wait_for(lambda: heard.read_bytes() == b"log 'all'; $HOME ^a \\n\n", 10), heard.read_bytes()
        subprocess.run(["screen", "-S", "rock", "-X", "screen", "sh", "-c", f"cat > {tmp_path / 'other'}"], check=True)
        assert wait_for((tmp_path / "other").exists, 10)
        subprocess.run(["screen", "-S", "rock", "-p", "0", "-X", "kill"], check=True)
        with pytest.raises(Refused, match=r"did not take.*pre-select window"):
            console.order(told, {}, "save")
        session = int(next((tmp_path / "s").glob("*.rock")).name.split(".")[0])
        os.kill(session, signal.SIGSTOP)
        try:
            with pytest.raises(Refused, match=r"did not take.*timed out"):
                console.order(told, {}, "save", limit=0.5)
        finally:
            os.kill(session, signal.SIGCONT)
    finally:
        subprocess.run(["screen", "-S", "rock", "-X", "quit"], check=False)
    with pytest.raises(Refused, match="did not take"):
        console.order(told, {}, "save", limit=5)


@posix
def test_a_screen_that_answers_no_questions_is_sent_the_keys(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    old = tmp_path / "screen"
    old.write_text(f"""#!/bin/sh
case "$5" in -X) echo "$7" >> {tmp_path / "heard"} ;; *) echo "Error: Unknown option $5"; exit 1 ;; esac
""")
    old.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}{os.pathsep}{os.environ['PATH']}")
    console.order(Console("screen", session="rock", phrases={"save": "all"}), {}, "save")
    assert (tmp_path / "heard").read_bytes() == b"all\r\n"


def test_a_secret_that_others_may_read_is_refused(tmp_path: Path) -> None:
    word = tmp_path / "word"
    word.write_text("open up\n")
    word.chmod(0o644)
    told = Console("line", "127.0.0.1:1", secret_file=str(word))
    if os.name == "posix":
        with pytest.raises(Refused, match="others may read"):
            secret(told.secret_env, told.secret_file, {}, "the console's secret")
    word.chmod(0o600)
    assert secret(told.secret_env, told.secret_file, {}, "the console's secret") == "open up"


# --- signs -----------------------------------------------------------------------


SLEEPS = [sys.executable, "-c", "import sys,time; print('up', flush=True); time.sleep(60)", "--the-mark-of-this-test"]


def test_every_sign_of_a_running_server_is_told(tmp_path: Path) -> None:
    with served(Packets) as server:
        keep = keep_of(
            tmp_path,
            f"""
            [process]
            pid-file = "run/here.pid"
            command = "--the-mark-of-this-test"
            address = "127.0.0.1:{server.server_address[1]}"
            lock = "world.lock"
            grows = ["log/*.txt"]
            """,
        )
        (keep.server / "run").mkdir()
        (keep.server / "log").mkdir()
        assert running_signs(keep.server, keep.config) == (
            f"something listens at 127.0.0.1:{server.server_address[1]}",
        )
        process = subprocess.Popen(SLEEPS, stdout=subprocess.PIPE)
        assert process.stdout is not None
        process.stdout.readline()
        (keep.server / "run" / "here.pid").write_text(f"{process.pid}\n")
        try:
            told = " ".join(running_signs(keep.server, keep.config))
            assert "has the server's command line" in told
            assert f"here.pid names process {process.pid}" in told
        finally:
            process.kill()
            process.wait()
        assert "here.pid" not in " ".join(running_signs(keep.server, keep.config))


@posix
def test_somebody_who_looks_at_a_log_is_no_server(tmp_path: Path) -> None:
    keep = keep_of(tmp_path, "")
    (keep.server / "latest.log").write_text("x\n")
    looking = subprocess.Popen(["tail", "-f", "latest.log"], cwd=keep.server, stdout=subprocess.DEVNULL)
    try:
        assert not running_signs(keep.server, keep.config)
    finally:
        looking.kill()
        looking.wait()


@posix
@pytest.mark.parametrize("way", ["lockf", "flock"])
def test_a_lock_held_by_another_process(tmp_path: Path, way: str) -> None:
    lock = tmp_path / "world.lock"
    lock.write_text("")
    assert not is_locked(lock)
    code = f"import fcntl,time; f=open({str(lock)!r},'r+'); fcntl.{way}(f, fcntl.LOCK_EX); print('up',flush=True); time.sleep(60)"
    process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
    try:
        assert process.stdout is not None
        process.stdout.readline()
        assert is_locked(lock)
    finally:
        process.kill()
        process.wait()
    assert not is_locked(lock)


def test_a_log_that_grows(tmp_path: Path) -> None:
    keep = keep_of(tmp_path, '[log]\nin = ["log/*.txt"]\n')
    (keep.server / "log").mkdir()
    log = keep.server / "log" / "a.txt"
    log.write_text("x\n")
    assert running_signs(keep.server, keep.config) == ()  # fresh, but it stays as it is
    stop = threading.Event()

    def grow() -> None:
        while not stop.wait(0.05):
            with log.open("a") as handle:
                handle.write("more\n")

    writer = threading.Thread(target=grow)
    writer.start()
    try:
        assert running_signs(keep.server, keep.config) == ("log/a.txt is growing",)
    finally:
        stop.set()
        writer.join()


# --- following logs ------------------------------------------------------------------


def test_a_follower_misses_no_line_whatever_is_done_to_the_log(tmp_path: Path) -> None:
    log = tmp_path / "latest.log"
    log.write_text("old\n")
    follower = Follower(tmp_path, ["*.log"], behind=True)
    assert list(follower.lines()) == []
    with log.open("a") as handle:
        handle.write("one\ntw")
    assert list(follower.lines()) == ["one"]
    with log.open("a") as handle:
        handle.write("o\r\n")
    assert list(follower.lines()) == ["two"]
    with log.open("a") as handle:
        handle.write("three\n")
    log.rename(tmp_path / "earlier.log")  # rotated, before its last line was seen
    log.write_text("four\n")
    assert list(follower.lines()) == ["three", "four"]
    log.write_text("5\n")  # cut short and begun anew
    assert list(follower.lines()) == ["5"]
    log.write_bytes(b"\xff\xfe odd\n" + b"6\n")
    assert list(follower.lines())[-1] == "6"
    assert list(follower.lines()) == []


PATTERNS = {
    "version": r"game (\d+\.\d+)",
    "ready": "open for players",
    "loaded": r"mod (?P<name>\w+) (?P<version>[\d.]+) in",
    "failed": r"mod (?P<name>\w+) .*could not",
    "error": "(?i)error",
}


def watch_of(server: Path, code: str, limit: float = 20, silent: float = 20, world: bool = False) -> Watch:
    (server / "log").mkdir(parents=True, exist_ok=True)
    (server / "world").mkdir(exist_ok=True)
    follower = Follower(server, ["log/*"], behind=True)
    process = subprocess.Popen([sys.executable, "-c", textwrap.dedent(code)], cwd=server)

    def pids() -> list[int]:
        process.poll()
        return [process.pid] if process.returncode is None else []

    service = Service("it", ("x",), limit=timedelta(seconds=limit), silent=timedelta(seconds=silent))
    movement = Movement(server, ("world",), pids) if world else None
    watch = Watch(Log(("log/*",), PATTERNS), service, follower, pids, movement)
    watch.process = process
    return watch


def finish(watch: Watch) -> None:
    watch.process.kill()
    watch.process.wait()


START = "log = open('log/now', 'a', buffering=1); import time, sys\n"


def test_a_start_with_extensions_that_fail(tmp_path: Path) -> None:
    watch = watch_of(
        tmp_path,
        START
        + """
for line in ('game 2.5 begins', 'mod oak 1.2 in', 'mod elm could not be put in', 'Error: no elm', 'open for players'):
    log.write(line + '\\n')
time.sleep(30)
""",
    )
    seen = watch.run()
    finish(watch)
    assert seen.state is State.READY
    assert (seen.version, [item.name for item in seen.loaded]) == ("2.5", ["oak"])
    assert seen.failures == ("mod elm could not be put in",)
    assert seen.errors == ("Error: no elm",)
    assert not seen.good


def test_a_start_that_dies_tells_its_last_line(tmp_path: Path) -> None:
    watch = watch_of(tmp_path, START + "log.write('game 2.5 begins\\nthe sky fell\\n'); sys.exit(3)")
    seen = watch.run()
    finish(watch)
    assert seen.state is State.DIED
    assert seen.last == "the sky fell"


@pytest.mark.long
def test_a_silent_conversion_is_told_from_a_hang(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(watching, "LOOKS", 0.2)
    working = START + (
        "log.write('game 2.5 begins\\n'); end = time.time() + 6\n"
        "while time.time() < end:\n    open('world/x', 'a').write('x' * 1000); time.sleep(0.05)\n"
        "log.write('open for players\\n'); time.sleep(30)"
    )
    watch = watch_of(tmp_path / "working", working, silent=4, world=True)
    heard = []
    seen = watch.run(heard.append)
    finish(watch)
    assert seen.state is State.READY
    assert seen.converted
    assert any(one.activity.works and one.quiet > 1 for one in heard)
    watch = watch_of(
        tmp_path / "hanging", START + "log.write('game 2.5 begins\\n'); time.sleep(60)", silent=1, world=True
    )
    seen = watch.run()
    finish(watch)
    assert seen.state is State.SILENT
    assert not seen.converted


@posix
def test_a_start_is_noted_with_the_world_as_it_was_before(tmp_path: Path) -> None:
    keep = new_keep(
        tmp_path,
        '[roles]\nworld = ["world/**"]\nlogs = ["log"]\n[start]\ncommand = ["./start.sh"]\nlog = ["log"]\nready = "open"\n'
        'limit = "20 s"\n[stop]\nlimit = "1 s"\nstill = "0 s"\nterminate = "5 s"\n',
    )
    world = keep.server / "world"
    world.mkdir()
    (world / "old.sav").write_bytes(b"x" * 1000)
    script = keep.server / "start.sh"
    script.write_text("#!/bin/sh\nhead -c 9000 /dev/zero > world/new.sav\necho open > log\nexec sleep 60\n")
    script.chmod(0o755)
    try:
        done = run_program("--keep", keep.folder, "start", "--go", cwd=tmp_path)
        assert done.code == 0, done
        assert [one.world for one in Starts(keep.folder).all()] == [1000]
    finally:
        run_program("--keep", keep.folder, "stop", "--go", cwd=tmp_path)


def test_a_new_version_line_is_a_new_start() -> None:
    seen = lifecycle.Watched()
    for line in ("game 2.4", "Error: x", "open for players", "game 2.5"):
        seen = read_line(seen, line, PATTERNS)
    assert (seen.version, seen.ready, seen.errors) == ("2.5", "", ())


def test_what_counts_as_life() -> None:
    assert not watching.Activity().works
    assert not watching.Activity(processor=watching.BUSY).works
    for one in (Activity(processor=watching.BUSY * 2), Activity(disk=1), Activity(changed=1)):
        assert one.works
    assert not Activity(grown=9).works


def test_every_failure_is_kept_up_to_a_limit() -> None:
    patterns = {**PATTERNS, "failed": "cannot load (.+)"}
    seen = lifecycle.Watched()
    for number in range(watching.MOST_KEPT + 3):
        seen = read_line(seen, f"cannot load x{number}", patterns)
        seen = read_line(seen, f"Error: y{number}", patterns)
    kept = range(3, watching.MOST_KEPT + 3)
    assert seen.failures == tuple(f"cannot load x{number}" for number in kept)
    assert seen.errors == tuple(f"Error: y{number}" for number in kept)
    first = read_line(read_line(lifecycle.Watched(), "cannot load a", patterns), "cannot load b", patterns)
    assert first.failures == ("cannot load a", "cannot load b")


# --- services --------------------------------------------------------------------------


@posix
def test_services_start_in_order_each_when_the_one_before_is_ready(tmp_path: Path) -> None:
    keep = keep_of(
        tmp_path,
        """
        [log]
        in = ["log/world.log"]
        ready = "world is open"
        [[service]]
        name = "accounts"
        command = ["./accounts.sh"]
        log = ["log/accounts.log"]
        ready = "accounts open"
        limit = "20 s"
        [start]
        command = ["./world.sh"]
        limit = "20 s"
        """,
    )
    (keep.server / "log").mkdir()
    for name, lines in (
        ("accounts", "sleep 1; date +%s.%N > a; echo accounts open"),
        ("world", "date +%s.%N > w; echo world is open"),
    ):
        script = keep.server / f"{name}.sh"
        script.write_text(f"#!/bin/sh\n({lines}) >> log/{name}.log\nexec sleep 60\n")
        script.chmod(0o755)
    started = lifecycle.start(keep, os.environ, tmp_path / "out")
    try:
        assert [(one.name, one.watched.state) for one in started] == [
            ("accounts", State.READY),
            ("the server", State.READY),
        ]
        assert float((keep.server / "a").read_text()) < float((keep.server / "w").read_text())
    finally:
        lifecycle.end(keep, [one.pid for one in started])
    (keep.server / "accounts.sh").write_text("#!/bin/sh\nexit 1\n")
    started = lifecycle.start(keep, os.environ, tmp_path / "out")
    assert [(one.name, one.watched.state) for one in started] == [("accounts", State.DIED)]


# --- small things --------------------------------------------------------------------


def test_lengths_of_time() -> None:
    assert [duration(text) for text in ("90 min", "1 hour", "1.5 hours", "30s", "2 days")] == [
        timedelta(minutes=90),
        timedelta(hours=1),
        timedelta(minutes=90),
        timedelta(seconds=30),
        timedelta(days=2),
    ]
    assert [duration(text) for text in ("", "soon", "5", "-1 s", "1 fortnight")] == [None] * 5
    assert lifecycle.in_words(timedelta(minutes=15)) == "15 minutes"
    assert lifecycle.in_words(timedelta(seconds=61)) == "61 seconds"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('[console]\nkind = "pigeon"', "'pigeon' is no choice here"),
        ('[console]\nkind = "packet"\naddress = "here"', "should be HOST:PORT"),
        ('[console]\nkind = "fifo"', "the path of the FIFO"),
        ('[console]\nkind = "tmux"', "tmux session"),
        ('[console]\nkind = "command"\ncommand = ["x"]', "{phrase}"),
        ('[console]\naddress = "a:1"\nphrases = { say = "cry" }', "should hold {text}"),
        ("[start]\ncommand = []", "a list of arguments"),
        ('[start]\ncommand = ["x"]\nlimit = "soon"', "'soon' is no length of time"),
        ('[start]\ncommand = ["x"]\nready = "("', "not a regular expression"),
        ('[[service]]\ncommand = ["x"]', "lacks the key 'name'"),
        ('[[service]]\nname = "a"\ncommand = ["x"]\nfailing = "weep"', "one of stop, go on"),
        ('[stop]\ntell = ["soon"]', "should hold lengths of time"),
        ('[stop]\ntext = "bye"', "should hold {time}"),
        ("[stop]\nterminate = true", "should be text"),
        ('[process]\naddress = "x"', "should be HOST:PORT"),
        ('[[landmark]]\nname = "x"', "should tell one of"),
        ('[[landmark]]\nname = "x"\ntiles = "1..2"', "should be X1,Y1..X2,Y2"),
        ('[update.remember]\noak = "burn"', "'burn' is no choice"),
        ("[rehearse]\nports = 1", "unknown key"),
    ],
)
def test_what_is_wrong_in_keep_toml_is_told_with_its_line(tmp_path: Path, text: str, told: str) -> None:
    with pytest.raises(EmberKeepError) as caught:
        keep_of(tmp_path, text)
    assert told in "\n".join(f"{fault} {fault.hint}" for fault in caught.value.faults)
    assert all(fault.place and fault.place.line for fault in caught.value.faults)
