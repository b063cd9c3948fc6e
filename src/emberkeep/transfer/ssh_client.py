"""The system's own ``ssh`` as a way to a host's SFTP: it encrypts many times as fast as Python's can.

It is only used to a host whose key a connection of ours has just checked, and takes that key alone; it reads no
configuration, asks nobody anything, and is let in by the same key file, agent or password. Where there is none, or it
is not let in, the connection of ours does the work.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import IO

from emberkeep.errors import reason
from emberkeep.fs import writing
from emberkeep.transfer.protocol import ConnectionLost, ConnectionSettings, RemoteError

_WORD = "EMBERKEEP_FAR_WORD"
_ASKED = f"#!/bin/sh\nprintf '%s\\n' \"${_WORD}\"\n"
"""What ssh runs where it would ask for a password."""
_BUFFER = 1 << 20


class SshSubprocess:
    """A running ``ssh`` with a host's SFTP at its other end. ``key``: the host's, as a file of known hosts tells it,
    without a name. RemoteError where it cannot be started; that it is not let in shows as ConnectionLost at the first
    read. ``room``: a folder of its own, for as long as it runs."""

    def __init__(self, settings: ConnectionSettings, key: str) -> None:
        program = shutil.which("ssh")
        if program is None:
            raise RemoteError("there is no ssh on this system")
        if settings.secret and os.name == "nt":
            raise RemoteError("on Windows, ssh is given passwords by nobody but the one who sits there")
        self._limit = settings.limit
        self._folder = tempfile.TemporaryDirectory(prefix="emberkeep-")
        self.room = Path(self._folder.name)
        try:
            self.process = self._started(program, settings, key, self.room)
        except OSError as error:
            self._folder.cleanup()
            raise RemoteError(f"ssh cannot be started: {reason(error)}") from error
        self._came = _end(self.process.stdout)
        self._turn = 0
        self._ended = threading.Event()
        threading.Thread(target=self._watch, daemon=True).start()

    @staticmethod
    def _started(program: str, settings: ConnectionSettings, key: str, room: Path) -> subprocess.Popen[bytes]:
        writing.write_whole(room / "known", [f"host {key}\n".encode()])
        environment = {**os.environ}
        if settings.secret:
            writing.write_whole(room / "asked", [_ASKED.encode()], mode=0o700)
            askpass = {"SSH_ASKPASS": str(room / "asked"), "SSH_ASKPASS_REQUIRE": "force", "DISPLAY": ":0"}
            environment |= {_WORD: settings.secret, **askpass}
        command = [program, *_arguments(settings, key, room / "known")]
        flags = getattr(subprocess, "CREATE_NO_WINDOW", 0)
        return subprocess.Popen(
            command,
            bufsize=_BUFFER,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=environment,
            start_new_session=os.name != "nt",  # no terminal to ask on, and Ctrl-C is ours to answer
            creationflags=flags,
        )

    def _watch(self) -> None:
        """End it where an answer takes too long; whoever waits for one then hears of it."""
        turn, since = 0, time.monotonic()
        while not self._ended.wait(1):
            if turn != self._turn or turn % 2 == 0:
                turn, since = self._turn, time.monotonic()
            elif time.monotonic() - since > self._limit:
                self.process.kill()
                return

    def read(self, size: int) -> bytes:
        """Exactly so many bytes from the standard output of ssh. ConnectionLost where it ends before."""
        self._turn += 1  # odd while it waits
        data = self._came.read(size)
        self._turn += 1
        if len(data) < size:
            raise ConnectionLost("the connection was cut")
        return data

    def write(self, data: bytes) -> None:
        """Bytes to the standard input of ssh. ConnectionLost where it has ended."""
        try:
            _end(self.process.stdin).write(data)
            _end(self.process.stdin).flush()
        except OSError as error:
            raise ConnectionLost("the connection was cut") from error

    def close(self) -> None:
        """End the system's ssh."""
        self._ended.set()
        self.process.kill()  # first: whoever reads of it holds its end until then
        for end in (self.process.stdin, self.process.stdout):
            with suppress(OSError):
                _end(end).close()
        self.process.wait()
        self._folder.cleanup()


def _end(stream: IO[bytes] | None) -> IO[bytes]:
    assert stream is not None
    return stream


def _arguments(settings: ConnectionSettings, key: str, known: Path) -> list[str]:
    address, kind = settings.address, key.partition(" ")[0]
    kinds = "rsa-sha2-512,rsa-sha2-256" if kind == "ssh-rsa" else kind
    options = {
        "StrictHostKeyChecking": "yes",
        "HostKeyAlias": "host",
        "UserKnownHostsFile": f'"{known}"',
        "GlobalKnownHostsFile": os.devnull,
        "HostKeyAlgorithms": kinds,
        "UpdateHostKeys": "no",
        "BatchMode": "no" if settings.secret else "yes",
        "NumberOfPasswordPrompts": "1",
        "Ciphers": "^aes128-gcm@openssh.com,aes256-gcm@openssh.com",
        "Compression": "no",
        "ClearAllForwardings": "yes",
        "ForwardAgent": "no",
        "ConnectTimeout": str(int(settings.limit) or 1),
        "ServerAliveInterval": str(int(settings.limit / 2) or 1),
        "ServerAliveCountMax": "2",
    }
    words = ["-F", "none", "-T", "-p", str(address.port)]
    words += ["-l", address.user] if address.user else []
    if settings.remote.key:
        words += ["-i", str(Path(settings.remote.key).expanduser()), "-o", "IdentitiesOnly=yes"]
    for name, value in options.items():
        words += ["-o", f"{name}={value}"]
    return [*words, "-s", "--", address.host, "sftp"]
