"""The questions of a merge put to the admin one by one, on the terminal."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from emberkeep.merging.dialogue import EXPLAIN, QUIT, Dialogue, understood
from emberkeep.merging.results import Question
from emberkeep.show import asking as view
from emberkeep.show.console import ASKS, QUIET, Screen
from emberkeep.show.waiting import typed

if TYPE_CHECKING:
    from emberkeep.detection.doubts import Choice, Doubt


def ask(
    screen: Screen,
    questions: Sequence[Question],
    lines: Callable[[str], Sequence[str]],
    keep: Callable[[Sequence[Question]], None],
) -> int:
    """Go through open questions until they are settled or the admin has had enough; how many were answered.

    ``lines``: the lines of a file of the admin's. ``keep`` is given the answered questions at once, so that stopping
    anywhere loses none.
    """
    dialogue = Dialogue(questions)
    forget_typed()
    while (question := dialogue.current) is not None:
        view.question(screen, dialogue, question, lines(question.file))
        said = None
        while said is None or said.word == EXPLAIN:
            try:
                said = understood(typed(view.PROMPT))
            except EOFError:
                screen.line()
                return len(dialogue.answered)
            if said is not None and (why := dialogue.unfit(said)):
                screen.line(why)
                said = None
            elif said is None:
                view.keys(screen, dialogue)
            elif said.word == EXPLAIN:
                view.explained(screen, question)
        if said.word == QUIT:
            break
        if done := dialogue.say(said):
            keep(done)
            view.answered(screen, done)
    return len(dialogue.answered)


MOST_SEEN = 12
"""Lines of evidence for one question."""


def choose(screen: Screen, doubt: Doubt, number: int, count: int) -> Choice | None:
    """What the admin answers to something that was only guessed; None for not now."""
    screen.line()
    screen.line(f"{number} of {count}: {doubt.text}", ASKS)
    seen = [line for line in doubt.seen if line not in doubt.text]
    for line in seen[:MOST_SEEN]:
        screen.line(f"    {line}", QUIET)
    if len(seen) > MOST_SEEN:
        screen.line(f"    … and {len(seen) - MOST_SEEN} more", QUIET)
    if doubt.stakes:
        screen.line(doubt.stakes)
    if not doubt.choices:
        screen.line("Write it into keep.toml, then delete the question there.", QUIET)
        return None
    for at, choice in enumerate(doubt.choices, 1):
        screen.line(f"  {at}  {choice.words}")
    forget_typed()
    while True:
        try:
            said = typed("A number, or Enter for not now: ").strip()
        except EOFError:
            screen.line()
            return None
        if not said:
            return None
        if said.isdigit() and 1 <= int(said) <= len(doubt.choices):
            return doubt.choices[int(said) - 1]


def forget_typed() -> None:
    """Let what was typed before there was a question answer none."""
    if not sys.stdin.isatty():
        return
    if sys.platform == "win32":
        import msvcrt

        while msvcrt.kbhit():
            msvcrt.getwch()
    else:
        import termios

        termios.tcflush(sys.stdin, termios.TCIFLUSH)
