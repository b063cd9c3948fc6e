"""Which versions are wanted: told in keep.toml, or read from a file or an HTTP address as vendors publish them.

Nothing but a small text is read, within a few seconds; what cannot be reached is said and harms nothing.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from emberkeep.keep.tables.updates import Wanted

SECONDS = 5
"""How long an address may take to answer."""
MOST = 1 << 20
"""Bytes of a published text that are looked through."""


@dataclass(frozen=True)
class Published:
    """A wanted version. ``source``: where it is told; ``problem``: why it is not known, with ``version`` empty."""

    name: str
    version: str
    source: str
    problem: str = ""


def wanted_versions(wanted: Iterable[Wanted], folder: Path, *, offline: bool = False) -> list[Published]:
    """Every wanted version, addresses asked at the same time. ``folder``: what relative files are relative to;
    ``offline``: addresses are not asked."""
    all_wanted = list(wanted)
    if offline or not any(one.address for one in all_wanted):
        return [_read(one, folder, offline) for one in all_wanted]
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(max_workers=8) as pool:
        return list(pool.map(lambda one: _read(one, folder, offline), all_wanted))


def _read(wanted: Wanted, folder: Path, offline: bool) -> Published:
    if wanted.version:
        return Published(wanted.name, wanted.version, "keep.toml")
    source = wanted.file or wanted.address
    if wanted.address and offline:
        return Published(wanted.name, "", source, "not asked (--offline)")
    try:
        text = _fetch(wanted.address) if wanted.address else _file(folder / wanted.file)
    except (OSError, ValueError) as error:  # the errors of urllib are kinds of OSError
        reason = getattr(error, "reason", None) or getattr(error, "strerror", None) or error
        return Published(wanted.name, "", source, f"cannot be read: {reason}")
    found = re.search(wanted.pattern, text, re.MULTILINE)
    if found is None or not found[1]:
        return Published(wanted.name, "", source, "nothing in it fits the pattern")
    return Published(wanted.name, found[1][:80], source)


def _file(path: Path) -> str:
    with path.open("rb") as handle:
        return handle.read(MOST).decode("utf-8", "replace")


def _fetch(address: str) -> str:
    if not address.startswith(("http://", "https://")):
        raise ValueError("only http and https are asked")
    import urllib.request

    request = urllib.request.Request(address, headers={"User-Agent": "emberkeep", "Accept": "text/*, application/json"})
    with urllib.request.urlopen(request, timeout=SECONDS) as answer:
        return bytes(answer.read(MOST)).decode("utf-8", "replace")
