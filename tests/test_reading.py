"""Many files read over SFTP behind one another: of a real sshd, by the system's ssh and over a connection of ours; and of
a server that answers as oddly as the protocol lets it."""

from __future__ import annotations

import os
import random
import signal
import stat
import struct
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import paramiko
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from emberkeep.errors import UnreadableInput
from emberkeep.keep.tables.transfer import RemoteAccess, address_of
from emberkeep.transfer import pool, sftp, sftp_pipeline, ssh_client
from emberkeep.transfer.protocol import ConnectionLost, ConnectionSettings, ReadRequest, RemoteError
from emberkeep.transfer.sftp import SftpFileSystem
from emberkeep.transfer.sftp_pipeline import PipelinedReader
from tests import farhosts
from tests.farhosts import Site, held, made

# --- a server that may answer late, short, and in any order --------------------------------


@dataclass
class SkippedEntry:
    """What lies behind a stream: ``contents`` by path. ``chance`` decides in which order and how much it answers;
    ``piece``: bytes that one answer holds at most; ``limits``: whether it tells of that."""

    contents: dict[bytes, bytes]
    chance: random.Random
    piece: int = 1 << 20
    limits: bool = True
    spoil: Callable[[bytes], bytes] = lambda answer: answer
    most_open: int = 0
    closed: bool = False
    _answers: list[bytes] = field(default_factory=list)
    _bytes: bytes = b""
    open: dict[bytes, bytes] = field(default_factory=dict)

    def write(self, data: bytes) -> None:
        at = 0
        while at < len(data):
            (size,) = struct.unpack_from(">I", data, at)
            self._asked(data[at + 4], data[at + 5 : at + 4 + size])
            at += 4 + size
        assert at == len(data)

    def _asked(self, kind: int, body: bytes) -> None:
        if kind == 1:
            self._say(2, struct.pack(">I", 3) + (b"\0\0\0\x12limits@openssh.com\0\0\0\x011" if self.limits else b""))
            return
        number, rest = body[:4], body[4:]
        (length,) = struct.unpack_from(">I", rest)
        text, rest = rest[4 : 4 + length], rest[4 + length :]
        if kind == 200:
            self._say(201, number + struct.pack(">QQQQ", self.piece + 1024, self.piece, self.piece, 100))
        elif kind == 3:
            if text not in self.contents:
                self._status(number, 2, b"no such file")
                return
            handle = self.chance.randbytes(self.chance.randint(1, 9)) + number
            self.open[handle] = text
            self.most_open = max(self.most_open, len(self.open))
            self._say(102, number + struct.pack(">I", len(handle)) + handle)
        elif kind == 4:
            del self.open[text]
            self._status(number, 0, b"")
        else:
            offset, wanted = struct.unpack(">QI", rest)
            assert wanted <= max(self.piece, sftp_pipeline.LEAST_PIECE)
            data = self.contents[self.open[text]][offset : offset + self.chance.randint(1, wanted)]
            if data:
                self._say(103, number + struct.pack(">I", len(data)) + data)
            else:
                self._status(number, 1, b"end")

    def _status(self, number: bytes, code: int, words: bytes) -> None:
        self._say(101, number + struct.pack(">II", code, len(words)) + words + struct.pack(">I", 0))

    def _say(self, kind: int, body: bytes) -> None:
        self._answers.append(self.spoil(struct.pack(">IB", len(body) + 1, kind) + body))

    def read(self, size: int) -> bytes:
        while len(self._bytes) < size:
            if not self._answers:
                raise ConnectionLost("nothing is asked")
            self._bytes += self._answers.pop(self.chance.randrange(len(self._answers)))
        data, self._bytes = self._bytes[:size], self._bytes[size:]
        return data

    def close(self) -> None:
        self.closed = True


def files_of(reader: PipelinedReader, wants: list[tuple[bytes, int, int]]) -> list[bytes | str]:
    """What came of each file: its bytes, or why it was denied. They come in their order."""
    found: list[bytes | str] = []
    now: list[bytes] = []
    for number, piece in reader.files(wants):
        assert number == len(found)
        if isinstance(piece, RemoteError):
            found.append(str(piece))
        elif piece:
            now.append(piece)
        else:
            found.append(b"".join(now))
        now = now if isinstance(piece, bytes) and piece else []
    return found


sizes = st.sampled_from([0, 1, 900, 40_000, 70_000])


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(sizes, st.integers(0, 3), st.integers(-3, 3)), max_size=80),
    st.integers(0, 1 << 30),
    st.booleans(),
    st.sampled_from([5_000, 32 << 10, 1 << 20]),
)
def test_whatever_the_order_and_the_length_of_answers(
    told: list[tuple[int, int, int]], seed: int, limits: bool, piece: int
) -> None:
    """Files of all lengths; some wanted from the middle on, some longer or shorter than they are, some whose end nobody
    knows, some that are not there."""
    chance = random.Random(seed)
    contents, wants, wished = {}, [], []
    for number, (size, part, off) in enumerate(told):
        path, data = f"/{number}".encode(), chance.randbytes(size)
        start = size * part // 4
        end = -1 if off == -3 else max(start, size + off * 700 if off < 3 else size)
        wants.append((path, start, end))
        if off == -2:
            wished.append("no such file")
            continue
        contents[path] = data
        wished.append(data[start:] if end < 0 else data[start:end])
    server = SkippedEntry(contents, chance, piece, limits)
    reader = PipelinedReader(server)
    assert files_of(reader, wants) == wished
    assert server.open == {} and server.most_open <= sftp_pipeline.AHEAD
    assert files_of(reader, wants[:3]) == wished[:3]  # it goes on with others


def test_no_more_is_asked_for_than_fits(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sftp_pipeline, "ROOM", 300_000)
    chance = random.Random(4)
    contents = {f"/{number}".encode(): chance.randbytes(200_000) for number in range(40)}

    class Counting(SkippedEntry):
        most = 0

        def read(self, size: int) -> bytes:
            self.most = max(self.most, sum(map(len, self._answers)))
            return super().read(size)

    server = Counting(contents, chance)
    assert files_of(PipelinedReader(server), [(path, 0, 200_000) for path in contents]) == list(contents.values())
    assert server.most < 300_000 + 4 * sftp_pipeline.LARGEST_PIECE


@pytest.mark.parametrize(
    "spoil",
    [
        lambda answer: struct.pack(">I", 1 << 30) + answer[4:],
        lambda answer: struct.pack(">I", 2) + answer[4:],
        lambda answer: answer[:5] + b"\xff\xff\xff\xff" + answer[9:],
        lambda answer: answer[:4] + b"\x07" + answer[5:],
        lambda answer: answer[:9] + b"\0\0\0\x01" + answer[13:] if answer[4] in (102, 103) else answer,
        lambda answer: answer[:9] + b"\0\0\0\0" + answer[13:] if answer[4] == 103 else answer,
        lambda answer: b"",
    ],
)
def test_what_is_no_answer_loses_the_connection_and_nothing_else(spoil: Callable[[bytes], bytes]) -> None:
    server = SkippedEntry({b"/a": b"x" * 5000}, random.Random(1))
    reader = PipelinedReader(server)
    server.spoil = spoil
    with pytest.raises(ConnectionLost):
        files_of(reader, [(b"/a", 0, 5000)])


def test_what_does_not_speak_sftp_is_ended() -> None:
    server = SkippedEntry({}, random.Random(1), spoil=lambda answer: b"Welcome to the harbour, keeper!\r\n")
    with pytest.raises(ConnectionLost, match="does not speak SFTP"):
        PipelinedReader(server)
    assert server.closed


# --- a real one ------------------------------------------------------------------------


@pytest.fixture
def there(tmp_path: Path) -> Path:
    root = made(tmp_path / "there" / "gannet-rock")
    for number in range(300):
        (root / "mission" / f"extra-{number}.xml").write_bytes(os.urandom(number * 50))
    return root


@pytest.fixture
def remote(tmp_path: Path) -> Iterator[farhosts.Sshd]:
    with farhosts.sshd(tmp_path / "ssh") as server:
        yield server


def door_to(remote: farhosts.Sshd, root: Path, **told: object) -> ConnectionSettings:
    return ConnectionSettings(
        replace(RemoteAccess(address_of(remote.address(root)), key=str(remote.key)), **told),  # type: ignore[arg-type]
        trust=lambda *_: True,
        limit=10,
    )


def all_wants(root: Path) -> list[ReadRequest]:
    paths = sorted(path for path in root.rglob("*") if path.is_file())
    return [ReadRequest(path.relative_to(root).as_posix(), 0, path.stat().st_size) for path in paths]


def read_all(host: SftpFileSystem, wants: list[ReadRequest]) -> dict[str, bytes]:
    found = {want.path: b"" for want in wants}
    for number, piece in host.read_many(wants):
        assert isinstance(piece, bytes)
        found[wants[number].path] += piece
    return found


@pytest.mark.parametrize("connections", [4, 1])
def test_a_real_host_by_the_systems_ssh_and_over_a_connection_of_ours(
    there: Path, remote: farhosts.Sshd, connections: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    started: list[ssh_client.SshSubprocess] = []

    class Noted(ssh_client.SshSubprocess):
        def __init__(self, *told: object) -> None:
            super().__init__(*told)  # type: ignore[arg-type]
            started.append(self)

    monkeypatch.setattr(sftp, "SshSubprocess", Noted)
    host = SftpFileSystem(door_to(remote, there, connections=connections))
    try:
        wants = all_wants(there)
        for _ in range(2):
            assert read_all(host, wants) == {want.path: (there / want.path).read_bytes() for want in wants}
        odd = [
            ReadRequest("mission/none.xml", 0, 4),
            ReadRequest("nothing", 0, -1),
            ReadRequest("world/big.sea", 5_999_990, -1),
        ]
        pieces = [piece for _, piece in host.read_many(odd)]
        assert isinstance(pieces[0], RemoteError) and pieces[1] == b""
        assert b"".join(p for p in pieces[2:] if isinstance(p, bytes)) == (there / "world/big.sea").read_bytes()[-10:]
    finally:
        host.close()
    assert len(started) == (1 if connections == 4 else 0)
    assert all(one.process.poll() is not None for one in started)


def test_ssh_takes_no_other_key_than_the_one_that_was_checked(there: Path, remote: farhosts.Sshd) -> None:
    key = " ".join((remote.room / "host.pub").read_text().split()[:2])
    wrong = " ".join(remote.key.with_suffix(".pub").read_text().split()[:2])
    PipelinedReader(ssh_client.SshSubprocess(door_to(remote, there), key)).close()
    with pytest.raises(ConnectionLost):
        PipelinedReader(ssh_client.SshSubprocess(door_to(remote, there), wrong))


def test_ssh_is_given_the_passphrase_and_shows_it_nobody(there: Path, remote: farhosts.Sshd) -> None:
    subprocess.run(["ssh-keygen", "-q", "-p", "-P", "", "-N", "low tide 7", "-f", remote.key], check=True)
    key = " ".join((remote.room / "host.pub").read_text().split()[:2])
    way = ssh_client.SshSubprocess(replace(door_to(remote, there), secret="low tide 7"), key)
    try:
        PipelinedReader(way)
        command = Path(f"/proc/{way.process.pid}/cmdline")
        assert not command.exists() or b"low tide" not in command.read_bytes()
        room = way.room
        assert all(b"low tide" not in path.read_bytes() for path in room.iterdir())
        assert stat.S_IMODE(room.stat().st_mode) == 0o700
    finally:
        way.close()
    assert not room.exists()
    with pytest.raises(ConnectionLost):
        PipelinedReader(ssh_client.SshSubprocess(replace(door_to(remote, there), secret="high tide"), key))


def a_program(place: Path, text: str) -> str:
    """A folder with another ``ssh``, in front of the usual ones."""
    place.mkdir()
    (place / "ssh").write_text(f"#!/bin/sh\n{text}\n")
    (place / "ssh").chmod(0o755)
    return f"{place}{os.pathsep}{os.environ['PATH']}"


@pytest.mark.parametrize(
    ("text", "limit"),
    [("exit 255", 10.0), ("echo Welcome aboard, keeper; exec sleep 60", 10.0), ("exec sleep 60", 5.0)],
)
@pytest.mark.long
def test_where_ssh_is_of_no_use_a_connection_of_ours_does_it(
    there: Path, remote: farhosts.Sshd, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, text: str, limit: float
) -> None:
    monkeypatch.setenv("PATH", a_program(tmp_path / "bin", text))
    settings = replace(door_to(remote, there), limit=limit)
    host = SftpFileSystem(settings)
    began = time.monotonic()
    try:
        wants = all_wants(there)
        assert read_all(host, wants) == {want.path: (there / want.path).read_bytes() for want in wants}
        assert not settings.met.ssh
    finally:
        host.close()
    assert time.monotonic() - began < 30


@pytest.mark.long
def test_a_fetch_goes_on_where_its_ssh_was_cut_off(
    there: Path, remote: farhosts.Sshd, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    reads = [0]

    class Cut(ssh_client.SshSubprocess):
        def read(self, size: int) -> bytes:
            reads[0] += 1
            if reads[0] in (90, 400, 405, 800):
                self.process.kill()
                self.process.wait()
                raise ConnectionLost("cut")
            return super().read(size)

    monkeypatch.setattr(sftp, "SshSubprocess", Cut)
    site = Site(there, tmp_path / "here", remote.address(there), f'key = "{remote.key}"')
    assert site.mirror("fetch", "--accept-new", "--only", "mission/stores.xml").code == 0
    with site.lines() as lines:
        done = site.fetch(lines)
    assert (done.failed, reads[0] > 800) == ((), True)
    assert held(site.copy) == held(there)
    assert [*(site.folder / "far").iterdir()] == []


@pytest.mark.skipif(not hasattr(signal, "SIGSTOP"), reason="no signal holds a process here")
@pytest.mark.long
def test_an_ssh_that_falls_silent_is_ended_and_the_rest_comes(
    there: Path, remote: farhosts.Sshd, monkeypatch: pytest.MonkeyPatch
) -> None:
    reads = [0]

    class Silent(ssh_client.SshSubprocess):
        def read(self, size: int) -> bytes:
            reads[0] += 1
            if reads[0] == 300:
                os.kill(self.process.pid, signal.SIGSTOP)
            return super().read(size)

    monkeypatch.setattr(sftp, "SshSubprocess", Silent)
    line = pool.RemoteConnection(replace(door_to(remote, there), limit=5.0), pause=lambda seconds: None)
    wants = all_wants(there)
    found = {wants[number].path: b"".join(chunks) for number, chunks in line.many(wants, "cannot fetch")}
    line.close()
    assert found == {want.path: (there / want.path).read_bytes() for want in wants}
    assert reads[0] > 300


@pytest.mark.skipif(not hasattr(signal, "SIGSTOP"), reason="no signal holds a process here")
def test_what_waits_for_ssh_ends_when_the_host_is_closed(
    there: Path, remote: farhosts.Sshd, monkeypatch: pytest.MonkeyPatch
) -> None:
    held_up = threading.Event()

    class Silent(ssh_client.SshSubprocess):
        reads = 0

        def read(self, size: int) -> bytes:
            self.reads += 1
            if self.reads == 300:
                os.kill(self.process.pid, signal.SIGSTOP)
                held_up.set()
            return super().read(size)

    monkeypatch.setattr(sftp, "SshSubprocess", Silent)
    host, ended = SftpFileSystem(replace(door_to(remote, there), limit=60)), []

    def read() -> None:
        try:
            read_all(host, all_wants(there))
        except ConnectionLost as error:
            ended.append(error)

    thread = threading.Thread(target=read, daemon=True)
    thread.start()
    assert held_up.wait(20)
    time.sleep(0.3)
    host.close()
    thread.join(10)
    assert len(ended) == 1


def test_a_host_that_is_gone_for_good_ends_the_fetch_and_what_came_stays(
    there: Path, remote: farhosts.Sshd, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened: list[float] = []
    connect = paramiko.SSHClient.connect

    def counted(client: paramiko.SSHClient, *told: Any, **further: Any) -> None:
        opened.append(time.monotonic())
        connect(client, *told, **further)

    class Gone(ssh_client.SshSubprocess):
        pieces = 0

        def read(self, size: int) -> bytes:
            Gone.pieces += 1
            if Gone.pieces == 700:
                remote.stop()
            if Gone.pieces >= 700:
                self.process.kill()
                raise ConnectionLost("cut")
            return super().read(size)

    monkeypatch.setattr(sftp, "SshSubprocess", Gone)
    monkeypatch.setattr(paramiko.SSHClient, "connect", counted)
    site = Site(there, tmp_path / "here", remote.address(there), f'key = "{remote.key}"\nconnections = 2')
    assert site.mirror("fetch", "--accept-new", "--only", "mission/stores.xml").code == 0
    with site.lines() as lines, pytest.raises(UnreadableInput, match="tries"):
        site.fetch(lines)
    came = {path: data for path, data in held(site.copy).items() if data is not None}
    assert 20 < len(came) < 300
    assert came == {path: (there / path).read_bytes() for path in came}
    assert len(opened) < 4 * pool.TRIES  # not as often for every file that is left


@pytest.mark.long
def test_files_that_cannot_be_had_are_named_and_the_rest_comes(
    there: Path, remote: farhosts.Sshd, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One that is gone by the time its turn comes, one that shrank, and a link where its folder belongs here."""
    site = Site(there, tmp_path / "here", remote.address(there), f'key = "{remote.key}"')
    assert site.mirror("fetch", "--accept-new", "--only", "mission/stores.xml").code == 0
    outside = tmp_path / "outside"
    outside.mkdir()
    (site.copy / "world").symlink_to(outside)
    read_many = SftpFileSystem.read_many

    def late(self: SftpFileSystem, wants: list[ReadRequest]) -> Iterator[tuple[int, bytes | RemoteError]]:
        (there / "mission" / "extra-7.xml").unlink(missing_ok=True)
        (there / "mission" / "extra-200.xml").write_bytes(b"short")
        return read_many(self, wants)

    monkeypatch.setattr(SftpFileSystem, "read_many", late)
    with site.lines() as lines:
        done = site.fetch(lines)
    assert [item.path for item in done.failed] == ["mission/extra-7.xml", "world", "world/big.sea"]
    assert list(outside.iterdir()) == []
    assert (site.copy / "mission" / "extra-200.xml").read_bytes() == b"short"
    for path in ("mission/extra-6.xml", "mission/extra-8.xml", "mission/extra-201.xml"):
        assert (site.copy / path).read_bytes() == (there / path).read_bytes()
