"""What commands share that reach a far host: the way there, and asking whether to trust its key."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from emberkeep.errors import UsageError, did_you_mean
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.transfer import RemoteAccess, VaultAt, address_of, checked_target, is_by_transfer, is_remote
from emberkeep.operations.upkeep.transfer_access import connection_settings
from emberkeep.show.console import Screen
from emberkeep.show.waiting import answered_yes
from emberkeep.transfer.pool import ConnectionPool
from emberkeep.transfer.protocol import ConnectionSettings, Trust


def add_access_options(parser: argparse._ActionsContainer) -> None:
    """``--accept-new`` and ``--while-running``."""
    parser.add_argument(
        "--accept-new", action="store_true", help="trust the key of a host that was never met (never a changed one)"
    )
    parser.add_argument("--while-running", action="store_true", help="even though the server seems to run there")


def resolve_vaults(args: argparse.Namespace, target: str, known: Sequence[VaultAt]) -> list[VaultAt]:
    """The one of the ``known`` vaults that ``target`` names, all of them where that is "", or the one that the options
    describe."""
    if not target and not known:
        raise UsageError("which vault?", hint="name a folder or an address, or add a [[vault]] to keep.toml")
    named = [one for one in known if not target or target in (one.name, one.target)]
    if named:
        if args.secret_env or args.secret_file or args.password_env or args.key or args.certificate:
            raise UsageError(
                f"keep.toml tells the way to the vault '{named[0].name}'", hint="leave out the options that tell it"
            )
        return named
    if known and Path(target).name == target and not Path(target).exists():
        names = [one.name for one in known]
        listed = f"it names {', '.join(names)}; for a new folder here say {os.path.abspath(target)}"
        raise UsageError(f"keep.toml names no vault '{target}'", hint=did_you_mean(target, names, listed))
    return [vault_from_options(args, target)]


def vault_from_options(args: argparse.Namespace, target: str) -> VaultAt:
    """The vault that an address and the options describe."""
    way = None
    if is_by_transfer(checked_target(target)):
        way = RemoteAccess(
            address_of(target), args.password_env, key=args.key, certificate=args.certificate, connections=1
        )
    place = target if is_remote(target) else os.path.abspath(target)
    return VaultAt(target, place, args.secret_env, args.secret_file, way)


def trust(args: argparse.Namespace, screen: Screen) -> Trust:
    """Asks on a terminal; elsewhere only ``--accept-new`` trusts a key that is not known."""

    def ask(host: str, kind: str, fingerprint: str) -> bool:
        if args.accept_new:
            screen.note(f"the key of {host} is new and remembered from now on: {kind} {fingerprint}")
            return True
        if not sys.stdin.isatty() or args.json:
            return False
        screen.note(f"The key of {host} is not known: {kind} {fingerprint}")
        screen.note("Is it the one that the host tells of? [y/N]")
        return answered_yes()

    return ask


@contextmanager
def connections_to(args: argparse.Namespace, screen: Screen, keep: Keep) -> Iterator[ConnectionPool]:
    """Connections to the keep's far folder."""
    settings = connection_settings(keep, os.environ, trust(args, screen))
    warn_of_clear_words(screen, settings, keep)
    with ConnectionPool(settings) as pool:
        yield pool


def warn_of_clear_words(screen: Screen, settings: ConnectionSettings, keep: Keep) -> None:
    """Say once that plain FTP sends the password for all to read."""
    marker = keep.folder / "far" / "told"
    if settings.address.scheme != "ftp" or not settings.secret or marker.exists():
        return
    screen.note("plain FTP sends the password and all files for anybody on the way to read;")
    screen.note("if the host offers ftps:// or sftp://, take that (this is said once)")
    from emberkeep.fs import writing

    writing.make_folder(marker.parent)
    writing.write_whole(marker, [b"plain FTP\n"])
