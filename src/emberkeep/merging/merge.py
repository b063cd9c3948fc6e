"""Merging files and whole trees of files: which way each file goes, and what is written in the end."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from blake3 import blake3

from emberkeep.documents import registry
from emberkeep.documents.encoding import BOM, Text, decode, position
from emberkeep.documents.identity import KeyRules, Rule
from emberkeep.documents.model import Document, EditConflict, UnsupportedStructure
from emberkeep.errors import EmberKeepError, Fault, Place, UnreadableInput
from emberkeep.fs.trees import Kind, Tree, read, unread, whole
from emberkeep.merging.lines import merge_lines
from emberkeep.merging.moves import arranged, says_the_same
from emberkeep.merging.orders import Order, applied, in_force
from emberkeep.merging.records import RecordsMerged, merge_documents
from emberkeep.merging.results import (
    FILE,
    MINE,
    NEW,
    OLD,
    RECORD,
    Change,
    FileMerge,
    Merge,
    Outcome,
    Question,
    Resolver,
    What,
    unanswered,
)

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
    resolve: Resolver = unanswered,
    orders: Sequence[Order] = (),
) -> FileMerge:
    """Merge one file. A side that cannot be read gives a FileMerge with its fault, and nothing to write."""
    sides = _Sides(path, old, mine, new)
    ways = _Ways(rules or {}, resolve, in_force(orders, path))
    try:
        found = _merge(sides, ways)
        return replace(found, met=frozenset(ways.matched)) if ways.matched else found
    except EmberKeepError as error:
        fault = error.faults[0]
        return FileMerge(path, Outcome.FAULTY, "", fault=fault if fault.place else replace(fault, place=Place(path)))
    except EditConflict:  # records merged one by one fall back to lines; what orders make of the vendor's cannot
        fault = Fault("standing orders want the same place in this file", Place(path), "see 'emberkeep orders'")
        return FileMerge(path, Outcome.FAULTY, "", fault=fault)
    except RecursionError:
        fault = Fault("records are nested too deeply to be read", Place(path))
        return FileMerge(path, Outcome.FAULTY, "", fault=fault)


@dataclass(frozen=True)
class _Ways:
    """How a file is merged: record identities told, what settles questions, standing orders in force."""

    rules: Mapping[str, Rule]
    resolve: Resolver
    orders: Sequence[Order]
    matched: set[str] = field(default_factory=set)
    """Names of the orders that met a record."""


def _merge(sides: _Sides, ways: _Ways) -> FileMerge:
    old, mine, new = sides.old, sides.mine, sides.new
    if mine is None and new is None:
        return FileMerge(sides.path, Outcome.SAME, "")
    if mine is None or new is None:
        return _one_side_lacks_it(sides, ways.resolve)
    if old == mine == new and not ways.orders:
        text = decode(mine)
        return FileMerge(sides.path, Outcome.SAME, registry.format_of(sides.path, text.text) if text else "binary")
    texts = [decode(data) for data in (old, mine, new) if data is not None]
    if any(text is None for text in texts) or max(len(mine), len(new)) > LARGEST_TEXT:
        return _whole(sides, "binary", ways.resolve)
    return _text(sides, [text for text in texts if text is not None], ways)


def _one_side_lacks_it(sides: _Sides, resolve: Resolver) -> FileMerge:
    old, mine, new = sides.old, sides.mine, sides.new
    if mine is None and old is None:
        taken = Change(sides.path, "", FILE, What.ADDED, None, _size(new))
        return FileMerge(sides.path, Outcome.ADDED, "", new, taken=(taken,))
    if new is None and old is None:
        return FileMerge(sides.path, Outcome.SAME, "", kept=(_kept(sides, What.ADDED),))
    if mine is None:
        if new == old:
            return FileMerge(sides.path, Outcome.SAME, "", kept=(_kept(sides, What.REMOVED),))
        return _ask_file(sides, resolve, "you removed this file; the vendor changed it since")
    if mine == old:
        taken = Change(sides.path, "", FILE, What.REMOVED, _size(mine), None)
        return FileMerge(sides.path, Outcome.REMOVED, "", taken=(taken,))
    return _ask_file(sides, resolve, "the vendor removed this file; you edited it")


def _kept(sides: _Sides, what: What) -> Change:
    return Change(sides.path, "", FILE, what, _size(sides.old), _size(sides.mine))


def _size(data: bytes | None) -> str | None:
    return None if data is None else f"{len(data)} bytes"


def _whole(sides: _Sides, format_name: str, resolve: Resolver) -> FileMerge:
    """A file without records or lines: one side's bytes or the other's."""
    if sides.new in (sides.old, sides.mine):
        kept = () if sides.mine == sides.old or sides.mine == sides.new else (_kept(sides, What.SET),)
        return FileMerge(sides.path, Outcome.SAME, format_name, kept=kept)
    if sides.mine == sides.old:
        taken = Change(sides.path, "", FILE, What.SET, _size(sides.mine), _size(sides.new))
        return FileMerge(sides.path, Outcome.MERGED, format_name, sides.new, taken=(taken,))
    return _ask_file(sides, resolve, "both sides changed this file, and it is not text")


def _ask_file(sides: _Sides, resolve: Resolver, why: str) -> FileMerge:
    asked = Question(sides.path, "", FILE, _size(sides.old), _size(sides.mine), _size(sides.new), why=why)
    answer, by = resolve(asked)
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


def _text(sides: _Sides, texts: list[Text], ways: _Ways) -> FileMerge:
    chosen, documents, fault = _read(sides, texts)
    warnings = (fault,) if fault else ()
    if documents:
        identities = _identities(documents, ways)
        ordered = _ordered(sides, texts, documents, identities, ways)
        if ordered is not None:
            return ordered
        before = documents[0] if len(documents) == 3 else None
        try:
            merged = merge_documents(sides.path, before, documents[-2], documents[-1], identities, ways.resolve)
        except EditConflict:
            fault = Fault("its records stand in each other's way", Place(sides.path))
            return _settled(sides, texts, "text", (fault,), ways)
        if merged.arrangement is not None:
            merged = _arranged(sides, texts[-2], chosen, merged)
        return _checked(sides, texts[-2], chosen, merged, warnings, ways)
    return _settled(sides, texts, chosen, warnings, ways)


def _arranged(sides: _Sides, mine: Text, chosen: str, merged: RecordsMerged) -> RecordsMerged:
    """The merged text with its items in the order that is wanted; as it is where they do not go there as they stand."""
    assert merged.arrangement is not None
    try:
        document = registry.parse_text(sides.path, replace(mine, text=merged.text), chosen)
        text = None if document is None else arranged(document, merged.arrangement)
        after = None if text is None else registry.parse_text(sides.path, replace(mine, text=text), chosen)
    except (EditConflict, EmberKeepError, UnsupportedStructure):
        document = after = text = None
    if (
        text is None
        or after is None
        or document is None
        or not says_the_same(document, document.root, after, after.root)
    ):
        return replace(merged, taken=tuple(change for change in merged.taken if change.what is not What.MOVED))
    return replace(merged, text=text)


def _settled(sides: _Sides, texts: list[Text], chosen: str, warnings: tuple[Fault, ...], ways: _Ways) -> FileMerge:
    """A text without records, or whose records will not do: by line, a launch script's values by name."""
    if len(texts) < 3:
        return _whole(sides, chosen, ways.resolve)
    # A byte-order mark is no part of the first line: the admin's file has one or not, whatever the vendor's have.
    mine = replace(texts[1], text=texts[1].text.removeprefix(BOM))
    old, new = (text.text.removeprefix(BOM) for text in (texts[0], texts[2]))
    merged = None
    if chosen == "text":
        from emberkeep.merging.scripts import merge_script  # only where there are texts without records

        merged = merge_script(sides.path, old, mine, new, ways.resolve)
        chosen = "text" if merged is None else "script"
    if merged is None:
        merged = merge_lines(sides.path, old, mine, new, ways.resolve)
    if mine.text != texts[1].text:
        merged = replace(merged, text=BOM + merged.text)
    return _checked(sides, texts[1], chosen, merged, warnings, ways)


def _checked(
    sides: _Sides, mine: Text, chosen: str, merged: RecordsMerged, warnings: tuple[Fault, ...], ways: _Ways
) -> FileMerge:
    """The result, unless it could not be read any more: then the file is asked about as one thing."""
    result = _result(sides, mine, chosen, merged)
    was_read = chosen in registry.RECORD_FORMATS and not warnings
    known = was_read and result.data in (None, sides.old, sides.mine, sides.new)
    if not known and result.data is not None and (broken := _breaks(sides, chosen, result.data)):
        result = _ask_file(sides, ways.resolve, f"merged, it would no longer be valid: {broken}")
    return replace(result, warnings=warnings)


def _read(sides: _Sides, texts: Sequence[Text]) -> registry.Parsed:
    named = (("old defaults", sides.old), ("yours", sides.mine), ("new defaults", sides.new))
    given = [name for name, data in named if data is not None]
    return registry.parse_sides(
        sides.path, [registry.Side(name, text) for name, text in zip(given, texts, strict=True)]
    )


def _identities(documents: Sequence[Document], ways: _Ways) -> KeyRules:
    *rest, mine, new = documents
    return KeyRules([*rest, new], [mine], ways.rules)


def _ordered(
    sides: _Sides, texts: Sequence[Text], documents: Sequence[Document], identities: KeyRules, ways: _Ways
) -> FileMerge | None:
    """The merge with the vendor's sides as the standing orders would have them; None where no order changes them."""
    if not ways.orders or len(documents) != 3:
        return None
    old, mine, new = documents
    found = applied(sides.path, ways.orders, old, mine, new, identities)
    ways.matched.update(found.matched)
    if (found.old, found.new) == (old.text, new.text) and not found.disagreements:
        return None
    changed = replace(sides, old=texts[0].encode(found.old), new=texts[2].encode(found.new))
    merged = _merge(changed, replace(ways, orders=()))
    asked = {(question.record, question.field.removeprefix("@")) for question in merged.questions}
    obeyed = tuple(
        item for item in found.obeyed if (item.record, item.field) not in asked and (item.record, RECORD) not in asked
    )
    return replace(merged, obeyed=obeyed, disagreements=found.disagreements)


def _result(sides: _Sides, mine: Text, chosen: str, merged: RecordsMerged) -> FileMerge:
    answered = any(question.answer not in ("", MINE) for question in merged.questions)
    if sides.new == sides.old and not answered:
        data = sides.mine
    elif sides.mine == sides.old:
        data = sides.new  # no hand edits: the vendor's file to the byte
    elif (text := _as_saved(sides, mine)) is not None:
        data = _encoded(sides.path, mine, text)
    else:
        data = _encoded(sides.path, mine, merged.text)
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


def _as_saved(sides: _Sides, mine: Text) -> str | None:
    """The vendor's text as the admin's editor would save it; None where more was edited than that: byte-order mark,
    line ends, and the line end at the file's end."""
    old, new = (decode(side or b"") for side in (sides.old, sides.new))
    if sides.old is None or old is None or new is None or _unsaved(old.text) != _unsaved(mine.text):
        return None
    text = new.text.removeprefix(BOM)
    if not mine.text.endswith(("\n", "\r")) and old.text.endswith(("\n", "\r")):
        text = text.rstrip("\r\n")
    if old.newline != mine.newline or new.newline != old.newline:
        text = mine.newline.join(_LINE_END.split(text))
    return (BOM if mine.text.startswith(BOM) else "") + text


_LINE_END = re.compile(r"\r\n|\n|\r")


def _unsaved(text: str) -> str:
    return _LINE_END.sub("\n", text.removeprefix(BOM)).rstrip("\n")


def _encoded(path: str, mine: Text, text: str) -> bytes:
    try:
        return mine.encode(text)
    except UnicodeEncodeError as error:
        line, column = position(text, error.start)
        raise UnreadableInput(
            f"the vendor's text has characters that your file's encoding ({mine.codec}) lacks",
            place=Place(path, line, column),
            hint="save your file as UTF-8 first",
        ) from error


def _breaks(sides: _Sides, chosen: str, data: bytes) -> str:
    """Why the merged bytes make no sense although the admin's and the vendor's did; empty when they do."""
    if chosen in ("yaml", "toml"):
        return _unreadable(sides.path, data, chosen)
    if chosen in registry.RECORD_FORMATS:
        registry.parse(sides.path, data, as_format=chosen)  # a fault of ours: raised, never written
    elif broken := _newly_broken(sides, data):
        return broken
    for ending, check in ((".json", json.loads), (".toml", lambda raw: tomllib.loads(raw.decode()))):
        if not sides.path.lower().endswith(ending):
            continue
        if not _fault(check, sides.mine or b"") and not _fault(check, sides.new or b""):
            return _fault(check, data)
    return ""


def _newly_broken(sides: _Sides, data: bytes) -> str:
    """Why a file of which another side is malformed can no longer be read, when the admin's can."""
    mine = sides.mine or b""
    text = decode(mine)
    meant = registry.format_of(sides.path, text.text) if text else ""
    if meant not in registry.RECORD_FORMATS or _unreadable(sides.path, mine, meant):
        return ""
    return _unreadable(sides.path, data, meant)


def _unreadable(path: str, data: bytes, chosen: str) -> str:
    """Why bytes cannot be read as a format: YAML and TOML may spell records so that they do not stand side by side."""
    try:
        registry.parse(path, data, as_format=chosen)
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
    resolve: Resolver = unanswered,
    orders: Sequence[Order] = (),
) -> Merge:
    """Merge every file of three trees, or those named by ``paths``. UnreadableInput where a side may have one of them
    in what could not be listed: it would count as deleted."""
    for tree in filter(unread, (old, new, mine)):
        whole(tree, among=[*old.entries(), *new.entries()])
    sides = (old.entries(), mine.entries(), new.entries())
    every = {path for entries in sides for path, entry in entries.items() if entry.kind is Kind.FILE}
    chosen = sorted(every if paths is None else every.intersection(paths))

    def one(path: str, data: Sequence[bytes | None]) -> FileMerge:
        return merge_file(path, *data, rules=rules(path), resolve=resolve, orders=orders)

    merged = [_tree_file(path, (old, mine, new), one) for path in chosen]
    met = frozenset[str]().union(*(item.met for item in merged))
    idle = tuple(order.name for order in orders if order.accepted and order.name not in met)
    return Merge(old.label, new.label, tuple(merged), idle=idle)


def _tree_file(
    path: str, trees: tuple[Tree, Tree, Tree], one: Callable[[str, Sequence[bytes | None]], FileMerge]
) -> FileMerge:
    try:
        data = [_file(tree, path) for tree in trees]
    except EmberKeepError as error:
        return FileMerge(path, Outcome.FAULTY, "", fault=error.faults[0])
    digest = None if data[1] is None else blake3(data[1]).hexdigest()
    return replace(one(path, data), mode=_mode(path, *trees[1:]), based_on=digest)


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
