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
        reader.pattern("command"),
        reader.string("address"),
        reader.string("lock"),
        reader.strings("grows"),
    )
    if found.address and not _ADDRESS.fullmatch(found.address):
        reader.fault("address", "should be HOST:PORT", "as 127.0.0.1:27800")
    reader.no_others()
    return found


def _console(reader: Reader) -> Console | None:
    if not reader.table:
        return None
    secret, phrases = reader.sub("secret"), reader.sub("phrases")
    kind = reader.choice("kind", CONSOLES, "line")
    console = Console(
        kind,
        reader.string("address"),
        reader.string("path"),
        reader.string("session"),
        reader.strings("command"),
        secret.string("env"),
        secret.string("file"),
        {name: value for name in PHRASES if (value := phrases.string(name))},
        reader.pattern("good"),
        reader.optional_time("pause", UNANSWERED if kind in MUTE else timedelta()) or timedelta(),
    )
    if reader.table.get("kind", kind) != kind:
        pass  # told already; what else is wanted depends on it
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
    for part in (reader, secret, phrases):
        part.no_others()
    return console


def _start(reader: Reader) -> Service | None:
    return _service(reader, "the server") if reader.table else None


def _service(reader: Reader, name: str) -> Service:
    command = reader.strings("command")
    if not command:
        reader.fault("command", "a list of arguments is wanted", 'as ["./cast-off.sh"]')
    found = Service(
        name,
        command,
        reader.string("folder"),
        reader.pattern("ready"),
        reader.strings("log"),
        reader.time("limit", Service.limit),
        reader.time("silent", Service.silent),
        reader.choice("failing", ("stop", "go on"), "stop") == "go on",
        reader.strings("environment"),
        reader.string("user"),
    )
    for variable in found.environment:
        if not _VARIABLE.fullmatch(variable):
            reader.fault("environment", f"'{variable}' is no name of a variable", 'as ["ROCK_CONSOLE", "ROCK_*"]')
    reader.no_others()
    return found


def _stop(reader: Reader) -> Stopping:
    text = reader.string("text", Stopping.text)
    if "{time}" not in text:
        reader.fault("text", "should hold {time}", f'as "{Stopping.text}"')
    found = Stopping(
        reader.times("tell"),
        text,
        reader.time("limit", Stopping.limit),
        reader.time("still", Stopping.still),
        reader.optional_time("terminate"),
        reader.optional_time("kill"),
    )
    reader.no_others()
    return found
