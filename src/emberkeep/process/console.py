"""A running server's console: say something to the players, save, hold writes, let them go again, stop.

``[console]`` of keep.toml tells how it is reached:

* ``line``: lines over TCP to ``address``; the secret first, where there is one; each line sent is answered by one line;
* ``packet``: packets over TCP to ``address``, as many games' remote consoles take them: a 32-bit length, request id
  and type (little-endian), a body that ends with a null byte, and one more; type 3 brings the secret, 2 a command;
* ``fifo``: lines written into the named pipe ``path``, without answers;
* ``tmux``, ``screen``: keys sent to the terminal session ``session``, without answers;
* ``command``: a program with arguments, ``{phrase}`` in them, that answers on its standard output.

``good`` is a pattern that an answer must match; ``pause`` is how long one phrase is given before the next (a second
where there are no answers).
"""

from __future__ import annotations

import os
import re
import socket
import struct
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from emberkeep.errors import Refused, RunFailed
from emberkeep.keep.secrets import secret
from emberkeep.keep.tables.process import Console

LIMIT = 30.0
"""Seconds for an answer."""
Speak = Callable[[str], str]
_LOGIN, _COMMAND = 3, 2
_ESCAPED, _ESCAPE = r"([\\^$])", r"\\\1"
"""What a terminal session called ``screen`` would read as a sign of its own."""
_NO_QUESTIONS = "Unknown option"
"""What a ``screen`` before 4.1 says of being asked something: there, that the keys were sent has to do."""
_LARGEST = 4096
"""Bytes of a packet's body from which on more packets of the same answer follow."""


def can_hold(console: Console | None) -> bool:
    """Whether the console was told how to hold writes and let them go."""
    return console is not None and bool(console.phrases.get("hold")) and bool(console.phrases.get("free"))


@contextmanager
def held(console: Console, environment: Mapping[str, str], limit: float = LIMIT) -> Iterator[None]:
    """Have the server save and hold its writes for a while. Refused when it does not; RunFailed when it cannot be
    told to write again."""
    with speaking(console, environment, limit) as speak:
        _order_all(console, speak, ("save", "hold"))
        try:
            yield
        finally:
            try:
                _order(console, speak, console.phrases["free"])
            except Refused as error:
                raise RunFailed(
                    f"the server was told to hold its writes and could not be told to go on: {error}",
                    hint=f"say '{console.phrases['free']}' on its console, or restart it",
                ) from error


def order(console: Console, environment: Mapping[str, str], *names: str, limit: float = LIMIT) -> None:
    """Say the phrases of these names, one after the other; a name without a phrase is left out."""
    with speaking(console, environment, limit) as speak:
        _order_all(console, speak, names)


def say(console: Console, environment: Mapping[str, str], text: str, limit: float = LIMIT) -> str:
    """Say ``text`` to the players, on one line; returns the server's answer."""
    phrase = console.phrases.get("say")
    if not phrase:
        raise Refused(
            "the console has no phrase for talking to players",
            hint='set phrases in [console] of keep.toml: phrases = { say = "… {text}" }',
        )
    plain = " ".join("".join(char if char.isprintable() else " " for char in text).split())
    with speaking(console, environment, limit) as speak:
        return _order(console, speak, phrase.replace("{text}", plain))


def _order_all(console: Console, speak: Speak, names: Sequence[str]) -> None:
    phrases = [phrase for name in names if (phrase := console.phrases.get(name))]
    for number, phrase in enumerate(phrases):
        if number:
            time.sleep(console.pause.total_seconds())
        _order(console, speak, phrase)


def _order(console: Console, speak: Speak, phrase: str) -> str:
    try:
        answer = speak(phrase)
    except (OSError, subprocess.SubprocessError) as error:
        raise Refused(
            f"the server's console did not take '{phrase}': {error}", hint="see phrases in [console] of keep.toml"
        ) from error
    if console.good and not re.search(console.good, answer):
        raise Refused(
            f"the server's console answered '{answer.strip()[:200]}' to '{phrase}'",
            hint="see good and phrases in [console] of keep.toml",
        )
    return answer.strip()


@contextmanager
def speaking(console: Console, environment: Mapping[str, str], limit: float = LIMIT) -> Iterator[Speak]:
    """A way to say phrases to the server. Refused, with what to do, when its console cannot be reached."""
    if console.kind in ("line", "packet"):
        with _connected(console, limit) as connection:
            speak = (_lines if console.kind == "line" else _packets)(connection, secret_of(console, environment))
            yield speak
        return
    if console.kind == "fifo":
        yield lambda phrase: _write(Path(console.path), phrase)
        return
    if console.kind == "tmux":
        yield (
            lambda phrase: (
                _run(("tmux", "send-keys", "-t", console.session, "-l", phrase), limit)
                + _run(("tmux", "send-keys", "-t", console.session, "Enter"), limit)
            )
        )
        return
    if console.kind == "screen":
        yield lambda phrase: _screen(console.session, phrase, limit)
        return
    yield lambda phrase: _run(tuple(part.replace("{phrase}", phrase) for part in console.command), limit)


def require_reached(console: Console, environment: Mapping[str, str], limit: float = LIMIT) -> None:
    """Refused where the console of a running server cannot be reached, or does not take the secret. Nothing is said on
    it; of a ``command``, which cannot be asked without saying something, nothing is known."""
    if console.kind in ("line", "packet"):
        with speaking(console, environment, limit):
            return
    try:
        if console.kind == "fifo":
            os.close(os.open(console.path, os.O_WRONLY | getattr(os, "O_NONBLOCK", 0)))
        elif console.kind == "tmux":
            _run(("tmux", "has-session", "-t", console.session), limit)
        elif console.kind == "screen":
            _run(("screen", "-S", console.session, "-p", "0", "-Q", "title"), limit)
    except OSError as error:
        if _NO_QUESTIONS not in str(error):
            raise Refused(f"the server's console cannot be reached: {error}", hint="mend [console]") from error


@contextmanager
def _connected(console: Console, limit: float) -> Iterator[socket.socket]:
    host, _, port = console.address.rpartition(":")
    try:
        connection = socket.create_connection((host.strip("[]"), int(port)), timeout=limit)
    except OSError as error:
        raise Refused(
            f"the server's console at {console.address} cannot be reached: {error}",
            hint="is it listening? a snapshot with --while-running copies without holding writes",
        ) from error
    with connection:
        yield connection


def _lines(connection: socket.socket, word: str) -> Speak:
    stream = connection.makefile("rwb")

    def speak(line: str) -> str:
        stream.write(line.encode() + b"\n")
        stream.flush()
        answer = stream.readline(65536)
        if not answer:
            raise OSError("it closed the connection")
        return answer.decode("utf-8", "replace")

    if word:
        try:
            speak(word)
        except OSError as error:
            raise Refused(
                f"the server's console did not take the secret: {error}", hint="see secret in [console] of keep.toml"
            ) from error
    return speak


def _packets(connection: socket.socket, word: str) -> Speak:
    stream = connection.makefile("rwb")
    numbers = iter(range(1, 1 << 30))

    def send(kind: int, body: str) -> int:
        number = next(numbers)
        content = struct.pack("<ii", number, kind) + body.encode() + b"\0\0"
        stream.write(struct.pack("<i", len(content)) + content)
        stream.flush()
        return number

    def receive() -> tuple[int, int, bytes]:
        head = stream.read(4)
        length = struct.unpack("<i", head)[0] if len(head) == 4 else 0
        if not 10 <= length <= _LARGEST + 1024:
            raise OSError("it closed the connection" if not head else "it answered with no packet of a remote console")
        content = stream.read(length)
        if len(content) < length:
            raise OSError("it closed the connection")
        return *struct.unpack("<ii", content[:8]), content[8:].rstrip(b"\0")

    def speak(phrase: str) -> str:
        number = send(_COMMAND, phrase)
        parts: list[bytes] = []
        while True:
            answered, _, body = receive()
            if answered == number:
                parts.append(body)
                if len(body) < _LARGEST - 512:
                    return b"".join(parts).decode("utf-8", "replace")

    try:
        send(_LOGIN, word)
        answered, kind, _ = receive()
        while kind != _COMMAND:  # an empty answer may come before the verdict
            answered, kind, _ = receive()
    except OSError as error:
        raise Refused(
            f"the server's console did not take the secret: {error}", hint="see secret in [console] of keep.toml"
        ) from error
    if answered == -1:
        raise Refused("the server's console did not take the secret", hint="is it the one its settings name?")
    return speak


def _write(path: Path, phrase: str) -> str:
    """Write a line into a pipe that somebody reads; never waits for a reader."""
    descriptor = os.open(path, os.O_WRONLY | getattr(os, "O_NONBLOCK", 0))
    try:
        os.write(descriptor, phrase.encode() + b"\n")
    finally:
        os.close(descriptor)
    return ""


def _screen(session: str, phrase: str, limit: float) -> str:
    """Keys for a ``screen`` session: sending them succeeds also where its window is gone, it hangs or is about to
    end, so it is asked something after them, which only a session that has read them answers."""
    window = ("screen", "-S", session, "-p", "0")
    sent = _run((*window, "-X", "stuff", f"{re.sub(_ESCAPED, _ESCAPE, phrase)}\r"), limit)
    try:
        _run((*window, "-Q", "title"), limit)
    except OSError as error:
        if _NO_QUESTIONS not in str(error):
            raise
    return sent


def _run(command: tuple[str, ...], limit: float) -> str:
    done = subprocess.run(command, capture_output=True, timeout=limit, check=False, stdin=subprocess.DEVNULL)
    answer = done.stdout.decode("utf-8", "replace")
    if done.returncode:
        said = " ".join((answer + " " + done.stderr.decode("utf-8", "replace")).split())
        raise OSError(f"{command[0]} ended with exit code {done.returncode}{': ' * bool(said)}{said[-200:]}")
    return answer


def secret_of(console: Console, environment: Mapping[str, str]) -> str:
    """The word that a console asks for; "" for none. Refused where it cannot be had."""
    return secret(console.secret_env, console.secret_file, environment, "the console's secret")
