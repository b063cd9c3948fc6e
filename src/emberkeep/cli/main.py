"""Finds the command, runs it, and turns what it raises into the exit codes of the command contract."""

from __future__ import annotations

import gc
import sys

from emberkeep import __version__

TYPE_CHECKING = False  # loading typing takes longer than printing the version
if TYPE_CHECKING:
    import argparse
    from collections.abc import Sequence
    from typing import Any

    from emberkeep.show.console import Screen

COMMANDS = {
    "demo": "build the sample server and walk through an update day on it",
    "adopt": "look over a server folder and draft its keep.toml",
    "survey": "what stands where now: versions, roles, hand edits",
    "snapshot": "take a snapshot of the server folder",
    "history": "list the snapshots and runs, show how the store grows",
    "restore": "restore a snapshot, or a part of it",
    "resume": "finish a run that was interrupted",
    "undo": "undo the last run",
    "verify": "check every stored byte, mend what can be mended",
    "drill": "try a snapshot: restore it elsewhere, start its server there, look for every landmark",
    "thin": "delete old snapshots, by the ladder of keep.toml",
    "store": "where the snapshots lie; one store for several keeps",
    "export": "write a snapshot as an ordinary archive",
    "defaults": "record the vendor's untouched files of a release",
    "diff": "compare any two of: live, a snapshot, recorded defaults, a path",
    "orders": "intents that every new default is given: find, accept, try them",
    "answers": "the answers you gave to questions, and one withdrawn",
    "merge": "carry the vendor's new defaults into hand-edited files",
    "update": "update day as one run: from the warning to the landmarks, or back",
    "migrate": "take the saves through every recipe up to a version",
    "carry": "bring a server's own files from one install to another beside it",
    "import": "bring in a world from a folder or an archive",
    "wipe": "what a wipe would clear, leave and forget; and the wipe",
    "calendar": "when wipes and updates fall, whether the rhythm fits",
    "due": "do what is due now, exactly once; for cron or a timer",
    "start": "start the server and follow it until it is ready",
    "stop": "warn, save, stop, and wait until the server is gone",
    "say": "say something to the players",
    "mirror": "a server behind FTP, FTPS or SFTP: bring it here, send changes there",
    "watch": "follow the server's log until it is ready",
    "check": "what could stop an update, a wipe or an event, found beforehand",
    "keep-toml": "what keep.toml may hold: every table and key",
}
_COMMAND: dict[str, Any] = {"dest": "command", "metavar": "COMMAND", "title": "commands"}
INTERRUPTED = 130
FAULT = 70
"""A fault of ours, of which nobody knows how far it came; the number is that of sysexits.h for it."""


def parser_for(command: str | None) -> argparse.ArgumentParser:
    """The parser for ``command``, whose module alone is loaded; without one, for help that lists them all."""
    import argparse

    parser = _outermost()
    if command is not None:
        _add(parser.add_subparsers(**_COMMAND), command)
        return parser

    class Listed(argparse.ArgumentParser):  # parsers that are only listed need not be made
        def __init__(self, **settings: Any) -> None:
            """Nothing is made of it."""

    subparsers = parser.add_subparsers(**_COMMAND, parser_class=Listed)
    for name, words in COMMANDS.items():
        subparsers.add_parser(name, help=words)
    return parser


def whole_parser() -> argparse.ArgumentParser:
    """The parser of all commands with all their options, as completion and documents want it."""
    parser = _outermost()
    subparsers = parser.add_subparsers(**_COMMAND)
    for command in COMMANDS:
        _add(subparsers, command)
    return parser


def _outermost() -> argparse.ArgumentParser:
    import argparse

    parser = argparse.ArgumentParser(
        prog="emberkeep",
        allow_abbrev=False,  # what is said in half is not done
        description="Takes a survival game server safely across an update. "
        "Nothing in a server folder changes without --go.",
        epilog="exit codes: 0 done, 1 something waits for you, 2 wrong call or unreadable input, "
        "3 refused for safety, 4 damage found, 5 failed and taken back, 70 a fault of ours, 130 interrupted",
    )
    parser.add_argument("--version", action="version", version=f"emberkeep {__version__}")
    parser.add_argument(
        "--keep", metavar="DIR", help="the keep to work with (else EMBERKEEP_KEEP, else found from here)"
    )
    parser.add_argument(
        "--as-owner", action="store_true", help="as root: work with the rights of the server folder's owner alone"
    )
    parser.add_argument("--debug", action="store_true", help="show a traceback when something fails")
    return parser


def _add(subparsers: argparse._SubParsersAction[argparse.ArgumentParser], command: str) -> None:
    words = COMMANDS[command]
    described = words[0].upper() + words[1:] + "."
    _fill(subparsers.add_parser(command, help=words, description=described, allow_abbrev=False), command)


def command_of(arguments: Sequence[str]) -> str | None:
    """The first word that is neither an option nor its value; None where only help or the version is asked for."""
    is_value = False
    for word in arguments:
        if is_value:
            is_value = False
        elif not word.startswith("-"):
            return word
        elif word in ("-h", "--help", "--version"):
            return None
        else:
            is_value = word == "--keep"
    return None


def _no_such(command: str) -> str:
    from emberkeep.errors import did_you_mean

    return f"there is no command '{command}'; {did_you_mean(command, COMMANDS, '--help lists them')}"


def _not_known(words: Sequence[str], command: str | None) -> str:
    """What is wrong with words that a command does not take."""
    if command is None or not words[0].startswith("--"):
        return f"unrecognized arguments: {' '.join(words)}"
    import re

    from emberkeep.errors import did_you_mean

    option = words[0].partition("=")[0]
    known = re.findall(r"--[a-z][a-z-]*", command_parser(command).format_help())
    return f"{command} has no option {option}; {did_you_mean(option, known, f'{command} --help lists them')}"


def command_parser(name: str) -> argparse.ArgumentParser:
    """The parser of one command alone."""
    import argparse

    words = COMMANDS[name]
    sub = argparse.ArgumentParser(prog=f"emberkeep {name}", description=words[0].upper() + words[1:] + ".")
    _fill(sub, name)
    return sub


def _fill(sub: argparse.ArgumentParser, name: str) -> None:
    import argparse

    module = command_module(name)
    sub.formatter_class = argparse.RawDescriptionHelpFormatter
    examples = (f"  {line}" for line in module.EXAMPLES)
    exits = (f"  {code}  {words}" for code, words in module.EXITS.items())
    sub.epilog = "\n".join(("examples:", *examples, "\nexit codes (others: emberkeep --help):", *exits))
    module.add_arguments(sub)
    sub.add_argument("--json", action="store_true", help="one JSON document on standard output")
    for option, settings in (
        ("--keep", {"metavar": "DIR"}),
        ("--as-owner", {"action": "store_true"}),
        ("--debug", {"action": "store_true"}),
    ):
        # Also accepted behind the command; SUPPRESS keeps a value given before it.
        sub.add_argument(option, default=argparse.SUPPRESS, help=argparse.SUPPRESS, **settings)  # type: ignore[arg-type]


def command_module(name: str) -> Any:
    """A command: ``add_arguments(parser)``, ``run(args, screen)``, ``EXAMPLES`` and ``EXITS``: what its exit codes
    mean, where they say more than for all. What it may begin ``ahead(args)`` goes on while ``run`` loads what it needs,
    and is ended with it."""
    import importlib

    return importlib.import_module(f"emberkeep.cli.commands.{name.replace('-', '_')}")


def main(arguments: Sequence[str]) -> int:
    """Run one command and return its exit code."""
    from emberkeep.show.output import take_anything

    take_anything()
    command = command_of(arguments)
    parser = parser_for(command if command in COMMANDS else None)
    if command is not None and command not in COMMANDS:
        parser.error(_no_such(command))
    args, unknown = parser.parse_known_args(arguments)
    if unknown:
        parser.error(_not_known(unknown, args.command))
    if args.command is None:
        parser.print_help()
        return 0
    import contextlib

    ahead = getattr(command_module(args.command), "ahead", None)
    args.outcome = None
    with ahead(args) if ahead else contextlib.nullcontext() as args.ahead:
        from emberkeep.show.waiting import heartbeat

        with heartbeat(args.command):
            return _flushed(args, _run(args, arguments))


def _run(args: argparse.Namespace, arguments: Sequence[str]) -> int:
    from emberkeep.errors import EmberKeepError, reason
    from emberkeep.show.console import Screen, document

    screen = Screen()
    try:
        return _done(args, arguments, screen)
    except EmberKeepError as error:
        if args.debug:
            raise
        if args.json:
            from emberkeep.show.json_output import failure

            document(failure(args.command, error))
        screen.error(error)
        return error.exit_code
    except KeyboardInterrupt:
        screen.note("interrupted; nothing half-made was left behind")
        return INTERRUPTED
    except OSError as error:
        if args.debug:
            raise
        done = "it was done, and could not be shown; " if args.outcome is not None else ""
        what = f"{reason(error)} ({error.filename or 'no file named'})"
        screen.error(EmberKeepError(f"{done}the system refused: {what}"))
        return _outcome(args, 2)
    except Exception as error:
        if args.debug:
            raise
        what = f"a fault in Ember Keep itself: {type(error).__name__}: {error}"
        done = "it was done, and could not be shown; " if args.outcome is not None else ""
        hint = "run the same with --debug and send what it prints; 'emberkeep history' tells whether a run waits"
        screen.error(EmberKeepError(f"{done}{what}", hint=hint))
        return _outcome(args, FAULT)


def _done(args: argparse.Namespace, arguments: Sequence[str], screen: Screen) -> int:
    """The exit code of a command that was carried out."""
    if getattr(args, "keeps", None):
        from emberkeep.cli.all_keeps import run_all

        return run_all(args, screen, arguments, main)
    if getattr(args, "json_lines", False):
        from emberkeep.errors import UsageError

        raise UsageError("--json-lines goes with --all", hint="--json gives one document")
    if getattr(args, "jobs", None) is not None:
        from emberkeep.errors import UsageError

        raise UsageError("--jobs goes with --all")
    from emberkeep.documents.registry import read_once
    from emberkeep.fs.metadata import not_given
    from emberkeep.show.words import count

    not_given()  # of what was done before in this process
    with read_once():
        code = int(command_module(args.command).run(args, screen))
    for what, number in sorted(not_given().items()):
        where = count(number, "file or folder", "files and folders")
        screen.note(f"{what} not set on {where}: the disk keeps none, or you may not set them")
    return code


def _outcome(args: argparse.Namespace, code: int) -> int:
    """The exit code of what was done, where it had been done before something went wrong, else ``code``."""
    return code if args.outcome is None else int(args.outcome)


def _flushed(args: argparse.Namespace, code: int) -> int:
    """``code``, once what was printed has gone out. That it cannot is told, unless nobody wanted more; it changes no
    code."""
    from emberkeep.errors import EmberKeepError, reason
    from emberkeep.show.console import Screen
    from emberkeep.show.output import fault

    refused = fault()
    if refused is not None and not isinstance(refused, BrokenPipeError):
        what = "it was done, and could not be shown" if args.outcome is not None else "not all could be shown"
        Screen().error(EmberKeepError(f"{what}: {reason(refused)}"))
    return code


def entry() -> None:
    """The installed program."""
    from emberkeep.show.output import take_anything

    take_anything()
    if sys.argv[1:] == ["--version"]:  # as the parser says it, which takes as long to load as Python itself
        sys.stdout.write(f"emberkeep {__version__}\n")
        return
    import signal

    gc.set_threshold(200_000, 20, 50)  # many small objects and no rings of them: looking for such rarely pays
    for name in ("SIGTERM", "SIGHUP"):  # told to end, or its terminal was closed
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), _terminated)
    code = main(sys.argv[1:])
    gc.freeze()  # what is left goes with the process, and need not be looked through for rings first
    sys.exit(code)


def _terminated(number: int, frame: object) -> None:
    raise KeyboardInterrupt
