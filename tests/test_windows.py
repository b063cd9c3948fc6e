"""What only Windows does, by stand-ins, as no such system is at hand: it lets nobody replace a file that a program
holds open, knows no signals, and has no fifos."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from emberkeep.cli.main import main
from emberkeep.fs import scan, system
from emberkeep.keep.config import Config
from emberkeep.keep.tables.process import Console, Running
from emberkeep.process import lifecycle
from tests.conftest import KEEP, tree_state


class Windows:
    """``os`` as Windows has it while a program holds ``held`` open: nothing replaces or removes it, and where the
    program does not share it nothing reads it. ``moments``: refusals until it is let go, as by a virus scanner."""

    def __init__(self, patch: pytest.MonkeyPatch, held: Path, *, shared: bool, moments: int = 1_000_000) -> None:
        self.held, self.left, self.pauses = str(held), moments, 0.0
        self._refused, self._sleep = False, time.sleep
        patch.setattr(os, "replace", self._refusing(os.replace, 5, ("src_dir_fd", "dst_dir_fd")))
        patch.setattr(os, "unlink", self._refusing(os.unlink, 32, ("dir_fd",)))
        if not shared:
            patch.setattr(os, "open", self._refusing(os.open, 32, ("dir_fd",)))
        patch.setattr(system.time, "sleep", self._pause)

    def _pause(self, seconds: float) -> None:
        """Not waited for where it follows a refusal; what else waits does."""
        if self._refused:
            self._refused = False
            self.pauses += seconds
        else:
            self._sleep(seconds)

    def _refusing(self, call: Callable[..., Any], winerror: int, folders: tuple[str, ...]) -> Callable[..., Any]:
        def refused(*args: Any, **named: Any) -> Any:
            for name, key in zip(args, folders, strict=False):
                at = f"/proc/self/fd/{named[key]}" if named.get(key) is not None else ""
                if self.left and os.path.realpath(Path(at, os.fspath(name)) if at else os.fspath(name)) == self.held:
                    self.left -= 1
                    self._refused = True
                    error = PermissionError(13, "Permission denied", name)
                    error.winerror = winerror  # type: ignore[attr-defined]
                    raise error
            return call(*args, **named)

        return refused


@pytest.fixture
def held(place: Path, adopted_once: Path, monkeypatch: pytest.MonkeyPatch, server: Path) -> Path:
    shutil.copytree(adopted_once, place / KEEP)
    monkeypatch.chdir(place)
    monkeypatch.setenv("EMBERKEEP_KEEP", KEEP)
    path = next(path for path in sorted(server.rglob("*")) if "keepers" in str(path) and path.is_file())
    assert main(["snapshot"]) == 0
    return path.resolve()


def test_what_a_scanner_looks_into_for_a_moment_is_waited_for(
    held: Path, server: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = tree_state(server)
    held.write_text("broken")
    windows = Windows(monkeypatch, held, shared=True, moments=3)
    assert main(["restore", "1", "--go"]) == 0
    assert tree_state(server) == before
    assert (windows.left, 0 < windows.pauses < 2) == (0, True)


@pytest.mark.parametrize("gone", [False, True])
def test_a_restore_over_what_a_program_holds_open_changes_nothing_and_says_why(
    held: Path, server: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], gone: bool
) -> None:
    if gone:  # what the snapshot does not have would be removed
        held = held.with_name("new.keeper")
    held.write_text("broken")
    (server / "notes-of-una.txt").write_text("mine")
    before = tree_state(server)
    windows = Windows(monkeypatch, held, shared=True)
    capsys.readouterr()
    assert main(["restore", "1", "--go"]) == 5
    told = capsys.readouterr().err
    assert held.name in told and "all was put back as it was" in told
    assert ("another program has it open" if gone else "a program may have it open") in told
    assert tree_state(server) == before
    windows.left = 0
    assert main(["restore", "1", "--go"]) == 0


def test_what_nobody_may_read_while_it_is_open_is_left_out_and_left_alone(
    held: Path, server: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    held.write_text("played on")
    windows = Windows(monkeypatch, held, shared=False)
    capsys.readouterr()
    assert main(["snapshot"]) == 1
    told = capsys.readouterr()
    assert held.name in told.out + told.err and "another program has it open" in told.out + told.err
    (server / "notes-of-una.txt").write_text("mine")
    assert main(["restore", "2", "--go"]) == 1
    assert f"left alone: {held.name}" in capsys.readouterr().out
    assert held.read_text() == "played on"
    windows.left = 0


@pytest.mark.parametrize("has_console", [True, False])
def test_a_process_is_asked_to_end_in_its_own_console_and_never_ended_unasked(
    tmp_path: Path, has_console: bool
) -> None:
    (tmp_path / "ctypes.py").write_text(
        f"""class windll:
    class kernel32:
        FreeConsole = lambda: print("free")
        AttachConsole = lambda pid: print("attach", pid) or {has_console}
        GenerateConsoleCtrlEvent = lambda event, group: print("event", event, group) or True
"""
    )
    line = [sys.executable, "-c", lifecycle.BREAK, "77"]
    done = subprocess.run(line, env={"PYTHONPATH": str(tmp_path)}, capture_output=True, text=True, check=False)
    asked = ["free", "attach 77", *(["event 1 77"] if has_console else [])]
    assert (done.stdout.splitlines(), done.returncode) == (asked, int(not has_console)), done.stderr


def test_a_fifo_is_refused_where_there_are_none(monkeypatch: pytest.MonkeyPatch) -> None:
    config = Config("Gannet Rock", "server", "UTC", running=Running(console=Console("fifo", path="console")))
    assert not list(lifecycle.unheard(config, {}))
    monkeypatch.delattr(os, "mkfifo")
    (fault,) = lifecycle.unheard(config, {})
    assert (fault.what, fault.hint) == (
        "the console cannot be reached: this system has no fifos",
        "set kind in [console] to line, packet or command",
    )


@pytest.mark.parametrize(
    ("path", "expected"),
    [
        ("C:\\srv\\rock/world/a.sea", "C:\\srv\\rock/world/a.sea"),
        ("C:\\srv\\rock/" + 60 * "deep/" + "a.sea", "\\\\?\\C:\\srv\\rock\\" + 60 * "deep\\" + "a.sea"),
        ("\\\\nas\\srv\\" + 60 * "deep/" + "a", "\\\\?\\UNC\\nas\\srv\\" + 60 * "deep\\" + "a"),
        ("\\\\?\\C:\\" + 60 * "deep\\", "\\\\?\\C:\\" + 60 * "deep\\"),
    ],
)
def test_long_paths_are_told_so_that_windows_takes_them(path: str, expected: str) -> None:
    assert scan.extended(path) == expected
