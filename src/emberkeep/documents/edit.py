"""Single values of a file, by key: read, set, renamed, taken out, scaled; and whole records given another shape.

A key is a name, or names joined by dots for what stands inside others (``harbour.opens``); of a launch script it is a
variable (``SEED``) or an argument (``--lines``); of a text of no known format, what a single line sets, also with a
space alone (``port 28800``); of XML an element, by its tag or by the name that it gives its ``value``, or an attribute
(``net@port``). All else of the file stays as it was, to the byte.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal

from emberkeep.documents import layout, registry
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.formats import lined, script
from emberkeep.documents.model import TOP, VALUE, Document, Edit, Field, Node, Role
from emberkeep.documents.values import number, respelled
from emberkeep.errors import Place, UnreadableInput
from emberkeep.keep.toml_reader import parsed

_LITERAL = re.compile(r"-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|true|false|null|\[.*\]|\{.*\}", re.DOTALL)
_DECIMAL = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?")
VALUE_ATTRIBUTE = "@value"
"""The attribute that holds what an element without text is set to."""
_QUOTING = ("json", "toml")
"""Formats in which a text stands in quotes."""


def unquoted(value: str) -> str:
    """A value without the quotes that its format puts around texts."""
    if len(value) < 2 or value[0] != value[-1] or value[0] not in "\"'":
        return value
    if value[0] == '"':
        try:
            parsed = json.loads(value)
        except ValueError:
            return value[1:-1]
        return parsed if isinstance(parsed, str) else value
    return value[1:-1]


def value(path: str, data: bytes, key: str) -> str | None:
    """What a key's value is, without quotes; None when there is no such key, or the file cannot be read."""
    try:
        found = File(path, data).find(key)
    except UnreadableInput:
        return None
    return unquoted(found.value) if found else None


def line(path: str, data: bytes, key: str) -> int | None:
    """The 1-based line that a key's value stands on."""
    opened = File(path, data)
    found = opened.find(key)
    return opened.source.text.count("\n", 0, found.start) + 1 if found else None


def set_value(path: str, data: bytes, key: str, wanted: str, *, unless_present: bool = False) -> bytes:
    """The file with a key set; a key that is missing is added at the end of what it belongs to.

    UnreadableInput for a file that has no keys, or where there is no place for this one.
    """
    opened = File(path, data)
    found = opened.find(key)
    if found is None:
        return opened.written(opened.added(key, wanted))
    if unless_present or unquoted(found.value) == wanted:
        return data
    return opened.written([Edit(found.start, found.end, opened.spelled(wanted, found))])


def rename_key(path: str, data: bytes, key: str, new: str) -> bytes:
    """The file with a key called otherwise; as it is when the key is not there."""
    opened = File(path, data)
    node = opened.node(key)
    if node is None:
        return data
    return opened.written(rename_edits(opened.require_document(), node, new))


def remove_key(path: str, data: bytes, key: str) -> bytes:
    """The file without a key; as it is when the key is not there."""
    opened = File(path, data)
    document = opened.document
    if opened.script is not None:
        return opened.written(opened.script_removal(key))
    if document is None:
        found, text = opened.find(key), opened.source.text
        whole = (layout.line_start(text, found.start), layout.line_end(text, found.end)) if found else (0, 0)
        return opened.written([Edit(*whole, "")] if found else [])
    node = opened.node(key)
    return data if node is None else opened.written(layout.removals(document, [node]))


def scale_value(path: str, data: bytes, key: str, factor: Decimal) -> bytes:
    """The file with a number multiplied. UnreadableInput when the key is there and is no number."""
    opened = File(path, data)
    found = opened.find(key)
    if found is None:
        return data
    exact = number(unquoted(found.value))
    if exact is None:
        raise UnreadableInput(f"{key} = {found.value} is no number", place=opened.place(found.start))
    wanted = respelled(exact * factor, unquoted(found.value))
    return opened.written([Edit(found.start, found.end, opened.spelled(wanted, found))])


class File:
    """A file whose values are edited. ``document``: None for a launch script, and for a text of no known format."""

    def __init__(self, path: str, data: bytes) -> None:
        self.path = path
        source = decode(data)
        if source is None:
            raise UnreadableInput("this file is no text", place=Place(path))
        self.source: Text = source
        self.document: Document | None = registry.parse(path, data)
        self.script: script.Script | None = None
        self.settings: list[Field] = []
        language = script.language(path, source.text) if self.document is None else ""
        self.spaced = [] if language else lined.spaced(self.document, source.text)
        if self.spaced:
            self.document, self.settings = None, self.spaced
        elif self.document is None:
            self.script = script.parse(source.text, language) if language else None
            self.settings = [] if language else list(lined.settings(source.text))
            if not language and not self.settings:
                raise UnreadableInput("this file has no keys and values that we know", place=Place(path))

    def place(self, at: int) -> Place:
        """Where an offset stands, for faults."""
        return Place(self.path, self.source.text.count("\n", 0, at) + 1)

    def require_document(self) -> Document:
        """The document. UnreadableInput where the file has no format of ours."""
        if self.document is None:
            what = "a launch script" if self.script else "a file of no known format"
            raise UnreadableInput(f"names in {what} cannot be changed", place=Place(self.path))
        return self.document

    def written(self, edits: Sequence[Edit]) -> bytes:
        """The bytes of the file with edits made."""
        if not edits:
            return self.source.encode(self.source.text)
        if self.document is not None:
            return self.source.encode(layout.finished(self.document, edits))
        text = self.source.text
        for edit in sorted(edits, reverse=True):
            text = text[: edit.start] + edit.text + text[edit.end :]
        return self.source.encode(text)

    def find(self, key: str) -> Field | None:
        """The field that holds a key's value."""
        if self.script is not None:
            return next(self._script_fields(key), None)
        if self.document is None:
            found = [field for field in self.settings if field.name == key]
            return found[0] if len(found) == 1 else None
        node = self.node(key)
        return node.fields.get(VALUE) or node.fields.get(VALUE_ATTRIBUTE) if node is not None else self._attribute(key)

    def _script_fields(self, key: str) -> Iterator[Field]:
        assert self.script is not None
        text = self.source.text
        for variable in self.script.variables:
            if variable.name == key:
                span = variable.start, variable.end
                yield Field(key, text[slice(*span)], *span, span)
        for command in self.script.commands:
            for argument in command.arguments:
                if argument.name == key and argument.value_end > argument.value_start:
                    span = argument.value_start, argument.value_end
                    yield Field(key, text[slice(*span)], *span, span)

    def node(self, key: str) -> Node | None:
        """The record that a key names, however many of its dots belong to one name."""
        return _inside(self.document.root, key) if self.document else None

    def _attribute(self, key: str) -> Field | None:
        """A key whose last part is an attribute, as ``stores.good@worth``."""
        above, mark, name = key.rpartition("@")
        if self.document is None or not mark:
            return None
        node = _inside(self.document.root, above) if above else self.document.root
        return node.fields.get(f"@{name}") if node is not None else None

    def spelled(self, wanted: str, like: Field) -> str:
        """A value as the format spells it, quoted where the one it replaces is."""
        if self.document is None:
            quote = like.value[:1] if like.value[:1] in ("'", '"') else ""
            if not quote and not self.spaced and re.search(r"[\s\"'&|<>;$`]", wanted):
                quote = '"'
            return f"{quote}{wanted}{quote}"
        return self.document.encode_value(_quoted(self.document, wanted, like.value), like)

    def added(self, key: str, wanted: str) -> list[Edit]:
        """A new key at the end of the record it belongs to."""
        if self.document is None:
            what = "launch script" if self.script else "file, or it is there more than once"
            raise UnreadableInput(
                f"there is no {key} in this {what}", place=Place(self.path), hint="write it in by hand once"
            )
        above, _, name = key.rpartition(".")
        container = _inside(self.document.root, above) if above else top(self.document.root)
        if container is None:
            container, name = top(self.document.root), key
        return insert(self.document, container, {name: wanted})

    def script_removal(self, key: str) -> list[Edit]:
        """The edits that take a variable or an argument out of a script."""
        assert self.script is not None
        text = self.source.text
        for variable in self.script.variables:
            if variable.name == key:
                return [Edit(layout.line_start(text, variable.start), layout.line_end(text, variable.end), "")]
        for command in self.script.commands:
            for argument in command.arguments:
                if argument.name == key:
                    return [Edit(argument.start, argument.end, "")]
        return []


def named_by_attribute(item: Node) -> str:
    """The name that an element gives its value, as ``<property name="port" value="27800"/>`` does; "" for none."""
    if VALUE_ATTRIBUTE not in item.fields:
        return ""
    return next((item.fields[name].value for name in ("@name", "@key", "@id") if name in item.fields), "")


def top(root: Node) -> Node:
    """The record that the keys before the first header stand in."""
    return next((item for item in root.items if item.name == TOP), root)


def _inside(node: Node, key: str) -> Node | None:
    for item in node.items:
        if item.role is not Role.RECORD:
            continue
        if item.name == TOP:
            found = _inside(item, key)
            if found is not None:
                return found
            continue
        name = item.name[1:-1] if item.name[:1] == "[" and len(item.name) > 2 else item.name
        if key in (name, named_by_attribute(item)):
            return item
        if key.startswith(f"{name}."):
            found = _inside(item, key.removeprefix(f"{name}."))
            if found is not None:
                return found
    return None


def _quoted(document: Document, wanted: str, like: str) -> str:
    """A plain text as the format's own spelling of a value; ``like``: the spelling of the one it replaces, or ""."""
    if document.format == "yaml":
        plain = not like.startswith('"') and _is_plain_yaml(wanted)
        return wanted if plain else json.dumps(wanted, ensure_ascii=False)
    if document.format not in _QUOTING:  # where quotes are part of the value, they are part of the new one
        quote = like[0] if len(like) > 1 and like[0] == like[-1] and like[0] in "\"'" else ""
        return f"{quote}{wanted}{quote}"
    if like[:1] in ("'", '"'):
        return json.dumps(wanted, ensure_ascii=False)
    return wanted if _is_literal(wanted, document.format) else json.dumps(wanted, ensure_ascii=False)


def _is_literal(wanted: str, chosen: str) -> bool:
    """Whether a text looks like a number, a truth value or a list, and the format reads it as such."""
    if not _LITERAL.fullmatch(wanted):
        return False
    try:
        if chosen == "json":
            json.loads(wanted)
        else:
            parsed(f"value = {wanted}", "value")
    except (ValueError, UnreadableInput, RecursionError):
        return False
    return True


def _is_plain_yaml(wanted: str) -> bool:
    """Whether YAML reads a text as it is, or as a truth value or the number that everybody reads: to it ``007`` is 7,
    and ``12:30`` is 750."""
    import yaml  # only where YAML is written

    try:
        parsed = yaml.safe_load(f"key: {wanted}")["key"]
    except (yaml.YAMLError, TypeError, KeyError):
        return False
    return parsed == wanted or isinstance(parsed, bool) or _DECIMAL.fullmatch(wanted) is not None


_ENTRIES: Mapping[str, Callable[[str, str], str]] = {
    "json": lambda name, value: f"  {json.dumps(name)}: {value}",
    "yaml": lambda name, value: f"{name}: {value}",
    "toml": lambda name, value: f"{name} = {value}",
    "ini": lambda name, value: f"{name} = {value}",
    "properties": lambda name, value: f"{name}={value}",
    "xml": lambda name, value: f"  <{name}>{value}</{name}>",
}
_AROUND = {"json": ("{\n", ",\n", "\n}\n"), "xml": ("<r>\n", "\n", "\n</r>\n")}


def insert(document: Document, container: Node, values: Mapping[str, str]) -> list[Edit]:
    """New values by name at the end of a record. ``@name``: an attribute."""
    edits: list[Edit] = []
    entries = []
    for name, wanted in values.items():
        if name.startswith("@"):
            field = Field(name, wanted, 0, 0, (0, 0))
            edits += document.add_field(container, field, document.encode_value(wanted, field))
        else:
            entries.append(_ENTRIES[document.format](name, _spelled_anew(document, wanted)))
    return [*edits, *_put_in(document, container, entries)] if entries else edits


def _spelled_anew(document: Document, wanted: str) -> str:
    if document.format == "xml":
        return wanted.replace("&", "&amp;").replace("<", "&lt;")
    if document.format == "properties":
        return document.encode_value(wanted, None)
    return _quoted(document, wanted, "")


def _put_in(document: Document, container: Node, entries: Sequence[str]) -> list[Edit]:
    first, between, last = _AROUND.get(document.format, ("", "\n", "\n"))
    written = f"{first}{between.join(entries)}{last}"
    source = registry.parse_text("new", Text(written, "utf-8", "\n"), document.format)
    assert source is not None
    new = top(source.root).items[-len(entries) :]
    records = [item for item in container.items if not item.trailing]
    plain = [item for item in records if not item.name.startswith("[") or document.format != "ini"]
    if plain:
        return [layout.insert_after(document, plain[-1], source, new)]
    indent = layout.line_indent(document.text, container.start)
    inner = document.inner_indent(container, indent)
    return document.open_empty(container, layout.moved_block(document, source, new, inner), indent)


def rename_edits(document: Document, node: Node, new: str) -> list[Edit]:
    """The edits that give a node another name."""
    text = document.text
    if document.format == "xml":
        at = node.start + 1
        edits = [Edit(at, at + len(node.name), new)]
        closing = text.rfind(f"</{node.name}", node.start, node.end)
        if closing > 0 and not text[node.start : node.end].rstrip().endswith("/>"):
            edits.append(Edit(closing + 2, closing + 2 + len(node.name), new))
        return edits
    quote = text[node.start : node.start + 1]
    if quote in ("'", '"'):
        found = re.compile(rf"{quote}(?:[^{quote}\\]|\\.)*{quote}").match(text, node.start)
        assert found is not None
        return [Edit(node.start, found.end(), json.dumps(new, ensure_ascii=False))]
    start = text.find(node.name, node.start, node.end)
    return [Edit(start, start + len(node.name), new)] if start >= 0 else []
