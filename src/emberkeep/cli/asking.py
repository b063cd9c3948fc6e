"""The questions of a merge put to the admin one by one, on the terminal."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from emberkeep.merging.dialogue import EXPLAIN, QUIT, Dialogue, understood
from emberkeep.merging.results import Question
from emberkeep.show import asking as view
from emberkeep.show.console import Screen


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
    while (question := dialogue.current) is not None:
        view.question(screen, dialogue, question, lines(question.file))
        said = None
        while said is None or said.word == EXPLAIN:
            try:
                said = understood(input(view.PROMPT))
            except EOFError:
                screen.line()
                return len(dialogue.answered)
            if said is not None and not dialogue.fits(said):
                screen.line("A whole record is asked about here; mine, new or old is wanted.")
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
