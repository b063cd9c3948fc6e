"""A program that puts links in the place of folders and takes them away again, as fast as it can, until its input ends.

python swapper.py OTHER FOLDER …     each FOLDER and a link to OTHER change places, by one call where the system has it
"""

from __future__ import annotations

import ctypes
import os
import sys
import threading
from pathlib import Path

EXCHANGE, HERE = 2, -100
_library = ctypes.CDLL(None, use_errno=True)


def exchanged(one: str, other: str) -> None:
    """``renameat2`` with RENAME_EXCHANGE: there is no moment in which either is not there."""
    if _library.renameat2(HERE, one.encode(), HERE, other.encode(), EXCHANGE):
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), one)


def main(other: str, folders: list[str]) -> int:
    links = [f"{folder}.swap" for folder in folders]
    for link in links:
        os.symlink(other, link)
    ended = threading.Event()
    threading.Thread(target=lambda: (sys.stdin.read(), ended.set()), daemon=True).start()
    print("swapping", flush=True)
    count = 0
    while not ended.is_set():
        for folder, link in zip(folders, links, strict=True):
            if os.path.lexists(folder) and os.path.lexists(link):
                try:
                    exchanged(folder, link)
                except OSError:
                    continue
                count += 1
        ended.wait(0.0005)
    for folder, link in zip(folders, links, strict=True):
        if os.path.islink(folder) and Path(link).is_dir():
            exchanged(folder, link)
        if os.path.islink(link):
            Path(link).unlink()
    print(count, flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], sys.argv[2:]))
