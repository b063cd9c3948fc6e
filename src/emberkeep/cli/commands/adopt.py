"""``emberkeep adopt SERVER``: draft keep.toml for a server folder."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

from emberkeep.cli import prompts
from emberkeep.cli.context import add_go, answer, opened, the_keep
from emberkeep.cli.transfer_options import add_access_options, connections_to
from emberkeep.detection.adopt import adopt
from emberkeep.detection.doubts import Choice, Doubt, answered, doubts
from emberkeep.detection.draft import draft
from emberkeep.detection.refresh import refresh, written
from emberkeep.errors import Refused, UsageError
from emberkeep.fs import system, writing
from emberkeep.keep.config import check_text
from emberkeep.keep.keep import Keep, beside
from emberkeep.keep.locate import FILE
from emberkeep.keep.tables.transfer import address_of, is_remote
from emberkeep.operations.record import defaults
from emberkeep.operations.upkeep.adoption import adopt_server, write_keep, write_schema
from emberkeep.show import adoption as view
from emberkeep.show import mirror as mirror_view
from emberkeep.show.console import Screen

EXAMPLES = (
    "emberkeep adopt /srv/gannet-rock",
    "emberkeep adopt gannet-rock --zone Atlantic/Faroe",
    "emberkeep adopt sftp://keeper@rock.example/srv/gannet-rock --into gannet-rock",
    "emberkeep adopt --refresh      (what has come since; --go writes it)",
    "emberkeep adopt --ask          (what was only guessed, one by one)",
)
EXITS = {
    0: "keep.toml is written, or what --refresh proposes is; with --ask no question is left",
    1: "a file of a server elsewhere could not be had; a question is open; or --refresh proposes what --go would write",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The server folder and the zone, or a fresh look."""
    parser.add_argument("server", metavar="SERVER", nargs="?", help="the server folder, or its address")
    parser.add_argument("--zone", default="UTC", help="IANA name of the zone in which times are shown (default UTC)")
    parser.add_argument(
        "--refresh", action="store_true", help="look again, and propose changes to the keep.toml there is"
    )
    parser.add_argument(
        "--ask", action="store_true", help="ask what was only guessed, and write your answers into keep.toml"
    )
    remote = parser.add_argument_group("a server behind a file transfer")
    remote.add_argument("--into", metavar="DIR", help="where the local copy is to lie (default: here, called as there)")
    remote.add_argument("--secret-env", default="", metavar="NAME", help="the environment variable with the password")
    remote.add_argument("--secret-file", default="", metavar="FILE", help="or a file that only you can read")
    remote.add_argument("--key", default="", metavar="FILE", help="a private key (SFTP)")
    remote.add_argument(
        "--certificate", default="", metavar="FILE", help="the host's certificate, or its authority (FTPS)"
    )
    add_access_options(remote)
    add_go(parser, "write what --refresh proposes into keep.toml")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Look the folder over and write the draft; the server folder itself is only read."""
    if args.refresh:
        return _refresh(args, screen)
    if args.ask:
        return _ask(args, screen)
    if args.server is None:
        raise UsageError("which server folder?", hint="emberkeep adopt SERVER; or --refresh for the keep there is")
    if is_remote(args.server):
        return _remote(args, screen)
    server = Path(os.path.abspath(args.server))
    keep = Path(os.path.abspath(args.keep)) if args.keep else beside(server)
    found = adopt_server(server, keep, args.zone)
    result = {"keep": keep, "adoption": found}
    return answer(args, 0, result, lambda: view.adoption(screen, found, keep, True))


def _remote(args: argparse.Namespace, screen: Screen) -> int:
    """Fetch a server from its address, and draft from the copy. The draft is begun with what the way there takes, so
    that a fetch that is broken off goes on with 'mirror fetch'."""
    import tomlkit  # only where a draft is put together

    from emberkeep.cli.commands import mirror  # only where a far host is asked

    address = address_of(args.server)
    copy = Path(os.path.abspath(args.into or address.folder.rsplit("/", 1)[-1] or address.host))
    keep = Path(os.path.abspath(args.keep)) if args.keep else beside(copy)
    if (keep / FILE).exists():
        raise Refused(f"{keep / FILE} is there already", hint="'emberkeep mirror fetch' brings what changed there")
    if copy.is_dir() and any(copy.iterdir()):
        raise Refused(f"{copy} is not empty", hint="name a new folder with --into")
    secret = {name: value for name, value in (("env", args.secret_env), ("file", args.secret_file)) if value}
    way = {name: value for name, value in (("key", args.key), ("certificate", args.certificate)) if value}
    for name, value in way.items():
        way[name] = os.path.abspath(value)

    def with_way(text: str) -> str:
        document = tomlkit.parse(text)
        document["server"]["copy"] = Path(os.path.relpath(copy, keep)).as_posix()
        if secret or way:
            document["far"] = {**({"secret": secret} if secret else {}), **way}
        return tomlkit.dumps(document)

    begun = tomlkit.dumps({"format": 1, "server": {"name": copy.name, "folder": str(address), "zone": args.zone}})
    write_keep(keep, with_way(begun))
    opened_keep = Keep(keep)
    args.only, args.rehash, args.theirs, args.mine, args.another, args.details = [], False, False, False, False, False
    try:
        with connections_to(args, screen, opened_keep) as pool:
            done = mirror.bring(args, screen, opened_keep, pool)
    except BaseException:
        if not copy.is_dir():
            system.io.unlink(keep / FILE)  # nothing came: the same can be said again
        raise
    found = adopt(copy)
    write_keep(keep, with_way(draft(found, str(address), args.zone)))
    result = {"keep": keep, "adoption": found, "fetched": done.fetched}

    def text() -> None:
        mirror_view.fetched(screen, done.plan, done.fetched, address, False)
        view.adoption(screen, found, keep, True)

    return answer(args, 1 if done.fetched.failed else 0, result, text)


def _ask(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when a question stays open. An answer is written as soon as it is given."""
    keep = _keep_of(args)
    path = keep.folder / FILE
    left = [one for one in doubts(adopt(keep.require_server())) if one.text in keep.config.questions]
    struck = [text for text in keep.config.questions if text not in {one.text for one in left}]
    left += [Doubt(text, choices=(Choice("it is settled"),)) for text in struck]
    if left and (args.json or not sys.stdin.isatty()):
        raise Refused(
            f"{len(left)} questions are open, and there is nobody to ask: {left[0].text}",
            hint="run it in a terminal; or correct keep.toml and delete its lines '# ?'",
        )
    given = 0
    prompts.forget_typed()
    for number, one in enumerate(left, 1):
        choice = prompts.choose(screen, one, number, len(left))
        if choice is None:
            continue
        text = answered(path.read_text(encoding="utf-8"), one, choice)
        check_text(text, path)
        writing.write_whole(path, [text.encode("utf-8")])
        given += 1
    result = {"asked": [one.text for one in left], "answered": given}
    return answer(args, 1 if given < len(left) else 0, result, lambda: view.asked(screen, len(left), given, path))


def _keep_of(args: argparse.Namespace) -> Keep:
    if args.server is not None and not args.keep:
        args.keep = str(beside(Path(os.path.abspath(args.server))))
    return the_keep(args)


def _refresh(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 1 when there are proposals that were not written."""
    keep = _keep_of(args)
    with opened(keep) as store:
        releases = [defaults.tree_of(store, version) for version in defaults.versions(store)]
        found = refresh(keep.config, adopt(keep.require_server(), releases))
    path = keep.folder / FILE
    if args.go and found.proposals:
        text = written(path.read_text(encoding="utf-8"), found.proposals)
        check_text(text, path)
        writing.write_whole(path, [text.encode("utf-8")])
        write_schema(keep.folder)
    result = {
        "proposals": [
            {"where": p.where, "what": p.what, "evidence": p.evidence, "sure": p.sure} for p in found.proposals
        ],
        "idle": found.idle,
        "written": bool(args.go and found.proposals),
    }
    code = 1 if found.proposals and not args.go else 0
    return answer(args, code, result, lambda: view.refreshed(screen, found, path, args.go))
