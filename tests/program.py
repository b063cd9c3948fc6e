"""The program as tests run it: in this process, which starts nothing, or as a process of its own where that matters.

:func:`run_program` calls ``main`` with a folder, an environment and streams of its own, as a shell would give them. Kills,
signals, terminals, pipes and two writers at once need :func:`start_program` or :func:`run_process`.
"""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator

from emberkeep.cli.main import COMMANDS, FAULT, INTERRUPTED, command_module, command_of, main
from emberkeep.documents import registry


@dataclass(frozen=True)
class Ran:
    """What a run of the program came to."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Program = Callable[..., Ran]


def command_line(*words: str | Path) -> list[str]:
    """The program's own command line, for a process."""
    return [sys.executable, "-m", "emberkeep", *map(str, words)]


def process_environment(more: Mapping[str, str] | None = None) -> dict[str, str]:
    """This process's environment without a keep that its user may have named, and ``more``."""
    inherited = {name: value for name, value in os.environ.items() if not name.startswith("EMBERKEEP_KEEP")}
    return {**inherited, "PYTHONIOENCODING": "utf-8", **(more or {})}


def start_program(
    *words: str | Path, cwd: Path, environment: Mapping[str, str] | None = None, **how: Any
) -> subprocess.Popen[Any]:
    """The program as a process; it prints nowhere unless ``how`` says where."""
    how = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, **how}
    return subprocess.Popen(command_line(*words), cwd=cwd, env=process_environment(environment), **how)


def run_process(*words: str | Path, cwd: Path, environment: Mapping[str, str] | None = None, **how: Any) -> Ran:
    """The program as a process, to its end."""
    how = {"capture_output": True, "timeout": 600, **how}
    done = subprocess.run(command_line(*words), cwd=cwd, env=process_environment(environment), check=False, **how)
    return Ran(done.returncode, *(told.decode("utf-8", "backslashreplace") for told in (done.stdout, done.stderr)))


_read = registry.Shelf()
"""The sample's files are parsed once by all programs of a worker; that nobody changes a document is tried by each that comes
after. A test that calls a reader itself has it read."""
_in_use = threading.Lock()
"""A process has one current folder and one environment: who runs two at once needs processes."""


def run_program(*words: str | Path, cwd: Path, environment: Mapping[str, str] | None = None) -> Ran:
    """The program in this process, to its end: quicker than :func:`run_process` by the start of an interpreter."""
    settings = process_environment(environment)
    out, err = (_stream(settings["PYTHONIOENCODING"], errors) for errors in ("strict", "backslashreplace"))
    with _standing_in(cwd, settings), redirect_stdout(out), redirect_stderr(err):
        code = _exit_code([str(word) for word in words])
    ran = Ran(code, _text(out), _text(err))
    _as_documented([str(word) for word in words], ran)
    return ran


def _as_documented(words: list[str], ran: Ran) -> None:
    """Whatever a test is about: a command ends with a code that its page explains, and its JSON is of the shape that
    docs/json.md tells."""
    command = command_of(words)
    if command not in COMMANDS or "--help" in words:
        return
    assert ran.code in {*command_module(command).EXITS, *OF_ALL_COMMANDS}, f"{command} explains no exit code {ran.code}"
    if "--json" in words and ran.out.startswith("{") and len(ran.out) < LONGEST_CHECKED:
        for fault in _validator(command).iter_errors(ran.json):
            raise AssertionError(f"{command} --json: {fault.json_path}: {fault.message[:500]}")


OF_ALL_COMMANDS = (2, 3, 4, 5, FAULT, INTERRUPTED)
LONGEST_CHECKED = 200_000
"""Longer documents are only more of the same."""


@cache
def _validator(command: str) -> Draft202012Validator:
    from emberkeep.show import json_schema  # loads nearly all there is

    return Draft202012Validator(json_schema.schema(command, strict=True))


def _stream(encoding: str, errors: str) -> io.TextIOWrapper:
    """As an interpreter opens its own."""
    return io.TextIOWrapper(io.BytesIO(), encoding=encoding, errors=errors, write_through=True)


def _text(stream: io.TextIOWrapper) -> str:
    stream.flush()
    raw = stream.buffer
    assert isinstance(raw, io.BytesIO)
    return raw.getvalue().decode(stream.encoding, "backslashreplace")


def _exit_code(words: list[str]) -> int:
    try:
        with registry.read_once(_read):
            return main(words)
    except SystemExit as end:  # argparse's way to end
        return end.code if isinstance(end.code, int) else int(end.code is not None)


@contextmanager
def _standing_in(cwd: Path, environment: dict[str, str]) -> Iterator[None]:
    """Another current folder, environment and empty standard input for a while."""
    assert _in_use.acquire(blocking=False), "two programs at once need processes: start_program"
    before, variables, keyboard = Path.cwd(), dict(os.environ), sys.stdin
    try:
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(environment)
        with Path(os.devnull).open() as nothing:
            sys.stdin = nothing
            yield
    finally:
        sys.stdin = keyboard
        os.environ.clear()
        os.environ.update(variables)
        os.chdir(before)
        _in_use.release()
