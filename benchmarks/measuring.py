"""What the benchmarks share: whole processes timed, with the largest memory they took."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path


@dataclass
class Measured:
    """The best of several rounds: seconds, and the largest resident set in MB (0 where the system does not tell)."""

    seconds: float = 1e9
    megabytes: float = 0.0

    def add(self, seconds: float, megabytes: float) -> None:
        self.seconds = min(self.seconds, seconds)
        self.megabytes = max(self.megabytes, megabytes)


def run(command: list[str], cwd: Path, codes: tuple[int, ...] = (0, 1)) -> tuple[float, float]:
    """Seconds and megabytes of one process, its output thrown away. Python may keep its byte code, as an installation
    does."""
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    started = time.perf_counter()
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL, env=environment)
    if hasattr(os, "wait4"):
        _, status, usage = os.wait4(process.pid, 0)
        seconds, code = time.perf_counter() - started, os.waitstatus_to_exitcode(status)
        megabytes = usage.ru_maxrss / (1024 if sys.platform != "darwin" else 1 << 20)
    else:
        code, megabytes = process.wait(), 0.0
        seconds = time.perf_counter() - started
    if code not in codes:
        raise SystemExit(f"{' '.join(command)} ended with {code}")
    return seconds, megabytes


def ember(*words: str) -> list[str]:
    return [sys.executable, "-m", "emberkeep", *words]


def verdict(met: bool) -> str:
    return "met" if met else "MISSED"
