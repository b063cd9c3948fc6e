"""Starting and stopping a server: detached, in the order of its services, and without a fixed wait anywhere."""

from __future__ import annotations

import contextlib
import os
import posixpath
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Any

from emberkeep.callbacks import Say, no_op
from emberkeep.errors import Fault, Place, Refused, RunFailed, reason
from emberkeep.fs import writing
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE, Entry, Tree
from emberkeep.inventory.roles import Roles
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import handed_on
from emberkeep.keep.tables.process import Console, Service, Stopping
from emberkeep.keep.tables.server import Log
from emberkeep.process import console
from emberkeep.process.signs import Sign, alive, signs, wait_for
from emberkeep.process.watch import Follower, Movement, State, Watch, Watched, world_folders

Environment = Mapping[str, str]


def in_words(time: timedelta) -> str:
    """A lead time as players read it: ``5 minutes``."""
    seconds = round(time.total_seconds())
    for unit, length in (("day", 86400), ("hour", 3600), ("minute", 60)):
        if seconds >= length and seconds % length == 0:
            return f"{seconds // length} {unit}{'s' if seconds != length else ''}"
    return f"{seconds} second{'s' if seconds != 1 else ''}"


# --- stopping -----------------------------------------------------------------


@dataclass(frozen=True)
class Stopped:
    """How a server stopped. ``signs``: what showed that it ran, none where it did not; ``forced``: "", ``terminated``
    or ``killed``; ``seconds``: from the order on."""

    signs: tuple[str, ...]
    forced: str = ""
    seconds: float = 0.0


def warn(keep: Keep, environment: Environment, say: Say = no_op) -> None:
    """Tell the players at the times of keep.toml, and wait in between; ends at once when the server does."""
    running = keep.config.running
    if running.console is None or not running.stop.tell or not running.console.phrases.get("say"):
        return
    times = running.stop.tell
    for lead, following in zip(times, (*times[1:], timedelta()), strict=True):
        text = running.stop.text.replace("{time}", in_words(lead))
        console.say(running.console, environment, text)
        say(f"told the players: {text}")
        if wait_for(lambda: not is_running(keep), (lead - following).total_seconds(), every=1.0):
            return


def is_running(keep: Keep) -> bool:
    """Whether anything shows that the server runs."""
    return next(signs(keep.server, keep.config), None) is not None


def stop(keep: Keep, environment: Environment, say: Say = no_op) -> Stopped:
    """Save, stop, and wait until the server is gone and its files are still.

    Refused when there is no way to tell it; RunFailed when it does not end, and keep.toml allows nothing stronger.
    """
    before = tuple(signs(keep.server, keep.config))
    if not before:
        return Stopped(())
    running, began = keep.config.running, time.monotonic()
    pids = [sign.pid for sign in before if sign.pid]
    ordered = running.console is not None and bool(running.console.phrases.get("stop"))
    if ordered:
        _tell(keep, environment, say)
    elif running.stop.terminate is None:
        raise Refused(
            f"the server is running ({before[0].words}), and keep.toml tells no way to stop it",
            hint='set [console] with phrases = { stop = "…" }, or [stop] terminate = "30 s"; or stop it by hand',
        )
    forced = _wait_until_gone(keep, pids, running.stop, ordered, say)
    still = running.stop.still.total_seconds()
    if not wait_until_still(keep.server, still, running.stop.limit.total_seconds()):
        raise RunFailed(
            "the server has stopped, but its files go on changing",
            place=Place(str(keep.server)),
            hint="see what else writes there, end that, and run the same again",
        )
    return Stopped(tuple(sign.words for sign in before), forced, time.monotonic() - began)


def _tell(keep: Keep, environment: Environment, say: Say) -> None:
    found = keep.config.running.console
    assert found is not None
    try:
        if found.phrases.get("save"):
            say(_save(keep, found, environment))
        console.order(found, environment, "stop")
    except Refused:
        if keep.config.running.stop.terminate is None:
            raise
        say("its console does not answer")
        return
    say(f"said '{found.phrases['stop']}'")


def _save(keep: Keep, found: Console, environment: Environment) -> str:
    """Have the server save, and wait for what comes of it; what was seen, in words."""
    before = _saves(keep)
    console.order(found, environment, "save")
    wrote = wait_for(lambda: _saves(keep) != before, found.pause.total_seconds(), every=0.2)
    phrase = found.phrases["save"]
    return f"said '{phrase}', and it wrote" if wrote else f"said '{phrase}'; nothing was seen to be written yet"


def _saves(keep: Keep) -> dict[str, tuple[int, int]]:
    """Sizes and times of all files but logs: a console's pipe, which is written to as well, is no file."""
    roles = Roles(keep.config.roles)
    return {
        path: (entry.size, entry.mtime_ns)
        for path, entry in FolderTree(keep.server).entries().items()
        if entry.kind is FILE and roles.of(path) != "logs"
    }


def _wait_until_gone(keep: Keep, pids: Sequence[int], stopping: Stopping, asked: bool, say: Say) -> str:
    def gone() -> bool:
        return not any(map(alive, pids)) and not is_running(keep)

    if asked and wait_for(gone, stopping.limit.total_seconds()):
        return ""
    for name, allowed, send in (("terminated", stopping.terminate, "terminate"), ("killed", stopping.kill, "kill")):
        if allowed is None:
            continue
        for pid in sorted({*pids, *(sign.pid for sign in signs(keep.server, keep.config) if sign.pid)}):
            say(f"{name} process {pid}")
            _signal(pid, send)
        if wait_for(gone, allowed.total_seconds()):
            return name
    left = next(signs(keep.server, keep.config), Sign("its process is there"))
    raise RunFailed(
        f"the server did not stop within {in_words(stopping.limit)} ({left.words})",
        place=Place(str(keep.server)),
        hint="end it by hand and try again; [stop] terminate and kill in keep.toml allow Ember Keep to",
    )


def end(keep: Keep, pids: Sequence[int]) -> None:
    """End processes of ours that do not listen. RunFailed when they stay."""
    for what in ("terminate", "kill"):
        for pid in pids:
            _signal(pid, what)
        if wait_for(lambda: not any(map(alive, pids)) and not is_running(keep), ENDING):
            return
    raise RunFailed(
        "the server that was started cannot be ended",
        place=Place(str(keep.server)),
        hint="end it by hand; its process number is told above",
    )


ENDING = 10.0
"""Seconds that a process is given to end."""


BREAK = """
import ctypes, sys
console, pid = ctypes.windll.kernel32, int(sys.argv[1])
console.FreeConsole()
sys.exit(not (console.AttachConsole(pid) and console.GenerateConsoleCtrlEvent(1, pid)))
"""
"""What asks a process of Windows to end, as SIGTERM does elsewhere: Ctrl-Break (event 1) in its own console, where it
leads a group, as one does that ``launch`` started. Whoever ``terminate``s one there ends it unasked and unsaved."""


def _signal(pid: int, what: str) -> None:
    import psutil

    if sys.platform == "win32" and what == "terminate":
        line = [sys.executable, "-c", BREAK, str(pid)]
        with contextlib.suppress(subprocess.TimeoutExpired):  # whoever waits sees that it goes on
            subprocess.run(line, creationflags=subprocess.CREATE_NO_WINDOW, timeout=ENDING, check=False)
        return
    with contextlib.suppress(psutil.Error):
        getattr(psutil.Process(pid), what)()


def wait_until_still(folder: Path, seconds: float, limit: float) -> bool:
    """Whether nothing in a folder changed for some seconds, within a limit."""
    end = time.monotonic() + limit + seconds
    last, since = FolderTree(folder).fingerprint(), time.monotonic()
    while time.monotonic() - since < seconds:
        if time.monotonic() > end:
            return False
        time.sleep(min(0.2, seconds / 4))
        now = FolderTree(folder).fingerprint()
        if now != last:
            last, since = now, time.monotonic()
    return True


# --- starting -----------------------------------------------------------------


@dataclass(frozen=True)
class Start:
    """How a service started. ``pid``: of the process that was started, which may have handed on to another."""

    name: str
    pid: int
    watched: Watched


def how_to_start(config: Config) -> Service:
    """How keep.toml says the server is started. Refused when it does not."""
    if config.running.start is None:
        raise Refused(
            "keep.toml does not tell how the server is started",
            hint='set [start] with command = ["./…"]; a line of the log that says it is ready belongs into [log]',
        )
    return config.running.start


def server_log(config: Config) -> Log:
    """Where the server's log is and what its lines are; what [start] says of it counts before [log]."""
    start = config.running.start
    if start is None:
        return config.log
    patterns = {**config.log.patterns, **({"ready": start.ready} if start.ready else {})}
    return Log(start.log or config.log.within, patterns)


def obstacles(config: Config, tree: Tree, environment: Environment) -> Iterator[Fault]:
    """What would keep the services and the server from being started, as far as it shows without starting them.
    ``tree``: the server folder as it will be then."""
    last = how_to_start(config)
    for service in (*config.running.services, last):
        yield from _not_startable(service, tree, environment)
        log = server_log(config) if service is last else Log(service.log)
        if not service.ready and "ready" not in log.patterns:
            yield Fault(
                f"keep.toml does not say which log line tells that {service.name} is ready",
                hint="set ready in [log], [start] or [[service]]",
            )


def _not_startable(service: Service, tree: Tree, environment: Environment) -> Iterator[Fault]:
    entries = tree.entries()
    folder = service.folder.strip("/")
    if folder and folder not in entries:
        hint = "mend folder in [start]"
        yield Fault(f"{service.name} is to be started in {folder}, and there is no such folder", hint=hint)
        return
    program = service.command[0]
    path = posixpath.normpath(f"{folder}/{program}" if folder else program)
    entry = entries.get(path)
    if entry is None and not _is_elsewhere(program, environment):
        yield Fault(f"{service.name} cannot be started: there is no {program}", hint="mend command in keep.toml")
    elif entry is not None and entry.kind is FILE and os.name != "nt":
        yield from _faults_of_script(service.name, entry)
    try:
        _as_user(service)
    except Refused as error:
        yield from error.faults


def _faults_of_script(name: str, entry: Entry) -> Iterator[Fault]:
    """Why a file of the server folder cannot be executed on this system, which is not Windows."""
    place = Place(entry.path)
    if entry.path.lower().endswith(_OF_WINDOWS):
        yield Fault(
            f"{name} cannot be started: {entry.path} is a script for Windows",
            place=place,
            hint="name what starts it on this system: command in [start] of keep.toml",
        )
    elif not entry.mode & 0o111:
        hint = f"chmod +x {entry.path}, in the server folder"
        yield Fault(f"{name} cannot be started: {entry.path} may not be executed", place=place, hint=hint)


_OF_WINDOWS = (".bat", ".cmd", ".ps1")


def _is_elsewhere(program: str, environment: Environment) -> bool:
    """Whether a program is found outside the server folder: by its whole path, or where programs are."""
    if Path(program).is_absolute():
        return Path(program).exists()
    return "/" not in program and shutil.which(program, path=environment.get("PATH")) is not None


def unheard(config: Config, environment: Environment) -> Iterator[Fault]:
    """What would keep the console from being spoken to, as far as it shows without speaking to it."""
    settings = config.running.console
    if settings is None:
        return
    try:
        console.secret_of(settings, environment)
    except Refused as error:
        yield from error.faults
    command = settings.command[0] if settings.command else ""
    needs = {"tmux": "tmux", "screen": "screen", "command": command}.get(settings.kind, "")
    if needs and not _is_elsewhere(needs, environment):
        yield Fault(f"the console cannot be reached: there is no {needs}", hint="mend [console] in keep.toml")
    if settings.kind == "fifo" and not hasattr(os, "mkfifo"):
        hint = "set kind in [console] to line, packet or command"
        yield Fault("the console cannot be reached: this system has no fifos", hint=hint)
    elif settings.kind == "fifo" and Path(settings.path).is_absolute() and not Path(settings.path).exists():
        yield Fault(f"the console cannot be reached: there is no {settings.path}", hint="mend path in [console]")


@dataclass(frozen=True)
class Hear:
    """Who hears of a start: ``launched`` the process as soon as there is one, ``on_watch`` what is seen while it
    is followed."""

    launched: Callable[[int], None] = lambda pid: None
    on_watch: Callable[[str, Watched], None] = lambda name, watched: None


def start(keep: Keep, environment: Environment, output: Path, hear: Hear | None = None) -> list[Start]:
    """Start the services in order, each when the one before is ready, and the server last; follow it until it is
    ready. Does not fail for a server that does: what was seen tells. ``output``: a folder for what they print."""
    config = keep.config
    last = how_to_start(config)
    done = []
    for service in (*config.running.services, last):
        done.append(_one(keep, service, service is last, environment, output, hear or Hear()))
        if done[-1].watched.state is not State.READY and not service.goes_on:
            break
    return done


def _one(
    keep: Keep,
    service: Service,
    is_server: bool,
    environment: Environment,
    output: Path,
    hear: Hear,
) -> Start:
    config = keep.config
    log = server_log(config) if is_server else Log(service.log)
    printed = output / f"{service.name.replace(' ', '-').replace('/', '-')}.log"
    writing.make_folder(output, private=True)
    follower = Follower(keep.server, log.within, behind=True)
    if not log.within:
        follower = Follower(output, [printed.name], behind=True)
    process = launch(keep.server, service, environment, printed)
    hear.launched(process.pid)

    def pids() -> list[int]:
        process.poll()  # so that one which has ended is noticed
        own = [process.pid] if alive(process.pid) else []
        return own or [sign.pid for sign in signs(keep.server, config) if sign.pid]

    folders = world_folders(config.roles)
    movement = Movement(keep.server, folders, pids)
    watch = Watch(log, service, follower, pids, movement, failed=lambda: bool(process.returncode))
    if not watch.service.ready and "ready" not in log.patterns:
        raise Refused(
            f"keep.toml does not tell which line says that {service.name} is ready",
            hint="set ready in [log], [start] or [[service]]",
        )
    return Start(service.name, process.pid, watch.run(lambda watched: hear.on_watch(service.name, watched)))


def launch(server: Path, service: Service, environment: Environment, printed: Path) -> subprocess.Popen[bytes]:
    """Start a command in its folder, detached from us, its output going to a file. Refused when it cannot be."""
    folder = server / service.folder
    program = Path(service.command[0])
    beside = folder / program
    first = str(beside) if not program.is_absolute() and beside.is_file() else service.command[0]
    who, home = _as_user(service)
    flags = 0x08000000 | 0x00000200 if os.name == "nt" else 0  # CREATE_NO_WINDOW | CREATE_NEW_PROCESS_GROUP, see BREAK
    try:
        with writing.appending(printed) as handle:
            return subprocess.Popen(
                [first, *service.command[1:]],
                cwd=folder,
                env={**handed_on(environment, service.environment), **home},
                stdin=subprocess.DEVNULL,
                stdout=handle,
                stderr=subprocess.STDOUT,
                close_fds=True,
                start_new_session=os.name != "nt",
                creationflags=flags,
                **who,
            )
    except OSError as error:
        raise Refused(
            f"{service.name} cannot be started: {reason(error)}",
            place=Place(str(error.filename or first)),
            hint="see command in keep.toml, and try it by hand",
        ) from error


def require_entry(config: Config, folder: Path) -> None:
    """Refused where the server, or a service before it, runs as a user who may not enter a folder, or the nearest above
    it that is there: it could not be started in it."""
    there = next(one for one in (folder, *folder.parents) if one.is_dir())
    for service in (*config.running.services, how_to_start(config)):
        who, home = _as_user(service)
        program = shutil.which("test")
        if not who or program is None:
            continue
        if subprocess.run([program, "-x", str(there)], **who, env=home, cwd="/", check=False).returncode:
            raise Refused(
                f"{service.name} runs as {service.user}, who may not enter {there}: it cannot be started there",
                hint="name another folder for the copy: drill --in DIR, update --rehearse DIR",
            )


def _as_user(service: Service) -> tuple[dict[str, Any], dict[str, str]]:
    """What has a command run as the user that keep.toml names, and the environment that goes with it."""
    if not service.user or sys.platform == "win32":
        return {}, {}
    import pwd

    try:
        found = pwd.getpwnam(service.user)
    except KeyError:
        raise Refused(f"there is no user {service.user} on this system", hint="mend user in [start]") from None
    home = {"HOME": found.pw_dir, "USER": service.user, "LOGNAME": service.user}
    if os.geteuid() == found.pw_uid:
        return {}, home
    if os.geteuid():
        raise Refused(
            f"{service.name} is to run as {service.user}, and only root can start it so",
            hint=f"run this as {service.user}",
        )
    groups = os.getgrouplist(service.user, found.pw_gid)
    return {"user": found.pw_uid, "group": found.pw_gid, "extra_groups": groups}, home
