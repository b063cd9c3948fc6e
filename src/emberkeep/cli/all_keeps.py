"""``--all KEEPS_FOLDER``: one command on every keep of a caretaker, as many at a time as ``--jobs`` says.

Processes that stay work on one keep after another, so that Python starts once for each of them and not for each keep.
Where one of them dies, what it had in hand is done again, each keep in a process of its own.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from emberkeep.cli.context import answer
from emberkeep.errors import EmberKeepError, UsageError
from emberkeep.fs.metadata import may_give_away
from emberkeep.keep.keep import Keep
from emberkeep.keep.locate import FILE
from emberkeep.show import many as view
from emberkeep.show.console import Screen, document, progress

FAULT = 70


@dataclass(frozen=True)
class One:
    """What came of one keep. ``answer``: its JSON document, None where it gave none; ``said``: its messages."""

    keep: str
    exit: int
    answer: dict[str, Any] | None
    said: str = ""


def keeps_in(folder: Path) -> list[Path]:
    """The keeps that lie in a folder, by name. UsageError when there is none."""
    if not folder.is_dir():
        raise UsageError(f"{folder} is no folder")
    found = sorted(path for path in folder.iterdir() if (path / FILE).is_file())
    if not found:
        raise UsageError(f"there is no keep in {folder}", hint=f"a keep is a folder with a {FILE}")
    return found


Program = Callable[[Sequence[str]], int]
"""Runs one command, and returns its exit code."""


def run_all(args: argparse.Namespace, screen: Screen, arguments: Sequence[str], program: Program) -> int:
    """Every keep is dealt with, whatever becomes of the others; the exit code is the highest of theirs."""
    if args.keep:
        raise UsageError("either --keep or --all")
    if getattr(args, "metrics", None) and "{keep}" not in args.metrics:
        raise UsageError("--metrics of several keeps would be one file", hint="write {keep} in its name")
    if getattr(args, "report", None):
        raise UsageError("--report is of one keep; it cannot go with --all")
    jobs = args.jobs if args.jobs is not None else os.cpu_count() or 1
    if jobs < 1:
        raise UsageError("--jobs wants at least 1")
    keeps = keeps_in(Path(os.path.abspath(args.keeps)))
    words = [*_without_all(arguments), "--json"]
    found: dict[str, One] = {}
    with progress(args.command, screen) as step:
        for one in _each(program, keeps, words, jobs, own=args.as_owner):
            found[one.keep] = one
            step(len(found), len(keeps))
            if args.json_lines:
                document({"keep": one.keep, "exit": one.exit, "answer": one.answer, "said": one.said}, on_one_line=True)
    ordered = [found[keep.name] for keep in keeps]
    code = max(one.exit for one in ordered)
    if args.json_lines:
        return code
    return answer(args, code, {"keeps": ordered}, lambda: view.table_of(screen, args.command, ordered))


def _without_all(arguments: Sequence[str]) -> list[str]:
    """The call for one keep: without what is for all of them, and without how it is answered."""
    left, skip = [], False
    for word in arguments:
        name = word.partition("=")[0]
        if not skip and name not in ("--all", "--jobs", "--json-lines", "--json"):
            left.append(word)
        skip = word in ("--all", "--jobs")
    return left


def _each(program: Program, keeps: Sequence[Path], words: Sequence[str], jobs: int, *, own: bool) -> Iterator[One]:
    """What came of each keep, as they are done. ``own``: each works with the rights of its owner."""
    done: set[str] = set()
    if len(keeps) > 1:
        for one in _in_pool(program, keeps, words, min(jobs, len(keeps)), own=own):
            done.add(one.keep)
            yield one
    yield from (_one(keep, words) for keep in keeps if keep.name not in done)


def _works_as_another(keep: Path) -> bool:
    """Whether a command on this keep gives up root's rights, which the process that does it cannot get back."""
    if not may_give_away():
        return False
    try:
        return bool(Keep(keep).config.user)
    except EmberKeepError:
        return False


def _in_pool(program: Program, keeps: Sequence[Path], words: Sequence[str], jobs: int, *, own: bool) -> Iterator[One]:
    """What came of each keep that was finished; not all of them where a process died."""
    with ProcessPoolExecutor(jobs, get_context("spawn")) as pool:
        waiting: list[Future[One]] = [pool.submit(_here, program, keep, list(words), own) for keep in keeps]
        try:
            for future in as_completed(waiting):
                try:
                    yield future.result()
                except BrokenProcessPool:
                    continue
        finally:
            for future in waiting:
                future.cancel()


def _here(program: Program, keep: Path, words: Sequence[str], own: bool) -> One:
    """The command on one keep, in this process unless it gives up rights that the next one needs (``own``: all do)."""
    if own or _works_as_another(keep):
        return _one(keep, words)
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        try:
            code = program([*words, "--keep", str(keep)])
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 2
    return _outcome(keep, code, out.getvalue(), err.getvalue())


def _one(keep: Path, words: Sequence[str]) -> One:
    """The command on one keep, in a process of its own."""
    line = [sys.executable, "-m", "emberkeep", *words, "--keep", str(keep)]
    done = subprocess.run(line, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    code = done.returncode if done.returncode >= 0 else FAULT
    return _outcome(keep, code, done.stdout.decode("utf-8", "replace"), done.stderr.decode("utf-8", "replace"))


def _outcome(keep: Path, code: int, out: str, err: str) -> One:
    try:
        result = json.loads(out)
    except ValueError:
        result = None
    return One(keep.name, code, result, err.strip())
