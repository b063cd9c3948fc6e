"""Real file-transfer servers on loopback, started by tests: pyftpdlib in a thread, OpenSSH's sshd and vsftpd as processes."""

from __future__ import annotations

import contextlib
import getpass
import logging
import os
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import DTPHandler, FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from emberkeep.demo.walk import free_ports
from emberkeep.keep.keep import Keep
from emberkeep.operations.upkeep import fetch as mirror
from emberkeep.operations.upkeep import fetch_plan, transfer_access
from emberkeep.transfer.pool import ConnectionPool
from emberkeep.transfer.state import RemoteState
from emberkeep.transfer.walk import walk
from tests.program import Ran, run_program

USER, WORD = "keeper", "low tide 7"
logging.getLogger("pyftpdlib").addHandler(logging.NullHandler())  # else it sets up one of its own that says much
logging.getLogger("pyftpdlib").setLevel(logging.CRITICAL)


class Ftp:
    """An FTP server over ``root``. ``handler``: a class of its own for how it behaves; ``connections``: at most so many."""

    def __init__(
        self, root: Path, handler: type[FTPHandler] = FTPHandler, connections: int = 40, port: int = 0, **settings: Any
    ) -> None:
        authorizer = DummyAuthorizer()
        authorizer.add_user(USER, WORD, str(root), perm="elradfmwMT")
        settings = {
            "authorizer": authorizer,
            "banner": "harbour",
            "encoding": "utf-8",
            "use_sendfile": False,
            **settings,
        }
        self.handler = type("Handler", (handler,), {**settings, "said": []})
        self._loop = IOLoop()
        self._server = FTPServer(("127.0.0.1", port), self.handler, ioloop=self._loop)
        self._server.max_cons_per_ip = connections
        self.port = self._server.address[1]
        self._stop = False
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        while not self._stop:
            self._loop.loop(timeout=0.05, blocking=False)

    @property
    def said(self) -> list[str]:
        """The commands that came in."""
        return self.handler.said  # type: ignore[attr-defined,no-any-return]

    def address(self, folder: str = "/") -> str:
        return f"ftp://{USER}@127.0.0.1:{self.port}{folder}"

    def close(self) -> None:
        self._stop = True
        self._thread.join(5)
        self._server.close_all()


class Listening(FTPHandler):
    """Notes every command."""

    said: list[str]

    def pre_process_command(self, line: str, cmd: str, arg: str) -> None:
        self.said.append(cmd)
        super().pre_process_command(line, cmd, arg)


def cut_at(numbers: Callable[[int], bool]) -> type[FTPHandler]:
    """A server that cuts the connection instead of answering some commands, by their number."""

    class Cuts(Listening):
        def pre_process_command(self, line: str, cmd: str, arg: str) -> None:
            self.said.append(cmd)
            if numbers(len(self.said)):
                self.close()
                return
            FTPHandler.pre_process_command(self, line, cmd, arg)

    return Cuts


class Halting(DTPHandler):
    """Cuts each transfer after some bytes, as long as ``left`` lasts."""

    left = [3]
    after = 300_000

    def send(self, data: bytes) -> int:
        sent: int = super().send(data)
        if self.left[0] > 0 and self.get_transmitted_bytes() > self.after:
            self.left[0] -= 1
            self.close()
            self.cmd_channel.close()
        return sent


class Stalling(DTPHandler):
    """Falls silent in the middle of a transfer, and leaves the line open, as long as ``left`` lasts."""

    left = [2]
    after = 300_000
    silent = False

    def writable(self) -> bool:
        if not self.silent and self.left[0] > 0 and self.get_transmitted_bytes() > self.after:
            self.left[0] -= 1
            self.silent = True
        return not self.silent and bool(super().writable())


class Losing(DTPHandler):
    """Writes only the beginning of what is sent to it, and calls that done."""

    after = 10

    def handle_read(self) -> None:
        chunk = self.recv(self.ac_in_buffer_size)
        self.tot_bytes_received += len(chunk)
        if not chunk:
            self.transfer_finished = True
            return
        self.file_obj.write(chunk[: self.after])

    handle_read_event = handle_read


@contextlib.contextmanager
def ftp(root: Path, handler: type[FTPHandler] = Listening, **settings: Any) -> Iterator[Ftp]:
    server = Ftp(root, handler, **settings)
    try:
        yield server
    finally:
        server.close()


class Sshd:
    """OpenSSH's own server with its own keys; one user, who logs in with a key."""

    def __init__(self, room: Path) -> None:
        self.room, self.port = room, free_port()
        room.mkdir(parents=True, exist_ok=True)
        room.chmod(0o700)
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.key = room / "own"
        for path in (room / "host", self.key):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", path], check=True)
        (room / "authorized").write_bytes(self.key.with_suffix(".pub").read_bytes())
        self._process: subprocess.Popen[bytes] | None = None
        self.start()

    def start(self) -> None:
        config = self.room / "config"
        config.write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {self.room}/host\nPidFile {self.room}/pid\n"
            f"AuthorizedKeysFile {self.room}/authorized\nStrictModes no\nPasswordAuthentication no\n"
            "MaxStartups 100\nMaxSessions 100\nUsePAM no\nSubsystem sftp internal-sftp\n"
        )
        self._process = subprocess.Popen(
            [shutil.which("sshd") or "/usr/sbin/sshd", "-D", "-f", config, "-E", self.room / "log"]
        )
        wait_for(self.port)

    def new_host_key(self) -> None:
        """Show another key from now on."""
        self.stop()
        for end in ("", ".pub"):
            (self.room / f"host{end}").unlink()
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.room / "host"], check=True)
        self.start()

    def address(self, folder: Path) -> str:
        return f"sftp://{getpass.getuser()}@127.0.0.1:{self.port}{folder}"

    def stop(self) -> None:
        if self._process is not None:
            self._process.terminate()
            self._process.wait(10)


@contextlib.contextmanager
def sshd(room: Path) -> Iterator[Sshd]:
    needs("/usr/sbin/sshd", "openssh-server")
    server = Sshd(room)
    try:
        yield server
    finally:
        server.stop()


@contextlib.contextmanager
def vsftpd(room: Path, root: Path) -> Iterator[str]:
    """Debian's vsftpd for anonymous users, who may read; gives its address. It has LIST and no MLSD. ``root`` must be
    open to all."""
    needs("/usr/sbin/vsftpd", "vsftpd")
    if os.geteuid() != 0:
        pytest.skip("vsftpd only runs as root")
    port = free_port()
    room.mkdir(parents=True, exist_ok=True)
    (room / "empty").mkdir()
    config = room / "vsftpd.conf"
    config.write_text(
        f"listen=YES\nlisten_ipv6=NO\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\n"
        f"secure_chroot_dir={room}/empty\nanonymous_enable=YES\nno_anon_password=YES\nanon_root={root}\n"
        f"xferlog_enable=NO\nvsftpd_log_file={room}/log\nanon_max_rate=0\n"
        "seccomp_sandbox=NO\nanon_world_readable_only=NO\n"
    )
    process = subprocess.Popen(["/usr/sbin/vsftpd", str(config)])
    try:
        wait_for(port)
        yield f"ftp://127.0.0.1:{port}/"
    finally:
        process.terminate()
        process.wait(10)


def needs(program: str, package: str) -> None:
    """Skip where a server is not installed, unless it must be there."""
    if Path(program).exists():
        return
    if os.environ.get("EMBERKEEP_REAL_SERVERS") == "required":
        pytest.fail(f"{program} is not there (Debian's {package})")
    pytest.skip(f"{program} is not installed (Debian's {package})")


def free_port() -> int:
    return free_ports(1)[0]


def wait_for(port: int) -> None:
    for _ in range(200):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
            return
        time.sleep(0.05)
    raise AssertionError(f"nobody listens on port {port}")


# --- a far server, its keep here, and the program run on it ----------------------------------------

ODD_NAMES = ("with space.txt", "-dash", "grün.txt", "a;b=c", " leading", "quo\"te'", "deep/er/and deeper/x")
BIG = 6_000_000


def made(root: Path) -> Path:
    """A small server with names of all kinds, an empty file, an empty folder and a large file."""
    for number, name in enumerate(ODD_NAMES):
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"{name} {number}\n")
    (root / "nothing").write_bytes(b"")
    (root / "hollow").mkdir()
    (root / "world").mkdir()
    (root / "world" / "big.sea").write_bytes(os.urandom(1 << 20) * 5 + os.urandom(BIG - (5 << 20)))
    (root / "mission").mkdir()
    (root / "mission" / "stores.xml").write_text("<stores>\n  <good id='rope'>7</good>\n</stores>\n")
    for number, path in enumerate(sorted(path for path in root.rglob("*") if path.is_file())):
        os.utime(path, (1, 1_700_000_000 + number * 60))
    return root


def held(root: Path) -> dict[str, bytes | None]:
    """What a folder holds, by path; None for a folder."""
    return {path.relative_to(root).as_posix(): None if path.is_dir() else path.read_bytes() for path in root.rglob("*")}


class Site:
    """A far server, its keep here, and the program run on it."""

    def __init__(self, root: Path, place: Path, address: str, remote: str = "", **environment: str) -> None:
        self.root, self.place, self.address = root, place, address
        self.vague = False
        """Whether the host tells days, not seconds."""
        self.environment = {"FAR_WORD": WORD, **environment}
        self.folder = place / "rock.keep"
        self.folder.mkdir(parents=True)
        self.copy = place / "rock"
        (self.folder / "keep.toml").write_text(
            f'format = 1\n[server]\nname = "Rock"\nfolder = "{address}"\n[far]\nstill = "0.1 s"\n{remote}\n'
            '[roles]\nworld = ["world/**"]\neconomy = ["mission/**"]\n'
        )

    @property
    def keep(self) -> Keep:
        return Keep(self.folder)

    def __call__(self, *words: str) -> Ran:
        return run_program("--keep", str(self.folder), *words, cwd=self.place, environment=self.environment)

    def mirror(self, *words: str) -> Ran:
        return self("mirror", *words)

    def lines(self, **changed: Any) -> ConnectionPool:
        """Connections that wait for nothing between tries."""
        return ConnectionPool(
            transfer_access.connection_settings(self.keep, self.environment), pause=lambda seconds: None, **changed
        )

    def fetch(self, lines: ConnectionPool, **how: Any) -> mirror.Fetched:
        keep, state = self.keep, RemoteState(self.folder)
        known = state.known() if state.address == str(lines.settings.address) else {}
        plan = fetch_plan.fetch_plan(walk(lines), known, fetch_plan.Local(keep.server, known), lambda path: True, **how)
        return mirror.fetch(keep, lines, plan)
