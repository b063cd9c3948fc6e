"""Three-way merge of two documents into the admin's: align (``rows``), ``classify`` and ``render``.

Values: whoever alone changed one wins; both alike is agreement; both differently is a question, and the admin's
value stays. Records: a new one of the vendor's comes in beside its neighbours; one the admin deleted stays deleted
and one the vendor deleted goes, unless the other side changed it since (a question). The admin's order stays.
Comments are items of their own: a vendor's comment travels with the record it stands in front of, the admin's are
never touched.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from emberkeep.documents import layout
from emberkeep.documents.identity import KeyRules, Path
from emberkeep.documents.model import (
    VALUE,
    Document,
    Edit,
    Field,
    kinds_of,
    same,
)
from emberkeep.documents.values import same_value
from emberkeep.merging.classify import Classifier
from emberkeep.merging.moves import Arrangement
from emberkeep.merging.render import Renderer
from emberkeep.merging.results import (
    COMMENT,
    MINE,
    NEW,
    OLD,
    RECORD,
    Change,
    Question,
    Resolver,
    What,
    typed_value,
)
from emberkeep.merging.rows import ThreeWay, align
from emberkeep.merging.sides import Sides


@dataclass(frozen=True)
class RecordsMerged:
    """The merged text with all that was found on the way."""

    text: str
    taken: tuple[Change, ...]
    kept: tuple[Change, ...]
    questions: tuple[Question, ...]
    arrangement: Arrangement | None = None
    """How items are to change places, once the text is as it is here."""


def merge_documents(
    path: str,
    old: Document | None,
    mine: Document,
    new: Document,
    identities: KeyRules,
    resolve: Resolver,
) -> RecordsMerged:
    """Bring ``new`` into ``mine``; ``old`` is what both began from, None when nothing is known of it."""
    merger = _Merger(path, old, mine, new, identities, resolve)
    arrangement = merger.node(ThreeWay(old.root if old else None, mine.root, new.root), (mine.root.name,), "", "", "")
    merger.around()
    return RecordsMerged(
        layout.finished(mine, merger.edits),
        tuple(merger.taken),
        tuple(merger.kept),
        tuple(merger.questions),
        arrangement,
    )


class _Merger(Sides):
    """Merges record by record, from the root down."""

    def node(self, three: ThreeWay, path: Path, record: str, parent: str, label: str) -> Arrangement | None:
        """Merge a record that both the admin and the vendor have; how its items are to be put."""
        if self.all_alike(three):
            return None
        kinds = self._containers(three)
        if len(kinds) > 1 or (kinds == {""} and _shape_differs(three)) or self._emptied(three):
            self._as_one(three, record)
            return None
        for name in _names(three) if kinds == {""} else ():
            where, what = (parent, label) if name == VALUE and label else (record, name or "(text)")
            self._field(three, name, where, what)
        old = (self.old, three.old) if self.old is not None and three.old is not None else None
        items = align(old, (self.mine, three.mine), (self.new, three.new), path, self.identities)
        found = Classifier(self, three, items, path, record, self.node).classify()
        return Renderer(self, three, items, found, path, record).render()

    def around(self) -> None:
        """What stands before and behind the root is the vendor's where the admin left it alone, as a whole."""
        if self.old is None:
            return
        for spans in zip(self.old.around(), self.mine.around(), self.new.around(), strict=True):
            sides = zip((self.old, self.mine, self.new), spans, strict=True)
            before, here, after = (side.text[slice(*span)].replace("\r\n", "\n") for side, span in sides)
            words = [" ".join(text.split()) for text in (before, here, after)]
            line = self.mine.line(spans[1][0])
            if words[1] == words[0] != words[2]:
                self.taken.append(Change(self.path, "", COMMENT, _what(*_said(words[1:])), *_said(words[1:]), line))
                raw = layout.with_newlines(after, self.mine.source.newline)
                self.edits.append(Edit(*spans[1], self.mine.adopt_raw(raw, None)))
            elif words[1] != words[0]:
                self.kept.append(Change(self.path, "", COMMENT, _what(*_said(words[:2])), *_said(words[:2]), line))

    def _containers(self, three: ThreeWay) -> set[str]:
        """The kinds of container that the sides are; "" for what is none."""
        sides = [(self.mine, three.mine), (self.new, three.new)]
        if self.old is not None and three.old is not None:
            sides.append((self.old, three.old))
        return kinds_of(sides)

    def _emptied(self, three: ThreeWay) -> bool:
        """Whether the vendor emptied what the admin left as it was: then it is spelled as the vendor spells it."""
        if three.new.own not in ("[]", "{}") or three.old is None or self.old is None:
            return False
        return same(self.old, three.old, self.mine, three.mine)

    def _field(self, three: ThreeWay, name: str, record: str, label: str) -> None:
        old = three.old.fields.get(name) if three.old else None
        mine, new = three.mine.fields.get(name), three.new.fields.get(name)
        before, here, after = _value(old), _value(mine), _value(new)
        if here == before == after:
            return
        line = self.mine.line(mine.start if mine else three.mine.start)
        if same_value(after, before):
            if not same_value(here, before):
                self.kept.append(Change(self.path, record, label, _what(before, here), before, here, line))
            return
        if same_value(here, after):
            return
        if same_value(here, before):
            self._take_field(three, mine, new, Change(self.path, record, label, _what(here, after), here, after, line))
            return
        question = self.ask(Question(self.path, record, label, before, here, after, line=line))
        self._answer_field(three, question, mine, {NEW: (self.new, new), OLD: (self.old, old)})

    def _take_field(self, three: ThreeWay, mine: Field | None, new: Field | None, change: Change) -> None:
        self.taken.append(change)
        self._write_field(three, mine, self.new, new)

    def _write_field(self, three: ThreeWay, mine: Field | None, source: Document, value: Field | None) -> None:
        if value is None:
            if mine is not None:
                self.edits.append(Edit(*mine.outer, ""))
            return
        raw = self.mine.adopt_raw(source.text[value.start : value.end], mine)
        if mine is None:
            record = three.new if source is self.new or three.old is None else three.old
            self.edits.extend(self.mine.add_field(three.mine, value, raw, (source, record)))
        else:
            self.edits.append(Edit(mine.start, mine.end, raw))

    def _answer_field(
        self,
        three: ThreeWay,
        question: Question,
        mine: Field | None,
        sides: dict[str, tuple[Document | None, Field | None]],
    ) -> None:
        if question.open or question.answer == MINE:
            return
        if question.answer in sides:
            source, value = sides[question.answer]
            self._write_field(three, mine, source or self.new, value)
            return
        text = self.mine.encode_value(typed_value(question.answer), mine)
        if mine is None:
            value = next(value for _, value in sides.values() if value is not None)
            self.edits.extend(self.mine.add_field(three.mine, value, text))
        else:
            self.edits.append(Edit(mine.start, mine.end, text))

    def _as_one(self, three: ThreeWay, record: str) -> None:
        """A record that has a plain value on one side and records inside on another is merged as one thing."""
        old = three.old
        line = self.mine.line(three.mine.start)
        before = self.old.raw(old) if self.old and old else None
        here, after = self.mine.raw(three.mine), self.new.raw(three.new)
        vendor_same = old is not None and self.old is not None and same(self.old, old, self.new, three.new)
        admin_same = old is not None and self.old is not None and same(self.old, old, self.mine, three.mine)
        if vendor_same:
            if not admin_same:
                self.kept.append(Change(self.path, record, RECORD, What.SET, before, here, line))
            return
        if admin_same:
            self.taken.append(Change(self.path, record, RECORD, What.SET, here, after, line))
            self.replace_node(three.mine, self.new, three.new)
            return
        question = self.ask(Question(self.path, record, RECORD, before, here, after, line=line))
        if question.answer == NEW:
            self.replace_node(three.mine, self.new, three.new)
        elif question.answer == OLD and old is not None and self.old is not None:
            self.replace_node(three.mine, self.old, old)


def _names(three: ThreeWay) -> list[str]:
    names = dict.fromkeys(three.mine.fields)
    names.update(dict.fromkeys(three.new.fields))
    if three.old is not None:
        names.update(dict.fromkeys(three.old.fields))
    return list(names)


def _shape_differs(three: ThreeWay) -> bool:
    """A plain value here, records inside there."""
    sides = [side for side in (three.old, three.mine, three.new) if side is not None]
    return any(VALUE in side.fields for side in sides) and any(side.items for side in sides)


def _said(words: Sequence[str]) -> tuple[str | None, str | None]:
    before, after = (said or None for said in words)
    return before, after


def _value(found: Field | None) -> str | None:
    return found.value if found else None


def _what(before: str | None, after: str | None) -> What:
    if before is None:
        return What.ADDED
    return What.REMOVED if after is None else What.SET
