"""The program as another user, who may not be able to read where this Python and its packages stand."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.program import process_environment

_LOADED = """
import concurrent.futures.thread, encodings.idna, importlib, os, pkgutil, resource, sqlite3, sys
import blake3, numpy, psutil, rich._unicode_data, tomlkit, zstandard
import emberkeep
for package in ("emberkeep", "rich"):
    for found in pkgutil.walk_packages(importlib.import_module(package).__path__, package + "."):
        if not found.name.endswith("__main__"):
            try:
                importlib.import_module(found.name)
            except ImportError:
                pass
from emberkeep.cli.main import main
user = int(sys.argv[1])
if user:
    os.setgroups([]), os.setgid(user), os.setuid(user)
sys.exit(main(sys.argv[2:]))
"""


def run_as(user: int, *words: str | Path, cwd: Path) -> subprocess.CompletedProcess[str]:
    """The program to its end, as user number ``user`` (0: as root, until it becomes another by itself), with all of it
    loaded before."""
    line = [sys.executable, "-c", _LOADED, str(user), *words]
    environment = process_environment({"HOME": "/"})
    return subprocess.run(line, cwd=cwd, env=environment, capture_output=True, text=True, check=False, timeout=120)


@contextmanager
def in_the_open(folder: Path) -> Iterator[Path]:
    """A copy of a folder, links and owners as they are, that other users can come to: pytest's own are closed to them."""
    with tempfile.TemporaryDirectory() as room:
        Path(room).chmod(0o711)
        copy = Path(room) / folder.name
        subprocess.run(["cp", "-a", str(folder), str(copy)], check=True)
        copy.chmod(0o711)
        yield copy
