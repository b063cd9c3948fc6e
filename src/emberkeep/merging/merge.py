"""Merging files and whole trees of files: which way each file goes, and what is written in the end."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from blake3 import blake3

from emberkeep.documents import formats
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.identity import Identities, Rule
from emberkeep.documents.model import Document
from emberkeep.errors import EmberKeepError, Fault, Place, UnreadableInput
from emberkeep.merging.lines import merge_lines
from emberkeep.merging.records import RecordsMerged, merge_documents
from emberkeep.merging.results import (
    FILE,
    MINE,
    NEW,
    OLD,
    Change,
    FileMerge,
    Merge,
    Outcome,
    Question,
    Settle,
    What,
    unanswered,
)
from emberkeep.trees import Kind, Tree, read

Rules = Callable[[str], Mapping[str, Rule]]
"""Record identities told for a file, by its path."""

LARGEST_TEXT = 512 << 20
"""Bytes; a larger file is merged as one thing."""


def no_rules(path: str) -> Mapping[str, Rule]:
    """Nothing told: identities are learned."""
    return {}


@dataclass(frozen=True)
class _Sides:
    """A file's bytes on the three sides, None where it is missing."""

    path: str
    old: bytes | None
    mine: bytes | None
    new: bytes | None


def merge_file(
    path: str,
    old: bytes | None,
    mine: bytes | None,
    new: bytes | None,
    *,
    rules: Mapping[str, Rule] | None = None,
    settle: Settle = unanswered,
) -> FileMerge:
    """Merge one file. A side that cannot be read gives a FileMerge with its fault, and nothing to write."""
    sides = _Sides(path, old, mine, new)
    try:
        return _merge(sides, rules or {}, settle)
    except EmberKeepError as error:
        return FileMerge(path, Outcome.FAULTY, "", fault=error.faults[0])
    except RecursionError:
        fault = Fault("records are nested too deeply to be read", Place(path))
        return FileMerge(path, Outcome.FAULTY, "", fault=fault)


def _merge(sides: _Sides, rules: Mapping[str, Rule], settle: Settle) -> FileMerge:
    old, mine, new = sides.old, sides.mine, sides.new
    if mine is None and new is None:
        return FileMerge(sides.path, Outcome.SAME, "")
    if mine is None or new is None:
        return _one_side_lacks_it(sides, settle)
    texts = [decode(data) for data in (old, mine, new) if data is not None]
    if any(text is None for text in texts) or max(len(mine), len(new)) > LARGEST_TEXT:
        return _whole(sides, "binary", settle)
    return _text(sides, [text for text in texts if text is not None], rules, settle)


def _one_side_lacks_it(sides: _Sides, settle: Settle) -> FileMerge:
    old, mine, new = sides.old, sides.mine, sides.new
    if mine is None and old is None:
        taken = Change(sides.path, "", FILE, What.ADDED, None, _size(new))
        return FileMerge(sides.path, Outcome.ADDED, "", new, taken=(taken,))
    if new is None and old is None:
        return FileMerge(sides.path, Outcome.SAME, "", kept=(_kept(sides, What.ADDED),))
    if mine is None:
        if new == old:
            return FileMerge(sides.path, Outcome.SAME, "", kept=(_kept(sides, What.REMOVED),))
        return _ask_file(sides, settle, "you removed this file; the vendor changed it since")
    if mine == old:
        taken = Change(sides.path, "", FILE, What.REMOVED, _size(mine), None)
        return FileMerge(sides.path, Outcome.REMOVED, "", taken=(taken,))
    return _ask_file(sides, settle, "the vendor removed this file; you edited it")


def _kept(sides: _Sides, what: What) -> Change:
    return Change(sides.path, "", FILE, what, _size(sides.old), _size(sides.mine))


def _size(data: bytes | None) -> str | None:
    return None if data is None else f"{len(data)} bytes"


def _whole(sides: _Sides, format_name: str, settle: Settle) -> FileMerge:
    """A file without records or lines: one side's bytes or the other's."""
    if sides.new in (sides.old, sides.mine):
        kept = () if sides.mine == sides.old or sides.mine == sides.new else (_kept(sides, What.SET),)
        return FileMerge(sides.path, Outcome.SAME, format_name, kept=kept)
    if sides.mine == sides.old:
        taken = Change(sides.path, "", FILE, What.SET, _size(sides.mine), _size(sides.new))
        return FileMerge(sides.path, Outcome.MERGED, format_name, sides.new, taken=(taken,))
    return _ask_file(sides, settle, "both sides changed this file, and it is not text")


def _ask_file(sides: _Sides, settle: Settle, why: str) -> FileMerge:
    asked = Question(sides.path, "", FILE, _size(sides.old), _size(sides.mine), _size(sides.new), why=why)
    answer, by = settle(asked)
    if answer not in (MINE, NEW, OLD):
        answer, by = "", ""
    asked = replace(asked, answer=answer, by=by)
    chosen = {NEW: sides.new, OLD: sides.old}.get(answer, sides.mine)
    if chosen == sides.mine:
        return FileMerge(sides.path, Outcome.SAME, "", questions=(asked,))
    if chosen is None:
        return FileMerge(sides.path, Outcome.REMOVED, "", questions=(asked,))
    outcome = Outcome.ADDED if sides.mine is None else Outcome.MERGED
    return FileMerge(sides.path, outcome, "", chosen, questions=(asked,))


def _text(sides: _Sides, texts: list[Text], rules: Mapping[str, Rule], settle: Settle) -> FileMerge:
    mine, new = texts[-2], texts[-1]
    old = texts[0] if len(texts) == 3 else None
    named = (("old defaults", sides.old), ("yours", sides.mine), ("new defaults", sides.new))
    given = [name for name, data in named if data is not None]
    read_as = [formats.Side(name, text) for name, text in zip(given, texts, strict=True)]
    chosen, documents, _ = formats.parse_sides(sides.path, read_as)
    if documents:
        merged = _by_records(sides.path, documents, rules, settle)
    elif old is None:
        return _whole(sides, chosen, settle)
    else:
        merged = merge_lines(sides.path, old.text, mine, new.text, settle)
    result = _result(sides, mine, chosen, merged)
    if result.data is not None and (broken := _breaks(sides, chosen, result.data)):
        return _ask_file(sides, settle, f"merged, it would no longer be valid: {broken}")
    return result


def _by_records(path: str, documents: Sequence[Document], rules: Mapping[str, Rule], settle: Settle) -> RecordsMerged:
    *rest, mine, new = documents
    identities = Identities([*rest, new], [mine], rules)
    return merge_documents(path, rest[0] if rest else None, mine, new, identities, settle)


def _result(sides: _Sides, mine: Text, chosen: str, merged: RecordsMerged) -> FileMerge:
    answered = any(question.answer not in ("", MINE) for question in merged.questions)
    if sides.new == sides.old and not answered:
        data = sides.mine
    elif sides.mine == sides.old:
        data = sides.new  # no hand edits: the vendor's file to the byte
    else:
        data = mine.encode(merged.text)
    same = data == sides.mine
    return FileMerge(
        sides.path,
        Outcome.SAME if same else Outcome.MERGED,
        chosen,
        None if same else data,
        taken=merged.taken,
        kept=merged.kept,
        questions=merged.questions,
    )


def _breaks(sides: _Sides, chosen: str, data: bytes) -> str:
    """Why the merged bytes make no sense although the admin's and the vendor's did; empty when they do."""
    if chosen in ("yaml", "toml"):
        return _unreadable(sides.path, data, chosen)
    if chosen in formats.RECORD_FORMATS:
        formats.parse(sides.path, data, as_format=chosen)  # a fault of ours: raised, never written
    for ending, check in ((".json", json.loads), (".toml", lambda raw: tomllib.loads(raw.decode()))):
        if not sides.path.lower().endswith(ending):
            continue
        if not _fault(check, sides.mine or b"") and not _fault(check, sides.new or b""):
            return _fault(check, data)
    return ""


def _unreadable(path: str, data: bytes, chosen: str) -> str:
    """Why bytes cannot be read as YAML or TOML, whose records may be spelled so that they do not stand side by side."""
    try:
        formats.parse(path, data, as_format=chosen)
    except EmberKeepError as error:
        return str(error)
    return ""


def _fault(check: Callable[[bytes], object], data: bytes) -> str:
    try:
        check(data)
    except (ValueError, RecursionError) as error:
        return str(error) or "it is broken"
    return ""


def merge_trees(
    old: Tree,
    new: Tree,
    mine: Tree,
    paths: Iterable[str] | None = None,
    *,
    rules: Rules = no_rules,
    settle: Settle = unanswered,
) -> Merge:
    """Merge every file of three trees, or those named by ``paths``."""
    sides = (old.entries(), mine.entries(), new.entries())
    every = {path for entries in sides for path, entry in entries.items() if entry.kind is Kind.FILE}
    chosen = sorted(every if paths is None else every.intersection(paths))
    merged = [_tree_file(path, old, new, mine, rules, settle) for path in chosen]
    return Merge(old.label, new.label, tuple(merged))


def _tree_file(path: str, old: Tree, new: Tree, mine: Tree, rules: Rules, settle: Settle) -> FileMerge:
    try:
        data = [_file(tree, path) for tree in (old, mine, new)]
    except EmberKeepError as error:
        return FileMerge(path, Outcome.FAULTY, "", fault=error.faults[0])
    result = merge_file(path, *data, rules=rules(path), settle=settle)
    digest = None if data[1] is None else blake3(data[1]).hexdigest()
    return replace(result, mode=_mode(path, mine, new), based_on=digest)


def _file(tree: Tree, path: str) -> bytes | None:
    entry = tree.entries().get(path)
    if entry is None:
        return None
    if entry.kind is not Kind.FILE:
        raise UnreadableInput(f"a {entry.kind.value} stands here where a file is wanted", place=Place(path))
    return read(tree, path)


def _mode(path: str, mine: Tree, new: Tree) -> int | None:
    entry = mine.entries().get(path) or new.entries().get(path)
    return entry.mode if entry else None
