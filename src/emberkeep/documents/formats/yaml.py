"""YAML 1.1 with spans: PyYAML's parser tells its events and where they begin; aliases are never expanded.

A key of a mapping is a record known by its name; an entry of a sequence is a record named ``[]``, recognised by what
it holds. A scalar is the own field: plain ones as written, quoted ones in JSON's quotes where, plain, they would not be
a text (``"10"``), and with their tag or anchor in front. A flow collection works as in JSON. Comments are items of
the block they stand in; one behind a key that opens a block is nobody's.

A file is parsed once, for whether it is well-formed; of plain files blocks are passed over then, and parsed again by
themselves when somebody asks what they hold. Plain is what has no anchors, tags, tabs, odd keys or odd text blocks:
all others are read whole.

What cannot be edited safely as records is ``UnsupportedStructure`` and taken line by line: several documents in one
file, keys that are no scalars, block scalars that keep trailing blank lines or say their own indentation.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence

import yaml

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.formats.bracketed import BracketedDocument, Token
from emberkeep.documents.formats.yaml_reader import LEAD, Loader, NotPlainError, YamlReader, is_plain_text, waits_from
from emberkeep.documents.model import VALUE, Edit, Field, Node
from emberkeep.errors import Place, UnreadableInput

_PLAIN_TEXT = re.compile(r"[A-Za-z_][\w./+-]*(?: [\w./+-]+)*")
_TOKEN = re.compile(
    r"(?P<space>\s+|\?(?=\s)|[&!][^\s,\[\]{}]*)"
    r"|(?P<comment>(?<=\s)#[^\r\n]*)"
    r'|(?P<string>"(?:[^"\\]|\\.)*"|\'(?:[^\']|\'\')*\')'
    r"|(?P<mark>[{}\[\],]|:(?=[\s,\[\]{}])|(?<=[\"']):)"
    r"|(?P<plain>(?:[^\s,\[\]{}:#]|:(?![\s,\[\]{}])|(?<=\S)#|[ \t]+(?=[^\s,\[\]{}:#]))+)",
    re.DOTALL,
)


def parse(source: Text, name: str) -> YamlDocument:
    """The document in ``source``. UnreadableInput says file, line, column; UnsupportedStructure where lines must do."""
    text = source.text.removeprefix(BOM)
    shift = len(source.text) - len(text)
    try:
        # The events come lazily: what goes wrong in them shows up while they are read.
        try:
            return _read(YamlReader(source, name, shift, yaml.parse(text, Loader=Loader), waits=waits_from(text)))
        except NotPlainError:
            return _read(YamlReader(source, name, shift, yaml.parse(text, Loader=Loader)))
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        at = Place(name, mark.line + 1, mark.column + 1) if mark else Place(name)
        raise UnreadableInput(f"not valid YAML: {error.problem or error.context}", place=at) from error
    except yaml.reader.ReaderError as error:
        place = Place(name, *position(source.text, min(int(error.position) + shift, len(source.text))))
        raise UnreadableInput("not valid YAML: a character that may not stand in it", place=place) from error
    except RecursionError as error:
        raise UnreadableInput("not valid YAML: nested too deeply", place=Place(name)) from error


def _read(reader: YamlReader) -> YamlDocument:
    return YamlDocument(reader.source, reader.root(), reader)


class YamlDocument(BracketedDocument):
    """A YAML document."""

    format = "yaml"
    indents_freely = False

    def __init__(self, source: Text, root: Node, read: YamlReader) -> None:
        super().__init__(source, root)
        self._kinds, self._indents = read.kinds, read.indents
        self._inside, self._spans = read.inside, read.spans
        self._opened = read.opened

    def bracketed(self, edits: Sequence[Edit] = ()) -> Iterable[tuple[int, int]]:
        """The flow collections, in order."""
        return sorted(self._spans)  # blocks that waited told of theirs later

    def tokens(self, text: str) -> Iterator[Token]:
        """Brackets, commas, comments and scalars of a flow collection."""
        for found in _TOKEN.finditer(text):
            if not found["space"]:
                yield Token(found.lastgroup or "", *found.span())

    def within(self, node: Node) -> bool:
        """Whether it stands in a flow collection."""
        return id(node) in self._inside

    def block_indent(self, node: Node) -> str | None:
        """The indentation of a block sequence or mapping, whose first item need not begin its line."""
        return self._indents.get(id(node))

    def container(self, node: Node) -> str:
        """Its kind as it was read, else its opening bracket."""
        return self._kinds.get(id(node)) or (node.own[0] if node.own in ("[]", "{}") else "")

    def encode_value(self, value: str, field: Field | None) -> str:
        """Plain where it stays what it is, else in double quotes."""
        if value.startswith('"') and value.endswith('"'):
            try:
                json.loads(value)
                return self.adopt_raw(value, field)
            except ValueError:
                pass
        plain = _PLAIN_TEXT.fullmatch(value) or (not is_plain_text(value) and re.fullmatch(r"[\w.+-]+", value))
        return self.adopt_raw(value if plain else json.dumps(value, ensure_ascii=False), field)

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        """With line ends of ours; lines behind the first moved to the indentation of the place."""
        raw = layout.with_newlines(raw, self.source.newline)
        if field is None:
            return raw
        if "\n" in raw or "\r" in raw:
            raw = self._indented(raw, field)
        needs_space = field.start == field.end and self.text[field.start - 1 : field.start] in (":", "-")
        return f" {raw}" if needs_space and raw else raw

    def _indented(self, raw: str, field: Field) -> str:
        """The lines of a value behind its first, moved to where those of the value of ``field`` stand, else within its
        place."""
        first, *rest = raw.split(self.source.newline)
        least = _least_indent(rest)
        if least is None:
            return raw
        here = _least_indent(self.text[field.start : field.end].split(self.source.newline)[1:])
        if here is None:
            start = layout.line_start(self.text, field.start)
            lead = LEAD.match(self.text, start)
            here = len(lead[0]) if lead else 0
            here += 0 if here and start + here == field.start else 2  # an item of a list stands behind its dash
        moved = [" " * here + line[least:] if line.strip() else "" for line in rest]
        return self.source.newline.join([first, *moved])

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        """The block takes the place of an empty value, or goes to the end of an empty document."""
        newline = self.source.newline
        if VALUE in node.fields:
            if self.within(node):
                return super().open_empty(node, block, indent)
            start = node.fields[VALUE].start
            while self.text[start - 1] == " ":
                start -= 1
            return [Edit(start, node.fields[VALUE].end, newline + block)]
        at = len(self.text)
        lead = newline if self.text.strip(BOM) and not self.text.endswith(("\n", "\r")) else ""
        return [Edit(at, at, lead + block + newline)]

    def emptied(self, node: Node) -> list[Edit]:
        """``{}`` or ``[]``, as an empty block would be null."""
        empty = {"{block": "{}", "[block": "[]"}.get(self._kinds.get(id(node), ""))
        if empty is None:
            return []
        at = self._opened.get(id(node), node.start)
        return [Edit(at, at, f" {empty}" if id(node) in self._opened else empty + self.source.newline)]

    def inner_indent(self, node: Node, indent: str) -> str:
        """The same for the outermost block, else one step deeper."""
        return indent if node is self.root else super().inner_indent(node, indent)


def _least_indent(lines: Sequence[str]) -> int | None:
    """The least indentation of lines that are not blank; None where all are."""
    return min((len(line) - len(line.lstrip(" ")) for line in lines if line.strip()), default=None)
