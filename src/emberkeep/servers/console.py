"""A running server's console, as far as a snapshot needs it: save, hold writes, let them go again.

``[console]`` of keep.toml: ``kind = "line"`` speaks lines over TCP to ``address`` (the secret first, where there is
one; each line sent is answered by one line). ``kind = "command"`` runs ``command``, an argument list with
``{phrase}`` in it. ``good`` is a pattern that an answer must match.
"""

from __future__ import annotations

import os
import re
import socket
import subprocess
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from emberkeep.errors import Place, Refused, RunFailed
from emberkeep.keep import Console

LIMIT = 30.0
"""Seconds for an answer."""
Speak = Callable[[str], str]


def can_hold(console: Console | None) -> bool:
    """Whether the console was told how to hold writes and let them go."""
    return console is not None and bool(console.phrases.get("hold")) and bool(console.phrases.get("free"))


@contextmanager
def held(console: Console, environment: Mapping[str, str], limit: float = LIMIT) -> Iterator[None]:
    """Have the server save and hold its writes for a while. Refused when it does not; RunFailed when it cannot be
    told to write again."""
    with _speaking(console, environment, limit) as speak:
        for name in ("save", "hold"):
            if console.phrases.get(name):
                _say(console, speak, name)
        try:
            yield
        finally:
            try:
                _say(console, speak, "free")
            except Refused as error:
                raise RunFailed(
                    f"the server was told to hold its writes and could not be told to go on: {error}",
                    hint=f"say '{console.phrases['free']}' on its console, or restart it",
                ) from error


def _say(console: Console, speak: Speak, name: str) -> None:
    try:
        answer = speak(console.phrases[name])
    except (OSError, subprocess.SubprocessError) as error:
        raise Refused(f"the server's console did not take '{console.phrases[name]}': {error}") from error
    if console.good and not re.search(console.good, answer):
        raise Refused(f"the server's console answered '{answer.strip()[:200]}' to '{console.phrases[name]}'")


@contextmanager
def _speaking(console: Console, environment: Mapping[str, str], limit: float) -> Iterator[Speak]:
    if console.kind == "command":
        yield lambda phrase: _run(console.command, phrase, limit)
        return
    host, _, port = console.address.rpartition(":")
    try:
        connection = socket.create_connection((host.strip("[]"), int(port)), timeout=limit)
    except OSError as error:
        raise Refused(
            f"the server's console at {console.address} cannot be reached: {error}",
            hint="is it listening? --while-running copies without holding writes",
        ) from error
    with connection, connection.makefile("rwb") as stream:

        def speak(line: str) -> str:
            stream.write(line.encode() + b"\n")
            stream.flush()
            answer = stream.readline(65536)
            if not answer:
                raise OSError("it closed the connection")
            return answer.decode("utf-8", "replace")

        secret = _secret(console, environment)
        if secret:
            try:
                speak(secret)
            except OSError as error:
                raise Refused(f"the server's console did not take the secret: {error}") from error
        yield speak


def _run(command: tuple[str, ...], phrase: str, limit: float) -> str:
    arguments = [argument.replace("{phrase}", phrase) for argument in command]
    done = subprocess.run(arguments, capture_output=True, timeout=limit, check=True, stdin=subprocess.DEVNULL)
    return done.stdout.decode("utf-8", "replace")


def _secret(console: Console, environment: Mapping[str, str]) -> str:
    """The secret, from the environment or a file that nobody else may read; "" where none is told."""
    if console.secret_env:
        if console.secret_env not in environment:
            raise Refused(f"the console's secret is not there: {console.secret_env} is not set in the environment")
        return environment[console.secret_env]
    if not console.secret_file:
        return ""
    path = Path(console.secret_file)
    try:
        mode = path.stat().st_mode
        secret = path.read_text(encoding="utf-8").strip()
    except OSError as error:
        raise Refused(f"the console's secret cannot be read: {error.strerror}", place=Place(str(path))) from error
    if os.name == "posix" and mode & 0o077:  # Windows has no such bits
        raise Refused("others may read the console's secret", place=Place(str(path)), hint=f"chmod 600 {path}")
    return secret
