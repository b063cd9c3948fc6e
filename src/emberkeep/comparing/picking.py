"""Which records of a comparison are wanted: by path or by a field's value, as ``--where`` says it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase

from emberkeep.comparing.records import Condition
from emberkeep.documents.align import items_of
from emberkeep.documents.identity import KeyRules, Path, Rule, joined
from emberkeep.documents.model import VALUE, Document, Node, Role, facts
from emberkeep.documents.values import number, same_value

_FIELD = re.compile(r"(@?[\w./-]+)(!=|=|<|>)(.*)", re.DOTALL)


def condition(text: str) -> Condition:
    """``FIELD=VALUE``, ``FIELD!=VALUE``, ``FIELD<NUMBER``, ``FIELD>NUMBER``, else a piece of the record's path.

    ``*`` in a value stands for anything. A field is an attribute or a child, ``kind/name`` one of a child, ``value``
    that of a record which is nothing but one; one side having the value is enough.
    """
    found = _FIELD.fullmatch(text)
    if found is None:
        wanted = text.lower()
        return lambda record, nodes: wanted in record.lower()
    name, sign, value = found.groups()
    test = _TESTS[sign]
    return lambda record, nodes: any(test(each, value) for node in nodes for each in _values(node, name))


def _values(node: Node, name: str) -> Iterator[str]:
    if name == "value" and VALUE in node.fields and not node.items:
        yield str(node.own).strip().strip('"')
    for text in facts(node).get(name.removeprefix("@"), ()):
        yield text.strip('"')


def _like(text: str, value: str) -> bool:
    literal = value.replace("[", "[[]")
    return same_value(text, value) or fnmatchcase(text.lower(), literal.lower())


def _orders(smaller: bool) -> Callable[[str, str], bool]:
    def test(text: str, value: str) -> bool:
        first, second = number(text), number(value)
        return first is not None and second is not None and (first < second if smaller else first > second)

    return test


_TESTS: Mapping[str, Callable[[str, str], bool]] = {
    "=": _like,
    "!=": lambda text, value: not _like(text, value),
    "<": _orders(True),
    ">": _orders(False),
}


@dataclass(frozen=True)
class TextFound:
    """A place where a text was found: the record (or line) and its 1-based line."""

    record: str
    line: int


def records_with(document: Document, text: str, rules: Mapping[str, Rule]) -> list[TextFound]:
    """Records whose identity, fields or own value hold ``text``, whatever its case; the innermost ones, in order."""
    identities = KeyRules([document], [], rules)
    return list(_found_in(document, document.root, (document.root.name,), "", text.lower(), identities))


def _found_in(
    document: Document, node: Node, path: Path, record: str, wanted: str, identities: KeyRules
) -> Iterator[TextFound]:
    if wanted not in document.raw(node).lower() and wanted not in record.lower():
        return
    fields = {} if document.container(node) else node.fields
    if any(wanted in field.value.lower() for field in fields.values()):
        yield TextFound(record, document.line(node.start))
    for item in items_of(node, path, identities):
        if item.node.role is not Role.RECORD:
            continue
        below = (*path, item.node.name)
        label = item.label(below, identities)
        plain = item.identity == () and list(item.node.fields) == [VALUE] and not item.node.items
        if plain and (wanted in label.lower() or wanted in str(item.node.own).lower()):
            yield TextFound(joined(record, label), document.line(item.node.start))
        elif not plain:
            yield from _found_in(document, item.node, below, joined(record, label), wanted, identities)
