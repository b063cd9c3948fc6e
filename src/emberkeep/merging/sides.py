"""What a merge by record works with: three documents, and all that was found so far."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from emberkeep.documents import layout
from emberkeep.documents.identity import KeyRules
from emberkeep.documents.model import (
    Document,
    Edit,
    Node,
)
from emberkeep.merging.results import (
    RECORD,
    TYPED,
    Change,
    Question,
    Resolver,
    typed_value,
)
from emberkeep.merging.rows import ThreeWay


@dataclass
class Sides:
    """Three documents of one file and what a merge of them came to so far. ``old`` is None where nothing is known of
    what both began from; ``edits``: against the admin's text."""

    path: str
    old: Document | None
    mine: Document
    new: Document
    identities: KeyRules
    resolve: Resolver
    edits: list[Edit] = field(default_factory=list)
    taken: list[Change] = field(default_factory=list)
    kept: list[Change] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)
    stay: set[int] = field(default_factory=set)
    """``id()`` of what the admin has that the vendor removed, and that stays with all that is in it."""

    def all_alike(self, three: ThreeWay) -> bool:
        """Whether all sides spell this record alike, so that it need not be read."""
        if self.old is None or three.old is None:
            return self.mine.raw(three.mine) == self.new.raw(three.new)
        text = self.mine.raw(three.mine)
        return text == self.new.raw(three.new) and text == self.old.raw(three.old)

    def replace_node(self, node: Node, source: Document, other: Node) -> None:
        """Put another side's text in the place of a node."""
        indent = self.mine.block_indent(node)
        indent = layout.line_indent(self.mine.text, node.start) if indent is None else indent
        block = layout.moved_block(self.mine, source, [other], indent)[len(indent) :]
        self.edits.append(Edit(node.start, node.end, block))

    def ask(self, question: Question, *, typed: bool = True) -> Question:
        """Note a question with its answer, if there is one by now. ``typed``: whether a value can be the answer."""
        answer, by = self.resolve(question)
        if answer.startswith(TYPED) and (question.field == RECORD or not typed):
            is_name = question.renamed and typed_value(answer) == question.renamed
            answer, by = (answer, by) if is_name else ("", "")
        asked = replace(question, answer=answer, by=by)
        self.questions.append(asked)
        return asked
