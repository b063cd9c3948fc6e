"""The way to a remote server folder, and whether somebody writes there now."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass

from emberkeep.errors import Place, Refused
from emberkeep.fs.trees import Kind
from emberkeep.inventory.roles import selection
from emberkeep.keep.keep import Keep
from emberkeep.keep.secrets import secret
from emberkeep.transfer.pool import ConnectionPool
from emberkeep.transfer.protocol import ConnectionSettings, Trust, nobody
from emberkeep.transfer.walk import Listing, walk


def connection_settings(keep: Keep, environment: Mapping[str, str], trust: Trust = nobody) -> ConnectionSettings:
    """The way to the keep's far server folder. Refused where its folder is none, or the secret is not to be had."""
    remote = keep.config.remote
    if remote.address is None:
        raise Refused(
            f"the server folder {keep.config.folder} is not far away",
            place=Place(str(keep.folder / "keep.toml")),
            hint='an address is, as folder = "sftp://USER@HOST/FOLDER" under [server]',
        )
    word = secret(remote.secret_env, remote.secret_file, environment, "the far host's secret")
    return ConnectionSettings(remote, word, str(keep.folder / "known_hosts"), trust)


@dataclass(frozen=True)
class Look:
    """What was seen of a far folder. ``signs``: what speaks for a server that runs there."""

    listing: Listing
    signs: tuple[str, ...]


def look(keep: Keep, pool: ConnectionPool, *, twice: bool = True, wait: Callable[[float], None] = time.sleep) -> Look:
    """List the far folder, and see whether the server runs there: by its console, where it has one, else (``twice``)
    by what changes between two looks."""
    console = keep.config.running.console
    listing = walk(pool)
    if console is not None and console.kind in ("line", "packet"):
        host, _, port = console.address.rpartition(":")
        answers = _answers(host, int(port))
        return Look(listing, (f"its console answers at {console.address}",) if answers else ())
    if not twice:
        return Look(listing, ())
    wait(keep.config.remote.still.total_seconds())
    again = walk(pool)
    changed = [
        path
        for path in sorted({*listing.entries, *again.entries})
        if (one := listing.entries.get(path)) is None
        or (other := again.entries.get(path)) is None
        or (one.kind is Kind.FILE and not one.same_as(other))
    ]
    return Look(again, tuple(f"{path} changed between two looks" for path in changed))


def _answers(host: str, port: int) -> bool:
    with suppress(OSError), socket.create_connection((host, port), timeout=3):
        return True
    return False


def refuse_if_written_to(found: Look, address: object) -> None:
    """Refused where the server seems to run there."""
    if found.signs:
        more = f", and {len(found.signs) - 1} more" if len(found.signs) > 1 else ""
        raise Refused(
            f"the far server is running ({found.signs[0]}{more}); a copy taken now would be torn",
            place=Place(str(address)),
            hint="stop it and try again, or say --while-running",
        )


def wanted_of(keep: Keep, only: tuple[str, ...]) -> Callable[[str], bool]:
    """Which paths ``--only`` means."""
    return selection(only, keep.config.roles, keep.config.world.tiles) if only else lambda path: True
