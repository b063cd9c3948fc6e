"""Three-way merge of plain text by line.

Lines that all three sides have hold the texts together; between them stand regions. A region that only one side changed
takes that side's lines, one that both changed alike is agreement, any other is a question and keeps the admin's lines.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from emberkeep.documents.encoding import Text
from emberkeep.documents.formats.lines import body, matches, split
from emberkeep.documents.layout import with_newlines
from emberkeep.merging.records import RecordsMerged
from emberkeep.merging.results import (
    BOTH,
    LINES,
    NEW,
    OLD,
    TYPED,
    Change,
    Question,
    Resolver,
    What,
    typed_lines,
    unanswered,
)


@dataclass(frozen=True, slots=True)
class Region:
    """Half-open line ranges that correspond on the three sides; ``held`` when all three have these lines."""

    old: tuple[int, int]
    mine: tuple[int, int]
    new: tuple[int, int]
    held: bool


def regions(old: Sequence[str], mine: Sequence[str], new: Sequence[str]) -> Iterator[Region]:
    """The three texts as regions, in order, covering every line of each side once."""
    to_mine = {m.left + k: m.right + k for m in matches(old, mine) for k in range(m.length)}
    to_new = {m.left + k: m.right + k for m in matches(old, new) for k in range(m.length)}
    at = (0, 0, 0)
    for line in range(len(old)):
        if line not in to_mine or line not in to_new:
            continue
        here = (line, to_mine[line], to_new[line])
        if at != here:
            yield Region((at[0], here[0]), (at[1], here[1]), (at[2], here[2]), False)
        first, second, third = ((start, start + 1) for start in here)
        yield Region(first, second, third, True)
        at = (here[0] + 1, here[1] + 1, here[2] + 1)
    end = (len(old), len(mine), len(new))
    if at != end:
        yield Region((at[0], end[0]), (at[1], end[1]), (at[2], end[2]), False)


def merge_lines(path: str, old: str, mine: Text, new: str, resolve: Resolver) -> RecordsMerged:
    """Bring ``new`` into ``mine`` line by line; line ends and a missing final one stay the admin's."""
    merged = _Lines(path, split(old), mine, split(new), resolve).merge()
    if merged.taken and _is_merged_already(old, mine, new):
        return replace(merged, text=mine.text, taken=(), questions=())
    return merged


def _is_merged_already(old: str, mine: Text, new: str) -> bool:
    """Whether taking the new lines out of mine and bringing them in again gives mine: then they are in it.

    Where the same lines stand several times, aligning alone cannot tell a line that came with an earlier merge.
    """
    without = _Lines("", split(new), mine, split(old), unanswered).merge()
    if without.questions or without.text == mine.text:
        return False
    again = _Lines("", split(old), replace(mine, text=without.text), split(new), unanswered).merge()
    return not again.questions and again.text == mine.text


class _Lines:
    def __init__(self, path: str, old: list[str], mine: Text, new: list[str], resolve: Resolver) -> None:
        self.path = path
        self.source = mine
        self.mine = split(mine.text)
        self.sides = {OLD: [body(line) for line in old], NEW: [body(line) for line in new]}
        self.bodies = [body(line) for line in self.mine]
        self.resolve = resolve
        self.out: list[str] = []
        self.taken: list[Change] = []
        self.kept: list[Change] = []
        self.questions: list[Question] = []

    def merge(self) -> RecordsMerged:
        for region in regions(self.sides[OLD], self.bodies, self.sides[NEW]):
            if region.held:
                self.out.extend(self.mine[slice(*region.mine)])
            else:
                self._region(region)
        return RecordsMerged(self._text(), tuple(self.taken), tuple(self.kept), tuple(self.questions))

    def _text(self) -> str:
        """The lines put together; the file ends as the admin's did."""
        newline = self.source.newline
        whole = "".join(line if line != body(line) else line + newline for line in self.out[:-1])
        last = self.out[-1] if self.out else ""
        if self.source.text and not self.source.text.endswith(("\n", "\r")):
            return whole + body(last)
        return whole + (last if last != body(last) or not last else last + newline)

    def _region(self, region: Region) -> None:
        old = self.sides[OLD][slice(*region.old)]
        mine = self.bodies[slice(*region.mine)]
        new = self.sides[NEW][slice(*region.new)]
        where = _where(region)
        line = region.mine[0] + 1
        before, here, after = (_block(lines) for lines in (old, mine, new))
        if new == old or mine == new:
            self.out.extend(self.mine[slice(*region.mine)])
            if mine != old and mine != new:
                self.kept.append(Change(self.path, where, LINES, _what(old, mine), before, here, line))
        elif mine == old:
            self.taken.append(Change(self.path, where, LINES, _what(mine, new), here, after, line))
            self._put(new)
        else:
            self._ask(Question(self.path, where, LINES, before, here, after, line=line), region)

    def _ask(self, question: Question, region: Region) -> None:
        answer, by = self.resolve(question)
        self.questions.append(replace(question, answer=answer, by=by))
        if answer in (NEW, OLD):
            self._put(self.sides[answer][slice(*(region.new if answer == NEW else region.old))])
        elif answer.startswith(TYPED):
            self._put([body(line) for line in split(typed_lines(answer))])
        elif answer == BOTH:
            self._put(self.bodies[slice(*region.mine)])
            self._put(self.sides[NEW][slice(*region.new)])
        else:
            self.out.extend(self.mine[slice(*region.mine)])

    def _put(self, lines: Sequence[str]) -> None:
        self.out.extend(with_newlines(line + "\n", self.source.newline) for line in lines)


def _where(region: Region) -> str:
    start, end = region.mine
    if start == end:
        return f"after line {start}"
    return f"line {start + 1}" if end == start + 1 else f"lines {start + 1}-{end}"


def _block(lines: Sequence[str]) -> str | None:
    return "\n".join(lines) if lines else None


def _what(before: Sequence[str], after: Sequence[str]) -> What:
    if not before:
        return What.ADDED
    return What.SET if after else What.REMOVED
