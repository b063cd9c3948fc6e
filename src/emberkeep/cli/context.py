"""What commands share: the keep they work with, the clock, selections, JSON or text."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from contextlib import closing, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from emberkeep.fs import metadata, private, writing

if TYPE_CHECKING:
    from emberkeep.keep.keep import Keep
    from emberkeep.show.console import Screen
    from emberkeep.store.store import Store


def now() -> datetime:
    """The moment, in UTC."""
    return datetime.now(UTC)


def the_keep(args: argparse.Namespace) -> Keep:
    """The keep that ``--keep``, the environment or the current folder means."""
    from emberkeep.keep.keep import find  # only by commands that work with one

    keep = find(args.keep, os.environ, Path.cwd())
    if private.close_to_others(keep.folder):
        _note(f"{keep.folder} could be read by other users of this machine; it is closed to them now")
    if metadata.may_give_away():
        _mind_owner(keep, args)
    if args.command not in _TELL_OF_RUNS:
        _tell_of_waiting(keep)
    _tell_of_rot(keep, args)
    return keep


_TELL_OF_RUNS = ("resume", "undo", "history")
"""Commands that say themselves what they know of runs."""


def _note(text: str) -> None:
    from emberkeep.show.console import Screen

    Screen().note(text)


def _mind_owner(keep: Keep, args: argparse.Namespace) -> None:
    """Root may work as the owner of the server folder; that it works on somebody else's is told once."""
    if not keep.server.is_dir():
        return
    owner = keep.server.stat().st_uid
    if not owner:
        return
    if args.as_owner or keep.config.user:
        from emberkeep.cli.owner import become  # only where it is asked for

        become(keep, keep.config.user or owner)
        return
    marker = keep.folder / "owner"
    if marker.exists():
        return
    writing.write_whole(marker, [f"{owner}\n".encode()])
    _note(
        f"{keep.server} is of user {owner}, and this is root: what that user does to it meanwhile cannot harm others, "
        "but --as-owner (or user in [server] of keep.toml) is safer still"
    )


def _tell_of_rot(keep: Keep, args: argparse.Namespace) -> None:
    """Damage where something is to be done by files that the disk has changed; a note where only something is read."""
    from emberkeep.errors import Damage, UnreadableInput
    from emberkeep.operations.record.written import rotten

    found: list[str] = []
    with suppress(UnreadableInput):  # of the journal: told elsewhere
        found = rotten(keep)
    args.rotten = found
    if not found:
        return
    what = f"{', '.join(found)} in {keep.folder} changed, and nobody has saved it since: the disk did that"
    if getattr(args, "go", False):
        raise Damage(what, hint="look it over and save it again; then it counts")
    _note(f"{what}; look it over and save it again")


def _tell_of_waiting(keep: Keep) -> None:
    from emberkeep.errors import UnreadableInput
    from emberkeep.operations.record.journal import Journal

    try:
        run = Journal(keep.folder).waiting()
    except UnreadableInput as error:  # told, and no hindrance to what needs no journal
        _note(f"{error.faults[0]}; what it told of runs is not known")
        return
    if run is None:
        return
    _note(f"run {run.number} ({run.words}) was interrupted and waits: 'emberkeep resume' or 'emberkeep undo'")


def opened(keep: Keep) -> closing[Store]:
    """The keep's store, closed when done; where it is shared and another keep writes to it, that is said."""
    from emberkeep.store.shared import store_of

    store = store_of(keep)
    store.on_wait = _note
    return closing(store)


def answer(args: argparse.Namespace, code: int, result: dict[str, Any], text: Callable[[], None]) -> int:
    """Give the result as JSON where asked, else as text; returns ``code``. From here on nothing is done that could
    fail: what goes wrong in showing it changes the code no more."""
    args.outcome = code
    if args.json:
        from emberkeep.show.console import document
        from emberkeep.show.json_output import FORMAT, to_json

        values = {key: to_json(value) for key, value in result.items()}
        document({"format": FORMAT, "command": args.command, "exit": code, **values})
    else:
        text()
    return code


def write_page(file: str | None, shown: Callable[[Screen], None]) -> str:
    """What ``shown`` puts on a screen as an HTML file, where one is asked for; what was written, in words."""
    if not file:
        return ""
    from emberkeep.show.files.screenpage import PageScreen  # only where one is asked for

    made = PageScreen()
    shown(made)
    write_asked(file, made.html().encode())
    return f"Wrote {file}."


def write_asked(file: str, data: bytes) -> None:
    """Write a file that the call names: whole or not at all, for others to read as well."""
    writing.write_whole(Path(os.path.abspath(file)), [data], otherwise=writing.SHARED)


def add_only(parser: argparse.ArgumentParser) -> None:
    """``--only SEL``, repeatable."""
    parser.add_argument(
        "--only",
        action="append",
        default=[],
        metavar="SEL",
        help="only this role, role/GLOB, glob or tiles:X1,Y1..X2,Y2 (repeatable)",
    )


def add_vault_options(parser: argparse._ActionsContainer) -> None:
    """What the way to a vault takes, and its passphrase."""
    parser.add_argument("--secret-env", default="", metavar="NAME", help="the environment variable with its passphrase")
    parser.add_argument("--secret-file", default="", metavar="FILE", help="or a file that only you can read")
    parser.add_argument("--password-env", default="", metavar="NAME", help="that of the host, where it asks for one")
    parser.add_argument("--key", default="", metavar="FILE", help="a private key (SFTP)")
    parser.add_argument("--certificate", default="", metavar="FILE", help="the host's certificate (FTPS)")


def add_details(parser: argparse.ArgumentParser) -> None:
    """``--details``: every file of a preview by name."""
    parser.add_argument("--details", action="store_true", help="name every file in the preview")


def add_all(parser: argparse.ArgumentParser) -> None:
    """``--all``: the same on every keep in a folder."""
    parser.add_argument("--all", dest="keeps", metavar="KEEPS_FOLDER", help="do it for every keep in this folder")
    parser.add_argument("--jobs", type=int, metavar="N", help="with --all: N at a time (default: one a processor)")
    parser.add_argument(
        "--json-lines", action="store_true", help="with --all: a JSON document on a line for each keep, when it is done"
    )


def add_go(parser: argparse.ArgumentParser, what: str) -> None:
    """``--go``: without it a command only shows what it would do."""
    parser.add_argument("--go", action="store_true", help=f"{what} (without it: only show what would happen)")
