"""Where alike values stand in a server folder, so that it can be seen which of them recur.

A place is the part of files' names that varies, the entries of a list, one field of its records, the keys of an object,
a column of a table, a setting with commas. No kind of value is meant: what the values are is judged by others.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from emberkeep.detection.context import InferenceContext
from emberkeep.documents.model import Node, Role, is_value, plain_fields
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind
from emberkeep.inventory.probe import is_identifier

SAMPLE = 50
MOST_FILES = 6
"""Members of a family of which the insides are looked at; of a larger one nothing recurs that is a player's."""
DEEPEST = 4
"""Levels of records that are looked through for values that recur."""
NAMED = ("names", "folders")
MOST_VALUES = 5000
LOOKED_THROUGH = 4 << 20
"""Bytes of a file that are looked through."""
FEWEST_LISTED = 3
"""Words of a setting with commas that are a list."""
_COMMENT = re.compile(r"(?:^|\s)(?:#|//|;|--(?=\s)).*$")
_BEHIND = re.compile(r"(?<=//)\s*[^\W\d]\w{2,31}\s*$|(?<=#)\s*[^\W\d]\w{2,31}\s*$")
"""A name in a comment behind an entry."""
_WORD = re.compile(r"\"[^\"\n]*\"|'[^'\n]*'|(?:[0-9a-fA-F]{0,4}:){2,7}[0-9a-fA-F]{0,4}|\w[\w.+-]*\w|\w")
_OPENS = re.compile(r"[{(\[]\s*$")
FIRST_LINES = 30
"""Lines of a text by which it is seen whether it is a list."""
SHORTEST_SHARD, LONGEST_SHARD = 1, 3
"""Characters of the beginnings of names by which files are laid in folders."""
_LISTED = re.compile(
    r"""^[ \t]*([\w.-]+)[ \t]*[:=][ \t]*["']?([\w. -]+(?:[,;] ?[\w. -]+){2,})["']?[ \t]*$""", re.MULTILINE
)
_MARK = re.compile(r"[^A-Za-z0-9]")


@dataclass(frozen=True)
class ValuePlace:
    """Where alike values stand. ``kind``: names, folders, list, field, keys, setting, column; ``at``: which of those;
    ``alone``: the file holds little else."""

    kind: str
    path: str
    at: str
    values: frozenset[str]
    alone: bool = False


def value_places(scene: InferenceContext) -> list[ValuePlace]:
    """All of them; of large families of files only the names."""
    found = [*_named_files(scene), *_named_folders(scene)]
    for family in scene.families:
        if len(family.members) > MOST_FILES:
            continue
        for path in family.members:
            if scene.look.size(path) <= LOOKED_THROUGH:
                found += _inside(scene, path)
    return found


def entries_in_lines(text: str) -> list[dict[str, str]]:
    """What each line of a list says: its words by their number and the mark before them (``0``, ``1=``), the name in a
    comment behind it under ``#``. Of a single line with one mark between its words, each is an entry."""
    found: list[dict[str, str]] = []
    for line in text.splitlines():
        entry = _COMMENT.sub("", line).strip()
        words = _words(entry)
        if not words or (len(words) == 1 and _OPENS.search(entry)) or _is_section(entry):
            continue
        behind = _BEHIND.search(line)
        found.append(words | ({"#": behind[0].strip()} if behind else {}))
    if len(found) > 2 and _is_header(found):
        del found[0]
    if len(found) == 1 and len(found[0]) > 2:
        marks = {key.lstrip("0123456789") for key in list(found[0])[1:]}
        if len(marks) == 1:
            return [{"0": word} for word in found[0].values()]
    return found


def _is_section(entry: str) -> bool:
    """Whether a line says what those below it are, as in INI: no entry of a list."""
    return entry[:1] == "[" and entry[-1:] == "]" and not is_identifier(entry[1:-1].strip("\"'"))


def first_entries(text: str) -> list[dict[str, str]]:
    """The same of a text's first lines."""
    return entries_in_lines("\n".join(text.split("\n", FIRST_LINES)[:FIRST_LINES]))


def _is_header(rows: Sequence[Mapping[str, str]]) -> bool:
    """Whether the first row tells what the columns are called: a word where all others have ids or numbers."""
    return any(
        not any(char.isdigit() for char in word) and all(is_identifier(row.get(key, "")) for row in rows[1:])
        for key, word in rows[0].items()
    )


def _words(entry: str) -> dict[str, str]:
    words: dict[str, str] = {}
    end = 0
    for number, word in enumerate(_WORD.finditer(entry)):
        words[f"{number}{entry[end : word.start()].strip()}"] = word[0].strip("\"'")
        end = word.end()
    return words


def varying(names: Sequence[str]) -> tuple[str, str]:
    """What the names of siblings begin and end with, up to a mark that parts words."""
    first, last = _common(names), _common([name[::-1] for name in names])[::-1]
    least = min(map(len, names))
    at = max((found.end() for found in _MARK.finditer(first)), default=0)
    end = next((found.start() for found in _MARK.finditer(last)), len(last))
    before, behind = first[:at], last[end:]
    return (before, behind) if len(before) + len(behind) < least else ("", behind)


def _common(names: Sequence[str]) -> str:
    low, high = min(names), max(names)
    return low[: next((at for at, (one, other) in enumerate(zip(low, high, strict=False)) if one != other), len(low))]


def _named_files(scene: InferenceContext) -> Iterator[ValuePlace]:
    by_end: dict[tuple[str, str], list[str]] = defaultdict(list)
    for path in scene.paths:
        if scene.tree.entries()[path].kind is Kind.FILE:
            folder, _, name = path.rpartition("/")
            by_end[folder, name[name.rfind(".") :] if "." in name else ""].append(name)
    for (folder, _), names in by_end.items():
        yield from _varying_place("names", folder, names)
    yield from _sharded(by_end)


def _sharded(by_end: Mapping[tuple[str, str], Sequence[str]]) -> Iterator[ValuePlace]:
    """Files that are laid in folders by how their names begin."""
    over: dict[tuple[str, str], list[str]] = defaultdict(list)
    broken: set[str] = set()
    for (folder, ending), names in by_end.items():
        parent, _, shard = folder.rpartition("/")
        if not SHORTEST_SHARD <= len(shard) <= LONGEST_SHARD:
            continue
        if all(name.lower().startswith(shard.lower()) and len(name) > len(shard) + len(ending) for name in names):
            over[parent, ending] += names
        else:
            broken.add(parent)
    for (parent, ending), names in over.items():
        if len(names) > 1 and parent not in broken:
            values = frozenset(name.removesuffix(ending) for name in names)
            yield ValuePlace("names", parent, f"*/*{globs.escape(ending)}", values, alone=True)


def _named_folders(scene: InferenceContext) -> Iterator[ValuePlace]:
    inside: dict[str, list[str]] = defaultdict(list)
    for path in scene.folders:
        folder, _, name = path.rpartition("/")
        inside[folder].append(name)
    for folder, names in inside.items():
        yield from _varying_place("folders", folder, names)


def _varying_place(kind: str, folder: str, names: Sequence[str]) -> Iterator[ValuePlace]:
    if len(names) < 2:
        return
    before, behind = varying(names)
    values = frozenset(name[len(before) : len(name) - len(behind)] for name in names)
    letters = re.match(r"[A-Za-z]*", _common(list(values)))
    if letters and letters[0] and all(is_identifier(value.removeprefix(letters[0])) for value in values):
        before += letters[0]  # nothing parts them from the ids
        values = frozenset(value.removeprefix(letters[0]) for value in values)
    yield ValuePlace(kind, folder, f"{globs.escape(before)}*{globs.escape(behind)}", values, alone=True)


def _inside(scene: InferenceContext, path: str) -> Iterator[ValuePlace]:
    kind = scene.look.kind(path)
    if kind == "json":
        value = scene.look.json(path)
        inner = next(iter(value.values())) if isinstance(value, dict) and len(value) == 1 else value
        yield from _in_json(path, value, "", 0, alone=_is_flat_list(inner) or _is_keyed_list(inner))
    elif kind == "sqlite":
        for table, columns in scene.look.columns(path).items():
            for column, values in columns.items():
                if len(values) >= 2:
                    yield ValuePlace("column", path, f"{table}.{column}", frozenset(values))
    elif kind in ("xml", "yaml", "toml", "ini"):
        document = scene.document(path)
        if document is not None:
            yield from _in_records(path, document.root)
    if kind in ("text", "ini", "properties"):
        yield from _in_lines(path, scene.look.text(path))
        yield from _in_settings(path, scene.look.text(path))


def _is_flat_list(value: Any) -> bool:
    """Whether a JSON value is a list of plain values, or of small records of such."""
    if not isinstance(value, list) or not value:
        return False
    some = value[:SAMPLE]
    if all(isinstance(item, (str, int)) for item in some):
        return True
    return all(
        isinstance(item, dict)
        and len(item) <= 12
        and not any(isinstance(inner, (dict, list)) for inner in item.values())
        for item in some
    )


def _is_keyed_list(value: Any) -> bool:
    """Whether a JSON object holds small records of plain values by their ids, and nothing else."""
    return (
        isinstance(value, dict)
        and len(value) >= FEWEST_LISTED
        and all(map(is_identifier, value))
        and _is_flat_list(list(value.values()))
        and all(isinstance(item, dict) for item in value.values())
    )


def _in_settings(path: str, text: str) -> Iterator[ValuePlace]:
    """Settings whose value is a list with commas."""
    for found in _LISTED.finditer(text):
        values = [value.strip() for value in re.split(r"[,;]", found[2])]
        if len(values) >= FEWEST_LISTED and len(set(values)) == len(values):
            yield ValuePlace("setting", path, found[1], frozenset(values))


def _in_records(path: str, root: Node) -> Iterator[ValuePlace]:
    """The same of any format that has records: names of the records in a container, and what those that are called
    alike say, field by field. A file with a single list in it is a list."""
    tops = [item for item in root.items if item.role is Role.RECORD]
    alone = len({item.name for item in tops}) == 1 and len(tops) > 1
    below = tops[0] if len(tops) == 1 else None
    alone = alone or (below is not None and not below.fields and len({item.name for item in below.items}) == 1)
    alone = alone or _are_keyed(root.items) or (below is not None and not below.fields and _are_keyed(below.items))
    found: dict[tuple[str, str], set[str]] = defaultdict(set)
    _gather(root, "", found, 0)
    for (kind, at), values in found.items():
        if len(values) >= 2:
            yield ValuePlace(kind, path, at, frozenset(values), alone)


def _are_keyed(items: Sequence[Node]) -> bool:
    """Whether items are records that are called by ids, each with the same fields and nothing within."""
    return (
        len(items) >= FEWEST_LISTED
        and all(item.role is Role.RECORD and is_identifier(item.name) for item in items)
        and len({frozenset(plain_fields(item)) for item in items}) == 1
        and all(is_value(inner) for item in items for inner in item.items)
    )


def _gather(node: Node, at: str, found: dict[tuple[str, str], set[str]], depth: int) -> None:
    items = [item for item in node.items if item.role is Role.RECORD][:MOST_VALUES]
    found["keys", at].update(item.name.strip("[]") for item in items)
    keyed = _are_keyed(node.items)
    for item in items:
        here = f"{at}/{'*' if keyed or item.name.startswith('[') else item.name}"
        for name, field in (plain_fields(item) if keyed else item.fields).items():
            found["field", f"{here}/{name}"].add(field.value.strip("\"'"))
        if depth < DEEPEST:
            _gather(item, here, found, depth + 1)


def _in_json(path: str, value: Any, at: str, depth: int, *, alone: bool) -> Iterator[ValuePlace]:
    if isinstance(value, list):
        some = value[:MOST_VALUES]
        plain = frozenset(str(item) for item in some if isinstance(item, (str, int)))
        if plain:
            yield ValuePlace("list", path, at, plain, alone)
        fields: dict[str, set[str]] = defaultdict(set)
        for item in some:
            for key, inner in item.items() if isinstance(item, dict) else ():
                if isinstance(inner, (str, int)) and not isinstance(inner, bool):
                    fields[key].add(str(inner))
        for key, values in fields.items():
            yield ValuePlace("field", path, f"{at}/{key}", frozenset(values), alone)
    elif isinstance(value, dict) and depth < 4:
        listed = alone and _is_keyed_list(value)
        if len(value) >= 2:
            yield ValuePlace("keys", path, at, frozenset(list(value)[:MOST_VALUES]), listed)
        if len(value) >= FEWEST_LISTED and all(isinstance(inner, dict) for inner in value.values()):
            yield from _in_json(path, list(value.values()), f"{at}/*", depth + 1, alone=listed)
        for key, inner in list(value.items())[:SAMPLE]:
            if isinstance(inner, (dict, list)):
                yield from _in_json(path, inner, f"{at}/{key}", depth + 1, alone=alone)


def _in_lines(path: str, text: str) -> Iterator[ValuePlace]:
    """The words of a list in lines, by where they stand in their line: lines of one shape, or with an id in each. Such
    as set a value to a name are a list only where the names are ids."""
    if not _columns(first_entries(text)):
        return  # most texts are told by their first lines
    rows = entries_in_lines(text)
    if not rows or len(rows) > MOST_VALUES:
        return
    if len(rows) == 1:
        ids = frozenset(word for word in rows[0].values() if is_identifier(word))
        if ids:
            yield ValuePlace("list", path, "0", ids, alone=True)
        return
    for key, values in _columns(rows).items():
        yield ValuePlace("list", path, key, frozenset(values), alone=True)


def _columns(rows: Sequence[Mapping[str, str]]) -> dict[str, list[str]]:
    """The words of lines by where they stand, where they differ from line to line; none for what is no list."""
    held: dict[str, list[str]] = defaultdict(list)
    for row in rows:
        for key, word in row.items():
            held[key].append(word)
    alike = Counter(tuple(key for key in row if key != "#") for row in rows).most_common(1)
    most = 0.9 * len(rows)
    first = held.get("0", [])
    by_name = len(rows) > 1 and len(set(first)) > 1 and sum(map(is_identifier, first)) < most
    if by_name and sum(map(_sets_a_value, rows)) >= most:
        return {}
    return {
        key: values
        for key, values in held.items()
        if len(values) >= most
        and len(set(values)) >= 0.9 * len(values)
        and (alike[0][1] >= most or sum(map(is_identifier, values)) >= most)
    }


def _sets_a_value(row: Mapping[str, str]) -> bool:
    """Whether a line sets one value to a name, and is no row of several with a mark between them."""
    marks = [key.lstrip("0123456789") for key in row][1:3]
    return bool(marks) and marks[0] in ("=", ":") and marks[0] not in marks[1:]
