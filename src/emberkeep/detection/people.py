"""Lists of people in any format: who is in them, by id, and what they are called."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from emberkeep.detection.recurring import LOOKED_THROUGH, SAMPLE, entries_in_lines
from emberkeep.documents import registry
from emberkeep.documents.model import Role, facts, plain_fields
from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import Kind, Tree, read
from emberkeep.inventory.probe import ADDRESS, GLANCE, beginning_of_text, content_kind, is_identifier, json_value

NAME = re.compile(r"[^\W\d]\w{2,31}")
"""What people are called."""
KEY = "[key]"
"""Under which the key of a record stands that has one."""
FEW_BESIDE = 3
"""Keys of an object that holds a list, and what tells of it."""
MOSTLY_OTHERS = 0.8
"""Share of names in a list that are different ones, at least: some people share a name."""
MOST = 300
"""Records of a list that are looked at to see what it is."""


def are_names(values: Iterable[str]) -> bool:
    """Whether values look like what people are called: words with a capital, each another."""
    some = list(values)[:SAMPLE]
    return sum(NAME.fullmatch(value) is not None and value[:1].isupper() for value in some) >= 0.9 * len(some)


def listed_people(tree: Tree, paths: Iterable[str], *, lists_alone: bool = False) -> dict[str, str]:
    """Everybody in the lists of people among ``paths``, by id, with what they are called, "" where nothing tells.
    ``lists_alone``: of those files alone in which each record has an id or an address."""
    found: dict[str, str] = {}
    for path in paths:
        entry = tree.entries()[path]
        if entry.kind is not Kind.FILE or entry.size > LOOKED_THROUGH:
            continue
        try:
            records = records_of(path, read(tree, path))
        except (EmberKeepError, ValueError, RecursionError):
            continue
        for ident, name in _ids_and_names(records) if not lists_alone or is_list(records) else ():
            if ident and not ADDRESS.fullmatch(ident):
                found[ident] = name or found.get(ident, "")
    return found


def is_list(records: Sequence[Mapping[str, str]]) -> bool:
    """Whether each record says an id or an address."""
    named = [
        any(is_identifier(value) or ADDRESS.fullmatch(value) for value in record.values()) for record in records[:MOST]
    ]
    return bool(named) and all(named)


def records_of(path: str, data: bytes) -> list[dict[str, str]]:
    """What a list of people says of each, whatever its format."""
    kind = content_kind(path, data[:GLANCE])
    if kind == "json":
        value = json_value(data)
        inner = next(iter(value.values())) if isinstance(value, dict) and len(value) == 1 else value
        if isinstance(inner, dict) and all(isinstance(item, dict) for item in inner.values()):
            return [{KEY: key, **_plain(item)} for key, item in inner.items()]
        if isinstance(inner, dict):  # a list, beside what tells of it
            lists = [item for item in inner.values() if isinstance(item, list) and item]
            inner = lists[0] if len(lists) == 1 and len(inner) <= FEW_BESIDE else None
        if not isinstance(inner, list):
            return []
        return [_plain(item) if isinstance(item, dict) else {"id": str(item)} for item in inner]
    if kind in ("xml", "yaml", "toml", "ini"):
        document = registry.parse(path, data)
        tops = [item for item in document.root.items if item.role is Role.RECORD] if document else []
        under_headers = [(name, field.value) for item in tops for name, field in plain_fields(item).items()]
        if under_headers and all(is_identifier(name) for name, _ in under_headers):
            return [{KEY: name, "name": value} for name, value in under_headers]
        tops = [item for item in tops[0].items if item.role is Role.RECORD] if len(tops) == 1 else tops
        records = [{name.rpartition("/")[2]: min(values) for name, values in facts(item).items()} for item in tops]
        if any(records) and len({item.name for item in tops}) == len(tops) > 1:
            records = [{KEY: item.name.strip("[]")} | record for item, record in zip(tops, records, strict=True)]
        if any(records):
            return records
    return entries_in_lines(beginning_of_text(data) or "")


def _plain(item: Mapping[str, Any]) -> dict[str, str]:
    return {str(key): str(value) for key, value in item.items() if isinstance(value, (str, int))}


def _ids_and_names(listed: Sequence[dict[str, str]]) -> list[tuple[str, str]]:
    """Each person's id and name, "" where there is none, by the keys under which most have theirs: an id is another
    for each, and looks like one or at least not like a name. Who is in a list by name is called so; what several share,
    as a rank or a password, is nobody's name."""
    some = listed[:SAMPLE]
    held = {key: [person[key] for person in some if key in person] for person in some for key in person}
    whole = {key: values for key, values in held.items() if len(set(values)) == len(values) >= 0.9 * len(some)}
    ids = [key for key, values in held.items() if any(is_identifier(value) for value in values)]
    ids += [key for key, values in whole.items() if not are_names(values) and len(some) > 1]  # one alone tells nothing
    ident = next(iter(ids), next(iter(whole), ""))
    candidates = [key for key, values in held.items() if key != ident and all(map(NAME.fullmatch, values))]
    shared = {key for key in candidates if len(set(held[key])) < MOSTLY_OTHERS * len(held[key])}
    by_name = ident not in ids
    name = "" if by_name else next((key for key in candidates if key not in shared), "")
    return [(person.get(ident, ""), person.get(name, "")) for person in listed]
