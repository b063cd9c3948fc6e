"""``--all KEEPS_FOLDER``: one command on every keep of a caretaker, some at a time, each in a process of its own."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from emberkeep.cli.context import answer
from emberkeep.errors import UsageError
from emberkeep.keep.locate import FILE
from emberkeep.show import many as view
from emberkeep.show.console import Screen, progress

AT_ONCE = 4
"""Keeps that are worked on at the same time."""
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


def run_all(args: argparse.Namespace, screen: Screen, arguments: Sequence[str]) -> int:
    """Every keep is dealt with, whatever becomes of the others; the exit code is the highest of theirs."""
    if args.keep:
        raise UsageError("either --keep or --all")
    keeps = keeps_in(Path(os.path.abspath(args.keeps)))
    words = [*_without_all(arguments), *([] if args.json else ["--json"])]
    with progress(args.command, screen) as step, ThreadPoolExecutor(AT_ONCE) as workers:
        found = []
        for number, one in enumerate(workers.map(lambda keep: _one(keep, words), keeps), 1):
            found.append(one)
            step(number, len(keeps))
    code = max(one.exit for one in found)
    return answer(args, code, {"keeps": found}, lambda: view.table_of(screen, args.command, found))


def _without_all(arguments: Sequence[str]) -> list[str]:
    left, skip = [], False
    for word in arguments:
        if not skip and word != "--all" and not word.startswith("--all="):
            left.append(word)
        skip = word == "--all"
    return left


def _one(keep: Path, words: Sequence[str]) -> One:
    line = [sys.executable, "-m", "emberkeep", *words, "--keep", str(keep)]
    done = subprocess.run(line, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    try:
        result = json.loads(done.stdout)
    except ValueError:
        result = None
    code = done.returncode if done.returncode >= 0 else FAULT
    return One(keep.name, code, result, done.stderr.decode("utf-8", "replace").strip())
