"""``emberkeep demo [DIR]``: the sample server, and an update day on it."""

from __future__ import annotations

import argparse
import os
import secrets
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

from emberkeep.callbacks import no_op
from emberkeep.cli.context import answer
from emberkeep.demo import sample
from emberkeep.demo.database_walk import DatabaseWalk
from emberkeep.demo.transfer_walk import TransferWalk
from emberkeep.demo.walk import OUTPUT, Telling, Walk, WalkFailed
from emberkeep.errors import Refused, RunFailed
from emberkeep.show.console import HEAD, Screen
from emberkeep.show.waiting import terminal_taken

EXAMPLES = (
    "emberkeep demo                    (into ./emberkeep-demo)",
    "emberkeep demo --more             (also a rehearsal, one player put back, the calendar, a wipe)",
    "emberkeep demo --full             (all of it, and all that the commands print)",
    "emberkeep demo --far              (the server stands behind a file transfer)",
    "emberkeep demo --databases        (the vendor's SQL, prices merged, all of it taken back)",
    "emberkeep demo /tmp/rock --build-only",
    "emberkeep demo /tmp/rock --serve  (the stand-in engine, to try start, say and watch on)",
    "emberkeep demo /tmp/large --size large --build-only",
)
EXITS = {
    0: "every step ended as it must",
    5: "a step did not",
}

ENDS = 10.0
"""Seconds that the engine is given to end by itself."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Where, how large, and whether to walk."""
    parser.add_argument(
        "dir",
        nargs="?",
        default="emberkeep-demo",
        metavar="DIR",
        help="a new folder (default emberkeep-demo)",
    )
    parser.add_argument(
        "--size", choices=sorted(sample.SIZES), default="town", help="large: about 1.5 GB, 20 000 players"
    )
    parser.add_argument(
        "--serve", action="store_true", help="run the sample's stand-in engine in the foreground until Ctrl-C"
    )
    parser.add_argument(
        "--far", action="store_true", help="the walk with the server behind an FTP host, which a stand-in plays"
    )
    parser.add_argument("--databases", action="store_true", help="the walk with a database, which a SQLite file plays")
    parser.add_argument("--more", action="store_true", help="also a rehearsal, one player, the calendar and a wipe")
    parser.add_argument("--full", action="store_true", help="all of it, and all that the commands print")
    parser.add_argument("--step", action="store_true", help="wait for Enter after each command")
    parser.add_argument("--build-only", action="store_true", help="build the sample and stop")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 5 when a step does not end as it must."""
    folder = Path(os.path.abspath(args.dir))
    if args.serve:
        return _serve(folder, args.size, screen)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Refused(f"{folder} is there already and not empty", hint="name another folder: emberkeep demo DIR")
    sample.build(folder, args.size)
    if args.json or args.build_only:
        result = {"folder": folder, "server": folder / sample.SERVER, "size": args.size}
        return answer(args, 0, result, lambda: screen.line(f"The sample server stands in {folder / sample.SERVER}"))

    def say(text: str) -> None:
        for line in text.split("\n"):
            screen.line(line, HEAD if line.startswith(("$", "===")) else "")
        screen.out.file.flush()

    say(f"The sample server Gannet Rock and the releases of its game stand in {folder}")
    try:
        telling = Telling(args.full, args.more or args.full, _wait_for_enter if args.step else no_op)
        (TransferWalk if args.far else DatabaseWalk if args.databases else Walk)(folder, say, _here, telling).run()
    except WalkFailed as error:
        raise RunFailed(
            f"the demo stopped: {error}",
            hint="see the last lines above, and the whole output of that command in the folder output",
        ) from error
    if args.far or args.databases:
        return 0
    say(f"\nThat was an update day{' and a wipe' if telling.more else ''}.")
    if not args.full:
        say(f"All that each command printed stands in {args.dir}/{OUTPUT}.")
    if not telling.more:
        say("'emberkeep demo OTHER-DIR --more' goes on with a rehearsal, one player put back, the calendar and a wipe.")
    say("\nEverything stays where it is; try:")
    for words in (
        f"cd {args.dir}; export EMBERKEEP_KEEP=gannet-rock.keep",
        "emberkeep survey",
        "emberkeep update releases/skerrylight-4.4.tar.gz --to 4.4",
        "emberkeep undo",
        "emberkeep restore 'before 4.3' --only economy",
    ):
        say(f"  {words}")
    return 0


def _here(words: Sequence[str], environment: Mapping[str, str], folder: Path) -> int:
    """The exit code of a command that runs in this process: some forty starts of Python take longer than the work."""
    from emberkeep.cli.main import main

    before, variables = Path.cwd(), dict(os.environ)
    try:
        os.chdir(folder)
        os.environ.clear()
        os.environ.update(environment)
        return main(words)
    finally:
        os.environ.clear()
        os.environ.update(variables)
        os.chdir(before)


def _wait_for_enter() -> None:
    sys.stderr.write("(Enter goes on)")
    sys.stderr.flush()
    with terminal_taken():
        sys.stdin.readline()


def _serve(folder: Path, size: str, screen: Screen) -> int:
    """Run the stand-in engine as its launch script does, its output on this terminal; its exit code."""
    server = folder / sample.SERVER
    if not server.is_dir():
        sample.build(folder, size)
    environment = {**os.environ}
    word = environment.setdefault("ROCK_CONSOLE", secrets.token_hex(4))
    screen.line(
        f"The stand-in engine runs in {server}; Ctrl-C ends it. Its console's secret (ROCK_CONSOLE) is {word}", HEAD
    )
    screen.out.file.flush()
    line = ["./cast-off.sh"]
    if os.name == "nt":  # no sh: the program itself, by this Python
        line = [sys.executable, str(max(server.glob("skerrylight-*.bin"))), "--seed", str(sample.SEED)]
        line += ["--span", str(sample.SPAN)]
    process = subprocess.Popen(line, cwd=server, env=environment)
    try:
        with terminal_taken():
            return process.wait()
    except KeyboardInterrupt:  # a terminal tells the engine too
        try:
            return process.wait(ENDS)
        except subprocess.TimeoutExpired:
            process.terminate()
            return process.wait()
