"""``emberkeep demo [DIR]``: the sample server, and an update day on it."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from emberkeep.cli.context import answer
from emberkeep.demo import sample
from emberkeep.demo.walk import Walk, WalkFailed
from emberkeep.errors import Refused, RunFailed
from emberkeep.show.console import HEAD, Screen

EXAMPLES = (
    "emberkeep demo                    (into ./emberkeep-demo)",
    "emberkeep demo /tmp/rock --build-only",
    "emberkeep demo /tmp/large --size large --build-only",
)


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
    parser.add_argument("--build-only", action="store_true", help="build the sample and stop")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 5 when a step does not end as it must."""
    folder = Path(os.path.abspath(args.dir))
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Refused(f"{folder} is there already and not empty", hint="name another folder: emberkeep demo DIR")
    sample.build(folder, args.size)
    if args.json or args.build_only:
        result = {"folder": folder, "server": folder / sample.SERVER, "size": args.size}
        return answer(args, 0, result, lambda: screen.line(f"The sample server stands in {folder / sample.SERVER}"))

    def say(text: str) -> None:
        screen.line(text, HEAD if text.startswith(("\n$", "\n===")) else "")
        screen.out.file.flush()

    say(f"The sample server Gannet Rock and the releases of its game stand in {folder}")
    try:
        Walk(folder, say).run()
    except WalkFailed as error:
        raise RunFailed(f"the demo stopped: {error}") from error
    say("\nThat was an update day. Everything stays where it is; try:")
    for words in (
        f"cd {args.dir}; export EMBERKEEP_KEEP=gannet-rock.keep",
        "emberkeep survey",
        "emberkeep merge --details --from 4.2 --to 4.3",
        "emberkeep defaults record 4.4 releases/skerrylight-4.4.tar.gz && emberkeep merge",
        "emberkeep restore 'before 4.3' --only economy",
    ):
        say(f"  {words}")
    return 0
