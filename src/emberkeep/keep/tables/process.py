"""What keep.toml says of the server as a process: how it is recognised, spoken to, started and stopped.

::

    [process]   signs of a running server beside what is always looked for: pid-file, command (a pattern of its command
                line), address (HOST:PORT it listens on), lock (a file it holds locked), grows (globs of files that it
                writes to all the time)
    [console]   kind (line, packet, fifo, tmux, screen, command), address or path or session or command,
                secret ({ env } or { file }), phrases (say, save, hold, free, stop), good (pattern of a good answer)
    [start]     command, folder, ready (a pattern, else that of [log]), limit, silent (how long nothing at all may
                move), environment (names of variables that are handed on, ``*`` at an end for any), user (whose
                rights it has)
    [[service]] the same with a name, log (globs) and failing ("stop" or "go on"): started before the server, in order
    [stop]      tell (times before), text, limit, still, and terminate and kill: allowed, and after how long

Times are as ``"90 min"``: s, min, hour(s), day(s).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta

from emberkeep.keep.toml_reader import Reader

CONSOLES = ("line", "packet", "fifo", "tmux", "screen", "command")
PHRASES = ("say", "save", "hold", "free", "stop")
_SECONDS = {"s": 1, "min": 60, "hour": 3600, "hours": 3600, "day": 86400, "days": 86400}
_DURATION = re.compile(r"(\d+(?:\.\d+)?) ?(s|min|hours?|days?)")
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_()]*\*?")
_ADDRESS = re.compile(r".+:\d{1,5}")


@dataclass(frozen=True)
class Process:
    """Signs of a running server. All are optional; paths and globs are relative to the server folder."""

    pid_file: str = ""
    command: str = ""
    address: str = ""
    lock: str = ""
    grows: tuple[str, ...] = ()


MUTE = ("fifo", "tmux", "screen")
"""Kinds of consoles that give no answers …"""
UNANSWERED = timedelta(seconds=1)
"""… and how long one phrase is given there before the next: some servers take one line each time that they look."""


@dataclass(frozen=True)
class Console:
    """How a running server is spoken to; see ``process.console``. Secrets are named here, never held."""

    kind: str = "line"
    address: str = ""
    path: str = ""
    session: str = ""
    command: tuple[str, ...] = ()
    secret_env: str = ""
    secret_file: str = ""
    phrases: Mapping[str, str] = field(default_factory=dict)
    good: str = ""
    pause: timedelta = timedelta()
    """How long one phrase is given to take effect before the next one is said."""


@dataclass(frozen=True)
class Service:
    """Something that is started: ``command`` in ``folder``; ready when a line of ``log`` fits ``ready``.

    ``limit``: how long that may take; ``silent``: how long nothing at all may move; ``goes_on``: whether the next one
    is started although this one failed; ``environment``: the variables that it is given beside the usual ones, as it is
    given none of our secrets unasked; ``user``: whom it runs as, "" for whoever starts it.
    """

    name: str
    command: tuple[str, ...]
    folder: str = ""
    ready: str = ""
    log: tuple[str, ...] = ()
    limit: timedelta = timedelta(minutes=90)
    silent: timedelta = timedelta(minutes=10)
    goes_on: bool = False
    environment: tuple[str, ...] = ()
    user: str = ""


@dataclass(frozen=True)
class Stopping:
    """How the server is stopped. ``terminate`` and ``kill``: whether and how long after the limit; None: never."""

    tell: tuple[timedelta, ...] = ()
    text: str = "The server stops in {time}."
    limit: timedelta = timedelta(minutes=3)
    still: timedelta = timedelta(seconds=2)
    terminate: timedelta | None = None
    kill: timedelta | None = None


@dataclass(frozen=True)
class Running:
    """All of it. ``start``: None where keep.toml does not tell how the server is started."""

    process: Process = field(default_factory=Process)
    console: Console | None = None
    services: tuple[Service, ...] = ()
    start: Service | None = None
    stop: Stopping = field(default_factory=Stopping)


def duration(text: str) -> timedelta | None:
    """A length of time as ``"90 min"``; None when it is none."""
    found = _DURATION.fullmatch(text.strip())
    return timedelta(seconds=float(found[1]) * _SECONDS[found[2]]) if found else None


def read(reader: Reader) -> Running:
    """The tables of keep.toml, checked."""
    return Running(
        _process(reader.sub("process")),
        _console(reader.sub("console")),
        tuple(_service(item, item.required("name")) for item in reader.subs("service")),
        _start(reader.sub("start")),
        _stop(reader.sub("stop")),
    )


def _process(reader: Reader) -> Process:
    found = Process(
        reader.string("pid-file"),
        reader.string("command"),
        reader.string("address"),
        reader.string("lock"),
        reader.strings("grows"),
    )
    _check_pattern(reader, "command", found.command)
    if found.address and not _ADDRESS.fullmatch(found.address):
        reader.fault("address", "should be HOST:PORT", "as 127.0.0.1:27800")
    reader.no_others()
    return found


def _console(reader: Reader) -> Console | None:
    if not reader.table:
        return None
    secret, phrases = reader.sub("secret"), reader.sub("phrases")
    kind = reader.string("kind", "line")
    console = Console(
        kind,
        reader.string("address"),
        reader.string("path"),
        reader.string("session"),
        reader.strings("command"),
        secret.string("env"),
        secret.string("file"),
        {name: value for name in PHRASES if (value := phrases.string(name))},
        reader.string("good"),
        _time(reader, "pause", UNANSWERED if kind in MUTE else timedelta()) or timedelta(),
    )
    if console.kind not in CONSOLES:
        reader.fault("kind", f"'{console.kind}' is no kind of console", f"one of {', '.join(CONSOLES)}")
    elif console.kind in ("line", "packet") and not _ADDRESS.fullmatch(console.address):
        reader.fault("address", "should be HOST:PORT", "as 127.0.0.1:27900")
    elif console.kind == "fifo" and not console.path:
        reader.fault("path", "the path of the FIFO is wanted")
    elif console.kind in ("tmux", "screen") and not console.session:
        reader.fault("session", f"the name of the {console.kind} session is wanted")
    elif console.kind == "command" and not any("{phrase}" in argument for argument in console.command):
        reader.fault("command", "should be a list of arguments with {phrase} in one of them")
    if "say" in console.phrases and "{text}" not in console.phrases["say"]:
        phrases.fault("say", "should hold {text}", 'as say = "cry {text}"')
    _check_pattern(reader, "good", console.good)
    for part in (reader, secret, phrases):
        part.no_others()
    return console


def _start(reader: Reader) -> Service | None:
    return _service(reader, "the server") if reader.table else None


def _service(reader: Reader, name: str) -> Service:
    command = reader.strings("command")
    if not command:
        reader.fault("command", "a list of arguments is wanted", 'as ["./cast-off.sh"]')
    failing = reader.string("failing", "stop")
    if failing not in ("stop", "go on"):
        reader.fault("failing", 'should be "stop" or "go on"')
    found = Service(
        name,
        command,
        reader.string("folder"),
        reader.string("ready"),
        reader.strings("log"),
        _time(reader, "limit", Service.limit) or Service.limit,
        _time(reader, "silent", Service.silent) or Service.silent,
        failing == "go on",
        reader.strings("environment"),
        reader.string("user"),
    )
    _check_pattern(reader, "ready", found.ready)
    for variable in found.environment:
        if not _VARIABLE.fullmatch(variable):
            reader.fault("environment", f"'{variable}' is no name of a variable", 'as ["ROCK_CONSOLE", "ROCK_*"]')
    reader.no_others()
    return found


def _stop(reader: Reader) -> Stopping:
    tell = [duration(text) for text in reader.strings("tell")]
    if None in tell:
        reader.fault("tell", "should hold lengths of time", 'as ["15 min", "5 min", "1 min"]')
    text = reader.string("text", Stopping.text)
    if "{time}" not in text:
        reader.fault("text", "should hold {time}", f'as "{Stopping.text}"')
    found = Stopping(
        tuple(sorted((time for time in tell if time is not None), reverse=True)),
        text,
        _time(reader, "limit", Stopping.limit) or Stopping.limit,
        _time(reader, "still", Stopping.still) or Stopping.still,
        _time(reader, "terminate", None),
        _time(reader, "kill", None),
    )
    reader.no_others()
    return found


def _time(reader: Reader, key: str, default: timedelta | None) -> timedelta | None:
    if key not in reader.table:
        reader.string(key)
        return default
    found = duration(reader.string(key))
    if found is None:
        reader.fault(key, "should be a length of time", 'as "90 min" or "30 s"')
        return default
    return found


def _check_pattern(reader: Reader, key: str, pattern: str) -> None:
    try:
        re.compile(pattern)
    except re.error as error:
        reader.fault(key, f"not a regular expression: {error}")
