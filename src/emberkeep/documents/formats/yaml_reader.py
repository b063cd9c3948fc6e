"""Where the nodes of a YAML text stand: events of PyYAML, placed by a scanner of ours."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

import yaml

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.formats.bracketed import DEEPEST, ELEMENT, comment, is_vector, member
from emberkeep.documents.model import VALUE, Field, Node, Role, UnsupportedStructure
from emberkeep.errors import Place, UnreadableInput

Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


_DASH = re.compile(r"(?:\s|#[^\r\n]*(?=[\r\n]))*-(?=[ \t\r\n])")


_BETWEEN = re.compile(r"(?:\s+|#[^\r\n]*)*")


_COMMENT = re.compile(r"(?:(?<=\s)|^)#[^\r\n]*", re.MULTILINE)


LEAD = re.compile(r"[ ]*(?:[-?:] +)*")


_ASKED = re.compile(r"(?:^|(?<=[\s{,\[]))\?\s*$")


_ASKED_VALUE = re.compile(r"\s*:(?=\s)")


_LINE_ENDS = re.compile(r"[ \t]*,?[ \t]*(?:#[^\r\n]*)?[\r\n]")


_ODD_BLOCK = re.compile(r"[|>][-+0-9]*[+0-9]")


_NOT_PLAIN = re.compile(r"\t|^---[ \t]+\S|(?:^|[\s{,\[])\?\s|[\]}]\s*:(?:\s|$)", re.MULTILINE)


_TOP_KEY = re.compile(r"^[^\s#-]", re.MULTILINE)


_FEW = 8
"""Keys of a file with fewer at the top hold lists, which are read; the blocks in these wait."""


class NotPlainError(Exception):
    """Something that only a reader of the whole can deal with."""


def waits_from(text: str) -> int:
    """How deep a block has to lie to be passed over at first."""
    if _NOT_PLAIN.search(text):
        return DEEPEST
    tops = sum(1 for _ in zip(range(_FEW + 1), _TOP_KEY.finditer(text), strict=False))
    return 2 if 0 < tops <= _FEW else 1


@dataclass
class YamlReader:
    """Turns events into nodes; ``event`` is the one at the cursor, over ``start`` to ``end``."""

    source: Text
    name: str
    shift: int
    events: Iterator[Any]
    event: Any = None
    start: int = 0
    end: int = 0
    kinds: dict[int, str] = field(default_factory=dict)
    indents: dict[int, str] = field(default_factory=dict)
    inside: set[int] = field(default_factory=set)
    spans: list[tuple[int, int]] = field(default_factory=list)
    anchors: set[str] = field(default_factory=set)
    opened: dict[int, int] = field(default_factory=dict)
    unfit: UnsupportedStructure | None = None
    """Why lines must do, where the rest is read all the same, for what is not valid in it."""
    asks: bool = False
    """Whether a key may stand behind a question mark."""
    waits: int = DEEPEST
    """How deep a block has to lie to be passed over at first."""

    def root(self) -> Node:
        """What all stands in. UnsupportedStructure for what lines must do."""
        self._next()
        self._next()
        text = self.source.text
        self.asks = "?" in text
        if isinstance(self.event, yaml.StreamEndEvent):
            root = Node(Role.RECORD, "", len(text), len(text))
            root.items.extend(self._comments(self.shift, len(text), -1, []))
            return root
        if self.event.explicit and self.event.tags:
            raise self._unsuited("a %TAG line", self.start)
        after = self.end if self.event.explicit else self.shift
        self._next()
        root = self._value("", self.start, 0, after)
        self._next()
        if not isinstance(self.event, yaml.StreamEndEvent):
            raise self._unsuited("several documents", self.start)
        self.require_fit()
        return root

    def require_fit(self) -> None:
        """UnsupportedStructure where something that was read makes it so."""
        if self.unfit is not None:
            raise self.unfit

    def _unsuited(self, why: str, at: int) -> UnsupportedStructure:
        return UnsupportedStructure(why, Place(self.name, *position(self.source.text, at)))

    def _next(self) -> None:
        event = self.event = next(self.events)
        self.start = event.start_mark.index + self.shift
        self.end = event.end_mark.index + self.shift

    def _value(self, name: str, start: int, depth: int, after: int, *, flow: bool = False) -> Node:
        """The value at the cursor as a record called ``name`` that begins at ``start``, anywhere behind ``after``."""
        if depth > DEEPEST:
            place = Place(self.name, *position(self.source.text, self.start))
            raise UnreadableInput("not valid YAML: nested too deeply", place=place)
        event: Any = self.event
        if isinstance(event, (yaml.MappingStartEvent, yaml.SequenceStartEvent)):
            self._anchored()
            if event.flow_style:
                return self._flow(name, start, depth, outermost=not flow)
            if depth >= self.waits:
                return self._later(name, start, depth, after)
            return self._block(name, start, depth, after)
        span = (self.start, self._scalar_end())
        if isinstance(event, yaml.AliasEvent):
            if event.anchor not in self.anchors:
                place = Place(self.name, *position(self.source.text, span[0]))
                raise UnreadableInput(f"not valid YAML: nothing is anchored as {event.anchor}", place=place)
            value = f"*{event.anchor}"
        else:
            self._anchored()
            value = self._spelled(event, self.source.text[span[0] : span[1]], flow=flow)
        self._next()
        return member(name, start, span, value)

    def _anchored(self) -> None:
        if self.event.anchor:
            self.anchors.add(self.event.anchor)

    def _scalar_end(self) -> int:
        start, end = self.start, self.end
        return start + len(self.source.text[start:end].rstrip())

    def _spelled(self, event: Any, raw: str, *, flow: bool) -> str:
        marks = [f"!{event.tag.removeprefix('!')}"] if event.tag else []
        marks += [f"&{event.anchor}"] if event.anchor else []
        if event.style in ("|", ">") and _ODD_BLOCK.search(raw.split("\n", 1)[0]):
            raise self._unsuited(
                "a text block that says its indentation or keeps the blank lines behind it", self.start
            )
        if flow and not event.style and "\n" in raw:  # no telling it from values between which a comma is lacking
            self.unfit = self.unfit or self._unsuited("a plain text of several lines between brackets", self.start)
        quoted = event.style in ("'", '"') and not is_plain_text(event.value)
        value = json.dumps(event.value, ensure_ascii=False) if quoted else event.value
        return " ".join([*marks, value]) if value or marks else ""

    # --- flow ----------------------------------------------------------------

    def _flow(self, name: str, start: int, depth: int, *, outermost: bool) -> Node:
        text = self.source.text
        is_map = isinstance(self.event, yaml.MappingStartEvent)
        low, opened = self.start, self.end
        self._next()
        items: list[Node] = []
        at = opened
        while not isinstance(self.event, (yaml.MappingEndEvent, yaml.SequenceEndEvent)):
            items += self._flow_comments(at, self.start, items)
            here = self._asked_at() if is_map else self.start
            label = self._key(asked=here < self.start, flow=True) if is_map else ELEMENT
            node = self._value(label, here, depth + 1, here, flow=True)
            items.append(node)
            at = max(node.end, here)
        high = self.end
        items += self._flow_comments(at, high - 1, items)
        self._next()
        if outermost:
            self.spans.append((low, high))
        prefix = text[low : opened - 1]
        if not items:
            return member(name, start, (low, high), prefix + ("{}" if is_map else "[]"))
        if not is_map and not prefix and is_vector(items):
            return member(name, start, (low, high), f"[{', '.join(str(item.own) for item in items)}]")
        self.inside.update(id(item) for item in items if item.role is Role.RECORD)
        self.indents.update((id(item), self._continued(item)) for item in items if self._ends_line(item))
        node = Node(Role.RECORD, name, start, high, inner=(opened, high - 1), items=items, named=name != ELEMENT)
        self.kinds[id(node)] = "{flow" if is_map else "[flow"
        return node

    def _ends_line(self, item: Node) -> bool:
        return _LINE_ENDS.match(self.source.text, item.end) is not None

    def _continued(self, item: Node) -> str:
        """The indentation of a line that follows an item between brackets: its own, or deeper than the line's."""
        own = layout.indent_at(self.source.text, item.start)
        return layout.line_indent(self.source.text, item.start) + "  " if own is None else own

    def _flow_comments(self, low: int, high: int, items: list[Node]) -> list[Node]:
        found: list[Node] = []
        if self.source.text.find("#", low, high) < 0:
            return found
        for span in (match.span() for match in _COMMENT.finditer(self.source.text, low, high)):
            found.append(comment(self.source.text, span, found or items, "#"))
        return found

    def _asked_at(self) -> int:
        """Where the question mark of the key at the cursor stands; the key itself where it has none."""
        text = self.source.text
        line = layout.line_start(text, self.start)
        found = _ASKED.search(text[line : self.start]) if self.asks else None
        return self.start if found is None else line + found.start()

    def _key(self, *, asked: bool, flow: bool = False) -> str:
        if not isinstance(self.event, yaml.ScalarEvent) or self.event.tag:
            raise self._unsuited("a key that is no plain text", self.start)
        if "\n" in self.source.text[self.start : self._scalar_end()] and (not asked or (flow and not self.event.style)):
            raise self._unsuited("a key of several lines", self.start)
        self._anchored()
        key = str(self.event.value)
        self._next()
        return key

    # --- blocks --------------------------------------------------------------

    def _block(self, name: str, start: int, depth: int, after: int) -> Node:
        text = self.source.text
        is_map = isinstance(self.event, yaml.MappingStartEvent)
        self._next()
        items: list[Node] = []
        at, column = after, -1
        while not isinstance(self.event, (yaml.MappingEndEvent, yaml.SequenceEndEvent)):
            here = self._asked_at() if is_map else self._dash(at)
            if column < 0:
                column = _column(text, here)
                if "\t" in text[here - column : here] or not LEAD.fullmatch(text[here - column : here]):
                    raise self._unsuited("a block that begins behind something else", here)
            items += self._comments(at, here, column, items)
            asked = is_map and here < self.start
            behind = self._behind_key(asked=asked) if is_map else here + 1
            below = self._below_key(here) if is_map and not asked else behind
            label = self._key(asked=asked) if is_map else ELEMENT
            node = self._value(label, here, depth + 1, below)
            self.opened[id(node)] = behind
            items.append(node)
            at = node.end
        items += self._comments(at, self.end, column, items)
        self._next()
        first, end = items[0].start, max(item.end for item in items)
        start = min(start, first)  # of the document, comments may stand above its first key
        node = Node(Role.RECORD, name, start, end, inner=(first, end), items=items, named=name != ELEMENT)
        self.kinds[id(node)] = "{block" if is_map else "[block"
        self.indents.update((id(item), " " * column) for item in items)
        return node

    # --- blocks that wait ----------------------------------------------------

    def _later(self, name: str, start: int, depth: int, after: int) -> Node:
        """The block at the cursor, to be read when somebody asks what it holds; at once where comments stand about
        it."""
        is_map = isinstance(self.event, yaml.MappingStartEvent)
        low = self.start
        end = self._passed(depth)
        high = self.end
        self._next()
        part = _Part(self, low, high, depth, after)
        text = self.source.text
        if text.find("#", after, low) >= 0 or text.find("#", end, high) >= 0:
            return part.node(name, start)
        node = Node(Role.RECORD, name, start, end, inner=(low, end), load=part.load, named=name != ELEMENT)
        node.peek = self._peek if is_map else None
        self.kinds[id(node)] = "{block" if is_map else "[block"
        return node

    def _passed(self, depth: int) -> int:
        """Pass over the block at the cursor, up to the event that ends it; where what it holds ends."""
        level, deepest, last = 1, 1, self.event
        for event in self.events:
            kind = type(event)
            if kind is yaml.ScalarEvent:
                last = event
                if event.tag is not None or event.anchor is not None or event.style:
                    self._only_plain(event)
            elif kind in _STARTS:
                level += 1
                deepest = max(deepest, level)
                if event.tag is not None or event.anchor is not None:
                    raise NotPlainError
            elif kind is yaml.AliasEvent:
                raise NotPlainError
            else:
                level -= 1
                if event.end_mark.index > event.start_mark.index:
                    last = event  # a bracket
                if not level:
                    break
        if depth + deepest > DEEPEST:
            raise NotPlainError
        self.event, self.start, self.end = event, event.start_mark.index + self.shift, event.end_mark.index + self.shift
        first, behind = last.start_mark.index + self.shift, last.end_mark.index + self.shift
        return int(first) + len(self.source.text[first:behind].rstrip())

    def _only_plain(self, event: Any) -> None:
        if event.tag is not None or event.anchor is not None:
            raise NotPlainError
        if event.style in ("'", '"'):
            if event.start_mark.line != event.end_mark.line:
                raise NotPlainError  # its lines may look like entries
            return
        start, end = (mark.index + self.shift for mark in (event.start_mark, event.end_mark))
        if _ODD_BLOCK.search(self.source.text[start:end].split("\n", 1)[0]):
            raise NotPlainError

    def _peek(self, nodes: Sequence[Node], name: str) -> list[str | None]:
        """The plain values of a key of blocks, which are not read for it."""
        return [self._value_of(node, name) for node in nodes]

    def _value_of(self, node: Node, name: str) -> str | None:
        if node.waits and node.inner is not None:
            text, (low, end) = self.source.text, node.inner
            column = _column(text, low)
            first, line = _plain_entry(name, column)
            found = first.match(text, low, end) or line.search(text, low, end)
            if found is not None:
                return found[1]
        return next((item.own for item in node.items if item.role is Role.RECORD and item.name == name), None)

    def _behind_key(self, *, asked: bool) -> int:
        """Behind the colon of the key at the cursor, which stands on a line of its own where a question mark asks."""
        if not asked:
            return self.source.text.index(":", self.end) + 1
        found = _ASKED_VALUE.match(self.source.text, self._scalar_end())
        if found is None:
            raise self._unsuited("a key behind a question mark whose value is not below it", self.start)
        return found.end()

    def _below_key(self, here: int) -> int:
        """Behind the line of a key: what stands there is a value or a comment of nobody's."""
        return layout.line_end(self.source.text, here)

    def _dash(self, at: int) -> int:
        found = _DASH.match(self.source.text, at)
        if found is None or found.end() > max(self.start, at + 1) + 1:
            raise self._unsuited("a list whose dashes are not where they are looked for", at)
        return found.end() - 1

    def _comments(self, low: int, high: int, column: int, items: list[Node]) -> list[Node]:
        """Comments between two entries that belong to this block: those in its column or deeper, and trailing ones."""
        text = self.source.text
        found: list[Node] = []
        if text.find("#", low, high) < 0:
            return found
        gap = _BETWEEN.match(text, low, high)
        for match in _COMMENT.finditer(text, low, gap.end() if gap else low):
            node = comment(text, match.span(), found or items, "#")
            stands = len(text[layout.line_start(text, node.start) : node.start])
            if not node.trailing and stands < column:
                break
            if not node.trailing and layout.indent_at(text, node.start) is None:
                continue
            found.append(node)
        return found


def _column(text: str, at: int) -> int:
    """How far into its line something stands; a byte-order mark is none of it."""
    return len(text[layout.line_start(text, at) : at].lstrip(BOM))


_STARTS = frozenset({yaml.MappingStartEvent, yaml.SequenceStartEvent})


@lru_cache(maxsize=64)
def _plain_entry(name: str, column: int) -> tuple[re.Pattern[str], re.Pattern[str]]:
    """A key's plain value of one word that ends with its line, where the key is the first of its block, and where it
    stands on a line of its own in a column. What follows is no deeper, so that the value does not go on there."""
    entry = rf"{re.escape(name)}:[ ]+([\w./+-]+)(?=(?:[ ]*\r?\n)+[ ]{{0,{column}}}[^\s#]|\s*\Z)"
    return re.compile(entry), re.compile(rf"\n[ ]{{{column}}}{entry}")


@dataclass(frozen=True)
class _Part:
    """A block from ``low`` to ``high`` that is parsed by itself."""

    whole: YamlReader
    low: int
    high: int
    depth: int
    after: int

    def node(self, name: str, start: int) -> Node:
        """The block as a record called ``name`` that begins at ``start``."""
        text = self.whole.source.text
        column = _column(text, self.low)
        snippet = " " * column + text[self.low : self.high]
        shift = self.low - column
        reader = replace(self.whole, shift=shift, events=yaml.parse(snippet, Loader=Loader), waits=self.depth + 1)
        for _ in range(3):
            reader._next()
        node = reader._block(name, start, self.depth, self.after)
        reader.require_fit()
        return node

    def load(self, node: Node) -> tuple[dict[str, Field], list[Node]]:
        """What the block holds."""
        try:
            read = self.node(node.name, node.start)
        except UnsupportedStructure:  # it was thought to be plain: as one value it can still be told and replaced
            raw = self.whole.source.text[node.start : node.end]
            return {VALUE: Field(VALUE, raw, node.start, node.end, (node.start, node.end))}, []
        del self.whole.kinds[id(read)]  # of a node that nobody keeps: another one may get its id
        return read.fields, read.items


def is_plain_text(value: str) -> bool:
    """Whether a text may stand without quotes and stay a text."""
    value = value.strip("\n")
    if "\n" in value:
        return True  # a text of several lines is one in any spelling
    if not value or value != value.strip():
        return False
    resolvers = yaml.resolver.Resolver.yaml_implicit_resolvers
    choices = [*resolvers.get(value[0], []), *resolvers.get(None, [])]
    return not any(pattern.match(value) for _, pattern in choices)
