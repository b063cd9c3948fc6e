"""The stand-in engine: a small program that behaves as a survival game's server does. It stands alone in one file, so
that a release of Skerrylight is this file, its ``release.json`` and some bulk in an executable zip (see ``sample``).

It is run in the server folder::

    skerrylight-4.3.0.bin --seed N --span N [--title T] [--settings FILE] [--lines N] [--port N] [--console-port N]

It reads its settings, refuses a save of a later format, ignores saves with an older number in their names (and begins
a new world, as servers do), converts a world of an older format slowly and without a word, rigs the extensions that
were built for it, holds its logbook open, answers a console, and writes its settings back when it is doused.

The environment: ``ROCK_CONSOLE`` the console's secret (without one there is no console); ``SKERRYLIGHT_PACE``
seconds that a conversion takes; ``SKERRYLIGHT_FAULTS`` words out of

    crash, crash-late    ends with an error at once, or after the logbook was opened
    hang                 does nothing at all, without a word
    never-ready          goes on without ever saying that it is ready
    port-taken           finds its port in use
    deaf                 takes no orders on its console
    refuse-save          finds the save damaged
    stubborn             does not end when told to
    fail=NAME            cannot rig that extension
    tear=PATH            cuts that file in half while it converts
    lose=PATH            removes that file while it converts
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import socketserver
import sqlite3
import sys
import threading
import time
import zipfile
from pathlib import Path
from typing import Any, TextIO

INDEX = 1024
"""A conversion notes one byte in this many of each tile."""


class Doused(Exception):
    """The server was told to end."""


class Engine:
    """One run of the server in the current folder."""

    def __init__(self, release: dict[str, Any], arguments: list[str]) -> None:
        self.release = release
        self.seed = _argument(arguments, "--seed", "1")
        self.span = _argument(arguments, "--span", "2048")
        self.settings_file = Path(_argument(arguments, "--settings", "keeper.properties"))
        self.settings_bytes = self.settings_file.read_bytes()
        self.settings = _properties(self.settings_bytes)
        self.port = int(_argument(arguments, "--port", self.settings.get("port", "0")))
        self.console_port = int(_argument(arguments, "--console-port", self.settings.get("console-port", "0")))
        self.waters = Path(self.settings.get("waters", "new-waters"))
        self.faults = os.environ.get("SKERRYLIGHT_FAULTS", "").split()
        self.began = time.monotonic()
        self.ended = threading.Event()
        self.writing = threading.Event()
        self.writing.set()
        self.log_file: TextIO | None = None
        self.database: sqlite3.Connection | None = None

    def fault(self, name: str) -> list[str]:
        """The faults of this name that are switched on: what stands behind ``=``, or the name itself."""
        return [word.partition("=")[2] or word for word in self.faults if word.partition("=")[0] == name]

    def say(self, text: str) -> None:
        """A line in the log."""
        line = f"{time.strftime('%H:%M:%S')} {text}"
        sys.stdout.write(line + "\n")
        sys.stdout.flush()
        if self.log_file:
            self.log_file.write(line + "\n")
            self.log_file.flush()

    def run(self) -> int:
        """Until doused, or until something is wrong."""
        self._open_log()
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, self._on_terminate)
        self.say(f"{self.release['name']} {self.release['version']} wakes")
        if self.fault("crash"):
            self.say("error: the keel is cracked")
            return 70
        if self.fault("hang"):
            self.ended.wait()
            return 1
        try:
            servers = self._listen()
        except OSError as error:
            self.say(f"error: port {self.port or self.console_port} is taken: {error.strerror}")
            return 71
        try:
            self._open_world()
            self._rig()
            if self.fault("crash-late"):
                self.say("error: the keel cracked")
                return 70
            if not self.fault("never-ready"):
                self.say(f"lamp lit in {max(1, round(time.monotonic() - self.began))} s")
            self._watch()
        except Doused as error:
            if error.args:
                self.say(f"error: {error}")
                return 72
        finally:
            for server in servers:
                server.shutdown()
                server.server_close()
        self._end()
        return 0

    def _on_terminate(self, number: int, frame: object) -> None:
        if not self.fault("stubborn"):
            self.ended.set()

    def _open_log(self) -> None:
        folder = Path("log")
        folder.mkdir(exist_ok=True)
        latest = folder / "latest.log"
        if latest.exists() and latest.stat().st_size:
            earlier = len(list(folder.glob("earlier.*.log")))
            os.replace(latest, folder / f"earlier.{earlier + 1}.log")
        self.log_file = latest.open("w", encoding="utf-8")
        Path("log/skerrylight.pid").write_text(f"{os.getpid()}\n", encoding="ascii")

    def _listen(self) -> list[_Server]:
        servers = []
        if self.fault("port-taken"):
            raise OSError(98, "Address already in use")
        if self.port:
            servers.append(_serve(self.port, _Greeting, self))
        if self.console_port and os.environ.get("ROCK_CONSOLE") and not self.fault("deaf"):
            try:
                servers.append(_serve(self.console_port, _Console, self))
            except OSError:
                for server in servers:
                    server.shutdown()
                    server.server_close()
                raise
        return servers

    # --- the world -----------------------------------------------------------

    def _open_world(self) -> None:
        own = self.release["save"]
        self.say(f"chart seed {self.seed}, span {self.span}, save format {own}")
        self.waters.mkdir(exist_ok=True)
        (self.waters / "chart").mkdir(exist_ok=True)
        numbers = {}
        for path in self.waters.glob("anchorage.*.isle"):
            found = re.fullmatch(r"anchorage\.(\d+)\.(\d+)\.(\d+)\.isle", path.name)
            if found and (found[1], found[2]) == (self.span, self.seed):
                numbers[int(found[3])] = path
        if numbers and max(numbers) > own:
            raise Doused(f"the save is of format {max(numbers)}, which is newer than {own}")
        if self.fault("refuse-save"):
            raise Doused("the save is damaged and cannot be opened")
        save = numbers.get(own)
        if save is None:
            self.say("no save of this format; a new chart is drawn")
            save = self.waters / f"anchorage.{self.span}.{self.seed}.{own}.isle"
            save.write_bytes(b"ISLE" + bytes([own]) + self.seed.encode() * 50)
        inside = save.read_bytes()
        if inside[4] > own:
            raise Doused(f"the save is of format {inside[4]}, which is newer than {own}")
        if inside[4] < own:
            self._convert(save, inside, own)
        self._open_logbook()

    def _convert(self, save: Path, inside: bytes, own: int) -> None:
        """A new index beside each tile, and the save's own number: slowly, and without a word."""
        tiles = sorted(path for folder in self._charts() for path in folder.glob("strip.*.sea"))
        pause = float(os.environ.get("SKERRYLIGHT_PACE", "2")) / max(1, len(tiles))
        for tile in tiles:
            data = tile.read_bytes()
            until = time.monotonic() + pause
            while time.monotonic() < until and not self.ended.is_set():
                sum(data[::7])  # work that shows as work
            tile.with_suffix(".idx").write_bytes(data[::INDEX])
        for name in self.fault("tear"):
            with Path(name).open("r+b") as handle:
                handle.truncate(Path(name).stat().st_size // 2)
        for name in self.fault("lose"):
            Path(name).unlink()
        beside = save.with_suffix(".part")
        beside.write_bytes(inside[:4] + bytes([own]) + inside[5:])
        os.replace(beside, save)

    def _charts(self) -> list[Path]:
        return [folder for folder in (self.waters / "chart", Path("tidepool/chart")) if folder.is_dir()]

    def _open_logbook(self) -> None:
        path = self.waters / f"logbook.{self.release['logbook']}.db"
        fresh = not path.exists()
        database = self.database = sqlite3.connect(path, check_same_thread=False)
        if fresh:
            database.execute("create table learned (keeper text, craft text, day integer, primary key (keeper, craft))")
            database.execute("create table about (name text primary key, value text)")
        with database:
            database.execute("insert or replace into about values ('lit', ?)", (self.release["version"],))

    def _rig(self) -> None:
        framework = Path("lib/keelson.rig")
        laid = b"by keelson" in Path("lib/libgale.so").read_bytes()[:200] if Path("lib/libgale.so").exists() else False
        if not (framework.exists() and laid):
            if list(Path().glob("extensions/*.ext")):
                self.say("no framework is laid over the engine; extensions stay ashore")
            return
        self.say(f"{framework.read_text().splitlines()[0]} laid over the engine")
        manifests = {}
        for path in sorted(Path("extensions").glob("*.ext")):
            with zipfile.ZipFile(path) as archive:
                found = json.loads(archive.read("manifest.json"))
            manifests[found["name"]] = found
        for name, found in sorted(manifests.items(), key=lambda item: (len(item[1]["needs"]), item[0])):
            missing = [need for need in found["needs"] if need not in manifests]
            oldest = self.release["extensions-from"]
            if name in self.fault("fail"):
                self.say(f"extension {name} {found['version']} could not be rigged: a rope is missing")
            elif missing:
                self.say(f"extension {name} {found['version']} could not be rigged: it needs {missing[0]}")
            elif _parts(found["built-for"]) < _parts(oldest):
                self.say(
                    f"extension {name} {found['version']} could not be rigged: built for {found['built-for']},"
                    f" {oldest} or later is wanted"
                )
            else:
                self.say(f"extension {name} {found['version']} rigged")

    # --- while it runs -------------------------------------------------------

    def _watch(self) -> None:
        turns = 0
        while not self.ended.wait(0.1):
            turns += 1
            if turns % 50 == 0 and self.writing.is_set():
                self.save()

    def save(self) -> None:
        """Write down what is in memory."""
        if self.database:
            with contextlib.suppress(sqlite3.Error), self.database:
                self.database.execute("update about set value = value where name = 'lit'")

    def order(self, line: str) -> str:
        """What the console answers to a line."""
        word, _, rest = line.partition(" ")
        if word == "cry" and rest:
            self.say(f"a cry over the water: {rest}")
            return "cried"
        if line == "log all":
            self.save()
            return "logged"
        if line == "log hold":
            self.writing.clear()
            return "held"
        if line == "log free":
            self.writing.set()
            return "freed"
        if line == "douse":
            if not self.fault("stubborn"):
                self.ended.set()
            return "dousing"
        return f"nay, nobody knows '{word}'"

    def _end(self) -> None:
        if self.database:
            self.database.close()
        self.settings_file.write_bytes(self.settings_bytes)  # as it was when the server began: later edits are lost
        self.say("lamp doused")
        Path("log/skerrylight.pid").unlink(missing_ok=True)


class _Greeting(socketserver.StreamRequestHandler):
    """The game's own port: it only says who is there."""

    server: _Server

    def handle(self) -> None:
        with contextlib.suppress(OSError):
            self.wfile.write(f"{self.server.engine.release['name']}\n".encode())


class _Console(socketserver.StreamRequestHandler):
    """Lines; the first one is the secret."""

    server: _Server

    def handle(self) -> None:
        with contextlib.suppress(OSError):
            if self.rfile.readline(1000).decode("utf-8", "replace").strip() != os.environ["ROCK_CONSOLE"]:
                self.wfile.write(b"nay\n")
                return
            self.wfile.write(b"aye\n")
            while line := self.rfile.readline(4000):
                self.wfile.write(self.server.engine.order(line.decode("utf-8", "replace").strip()).encode() + b"\n")


class _Server(socketserver.ThreadingTCPServer):
    engine: Engine
    allow_reuse_address = True
    daemon_threads = True


def _serve(port: int, handler: type[socketserver.BaseRequestHandler], engine: Engine) -> _Server:
    server = _Server(("127.0.0.1", port), handler)
    server.engine = engine
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
    return server


def _argument(arguments: list[str], name: str, otherwise: str) -> str:
    return arguments[arguments.index(name) + 1] if name in arguments[:-1] else otherwise


def _properties(data: bytes) -> dict[str, str]:
    lines = (line.strip() for line in data.decode("utf-8", "replace").splitlines())
    pairs = (line.partition("=") for line in lines if line and not line.startswith("#"))
    return {key.strip(): value.strip() for key, _, value in pairs}


def _parts(version: str) -> list[int]:
    return [int(part) for part in re.findall(r"\d+", version)]


def main() -> int:
    """Run as the program of a release: ``release.json`` lies beside this file in its zip."""
    with zipfile.ZipFile(sys.argv[0]) as archive:
        release = json.loads(archive.read("release.json"))
    return Engine(release, sys.argv[1:]).run()


if __name__ == "__main__":
    sys.exit(main())
