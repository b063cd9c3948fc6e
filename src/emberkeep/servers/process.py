"""Is the server running? By processes that work in its folder, and by pid files that name a living one."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from emberkeep.errors import Refused


def running_signs(server: Path) -> tuple[str, ...]:
    """What shows that the server runs, in words; empty when nothing does.

    A process counts when its program lies in the folder, or when it works there and was started with a file of it.
    Our own process and those that started it do not count.
    """
    root = Path(os.path.realpath(server))
    return (*_processes(root), *_pid_files(root))


def _processes(root: Path) -> Iterator[str]:
    import psutil  # only by the commands that look for processes

    ours = {process.pid for process in (psutil.Process(), *psutil.Process().parents())}
    for process in psutil.process_iter(["pid", "name", "exe", "cwd", "cmdline"]):
        facts = process.info
        if facts["pid"] in ours:
            continue
        if _inside(facts["exe"], root) or _started_with(facts["cwd"], facts["cmdline"], root):
            yield f"process {facts['pid']} ({facts['name']}) runs from this folder"


def _inside(path: str | None, root: Path) -> bool:
    return bool(path) and root in Path(str(path)).parents


def _started_with(cwd: str | None, arguments: list[str] | None, root: Path) -> bool:
    if not cwd or not (Path(cwd) == root or root in Path(cwd).parents):
        return False
    for argument in (arguments or [])[:3]:
        path = Path(os.path.normpath(Path(cwd, argument)))
        if "\0" not in argument and root in path.parents and path.is_file():
            return True
    return False


def _pid_files(root: Path) -> Iterator[str]:
    import psutil

    for path in sorted(root.glob("*.pid")):
        try:
            number = int(path.read_text(encoding="ascii").split()[0])
        except (OSError, ValueError, IndexError):
            continue
        if number > 0 and psutil.pid_exists(number):
            yield f"{path.name} names process {number}, which is alive"


def refuse_if_running(server: Path, what: str) -> None:
    """Refused, with the signs seen, when the server runs."""
    signs = running_signs(server)
    if signs:
        raise Refused(f"the server is running ({signs[0]}); {what}", hint="stop it, and try again")
