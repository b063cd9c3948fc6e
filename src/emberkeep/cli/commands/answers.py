"""``emberkeep answers``: the answers given to questions of merges, and one withdrawn."""

from __future__ import annotations

import argparse

from emberkeep.cli.context import answer, the_keep
from emberkeep.errors import UsageError
from emberkeep.merging import answers as answer_files
from emberkeep.merging.answers import Answer
from emberkeep.show.console import HEAD, QUIET, Screen
from emberkeep.show.merging import side

EXAMPLES = (
    "emberkeep answers                      (lists the answers you gave)",
    "emberkeep answers --withdraw 3         (the third one counts no longer: its question is asked again)",
)
EXITS = {
    0: "listed, or withdrawn",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which answer is withdrawn."""
    parser.add_argument("--withdraw", type=int, metavar="N", help="forget the answer with this number in the list")


def run(args: argparse.Namespace, screen: Screen) -> int:
    """Exit code 0. UsageError where there is no such answer."""
    keep = the_keep(args)
    given = answer_files.known(keep.answers_file)
    gone: Answer | None = None
    if args.withdraw is not None:
        if not 1 <= args.withdraw <= len(given):
            raise UsageError(
                f"there is no answer {args.withdraw}", hint="'emberkeep answers' lists them with their numbers"
            )
        gone = given.pop(args.withdraw - 1)
        answer_files.save(keep.answers_file, given)
    result = {"answers": given, "withdrawn": gone}
    return answer(args, 0, result, lambda: _show(screen, given, gone))


def _show(screen: Screen, given: list[Answer], gone: Answer | None) -> None:
    if gone is not None:
        screen.line(f"Withdrawn: {gone.file} {gone.record} {gone.field}: {gone.answer}")
        screen.next("the next 'emberkeep merge' asks it again, unless the value has been changed since")
    if not given:
        screen.line("There are no answers.", QUIET)
        return
    screen.line("Answers given", HEAD)
    for number, one in enumerate(given, 1):
        values = ", ".join(
            f"{name} {side(value)}" for name, value in (("old", one.old), ("mine", one.mine), ("new", one.new)) if value
        )
        screen.line(f"  {number}  {one.file}  {one.record} {one.field}: {one.answer}  ({values})")
